package server

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
)

const tableText = `network lan 10.0.0.0/24
host gate router
host box note "in the cellar"
address gate 10.0.0.1 lan
address box 10.0.0.5 lan
# The way in.
forward gate 443 to 10.0.0.5
forward gate 80 to 10.0.0.5 hairpin
forward gate 8080 to 10.0.0.5 off
listen box 443 as front tls
listen box 80 as front`

// TestTable asks for rows, in an order and in parts, and makes the changes that cells come to.
func TestTable(t *testing.T) {
	h := served(t, tableText)
	got := decoded[TableAnswer](t, call(t, h, "GET", "/api/table?kind=forward&by=bind&most=2", nil), 200)
	if got.Found != 3 || got.Kinds["listen"] != 2 || got.Used["off"] != 1 || len(got.Rows) != 2 || got.Rows[0].Line != "forward gate 80 to 10.0.0.5 hairpin" || got.Rows[0].At != 2 {
		t.Errorf("the forwards by port: %+v", got)
	}
	rest := decoded[TableAnswer](t, call(t, h, "GET", "/api/table?kind=forward&by=bind&most=2&from=2", nil), 200)
	if len(rest.Rows) != 1 || rest.From != 2 || rest.Rows[0].Line != "forward gate 8080 to 10.0.0.5 off" {
		t.Errorf("the rest of them: %+v", rest)
	}
	if one := decoded[TableAnswer](t, call(t, h, "GET", "/api/table?kind=forward&like=way", nil), 200); one.Found != 1 || !slices.Equal(one.Rows[0].Comments, []string{"# The way in."}) {
		t.Errorf("found by its comment: %+v", one)
	}
	for _, wrong := range []string{"kind=forwrad", "kind=forward&by=color", "kind=forward&from=-1", "kind=forward&most=100000", ""} {
		decoded[Problem](t, call(t, h, "GET", "/api/table?"+wrong, nil), 422)
	}
	lines := func(query string) string {
		t.Helper()
		return strings.Join(decoded[LinesAnswer](t, call(t, h, "GET", "/api/table/lines?kind=forward"+query, nil), 200).Lines, ", ")
	}
	if all := lines("&like=hairpin="); all != "forward gate 443 to 10.0.0.5, forward gate 8080 to 10.0.0.5 off" {
		t.Errorf("all that are found: %s", all)
	}
	if part := lines("&by=bind&down=true&from=1&most=1"); part != "forward gate 443 to 10.0.0.5" {
		t.Errorf("a part of them in their order: %s", part)
	}
	if none := lines("&from=9"); none != "" {
		t.Errorf("behind the last: %s", none)
	}

	write := func(kind string, lines []string, cells map[string]string) WriteAnswer {
		t.Helper()
		return decoded[WriteAnswer](t, call(t, h, "POST", "/api/table/write", WriteQuestion{Kind: kind, Lines: append([]string{}, lines...), Cells: cells}), 200)
	}
	two := write("listen", []string{"listen box 443 as front tls", "listen box 80 as front"}, map[string]string{"until": "2099-01-01", "tls": ""})
	if !slices.Equal(two.Add, []string{"listen box 443 as front until 2099-01-01", "listen box 80 as front until 2099-01-01"}) || len(two.Remove) != 2 {
		t.Errorf("two at once: %+v", two)
	}
	if same := write("listen", []string{"listen box 80 as front"}, map[string]string{"service": "front"}); len(same.Add)+len(same.Remove) != 0 || same.Fault != nil {
		t.Errorf("what is there already: %+v", same)
	}
	moved := write("forward", []string{"forward gate 8080 to 10.0.0.5 off"}, map[string]string{"at": "1", "off": ""})
	if moved.Now != "forward gate 8080 to 10.0.0.5" || !slices.Equal(moved.Add, []string{"forward gate at 1 8080 to 10.0.0.5"}) || two.Now != "" {
		t.Errorf("moved: %+v", moved)
	}
	decoded[Changed](t, call(t, h, "POST", "/api/change", ChangeQuestion{Base: 1, Remove: moved.Remove, Add: moved.Add}), 200)
	if first := decoded[TableAnswer](t, call(t, h, "GET", "/api/table?kind=forward&most=1", nil), 200); first.Rows[0].Line != "forward gate 8080 to 10.0.0.5" || first.Revision != 2 {
		t.Errorf("moved to the top: %+v", first)
	}
	if wrong := write("listen", []string{"listen box 80 as front", "listen box 443 as front tls"}, map[string]string{"passthrough": "yes"}); wrong.Fault == nil || wrong.At != "listen box 443 as front tls" || len(wrong.Add) != 0 {
		t.Errorf("one of two that cannot be: %+v", wrong)
	}
	if wrong := write("listen", nil, map[string]string{"place": "box", "bind": "eighty", "service": "web"}); wrong.Fault == nil || wrong.Fault.Column != "bind" || wrong.Fault.Expected == "" {
		t.Errorf("a new one that cannot be: %+v", wrong)
	}
	if wrong := write("listen", nil, map[string]string{"colour": "red"}); wrong.Fault == nil || wrong.Fault.Column != "colour" {
		t.Errorf("a column that there is not: %+v", wrong)
	}
	if fresh := write("host", nil, map[string]string{"name": "spare", "router": "yes"}); !slices.Equal(fresh.Add, []string{"host spare router"}) || fresh.Meaning == "" {
		t.Errorf("a new one: %+v", fresh)
	}
	if w := call(t, h, "POST", "/api/table/write", WriteQuestion{Kind: "host", Lines: []string{"host nobody"}, Cells: map[string]string{}}); w.Code != http.StatusConflict {
		t.Errorf("of a line that is not there: %d", w.Code)
	}

	depends := decoded[DependsAnswer](t, call(t, h, "POST", "/api/table/depends", DependsQuestion{[]string{`host box note "in the cellar"`}}), 200).Depends
	if len(depends) != 3 || depends[0].Record != "address box 10.0.0.5 lan" || depends[0].Becomes != "" {
		t.Errorf("what depends on box: %+v", depends)
	}
	if w := call(t, h, "POST", "/api/table/depends", DependsQuestion{[]string{"host nobody"}}); w.Code != http.StatusConflict {
		t.Errorf("what depends on what is not there: %d", w.Code)
	}
	marks := decoded[[]LineMark](t, call(t, h, "GET", "/api/marks", nil), 200)
	if !slices.ContainsFunc(marks, func(m LineMark) bool {
		return m.Code == "path.no-listener" && m.Line == "forward gate 8080 to 10.0.0.5"
	}) {
		t.Errorf("the marks: %+v", marks)
	}
}

// BenchmarkTable asks for the first rows of tables in an estate of a hundred thousand records: as it comes, in order, and found by a word.
func BenchmarkTable(b *testing.B) {
	e := notationtest.Parse(b, synth.String(18_000, 1))
	k := estate.Kinds[0]
	for _, other := range estate.Kinds {
		if len(e.Of(other)) > len(e.Of(k)) {
			k = other
		}
	}
	h := served(b, synth.String(18_000, 1))
	for _, c := range []struct{ name, query string }{
		{"as it comes", "&like="},
		{"found", "&like=1"},
		{"by " + k.Fields[0].Column, "&like=&by=" + k.Fields[0].Column},
		{"found, by " + k.Fields[2].Column, "&like=1&down=true&by=" + k.Fields[2].Column},
	} {
		b.Run(fmt.Sprintf("%s/%d of %d", c.name, len(e.Of(k)), e.Count()), func(b *testing.B) {
			for n := 0; b.Loop(); n++ {
				anew := strings.Replace(c.query, "like=", "like="+strings.Repeat("+", n%2), 1) // the same, and not what was asked before
				if w := call(b, h, "GET", "/api/table?kind="+k.Word+anew, nil); w.Code != http.StatusOK {
					b.Fatal(w.Code)
				}
			}
		})
	}
}
