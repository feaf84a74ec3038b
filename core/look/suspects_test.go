package look

import (
	"context"
	"flag"
	"fmt"
	"maps"
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

var judgedFaults = flag.Int("judge.faults", 60, "how many single faults are put into estates, to be found by looks")

// fault is one thing that is not so in reality.
type fault struct {
	kind   string
	keys   []string // of the suspects that it is: one, or each line of several that were exchanged
	change estate.Change
}

// faults are all that may be put into an estate, of kinds that are hypotheses; those that stand only for a kind are drawn by it.
func faults(e *estate.Estate, r *rand.Rand) map[string][]fault {
	out := map[string][]fault{}
	add := func(kind, key string, c estate.Change) { out[kind] = append(out[kind], fault{kind, []string{key}, c}) }
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
				if !slices.ContainsFunc(out["down"], func(f fault) bool { return f.keys[0] == key }) {
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

// strange are faults of kinds that are no hypothesis, from one who knows nothing of the list: a pair of rules exchanged, a network of another
// length, the cables of two machines exchanged.
func strange(e *estate.Estate, r *rand.Rand) map[string][]fault {
	out := map[string][]fault{}
	byFilter := map[string][]estate.Record{}
	for _, rec := range e.Of(estate.KindNamed("rule")) {
		byFilter[rec.(*estate.Rule).Filter] = append(byFilter[rec.(*estate.Rule).Filter], rec)
	}
	for _, list := range byFilter {
		if len(list) < 2 {
			continue
		}
		i := r.IntN(len(list) - 1)
		a, b := estate.Line(list[i]), estate.Line(list[i+1])
		out["rules exchanged"] = append(out["rules exchanged"], fault{"rules exchanged", []string{a, b}, estate.Change{Remove: []string{a}, Add: []estate.Placed{{Record: list[i], At: i + 2}}}})
	}
	var held []*estate.Address
	for _, rec := range e.Of(estate.KindNamed("address")) {
		if a := rec.(*estate.Address); !a.Off && len(a.Hosts) == 1 && a.Network != "internet" {
			held = append(held, a)
		}
	}
	slices.SortFunc(held, func(a, b *estate.Address) int { return strings.Compare(estate.Line(a), estate.Line(b)) })
	for n := 0; n < 3 && len(held) > 1; n++ {
		a, b := held[r.IntN(len(held))], held[r.IntN(len(held))]
		if a.Hosts[0] == b.Hosts[0] || a.Network == b.Network || a.Held.Addr.Is6() != b.Held.Addr.Is6() {
			continue
		}
		c := estate.Change{Remove: []string{estate.Line(a), estate.Line(b)}, Add: []estate.Placed{
			{Record: estate.With(a, func(x *estate.Address) { x.Network = b.Network })}, {Record: estate.With(b, func(x *estate.Address) { x.Network = a.Network })},
		}}
		out["cables exchanged"] = append(out["cables exchanged"], fault{"cables exchanged", []string{estate.Line(a), estate.Line(b), a.Hosts[0] + " is down", b.Hosts[0] + " is down"}, c})
	}
	for _, rec := range e.Of(estate.KindNamed("network")) {
		n := rec.(*estate.Network)
		if n.On != "" || len(n.Prefixes) == 0 || !n.Prefixes[0].Addr().Is4() || n.Prefixes[0].Bits() > 26 {
			continue
		}
		keys := []string{estate.Line(n)}
		for _, a := range held {
			if a.Network == n.Name {
				keys = append(keys, estate.Line(a), a.Hosts[0]+" is down")
			}
		}
		shorter := estate.With(n, func(x *estate.Network) {
			x.Prefixes = slices.Clone(x.Prefixes)
			x.Prefixes[0] = netip.PrefixFrom(x.Prefixes[0].Addr(), x.Prefixes[0].Bits()+4)
		})
		out["another length"] = append(out["another length"], fault{"another length", keys, estate.Change{Remove: []string{estate.Line(n)}, Add: []estate.Placed{{Record: shorter}}}})
	}
	return out
}

// counted is where faults stood among the suspects.
type counted struct{ n, first, three int }

func (c *counted) add(place int) {
	c.n++
	if place == 0 {
		c.first++
	}
	if place >= 0 && place < 3 {
		c.three++
	}
}

// TestSuspectsFindTheFault puts one fault into random estates, lets a look see it and at most six chosen ones after it, and counts where the fault
// stands among the suspects; those that no look at hand parts count as one. So it does with every twentieth look falsely silent, and with faults
// of kinds that are no hypothesis.
func TestSuspectsFindTheFault(t *testing.T) {
	for _, c := range []struct {
		name         string
		faults       func(*estate.Estate, *rand.Rand) map[string][]fault
		lie          bool
		first, three int // of 100
	}{
		{"of kinds that are hypotheses", faults, false, 80, 95},
		{"with every twentieth look falsely silent", faults, true, 0, 90},
		{"of kinds that are none", strange, false, 0, 70},
	} {
		t.Run(c.name, func(t *testing.T) {
			by, all := map[string]*counted{}, counted{}
			unseen, together, looked := 0, 0, 0
			for seed := uint64(1); all.n < *judgedFaults && seed < uint64(*judgedFaults)*60; seed++ {
				r := rand.New(rand.NewPCG(seed, 99))
				e := notationtest.Parse(t, synth.Crossing(r))
				kinds := c.faults(e, r)
				words := slices.Sorted(maps.Keys(kinds))
				if len(words) == 0 {
					continue
				}
				list := kinds[words[r.IntN(len(words))]]
				f := list[r.IntN(len(list))]
				faulty, err := e.Apply(f.change)
				if err != nil {
					continue
				}
				i := inquire(t, e, faulty, r, c.lie)
				if i == nil {
					unseen++
					continue
				}
				place := slices.IndexFunc(i.got.Suspects, func(s Suspect) bool {
					return slices.ContainsFunc(s.keys, func(key string) bool { return slices.Contains(f.keys, key) })
				})
				if place >= 0 {
					together += len(i.got.Suspects[place].keys)
				}
				looked += i.looks
				if by[f.kind] == nil {
					by[f.kind] = &counted{}
				}
				all.add(place)
				by[f.kind].add(place)
				if testing.Verbose() && (place < 0 || place > 2) {
					t.Logf("seed %d: %s %v at place %d of %s from %s: %s", seed, f.kind, f.keys, place, i.first, i.from, i.said())
				}
			}
			for _, kind := range slices.Sorted(maps.Keys(by)) {
				t.Logf("%-16s %3d: first %3d, among three %3d", kind, by[kind].n, by[kind].first, by[kind].three)
			}
			n := max(1, all.n)
			t.Logf("%d faults that a look sees (%d that none does): first in %d of 100, among the first three in %d; %.1f that no look parts, %.1f looks", all.n, unseen, all.first*100/n, all.three*100/n, float64(together)/float64(n), float64(looked)/float64(n))
			if all.first*100 < c.first*n || all.three*100 < c.three*n {
				t.Errorf("expected %d and %d", c.first, c.three)
			}
		})
	}
}

// inquired is what came of asking after a fault.
type inquired struct {
	got         Inquiry
	first, from string
	looks       int
}

func (i *inquired) said() string {
	var said []string
	for _, s := range i.got.Suspects[:min(len(i.got.Suspects), 4)] {
		said = append(said, fmt.Sprintf("%s %v (%d of %d)", s.Why, s.Records, s.Explains, s.Of))
	}
	return strings.Join(said, " | ")
}

// inquire looks at what is otherwise in reality, and then at what is said to be looked at next; nil where no look sees it.
func inquire(t *testing.T, e, faulty *estate.Estate, r *rand.Rand, lie bool) *inquired {
	t.Helper()
	tr, real := trace.New(model.Compile(e), "2026-12-01"), trace.New(model.Compile(faulty), "2026-12-01")
	atHand := []string{"internet"}
	for _, n := range tr.Model.Networks {
		if n.Record != nil && !n.Container() && len(atHand) < 3 {
			atHand = append(atHand, n.Name)
		}
	}
	i := &inquired{}
	if i.first, i.from = failing(tr, real, atHand); i.first == "" {
		return nil
	}
	looks := seenIn(real, i.first, i.from)
	for range 7 {
		var err error
		if i.got, err = Suspects(context.Background(), tr, i.first, looks, atHand); err != nil {
			t.Fatal(err)
		}
		if i.got.Next == nil {
			break
		}
		more := seenIn(real, i.got.Next.Target, i.got.Next.From)
		for k := range more {
			if lie && more[k].Did == Connect && r.IntN(20) == 0 {
				more[k].Came = Silent
			}
		}
		looks = append(looks, more...)
	}
	i.looks = len(looks)
	return i
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

// TestSuspectSays holds what is said of a suspect: what speaks for it, and against it only what is as recorded.
func TestSuspectSays(t *testing.T) {
	tr := trace.New(model.Compile(notationtest.Parse(t, shop)), "2026-12-01")
	at := time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC)
	looks := []Look{
		{At: at, From: "internet", Target: "a.example:22", Did: Connect, Came: Refused, Address: "9.9.9.9"},
		{At: at, From: "internet", Target: "a.example:443", Did: Connect, Came: Arrived, Address: "9.9.9.9"},
		{At: at, From: "internet", Target: "a.example:8100", Did: Connect, Came: Silent, Address: "9.9.9.9"},
	}
	got, err := Suspects(context.Background(), tr, "a.example:22", looks, []string{"internet"})
	if err != nil {
		t.Fatal(err)
	}
	if len(got.Suspects) == 0 || got.Suspects[0].Why != "ssh does not run on box" || !slices.Equal(got.Suspects[0].For, []string{"a.example:22 from internet (connect)"}) || len(got.Suspects[0].Against) > 0 {
		t.Errorf("%+v", got.Suspects)
	}
	for _, s := range got.Suspects {
		if strings.Contains(s.Why, "every port") && !slices.Contains(s.Against, "a.example:443 from internet (connect)") {
			t.Errorf("nothing speaks against %s", s.Why)
		}
		if slices.Contains(s.Against, "a.example:8100 from internet (connect)") {
			t.Errorf("what the records do not explain speaks against %s", s.Why)
		}
	}
	if got, err := Suspects(context.Background(), tr, "a.example:443", looks, nil); err != nil || got.None == "" || len(got.Suspects) > 0 {
		t.Errorf("of what is as recorded: %+v %v", got, err)
	}
}
