package trace

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"steady-compass/core/model"
	"steady-compass/core/notation"
)

const day = "2026-11-25"

func tracer(t testing.TB, text string) *Tracer {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatalf("%v", faults)
	}
	return New(model.Compile(e), day)
}

func (t *Tracer) mustTrace(tb testing.TB, target, from string) Result {
	tb.Helper()
	v, err := t.VantageNamed(from)
	if err != nil {
		tb.Fatal(err)
	}
	tg, err := t.ParseTarget(target)
	if err != nil {
		tb.Fatal(err)
	}
	return t.Trace(tg, v)
}

// say is a result in a few words: a line a path.
func say(r Result) string {
	var b strings.Builder
	for _, p := range r.Paths {
		b.WriteString(p.Address + ":" + portWord(p.Port, protoOf(p.Transport)) + p.URLPath + " " + string(p.Outcome))
		if p.Inner != "" {
			b.WriteString("(" + string(p.Inner) + ")")
		}
		if p.End != nil {
			b.WriteString(" " + *p.End)
		}
		for _, c := range p.Sources.Only {
			b.WriteString(" only " + c)
		}
		for _, c := range p.Sources.Except {
			b.WriteString(" except " + c)
		}
		for _, br := range p.Breaks {
			b.WriteString(" !" + br.Code)
		}
		b.WriteString("\n")
	}
	return b.String()
}

func example(t testing.TB) string {
	t.Helper()
	text, err := os.ReadFile("testdata/example.estate")
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func TestScratch(t *testing.T) {
	tr := tracer(t, example(t))
	r := tr.mustTrace(t, "sky.fernmoor.example", "internet")
	out, _ := json.MarshalIndent(r, "", " ")
	t.Log(string(out))
	for _, q := range [][2]string{{"fernmoor.example", "internet"}, {"azimuth:8080", "perimeter"}, {"azimuth:22", "perimeter"}, {"azimuth:8080", "yard"}, {"sky.fernmoor.example", "yard"}, {"azimuth:22", "internet"}} {
		t.Log(q, "\n"+say(tr.mustTrace(t, q[0], q[1])))
	}
}

func TestScratchExposure(t *testing.T) {
	tr := tracer(t, example(t))
	for _, from := range []string{"internet", "perimeter", "yard", "dock"} {
		v, _ := tr.VantageNamed(from)
		x := tr.Exposure(v)
		for _, e := range x.Open {
			t.Log(from, e.Address, e.Transport, e.Ports, e.Place, e.Port, e.Service, deref(e.Site), e.Sources, e.Intent)
		}
		t.Log(x.Undecided)
	}
}
