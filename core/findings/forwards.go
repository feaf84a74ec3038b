package findings

import (
	"fmt"
	"net/netip"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// forwardsTaken finds what a router's forwards leave nothing: a forward behind one that leads elsewhere, and a listener of the router
// itself.
func (c *check) forwardsTaken(p *model.Place) {
	at := map[uint16][]*model.Forward{} // earlier ones of few ports, by port
	var wide []*model.Forward
	for _, f := range p.Forwards {
		ports := f.Ports.Ranges()
		if len(ports) == 0 {
			continue
		}
		for _, earlier := range append(slices.Clip(at[ports[0].Lo]), wide...) {
			if c.takesAll(p, earlier, f) && !sameEnd(earlier, f) {
				c.add(Finding{
					Code: "conflict.forward", Subject: fmt.Sprintf("%s:%s/%s", p.Name, ports[0], f.Record.Bind.Transport), Records: lines(earlier.Record, f.Record),
					Why:  fmt.Sprintf("%s forwards %s twice; the first line, to %s, takes all, and nothing comes to %s.", p.Name, f.Record.Bind, target(earlier.Record), target(f.Record)),
					Mend: offLine(f.Record),
				})
				break
			}
		}
		if f.Ports.Count() > widest {
			wide = append(wide, f)
			continue
		}
		for _, r := range ports {
			for port := int(r.Lo); port <= int(r.Hi); port++ {
				at[uint16(port)] = append(at[uint16(port)], f)
			}
		}
	}
	for i := range p.Sockets {
		c.takenFrom(p, &p.Sockets[i])
	}
}

func target(f *estate.Forward) string {
	if f.Pool != "" {
		return "pool " + f.Pool
	}
	return f.To.String()
}

// sameEnd says whether two forwards lead to the same.
func sameEnd(a, b *model.Forward) bool {
	if a.Record.Pool != b.Record.Pool || a.Record.To.Addr != b.Record.To.Addr {
		return false
	}
	for _, r := range b.Ports.Ranges() {
		for _, port := range []uint16{r.Lo, r.Hi} {
			if innerOf(a, port) != innerOf(b, port) {
				return false
			}
		}
	}
	return true
}

func innerOf(f *model.Forward, port uint16) uint16 {
	for _, pair := range f.Pairs {
		if pair.From.Contains(port) {
			return pair.Inner(port)
		}
	}
	return 0
}

// takesAll says whether a forward takes all that a later one of the same router would.
func (c *check) takesAll(p *model.Place, first, later *model.Forward) bool {
	a, b := first.Record, later.Record
	six := b.To.Addr.Is6()
	switch {
	case a.Pool == "" && b.Pool == "" && a.To.Addr.Is6() != six,
		a.Bind.Transport&b.Bind.Transport != b.Bind.Transport,
		!later.Ports.Subtract(first.Ports).IsEmpty(),
		(b.Inside || b.Hairpin) && !a.Inside && !a.Hairpin:
		return false
	case !first.From.Any && (later.From.Any || !first.From.Set.Covers(later.From.Set)):
		return false
	case !a.Bind.Addr.IsValid():
		return !b.Bind.Addr.IsValid() || slices.Contains(c.m.OuterAddrs(p, six), b.Bind.Addr)
	case b.Bind.Addr.IsValid():
		return a.Bind.Addr == b.Bind.Addr
	}
	outer := c.m.OuterAddrs(p, six)
	return len(outer) == 1 && outer[0] == a.Bind.Addr
}

// takenFrom finds a listener of a router that nobody reaches, since forwards take all that comes to it.
func (c *check) takenFrom(p *model.Place, s *model.Socket) {
	if s.Record.Bind.Addr.IsLoopback() || s.Place != p.ID || len(p.Forwards) == 0 {
		return
	}
	var by []estate.Record
	for _, attachment := range p.Attachments {
		for _, a := range attachment.Addrs {
			if !s.Takes(a, false) {
				continue
			}
			f := c.takerAt(p, s, a)
			if f == nil {
				return
			}
			if !slices.Contains(by, estate.Record(f.Record)) {
				by = append(by, f.Record)
			}
		}
	}
	if len(by) == 0 {
		return
	}
	c.add(Finding{
		Code: "conflict.forward", Subject: fmt.Sprintf("%s:%s/%s", p.Name, s.Ports.Ranges()[0], s.Record.Bind.Transport), Records: lines(append(by, s.Record)...),
		Why: fmt.Sprintf("%s listens on %s of %s, and all that comes there is forwarded: nobody reaches it.", s.Record.Service, s.Record.Bind, p.Name),
	})
}

// takerAt is a forward that takes all that anybody sends to a listener at one address; nil where none does.
func (c *check) takerAt(p *model.Place, s *model.Socket, a netip.Addr) *model.Forward {
	for _, f := range p.Forwards {
		rec := f.Record
		bound := rec.Bind.Addr == a || !rec.Bind.Addr.IsValid() && slices.Contains(c.m.OuterAddrs(p, a.Is6()), a)
		all := rec.Bind.Transport&s.Record.Bind.Transport == s.Record.Bind.Transport && f.From.Any && s.Ports.Subtract(f.Ports).IsEmpty() &&
			(rec.Pool != "" || rec.To.Addr.Is6() == a.Is6())
		everywhere := rec.Inside || rec.Hairpin || !slices.ContainsFunc(p.Attachments, func(l model.Attachment) bool { return !c.m.Outer(p, l.Net) })
		if bound && all && everywhere && !toItself(p, f, s) {
			return f
		}
	}
	return nil
}

// toItself says whether a forward leads to the listener that it takes from.
func toItself(p *model.Place, f *model.Forward, s *model.Socket) bool {
	return p.Owns(f.Record.To.Addr) && s.Takes(f.Record.To.Addr, false) && !s.Ports.Intersect(netset.PortsOf(innerRanges(f)...)).IsEmpty()
}

func innerRanges(f *model.Forward) []netset.PortRange {
	var out []netset.PortRange
	for _, pair := range f.Pairs {
		out = append(out, netset.PortRange{Lo: pair.To, Hi: pair.Inner(pair.From.Hi)})
	}
	return out
}
