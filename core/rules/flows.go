package rules

import (
	"net/netip"
	"slices"

	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// Flows is a set of flows as a filter sees them: all that have one of the sources, one of the destinations, one of
// the transports and ports, and come and go by one of the networks.
type Flows struct {
	From, To  netset.Addrs // containers without a written address stand at their points
	Transport netset.Transport
	Ports     netset.Ports
	Entering  Nets
	Leaving   Nets
}

// IsEmpty says whether no flow is in the set.
func (f Flows) IsEmpty() bool {
	return f.From.IsEmpty() || f.To.IsEmpty() || f.Transport == 0 || f.Ports.IsEmpty() || f.Entering.IsEmpty() || f.Leaving.IsEmpty()
}

// Intersect is the flows in both.
func (f Flows) Intersect(g Flows) Flows { return f.intersect(g, nil) }

// Subtract is the flows of f that are not in g, as sets that share none.
func (f Flows) Subtract(g Flows) []Flows { return f.subtract(g, nil) }

// shares remembers what two sets of addresses share and leave: the lines of a filter ask for the same again and again.
type shares map[[2]netset.Addrs][2]netset.Addrs

// of are the addresses that a shares with b, and those that it does not.
func (s shares) of(a, b netset.Addrs) (both, left netset.Addrs) {
	key := [2]netset.Addrs{a, b}
	if known, ok := s[key]; ok {
		return known[0], known[1]
	}
	both = a.Intersect(b)
	switch {
	case both.IsEmpty():
		left = a
	case !both.Same(a):
		left = a.Subtract(b)
	}
	if s != nil {
		s[key] = [2]netset.Addrs{both, left}
	}
	return both, left
}

func (f Flows) intersect(g Flows, s shares) Flows {
	out := Flows{Transport: f.Transport & g.Transport}
	if out.Transport == 0 {
		return Flows{}
	}
	if out.Ports = f.Ports.Intersect(g.Ports); out.Ports.IsEmpty() {
		return Flows{}
	}
	out.Entering, out.Leaving = f.Entering.Intersect(g.Entering), f.Leaving.Intersect(g.Leaving)
	if out.Entering.IsEmpty() || out.Leaving.IsEmpty() {
		return Flows{}
	}
	if out.To, _ = s.of(f.To, g.To); out.To.IsEmpty() {
		return Flows{}
	}
	if out.From, _ = s.of(f.From, g.From); out.From.IsEmpty() {
		return Flows{}
	}
	return out
}

func (f Flows) subtract(g Flows, s shares) []Flows {
	both := f.intersect(g, s)
	if both.IsEmpty() {
		return []Flows{f}
	}
	var out []Flows
	left := f
	put := func(part Flows) {
		if !part.IsEmpty() {
			out = append(out, part)
		}
	}
	part := left
	part.Transport = left.Transport &^ both.Transport
	put(part)
	left.Transport = both.Transport

	part = left
	part.Ports = left.Ports.Subtract(both.Ports)
	put(part)
	left.Ports = both.Ports

	part = left
	_, part.To = s.of(left.To, g.To)
	put(part)
	left.To = both.To

	part = left
	_, part.From = s.of(left.From, g.From)
	put(part)
	left.From = both.From

	part = left
	part.Entering = left.Entering.Subtract(both.Entering)
	put(part)
	left.Entering = both.Entering

	left.Leaving = left.Leaving.Subtract(both.Leaving)
	put(left)
	return out
}

// Nets is a set of networks by which flows come or go. What is made here comes by none, and is in the set of any.
type Nets = netset.Choice[model.NetID]

// points gives each container without a written address, in the networks that a filter may see it in, an address that
// nobody has: a set of addresses can then hold it. They are out of the discard-only block (RFC 6666).
type points struct {
	at     map[point]netip.Addr
	nets   []model.NetID
	blocks map[model.NetID]netset.Addrs // of all the containers of a network
}

type point struct {
	place model.PlaceID
	net   model.NetID
}

// pointsSeen are the containers without a written address that filters on some machines may see: those in the machines'
// own networks, and those in networks that are routed.
func pointsSeen(m *model.Model, on []*model.Place) points {
	p := points{at: map[point]netip.Addr{}, blocks: map[model.NetID]netset.Addrs{}}
	next := netip.MustParseAddr("100::1")
	for _, n := range m.Networks[1:] {
		if !n.Container() || !n.Routed() && !slices.ContainsFunc(on, func(h *model.Place) bool { return h.ID == n.On }) {
			continue
		}
		var block []netip.Addr
		for _, id := range n.Members {
			c := m.Places[id]
			if attachment := c.Attachment(n.ID); c.IsContainer() && attachment.Float() {
				p.at[point{id, n.ID}] = next
				block = append(block, next)
				next = next.Next()
			}
		}
		if len(block) > 0 {
			p.nets = append(p.nets, n.ID)
			p.blocks[n.ID] = netset.AddrsOf(block...)
		}
	}
	return p
}

// ends is what a selector names of addresses: surely, and perhaps, where it names a part of a network and a container may
// be any point of it.
type ends struct{ sure, perhaps netset.Addrs }

func (p points) ends(m *model.Model, match model.Match, v4, v6 bool) ends {
	if match.Any {
		set := netset.Everything().Families(v4, v6)
		for _, n := range p.nets {
			if net := m.Networks[n]; v4 && net.Family(false) || v6 && net.Family(true) {
				set = netset.Union(set, p.blocks[n])
			}
		}
		return ends{set, set}
	}
	e := ends{sure: match.Set.Families(v4, v6)}
	e.perhaps = e.sure
	for _, n := range p.nets {
		free := m.Networks[n].Free.Families(v4, v6)
		switch {
		case free.IsEmpty() || !match.Set.Overlaps(free):
		case match.Set.Covers(free):
			e.sure, e.perhaps = netset.Union(e.sure, p.blocks[n]), netset.Union(e.perhaps, p.blocks[n])
		default:
			e.perhaps = netset.Union(e.perhaps, p.blocks[n])
		}
	}
	for _, c := range match.Float {
		for _, attachment := range m.Places[c].Attachments {
			if a, ok := p.at[point{c, attachment.Net}]; ok {
				one := netset.AddrsOf(a)
				e.sure, e.perhaps = netset.Union(e.sure, one), netset.Union(e.perhaps, one)
			}
		}
	}
	return e
}
