package exposure

import (
	"maps"
	"net/netip"
	"slices"

	"steady-compass/core/carry"
	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/netset"
	"steady-compass/core/say"
	"steady-compass/core/serve"
)

// landsAt is where an entry lands: the listener's place that first takes it, and the site.
type landsAt struct {
	place model.PlaceID
	proto netset.Transport
	site  string
}

// meant is who may reach what lands at a key, by all the intents that land there.
type meant struct {
	audience netset.Addrs
	places   map[model.PlaceID]bool // containers without a written address
	anyone   bool
	records  []*estate.Intent
}

// landings are where every intent lands and for whom.
type landings struct {
	intents []*estate.Intent
	of      []*landed // by intent
	at      carry.Map[landsAt, map[uint16]*meant]
	places  []int32                // by place, how many of at
	changed map[model.PlaceID]bool // where somebody else is meant to get to than before the edit
}

// landed is where an intent lands.
type landed struct {
	spots []spot
	reads memo.Reads
	known map[spot]bool // of spots, while many come
}

func (x *landed) add(s spot) {
	switch {
	case x.known == nil && len(x.spots) < 16:
		if slices.Contains(x.spots, s) {
			return
		}
	case x.known == nil:
		x.known = map[spot]bool{}
		for _, old := range x.spots {
			x.known[old] = true
		}
		fallthrough
	default:
		if x.known[s] {
			return
		}
		x.known[s] = true
	}
	x.spots = append(x.spots, s)
}

// spot is a port of something that an intent lands at.
type spot struct {
	landsAt
	port uint16
}

// intended builds, once, where every intent lands and for whom.
func (t *Engine) intended() *landings {
	t.landOnce.Do(func() {
		before := &landings{}
		if t.was != nil {
			if known := t.was.landings.Load(); known != nil {
				before = known
			}
		}
		next := &landings{t.Model.Intents, make([]*landed, len(t.Model.Intents)), before.at, before.places, map[model.PlaceID]bool{}}
		anew := map[landsAt]bool{}
		goes := func(x *landed) {
			for _, s := range x.spots {
				anew[s.landsAt] = true
			}
		}
		was, gone := before.among(next.intents)
		for n, i := range next.intents {
			old := was(n)
			if old != nil && !t.Touch().Reading(&old.reads) {
				next.of[n] = old
				continue
			}
			now := t.landIntent(i)
			next.of[n] = now
			if old == nil {
				goes(now)
			} else if !slices.Equal(old.spots, now.spots) {
				goes(old)
				goes(now)
			}
		}
		for _, old := range gone {
			goes(old)
		}
		if len(anew) > 0 || before.places == nil {
			next.meantAnew(t.Model, before, anew)
		}
		t.landings.Store(next)
	})
	return t.landings.Load()
}

// among holds some intents against those that are known: it gives where each landed, by its index, nil for one that is not known;
// and where those landed that are not among them.
func (x *landings) among(intents []*estate.Intent) (was func(n int) *landed, gone []*landed) {
	start, end := carry.Ends(intents, x.intents, func(a, b *estate.Intent) bool { return a == b })
	here, there := intents[start:len(intents)-end], x.intents[start:len(x.intents)-end]
	for n, i := range there {
		if !slices.Contains(here, i) {
			gone = append(gone, x.of[start+n])
		}
	}
	return func(n int) *landed {
		switch {
		case n < start:
			return x.of[n]
		case n >= len(intents)-end:
			return x.of[n-len(intents)+len(x.intents)]
		}
		if at := slices.Index(there, intents[n]); at >= 0 {
			return x.of[start+at]
		}
		return nil
	}, gone
}

// meantAnew works out for some of what intents land at who is meant to get there.
func (x *landings) meantAnew(m *model.Model, before *landings, anew map[landsAt]bool) {
	at := make([]bool, len(m.Places)) // the places of these
	for k := range anew {
		x.changed[k.place], at[k.place] = true, true
	}
	come := map[landsAt]map[uint16]*meant{}
	for n, i := range x.intents {
		for _, s := range x.of[n].spots {
			if at[s.place] && anew[s.landsAt] {
				note(come, m, s, i)
			}
		}
	}
	if x.places = slices.Clone(before.places); x.places == nil {
		x.places = make([]int32, len(m.Places))
	}
	for k := range anew {
		if _, was := before.at.Get(k); was {
			x.places[k.place]--
		}
		if come[k] != nil {
			x.places[k.place]++
		}
	}
	x.at = before.at.After(slices.Collect(maps.Keys(anew)), come)
}

// lands says whether some intent lands at a place.
func (x *landings) lands(place model.PlaceID) bool { return x.places[place] > 0 }

// meantAt is what intents say of a site, or of a listener without any, on a port; nil where none lands there.
func (t *Engine) meantAt(place model.PlaceID, port uint16, proto netset.Transport, site string) *meant {
	return t.intended().at.Of(landsAt{place, proto, site})[port]
}

// note notes an intent where it lands.
func note(at map[landsAt]map[uint16]*meant, of *model.Model, s spot, i *estate.Intent) {
	byPort := at[s.landsAt]
	if byPort == nil {
		byPort = map[uint16]*meant{}
		at[s.landsAt] = byPort
	}
	m := byPort[s.port]
	if m == nil {
		m = &meant{places: map[model.PlaceID]bool{}}
		byPort[s.port] = m
	}
	if slices.Contains(m.records, i) {
		return
	}
	m.records = append(m.records, i)
	for _, s := range i.For {
		switch {
		case s.Word == "internet":
			m.anyone = true
		case s.Word == "nobody":
		default:
			match := of.Selected(s)
			m.audience = netset.Union(m.audience, match.Set)
			for _, f := range match.Float {
				m.places[f] = true
			}
		}
	}
}

// landIntent finds where the ways that an intent names land, from its audience.
func (t *Engine) landIntent(i *estate.Intent) *landed {
	out := &landed{}
	out.reads.Asked(i.Target)
	var vantages []string
	for _, s := range i.For {
		if s.Word != "nobody" {
			vantages = append(vantages, s.String())
		}
	}
	if len(vantages) == 0 {
		vantages = []string{"internet"}
		for _, n := range t.Model.Networks[1:] {
			vantages = append(vantages, n.Name)
		}
	}
	keys := serve.KeysOf(i.Ports)
	if p := t.Model.PlaceNamed(i.Target); p != nil {
		t.landPlace(out, i, p)
	}
	for _, word := range vantages {
		v, err := t.VantageNamed(word)
		if err != nil {
			continue
		}
		for _, o := range v.Origins {
			for _, d := range t.meantDests(i, o, &out.reads) {
				if len(keys) == 0 {
					t.landWide(out, i, o, d)
					continue
				}
				for _, k := range keys {
					g := flow.Goal{Diagnose: true, Place: model.Nowhere, Port: k.Port}
					name := ""
					if t.Model.PlaceNamed(i.Target) == nil && !IsIP(i.Target) {
						name = i.Target
					}
					t.Aim(&g, serve.Question{Request: serve.Request{Name: name, Port: k.Port}, Place: t.Model.PlaceNamed(i.Target)}, i, &out.reads)
					flow := t.Delivery(o, d, k, g)
					out.reads.And(&flow.Reads)
					for n := range flow.Landings {
						if l := &flow.Landings[n]; l.Socket != nil && !l.Moved {
							t.landService(out, l.Socket, l.Port(), k.Transport, name)
						}
					}
				}
			}
		}
	}
	out.known = nil
	return out
}

func IsIP(text string) bool { _, err := netip.ParseAddr(text); return err == nil }

// landPlace is an intent for a place: its own listeners on those ports, at every address it holds.
func (t *Engine) landPlace(out *landed, i *estate.Intent, p *model.Place) {
	out.reads.Place(p.ID)
	out.reads.Place(p.Namespace)
	namespace := t.Model.Places[p.Namespace]
	for n := range namespace.Sockets {
		s := &namespace.Sockets[n]
		if s.Place != p.ID && p.IsContainer() {
			continue
		}
		both := s.Ports.Intersect(i.Ports.Set())
		for _, proto := range (s.Record.Bind.Transport & i.Ports.Transport).Each() {
			for _, r := range both.Ranges() {
				for port := int(r.Lo); port <= int(r.Hi); port++ {
					t.landService(out, s, uint16(port), proto, "")
				}
			}
		}
	}
}

// landWide is an intent for so many ports that they are tried as one set.
func (t *Engine) landWide(out *landed, i *estate.Intent, o flow.Origin, d flow.Dest) {
	for _, proto := range i.Ports.Transport.Each() {
		w := o.Start(proto, i.Ports.Set())
		w.Dst, w.Reads = d, &out.reads
		for _, l := range t.Deliver(o, w, flow.Goal{Place: model.Nowhere}) {
			if l.Socket == nil {
				continue
			}
			for _, r := range l.Ports.Ranges() {
				for port := int(r.Lo); port <= int(r.Hi); port++ {
					t.landService(out, l.Socket, uint16(port), proto, "")
				}
			}
		}
	}
}

// landService notes an intent at a listener: at the site that the name picks, or at all of them
// where the intent names the place.
func (t *Engine) landService(out *landed, s *model.Socket, port uint16, proto netset.Transport, name string) {
	service := t.Model.Service(s.Record.Service)
	out.reads.Service(service.Name)
	note := func(site string) { out.add(spot{landsAt{s.Place, proto, site}, port}) }
	if len(service.Sites) == 0 {
		note("")
		return
	}
	at := serve.Endpoint{Service: service, Port: port}
	if name == "" {
		for _, site := range at.Sites() {
			note(site.Name)
		}
		note("*")
		return
	}
	group, how := at.Pick(name, s.Record)
	if len(group) > 0 {
		if how == serve.ByDefault {
			note("*")
		} else {
			note(group[0].Name)
		}
	}
}

// meantDests are where an intent's target is or, while its name leads to nobody of ours, should be.
func (t *Engine) meantDests(i *estate.Intent, o flow.Origin, reads *memo.Reads) []flow.Dest {
	found := t.destsOf(i.Target, o, reads)
	if o.Place == model.Nowhere && o.Net == model.Internet {
		found = slices.DeleteFunc(found, func(d flow.Dest) bool { return !netset.GloballyReachable().Contains(d.Addr) })
	}
	ours := slices.ContainsFunc(found, func(d flow.Dest) bool {
		return d.Float != model.Nowhere || len(t.Model.Owners(d.Addr)) > 0 || t.routedToUs(d.Addr)
	})
	if ours || len(i.Ports.Ranges) == 0 || t.Model.PlaceNamed(i.Target) != nil {
		return found
	}
	g := flow.Goal{Place: model.Nowhere}
	port, proto := i.Ports.Ranges[0].Lo, i.Ports.Transport.Each()[0]
	t.Aim(&g, serve.Question{Request: serve.Request{Name: i.Target, Port: port}}, i, reads)
	if a, ok := t.PublicAddress(g, o, port, proto, false); ok {
		return []flow.Dest{flow.ToAddr(a)}
	}
	return found
}

func (t *Engine) routedToUs(a netip.Addr) bool { _, ok := t.Model.BlockOf(a); return ok }

// destsOf are where a name, address or place is, seen from an origin.
func (t *Engine) destsOf(target string, o flow.Origin, reads *memo.Reads) []flow.Dest {
	if a, err := netip.ParseAddr(target); err == nil {
		return []flow.Dest{flow.ToAddr(a.Unmap())}
	}
	var out []flow.Dest
	if p := t.Model.PlaceNamed(target); p != nil {
		namespace := t.Model.Places[p.Namespace]
		for _, attachment := range namespace.Attachments {
			for _, a := range attachment.Addrs {
				out = append(out, flow.ToAddr(a))
			}
			if namespace.IsContainer() && attachment.Float() && t.BesideOrigin(o, attachment.Net) {
				out = append(out, flow.Dest{Float: namespace.ID, Net: attachment.Net, Name: namespace.Name})
			}
		}
		return out
	}
	v6, v4 := t.Model.Names.Addresses(target, t.Asker(o))
	reads.Asked(slices.Concat(v6.Chain, v4.Chain)...)
	for _, answer := range []names.Answer{v6, v4} {
		for _, found := range answer.Addresses {
			if found.Addr.IsValid() {
				out = append(out, flow.ToAddr(found.Addr))
			}
		}
	}
	return out
}

// covered says whether intents admit an entry's sources: all of them, some or none.
func (t *Engine) covered(e *Open, v *flow.Vantage) Covered {
	p := t.Model.PlaceNamed(e.Place)
	m := t.meantAt(p.ID, e.Port, flow.ProtoOf(e.Transport), say.OrEmpty(e.Site))
	if m == nil {
		return None
	}
	e.Meant = m.records
	if m.anyone {
		return Declared
	}
	set := e.set
	if set.IsEmpty() { // a container without a written address
		for _, o := range v.Origins {
			if o.Place != model.Nowhere && m.places[o.Place] {
				return Declared
			}
			if o.Place != model.Nowhere {
				for _, attachment := range t.Model.Places[o.Place].Attachments {
					if m.audience.Covers(t.Model.Networks[attachment.Net].Set) {
						return Declared
					}
				}
			}
		}
		return None
	}
	switch {
	case m.audience.Covers(set):
		return Declared
	case m.audience.Overlaps(set):
		return Partial
	}
	return None
}

// LandsAnew are the places that others are meant to get to than before the edit that the tracer came of.
func (t *Engine) LandsAnew() map[model.PlaceID]bool { return t.intended().changed }

// Lands says whether an intent that names the place itself, or a way to it, lands at a place.
func (t *Engine) Lands(place string) bool {
	p := t.Model.PlaceNamed(place)
	if p == nil {
		return false
	}
	return t.intended().lands(p.ID)
}
