package mend

import (
	"math/rand/v2"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
	"steady-compass/demo"
)

// TestArrivesSomewhere: whatever mistakes are in an estate, a way that arrives does so at somebody who takes it.
func TestArrivesSomewhere(t *testing.T) {
	texts := append(soundEstates(t), demo.Estate)
	for seed := uint64(1); seed <= 300; seed++ {
		r := rand.New(rand.NewPCG(seed, 7))
		e, faults := notation.Parse(texts[r.IntN(len(texts))])
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		var made []string
		for range 1 + r.IntN(3) {
			was, is, _ := mistake(r, e)
			if is == nil {
				continue
			}
			if next, err := e.Apply(estate.Change{Remove: []string{estate.Line(was)}, Add: []estate.Placed{{Record: is}}}); err == nil {
				e, made = next, append(made, estate.Line(is))
			}
		}
		tracer := trace.New(model.Compile(e), day)
		internet, err := tracer.VantageNamed("internet")
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range tracer.Names() {
			target, err := tracer.ParseTarget(name.Name)
			if err != nil {
				continue // a slip made it none
			}
			for _, p := range tracer.Trace(target, internet).Paths {
				if p.Outcome == flow.Arrives && p.End == nil {
					t.Fatalf("seed %d: %s arrives at nobody: %v\nwith %q", seed, name.Name, p.Steps, made)
				}
			}
		}
	}
}
