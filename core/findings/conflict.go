package findings

import (
	"fmt"
	"net/netip"

	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// ofPorts finds ports that two claim: listeners, maps, or one of each.
func (x *Checked) ofPorts(before *Checked, e edit) []*Finding {
	c := check{survey: x.survey}
	x.clashes, x.forwards = make([][]model.Clash, len(x.m.Places)), make([][]*Finding, len(x.m.Places))
	for i, p := range x.m.Places {
		if before.clashes != nil && e.before.Places[i] == p {
			x.clashes[i] = before.clashes[i]
		} else {
			x.clashes[i] = p.Clashes()
		}
		for _, clash := range x.clashes[i] {
			c.add(c.clash(clash))
		}
		if before.forwards != nil && e.before.Places[i] == p {
			x.forwards[i] = before.forwards[i]
		} else {
			one := check{survey: x.survey}
			one.forwardsTaken(p)
			x.forwards[i] = one.found
		}
		c.found = append(c.found, x.forwards[i]...)
	}
	return c.found
}

func (c *check) clash(x model.Clash) Finding {
	p := c.m.Places[x.Namespace]
	f := Finding{
		Subject: fmt.Sprintf("%s:%s/%s", p.Name, x.Ports, x.Transport), Trace: &Where{fmt.Sprintf("%s:%d", p.Name, x.Ports.Lo), "internet"},
	}
	f.Why = x.Why(c.m)
	switch first := x.First.(type) {
	case *estate.Listen:
		if second, ok := x.Second.(*estate.Listen); ok {
			f.Code, f.Records, f.Mend = "conflict.socket", lines(first, second), flow.MendSockets(first, second)
			break
		}
		f.Code, f.Records = "conflict.map-socket", lines(x.Second, first)
		f.Mend = &flow.Mend{Remove: lines(first), Add: lines(estate.With(first, func(l *estate.Listen) { l.Off = true }))}
	case *estate.Map:
		f.Code, f.Records, f.Mend = "conflict.map", lines(first, x.Second), c.moveMap(p, x.Second.(*estate.Map), x.Ports)
	}
	return f
}

// moveMap takes the ports of a map that another has already to the next that are free on its machine; its
// other ports stay. It took nothing there so far: where what it leads to has a front before it, is for some only or is for
// administration, it is moved for the machine itself alone.
func (c *check) moveMap(p *model.Place, m *estate.Map, clash netset.PortRange) *flow.Mend {
	if m.Bind.Any {
		return nil
	}
	taken := c.m.TakenPorts(p, m.Bind.Addr, m.Bind.Transport)
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
		if !x.Bind.Addr.IsValid() && c.notForAll(m.Container, moved) {
			x.Bind.Addr = netip.AddrFrom4([4]byte{127, 0, 0, 1})
		}
	})
	mend := &flow.Mend{Remove: lines(m), Add: lines(at)}
	if len(outer) > 0 {
		mend.Add = append(lines(estate.With(m, func(x *estate.Map) { x.Bind.Ranges, x.To.Ranges = outer, inner })), mend.Add...)
	}
	return mend
}

// notForAll says whether ports of a container are not to be reached from everywhere.
func (c *check) notForAll(container string, ports []netset.PortRange) bool {
	if c.t.Lands(container) {
		return true
	}
	for _, r := range ports {
		if usedFor(adminPorts, &exposure.Open{Range: r, Port: r.Lo, Transport: "tcp"}) != "" {
			return true
		}
		if _, fronted := c.before(container, r); fronted {
			return true
		}
	}
	return false
}
