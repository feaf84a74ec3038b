package model

import (
	"net/netip"
	"slices"

	"steady-compass/core/estate"
)

// HopKind is how a flow goes on from where it is.
type HopKind uint8

const (
	NoWay   HopKind = iota // nothing leads there
	OnLink                 // to its holder, in a network the sender is on
	Nobody                 // in a network the sender is on, and nobody holds the address
	Via                    // to a router
	Outward                // onto the internet, to somebody else's address
	Tie                    // several routers lead there, and no route says which
	Unknown                // it hangs on an address that nobody knows
)

// Hop is the next step of a flow's way.
type Hop struct {
	Kind    HopKind
	Net     NetID   // by which network it leaves
	Place   PlaceID // who gets it next, for OnLink and Via
	Records []estate.Record
	Ties    []Leader // all of them, for Tie
}

// NextHop says where a host sends a flow: on-link first, then the most specific route written,
// then the internet where it is on it, then the only router of its networks that leads there. dst is not
// one of the host's own addresses.
func (m *Model) NextHop(p *Place, dst netip.Addr) Hop {
	if hop, ok := m.onLink(p, dst); ok {
		return hop
	}
	block := p.blockWith(dst)
	for _, r := range p.Routes {
		if !r.To.Contains(dst) {
			continue
		}
		if block.IsValid() && r.To.Bits() <= block.Bits() {
			break
		}
		hop := m.viaHop(p, r.Via, dst)
		hop.Records = append([]estate.Record{r.Record}, hop.Records...)
		return hop
	}
	if block.IsValid() { // it is routed to the host itself, and nothing leads on
		return Hop{Kind: Nobody, Net: NoNet}
	}
	if m.onInternet(p, dst.Is6()) && m.Global(dst) {
		if hop := m.InternetHop(dst, p.ID); hop.Kind != NoWay {
			return hop
		}
	}
	hop := m.byRouter(p, dst)
	if hop.Kind == NoWay && m.onInternet(p, dst.Is6()) {
		hop.Net = Internet // it leaves by its way to the internet, where nothing takes it
	}
	return hop
}

// blockWith is the most specific block with an address that is routed to the host from a network other than internet; the zero
// prefix where there is none.
func (p *Place) blockWith(a netip.Addr) netip.Prefix {
	var best netip.Prefix
	for i := range p.Attachments {
		if p.Attachments[i].Net == Internet {
			continue
		}
		for _, b := range p.Attachments[i].Blocks {
			if b.Contains(a) && (!best.IsValid() || b.Bits() > best.Bits()) {
				best = b
			}
		}
	}
	return best
}

func (m *Model) onLink(p *Place, dst netip.Addr) (Hop, bool) {
	best, bits := NoNet, -1
	for _, attachment := range p.Attachments {
		for _, prefix := range m.Networks[attachment.Net].Prefixes {
			if prefix.Contains(dst) && prefix.Bits() > bits {
				best, bits = attachment.Net, prefix.Bits()
			}
		}
	}
	if best == NoNet {
		return Hop{}, false
	}
	return m.inNetwork(best, dst), true
}

// inNetwork is the last hop in a network whose prefix holds the destination.
func (m *Model) inNetwork(id NetID, dst netip.Addr) Hop {
	n := m.Networks[id]
	if h, ok := n.holders[dst]; ok {
		return Hop{Kind: OnLink, Net: id, Place: h.Place, Records: []estate.Record{h.Record}}
	}
	for _, member := range n.Members {
		attachment := m.Places[member].Attachment(id)
		if attachment.Unknown {
			return Hop{Kind: Unknown, Net: id, Place: member, Records: attachment.Records}
		}
	}
	return Hop{Kind: Nobody, Net: id}
}

// viaHop is the hop to a route's next router.
func (m *Model) viaHop(p *Place, via, dst netip.Addr) Hop {
	for _, attachment := range p.Attachments {
		if attachment.Net == Internet {
			continue
		}
		n := m.Networks[attachment.Net]
		if !n.Set.Contains(via) {
			continue
		}
		if h, ok := n.holders[via]; ok {
			return Hop{Kind: Via, Net: attachment.Net, Place: h.Place, Records: []estate.Record{h.Record}}
		}
		return Hop{Kind: NoWay, Net: attachment.Net}
	}
	if p.Attachment(Internet) != nil && m.Global(via) {
		if h, ok := m.Networks[Internet].holders[via]; ok {
			return Hop{Kind: Via, Net: Internet, Place: h.Place, Records: []estate.Record{h.Record}}
		}
		return m.InternetHop(dst, p.ID) // the provider's router, which nobody records
	}
	return Hop{Kind: NoWay, Net: NoNet}
}

// onInternet says whether a host has an address or a block of a family on internet.
func (m *Model) onInternet(p *Place, v6 bool) bool {
	attachment := p.Attachment(Internet)
	if attachment == nil {
		return false
	}
	for _, a := range attachment.Addrs {
		if a.Is6() == v6 {
			return true
		}
	}
	for _, b := range attachment.Blocks {
		if b.Addr().Is6() == v6 {
			return true
		}
	}
	return attachment.Unknown && !v6
}

// InternetHop says where the internet carries a flow to. except is the host that put it there.
func (m *Model) InternetHop(dst netip.Addr, except PlaceID) Hop {
	if !m.Global(dst) {
		return Hop{Kind: NoWay, Net: Internet}
	}
	if h, ok := m.Networks[Internet].holders[dst]; ok {
		return Hop{Kind: OnLink, Net: Internet, Place: h.Place, Records: []estate.Record{h.Record}}
	}
	if b, ok := m.BlockOf(dst); ok && b.Place != except {
		return Hop{Kind: Via, Net: Internet, Place: b.Place, Records: []estate.Record{b.Record}}
	}
	if !m.InRecordedNetwork(dst) {
		if _, ok := m.BlockOf(dst); ok {
			return Hop{Kind: Nobody, Net: Internet}
		}
		return Hop{Kind: Outward, Net: Internet}
	}
	return m.choose(m.leaders(Internet, dst, except))
}

// FromNetwork is the way from a machine in a network that nobody recorded.
func (m *Model) FromNetwork(id NetID, dst netip.Addr) Hop {
	if id == Internet {
		return m.InternetHop(dst, Nowhere)
	}
	n := m.Networks[id]
	if n.Set.Contains(dst) {
		return m.inNetwork(id, dst)
	}
	return m.choose(m.leaders(id, dst, Nowhere))
}

// Leader is a router that leads somewhere, and the network in which it does.
type Leader struct {
	Net   NetID
	Place PlaceID
}

// byRouter is the only router of a host's networks that leads to a destination.
func (m *Model) byRouter(p *Place, dst netip.Addr) Hop {
	var found []Leader
	for _, attachment := range p.Attachments {
		if attachment.Gateway || attachment.Net == Internet && !m.Global(dst) {
			continue // a container network inside the machine leads nowhere, and the internet to no private address
		}
		for _, l := range m.leaders(attachment.Net, dst, p.ID) {
			if len(found) == 0 || found[0].Place != l.Place {
				found = append(found, l)
			}
		}
	}
	return m.choose(found)
}

func (m *Model) choose(found []Leader) Hop {
	switch len(found) {
	case 0:
		return Hop{Kind: NoWay, Net: NoNet}
	case 1:
		return Hop{Kind: Via, Net: found[0].Net, Place: found[0].Place, Records: []estate.Record{m.Places[found[0].Place].Record}}
	}
	hop := Hop{Kind: Tie, Net: found[0].Net, Place: found[0].Place, Ties: found}
	for _, l := range found {
		hop.Records = append(hop.Records, m.Places[l.Place].Record)
	}
	return hop
}

// findLeaders are the routers in a network that lead to a destination by another network.
func (m *Model) findLeaders(id NetID, dst netip.Addr) []Leader {
	n := m.Networks[id]
	if n.Container() {
		return []Leader{{id, n.On}} // containers leave by their machine
	}
	if !n.Family(dst.Is6()) {
		return nil // it carries nothing of that family
	}
	var out []Leader
	for _, member := range n.onward {
		if m.leads(m.Places[member], dst, id, map[PlaceID]bool{}) {
			out = append(out, Leader{id, member})
		}
	}
	return out
}

// leads says whether a host's own ways lead to a destination by another network than except.
func (m *Model) leads(p *Place, dst netip.Addr, except NetID, passed map[PlaceID]bool) bool {
	if passed[p.ID] {
		return false
	}
	nets := m.region(dst).nets
	for i := range p.Attachments {
		attachment := &p.Attachments[i]
		if attachment.Net == except || attachment.Net == Internet {
			continue
		}
		n := m.Networks[attachment.Net]
		if slices.Contains(nets, attachment.Net) && (!attachment.Gateway && p.Router || attachment.Gateway && n.Routed()) {
			return true
		}
	}
	if !p.Router {
		return false
	}
	if p.owns[dst] || p.blockWith(dst).IsValid() {
		return true
	}
	for _, r := range p.Routes {
		if r.To.Contains(dst) {
			hop := m.viaHop(p, r.Via, dst)
			return hop.Kind != NoWay && hop.Net != except
		}
	}
	if except != Internet && m.onInternet(p, dst.Is6()) && m.Global(dst) && !m.InRecordedNetwork(dst) {
		return true
	}
	passed[p.ID] = true
	defer delete(passed, p.ID)
	for _, attachment := range p.Attachments {
		if attachment.Net == except || attachment.Gateway || attachment.Net == Internet || !m.Networks[attachment.Net].Family(dst.Is6()) {
			continue
		}
		for _, member := range m.Networks[attachment.Net].onward {
			if member != p.ID && m.leads(m.Places[member], dst, attachment.Net, passed) {
				return true
			}
		}
	}
	// By the internet, to a network of ours that another router there leads to.
	if except != Internet && m.onInternet(p, dst.Is6()) && m.Global(dst) {
		for _, member := range m.Networks[Internet].onward {
			if r := m.Places[member]; member != p.ID && r.Router && m.leads(r, dst, Internet, passed) {
				return true
			}
		}
	}
	return false
}

// Outer says whether a network is one of a router's outer ones: internet, and that of its default route.
func (m *Model) Outer(p *Place, n NetID) bool {
	if n == Internet {
		return p.Attachment(Internet) != nil
	}
	for _, r := range p.Routes {
		if r.To.Bits() == 0 && m.Networks[n].Set.Contains(r.Via) && p.Attachment(n) != nil {
			return true
		}
	}
	return slices.Contains(p.outer, n)
}

// OuterAddrs are the addresses of a family that a forward without an address is for.
func (m *Model) OuterAddrs(p *Place, v6 bool) []netip.Addr {
	var out []netip.Addr
	for _, attachment := range p.Attachments {
		if !m.Outer(p, attachment.Net) {
			continue
		}
		for _, a := range attachment.Addrs {
			if a.Is6() == v6 {
				out = append(out, a)
			}
		}
	}
	return out
}
