package model

import "net/netip"

// Segment is a part of the estate that flows leave and enter by the internet alone: machines, containers and networks that
// hang together without it.
type Segment int32

// OpenSegment is where internet itself is.
const OpenSegment Segment = -1

// compileSegments finds what hangs together: a network with those who have an attachment in it, a container with its machine.
func (m *Model) compileSegments() {
	parent := make([]Segment, len(m.Places)+len(m.Networks)) // places first, then networks
	for i := range parent {
		parent[i] = Segment(i)
	}
	root := func(i Segment) Segment {
		for parent[i] != i {
			parent[i] = parent[parent[i]]
			i = parent[i]
		}
		return i
	}
	join := func(a, b Segment) { parent[root(a)] = root(b) }
	network := func(n NetID) Segment { return Segment(len(m.Places) + int(n)) }
	for _, p := range m.Places {
		join(Segment(p.ID), Segment(p.Host))
		for i := range p.Attachments {
			if n := p.Attachments[i].Net; n != Internet {
				join(Segment(p.ID), network(n))
			}
		}
	}
	for _, n := range m.Networks {
		if n.Segment = root(network(n.ID)); n.ID == Internet {
			n.Segment = OpenSegment
		}
	}
	m.routers = map[Segment][]PlaceID{}
	for _, p := range m.Places {
		p.Segment = root(Segment(p.ID))
		if p.Router {
			m.routers[p.Segment] = append(m.routers[p.Segment], p.ID)
		}
	}
}

// Routers are those of a segment, in the order written; not to be changed.
func (m *Model) Routers(segment Segment) []PlaceID { return m.routers[segment] }

// AppendSources adds the addresses that a machine may give what leaves it as its source: those that it holds, and those that
// its forwards and outbound lines name.
func (p *Place) AppendSources(to []netip.Addr) []netip.Addr {
	for i := range p.Attachments {
		to = append(to, p.Attachments[i].Addrs...)
	}
	for _, f := range p.Forwards {
		if a := f.Record.Bind.Addr; a.IsValid() {
			to = append(to, a)
		}
	}
	for _, o := range p.Outbounds {
		if o.As.IsValid() {
			to = append(to, o.As)
		}
	}
	return to
}
