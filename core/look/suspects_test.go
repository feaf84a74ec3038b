package look

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

var judgedFaults = flag.Int("judge.faults", 120, "how many single faults are put into estates, to be found by looks")

// fault is one thing that is not so in reality.
type fault struct {
	kind   string
	key    string // of the suspect that it is
	change estate.Change
}

// faults are all that may be put into an estate, of kinds that are hypotheses; those that stand only for a kind are drawn by it.
func faults(e *estate.Estate, r *rand.Rand) map[string][]fault {
	out := map[string][]fault{}
	add := func(kind, key string, c estate.Change) { out[kind] = append(out[kind], fault{kind, key, c}) }
	for _, rec := range e.All() {
		if rec.Meta().Off {
			continue
		}
		line := estate.Line(rec)
		gone := estate.Change{Remove: []string{line}}
		swap := func(next estate.Record) estate.Change {
			return estate.Change{Remove: []string{line}, Add: []estate.Placed{{Record: next}}}
		}
		switch rec := rec.(type) {
		case *estate.Listen:
			add("not running", line, gone)
			if !rec.Bind.Addr.IsValid() {
				add("on loopback", line, swap(estate.With(rec, func(n *estate.Listen) { n.Bind.Addr = netip.MustParseAddr("127.0.0.1") })))
			}
		case *estate.Rule, *estate.Forward, *estate.Map, *estate.Site:
			add(strings.Fields(line)[0]+" off", line, gone)
		case *estate.Filter:
			add("policy", line, swap(estate.With(rec, func(n *estate.Filter) {
				n.Otherwise = []string{"pass", "drop", "refuse"}[r.IntN(3)]
			})))
		case *estate.Address:
			if len(rec.Hosts) == 1 {
				add("address", line, gone)
				key := rec.Hosts[0] + " is down"
				if !slices.ContainsFunc(out["down"], func(f fault) bool { return f.key == key }) {
					c := estate.Change{}
					for _, other := range e.Of(estate.KindNamed("address")) {
						if a := other.(*estate.Address); !a.Off && len(a.Hosts) == 1 && a.Hosts[0] == rec.Hosts[0] {
							c.Remove = append(c.Remove, estate.Line(other))
						}
					}
					add("down", key, c)
				}
			}
		case *estate.Route:
			add("route", line, gone)
		case *estate.Host:
			if !rec.Outside {
				action := []string{"drop", "refuse"}[r.IntN(2)]
				add("filter in front", "a filter in front of "+rec.Name, added(&estate.Filter{Name: "unrecorded", On: []string{rec.Name}, Hook: "arriving", Otherwise: "pass"},
					&estate.Rule{Filter: "unrecorded", Action: action, Ports: estate.Ports{Any: true, Transport: 1}}))
			}
		}
	}
	return out
}

// seenIn are the looks that a target gives in an estate, as they would be made.
func seenIn(t *trace.Tracer, target, from string) []Look {
	v, err := t.VantageNamed(from)
	if err != nil {
		return nil
	}
	tg, err := t.ParseTarget(target)
	if err != nil {
		return nil
	}
	out := Foresee(t, tg, v)
	for i := range out {
		out[i].At = time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC)
	}
	return out
}

// TestSuspectsFindTheFault puts one fault into random estates, lets a look see it and at most six chosen ones after it, and counts where the fault
// stands among the suspects; those that no look at hand parts count as one.
func TestSuspectsFindTheFault(t *testing.T) {
	type count struct{ n, first, three int }
	by := map[string]*count{}
	all := count{}
	unseen, together, looked := 0, 0, 0
	for seed := uint64(1); all.n < *judgedFaults && seed < uint64(*judgedFaults)*40; seed++ {
		r := rand.New(rand.NewPCG(seed, 99))
		e := notationtest.Parse(t, synth.Crossing(r))
		tr := trace.New(model.Compile(e), "2026-12-01")
		kinds := faults(e, r)
		var words []string
		for kind := range kinds {
			words = append(words, kind)
		}
		slices.Sort(words)
		list := kinds[words[r.IntN(len(words))]]
		f := list[r.IntN(len(list))]
		faulty, err := e.Apply(f.change)
		if err != nil {
			continue
		}
		real := trace.New(model.Compile(faulty), "2026-12-01")
		atHand := []string{"internet"}
		for _, n := range tr.Model.Networks {
			if n.Record != nil && !n.Container() && len(atHand) < 3 {
				atHand = append(atHand, n.Name)
			}
		}
		first, from := failing(tr, real, atHand)
		if first == "" {
			unseen++
			continue
		}
		looks := seenIn(real, first, from)
		var got Inquiry
		for range 7 {
			if got, err = Suspects(context.Background(), tr, first, looks, atHand); err != nil {
				t.Fatal(err)
			}
			if got.Next == nil {
				break
			}
			looks = append(looks, seenIn(real, got.Next.Target, got.Next.From)...)
		}
		place := slices.IndexFunc(got.Suspects, func(s Suspect) bool { return slices.Contains(s.keys, f.key) })
		if place >= 0 {
			together += len(got.Suspects[place].keys)
			looked += len(looks)
		}
		if by[f.kind] == nil {
			by[f.kind] = &count{}
		}
		for _, c := range []*count{&all, by[f.kind]} {
			c.n++
			if place == 0 {
				c.first++
			}
			if place >= 0 && place < 3 {
				c.three++
			}
		}
		if testing.Verbose() && (place < 0 || place > 2) {
			var said []string
			for _, s := range got.Suspects[:min(len(got.Suspects), 4)] {
				said = append(said, fmt.Sprintf("%s %v (%d of %d)", s.Why, s.Records, s.Explains, s.Of))
			}
			t.Logf("seed %d: %s %s at place %d of %s from %s: %s", seed, f.kind, f.key, place, first, from, strings.Join(said, " | "))
		}
	}
	for kind, c := range by {
		t.Logf("%-16s %3d: first %3d, among three %3d", kind, c.n, c.first, c.three)
	}
	t.Logf("%d faults that a look sees (%d that none does): first in %d of 100, among the first three in %d; %.1f that no look parts, %.1f looks", all.n, unseen, all.first*100/max(1, all.n), all.three*100/max(1, all.n), float64(together)/float64(max(1, all.n)), float64(looked)/float64(max(1, all.n)))
	if all.first*100 < 80*all.n || all.three*100 < 95*all.n {
		t.Errorf("expected 80 and 95")
	}
}

// failing is a target that is seen otherwise in reality than by the records, from the first vantage that sees it.
func failing(tr, real *trace.Tracer, atHand []string) (target, from string) {
	for _, from := range atHand {
		for _, n := range tr.Names() {
			if strings.HasPrefix(n.Name, "*") {
				continue
			}
			for _, l := range seenIn(real, n.Name, from) {
				if Judge(tr, &l); l.Agrees == Differs && l.Did != Resolve {
					return n.Name, from
				}
			}
		}
		for _, p := range tr.Model.Places {
			for _, l := range seenIn(real, p.Name, from) {
				if Judge(tr, &l); l.Agrees == Differs {
					return p.Name, from
				}
			}
		}
	}
	return "", ""
}
