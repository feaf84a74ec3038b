package exposure

import (
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation"
)

const day = "2026-11-25"

func compiled(t testing.TB, e *estate.Estate) *Engine {
	t.Helper()
	return New(model.Compile(e), day)
}

func parsed(t testing.TB, text string) *estate.Estate {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatalf("%v", faults)
	}
	return e
}

// after is a tracer gone on from another by an edit: "- line" goes, another comes.
func after(t *testing.T, tr *Engine, lines ...string) *Engine {
	t.Helper()
	var c estate.Change
	for _, line := range lines {
		if gone, ok := strings.CutPrefix(line, "- "); ok {
			c.Remove = append(c.Remove, gone)
			continue
		}
		p, _, err := notation.ParseLine(line)
		if err != nil {
			t.Fatalf("%s: %v", line, err)
		}
		c.Add = append(c.Add, p)
	}
	e, err := tr.Model.Estate.Apply(c)
	if err != nil {
		t.Fatal(err)
	}
	return tr.After(tr.Model.Recompile(e))
}

const touching = `
network lan 10.0.0.0/24
host gate router
host web
host db
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address web 10.0.0.5 lan
address db 10.0.0.6 lan
zone a.example
zone b.example
dns a.example A 203.0.113.1
dns www.a.example CNAME a.example
dns deep.sub.a.example A 203.0.113.1
dns *.wild.a.example A 203.0.113.1
dns b.example A 203.0.113.2
forward gate 80,443 to 10.0.0.5
filter edge on gate through otherwise drop
rule edge pass 80,443 from internet to web
filter inner on db input otherwise drop
rule inner pass 5432 from web
listen web 80 as front
listen web 443 as front tls cert site
listen web 22 as ssh
listen db 5432 as store
cert site for a.example expires 2027-01-01 on web
site front a.example at 443 files
site front www.a.example at 443 to http://10.0.0.6:5432
intend a.example 443 for internet
`
