package trace

import (
	"cmp"
	"slices"
	"strings"

	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// viewKey is a vantage, and how an exposure is looked at from it.
type viewKey struct {
	from           string
	parted, beyond bool
}

// view is an exposure address by address, in their order, so that after an edit only those are tried again that it touches.
type view struct {
	Exposure
	trials    []trial
	addresses []*viewed // of the trials, in turn
}

// viewed is what is open at one address.
type viewed struct {
	candidate
	open   []Open
	hidden []Open
	dark   []Dark
	reads  Reads
	fronts []before
}

// before is what stood before a place.
type before struct {
	place string
	ports []uint16
}

// before are the ports of a place that something stands before.
func (x *exposing) before(place string) []uint16 {
	ports := x.fronted(place)
	if !slices.ContainsFunc(x.fronts, func(b before) bool { return b.place == place }) {
		x.fronts = append(x.fronts, before{place, ports})
	}
	return ports
}

// trial is an address worth trying from some origins of a vantage.
type trial struct {
	candidate
	origins []origin
}

// expose looks from a vantage at every address.
func (t *Tracer) expose(v Vantage, how looking) Exposure {
	key := viewKey{v.Word, how.fronted != nil, how.beyond}
	var old view
	if t.was.views != nil {
		if known, ok := t.was.views.Load(key); ok {
			old = *known.(*view)
		}
	}
	now := &view{}
	same := true
	left := old.addresses
	if now.trials = old.trials; now.trials == nil || !t.sameTrials() {
		now.trials = t.trials(v)
	}
	for _, c := range now.trials {
		for len(left) > 0 && left[0].compare(&c.candidate) < 0 {
			left, same = left[1:], false
		}
		if len(left) > 0 && left[0].dst == c.dst {
			if t.still(left[0], how) {
				now.addresses, left = append(now.addresses, left[0]), left[1:]
				continue
			}
			left = left[1:]
		}
		now.addresses, same = append(now.addresses, t.tried(c, &v, how)), false
	}
	if same && len(left) == 0 && old.addresses != nil {
		now.Exposure = old.Exposure
	} else {
		now.sum(v.Word)
	}
	t.views.Store(key, now)
	return now.Exposure
}

// compare puts places without an address first, then addresses in their order.
func (c *candidate) compare(o *candidate) int {
	return cmp.Or(c.dst.addr.Compare(o.dst.addr), strings.Compare(c.word, o.word))
}

// trials are the addresses worth trying from a vantage, in order.
func (t *Tracer) trials(v Vantage) []trial {
	var out []trial
	for _, o := range v.origins {
		for _, c := range t.candidates(o) {
			out = append(out, trial{c, []origin{o}})
		}
	}
	slices.SortStableFunc(out, func(a, b trial) int { return a.compare(&b.candidate) })
	n := 0
	for i := range out {
		if n > 0 && out[n-1].dst == out[i].dst {
			out[n-1].origins = append(out[n-1].origins, out[i].origins...)
			continue
		}
		out[n] = out[i]
		n++
	}
	return out[:n]
}

// still says whether what was open at an address is so after the edit.
func (t *Tracer) still(x *viewed, how looking) bool {
	return t.was.touch.stands(&x.reads) &&
		!slices.ContainsFunc(x.reads.places, func(id model.PlaceID) bool { return t.intended().changed[id] }) &&
		!slices.ContainsFunc(x.fronts, func(b before) bool { return !slices.Equal(how.fronted(b.place), b.ports) })
}

// tried is what is open at an address.
func (t *Tracer) tried(c trial, v *Vantage, how looking) *viewed {
	x := &exposing{how, viewed{candidate: c.candidate}}
	for _, o := range c.origins {
		if o.place != model.Nowhere && t.m.Places[t.m.Places[o.place].Stack].Owns(c.dst.addr) {
			continue // a machine reaching itself is nobody's exposure
		}
		ports := netset.AllPorts()
		if x.beyond {
			if ports = t.portsOfConcern(x, c.candidate); ports.IsEmpty() {
				continue
			}
		}
		island, sources := t.outwards(o)
		for _, proto := range netset.Both.Each() {
			if !t.mayTake(c.candidate, proto, &x.reads) || island != model.Mainland && t.keptOut(island, sources, c.candidate, proto, &x.reads) {
				continue
			}
			w := o.start(proto, ports)
			w.dst, w.reads = c.dst, &x.reads
			for _, l := range t.deliver(o, w, goal{place: model.Nowhere}) {
				t.opened(x, l, c.candidate, o)
			}
		}
	}
	x.open = t.finish(x.open, v, x.fronted != nil)
	return &x.viewed
}

// sum brings together what is open at each address.
func (x *view) sum(from string) {
	open, dark := 0, 0
	for _, a := range x.addresses {
		open, dark = open+len(a.open), dark+len(a.dark)
	}
	x.Exposure = Exposure{From: from, Open: make([]Open, 0, open), Undecided: make([]Dark, 0, dark)}
	for _, a := range x.addresses {
		x.Open, x.Undecided, x.Hidden = append(x.Open, a.open...), append(x.Undecided, a.dark...), append(x.Hidden, a.hidden...)
	}
	slices.SortStableFunc(x.Undecided, func(a, b Dark) int {
		return cmp.Or(strings.Compare(a.Address, b.Address), strings.Compare(a.Transport, b.Transport), strings.Compare(a.Ports, b.Ports))
	})
	x.Undecided = slices.CompactFunc(x.Undecided, func(a, b Dark) bool {
		return a.Address == b.Address && a.Transport == b.Transport && a.Ports == b.Ports && a.Place == b.Place
	})
}
