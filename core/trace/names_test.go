package trace

import (
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
	"steady-compass/demo"
)

// after is a tracer gone on from another by an edit: "- line" goes, another comes.
func after(t *testing.T, tr *Tracer, lines ...string) *Tracer {
	t.Helper()
	return tr.After(notationtest.Edit(t, tr.Model.Estate, lines...))
}

const touching = synth.Office

// TestCertsOfOneName: of several certificates with one name the first alone is in force, so that one ahead of it takes its names away.
func TestCertsOfOneName(t *testing.T) {
	tr := New(model.Compile(notationtest.Parse(t, touching+"\ncert twice for solo.a.example,*.sub.a.example expires 2027-01-01 on web")), day)
	tr.Names()
	line := notationtest.Parse(t, "cert twice for front.b.example expires 2027-01-01 on db").Of(estate.KindNamed("cert"))[0]
	e, err := tr.Model.Estate.Apply(estate.Change{Add: []estate.Placed{{Record: line, Index: 1}}})
	if err != nil {
		t.Fatal(err)
	}
	next := tr.After(e)
	has := func(tr *Tracer, name string) bool {
		return slices.ContainsFunc(tr.Names(), func(n *Name) bool { return n.Name == name })
	}
	if !has(tr, "solo.a.example") || has(next, "solo.a.example") || !has(next, "front.b.example") {
		t.Errorf("before %+v\nafter %+v", values(tr.Names()), values(next.Names()))
	}
	for name, want := range map[string]bool{"solo.a.example": true, "deep.sub.a.example": true, "front.b.example": true, "other.b.example": false} {
		var r memo.Reads
		if r.Asked(name); next.Touch().Reading(&r) != want {
			t.Errorf("%s is touched: %v", name, !want)
		}
	}
}

func values[T any](list []*T) []T {
	var out []T
	for _, x := range list {
		out = append(out, *x)
	}
	return out
}

// TestNamesAfterEdits holds the names that go on from those before an edit against those that are found anew.
func TestNamesAfterEdits(t *testing.T) {
	done, shared := 0, 0
	for seed := uint64(1); seed <= 30; seed++ {
		r := rand.New(rand.NewPCG(seed, 12))
		text := []string{demo.Estate, touching, synth.String(30, seed)}[seed%3]
		tr := New(model.Compile(notationtest.Parse(t, text)), day)
		var gone []estate.Record
		for range 30 {
			tr.Names()
			c, kept := synth.Edit(r, tr.Model.Estate, gone)
			e, err := tr.Model.Estate.Apply(c)
			if err != nil {
				continue
			}
			before := tr
			gone, tr = kept, tr.After(e)
			got, want := tr.Names(), New(model.Compile(e), day).Names()
			if !reflect.DeepEqual(got, want) {
				t.Fatalf("seed %d, after %v\n%+v\nwant\n%+v", seed, c, values(got), values(want))
			}
			for _, n := range tr.Names() {
				from := n.From
				if len(from) == 0 {
					from = []string{"internet"}
				}
				if got := tr.VantagesOf(n.Name); !slices.Equal(got, from) {
					t.Fatalf("%s is looked at from %q, want %q", n.Name, got, from)
				}
			}
			if done++; before.names == tr.names {
				shared++
			}
		}
	}
	if done < 500 || shared < 50 {
		t.Errorf("%d edits, after %d of which the names are the same", done, shared)
	}
}
