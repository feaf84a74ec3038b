package findings

import (
	"maps"
	"slices"
	"sync/atomic"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/trace"
)

// walks are the visits to everything that somebody is to reach, and what they came by.
type walks struct {
	*kept[visitKey, *visit]
	by      [][]*visit                // by place
	passing []atomic.Pointer[passing] // by place, worked out where it is asked for
	changed map[model.PlaceID]bool    // places that are come by in another way than before the edit
	fronted []model.PlaceID           // and those that something stands before on other ports
	names   []trace.Name
	visited []int32          // by visit to a name, which of names
	from    []*trace.Vantage // and from where
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
func (s *survey) walk(before *walks, e edit) *walks {
	internet, err := s.t.VantageNamed("internet")
	if err != nil {
		return &walks{}
	}
	next := &walks{names: s.t.Names()}
	var old *kept[visitKey, *visit]
	if before != nil && before.kept != nil {
		old = before.kept
	}
	keys := next.toVisit(s, before, e, &internet)
	intents := len(s.m.Intents)
	stands := func(i int, v *visit) bool {
		if i < intents {
			return !e.touch.Trace(s.m.Intents[i].Target, &v.reads)
		}
		return !e.touch.Trace(keys[i].name, &v.reads)
	}
	var changes []renewed[*visit]
	next.kept, changes = redo(s.ctx, old, keys, stands, func(i int) *visit {
		c := &visiting{check{survey: *s}, &visit{}}
		if i < intents {
			c.intent(s.m.Intents[i])
		} else {
			c.name(next.names[next.visited[i-intents]], *next.from[i-intents])
		}
		return c.done()
	})
	if s.ctx.Err() != nil {
		return &walks{}
	}
	if before == nil || !s.m.HangsTogetherAs(e.before) {
		next.indexAll(s.m)
	} else {
		next.indexAfter(s.m, before, changes)
	}
	return next
}

// toVisit is what there is to visit, intents first; those of before, where these are the same.
func (w *walks) toVisit(s *survey, before *walks, e edit, internet *trace.Vantage) []visitKey {
	if before != nil && before.kept != nil && s.m.HangsTogetherAs(e.before) && estate.Same(e.before.Estate, s.m.Estate, "intend") && sameSlice(before.names, w.names) {
		w.visited, w.from = before.visited, before.from
		return before.kept.keys
	}
	keys := make([]visitKey, 0, len(s.m.Intents)+len(w.names))
	for _, i := range s.m.Intents {
		keys = append(keys, visitKey{intent: i})
	}
	w.visited, w.from = make([]int32, 0, len(w.names)), make([]*trace.Vantage, 0, len(w.names))
	visit := func(i int, v *trace.Vantage) {
		keys, w.visited, w.from = append(keys, visitKey{name: w.names[i].Name, from: v.Word}), append(w.visited, int32(i)), append(w.from, v)
	}
	for i := range w.names {
		if len(w.names[i].From) == 0 {
			visit(i, internet)
		}
		for _, word := range w.names[i].From {
			if v, err := s.t.VantageNamed(word); err == nil {
				visit(i, &v)
			}
		}
	}
	return keys
}

// found is what all visits found.
func (w *walks) found() []*Finding {
	var out []*Finding
	for _, v := range w.values {
		out = append(out, v.found...)
	}
	at := map[string]bool{}
	for _, f := range out {
		if f.Code == "name.unresolved" {
			at[f.Subject] = true
		}
	}
	for _, v := range w.values {
		if v.unrecorded != nil && !at[v.unrecorded.Subject] {
			out = append(out, v.unrecorded)
		}
	}
	return out
}

// indexAll lists the visits by place.
func (w *walks) indexAll(m *model.Model) {
	w.by, w.passing = make([][]*visit, len(m.Places)), make([]atomic.Pointer[passing], len(m.Places))
	for _, v := range w.values {
		for _, id := range v.at {
			w.by[id] = append(w.by[id], v)
		}
	}
}

// indexAfter lists the visits by place, as before but for those that were renewed.
func (w *walks) indexAfter(m *model.Model, before *walks, changes []renewed[*visit]) {
	w.by, w.passing, w.changed = before.by, before.passing, map[model.PlaceID]bool{}
	if len(changes) == 0 {
		return
	}
	gone := map[*visit]bool{}
	come := map[model.PlaceID][]*visit{} // by every place that one came by before or after
	for _, c := range changes {
		if c.old == nil {
			c.old = &visit{}
		}
		if c.now == nil {
			c.now = &visit{}
		}
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
	at := func(v *visit) (met []lineMet, fronts []trace.Front) {
		for _, m := range v.met {
			if m.at == place {
				met = append(met, m)
			}
		}
		for _, f := range v.fronts {
			if f.To == place {
				fronts = append(fronts, f)
			}
		}
		return met, fronts
	}
	met, fronts := at(v)
	otherMet, otherFronts := at(other)
	return slices.Equal(met, otherMet) && slices.Equal(fronts, otherFronts)
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
