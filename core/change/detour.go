package change

import (
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/netset"
)

// Passing lines are put in at one step and taken out at a later one, where a change has no safe order without: a certificate that goes to
// another machine lies on both for a while; a service that cannot have its socket yet, since another has it or it speaks otherwise there, listens
// on a free one meanwhile, and what leads to it leads there.

// most detours are tried.
const mostDetours = 6

// detours are other ways to the end of a change, of whose two ends the models are: by each listener that is put in where it cannot be beside what is there.
func detours(before, after *estate.Estate, models ...*model.Model) []*draft {
	var out []*draft
	for i, e := range apart(before, after).edits {
		l, is := e.in.(*estate.Listen)
		if !is || l.Off || l.Bind.Any || l.Bind.Count() != 1 || l.Bind.Transport != netset.TCP || e.out == nil && !held(before, l) {
			continue
		}
		standing := there(l, before, after)
		for n, port := range append(standing, freeFor(l, models)) {
			d := apart(before, after)
			if d.detour(i, l, port, n < len(standing), models) {
				out = append(out, d)
				break
			}
		}
		if len(out) == mostDetours {
			break
		}
	}
	return out
}

// held says whether another listener has the socket of one.
func held(e *estate.Estate, l *estate.Listen) bool {
	return slices.ContainsFunc(of[*estate.Listen](e), func(o *estate.Listen) bool {
		return o.Place == l.Place && !o.Off && o.Bind.Transport&l.Bind.Transport != 0 && o.Bind.Set().Contains(l.Bind.Ranges[0].Lo)
	})
}

// there are the ports of listeners of the same service that are to go: one of them may stand in for it already, where the step is made that put
// it in.
func there(l *estate.Listen, before, after *estate.Estate) (ports []uint16) {
	for _, o := range of[*estate.Listen](before) {
		if o.Place == l.Place && o.Service == l.Service && o.TLS == l.TLS && !o.Off && !o.Bind.Any && o.Bind.Count() == 1 && o.Bind.Transport == l.Bind.Transport && !after.Has(estate.Line(o)) && o.Bind.Ranges[0].Lo != l.Bind.Ranges[0].Lo {
			ports = append(ports, o.Bind.Ranges[0].Lo)
		}
	}
	return ports
}

// freeFor is the next port above a listener's that nothing has in some models; 0 for none.
func freeFor(l *estate.Listen, models []*model.Model) uint16 {
	free := netset.AllPorts()
	for _, m := range models {
		if p := m.PlaceNamed(l.Place); p != nil {
			free = free.Subtract(m.TakenPorts(p, l.Bind.Addr, l.Bind.Transport))
		}
	}
	for _, r := range free.Ranges() {
		if above := l.Bind.Ranges[0].Lo; r.Hi > above {
			return max(r.Lo, above+1)
		}
	}
	return 0
}

// detour has a listener on another port for a while, and what the change leads to it; where it is there already, only that. It is none where
// nothing in the change leads there.
func (d *draft) detour(i int, l *estate.Listen, port uint16, already bool, models []*model.Model) bool {
	if port == 0 {
		return false
	}
	found := false
	for j, e := range slices.Clone(d.edits) {
		if by := ledTo(&e, l, port, models); j != i && by != nil && estate.Line(by) != estate.Line(e.out) {
			d.split(j, by)
			found = true
		}
	}
	if !found {
		return false
	}
	if already {
		d.settle()
		return true
	}
	kind := estate.KindOf(l)
	for at, s := range d.lists[kind] { // beside the one that it stands in for
		if s.in == i {
			passing := estate.With(l, func(n *estate.Listen) { n.Bind.Ports = portOnly(n.Bind.Ports, port) })
			d.lists[kind] = slices.Insert(d.lists[kind], at, slot{passing, len(d.edits), len(d.edits) + 1})
			d.edits = append(d.edits, edit{in: passing}, edit{out: passing})
			break
		}
	}
	d.settle()
	return true
}

// ledTo is what an edit brings that leads to a listener, led to another port of its place; nil where it does not.
func ledTo(e *edit, l *estate.Listen, port uint16, models []*model.Model) estate.Record {
	to := l.Bind.Ranges[0].Lo
	at := func(host string, addr netip.Addr) bool {
		return slices.ContainsFunc(models, func(m *model.Model) bool { return isAt(m, l.Place, host, addr) })
	}
	switch r := e.in.(type) {
	case *estate.Site:
		if e.out != nil && r.To.Port == to && at(r.To.Host, r.To.Addr) {
			return estate.With(r, func(n *estate.Site) { n.To.Port = port })
		}
	case *estate.Forward:
		if e.out == nil || r.Bind.Any || r.Bind.Count() != 1 || !at("", r.To.Addr) {
			return nil
		}
		if r.To.Kept() && r.Bind.Ranges[0].Lo == to || r.To.Ports.Count() == 1 && r.To.Ports.Ranges[0].Lo == to {
			return estate.With(r, func(n *estate.Forward) { n.To.Ports = portOnly(r.Bind.Ports, port) })
		}
	}
	return nil
}

// isAt says whether the host part of a target is a place: its address, its name, a name of DNS that answers its address to everybody, or, of a
// container, what it is called on its machine. Of other words the trial has none, and the change no detour by them.
func isAt(m *model.Model, place, host string, addr netip.Addr) bool {
	owned := func(a netip.Addr) bool {
		return slices.ContainsFunc(m.Owners(a), func(h model.Holding) bool { return m.Places[h.Place].Name == place })
	}
	if addr.IsValid() {
		return owned(addr)
	}
	if !strings.Contains(host, ".") {
		_, inside, _ := strings.Cut(place, "/")
		return host != "" && (host == place || host == inside)
	}
	v6, v4 := m.Names.Addresses(host, m.AskerAt(model.Nowhere, model.Internet))
	return slices.ContainsFunc(append(v6.Addresses, v4.Addresses...), func(a names.Address) bool { return owned(a.Addr) })
}

func portOnly(p estate.Ports, port uint16) estate.Ports {
	return estate.Ports{Ranges: []netset.PortRange{{Lo: port, Hi: port}}, Transport: p.Transport}
}

// split makes two edits of one: the old line gives way to a passing one, and that to the new one.
func (d *draft) split(j int, passing estate.Record) {
	now := len(d.edits)
	d.edits = append(d.edits, edit{out: passing, in: d.edits[j].in})
	d.edits[j].in = passing
	kind := estate.KindOf(passing)
	for n, s := range d.lists[kind] {
		if s.in == j {
			d.lists[kind][n].in = now
			d.lists[kind] = slices.Insert(d.lists[kind], n, slot{passing, j, now})
			return
		}
	}
}
