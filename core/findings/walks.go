package findings

import (
	"cmp"
	"iter"
	"maps"
	"slices"
	"sync/atomic"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/serve"
	"steady-compass/core/trace"
)

// walks are the visits to everything that somebody is to reach, and what they came by.
type walks struct {
	intents *kept[*estate.Intent, *visit]
	calls   *kept[call, *visit]
	by      [][]*visit                // by place
	passing []atomic.Pointer[passing] // by place, worked out where it is asked for
	changed map[model.PlaceID]bool    // places that are come by in another way than before the edit
	fronted []model.PlaceID           // and those that something stands before on other ports
	names   []*trace.Name
	called  []int32 // by call, which of names
}

// call is a name as a vantage sees it.
type call struct{ name, from string }

// all are the visits, those of intents first.
func (w *walks) all() iter.Seq[*visit] {
	return func(yield func(*visit) bool) {
		for _, list := range [][]*visit{w.intents.values, w.calls.values} {
			for _, v := range list {
				if !yield(v) {
					return
				}
			}
		}
	}
}

// passing is what visits came by at one place.
type passing struct {
	lets            map[string]bool // the lines that let something meant on
	needs           map[string][]string
	passed, stopped map[string][]uint16 // the ports of what met a line of a filter
	fronts          map[uint16]*backend // what stands before its ports
	fronted         []uint16            // these, rising
}

// walk visits every intent's target, and every name at the ports where no intent does.
func (s *survey) walk(before *walks, e edit) (*walks, turn) {
	next := &walks{names: s.t.Names(), intents: &kept[*estate.Intent, *visit]{}, calls: &kept[call, *visit]{}}
	internet, err := s.t.VantageNamed("internet")
	if err != nil {
		return next, turn{}
	}
	if before == nil {
		before = &walks{}
	}
	var keys []call
	if callsAsBefore(before, next.names) {
		keys, next.called = before.calls.keys, before.called
	} else {
		keys, next.called = calls(next.names)
	}
	stands := func(_ int, v *visit) bool { return !e.touch.Reading(&v.reads) }
	visiting := func() *visiting { return &visiting{check: check{survey: *s}, visit: &visit{}} }
	intents, ofIntents := redo(s.ctx, before.intents, s.m.Intents, stands, func(i int) *visit {
		c := visiting()
		c.intent(s.m.Intents[i])
		return c.done()
	})
	named, ofNames := redo(s.ctx, before.calls, keys, stands, func(i int) *visit {
		from, err := internet, error(nil)
		if keys[i].from != from.Word {
			from, err = s.t.VantageNamed(keys[i].from)
		}
		c := visiting()
		if err == nil {
			c.name(next.names[next.called[i]], from)
		}
		return c.done()
	})
	next.intents, next.calls = intents, named
	changes := append(pairs(ofIntents), pairs(ofNames)...)
	switch {
	case s.ctx.Err() != nil:
	case before.by == nil:
		next.indexAll(s.m)
	default:
		next.indexAfter(s.m, before, changes)
	}
	return next, turnOf(changes)
}

// callsAsBefore says whether the same names are looked at from the same vantages as before the edit.
func callsAsBefore(before *walks, names []*trace.Name) bool {
	return before.calls != nil && slices.EqualFunc(before.names, names, func(a, b *trace.Name) bool {
		return a == b || a.Name == b.Name && slices.Equal(a.From, b.From)
	})
}

// calls are some names as those see them that they are for, and which of the names each is.
func calls(names []*trace.Name) (keys []call, called []int32) {
	keys, called = make([]call, 0, len(names)), make([]int32, 0, len(names))
	for i, n := range names {
		from := n.From
		if len(from) == 0 {
			from = []string{"internet"}
		}
		for _, word := range from {
			keys, called = append(keys, call{n.Name, word}), append(called, int32(i))
		}
	}
	return keys, called
}

// renewal is a visit in the place of another.
type renewal struct{ old, now *visit }

func pairs[K comparable](changes []renewed[K, *visit]) []renewal {
	out := make([]renewal, len(changes))
	for i, c := range changes {
		out[i] = renewal{cmp.Or(c.old, &visit{}), cmp.Or(c.now, &visit{})}
	}
	return out
}

// turnOf is what visits find that are made anew.
func turnOf(changes []renewal) turn {
	var t turn
	one := func(f *Finding) []*Finding {
		if f == nil {
			return nil
		}
		return []*Finding{f}
	}
	for _, c := range changes {
		t.part(ofVisits, c.old.found, c.now.found)
		t.part(unlessSaid, one(c.old.unrecorded), one(c.now.unrecorded))
	}
	return t
}

// indexAll lists the visits by place.
func (w *walks) indexAll(m *model.Model) {
	w.by, w.passing = make([][]*visit, len(m.Places)), make([]atomic.Pointer[passing], len(m.Places))
	for v := range w.all() {
		for _, id := range v.at {
			w.by[id] = append(w.by[id], v)
		}
	}
}

// indexAfter lists the visits by place, as before but for those that were renewed.
func (w *walks) indexAfter(m *model.Model, before *walks, changes []renewal) {
	w.by, w.passing, w.changed = before.by, before.passing, map[model.PlaceID]bool{}
	if len(changes) == 0 {
		return
	}
	gone := map[*visit]bool{}
	come := map[model.PlaceID][]*visit{} // by every place that one came by before or after
	for _, c := range changes {
		gone[c.old] = true
		for _, id := range slices.Concat(c.old.at, c.now.at) {
			w.changed[id] = w.changed[id] || !c.old.sameAt(c.now, m.Places[id].Name)
			if _, known := come[id]; !known {
				come[id] = nil
			}
		}
		for _, id := range c.now.at {
			come[id] = append(come[id], c.now)
		}
	}
	w.by = slices.Clone(before.by)
	for id, list := range come {
		w.by[id] = append(slices.DeleteFunc(slices.Clone(before.by[id]), func(v *visit) bool { return gone[v] }), list...)
	}
	w.passing = make([]atomic.Pointer[passing], len(before.passing))
	for id := range w.passing {
		if !w.changed[model.PlaceID(id)] {
			w.passing[id].Store(before.passing[id].Load())
		}
	}
	for id, changed := range w.changed {
		if old := before.passing[id].Load(); changed && (old == nil || !slices.Equal(old.fronted, w.at(m.Places[id]).fronted)) {
			w.fronted = append(w.fronted, id)
		}
	}
}

// sameAt says whether another visit came by a place in the same way.
func (v *visit) sameAt(other *visit, place string) bool {
	return sameAmong(v.met, other.met, func(m *lineMet) bool { return m.at == place }) &&
		sameAmong(v.fronts, other.fronts, func(f *serve.Front) bool { return f.To == place })
}

// sameAmong says whether those of two lists that count are the same.
func sameAmong[T comparable](a, b []T, counts func(*T) bool) bool {
	for {
		for len(a) > 0 && !counts(&a[0]) {
			a = a[1:]
		}
		for len(b) > 0 && !counts(&b[0]) {
			b = b[1:]
		}
		if len(a) == 0 || len(b) == 0 {
			return len(a) == len(b)
		}
		if a[0] != b[0] {
			return false
		}
		a, b = a[1:], b[1:]
	}
}

// at is what visits came by at a place.
func (w *walks) at(p *model.Place) *passing {
	if known := w.passing[p.ID].Load(); known != nil {
		return known
	}
	x := &passing{map[string]bool{}, map[string][]string{}, map[string][]uint16{}, map[string][]uint16{}, map[uint16]*backend{}, nil}
	for _, v := range w.by[p.ID] {
		for i := range v.met {
			m := &v.met[i]
			if m.at != p.Name {
				continue
			}
			if m.lets {
				x.lets[m.line] = true
			}
			if !m.filter {
				continue
			}
			ports := x.passed
			if m.stopped {
				ports = x.stopped
			} else if m.lets {
				x.needs[m.line] = append(x.needs[m.line], m.target)
			}
			if !slices.Contains(ports[m.line], m.port) {
				ports[m.line] = append(ports[m.line], m.port)
			}
		}
		for i := range v.fronts {
			f := &v.fronts[i]
			if f.To != p.Name {
				continue
			}
			if x.fronts[f.ToPort] == nil {
				x.fronts[f.ToPort] = &backend{}
			}
			x.fronts[f.ToPort].handedBy(f, f.Site.Guard != (estate.Guard{}), f.Place)
		}
	}
	for line, list := range x.needs {
		slices.Sort(list)
		x.needs[line] = slices.Compact(list)
	}
	x.fronted = slices.Sorted(maps.Keys(x.fronts))
	w.passing[p.ID].Store(x)
	return x
}

// Needs are what is meant to get through by each line of a filter, as it is asked for.
func (x *Checked) Needs(filter string) map[string][]string {
	out := map[string][]string{}
	for _, id := range x.m.FilteredBy(filter) {
		for line, list := range x.walks.at(x.m.Places[id]).needs {
			both := append(out[line], list...)
			slices.Sort(both)
			out[line] = slices.Compact(both)
		}
	}
	return out
}
