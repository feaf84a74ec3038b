package look

import (
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

// TestForeseenAgrees holds that what is foreseen from the records is judged to be as recorded, whatever they are: the demo, an office and random
// crossings, from every network and every machine.
func TestForeseenAgrees(t *testing.T) {
	fernmoor, err := os.ReadFile("../../demo/fernmoor.estate")
	if err != nil {
		t.Fatal(err)
	}
	texts := []string{string(fernmoor), shop, office}
	for seed := range uint64(12) {
		texts = append(texts, synth.Crossing(rand.New(rand.NewPCG(seed, 16))))
	}
	did := map[Did]int{}
	for _, text := range texts {
		e := notationtest.Parse(t, text)
		tr := trace.New(model.Compile(e), "2026-12-01")
		var vantages []string
		for _, n := range tr.Model.Networks {
			vantages = append(vantages, n.Name)
		}
		var targets []string
		for _, p := range tr.Model.Places {
			vantages, targets = append(vantages, p.Name), append(targets, p.Name)
		}
		for _, n := range tr.Names() {
			targets = append(targets, n.Name)
		}
		for _, from := range vantages {
			v, err := tr.VantageNamed(from)
			if err != nil {
				continue
			}
			for _, text := range targets {
				tg, err := tr.ParseTarget(text)
				if err != nil {
					continue
				}
				for _, l := range Foresee(tr, tg, v) {
					l.At = time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC)
					Judge(tr, &l)
					did[l.Did]++
					if l.Agrees != Agrees {
						t.Fatalf("from %s %s %s at %s: %s (predicted %s: %s)", from, l.Did, l.Target, l.Address, l.Agrees, l.Predicted, l.Says)
					}
				}
			}
		}
	}
	for _, d := range Dids {
		if did[d] < 100 {
			t.Errorf("%d looks of the sort %s were foreseen", did[d], d)
		}
	}
	t.Log(did)
}
