// Package looktest puts faults into estates, to be found by looks.
package looktest

import (
	"maps"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/look"
	"steady-compass/core/netset"
	"steady-compass/core/trace"
)

// Fault is one thing that is not so in reality.
type Fault struct {
	Kind   string
	Keys   []string // of the suspects that it is: one, or each line of several that were exchanged
	Change estate.Change
}

// Faults are all that may be put into an estate, of kinds that are hypotheses.
func Faults(e *estate.Estate, r *rand.Rand) []Fault {
	var out []Fault
	down := map[string]bool{}
	add := func(kind, key string, c estate.Change) { out = append(out, Fault{kind, []string{key}, c}) }
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
				if !down[key] {
					down[key] = true
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
				add("filter in front", "a filter in front of "+rec.Name, estate.Change{Add: []estate.Placed{
					{Record: &estate.Filter{Name: "unrecorded", On: []string{rec.Name}, Hook: "arriving", Otherwise: "pass"}},
					{Record: &estate.Rule{Filter: "unrecorded", Action: action, Ports: estate.Ports{Any: true, Transport: netset.TCP}}},
				}})
			}
		}
	}
	return out
}

// Strange are faults of kinds that are no hypothesis, from one who knows nothing of the list: a pair of rules exchanged, a network of another
// length, the cables of two machines exchanged.
func Strange(e *estate.Estate, r *rand.Rand) []Fault {
	var out []Fault
	byFilter := map[string][]estate.Record{}
	for _, rec := range e.Of(estate.KindNamed("rule")) {
		byFilter[rec.(*estate.Rule).Filter] = append(byFilter[rec.(*estate.Rule).Filter], rec)
	}
	for _, name := range slices.Sorted(maps.Keys(byFilter)) {
		list := byFilter[name]
		if len(list) < 2 {
			continue
		}
		i := r.IntN(len(list) - 1)
		a, b := estate.Line(list[i]), estate.Line(list[i+1])
		out = append(out, Fault{"rules exchanged", []string{a, b}, estate.Change{Remove: []string{a}, Add: []estate.Placed{{Record: list[i], At: i + 2}}}})
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
		out = append(out, Fault{"cables exchanged", []string{estate.Line(a), estate.Line(b), a.Hosts[0] + " is down", b.Hosts[0] + " is down"}, c})
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
		out = append(out, Fault{"another length", keys, estate.Change{Remove: []string{estate.Line(n)}, Add: []estate.Placed{{Record: shorter}}}})
	}
	return out
}

// Seen are the looks that a target gives in an estate, as they would be made.
func Seen(t *trace.Tracer, target, from string) []look.Look {
	v, err := t.VantageNamed(from)
	if err != nil {
		return nil
	}
	tg, err := t.ParseTarget(target)
	if err != nil {
		return nil
	}
	out := look.Foresee(t, tg, v)
	for i := range out {
		out[i].At = time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC)
	}
	return out
}

// Drawn is one of the faults: a kind first, each as likely as another; false where there are none.
func Drawn(all []Fault, r *rand.Rand) (Fault, bool) {
	byKind := map[string][]Fault{}
	for _, f := range all {
		byKind[f.Kind] = append(byKind[f.Kind], f)
	}
	kinds := slices.Sorted(maps.Keys(byKind))
	if len(kinds) == 0 {
		return Fault{}, false
	}
	list := byKind[kinds[r.IntN(len(kinds))]]
	return list[r.IntN(len(list))], true
}

// PlaceAmong is where the fault stands among suspects, from 0; -1 where it does not.
func (f *Fault) PlaceAmong(suspects []look.Suspect) int {
	return slices.IndexFunc(suspects, func(s look.Suspect) bool {
		return slices.ContainsFunc(s.About(), func(key string) bool { return slices.Contains(f.Keys, key) })
	})
}
