package findings

import (
	"fmt"
	"net/netip"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// ownSake looks at each forward, map and listener by itself: its own address, and what it leads to.
func (c *check) ownSake() {
	for _, p := range c.m.Places {
		for _, f := range p.Forwards {
			c.forward(p, f)
		}
		for _, m := range p.Maps {
			if m.Net != model.NoNet { // else it takes nothing, and that is said
				c.mapping(p, m)
			}
		}
		for i := range p.Sockets {
			s := &p.Sockets[i]
			a := s.Record.Bind.Addr
			if a.IsValid() && !a.IsUnspecified() && !a.IsLoopback() && !p.Answers(a) && !c.blockAt(p, a) {
				c.add(Finding{
					Code: "path.listen-address", Subject: fmt.Sprintf("%s:%s", s.Record.Place, first(s.Record.Bind.Ports)), Records: lines(s.Record),
					Why:  fmt.Sprintf("%s is bound to %s, which %s does not hold.", s.Record.Service, a, p.Name),
					Mend: &flow.Mend{Remove: lines(s.Record), Add: lines(estate.With(s.Record, func(l *estate.Listen) { l.Bind.Addr = netip.Addr{} }))},
				})
			}
		}
	}
}

func first(p estate.Ports) string {
	if p.Any {
		return "any"
	}
	text := fmt.Sprint(p.Ranges[0].Lo)
	if p.Transport == netset.UDP {
		text += "/udp"
	}
	return text
}

func (c *check) blockAt(p *model.Place, a netip.Addr) bool {
	for _, attachment := range p.Attachments {
		for _, b := range attachment.Blocks {
			if b.Contains(a) {
				return true
			}
		}
	}
	return false
}

func (c *check) forward(p *model.Place, f *model.Forward) {
	rec := f.Record
	subject := fmt.Sprintf("%s:%s", p.Name, first(rec.Bind.Ports))
	if a := rec.Bind.Addr; a.IsValid() && !p.Answers(a) && !c.blockAt(p, a) {
		found := Finding{Code: "path.forward-address", Subject: subject, Records: lines(rec), Why: fmt.Sprintf("The forward is for %s, which %s does not answer for.", a, p.Name)}
		if outer := c.m.OuterAddrs(p, a.Is6()); len(outer) == 1 {
			found.Mend = &flow.Mend{Remove: lines(rec), Add: lines(estate.With(rec, func(n *estate.Forward) { n.Bind.Addr = outer[0] }))}
		}
		c.add(found)
	}
	to := rec.To.Addr
	if rec.Pool != "" {
		return
	}
	if p.Owns(to) || to.IsLoopback() {
		return
	}
	hop := c.m.NextHop(p, to)
	at := p
	for range 8 {
		if hop.Kind != model.Via {
			break
		}
		at = c.m.Places[hop.Place]
		hop = c.m.NextHop(at, to)
	}
	switch hop.Kind {
	case model.OnLink:
		c.leadsTo(subject, rec, c.m.Places[hop.Place], to, f.Pairs, rec.Bind.Ports)
	case model.Nobody, model.NoWay:
		c.add(Finding{Code: "path.forward-nowhere", Subject: subject, Records: lines(rec), Why: fmt.Sprintf("The forward leads to %s, which no machine holds.", to), Mend: c.nearestTarget(p, rec)})
	}
}

// nearestTarget leads a forward that reaches nobody to the only machine on its side of the internet that listens on its ports.
func (c *check) nearestTarget(router *model.Place, rec *estate.Forward) *flow.Mend {
	inner := rec.To.Ports
	if rec.To.Kept() {
		inner = rec.Bind.Ports
	}
	var found netip.Addr
	for _, p := range c.m.Places {
		if p.IsContainer() || p.Outside || p.Segment != router.Segment {
			continue
		}
		takes := false
		for i := range p.Sockets {
			takes = takes || p.Sockets[i].Ports.Subtract(inner.Set()).Equal(netset.Ports{}) && p.Sockets[i].Record.Bind.Transport&rec.Bind.Transport != 0
		}
		for _, m := range p.Maps {
			takes = takes || inner.Set().Subtract(m.Ports).IsEmpty() && m.Record.Bind.Transport&rec.Bind.Transport != 0
		}
		if !takes {
			continue
		}
		for _, attachment := range p.Attachments {
			for _, a := range attachment.Addrs {
				if !attachment.Gateway && a.Is6() == rec.To.Addr.Is6() {
					if found.IsValid() {
						return nil
					}
					found = a
				}
			}
		}
	}
	if !found.IsValid() {
		return nil
	}
	return &flow.Mend{Remove: lines(rec), Add: lines(estate.With(rec, func(n *estate.Forward) { n.To.Addr = found }))}
}

// leadsTo looks at what stands on the ports that a forward leads to.
func (c *check) leadsTo(subject string, rec estate.Record, p *model.Place, to netip.Addr, pairs []estate.Pair, outer estate.Ports) {
	if p.Unlisted || p.Outside || outer.Any {
		return
	}
	var open, loopback, other netset.Ports
	namespace := c.m.Places[p.Namespace]
	for i := range namespace.Sockets {
		s := &namespace.Sockets[i]
		switch {
		case s.Record.Bind.Transport&outer.Transport == 0:
			other = other.Union(s.Ports)
		case s.Takes(to, false):
			open = open.Union(s.Ports)
		case s.Record.Bind.Addr.IsLoopback():
			loopback = loopback.Union(s.Ports)
		}
	}
	if outer.Transport&netset.TCP != 0 {
		open = open.Union(c.m.ProvedAt(p))
	}
	for _, m := range p.Maps {
		switch {
		case m.Record.Bind.Transport&outer.Transport == 0:
			other = other.Union(m.Ports)
		case m.Record.Bind.Addr.IsLoopback():
			loopback = loopback.Union(m.Ports)
		default:
			open = open.Union(m.Ports)
		}
	}
	for _, pair := range pairs {
		inner := netset.PortsOf(netset.PortRange{Lo: pair.To, Hi: pair.Inner(pair.From.Hi)})
		if !inner.Intersect(open).IsEmpty() {
			continue
		}
		at := fmt.Sprint(pair.From.Lo)
		if outer.Transport == netset.UDP {
			at += "/udp"
		}
		f := Finding{
			Code: "path.no-listener", Subject: subject[:strings.LastIndex(subject, ":")] + ":" + at, Records: lines(rec),
			Why: fmt.Sprintf("It leads to port %s of %s, where nothing listens.", inner, p.Name),
		}
		switch {
		case !inner.Intersect(loopback).IsEmpty():
			f.Code, f.Why = "path.loopback", fmt.Sprintf("It leads to port %s of %s, which listens there for itself only.", inner, p.Name)
		case !inner.Intersect(other).IsEmpty():
			f.Code, f.Why = "path.forward-transport", fmt.Sprintf("It leads to port %s of %s over %s, and what listens there does not speak it.", inner, p.Name, outer.Transport)
			if fwd, ok := rec.(*estate.Forward); ok {
				f.Mend = &flow.Mend{Remove: lines(rec), Add: lines(estate.With(fwd, func(n *estate.Forward) { n.Bind.Transport = netset.Both &^ n.Bind.Transport }))}
			}
		}
		if f.Mend == nil && !c.t.Lands(p.Name) { // else it would be open to more than it is meant for
			f.Mend = c.mendLoopback(namespace, p, inner, f.Code)
		}
		if f.Mend == nil {
			f.Mend = withoutPorts(rec, pairs, pair)
			if f.Code == "path.no-listener" {
				f.keys = []string{flow.NoListener(p.Name, fmt.Sprint(pair.To), outer.Transport.String())}
			}
		}
		c.add(f)
	}
}

// mendLoopback opens a listener or map that is bound to loopback.
func (c *check) mendLoopback(namespace, p *model.Place, inner netset.Ports, code string) *flow.Mend {
	if code != "path.loopback" {
		return nil
	}
	for i := range namespace.Sockets {
		if s := &namespace.Sockets[i]; s.Record.Bind.Addr.IsLoopback() && !s.Ports.Intersect(inner).IsEmpty() {
			return &flow.Mend{Remove: lines(s.Record), Add: lines(estate.With(s.Record, func(l *estate.Listen) { l.Bind.Addr = netip.Addr{} }))}
		}
	}
	for _, m := range p.Maps {
		if m.Record.Bind.Addr.IsLoopback() && !m.Ports.Intersect(inner).IsEmpty() {
			return &flow.Mend{Remove: lines(m.Record), Add: lines(estate.With(m.Record, func(n *estate.Map) { n.Bind.Addr = netip.Addr{} }))}
		}
	}
	return nil
}

// offLine takes a line out of force, for one that leads nowhere.
func offLine(r estate.Record) *flow.Mend {
	return &flow.Mend{Remove: lines(r), Add: []string{}}
}

// withoutPorts takes ports that lead nowhere out of a forward or a map; the whole line, where it has no others.
func withoutPorts(r estate.Record, pairs []estate.Pair, dead estate.Pair) *flow.Mend {
	var outer, inner []netset.PortRange
	for _, p := range pairs {
		if p != dead {
			outer = append(outer, p.From)
			inner = append(inner, netset.PortRange{Lo: p.To, Hi: p.Inner(p.From.Hi)})
		}
	}
	if len(outer) == 0 {
		return offLine(r)
	}
	shorten := func(bind, to *estate.Ports) {
		bind.Ranges = outer
		if to.Count() > 1 {
			to.Ranges = inner
		}
	}
	var next estate.Record
	switch r := r.(type) {
	case *estate.Forward:
		next = estate.With(r, func(n *estate.Forward) { shorten(&n.Bind.Ports, &n.To.Ports) })
	case *estate.Map:
		next = estate.With(r, func(n *estate.Map) { shorten(&n.Bind.Ports, &n.To) })
	default:
		return offLine(r)
	}
	return &flow.Mend{Remove: lines(r), Add: lines(next)}
}

func (c *check) mapping(p *model.Place, m *model.Map) {
	rec := m.Record
	subject := fmt.Sprintf("%s:%s", p.Name, first(rec.Bind.Ports))
	if a := rec.Bind.Addr; a.IsValid() && !a.IsUnspecified() && !a.IsLoopback() && !p.Answers(a) {
		c.add(Finding{
			Code: "path.listen-address", Subject: subject, Records: lines(rec), Why: fmt.Sprintf("The map is on %s, which %s does not hold.", a, p.Name),
			Mend: &flow.Mend{Remove: lines(rec), Add: lines(estate.With(rec, func(n *estate.Map) { n.Bind.Addr = netip.Addr{} }))},
		})
	}
	if m.Container == model.Nowhere {
		return // record.unknown-reference
	}
	inside := c.m.Places[m.Container]
	if inside.Unlisted {
		return
	}
	namespace := c.m.Places[inside.Namespace]
	var open, all netset.Ports
	for i := range namespace.Sockets {
		s := &namespace.Sockets[i]
		if s.Record.Bind.Transport&rec.Bind.Transport == 0 {
			continue
		}
		all = all.Union(s.Ports)
		if !s.Record.Bind.Addr.IsLoopback() {
			open = open.Union(s.Ports)
		}
	}
	proved := netset.Ports{}
	if rec.Bind.Transport&netset.TCP != 0 {
		proved = c.m.ProvedAt(inside)
	}
	for _, pair := range m.Pairs {
		inner := netset.PortsOf(netset.PortRange{Lo: pair.To, Hi: pair.Inner(pair.From.Hi)})
		if !inner.Intersect(open.Union(proved)).IsEmpty() {
			continue
		}
		f := Finding{
			Code: "path.no-listener", Subject: fmt.Sprintf("%s:%d", p.Name, pair.From.Lo), Records: lines(rec),
			Why: fmt.Sprintf("It leads to port %s of %s, where nothing listens.", inner, inside.Name), Mend: withoutPorts(rec, m.Pairs, pair),
			keys: []string{flow.NoListener(inside.Name, fmt.Sprint(pair.To), rec.Bind.Transport.String())},
		}
		switch {
		case !inner.Intersect(all).IsEmpty():
			f.Code, f.Why = "path.loopback", fmt.Sprintf("It leads to port %s of %s, which listens there for itself only.", inner, inside.Name)
			f.Mend = c.mendLoopback(namespace, inside, inner, f.Code)
		case !open.IsEmpty():
			f.Code, f.Why = "path.map-target", fmt.Sprintf("It leads to port %s of %s, which listens on %s.", inner, inside.Name, open)
			f.Mend = aimMap(m, pair, open)
		case !all.IsEmpty():
			f.Code, f.Why = "path.map-target", fmt.Sprintf("It leads to port %s of %s, which listens on %s for itself only.", inner, inside.Name, all)
			if f.Mend = aimMap(m, pair, all); c.t.Lands(inside.Name) { // it would be open to more than it is meant for
				f.Mend = nil
			} else if f.Mend != nil {
				if opening := c.mendLoopback(namespace, inside, all, "path.loopback"); opening != nil {
					f.Mend = joinMends(f.Mend, opening)
				}
			}
		}
		if f.Code != "path.no-listener" {
			f.keys = nil
		}
		c.add(f)
	}
}

// aimMap leads the ports of one pair of a map to where the container listens: on the outer port itself, else on the
// only port that the map does not lead to yet.
func aimMap(m *model.Map, wrong estate.Pair, open netset.Ports) *flow.Mend {
	right := wrong.From.Lo
	if wrong.From.Len() != 1 && !wrong.Many {
		return nil
	}
	if !open.Contains(right) {
		var led []netset.PortRange
		for _, pair := range m.Pairs {
			if pair != wrong {
				led = append(led, netset.PortRange{Lo: pair.To, Hi: pair.Inner(pair.From.Hi)})
			}
		}
		left := open.Subtract(netset.PortsOf(led...))
		if left.Count() != 1 {
			return nil
		}
		right = left.Ranges()[0].Lo
	}
	inner := make([]netset.PortRange, 0, len(m.Pairs))
	for _, pair := range m.Pairs {
		to := netset.PortRange{Lo: pair.To, Hi: pair.Inner(pair.From.Hi)}
		if pair == wrong {
			to = netset.OnePort(right)
		}
		inner = append(inner, to)
	}
	if wrong.Many {
		inner = []netset.PortRange{netset.OnePort(right)}
	}
	return &flow.Mend{Remove: lines(m.Record), Add: lines(estate.With(m.Record, func(n *estate.Map) { n.To.Ranges = inner }))}
}
