package exposure

import (
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
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

const touching = synth.Office
