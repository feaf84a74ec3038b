package findings

import (
	"maps"
	"slices"
	"sync"

	"steady-compass/core/carry"
	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/parallel"
	"steady-compass/core/serve"
)

// seen is something open, from one vantage.
type seen struct {
	*exposure.Open
	from string
}

// noted is something open that is no good, and the finding that it belongs to.
type noted struct {
	seen
	code, subject string
	front         *serve.Front // of a backend that is reached around it
	guarded       bool
	intent        *estate.Intent
	some          bool // the other family lets in some
}

func (n *noted) key() [2]string { return [2]string{n.code, n.subject} }

// doorway is an address at which something is open, as it is seen from a vantage.
type doorway struct {
	from string
	at   *exposure.OpenAt
}

// doorwayPart is what is wrong with what is open there.
type doorwayPart struct {
	doorway
	notes []noted
	lands []model.PlaceID // where it lands
}

// opening is what one finding is about: all that is open under a code and a subject, in the order met.
type opening struct {
	code, subject string
	seen          []seen
	front         *serve.Front
	guarded       bool
	intent        *estate.Intent
	some          bool

	finding Finding
	places  []model.PlaceID // where it lands, and the machines entered
	reads   memo.Reads      // what the finding comes of besides
	beside  bool            // and all else that is open at its place
	tried   []string        // and whether filters have these names
}

// exposed is what is open and not meant to be.
type exposed struct {
	doorways *kept[doorway, *doorwayPart]
	machines map[model.PlaceID][]noted // what each lets in from the internet in one family and not in the other
	openings carry.Map[[2]string, *opening]
	filters  map[string]bool // the names that filters have
	fronted  *exposure.Fronted
}

// expose finds what is open and not meant to be, from internet and every recorded network.
func (s *survey) expose(before *exposed, e edit) (*exposed, turn) {
	if before == nil {
		before = &exposed{}
	}
	next := &exposed{filters: before.filters, fronted: s.t.Fronted(s.fronted, before.fronted, s.walks.fronted)}
	if before.filters == nil || !estate.Same(e.before.Estate, s.m.Estate, "filter") {
		next.filters = s.filterNames()
	}
	turned := func(filter string) bool { return next.filters[filter] != before.filters[filter] }
	anew := s.placesAnew()
	keys := s.lookAround(next.fronted)
	var changes []renewed[doorway, *doorwayPart]
	next.doorways, changes = redo(s.ctx, before.doorways, keys, func(_ int, x *doorwayPart) bool { return !anew.some(x.lands) }, func(i int) *doorwayPart {
		return s.lookInto(keys[i])
	})
	if s.ctx.Err() != nil {
		return next, turn{}
	}
	again := map[[2]string]*opening{} // those to be worked out
	note := func(notes []noted) {
		for _, n := range notes {
			again[n.key()] = nil
		}
	}
	moved, entered := make(placeSet, len(s.m.Places)), map[model.PlaceID]bool{}
	for _, c := range changes {
		for _, x := range []*doorwayPart{c.old, c.now} {
			if x == nil {
				continue
			}
			note(x.notes)
			for _, id := range x.lands {
				if moved[id] = true; x.from == "internet" {
					entered[s.m.Places[id].Host] = true
				}
			}
		}
	}
	next.machines = maps.Clone(before.machines)
	if next.machines == nil {
		next.machines = map[model.PlaceID][]noted{}
	}
	for id, open := range next.entries(s.m, entered) {
		note(next.machines[id])
		next.machines[id] = s.families(s.m.Places[id], open)
		note(next.machines[id])
	}
	for key, o := range before.openings.All() {
		if slices.ContainsFunc(o.tried, turned) || anew.some(o.places) || o.beside && moved.some(o.places) || e.touch.Reading(&o.reads) {
			again[key] = nil
		}
	}
	var t turn
	gone := slices.Collect(maps.Keys(again))
	for _, key := range gone {
		if o := before.openings.Of(key); o != nil {
			t.part(ofOpenings, []*Finding{&o.finding}, nil)
		}
	}
	come := make(map[[2]string]*opening, len(again))
	for _, o := range next.workedOut(s, again) {
		come[[2]string{o.code, o.subject}] = o
		t.part(ofOpenings, nil, []*Finding{&o.finding})
	}
	next.openings = before.openings.After(gone, come)
	return next, t
}

// lookAround gives the addresses at which something is open, from each vantage in turn.
func (s *survey) lookAround(fronted *exposure.Fronted) []doorway {
	views := parallel.Map(s.ctx, len(s.m.Networks), func(i int) []*exposure.OpenAt {
		v, err := s.t.VantageNamed(s.m.Networks[i].Name)
		switch {
		case err != nil || s.m.Networks[i].Container(): // who is on one of those is recorded
			return nil
		case v.Word == "internet":
			return s.t.Parted(v, fronted)
		}
		return s.t.Beyond(v, fronted)
	})
	n := 0
	for _, at := range views {
		n += len(at)
	}
	out := make([]doorway, 0, n)
	for i, net := range s.m.Networks {
		for _, at := range views[i] {
			out = append(out, doorway{net.Name, at})
		}
	}
	return out
}

// lookInto says of all that is open at an address what is wrong with it.
func (s *survey) lookInto(d doorway) *doorwayPart {
	l := &looking{survey: s, from: d.from, meant: map[string]bool{}}
	x := &doorwayPart{doorway: d}
	lands := func(e *exposure.Open) {
		if p := s.m.PlaceNamed(e.Place); p != nil && !slices.Contains(x.lands, p.ID) {
			x.lands = append(x.lands, p.ID)
		}
	}
	for i := range d.at.Open {
		if e := &d.at.Open[i]; e.Intent != exposure.None {
			l.meant[doorKey(e)] = true
		}
	}
	for i := range d.at.Open {
		lands(&d.at.Open[i])
		l.look(&d.at.Open[i])
	}
	for i := range d.at.Hidden {
		lands(&d.at.Hidden[i])
		l.note("exposure.source-lost", &d.at.Hidden[i])
	}
	x.notes = l.notes
	return x
}

// entries is all that is open on some machines from the internet.
func (x *exposed) entries(m *model.Model, machines map[model.PlaceID]bool) map[model.PlaceID][]*exposure.Open {
	out := map[model.PlaceID][]*exposure.Open{}
	for id := range machines {
		out[id] = nil
	}
	for _, d := range x.doorways.values {
		if d.from != "internet" || !slices.ContainsFunc(d.lands, func(id model.PlaceID) bool { return machines[m.Places[id].Host] }) {
			continue
		}
		for i := range d.at.Open {
			if host := m.PlaceNamed(d.at.Open[i].Place).Host; machines[host] {
				out[host] = append(out[host], &d.at.Open[i])
			}
		}
	}
	return out
}

// workedOut are openings by all the notes of theirs.
func (x *exposed) workedOut(s *survey, wanted map[[2]string]*opening) []*opening {
	var all []*opening
	gather := func(notes []noted) {
		for _, n := range notes {
			o, want := wanted[n.key()]
			if !want {
				continue
			}
			if o == nil {
				o = &opening{code: n.code, subject: n.subject, intent: n.intent}
				wanted[n.key()] = o
				all = append(all, o)
			}
			o.takeIn(n, s.m)
		}
	}
	if len(wanted) > 0 {
		for _, d := range x.doorways.values {
			gather(d.notes)
		}
		for _, id := range slices.Sorted(maps.Keys(x.machines)) {
			gather(x.machines[id])
		}
	}
	reach := sync.OnceValue(func() reached { return x.reach() })
	parallel.Map(s.ctx, len(all), func(i int) struct{} {
		for n := range all[i].seen {
			all[i].seen[n].Open.Read(s.m, &all[i].reads)
		}
		c := opened{check{survey: *s}, all[i], reach, x.filters}
		all[i].finding = c.finding()
		return struct{}{}
	})
	return all
}

func (o *opening) takeIn(n noted, m *model.Model) {
	o.seen, o.some = append(o.seen, n.seen), o.some || n.some
	if n.code == "exposure.bypass" {
		o.front, o.guarded = n.front, o.guarded || n.guarded
	}
	for _, name := range []string{n.Place, n.Host} {
		if p := m.PlaceNamed(name); p != nil && !slices.Contains(o.places, p.ID) {
			o.places = append(o.places, p.ID)
		}
	}
}

// placeSet is a set of places; nil is the empty one.
type placeSet []bool

func (x placeSet) some(ids []model.PlaceID) bool {
	return x != nil && slices.ContainsFunc(ids, func(id model.PlaceID) bool { return x[id] })
}

// placesAnew are the places that are come by, or meant for others, as they were not before the edit.
func (s *survey) placesAnew() placeSet {
	var out placeSet
	add := func(id model.PlaceID) {
		if out == nil {
			out = make(placeSet, len(s.m.Places))
		}
		out[id] = true
	}
	for id, changed := range s.walks.changed {
		if changed {
			add(id)
		}
	}
	for id := range s.t.LandsAnew() {
		add(id)
		add(s.m.Places[id].Host)
	}
	return out
}

// reached is all that is open by the place where it lands, where that has no sites.
type reached map[string][]seen

func (x *exposed) reach() reached {
	out := reached{}
	for _, d := range x.doorways.values {
		for i := range d.at.Open {
			if e := &d.at.Open[i]; e.Site == nil {
				out[e.Place] = append(out[e.Place], seen{e, d.from})
			}
		}
	}
	return out
}

// from are the vantages that reach a port of a place.
func (r reached) from(place, transport string, port uint16) []string {
	var out []string
	for _, e := range r[place] {
		in := landed(e.Open)
		if e.Transport == transport && in.Contains(port) && !slices.Contains(out, e.from) {
			out = append(out, e.from)
		}
	}
	return out
}
