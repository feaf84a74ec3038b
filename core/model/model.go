// Package model is the estate compiled: addresses, networks, ways, sockets, rule lists and sites
// under indexes that are built once, for the questions that trace and findings ask. A
// Model is immutable and may be read by many at once.
package model

import (
	"net/netip"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/names"
	"steady-compass/core/netset"
)

// PlaceID is a host or container; NetID is a network.
type (
	PlaceID int32
	NetID   int32
)

const (
	Nowhere  PlaceID = -1
	NoNet    NetID   = -1
	Internet NetID   = 0 // the network that is always there
)

// Network is a recorded network, or internet.
type Network struct {
	ID       NetID
	Name     string
	Record   *estate.Network // nil for internet
	Prefixes []netip.Prefix
	Set      netset.Addrs // all its addresses
	Free     netset.Addrs // those that nobody holds: the source of a flow "from the network"
	On       PlaceID      // the machine that a container network is inside of; Nowhere for others
	Segment  Segment
	Members  []PlaceID // who holds an address there, in the order written
	onward   []PlaceID // of these, those that may lead flows on to another network
	holders  map[netip.Addr]Holding
}

// Family says whether the network has addresses of a family. Internet has both.
func (n *Network) Family(v6 bool) bool {
	return n.ID == Internet || slices.ContainsFunc(n.Prefixes, func(p netip.Prefix) bool { return p.Addr().Is6() == v6 })
}

// Container says whether the network is inside a machine.
func (n *Network) Container() bool { return n.On != Nowhere }

// Routed says whether a container network's addresses are reachable from outside its machine.
func (n *Network) Routed() bool { return n.Record != nil && n.Record.Routed }

// Holding is who has an address, by which record.
type Holding struct {
	Place  PlaceID
	Record estate.Record
}

// Attachment is a place's attachment to a network.
type Attachment struct {
	Net     NetID
	Addrs   []netip.Addr
	Blocks  []netip.Prefix // blocks routed to it there
	Unknown bool           // it holds an address there that nobody knows
	Gateway bool           // a machine's own attachment in a container network inside it
	Records []estate.Record
}

// Float says whether a container is some point of the network that nobody wrote down.
func (l *Attachment) Float() bool { return len(l.Addrs) == 0 && !l.Unknown && len(l.Blocks) == 0 }

// Route is a written route.
type Route struct {
	To     netip.Prefix // of length 0 for default
	Via    netip.Addr
	Record estate.Record // the route, or the block that is routed by way of its holder
}

// Place is a host or a container.
type Place struct {
	ID          PlaceID
	Name        string
	Host        PlaceID // the machine; itself for a host
	Namespace   PlaceID // whose addresses and sockets it uses; another place's only where it shares its host
	Record      estate.Record
	Router      bool
	Outside     bool
	Unlisted    bool
	Segment     Segment
	Attachments []Attachment
	Routes      []Route
	Sockets     []Socket // of this namespace
	Forwards    []*Forward
	Outbounds   []*Outbound
	Maps        []*Map
	Filters     [5][]*Filter // by Hook
	Containers  []PlaceID    // of a host, in the order written
	networks    []NetID      // the container networks inside it
	owns        map[netip.Addr]bool
	standby     map[netip.Addr]bool // addresses that it shares, and that another holds now
	outer       []NetID             // the network of its default route, where that is written nowhere
}

// IsContainer says whether the place is a container.
func (p *Place) IsContainer() bool { return p.Host != p.ID }

// Owns says whether the address is one of the place's own, loopback aside.
func (p *Place) Owns(a netip.Addr) bool { return p.owns[a] }

// Answers says whether an address is one of the place's own, or one that it stands by for while another holds it.
func (p *Place) Answers(a netip.Addr) bool { return p.owns[a] || p.standby[a] }

// Attachment is the place's attachment in a network; nil where it has none.
func (p *Place) Attachment(n NetID) *Attachment {
	for i := range p.Attachments {
		if p.Attachments[i].Net == n {
			return &p.Attachments[i]
		}
	}
	return nil
}

// Addr is the place's first address in a network of a family.
func (p *Place) Addr(n NetID, v6 bool) (netip.Addr, bool) {
	if attachment := p.Attachment(n); attachment != nil {
		for _, a := range attachment.Addrs {
			if a.Is6() == v6 {
				return a, true
			}
		}
	}
	return netip.Addr{}, false
}

// Hook is where on its way through a machine a filter meets a flow.
type Hook uint8

const (
	Prerouting Hook = iota
	Input
	Forwarding
	Output
	Postrouting
)

var hooks = []string{"arriving", "input", "through", "output", "departing"}

func (h Hook) String() string { return hooks[h] }

// Filter is a filter with its rules, as it stands on one machine.
type Filter struct {
	Record *estate.Filter
	Rules  []*Rule // in the order in which a flow meets them: where drops win, these first
	index  *ruleIndex
	Lines  int // how many lines are written, off ones too
}

// Rule is one line of a filter.
type Rule struct {
	Record   *estate.Rule
	Place    int // from 1, among all lines of the filter, off ones too
	From, To Match
	Entering NetID // NoNet where not written
	Leaving  NetID
	Ports    netset.Ports
	Dead     bool // names a network that is not recorded: it matches nothing
}

// Forward is a port forward of a router.
type Forward struct {
	Record *estate.Forward
	From   Match
	Pairs  []estate.Pair
	Ports  netset.Ports
}

// Outbound is a line that rewrites sources.
type Outbound struct {
	Record  *estate.Outbound
	From    Match
	Leaving NetID
	As      netip.Addr // invalid: unchanged
	Dead    bool
}

// Map is a container port mapping.
type Map struct {
	Record    *estate.Map
	Container PlaceID // Nowhere where it is not recorded
	Net       NetID   // the network it leads into
	Pairs     []estate.Pair
	Ports     netset.Ports
}

// Socket is a listener as it stands in a namespace.
type Socket struct {
	Record *estate.Listen
	Place  PlaceID // the host or container that the record names
	Ports  netset.Ports
}

// Takes says whether the socket takes flows to an address of its own namespace. Loopback is for the
// namespace itself: local.
func (s *Socket) Takes(dst netip.Addr, local bool) bool {
	bound := s.Record.Bind.Addr
	switch {
	case !bound.IsValid():
		return true
	case bound.IsUnspecified():
		return bound.Is6() == dst.Is6()
	case bound.IsLoopback() && !local:
		return false
	}
	return bound == dst
}

// Model is a compiled estate.
type Model struct {
	Estate   *estate.Estate
	Names    *names.Names
	Networks []*Network // by NetID
	Places   []*Place   // by PlaceID
	Internet netset.Addrs
	Services map[string]*Service
	Certs    map[string]*estate.Cert
	CertList []*estate.Cert
	CertsAt  map[string][]*estate.Cert // by the place where they lie
	CertsFor map[string][]*estate.Cert // by a name that they are written for
	Pools    map[string]*estate.Pool
	Members  map[string][]*estate.Member // by pool, in the order written
	Tunnels  map[string]*estate.Tunnel
	Intents  []*estate.Intent
	Off      []estate.Record   // recorded, not in force
	off      [][]estate.Record // the same, by kind
	Blocks   []Block           // blocks routed to a host from internet
	inner    []Block           // blocks routed to a host from another network
	// Stateless says that some filter keeps no state, so that replies are judged by rules too.
	Stateless bool

	places   map[string]PlaceID
	networks map[string]NetID
	groups   map[string][]estate.Selector
	ranged   []ranged
	matches  map[string]Match
	regions  *regions
	routers  map[Segment][]PlaceID
	owners   map[netip.Addr][]Holding // every address of a host or container, wherever it is
}

// ranged is a group of which addresses are members by their number: what is for it is for whoever asks from one of them.
type ranged struct {
	group string
	set   netset.Addrs
}

// Block is a block of addresses routed to a host.
type Block struct {
	Prefix netip.Prefix
	Net    NetID // from where it is routed
	Place  PlaceID
	Record *estate.Address
}

// Service is what listens under one name, with its sites.
type Service struct {
	Name     string
	Listens  []*estate.Listen
	Sites    []*Site // in order; added to by Add alone
	byName   map[string][]*Site
	defaults []*Site

	ByAddress bool // some of its sites are picked at one address only
	Closed    bool // it has sites, and all of them are off: it answers nothing
}

// Add adds sites behind the others.
func (s *Service) Add(sites ...*Site) {
	if s.byName == nil {
		s.byName = map[string][]*Site{}
	}
	for _, site := range sites {
		s.Sites = append(s.Sites, site)
		s.byName[site.Name] = append(s.byName[site.Name], site)
		if a := site.Record.At.Addr; a.IsValid() && !a.IsUnspecified() {
			s.ByAddress = true
		}
		if site.Record.Default {
			s.defaults = append(s.defaults, site)
		}
	}
}

// Named are the sites of a name, in order; not to be changed.
func (s *Service) Named(name string) []*Site { return s.byName[name] }

// Defaults are the names of sites that take what no site names, in order; not to be changed.
func (s *Service) Defaults() []*Site { return s.defaults }

// Site is one name of a site of a service, in the order in which the record has them.
type Site struct {
	Name    string // a host name, an address, a wildcard or "*"
	Record  *estate.Site
	Ports   netset.Ports // those it is picked at; empty: at every listener of the service
	Sources Match
}

// Match is a set of addresses as a record names it. Float lists the containers without a
// written address that it names.
type Match struct {
	Any   bool
	Set   netset.Addrs
	Float []PlaceID
}

func (m *Model) holdsOnInternet(host string, v6 bool) ([]netip.Addr, bool) {
	p := m.PlaceNamed(host)
	if p == nil {
		return nil, false
	}
	var out []netip.Addr
	unknown := false
	if attachment := p.Attachment(Internet); attachment != nil {
		for _, a := range attachment.Addrs {
			if a.Is6() == v6 {
				out = append(out, a)
			}
		}
		unknown = attachment.Unknown && !v6 && len(out) == 0
	}
	return out, unknown
}

// TakenPorts are the ports of a machine, for a transport, that a listener, a map or a forward has on an address, on any
// where that is not valid: forwards of its own, and those that lead to it. One that takes every port is left out.
func (m *Model) TakenPorts(p *Place, on netip.Addr, t netset.Transport) netset.Ports {
	var taken []netset.PortRange
	there := func(bound netip.Addr) bool {
		return !on.IsValid() || !bound.IsValid() || bound == on || bound.Is6() == on.Is6() && (bound.IsUnspecified() || on.IsUnspecified())
	}
	for i := range p.Sockets {
		if b := p.Sockets[i].Record.Bind; b.Transport&t != 0 && there(b.Addr) {
			taken = append(taken, p.Sockets[i].Ports.Ranges()...)
		}
	}
	for _, mp := range p.Maps {
		if b := mp.Record.Bind; b.Transport&t != 0 && there(b.Addr) {
			taken = append(taken, mp.Ports.Ranges()...)
		}
	}
	for _, r := range m.Places {
		for _, f := range r.Forwards {
			switch {
			case f.Record.Bind.Transport&t == 0 || f.Record.Bind.Any:
			case r == p && there(f.Record.Bind.Addr):
				taken = append(taken, f.Ports.Ranges()...)
			case r != p && p.Owns(f.Record.To.Addr) && there(f.Record.To.Addr):
				for _, pair := range f.Pairs {
					taken = append(taken, netset.PortRange{Lo: pair.To, Hi: pair.Inner(pair.From.Hi)})
				}
			}
		}
	}
	return netset.PortsOf(taken...)
}

// PlaceNamed is a recorded host or container in force; nil where there is none.
func (m *Model) PlaceNamed(name string) *Place {
	if id, ok := m.places[name]; ok {
		return m.Places[id]
	}
	return nil
}

// NetNamed is a recorded network in force, or internet; nil where there is none.
func (m *Model) NetNamed(name string) *Network {
	if id, ok := m.networks[name]; ok {
		return m.Networks[id]
	}
	return nil
}

// GroupNamed are the members of a group; false where it is not recorded.
func (m *Model) GroupNamed(name string) ([]estate.Selector, bool) {
	members, ok := m.groups[name]
	return members, ok
}

// Holder is who holds an address in a network.
func (n *Network) Holder(a netip.Addr) (Holding, bool) {
	h, ok := n.holders[a]
	return h, ok
}

// Owners are all hosts and containers that hold an address, in whatever network.
func (m *Model) Owners(a netip.Addr) []Holding { return m.owners[a] }

// AskerAt is who asks, seen from a place or, where it is Nowhere, a network.
func (m *Model) AskerAt(p PlaceID, n NetID) names.Asker {
	var a names.Asker
	nets := func(place *Place) {
		var out []string
		for _, attachment := range place.Attachments {
			out = append(out, m.Networks[attachment.Net].Name)
		}
		a.Levels = append(a.Levels, out)
	}
	if p == Nowhere {
		a.Levels = [][]string{{m.Networks[n].Name}}
		if on := m.Networks[n].On; on != Nowhere {
			a.Levels = append(a.Levels, []string{m.Places[on].Name})
			nets(m.Places[on])
		}
		return a
	}
	place := m.Places[p]
	a.Place = place.Name
	if place.IsContainer() {
		a.Levels = append(a.Levels, append(m.groupsOf(place), place.Name))
		if place.Namespace != place.ID {
			a.Place = m.Places[place.Host].Name // its hosts file is the machine's
		}
	}
	host := m.Places[place.Host]
	a.Levels = append(a.Levels, append(m.groupsOf(host), host.Name))
	if place.IsContainer() {
		nets(place)
	}
	nets(host)
	return a
}

// AskerOf is who asks from some addresses of a network that nobody recorded holds.
func (m *Model) AskerOf(set netset.Addrs, n NetID) names.Asker {
	a := m.AskerAt(Nowhere, n)
	var in []string
	for i := range m.ranged {
		if m.ranged[i].set.Covers(set) {
			in = append(in, m.ranged[i].group)
		}
	}
	if len(in) > 0 {
		a.Levels = append([][]string{in}, a.Levels...)
	}
	return a
}

// groupsOf are the groups of which a place is a member by an address of its own.
func (m *Model) groupsOf(p *Place) []string {
	var out []string
	for i := range m.ranged {
		if p.holdsAny(m.ranged[i].set) {
			out = append(out, m.ranged[i].group)
		}
	}
	return out
}

func (p *Place) holdsAny(set netset.Addrs) bool {
	for i := range p.Attachments {
		if slices.ContainsFunc(p.Attachments[i].Addrs, set.Contains) {
			return true
		}
	}
	return false
}

// MatchOf is the set that a list of selectors stands for in a line that stands on a machine.
func (m *Model) MatchOf(list []estate.Selector, on *Place) Match {
	clone := *m
	clone.matches = map[string]Match{}
	return clone.match(list, on)
}
