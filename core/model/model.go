// Package model is the estate compiled: addresses, networks, ways, sockets, rule lists and sites
// under indexes that are built once, for the questions that trace and findings ask. A
// Model is immutable and may be read by many at once.
package model

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

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
	Island   Island
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

// Leg is a place's attachment to a network.
type Leg struct {
	Net     NetID
	Addrs   []netip.Addr
	Blocks  []netip.Prefix // blocks routed to it there
	Unknown bool           // it holds an address there that nobody knows
	Gateway bool           // a machine's own leg in a container network inside it
	Records []estate.Record
}

// Float says whether a container is some point of the network that nobody wrote down.
func (l *Leg) Float() bool { return len(l.Addrs) == 0 && !l.Unknown && len(l.Blocks) == 0 }

// Route is a written route.
type Route struct {
	To     netip.Prefix // of length 0 for default
	Via    netip.Addr
	Record *estate.Route
}

// Place is a host or a container.
type Place struct {
	ID        PlaceID
	Name      string
	Host      PlaceID // the machine; itself for a host
	Stack     PlaceID // whose addresses and sockets it uses; another place's only where it shares its host
	Record    estate.Record
	Router    bool
	Outside   bool
	Unlisted  bool
	Island    Island
	Legs      []Leg
	Routes    []Route
	Sockets   []Socket // of this stack
	Forwards  []*Forward
	Outbounds []*Outbound
	Maps      []*Map
	Filters   [5][]*Filter // by Hook
	networks  []NetID      // the container networks inside it
	owns      map[netip.Addr]bool
}

// IsContainer says whether the place is a container.
func (p *Place) IsContainer() bool { return p.Host != p.ID }

// Owns says whether the address is one of the place's own, loopback aside.
func (p *Place) Owns(a netip.Addr) bool { return p.owns[a] }

// Leg is the place's leg in a network; nil where it has none.
func (p *Place) Leg(n NetID) *Leg {
	for i := range p.Legs {
		if p.Legs[i].Net == n {
			return &p.Legs[i]
		}
	}
	return nil
}

// Addr is the place's first address in a network of a family.
func (p *Place) Addr(n NetID, v6 bool) (netip.Addr, bool) {
	if leg := p.Leg(n); leg != nil {
		for _, a := range leg.Addrs {
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
	Arriving Hook = iota
	Input
	Through
	Output
	Departing
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

// Socket is a listener as it stands in a stack.
type Socket struct {
	Record *estate.Listen
	Place  PlaceID // the host or container that the record names
	Ports  netset.Ports
}

// Takes says whether the socket takes flows to an address of its own stack. Loopback is for the
// stack itself: local.
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
	Pools    map[string]*estate.Pool
	Intents  []*estate.Intent
	Off      []estate.Record // recorded, not in force
	Blocks   []Block         // blocks routed to a host from internet
	// Stateless says that some filter keeps no state, so that replies are judged by rules too.
	Stateless bool

	places   map[string]PlaceID
	networks map[string]NetID
	groups   map[string][]estate.Selector
	matches  map[string]Match
	regions  *regions
	owners   map[netip.Addr][]Holding // every address of a host or container, wherever it is
}

// Block is a block of addresses routed to a host.
type Block struct {
	Prefix netip.Prefix
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
}

// Add adds sites behind the others.
func (s *Service) Add(sites ...*Site) {
	if s.byName == nil {
		s.byName = map[string][]*Site{}
	}
	for _, site := range sites {
		s.Sites = append(s.Sites, site)
		s.byName[site.Name] = append(s.byName[site.Name], site)
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

// Compile builds the model. Records that are off are left out, and listed in Off.
func Compile(e *estate.Estate) *Model {
	m := &Model{
		Estate: e, Services: map[string]*Service{}, Certs: map[string]*estate.Cert{}, Pools: map[string]*estate.Pool{},
		places: map[string]PlaceID{}, networks: map[string]NetID{"internet": Internet},
		groups: map[string][]estate.Selector{}, matches: map[string]Match{}, owners: map[netip.Addr][]Holding{},
	}
	m.Networks = []*Network{{ID: Internet, Name: "internet", On: Nowhere, holders: map[netip.Addr]Holding{}}}
	for _, k := range estate.Kinds {
		for _, r := range e.Of(k) {
			if r.Meta().Off {
				m.Off = append(m.Off, r)
			}
		}
	}
	m.compileNetworks()
	m.compilePlaces()
	m.compileAddresses()
	m.compileRest()
	m.compileRegions()
	m.compileIslands()
	m.Names = names.Compile(e, m.holdsOnInternet)
	return m
}

func inForce[T estate.Record](e *estate.Estate, kind string) []T {
	var out []T
	for _, r := range e.Of(estate.KindNamed(kind)) {
		if !r.Meta().Off {
			out = append(out, r.(T))
		}
	}
	return out
}

func (m *Model) compileNetworks() {
	for _, r := range inForce[*estate.Network](m.Estate, "network") {
		if _, taken := m.networks[r.Name]; taken {
			continue
		}
		n := &Network{ID: NetID(len(m.Networks)), Name: r.Name, Record: r, Prefixes: r.Prefixes, Set: netset.PrefixesOf(r.Prefixes...), On: Nowhere, holders: map[netip.Addr]Holding{}}
		m.networks[r.Name] = n.ID
		m.Networks = append(m.Networks, n)
	}
}

func (m *Model) compilePlaces() {
	add := func(name string, r estate.Record) *Place {
		if _, taken := m.places[name]; taken {
			return nil
		}
		id := PlaceID(len(m.Places))
		p := &Place{ID: id, Name: name, Host: id, Stack: id, Record: r, owns: map[netip.Addr]bool{}}
		m.places[name] = id
		m.Places = append(m.Places, p)
		return p
	}
	for _, r := range inForce[*estate.Host](m.Estate, "host") {
		if _, net := m.networks[r.Name]; net {
			continue // one name space: the first holds, and networks are written first
		}
		if p := add(r.Name, r); p != nil {
			p.Router, p.Outside, p.Unlisted = r.Router, r.Outside, r.Unlisted
		}
	}
	for _, n := range m.Networks[1:] {
		if n.Record.On != "" {
			if id, ok := m.places[n.Record.On]; ok {
				n.On = id
				m.Places[id].networks = append(m.Places[id].networks, n.ID)
			}
		}
	}
	for _, r := range inForce[*estate.Container](m.Estate, "container") {
		host, _, _ := strings.Cut(r.Name, "/")
		h, ok := m.places[host]
		if !ok {
			continue // record.unknown-reference says so
		}
		p := add(r.Name, r)
		if p == nil {
			continue
		}
		p.Host = h
		if r.SharesHost {
			p.Stack = h
		}
		p.Unlisted = m.Places[h].Unlisted
	}
	for _, r := range inForce[*estate.Group](m.Estate, "group") {
		if _, taken := m.groups[r.Name]; !taken {
			m.groups[r.Name] = r.Members
		}
	}
}

func (m *Model) leg(p *Place, n NetID) *Leg {
	if l := p.Leg(n); l != nil {
		return l
	}
	p.Legs = append(p.Legs, Leg{Net: n})
	net := m.Networks[n]
	net.Members = append(net.Members, p.ID)
	return &p.Legs[len(p.Legs)-1]
}

func (m *Model) hold(p *Place, n NetID, a netip.Addr, r estate.Record) {
	leg := m.leg(p, n)
	leg.Addrs = append(leg.Addrs, a)
	leg.Records = append(leg.Records, r)
	p.owns[a] = true
	if _, taken := m.Networks[n].holders[a]; !taken {
		m.Networks[n].holders[a] = Holding{p.ID, r}
	}
	m.owners[a] = append(m.owners[a], Holding{p.ID, r})
}

func (m *Model) compileAddresses() {
	for _, r := range inForce[*estate.Address](m.Estate, "address") {
		id, ok := m.places[r.Hosts[0]]
		n, okNet := m.networks[r.Network]
		if !ok || !okNet {
			continue
		}
		p := m.Places[id]
		switch {
		case r.Held.Unknown:
			leg := m.leg(p, n)
			leg.Unknown = true
			leg.Records = append(leg.Records, r)
		case r.Held.Block.IsValid():
			leg := m.leg(p, n)
			leg.Blocks = append(leg.Blocks, r.Held.Block)
			leg.Records = append(leg.Records, r)
			if n == Internet {
				m.Blocks = append(m.Blocks, Block{r.Held.Block, id, r})
			}
		default:
			m.hold(p, n, r.Held.Addr, r)
		}
	}
	for _, n := range m.Networks[1:] {
		if !n.Container() {
			continue
		}
		host := m.Places[n.On]
		for _, prefix := range n.Prefixes {
			if gateway := prefix.Addr().Next(); prefix.Contains(gateway) && !host.owns[gateway] {
				m.hold(host, n.ID, gateway, n.Record)
			}
		}
		m.leg(host, n.ID).Gateway = true
	}
	for _, r := range inForce[*estate.Container](m.Estate, "container") {
		id, ok := m.places[r.Name]
		if !ok || m.Places[id].Record != estate.Record(r) {
			continue
		}
		for _, a := range r.In {
			n, ok := m.networks[a.Network]
			if !ok {
				continue
			}
			leg := m.leg(m.Places[id], n)
			if len(a.Addrs) == 0 {
				leg.Records = append(leg.Records, r)
			}
			for _, ip := range a.Addrs {
				m.hold(m.Places[id], n, ip, r)
			}
		}
	}
	var taken []netset.Addrs
	var heldThere []netip.Addr
	for _, n := range m.Networks[1:] {
		taken = append(taken, n.Set)
		var held []netip.Addr
		for a := range n.holders {
			held = append(held, a)
		}
		n.Free = n.Set.Subtract(netset.AddrsOf(held...))
	}
	for a := range m.owners {
		heldThere = append(heldThere, a)
	}
	var blocks []netip.Prefix
	for _, b := range m.Blocks {
		blocks = append(blocks, b.Prefix)
	}
	taken = append(taken, netset.AddrsOf(heldThere...), netset.PrefixesOf(blocks...))
	m.Internet = netset.GloballyReachable().Subtract(netset.Union(taken...))
	m.Networks[Internet].Set, m.Networks[Internet].Free = m.Internet, m.Internet
	slices.SortStableFunc(m.Blocks, func(a, b Block) int { return cmp.Compare(b.Prefix.Bits(), a.Prefix.Bits()) })
}

func (m *Model) compileRest() {
	e := m.Estate
	for _, r := range inForce[*estate.Route](e, "route") {
		if p := m.PlaceNamed(r.Host); p != nil {
			to := netip.PrefixFrom(netip.IPv4Unspecified(), 0)
			switch {
			case r.To != "default":
				to = netip.MustParsePrefix(r.To)
			case r.Via.Is6():
				to = netip.PrefixFrom(netip.IPv6Unspecified(), 0)
			}
			p.Routes = append(p.Routes, Route{to, r.Via, r})
		}
	}
	for _, p := range m.Places {
		slices.SortStableFunc(p.Routes, func(a, b Route) int { return cmp.Compare(b.To.Bits(), a.To.Bits()) })
	}
	for _, r := range inForce[*estate.Forward](e, "forward") {
		if p := m.PlaceNamed(r.Router); p != nil {
			p.Forwards = append(p.Forwards, &Forward{r, m.match(r.From, p), estate.Translate(r.Bind.Ports, r.To.Ports), r.Bind.Set()})
		}
	}
	for _, r := range inForce[*estate.Outbound](e, "outbound") {
		if p := m.PlaceNamed(r.Router); p != nil {
			o := &Outbound{Record: r, From: m.match(r.From, p)}
			o.Leaving, o.Dead = m.netOrNone(r.Leaving)
			if r.As != "unchanged" {
				o.As = netip.MustParseAddr(r.As)
			}
			p.Outbounds = append(p.Outbounds, o)
		}
	}
	for _, r := range inForce[*estate.Map](e, "map") {
		host, _, _ := strings.Cut(r.Container, "/")
		if p := m.PlaceNamed(host); p != nil {
			mp := &Map{r, Nowhere, NoNet, estate.Translate(r.Bind.Ports, r.To), r.Bind.Set()}
			if c := m.PlaceNamed(r.Container); c != nil {
				mp.Container = c.ID
				if len(c.Legs) > 0 {
					mp.Net = c.Legs[0].Net
				}
			}
			p.Maps = append(p.Maps, mp)
		}
	}
	m.compileFilters()
	for _, r := range inForce[*estate.Listen](e, "listen") {
		s := m.Services[r.Service]
		if s == nil {
			s = &Service{Name: r.Service}
			m.Services[r.Service] = s
		}
		s.Listens = append(s.Listens, r)
		if p := m.PlaceNamed(r.Place); p != nil {
			stack := m.Places[p.Stack]
			stack.Sockets = append(stack.Sockets, Socket{r, p.ID, r.Bind.Set()})
		}
	}
	for _, r := range inForce[*estate.Site](e, "site") {
		if s := m.Services[r.Service]; s != nil {
			sources := m.match(r.Sources, nil)
			for _, name := range r.Names {
				s.Add(&Site{name, r, r.At.Set(), sources})
			}
		}
	}
	for _, r := range inForce[*estate.Cert](e, "cert") {
		if m.Certs[r.Name] == nil {
			m.Certs[r.Name] = r
			m.CertList = append(m.CertList, r)
		}
	}
	for _, r := range inForce[*estate.Pool](e, "pool") {
		if m.Pools[r.Name] == nil {
			m.Pools[r.Name] = r
		}
	}
	m.Intents = inForce[*estate.Intent](e, "intend")
}

func (m *Model) compileFilters() {
	rules := map[string][]*estate.Rule{}
	for _, r := range m.Estate.Of(estate.KindNamed("rule")) {
		rule := r.(*estate.Rule)
		rules[rule.Filter] = append(rules[rule.Filter], rule)
	}
	seen := map[string]bool{}
	for _, f := range inForce[*estate.Filter](m.Estate, "filter") {
		if seen[f.Name] {
			continue
		}
		seen[f.Name] = true
		// Rules mean the same on every machine unless they say on-link.
		var shared []*Rule
		var index *ruleIndex
		for _, p := range m.machines(f.On) {
			if shared == nil || slices.ContainsFunc(rules[f.Name], saysOnLink) {
				shared = m.compileRules(rules[f.Name], p)
				if f.DropWins {
					slices.SortStableFunc(shared, func(a, b *Rule) int { return dropsFirst(a) - dropsFirst(b) })
				}
				index = indexRules(shared)
			}
			hook := Hook(slices.Index(hooks, f.Hook))
			p.Filters[hook] = append(p.Filters[hook], &Filter{f, shared, index, len(rules[f.Name])})
			m.Stateless = m.Stateless || f.Stateless
		}
	}
}

func dropsFirst(r *Rule) int {
	if r.Record.Action == "drop" {
		return 0
	}
	return 1
}

func saysOnLink(r *estate.Rule) bool {
	is := func(s estate.Selector) bool { return s.Word == "on-link" }
	return slices.ContainsFunc(r.From, is) || slices.ContainsFunc(r.To, is)
}

func (m *Model) compileRules(rules []*estate.Rule, on *Place) []*Rule {
	out := []*Rule{}
	for i, r := range rules {
		if r.Off {
			continue
		}
		c := &Rule{Record: r, Place: i + 1, From: m.match(r.From, on), To: m.match(r.To, on), Ports: r.Ports.Set()}
		var dead bool
		if c.Entering, dead = m.netOrNone(r.Entering); dead {
			c.Dead = true
		}
		if c.Leaving, dead = m.netOrNone(r.Leaving); dead {
			c.Dead = true
		}
		out = append(out, c)
	}
	return out
}

// machines are the hosts that a filter is on, those of groups included, each once.
func (m *Model) machines(on []string) []*Place {
	var out []*Place
	seen := map[string]bool{}
	var add func(name string)
	add = func(name string) {
		if seen[name] {
			return
		}
		seen[name] = true
		if p := m.PlaceNamed(name); p != nil {
			if !p.IsContainer() {
				out = append(out, p)
			}
			return
		}
		for _, member := range m.groups[name] {
			if member.Name != "" {
				add(member.Name)
			}
		}
	}
	for _, name := range on {
		add(name)
	}
	return out
}

func (m *Model) netOrNone(name string) (NetID, bool) {
	if name == "" {
		return NoNet, false
	}
	id, ok := m.networks[name]
	if !ok {
		return NoNet, true
	}
	return id, false
}

// match compiles selectors; on is the machine whose networks on-link stands for. No selectors match
// anything.
func (m *Model) match(selectors []estate.Selector, on *Place) Match {
	if len(selectors) == 0 {
		return Match{Any: true, Set: netset.Everything()}
	}
	if len(selectors) == 1 {
		return m.matchOne(selectors[0], on, nil)
	}
	var sets []netset.Addrs
	var out Match
	for _, s := range selectors {
		one := m.matchOne(s, on, nil)
		out.Any = out.Any || one.Any
		sets = append(sets, one.Set)
		out.Float = append(out.Float, one.Float...)
	}
	out.Set = netset.Union(sets...)
	return out
}

func (m *Model) matchOne(s estate.Selector, on *Place, within map[string]bool) Match {
	switch {
	case s.Word == "any":
		return Match{Any: true, Set: netset.Everything()}
	case s.Word == "internet":
		return Match{Set: m.Internet}
	case s.Word == "on-link":
		var sets []netset.Addrs
		if on != nil {
			for _, leg := range on.Legs {
				if leg.Net != Internet {
					sets = append(sets, m.Networks[leg.Net].Set)
				}
			}
		}
		return Match{Set: netset.Union(sets...)}
	case s.Prefix.IsValid():
		return Match{Set: netset.PrefixesOf(s.Prefix)}
	}
	if found, ok := m.matches[s.Name]; ok {
		return found
	}
	var out Match
	if id, ok := m.networks[s.Name]; ok {
		out = Match{Set: m.Networks[id].Set}
	} else if id, ok := m.places[s.Name]; ok {
		out = m.matchPlace(m.Places[id])
	} else if members, ok := m.groups[s.Name]; ok && !within[s.Name] {
		inner := map[string]bool{s.Name: true}
		for name := range within {
			inner[name] = true
		}
		var sets []netset.Addrs
		for _, member := range members {
			one := m.matchOne(member, on, inner)
			sets = append(sets, one.Set)
			out.Float = append(out.Float, one.Float...)
		}
		out.Set = netset.Union(sets...)
		if len(within) > 0 {
			return out // part of a ring perhaps: not the whole of the group
		}
	}
	m.matches[s.Name] = out
	return out
}

func (m *Model) matchPlace(p *Place) Match {
	stack := m.Places[p.Stack]
	var addrs []netip.Addr
	var out Match
	for _, leg := range stack.Legs {
		addrs = append(addrs, leg.Addrs...)
		if stack.IsContainer() && leg.Float() {
			out.Float = []PlaceID{stack.ID}
		}
	}
	out.Set = netset.AddrsOf(addrs...)
	return out
}

// Selected is the set that one selector stands for.
func (m *Model) Selected(s estate.Selector) Match {
	if s.Name != "" {
		if found, ok := m.matches[s.Name]; ok {
			return found
		}
	}
	clone := *m
	clone.matches = map[string]Match{} // asked after compilation: the shared index stays as it is
	return clone.matchOne(s, nil, nil)
}

func (m *Model) holdsOnInternet(host string, v6 bool) ([]netip.Addr, bool) {
	p := m.PlaceNamed(host)
	if p == nil {
		return nil, false
	}
	var out []netip.Addr
	unknown := false
	if leg := p.Leg(Internet); leg != nil {
		for _, a := range leg.Addrs {
			if a.Is6() == v6 {
				out = append(out, a)
			}
		}
		unknown = leg.Unknown && !v6 && len(out) == 0
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
		for _, leg := range place.Legs {
			out = append(out, m.Networks[leg.Net].Name)
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
		a.Levels = append(a.Levels, []string{place.Name})
		if place.Stack != place.ID {
			a.Place = m.Places[place.Host].Name // its hosts file is the machine's
		}
	}
	host := m.Places[place.Host]
	a.Levels = append(a.Levels, []string{host.Name})
	if place.IsContainer() {
		nets(place)
	}
	nets(host)
	return a
}

// MatchOf is the set that a list of selectors stands for in a line that stands on a machine.
func (m *Model) MatchOf(list []estate.Selector, on *Place) Match {
	clone := *m
	clone.matches = map[string]Match{}
	return clone.match(list, on)
}
