package model

import (
	"maps"
	"slices"

	"steady-compass/core/estate"
)

// Recompile compiles an estate that came of the model's own by an edit. It is what Compile makes of it; but what no changed
// line speaks of is shared with the model, so that a line is compiled in the time that its machine takes.
func (m *Model) Recompile(e *estate.Estate) *Model {
	switch {
	case m.manyOther(e):
		return Compile(e)
	case !estate.Same(m.Estate, e, structural...):
		if m.onlyOther(e, standing) {
			return m.stoodAnew(e)
		}
		return Compile(e)
	}
	next := *m
	next.Estate = e
	x := m.partOf(e)
	next.Places, next.Services, next.matches = slices.Clone(m.Places), maps.Clone(m.Services), maps.Clone(m.matches)
	anew := func(id PlaceID) *Place {
		if next.Places[id] == m.Places[id] {
			p := *m.Places[id]
			next.Places[id] = &p
		}
		return next.Places[id]
	}
	for kind, machines := range x.machines {
		for id := range machines {
			switch p := anew(id); kind {
			case "forward":
				p.Forwards = nil
			case "outbound":
				p.Outbounds = nil
			case "map":
				p.Maps = nil
			case "filter":
				p.Filters = [5][]*Filter{}
			case "rule":
				for hook, list := range p.Filters {
					p.Filters[hook] = slices.Clone(list)
				}
			}
		}
	}
	next.compileLines(x)
	for id := range x.machines["listen"] {
		next.listensAnew(next.Places[id], m.Estate)
	}
	next.servicesAnew(x.services, m)
	if !estate.Same(m.Estate, e, "cert", "pool", "member", "tunnel", "intend") {
		next.compileLists()
	}
	next.compileOff(func(k *estate.Kind) bool {
		gone, come := estate.Changed(m.Estate, e, k)
		return slices.ContainsFunc(slices.Concat(gone, come), func(r estate.Record) bool { return r.Meta().Off })
	})
	if !estate.Same(m.Estate, e, "zone", "dns", "name") {
		next.Names = m.Names.After(e, next.holdsOnInternet)
	}
	return &next
}

// mostAnew is how many lines an edit may change to be compiled line by line; with more it is quicker to compile all anew.
const mostAnew = 256

// manyOther says whether an estate has more other lines than are compiled one by one.
func (m *Model) manyOther(e *estate.Estate) bool {
	n := 0
	for _, k := range estate.Kinds {
		gone, come := estate.Changed(m.Estate, e, k)
		if n += len(gone) + len(come); n > mostAnew {
			return true
		}
	}
	return false
}

// standing are the kinds of records that say at which addresses machines stand, and which ways they take: where only these change, machines,
// networks and groups are the same ones.
var standing = []string{"address", "route"}

// onlyOther says whether nothing is other in an estate but lines of some kinds.
func (m *Model) onlyOther(e *estate.Estate, kinds []string) bool {
	return !slices.ContainsFunc(estate.Kinds, func(k *estate.Kind) bool {
		return !slices.Contains(kinds, k.Word) && !estate.Same(m.Estate, e, k.Word)
	})
}

// stoodAnew compiles an estate in which machines stand at other addresses or take other ways. What names nothing that stands for other addresses
// now is kept.
func (m *Model) stoodAnew(e *estate.Estate) *Model {
	next := hanging(e)
	moved := next.movedSince(m)
	of := func(kind string, selectors func(estate.Record) []estate.Selector) bool {
		return slices.ContainsFunc(e.Of(estate.KindNamed(kind)), func(r estate.Record) bool { return slices.ContainsFunc(selectors(r), moved) })
	}
	x := part{before: m.Places, filters: map[string]bool{}, kinds: map[string]bool{
		"filter":   true,
		"forward":  of("forward", func(r estate.Record) []estate.Selector { return r.(*estate.Forward).From }),
		"outbound": of("outbound", func(r estate.Record) []estate.Selector { return r.(*estate.Outbound).From }),
		"map":      slices.ContainsFunc(next.Places, func(p *Place) bool { return p.IsContainer() && moved(estate.Selector{Name: p.Name}) }),
	}}
	for _, r := range e.Of(estate.KindNamed("rule")) {
		rule := r.(*estate.Rule)
		if !x.filters[rule.Filter] && (slices.ContainsFunc(rule.From, moved) || slices.ContainsFunc(rule.To, moved)) {
			x.filters[rule.Filter] = true
		}
	}
	if len(x.filters) > 0 {
		x.rules = e.Of(estate.KindNamed("rule"))
	}
	for i, p := range next.Places {
		old := m.Places[i]
		p.Sockets = old.Sockets
		if !x.kinds["map"] {
			p.Maps = old.Maps
		}
		if !x.kinds["forward"] {
			p.Forwards = old.Forwards
		}
		if !x.kinds["outbound"] {
			p.Outbounds = old.Outbounds
		}
	}
	next.compileLines(x)
	if next.Services = m.Services; of("site", func(r estate.Record) []estate.Selector { return r.(*estate.Site).Sources }) {
		next.Services = make(map[string]*Service, len(m.Services))
		for name, old := range m.Services {
			next.Services[name] = &Service{Name: name, Listens: old.Listens}
		}
		next.compileSites(func(string) bool { return true })
	}
	next.Certs, next.CertList, next.CertsAt, next.CertsFor = m.Certs, m.CertList, m.CertsAt, m.CertsFor
	next.Pools, next.Members, next.Tunnels, next.Intents = m.Pools, m.Members, m.Tunnels, m.Intents
	next.off = m.off
	next.compileOff(func(k *estate.Kind) bool { return slices.Contains(standing, k.Word) })
	next.Names = m.Names.After(e, next.holdsOnInternet)
	return next
}

// movedSince says of selectors whether they stand for other addresses than in a model with the same machines, networks and groups.
func (m *Model) movedSince(before *Model) func(estate.Selector) bool {
	moved := map[string]bool{}
	for i, p := range m.Places {
		if old := before.Places[i]; !slices.EqualFunc(m.Places[p.Namespace].Attachments, before.Places[old.Namespace].Attachments, sameAttachment) {
			moved[p.Name] = true
		}
	}
	anyMoved, internet := len(moved) > 0, !m.Internet.Equal(before.Internet)
	stands := func(s estate.Selector) bool {
		switch s.Word {
		case "internet":
			return internet
		case "on-link":
			return anyMoved
		}
		return moved[s.Name]
	}
	for grown := anyMoved || internet; grown; {
		grown = false
		for name, members := range m.groups {
			if !moved[name] && slices.ContainsFunc(members, stands) {
				moved[name], grown = true, true
			}
		}
	}
	return stands
}

// sameAttachment says whether two attachments stand for the same addresses.
func sameAttachment(a, b Attachment) bool {
	return a.Net == b.Net && a.Unknown == b.Unknown && a.Gateway == b.Gateway && slices.Equal(a.Addrs, b.Addrs) && slices.Equal(a.Blocks, b.Blocks)
}

// structural are the kinds of records that say how machines hang together: where one of these changes, all is compiled anew.
var structural = []string{"network", "host", "address", "route", "group", "container"}

// HangsTogetherAs says whether machines hang together as in another model: then places and networks have the same numbers.
func (m *Model) HangsTogetherAs(other *Model) bool {
	return estate.Same(m.Estate, other.Estate, structural...)
}

// partOf is the part of the model that changed lines speak of.
func (m *Model) partOf(e *estate.Estate) part {
	x := part{kinds: map[string]bool{}, machines: map[string]map[PlaceID]bool{}, services: map[string]bool{}, filters: map[string]bool{}, before: m.Places}
	at := func(kind string, p *Place) {
		x.kinds[kind] = true
		if p == nil {
			return
		}
		if x.machines[kind] == nil {
			x.machines[kind] = map[PlaceID]bool{}
		}
		x.machines[kind][p.Namespace] = true
	}
	for _, k := range estate.Kinds {
		gone, come := estate.Changed(m.Estate, e, k)
		for _, r := range slices.Concat(gone, come) {
			switch r := r.(type) {
			case *estate.Forward:
				at("forward", m.PlaceNamed(r.Router))
			case *estate.Outbound:
				at("outbound", m.PlaceNamed(r.Router))
			case *estate.Map:
				at("map", m.hostOf(r))
			case *estate.Listen:
				at("listen", m.PlaceNamed(r.Place))
				x.services[r.Service] = true
			case *estate.Site:
				x.services[r.Service] = true
			case *estate.Filter:
				x.filters[r.Name] = true
			case *estate.Rule:
				x.filters[r.Filter] = true
			}
		}
	}
	if len(x.filters) == 0 {
		return x
	}
	if estate.Same(m.Estate, e, "filter") {
		x.rules = estate.GroupsChanged(m.Estate, e, estate.KindNamed("rule"))
		wanted := estate.OneOf(x.filters)
		anew := func(f *Filter) bool { return wanted(f.Record.Name) }
		for _, p := range m.Places {
			if slices.ContainsFunc(p.Filters[:], func(list []*Filter) bool { return slices.ContainsFunc(list, anew) }) {
				at("rule", p)
			}
		}
		return x
	}
	x.rules = e.Of(estate.KindNamed("rule"))
	for _, of := range []*estate.Estate{m.Estate, e} {
		for _, r := range of.Of(estate.KindNamed("filter")) {
			if f := r.(*estate.Filter); x.filters[f.Name] {
				for _, p := range m.machines(f.On) {
					at("filter", p)
				}
			}
		}
	}
	return x
}

// compileRulesAnew gives filters their rules that stand where they stood.
func (m *Model) compileRulesAnew(x part) {
	build := m.building(x)
	for id := range x.machines["rule"] {
		p := m.Places[id]
		for hook := range p.Filters {
			for i, f := range p.Filters[hook] {
				if x.filters[f.Record.Name] {
					p.Filters[hook][i] = build(f.Record, p)
				}
			}
		}
	}
}

// listensAnew gives a place the sockets that it has after an edit.
func (m *Model) listensAnew(namespace *Place, before *estate.Estate) {
	names := map[string]bool{namespace.Name: true}
	for _, id := range m.Places[namespace.Host].Containers {
		if c := m.Places[id]; c.Namespace == namespace.ID {
			names[c.Name] = true
		}
	}
	here := estate.OneOf(names)
	namespace.Sockets = spliced(namespace.Sockets, before, m.Estate, func(s Socket) *estate.Listen { return s.Record }, func(r *estate.Listen) (Socket, bool) {
		if r.Off || !here(r.Place) {
			return Socket{}, false
		}
		return socket(r, m.PlaceNamed(r.Place)), true
	})
}

// servicesAnew makes services that the edit speaks of as they are now.
func (m *Model) servicesAnew(names map[string]bool, before *Model) {
	sites := map[string]bool{} // the services whose sites are to be found
	sameListens := estate.Same(before.Estate, m.Estate, "listen")
	for name := range names {
		old := before.Services[name]
		if old == nil {
			old = &Service{}
		}
		next := &Service{Name: name, Listens: old.Listens}
		if !sameListens {
			next.Listens = spliced(old.Listens, before.Estate, m.Estate, func(r *estate.Listen) *estate.Listen { return r }, func(r *estate.Listen) (*estate.Listen, bool) {
				return r, !r.Off && r.Service == name
			})
		}
		delete(m.Services, name)
		if len(next.Listens) == 0 {
			continue
		}
		m.Services[name] = next
		if len(old.Listens) > 0 && estate.Same(before.Estate, m.Estate, "site") {
			next.Sites, next.byName, next.defaults, next.ByAddress, next.Closed = old.Sites, old.byName, old.defaults, old.ByAddress, old.Closed
		} else {
			sites[name] = true
		}
	}
	if len(sites) > 0 {
		m.compileSites(estate.OneOf(sites))
	}
}

// spliced is a list of what some of the listeners in force give, in their order, after an edit: record is the one that something
// in the list comes of, and made what one gives, if it is one of those.
func spliced[T any](old []T, before, after *estate.Estate, record func(T) *estate.Listen, made func(*estate.Listen) (T, bool)) []T {
	k := estate.KindNamed("listen")
	gone, come := estate.Changed(before, after, k)
	var here []T
	for _, r := range come {
		if x, ok := made(r.(*estate.Listen)); ok {
			here = append(here, x)
		}
	}
	belongs := func(r estate.Record) bool {
		_, ok := made(r.(*estate.Listen))
		return ok
	}
	at := func(r estate.Record) int { return slices.IndexFunc(old, func(x T) bool { return record(x) == r }) }
	from, n := 0, 0
	for _, r := range gone {
		if belongs(r) {
			if n == 0 {
				from = at(r)
			}
			n++
		}
	}
	if n == 0 { // they come behind the last one that stays before them
		start, _ := estate.Shared(before, after, k)
		list := before.Of(k)[:start]
		for len(list) > 0 && !belongs(list[len(list)-1]) {
			list = list[:len(list)-1]
		}
		if len(list) > 0 {
			from = at(list[len(list)-1]) + 1
		}
	}
	return slices.Concat(old[:from], here, old[from+n:])
}
