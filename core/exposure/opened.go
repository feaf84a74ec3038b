package exposure

import (
	"steady-compass/core/flow"
	"steady-compass/core/netset"
)

// Opened is what stands open in after and did not in before, for a vantage: exact in addresses, transports, ports and
// sources, wherever it lands.
func Opened(before, after []Open, v flow.Vantage) []Open {
	type endpoint struct{ address, transport string }
	was := map[endpoint][]*Open{}
	for i := range before {
		k := endpoint{before[i].Address, before[i].Transport}
		was[k] = append(was[k], &before[i])
	}
	out := []Open{}
	for i := range after {
		e := &after[i]
		left := []opening{{e.Range, e.set, e.set.IsEmpty()}}
		for _, b := range was[endpoint{e.Address, e.Transport}] {
			left = notIn(left, b)
		}
		for _, o := range left {
			next := *e
			next.Range, next.set, next.Ports = o.ports, o.sources, o.ports.String()
			if !e.manyToOne() {
				next.Port = e.Port + (o.ports.Lo - e.Range.Lo)
			}
			if !o.place {
				next.Sources, _ = v.Say(o.sources, e.addr.Is6())
			}
			out = append(out, next)
		}
	}
	return out
}

// opening is an unbroken range of ports with the sources that reach it; place: the vantage is a place, whose one source
// is not told apart.
type opening struct {
	ports   netset.PortRange
	sources netset.Addrs
	place   bool
}

// notIn takes from openings what another has too.
func notIn(list []opening, b *Open) []opening {
	var out []opening
	for _, o := range list {
		lo, hi := max(o.ports.Lo, b.Range.Lo), min(o.ports.Hi, b.Range.Hi)
		if lo > hi {
			out = append(out, o)
			continue
		}
		if o.ports.Lo < lo {
			out = append(out, opening{netset.PortRange{Lo: o.ports.Lo, Hi: lo - 1}, o.sources, o.place})
		}
		if rest := o.sources.Subtract(b.set); !o.place && !rest.IsEmpty() {
			out = append(out, opening{netset.PortRange{Lo: lo, Hi: hi}, rest, false})
		}
		if o.ports.Hi > hi {
			out = append(out, opening{netset.PortRange{Lo: hi + 1, Hi: o.ports.Hi}, o.sources, o.place})
		}
	}
	return out
}
