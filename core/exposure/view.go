package exposure

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"sync"

	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// viewKey is a vantage, and how an exposure is looked at from it.
type viewKey struct {
	from           string
	parted, beyond bool
}

// view is what was open address by address, in their order, so that after an edit only those are tried again that it touches.
type view struct {
	trials []trial
	at     []*attempt // of the trials, in turn
	reads  memo.Reads // of all of these, and perhaps more
	shown  []*OpenAt  // those of which there is something to say
	all    *sum
	by     *struct{ byte } // of the Fronted that told what stands before places
}

// sum is an exposure of all addresses, brought together once.
type sum struct {
	once sync.Once
	Exposure
}

// OpenAt is what is open at one address from a vantage. It is not to be changed: after an edit that leaves
// what it says, it is the same.
type OpenAt struct {
	Open      []Open
	Undecided []Undecided
	// Hidden is what reaches a site with a list of sources by a port relay, which hides them; whether it is let in or not.
	Hidden []Open

	candidate
}

// attempt is what came of trying an address.
type attempt struct {
	*OpenAt
	reads memo.Reads
}

// trial is an address worth trying from some origins of a vantage.
type trial struct {
	candidate
	origins []flow.Origin
}

// look looks from a vantage at every address.
func (t *Engine) look(v flow.Vantage, how looking) *view {
	key := viewKey{v.Word, how.fronted != nil, how.beyond}
	if known, ok := t.views.Load(key); ok && how.fronted == nil {
		return known.(*view)
	}
	old := &view{}
	if t.was != nil {
		if known, ok := t.was.views.Load(key); ok && (how.fronted == nil || how.fronted.after == known.(*view).by) {
			old = known.(*view)
		}
	}
	touch := how.touch(t)
	now := &view{trials: old.trials}
	if how.fronted != nil {
		now.by = how.fronted.itself
	}
	same := old.trials != nil && t.sameTrials()
	if same && !touch.Reading(&old.reads) {
		now.at, now.reads, now.shown, now.all = old.at, old.reads, old.shown, old.all
		t.views.Store(key, now)
		return now
	}
	if !same {
		now.trials = t.trials(v)
	}
	left := old.at
	now.at, now.shown = make([]*attempt, 0, len(now.trials)), make([]*OpenAt, 0, len(old.shown))
	now.reads = old.reads.Clone()
	for _, c := range now.trials {
		for len(left) > 0 && left[0].compare(&c.candidate) < 0 {
			left = left[1:]
		}
		var x *attempt
		if len(left) > 0 && left[0].dst == c.dst {
			x, left = left[0], left[1:]
		}
		if x == nil || touch.Reading(&x.reads) {
			before := x
			x = t.tried(c, &v, how)
			now.reads.And(&x.reads)
			if before != nil && before.same(x.OpenAt) {
				x.OpenAt = before.OpenAt
			}
		}
		now.at = append(now.at, x)
		if len(x.Open)+len(x.Hidden)+len(x.Undecided) > 0 {
			now.shown = append(now.shown, x.OpenAt)
		}
	}
	if now.all = old.all; now.all == nil || !slices.Equal(now.shown, old.shown) {
		now.all = &sum{}
	} else {
		now.shown = old.shown
	}
	t.views.Store(key, now)
	return now
}

func (how *looking) touch(t *Engine) *memo.Touch {
	if how.fronted != nil {
		return how.fronted.touch
	}
	return t.touched()
}

// compare puts places without an address first, then addresses in their order.
func (c *candidate) compare(o *candidate) int {
	return cmp.Or(c.dst.Addr.Compare(o.dst.Addr), strings.Compare(c.word, o.word))
}

// trials are the addresses worth trying from a vantage, in order.
func (t *Engine) trials(v flow.Vantage) []trial {
	var out []trial
	for _, o := range v.Origins {
		for _, c := range t.candidates(o) {
			out = append(out, trial{c, []flow.Origin{o}})
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

// touched is what the edit that the tracer came of may have changed for what is open.
func (t *Engine) touched() *memo.Touch {
	t.openOnce.Do(func() { t.openTouch = t.Touch().Also(slices.Collect(maps.Keys(t.intended().changed))) })
	return t.openTouch
}

// tried is what is open at an address.
func (t *Engine) tried(c trial, v *flow.Vantage, how looking) *attempt {
	x := &exposing{how, &attempt{OpenAt: &OpenAt{candidate: c.candidate}}}
	for _, o := range c.origins {
		if o.Place != model.Nowhere && t.Model.Places[t.Model.Places[o.Place].Namespace].Owns(c.dst.Addr) {
			continue // a machine reaching itself is nobody's exposure
		}
		ports := netset.AllPorts()
		if x.beyond {
			if ports = t.portsOfConcern(x, c.candidate); ports.IsEmpty() {
				continue
			}
		}
		segment, sources := t.outwards(o)
		for _, proto := range netset.Both.Each() {
			if !t.mayTake(c.candidate, proto, &x.reads) || segment != model.OpenSegment && t.keptOut(segment, sources, c.candidate, proto, &x.reads) {
				continue
			}
			w := o.Start(proto, ports)
			w.Dst, w.Reads = c.dst, &x.reads
			for _, l := range t.Deliver(o, w, flow.Goal{Place: model.Nowhere}) {
				t.opened(x, l, c.candidate, o)
			}
		}
	}
	x.Open = t.finish(x.Open, v, x.fronted != nil)
	return x.attempt
}

// same says whether another says the same of the address.
func (x *OpenAt) same(o *OpenAt) bool {
	return x.candidate == o.candidate && slices.EqualFunc(x.Open, o.Open, Open.same) && slices.EqualFunc(x.Hidden, o.Hidden, Open.same) &&
		slices.EqualFunc(x.Undecided, o.Undecided, Undecided.same)
}

// exposure brings together what is open at each address.
func (x *view) exposure(from string) Exposure {
	x.all.once.Do(func() {
		all := Exposure{From: from, Open: []Open{}, Undecided: []Undecided{}}
		for _, at := range x.shown {
			all.Open, all.Undecided = append(all.Open, at.Open...), append(all.Undecided, at.Undecided...)
		}
		slices.SortStableFunc(all.Undecided, func(a, b Undecided) int {
			return cmp.Or(strings.Compare(a.Address, b.Address), strings.Compare(a.Transport, b.Transport), strings.Compare(a.Ports, b.Ports))
		})
		all.Undecided = slices.CompactFunc(all.Undecided, func(a, b Undecided) bool {
			return a.Address == b.Address && a.Transport == b.Transport && a.Ports == b.Ports && a.Place == b.Place
		})
		x.all.Exposure = all
	})
	return x.all.Exposure
}

// GoOn looks once more from internet and from each network from which the tracer was asked, before the edit that this one came of,
// what is open: so that what comes after it may go on from there.
func (t *Engine) GoOn() {
	if t.was == nil {
		return
	}
	for _, net := range t.Model.Networks {
		if _, asked := t.was.views.Load(viewKey{from: net.Name}); !asked {
			continue
		}
		if v, err := t.VantageNamed(net.Name); err == nil {
			t.look(v, looking{})
		}
	}
}

// ByAddress is an exposure address by address, where there is something to say of one.
func (t *Engine) ByAddress(v flow.Vantage) []*OpenAt { return t.look(v, looking{}).shown }

// OpenOf is all that is open at some addresses.
func OpenOf(list []*OpenAt) []*Open {
	var out []*Open
	for _, at := range list {
		for i := range at.Open {
			out = append(out, &at.Open[i])
		}
	}
	return out
}

// Unlike are the addresses of two exposures from one vantage, before an edit and after, of which these do not say the same.
func Unlike(before, after []*OpenAt) (was, is []*OpenAt) {
	for len(before) > 0 && len(after) > 0 {
		switch d := before[0].compare(&after[0].candidate); {
		case before[0] == after[0]:
			before, after = before[1:], after[1:]
		case d < 0:
			was, before = append(was, before[0]), before[1:]
		case d > 0:
			is, after = append(is, after[0]), after[1:]
		default:
			was, before = append(was, before[0]), before[1:]
			is, after = append(is, after[0]), after[1:]
		}
	}
	return append(was, before...), append(is, after...)
}
