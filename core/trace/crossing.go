package trace

import (
	"net/netip"
	"slices"

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
func (r *run) cross(p *model.Place, w way) {
	whole := !w.many && w.shift == 0 && w.ports.Equal(w.outer) && w.src.float == model.Nowhere && !w.relayed && !w.imagined
	key := crossingKey{p.ID, w.dst.addr, w.proto}
	// In a ring of forwards a crossing leads to itself: there the flow goes on by itself, until it has gone round too long.
	if r.goal.repair || !whole || !w.dst.addr.IsValid() || len(r.within) > maxHops || slices.Contains(r.within, key) {
		r.arrive(p, model.Internet, w)
		return
	}
	c := r.t.crossed(p, w.dst, key, r.within)
	w.reads.And(&c.reads)
	for _, l := range c.landings {
		if part, ok := w.across(l); ok {
			r.out = append(r.out, part)
		}
	}
}

// crossing is what becomes of all that the internet carries to a machine for an address.
type crossing struct {
	landings []landing
	reads    Reads
}

// crossed is a crossing, worked out once; within are those that it is a part of.
func (t *Tracer) crossed(p *model.Place, to dest, key crossingKey, within []crossingKey) *crossing {
	if known, ok := t.crossings.find(key, t.was.touch); ok {
		return known
	}
	c := &crossing{}
	six := to.addr.Is6()
	all := netset.Everything().Of(six)
	r := &run{t: t, goal: goal{place: model.Nowhere}, within: append(slices.Clip(within), key)}
	r.arrive(p, model.Internet, way{
		origins: all, src: source{set: all, float: model.Nowhere, net: model.NoNet}, dst: to,
		proto: key.proto, ports: netset.AllPorts(), outer: netset.AllPorts(), six: six, mute: true, cells: &noCells, reads: &c.reads,
	})
	c.landings = r.out
	t.crossings.keep(key, c)
	return c
}

// across is the part of what becomes of everything that a flow is.
func (w way) across(l landing) (landing, bool) {
	sources, ports := w.src.set.Intersect(l.origins), w.outer.Intersect(l.outer)
	if sources.IsEmpty() || ports.IsEmpty() {
		return l, false
	}
	own := w.origins.Equal(w.src.set) // nothing has rewritten the source before
	kept := l.src.float == model.Nowhere && l.src.set.Equal(l.origins)
	if !ports.Equal(l.outer) {
		if !l.many {
			l.ports = shiftPorts(ports, l.shift)
		}
		if !l.beforeMany {
			l.before = shiftPorts(ports, l.beforeShift)
		}
		l.outer = ports
	}
	if l.origins = w.origins; own {
		l.origins = sources
	}
	seen := source{set: sources, float: model.Nowhere, net: model.NoNet, word: w.src.word}
	if kept {
		l.src = seen
	}
	if l.door != nil {
		d := *l.door
		if d.own {
			d.own, d.src = own, sources
		}
		l.door = &d
	}
	l.held = l.held.behind(w.held, seen)
	l.head, l.crossed, l.hops, l.reads = w.trail, sources, w.hops+l.hops, w.reads
	return l, true
}

// behind is the machines that a flow met behind those that it met before, with its own sources in place of all.
func (h *held) behind(before *held, own source) *held {
	if h == nil {
		return before
	}
	next := *h
	next.prev = h.prev.behind(before, own)
	if next.gave.IsValid() {
		next.was = own
		for p := next.prev; p != before && p != nil; p = p.prev {
			if p.gave.IsValid() { // another has rewritten it since
				next.was = source{set: netset.AddrsOf(p.gave), float: model.Nowhere, net: model.NoNet}
				break
			}
		}
	}
	return &next
}
