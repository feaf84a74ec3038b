package estate_test

import (
	"math/rand/v2"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
	"steady-compass/demo"
)

// TestRefers holds the names that lines refer to against what their fields say that these may be.
func TestRefers(t *testing.T) {
	e, faults := notation.Parse(demo.Estate)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	referred := map[estate.RefKind]int{}
	for seed := uint64(1); seed <= 20; seed++ {
		for _, r := range synth.Edited(rand.New(rand.NewPCG(seed, 5)), e, 40).All() {
			k := estate.KindOf(r)
			for i := range k.Fields {
				for _, ref := range k.Fields[i].Refs(r) {
					if ref.Kind&^k.Fields[i].Refers != 0 {
						t.Fatalf("%s refers to %s as %s, and %s of %s may be %s only", estate.Line(r), ref.Name, ref.Kind, k.Fields[i].Column, k.Word, k.Fields[i].Refers)
					}
					referred[ref.Kind]++
				}
			}
		}
	}
	if len(referred) < 6 || referred[estate.RefPool] == 0 {
		t.Errorf("referred to: %v", referred)
	}
}
