package findings

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
)

// TestListenersAfterEdits holds what stands behind addresses, gone on from what stood there before, against what is worked out
// anew; and to which doors a machine leads, all at once, against one at a time.
func TestListenersAfterEdits(t *testing.T) {
	kept, led := 0, 0
	for seed := uint64(1); seed <= 30; seed++ {
		r := rand.New(rand.NewPCG(seed, 52))
		text := synth.Crossing(r)
		if seed%3 == 0 {
			text = synth.String(40, seed)
		}
		m := model.Compile(reread(t, text))
		l := newListening(m, nil)
		var gone []estate.Record
		for range 12 {
			c, still := synth.Edit(r, m.Estate, gone)
			e, err := m.Estate.Apply(c)
			if err != nil {
				continue
			}
			gone = still
			next := m.Recompile(e)
			before := l
			if !next.HangsTogetherAs(m) {
				before = nil
			}
			now, anew := (&survey{m: next}).listeners(before, edit{before: m}), newListening(next, nil)
			if !now.sameDoors(anew) || !now.recorded.Equal(anew.recorded) {
				t.Fatalf("seed %d, after %v: other doors than anew", seed, c)
			}
			for _, a := range now.addrs {
				for i, d := range now.at.Of(a) {
					if got, want := fmt.Sprint(d.behind), fmt.Sprint(anew.at.Of(a)[i].behind); got != want {
						t.Fatalf("seed %d, after %v: behind %s on %s is %s, want %s", seed, c, a, next.Places[d.place].Name, got, want)
					}
				}
			}
			for _, p := range next.Places {
				if got, want := now.feeds[p.ID], anew.feeds[p.ID]; !slices.Equal(got, want) {
					t.Fatalf("seed %d, after %v: %s and %v feed one another, want %v", seed, c, p.Name, got, want)
				}
				bits := now.leadsToAll(p)
				n := 0
				for _, a := range now.addrs {
					for _, d := range now.at.Of(a) {
						if leads := bits[n/64]>>(n%64)&1 == 1; leads != anew.leadsTo(p, a, d) {
							t.Fatalf("seed %d, after %v: %s leads to %s on %s: %v", seed, c, p.Name, a, next.Places[d.place].Name, leads)
						} else if leads {
							led++
						}
						n++
					}
				}
			}
			if before != nil && now.leads == before.leads {
				kept++
			}
			m, l = next, now
		}
	}
	if kept < 100 || led < 1000 {
		t.Errorf("%d times the ways are kept, and %d doors are led to", kept, led)
	}
}

// TestOneMachineAnew: of a listener that comes, what other machines have is taken over.
func TestOneMachineAnew(t *testing.T) {
	m := model.Compile(reread(t, synth.String(60, 2)))
	l := newListening(m, nil)
	line, _, err := notation.ParseLine("listen m0-3 7777 as thing")
	if err != nil {
		t.Fatal(err)
	}
	e, err := m.Estate.Apply(estate.Change{Add: []estate.Placed{line}})
	if err != nil {
		t.Fatal(err)
	}
	same := func(a, b []behind) bool { return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0]) }
	next := m.Recompile(e)
	now := l.after(next)
	for _, p := range next.Places {
		if stays := same(now.owned[p.ID], l.owned[p.ID]); stays == (p.Name == "m0-3") && !p.IsContainer() {
			t.Errorf("what %s has is taken over: %v", p.Name, stays)
		}
	}
	stands := 0
	for _, a := range now.addrs {
		if got, was := now.at.Of(a), l.at.Of(a); &got[0] == &was[0] {
			stands++
		}
	}
	if stands < len(now.addrs)/2 || stands == len(now.addrs) {
		t.Errorf("of %d addresses %d are as they were", len(now.addrs), stands)
	}
}
