package model

import (
	"cmp"
	"iter"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/names"
	"steady-compass/core/netset"
)

// Compile builds the model. Records that are off are left out, and listed in Off.
func Compile(e *estate.Estate) *Model {
	m := hanging(e)
	m.compileLines(part{all: true, rules: e.Of(estate.KindNamed("rule"))})
	m.compileRest()
	return m
}

// hanging is a model as far as machines, and how they hang together.
func hanging(e *estate.Estate) *Model {
	m := &Model{
		Estate: e, Services: map[string]*Service{}, Certs: map[string]*estate.Cert{},
		places: map[string]PlaceID{}, networks: map[string]NetID{"internet": Internet},
		groups: map[string][]estate.Selector{}, matches: map[string]Match{}, owners: map[netip.Addr][]Holding{},
	}
	m.Networks = []*Network{{ID: Internet, Name: "internet", On: Nowhere, holders: map[netip.Addr]Holding{}}}
	m.compileNetworks()
	m.compilePlaces()
	m.compileAddresses()
	m.compileRoutes()
	m.compileRegions()
	m.compileSegments()
	m.compileOuter()
	return m
}

// compileRest compiles what is no machine's.
func (m *Model) compileRest() {
	m.compileLists()
	m.compileOff(func(*estate.Kind) bool { return true })
	m.Names = names.Compile(m.Estate, m.holdsOnInternet)
}

func inForce[T estate.Record](e *estate.Estate, kind string) []T {
	return slices.Collect(eachInForce[T](e, kind))
}

func eachInForce[T estate.Record](e *estate.Estate, kind string) iter.Seq[T] {
	return func(yield func(T) bool) {
		for _, r := range e.Of(estate.KindNamed(kind)) {
			if !r.Meta().Off && !yield(r.(T)) {
				return
			}
		}
	}
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
		p := &Place{ID: id, Name: name, Host: id, Namespace: id, Record: r, owns: map[netip.Addr]bool{}}
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
		m.Places[h].Containers = append(m.Places[h].Containers, p.ID)
		if r.SharesHost {
			p.Namespace = h
		}
		p.Unlisted = m.Places[h].Unlisted
	}
	for _, r := range inForce[*estate.Group](m.Estate, "group") {
		if _, taken := m.groups[r.Name]; taken {
			continue
		}
		m.groups[r.Name] = r.Members
		var ranges []netip.Prefix
		for _, member := range r.Members {
			if member.Prefix.IsValid() {
				ranges = append(ranges, member.Prefix)
			}
		}
		if len(ranges) > 0 {
			m.ranged = append(m.ranged, ranged{r.Name, netset.PrefixesOf(ranges...)})
		}
	}
}

func (m *Model) attachment(p *Place, n NetID) *Attachment {
	if l := p.Attachment(n); l != nil {
		return l
	}
	p.Attachments = append(p.Attachments, Attachment{Net: n})
	net := m.Networks[n]
	net.Members = append(net.Members, p.ID)
	return &p.Attachments[len(p.Attachments)-1]
}

func (m *Model) hold(p *Place, n NetID, a netip.Addr, r estate.Record) {
	attachment := m.attachment(p, n)
	attachment.Addrs = append(attachment.Addrs, a)
	attachment.Records = append(attachment.Records, r)
	p.owns[a] = true
	if _, taken := m.Networks[n].holders[a]; !taken {
		m.Networks[n].holders[a] = Holding{p.ID, r}
	}
	m.owners[a] = append(m.owners[a], Holding{p.ID, r})
}

// holders are the host that holds an address, the first in force of those that share it, and those that stand by.
func (m *Model) holders(r *estate.Address) (first *Place, others []*Place) {
	for _, name := range r.Hosts {
		switch p := m.PlaceNamed(name); {
		case p == nil:
		case first == nil:
			first = p
		default:
			others = append(others, p)
		}
	}
	return first, others
}

func (m *Model) compileAddresses() {
	for _, r := range inForce[*estate.Address](m.Estate, "address") {
		p, others := m.holders(r)
		n, okNet := m.networks[r.Network]
		if p == nil || !okNet {
			continue
		}
		switch {
		case r.Held.Unknown:
			attachment := m.attachment(p, n)
			attachment.Unknown = true
			attachment.Records = append(attachment.Records, r)
		case r.Held.Block.IsValid():
			attachment := m.attachment(p, n)
			attachment.Blocks = append(attachment.Blocks, r.Held.Block)
			attachment.Records = append(attachment.Records, r)
			if b := (Block{r.Held.Block, n, p.ID, r}); n == Internet {
				m.Blocks = append(m.Blocks, b)
			} else {
				m.inner = append(m.inner, b)
			}
		default:
			m.hold(p, n, r.Held.Addr, r)
			for _, other := range others {
				if other.standby == nil {
					other.standby = map[netip.Addr]bool{}
				}
				other.standby[r.Held.Addr] = true
			}
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
		m.attachment(host, n.ID).Gateway = true
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
			attachment := m.attachment(m.Places[id], n)
			if len(a.Addrs) == 0 {
				attachment.Records = append(attachment.Records, r)
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
	for _, b := range slices.Concat(m.Blocks, m.inner) {
		blocks = append(blocks, b.Prefix)
	}
	taken = append(taken, netset.AddrsOf(heldThere...), netset.PrefixesOf(blocks...))
	m.Internet = netset.GloballyReachable().Subtract(netset.Union(taken...))
	m.Networks[Internet].Set, m.Networks[Internet].Free = m.Internet, m.Internet
	slices.SortStableFunc(m.Blocks, func(a, b Block) int { return cmp.Compare(b.Prefix.Bits(), a.Prefix.Bits()) })
}

// compileRoutes gives the machines their written routes, the most specific first.
func (m *Model) compileRoutes() {
	for _, r := range inForce[*estate.Route](m.Estate, "route") {
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
	m.routeBlocks()
	for _, p := range m.Places {
		slices.SortStableFunc(p.Routes, func(a, b Route) int { return cmp.Compare(b.To.Bits(), a.To.Bits()) })
	}
}

// routeBlocks gives the machines of a network their way to a block that is routed to one of them there.
func (m *Model) routeBlocks() {
	for _, b := range m.inner {
		via, ok := m.Places[b.Place].Addr(b.Net, b.Prefix.Addr().Is6())
		if !ok {
			continue // by an address that nobody wrote down
		}
		for _, id := range m.Networks[b.Net].Members {
			if id != b.Place {
				m.Places[id].Routes = append(m.Places[id].Routes, Route{b.Prefix, via, b.Record})
			}
		}
	}
}

// compileOuter finds the network by which a router that is not on internet, and has no default route written, is led there: the
// only router of its networks that leads on.
func (m *Model) compileOuter() {
	for _, p := range m.Places {
		if !p.Router || p.Attachment(Internet) != nil || slices.ContainsFunc(p.Routes, func(r Route) bool { return r.To.Bits() == 0 }) {
			continue
		}
		for _, v6 := range []bool{false, true} {
			anywhere := m.Internet.Of(v6).Lowest()
			if !anywhere.IsValid() {
				continue
			}
			if hop := m.byRouter(p, anywhere); hop.Kind == Via && !slices.Contains(p.outer, hop.Net) {
				p.outer = append(p.outer, hop.Net)
			}
		}
	}
}

// match compiles selectors; on is the machine whose networks on-link stands for. No selectors match
// anything.
func (m *Model) match(selectors []estate.Selector, on *Place) Match {
	if len(selectors) == 0 {
		return Match{Any: true, Set: netset.Everything()}
	}
	if len(selectors) == 1 {
		return m.matchOne(selectors[0], on)
	}
	var sets []netset.Addrs
	var out Match
	for _, s := range selectors {
		one := m.matchOne(s, on)
		out.Any = out.Any || one.Any
		sets = append(sets, one.Set)
		out.Float = append(out.Float, one.Float...)
	}
	out.Set = netset.Union(sets...)
	return out
}

func (m *Model) matchOne(s estate.Selector, on *Place) Match {
	switch {
	case s.Word == "any":
		return Match{Any: true, Set: netset.Everything()}
	case s.Word == "internet":
		return Match{Set: m.Internet}
	case s.Word == "on-link":
		var sets []netset.Addrs
		if on != nil {
			for _, attachment := range on.Attachments {
				if attachment.Net != Internet {
					sets = append(sets, m.Networks[attachment.Net].Set)
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
	} else if _, ok := m.groups[s.Name]; ok {
		out = m.matchGroup(s.Name)
	}
	m.matches[s.Name] = out
	return out
}

// matchGroup joins what a group stands for. Groups may be in one another, and in rings: each counts once, however many ways
// lead to it.
func (m *Model) matchGroup(name string) Match {
	var out Match
	var sets []netset.Addrs
	floats := map[PlaceID]bool{}
	seen := map[string]bool{name: true}
	for open := []string{name}; len(open) > 0; {
		members := m.groups[open[len(open)-1]]
		open = open[:len(open)-1]
		for _, member := range members {
			_, known := m.matches[member.Name]
			if _, group := m.groups[member.Name]; group && !known && !m.isRecorded(member.Name) {
				if !seen[member.Name] {
					seen[member.Name] = true
					open = append(open, member.Name)
				}
				continue
			}
			one := m.matchOne(member, nil)
			sets = append(sets, one.Set)
			for _, id := range one.Float {
				if !floats[id] {
					floats[id] = true
					out.Float = append(out.Float, id)
				}
			}
		}
	}
	out.Set = netset.Union(sets...)
	return out
}

// isRecorded says whether a name is a network's or a place's: these come before a group of that name.
func (m *Model) isRecorded(name string) bool {
	_, network := m.networks[name]
	_, place := m.places[name]
	return network || place
}

func (m *Model) matchPlace(p *Place) Match {
	namespace := m.Places[p.Namespace]
	var addrs []netip.Addr
	var out Match
	for _, attachment := range namespace.Attachments {
		addrs = append(addrs, attachment.Addrs...)
		if namespace.IsContainer() && attachment.Float() {
			out.Float = []PlaceID{namespace.ID}
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
	return clone.matchOne(s, nil)
}
