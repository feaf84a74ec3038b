package findings

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

// TestAfterEdits makes edits, one after the other, and holds what is found by the analysis that goes on from the one before
// against what is found when all is compiled anew.
func TestAfterEdits(t *testing.T) {
	demo, err := os.ReadFile("../../demo/fernmoor.estate")
	if err != nil {
		t.Fatal(err)
	}
	texts := map[string]int{sound: 60, string(demo): 40, synth.String(12, 5): 40}
	for seed := uint64(1); seed <= 12; seed++ {
		texts[synth.Crossing(rand.New(rand.NewPCG(seed, 21)))+"\nintend plain 3 for lan\nintend 203.0.113.9 5 for internet"] = 25
	}
	edits, found := 0, 0
	for text, rounds := range texts {
		r := rand.New(rand.NewPCG(uint64(len(text)), 8))
		e, faults := notation.Parse(text)
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		tracer := trace.New(model.Compile(e), day)
		var gone []estate.Record
		for range rounds {
			c, kept := randomEdit(r, e, gone)
			next, err := e.Apply(c)
			if err != nil {
				continue // such a line may stand once only
			}
			gone, e, tracer = kept, next, tracer.After(next)
			got, want := foundBy(t, tracer), foundBy(t, trace.New(model.Compile(e), day))
			if got != want {
				t.Fatalf("after %v\ngone on: %s\nanew:    %s", c, got, want)
			}
			edits, found = edits+1, found+len(want)
		}
	}
	if edits < 300 || found < edits*500 {
		t.Errorf("only %d edits, with %d bytes found", edits, found)
	}
}

// randomEdit takes a line out, switches one off or on, moves one, or brings one back that went before.
func randomEdit(r *rand.Rand, e *estate.Estate, gone []estate.Record) (estate.Change, []estate.Record) {
	if len(gone) > 0 && r.IntN(4) == 0 {
		i := r.IntN(len(gone))
		back := gone[i]
		gone = append(gone[:i:i], gone[i+1:]...)
		return estate.Change{Add: []estate.Placed{{Record: back, At: r.IntN(4)}}}, gone
	}
	all := e.All()
	rec := all[r.IntN(len(all))]
	c := estate.Change{Remove: []string{estate.Line(rec)}}
	switch r.IntN(4) {
	case 0:
		return c, append(gone, rec)
	case 1:
		c.Add = []estate.Placed{{Record: rec, At: 1 + r.IntN(3)}}
	default:
		line := estate.Line(rec) + " off"
		if rec.Meta().Off {
			line = estate.Line(estate.InForce(rec))
		}
		if p, _, err := notation.ParseLine(line); err == nil {
			c.Add = []estate.Placed{p}
		}
	}
	return c, gone
}

func foundBy(t *testing.T, tracer *trace.Tracer) string {
	t.Helper()
	report, err := Check(t.Context(), tracer, day)
	if err != nil {
		t.Fatal(err)
	}
	v, err := tracer.VantageNamed("internet")
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal([]any{report, tracer.Exposure(v), tracer.Names()})
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}
