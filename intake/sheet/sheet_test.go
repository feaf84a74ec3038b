package sheet

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/intake"
)

// TestComesBack writes every kind of the demo as a sheet and reads it: nothing has changed.
func TestComesBack(t *testing.T) {
	text, err := os.ReadFile("../../demo/fernmoor.estate")
	if err != nil {
		t.Fatal(err)
	}
	e, faults := notation.Parse(string(text))
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	for _, k := range estate.Kinds {
		if k.Word == "site" || k.Word == "dns" || len(e.Of(k)) == 0 { // whose fields depend on one another
			continue
		}
		sheet, err := Write(e, k.Word)
		if err != nil {
			t.Fatal(err)
		}
		r := Read("sheet", sheet)
		if len(r.Faults) > 0 {
			t.Errorf("%s: %v\n%s", k.Word, r.Faults, sheet)
			continue
		}
		if p := intake.Compare(e, r); len(p.Lines()) > 0 || p.Leave != len(e.Of(k)) {
			t.Errorf("%s: %v, %d left as they are of %d", k.Word, p.Lines(), p.Leave, len(e.Of(k)))
		}
	}
}

func TestRead(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"router,bind,to,from\ngate,80,10.0.0.5,\ngate,\"443, 8443\",10.0.0.5,\"yard, 10.1.0.0/16\"\n", "forward gate 80 to 10.0.0.5; forward gate 443,8443 to 10.0.0.5 from yard,10.1.0.0/16"},
		{"\ufeffFilter;Action;Ports;From\nedge;pass;22;yard\n\nedge;drop;any;\n", "rule edge pass 22 from yard; rule edge drop any"},
		{"filter,action,ports,off,note\nedge,pass,22,yes,\"a \"\"b\"\"\"\n", `rule edge pass 22 off note "a \"b\""`},
		{"filter,action,ports\nedge,allow,22\n", "!2:6: action: \"allow\" cannot stand here"},
		{"filter,action,ports\nedge,pass,99999\n", "!2:11: ports"},
		{"filter,action,ports\nedge,pass,\n", "!2:1: ports is missing"},
		{"filter,action,ports,off\nedge,pass,1,maybe\n", "!2:13: off: \"maybe\" is neither yes nor no"},
		{"filter,action,ports\nedge,pass,1,2\n", "!2:13: \"2\" stands in a column without a name"},
		{"what,ever\n1,2\n", "!1:1: no kind of record has the columns what, ever"},
		{"", "!1:1: there is no first row"},
		{"filter,action,ports\n\"edge,pass,1\n", "!2"},
		{"router,from,leaving,as\ngate,yard,lab,unchanged\n", "outbound gate from yard leaving lab as unchanged"},
		{"service,names,redirect,files\nfront,a.example,https,yes\n", "!2:1"},
	} {
		r := Read("f", c.text)
		var said []string
		for _, f := range r.Faults {
			said = append(said, "!"+strings.TrimPrefix(f.String(), "f:"))
		}
		for _, rec := range r.Records {
			said = append(said, estate.Line(rec))
		}
		got := strings.Join(said, "; ")
		if got != c.want && !(strings.HasPrefix(c.want, "!") && strings.HasPrefix(got, c.want)) {
			t.Errorf("%q\nsays %s\nwant %s", c.text, got, c.want)
		}
	}
}

// TestFormulas writes notes that a sheet would reckon with: no cell is a formula, and each comes back as it was.
func TestFormulas(t *testing.T) {
	notes := []string{"=1+1", "+cmd", "-2", "@SUM(A1)", "'=1", "''@x", "it's", "'quoted'", "a=b"}
	var text strings.Builder
	for i, n := range notes {
		fmt.Fprintf(&text, "host h%d note %q\n", i, n)
	}
	e, faults := notation.Parse(text.String())
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	sheet, err := Write(e, "host")
	if err != nil {
		t.Fatal(err)
	}
	for _, cell := range strings.FieldsFunc(sheet, func(r rune) bool { return r == ',' || r == '\n' || r == '"' }) {
		if strings.ContainsRune("=+-@", rune(cell[0])) {
			t.Errorf("%q is a formula", cell)
		}
	}
	r := Read("sheet", sheet)
	if len(r.Faults) > 0 || len(r.Records) != len(notes) {
		t.Fatalf("%d records, %v", len(r.Records), r.Faults)
	}
	for i, rec := range r.Records {
		if rec.Meta().Note != notes[i] {
			t.Errorf("%q comes back as %q", notes[i], rec.Meta().Note)
		}
	}
}
