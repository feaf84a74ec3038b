package findings

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/trace"
)

// claim is a range of ports of a stack that a listener or map takes, for one transport.
type claim struct {
	bind   netip.Addr // as written: invalid for every address
	ports  netset.PortRange
	proto  netset.Transport
	listen *estate.Listen
	mapped *estate.Map
}

// conflicts finds ports that two claim: listeners, maps, or one of each.
func (c *check) conflicts() {
	for _, p := range c.m.Places {
		var claims []claim
		for i := range p.Sockets {
			s := &p.Sockets[i]
			for _, proto := range s.Record.Bind.Transport.Each() {
				for _, r := range s.Ports.Ranges() {
					claims = append(claims, claim{bind: s.Record.Bind.Addr, ports: r, proto: proto, listen: s.Record})
				}
			}
		}
		for _, mp := range p.Maps {
			for _, proto := range mp.Record.Bind.Transport.Each() {
				for _, r := range mp.Ports.Ranges() {
					claims = append(claims, claim{bind: mp.Record.Bind.Addr, ports: r, proto: proto, mapped: mp.Record})
				}
			}
		}
		c.clashes(p, claims)
	}
}

// clashes sweeps over the claims in the order of their first ports.
func (c *check) clashes(p *model.Place, claims []claim) {
	slices.SortStableFunc(claims, func(a, b claim) int { return cmp.Compare(a.ports.Lo, b.ports.Lo) })
	for i, a := range claims {
		for _, b := range claims[i+1:] {
			if b.ports.Lo > a.ports.Hi {
				break
			}
			if a.proto == b.proto && bindsMeet(a.bind, b.bind) && !together(a, b) {
				c.clash(p, a, b, netset.PortRange{Lo: b.ports.Lo, Hi: min(a.ports.Hi, b.ports.Hi)})
			}
		}
	}
}

// bindsMeet says whether two bound addresses have one in common. An unspecified address is every one of its
// family.
func bindsMeet(a, b netip.Addr) bool {
	switch {
	case !a.IsValid() || !b.IsValid():
		return true
	case a.Is6() != b.Is6():
		return false
	case a.IsUnspecified() || b.IsUnspecified():
		return true
	}
	return a == b
}

// together says whether two claims share a port on purpose, or are one.
func together(a, b claim) bool {
	switch {
	case a.listen != nil && b.listen != nil:
		return a.listen.Service == b.listen.Service && a.listen.Place == b.listen.Place || a.listen.Shared && b.listen.Shared
	case a.mapped != nil && b.mapped != nil:
		return a.mapped == b.mapped
	}
	return false
}

func (c *check) clash(p *model.Place, a, b claim, ports netset.PortRange) {
	subject := fmt.Sprintf("%s:%s/%s", p.Name, ports, a.proto)
	f := Finding{Subject: subject, Clash: &Clash{p.Name, a.proto, ports}, Trace: &Where{fmt.Sprintf("%s:%d", p.Name, ports.Lo), "internet"}}
	port := fmt.Sprintf("%s %s/%s", p.Name, ports, a.proto)
	switch {
	case a.listen != nil && b.listen != nil:
		first, second := inOrder(c.m.Estate, a.listen, b.listen)
		f.Code, f.Records = "conflict.socket", lines(first, second)
		f.Why = fmt.Sprintf("%s is listened on by %s and by %s; only one of them can start.", port, first.Service, second.Service)
		f.Mend = trace.MendSockets(first, second)
	case a.mapped != nil && b.mapped != nil:
		first, second := inOrder(c.m.Estate, a.mapped, b.mapped)
		f.Code, f.Records = "conflict.map", lines(first, second)
		f.Why = fmt.Sprintf("%s is mapped to %s and to %s; %s gets it, and %s does not start.", port, short(first), short(second), short(first), short(second))
		f.Mend = c.moveMap(p, second, ports)
	default:
		l, m := a.listen, b.mapped
		if l == nil {
			l, m = b.listen, a.mapped
		}
		f.Code, f.Records = "conflict.map-socket", lines(m, l)
		f.Why = fmt.Sprintf("%s is mapped to %s, and %s listens on it; from outside %s gets it.", port, short(m), l.Service, short(m))
		f.Mend = &trace.Mend{Remove: lines(l), Add: lines(estate.With(l, func(x *estate.Listen) { x.Off = true }))}
	}
	c.add(f)
}

// inOrder gives two records of a kind in the order in which they are written.
func inOrder[T estate.Record](e *estate.Estate, a, b T) (T, T) {
	for _, r := range e.Of(estate.KindOf(a)) {
		if r == estate.Record(a) {
			return a, b
		}
		if r == estate.Record(b) {
			return b, a
		}
	}
	return a, b
}

func short(m *estate.Map) string {
	for i := range m.Container {
		if m.Container[i] == '/' {
			return m.Container[i+1:]
		}
	}
	return m.Container
}

// moveMap takes the ports of a map that another has already to the next that are free on its machine; its
// other ports stay.
func (c *check) moveMap(p *model.Place, m *estate.Map, clash netset.PortRange) *trace.Mend {
	if m.Bind.Any {
		return nil
	}
	taken := c.m.TakenPorts(p, m.Bind.Transport)
	free := netset.PortRange{}
	for lo := int(clash.Hi) + 1; lo+clash.Len()-1 <= netset.MaxPort; lo++ {
		free = netset.PortRange{Lo: uint16(lo), Hi: uint16(lo + clash.Len() - 1)}
		if taken.Intersect(netset.PortsOf(free)).IsEmpty() {
			break
		}
	}
	if free.Lo == 0 {
		return nil
	}
	var outer, inner, moved []netset.PortRange
	many := m.To.Count() == 1
	keep := func(lo, hi uint16, pair estate.Pair) {
		outer = append(outer, netset.PortRange{Lo: lo, Hi: hi})
		if !many {
			inner = append(inner, netset.PortRange{Lo: pair.Inner(lo), Hi: pair.Inner(hi)})
		}
	}
	for _, pair := range estate.Translate(m.Bind.Ports, m.To) {
		both := netset.PortsOf(pair.From).Intersect(netset.PortsOf(clash))
		for _, r := range netset.PortsOf(pair.From).Subtract(both).Ranges() {
			keep(r.Lo, r.Hi, pair)
		}
		for _, r := range both.Ranges() {
			moved = append(moved, netset.PortRange{Lo: pair.Inner(r.Lo), Hi: pair.Inner(r.Hi)})
		}
	}
	if many {
		inner, moved = m.To.Ranges, m.To.Ranges
	}
	at := estate.With(m, func(x *estate.Map) {
		x.Bind.Ranges, x.To.Ranges = []netset.PortRange{free}, moved
	})
	mend := &trace.Mend{Remove: lines(m), Add: lines(at)}
	if len(outer) > 0 {
		mend.Add = append(lines(estate.With(m, func(x *estate.Map) { x.Bind.Ranges, x.To.Ranges = outer, inner })), mend.Add...)
	}
	return mend
}
