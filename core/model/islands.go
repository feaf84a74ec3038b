package model

import "net/netip"

// Island is a part of the estate that flows leave and enter by the internet alone: machines, containers and networks that
// hang together without it.
type Island int32

// Mainland is where internet itself is.
const Mainland Island = -1

// compileIslands finds what hangs together: a network with those who have a leg in it, a container with its machine.
func (m *Model) compileIslands() {
	parent := make([]Island, len(m.Places)+len(m.Networks)) // places first, then networks
	for i := range parent {
		parent[i] = Island(i)
	}
	root := func(i Island) Island {
		for parent[i] != i {
			parent[i] = parent[parent[i]]
			i = parent[i]
		}
		return i
	}
	join := func(a, b Island) { parent[root(a)] = root(b) }
	network := func(n NetID) Island { return Island(len(m.Places) + int(n)) }
	for _, p := range m.Places {
		join(Island(p.ID), Island(p.Host))
		for i := range p.Legs {
			if n := p.Legs[i].Net; n != Internet {
				join(Island(p.ID), network(n))
			}
		}
	}
	for _, n := range m.Networks {
		if n.Island = root(network(n.ID)); n.ID == Internet {
			n.Island = Mainland
		}
	}
	m.routers = map[Island][]PlaceID{}
	for _, p := range m.Places {
		p.Island = root(Island(p.ID))
		if p.Router {
			m.routers[p.Island] = append(m.routers[p.Island], p.ID)
		}
	}
}

// Routers are those of an island, in the order written; not to be changed.
func (m *Model) Routers(island Island) []PlaceID { return m.routers[island] }

// AppendSources adds the addresses that a machine may give what leaves it as its source: those that it holds, and those that
// its forwards and outbound lines name.
func (p *Place) AppendSources(to []netip.Addr) []netip.Addr {
	for i := range p.Legs {
		to = append(to, p.Legs[i].Addrs...)
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
