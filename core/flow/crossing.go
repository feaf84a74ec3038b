package flow

import (
	"net/netip"
	"slices"

	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// crossingKey is where a flow that the internet carries is for.
type crossingKey struct {
	at    model.PlaceID
	to    netip.Addr
	proto netset.Transport
}

// cross takes a flow over the internet to the machine that answers for its destination. What becomes of it there is worked
// out once, for every source and port, and each flow that comes that way takes its part.
func (r *run) cross(p *model.Place, w Part) {
	whole := !w.Many && w.Shift == 0 && w.Ports.Equal(w.Outer) && w.Src.Float == model.Nowhere && !w.Relayed && !w.imagined
	key := crossingKey{p.ID, w.Dst.Addr, w.Transport}
	// In a ring of forwards a crossing leads to itself: there the flow goes on by itself, until it has gone round too long.
	if r.goal.Diagnose || r.goal.Absent != (Absent{}) || !whole || !w.Dst.Addr.IsValid() || len(r.within) > maxHops || slices.Contains(r.within, key) {
		r.arrive(p, model.Internet, w)
		return
	}
	c := r.t.crossed(p, w.Dst, key, r.within)
	w.Reads.And(&c.Reads)
	for _, l := range c.Landings {
		if part, ok := w.across(l); ok {
			r.out = append(r.out, part)
		}
	}
}

// Crossing is what becomes of all that the internet carries to a machine for an address.
type Crossing struct {
	Landings []Landing
	Reads    memo.Reads
}

// crossed is a crossing, worked out once; within are those that it is a part of.
func (t *Engine) crossed(p *model.Place, to Dest, key crossingKey, within []crossingKey) *Crossing {
	if known, ok := t.crossings.Find(key, t.touch); ok {
		return known
	}
	c := &Crossing{}
	six := to.Addr.Is6()
	all := netset.Everything().Of(six)
	r := &run{t: t, goal: Goal{Place: model.Nowhere}, within: append(slices.Clip(within), key)}
	r.arrive(p, model.Internet, Part{
		Origins: all, Src: Source{Set: all, Float: model.Nowhere, Net: model.NoNet}, Dst: to,
		Transport: key.proto, Ports: netset.AllPorts(), Outer: netset.AllPorts(), IPv6: six, Quiet: true, Cells: &noCells, Reads: &c.Reads,
	})
	c.Landings = r.out
	t.crossings.Keep(key, c)
	return c
}

// across is the part of what becomes of everything that a flow is.
func (w Part) across(l Landing) (Landing, bool) {
	sources, ports := w.Src.Set.Intersect(l.Origins), w.Outer.Intersect(l.Outer)
	if sources.IsEmpty() || ports.IsEmpty() {
		return l, false
	}
	own := w.Origins.Equal(w.Src.Set) // nothing has rewritten the source before
	kept := l.Src.Float == model.Nowhere && l.Src.Set.Equal(l.Origins)
	if !ports.Equal(l.Outer) {
		if !l.Many {
			l.Ports = shiftPorts(ports, l.Shift)
		}
		if !l.beforeMany {
			l.Before = shiftPorts(ports, l.beforeShift)
		}
		l.Outer = ports
	}
	if l.Origins = w.Origins; own {
		l.Origins = sources
	}
	seen := Source{Set: sources, Float: model.Nowhere, Net: model.NoNet, word: w.Src.word}
	if kept {
		l.Src = seen
	}
	if l.Ingress != nil {
		d := *l.Ingress
		if d.Own {
			d.Own, d.Src = own, sources
		}
		l.Ingress = &d
	}
	l.Met = l.Met.behind(w.Met, seen)
	l.head, l.crossed, l.Hops, l.Reads = w.Trail, sources, w.Hops+l.Hops, w.Reads
	return l, true
}

// behind is the machines that a flow met behind those that it met before, with its own sources in place of all.
func (h *Met) behind(before *Met, own Source) *Met {
	if h == nil {
		return before
	}
	next := *h
	next.prev = h.prev.behind(before, own)
	if next.Gave.IsValid() {
		next.was = own
		for p := next.prev; p != before && p != nil; p = p.prev {
			if p.Gave.IsValid() { // another has rewritten it since
				next.was = Source{Set: netset.AddrsOf(p.Gave), Float: model.Nowhere, Net: model.NoNet}
				break
			}
		}
	}
	return &next
}

// Read is what it was worked out from.
func (c *Crossing) Read() *memo.Reads { return &c.Reads }

// OverInternet is what becomes of all that the internet carries to a machine for an address.
func (t *Engine) OverInternet(p *model.Place, to Dest, proto netset.Transport) *Crossing {
	return t.crossed(p, to, crossingKey{p.ID, to.Addr, proto}, nil)
}
