package model

import (
	"net/netip"
	"slices"
	"sync"

	"github.com/gaissmai/bart"

	"steady-compass/core/netset"
)

// region is a part of the address space in which every address is in the same networks and routes: what leads to one of
// its addresses leads to all, but for those that a router itself holds.
type region struct {
	nets   []NetID
	routed bool // in a block that is routed to a host of ours from a network other than internet
	global bool // the internet carries flows there
}

// regions finds the region of an address: the longest prefix written anywhere that it is in.
type regions struct {
	table  bart.Table[*region]
	blocks bart.Table[Block]
	other  [2]*region // of no prefix at all: IPv4, IPv6

	leaders sync.Map // of leadersKey: []Leader
}

type leadersKey struct {
	net    NetID
	region *region
	held   netip.Addr // by a router; the zero address where none holds it
}

func (m *Model) compileRegions() {
	r := &regions{other: [2]*region{{}, {}}}
	var nets bart.Table[[]NetID]
	var global bart.Table[bool]
	var all []netip.Prefix
	for _, n := range m.Networks[1:] {
		for _, p := range n.Prefixes {
			nets.Modify(p, func(ids []NetID, _ bool) ([]NetID, bool) { return append(slices.Clone(ids), n.ID), false })
			all = append(all, p)
		}
	}
	for _, p := range netset.GloballyReachable().Prefixes() {
		global.Insert(p, true)
		all = append(all, p)
	}
	for _, p := range m.Places {
		for _, route := range p.Routes {
			all = append(all, route.To)
		}
	}
	for _, b := range m.inner {
		all = append(all, b.Prefix)
	}
	for _, p := range all {
		if _, known := r.table.Get(p); known {
			continue
		}
		part := &region{global: global.Contains(p.Addr())}
		part.routed = slices.ContainsFunc(m.inner, func(b Block) bool { return b.Prefix.Bits() <= p.Bits() && b.Prefix.Contains(p.Addr()) })
		for _, ids := range nets.Supernets(p) {
			part.nets = append(part.nets, ids...)
		}
		r.table.Insert(p, part)
	}
	for _, b := range m.Blocks {
		if _, known := r.blocks.Get(b.Prefix); !known {
			r.blocks.Insert(b.Prefix, b)
		}
	}
	m.regions = r
	for _, n := range m.Networks {
		for _, member := range n.Members {
			if m.leadsOnward(m.Places[member]) {
				n.onward = append(n.onward, member)
			}
		}
	}
}

// leadsOnward says whether a machine may lead flows from one network to another: a router, or one with container networks
// that are reached from outside.
func (m *Model) leadsOnward(p *Place) bool {
	return !p.IsContainer() && (p.Router || slices.ContainsFunc(p.networks, func(id NetID) bool { return m.Networks[id].Routed() }))
}

func (m *Model) region(a netip.Addr) *region {
	if found, ok := m.regions.table.Lookup(a); ok {
		return found
	}
	if a.Is6() {
		return m.regions.other[1]
	}
	return m.regions.other[0]
}

// NetworksAround are the recorded networks that an address is in; not to be changed.
func (m *Model) NetworksAround(a netip.Addr) []NetID { return m.region(a).nets }

// InRecordedNetwork says whether an address is in a network that is written down, or in a block routed to a host there.
func (m *Model) InRecordedNetwork(a netip.Addr) bool {
	part := m.region(a)
	return len(part.nets) > 0 || part.routed
}

// Global says whether the internet carries flows to an address.
func (m *Model) Global(a netip.Addr) bool { return m.region(a).global }

// BlockOf is the most specific block routed to a host from internet that an address is in.
func (m *Model) BlockOf(a netip.Addr) (Block, bool) { return m.regions.blocks.Lookup(a) }

// leaders are the routers in a network, other than one, that lead to a destination by another network.
func (m *Model) leaders(id NetID, dst netip.Addr, except PlaceID) []Leader {
	key := leadersKey{net: id, region: m.region(dst)}
	if slices.ContainsFunc(m.owners[dst], func(h Holding) bool { return m.Places[h.Place].Router }) {
		key.held = dst
	}
	var all []Leader
	if known, ok := m.regions.leaders.Load(key); ok {
		all = known.([]Leader)
	} else {
		all = m.findLeaders(id, dst)
		m.regions.leaders.Store(key, all)
	}
	if except == Nowhere || len(all) == 0 || !m.leadsOnward(m.Places[except]) {
		return all
	}
	var out []Leader
	for _, l := range all { // a way by the one that is left out is none
		if l.Place != except && (m.Networks[id].Container() || m.leads(m.Places[l.Place], dst, id, map[PlaceID]bool{except: true})) {
			out = append(out, l)
		}
	}
	return out
}
