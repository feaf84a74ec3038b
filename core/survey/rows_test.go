package survey

import (
	"encoding/json"
	"flag"
	"math/rand/v2"
	"reflect"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
	"steady-compass/demo"
)

const day = "2026-12-01"

var judgedEstates = flag.Uint64("judge.estates", 5, "in how many estates the table of names is held, going on, against one made anew")

// TestRowsAfterEdits makes edits, one after the other, and holds the table of names that goes on from the one before against
// one that is worked out anew.
func TestRowsAfterEdits(t *testing.T) {
	stood, edits := 0, 0
	for seed := uint64(1); seed <= *judgedEstates; seed++ {
		r := rand.New(rand.NewPCG(seed, 31))
		text := demo.Estate
		if seed%2 == 0 {
			text = synth.String(15, seed)
		}
		e, faults := notation.Parse(text)
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		a := New(e, day)
		vantages := []string{"internet", a.Tracer.Model.Networks[1].Name, a.Tracer.Model.Places[0].Name}
		var gone []estate.Record
		tableOf(t, a, vantages)
		for range 38 {
			c, kept := synth.Edit(r, a.Tracer.Model.Estate, gone)
			next, err := a.Tracer.Model.Estate.Apply(c)
			if err != nil {
				continue
			}
			gone = kept
			known := a.lineage.former("internet").rows
			if a = a.After(next); r.IntN(3) == 0 {
				continue // nobody asks: the next goes on from further back
			}
			got, want := tableOf(t, a, vantages), tableOf(t, New(next, day), vantages)
			if got != want {
				t.Fatalf("seed %d, after %v\ngone on: %s\nanew:    %s", seed, c, got, want)
			}
			if r.IntN(4) == 0 {
				anew := New(next, day)
				goneOn, err := a.Check(t.Context())
				fresh, wrong := anew.Check(t.Context())
				if err != nil || wrong != nil || !reflect.DeepEqual(goneOn.Report, fresh.Report) {
					t.Fatalf("seed %d, after %v: %d findings gone on, %d anew (%v, %v)", seed, c, len(goneOn.Findings), len(fresh.Findings), err, wrong)
				}
			}
			edits++
			for _, old := range known {
				for i := range a.rows["internet"] {
					if a.rows["internet"][i].reads == old.reads {
						stood++
					}
				}
			}
		}
	}
	if edits < 15*int(*judgedEstates) || stood < edits {
		t.Errorf("%d edits, and only %d rows stood", edits, stood)
	}
}

// TestZonesAfterEdits takes zones away, alters and brings them, one after the other, and holds what goes on against what is worked out anew: only
// names at and below a zone are other ones by it.
func TestZonesAfterEdits(t *testing.T) {
	stood := 0
	for seed, text := range []string{demo.Estate, synth.Office, synth.String(15, 3), demo.Estate} {
		r := rand.New(rand.NewPCG(uint64(seed), 5))
		a := New(notationtest.Parse(t, text), day)
		vantages := []string{"internet", a.Tracer.Model.Networks[1].Name}
		tableOf(t, a, vantages)
		zones := a.Tracer.Model.Estate.Of(estate.KindNamed("zone"))
		var gone []estate.Record
		for range 14 {
			e := a.Tracer.Model.Estate
			c := estate.Change{}
			switch z := zones[r.IntN(len(zones))].(*estate.Zone); {
			case len(gone) > 0 && r.IntN(2) == 0:
				c.Add, gone = []estate.Placed{{Record: gone[0]}}, gone[1:]
			case e.Has(estate.Line(z)) && r.IntN(3) == 0:
				c.Remove, gone = []string{estate.Line(z)}, append(gone, z)
			case e.Has(estate.Line(z)):
				c.Remove = []string{estate.Line(z)}
				next := estate.With(z, func(n *estate.Zone) {
					n.TTL = estate.Seconds(60 * (1 + r.IntN(9)))
					if len(n.For) == 0 && r.IntN(2) == 0 {
						n.For = []estate.Selector{{Name: vantages[1]}}
					} else {
						n.For = nil
					}
				})
				c.Add, gone = []estate.Placed{{Record: next}}, append(gone, z)
			default:
				c.Add = []estate.Placed{{Record: z}}
			}
			next, err := e.Apply(c)
			if err != nil {
				continue // it is there already
			}
			zones = next.Of(estate.KindNamed("zone"))
			if len(zones) == 0 {
				break
			}
			known := a.lineage.former("internet").rows
			a = a.After(next)
			anew := New(next, day)
			if got, want := tableOf(t, a, vantages), tableOf(t, anew, vantages); got != want {
				t.Fatalf("estate %d, after %v\ngone on: %s\nanew:    %s", seed, c, got, want)
			}
			goneOn, err := a.Check(t.Context())
			fresh, wrong := anew.Check(t.Context())
			if err != nil || wrong != nil || !reflect.DeepEqual(goneOn.Report, fresh.Report) {
				t.Fatalf("estate %d, after %v: %d findings gone on, %d anew (%v, %v)", seed, c, len(goneOn.Findings), len(fresh.Findings), err, wrong)
			}
			for _, old := range known {
				for i := range a.rows["internet"] {
					if a.rows["internet"][i].reads == old.reads {
						stood++
					}
				}
			}
		}
	}
	if stood == 0 {
		t.Error("no row stood")
	}
}

func tableOf(t *testing.T, a *Survey, vantages []string) string {
	t.Helper()
	var all []any
	for _, from := range vantages {
		rows, err := a.Names(t.Context(), from)
		if err != nil {
			all = append(all, err.Error())
			continue
		}
		all = append(all, rows)
	}
	text, err := json.Marshal(all)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}
