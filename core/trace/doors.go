package trace

import (
	"net/netip"
	"slices"
	"sync"

	"github.com/gaissmai/bart"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// candidate is an address at which something of ours may answer.
type candidate struct {
	dst  dest
	word string
}

// doors are the addresses at which something of ours may answer, in the order written; the lists are of their indices.
type doors struct {
	list     []doorAt
	prefixes []prefixAt
	islands  map[model.Island][]int         // those that something of an island may take, or is beside
	public   []int                          // those that the internet carries flows to
	routed   bart.Table[[]model.PlaceID]    // the blocks routed to hosts, from wherever
	named    map[netip.Addr][]model.PlaceID // who has a forward for an address
	unknown  bool                           // somebody holds an address that nobody knows
	sources  map[model.Island]netset.Addrs  // what flows may have as their source by the time they leave an island
	ours     netset.Addrs                   // every source that is not a stranger's out on the internet
	own      map[model.Island]netset.Addrs  // of these, those of an island
	shared   netset.Addrs                   // and those of more than one
}

// doorAt is one of the doors; prefix is the index of the prefix that it is in, -1 where every origin may try it.
type doorAt struct {
	candidate
	prefix int
}

type prefixAt struct {
	net model.NetID
	one netip.Addr // any of the doors in it: what leads to one leads to all
}

// doorList is the doors, worked out once.
type doorList struct {
	once sync.Once
	all  *doors
}

// sameDoors says whether nothing changed between two models that the doors come of.
func sameDoors(before, after *model.Model) bool {
	if !after.HangsTogetherAs(before) || !estate.Same(before.Estate, after.Estate, "outbound") {
		return false
	}
	gone, come := estate.Changed(before.Estate, after.Estate, estate.KindNamed("forward"))
	return !slices.ContainsFunc(slices.Concat(gone, come), func(r estate.Record) bool { return r.(*estate.Forward).Bind.Addr.IsValid() })
}

func (t *Tracer) allDoors() *doors {
	t.doors.once.Do(func() {
		d := &doors{islands: map[model.Island][]int{}, sources: map[model.Island]netset.Addrs{}, own: map[model.Island]netset.Addrs{}, named: map[netip.Addr][]model.PlaceID{}}
		seen := map[netip.Addr]bool{}
		index := map[netip.Prefix]int{}
		add := func(a netip.Addr, net model.NetID) {
			if seen[a] || a.IsLoopback() {
				return
			}
			seen[a] = true
			at := doorAt{candidate{toAddr(a), a.String()}, -1}
			if net != model.Internet && net != model.NoNet {
				key := t.prefixOf(net, a)
				i, known := index[key]
				if !known {
					i = len(d.prefixes)
					index[key] = i
					d.prefixes = append(d.prefixes, prefixAt{net, a})
				}
				at.prefix = i
			}
			d.list = append(d.list, at)
		}
		held := map[model.Island][]netip.Addr{}
		for _, p := range t.m.Places {
			for _, leg := range p.Legs {
				for _, b := range leg.Blocks {
					d.routed.Modify(b, func(ids []model.PlaceID, _ bool) ([]model.PlaceID, bool) {
						return append(slices.Clone(ids), p.ID), false
					})
				}
			}
			held[p.Island] = p.AppendSources(held[p.Island])
			if p.Outside {
				continue
			}
			for _, leg := range p.Legs {
				d.unknown = d.unknown || leg.Unknown
				for _, a := range leg.Addrs {
					add(a, leg.Net)
				}
				if p.IsContainer() && p.Stack == p.ID && leg.Float() {
					d.islands[p.Island] = append(d.islands[p.Island], len(d.list))
					d.list = append(d.list, doorAt{candidate{dest{float: p.ID, net: leg.Net, name: p.Name}, p.Name}, -1})
				}
			}
			for _, f := range p.Forwards {
				if a := f.Record.Bind.Addr; a.IsValid() {
					add(a, model.NoNet)
					d.named[a] = append(d.named[a], p.ID)
				}
			}
		}
		own := map[model.Island][]netset.Addrs{}
		for island, list := range held {
			d.sources[island] = netset.AddrsOf(list...)
			own[island] = append(own[island], d.sources[island])
		}
		for _, n := range t.m.Networks[1:] {
			own[n.Island] = append(own[n.Island], n.Set)
		}
		for island, sets := range own {
			d.own[island] = netset.Union(sets...)
			d.shared = netset.Union(d.shared, d.ours.Intersect(d.own[island]))
			d.ours = netset.Union(d.ours, d.own[island])
		}
		for i, c := range d.list {
			if !c.dst.addr.IsValid() {
				continue
			}
			for _, island := range d.islandsOf(t.m, c.dst.addr) {
				d.islands[island] = append(d.islands[island], i)
			}
			if netset.GloballyReachable().Contains(c.dst.addr) {
				d.public = append(d.public, i)
			}
		}
		t.doors.all = d
	})
	return t.doors.all
}

// routedTo are the hosts to which blocks that an address is in are routed, from wherever.
func (d *doors) routedTo(a netip.Addr) []model.PlaceID {
	var out []model.PlaceID
	for _, ids := range d.routed.Supernets(netip.PrefixFrom(a, a.BitLen())) {
		out = append(out, ids...)
	}
	return out
}

// islandsOf are those in which something may take what is for an address, or is beside it; each once.
func (d *doors) islandsOf(m *model.Model, a netip.Addr) []model.Island {
	var out []model.Island
	add := func(island model.Island) {
		if !slices.Contains(out, island) {
			out = append(out, island)
		}
	}
	for _, h := range m.Owners(a) {
		add(m.Places[h.Place].Island)
	}
	for _, n := range m.NetworksAround(a) {
		add(m.Networks[n].Island)
	}
	for _, p := range d.routedTo(a) {
		add(m.Places[p].Island)
	}
	for _, p := range d.named[a] {
		add(m.Places[p].Island)
	}
	return out
}

// openAbroad are the doors that let in more than strangers from the internet: those worth trying from other islands.
func (t *Tracer) openAbroad() []int {
	t.abroadOnce.Do(func() {
		d := t.allDoors()
		out := []int{}
		for _, i := range d.public {
			if slices.ContainsFunc(netset.Both.Each(), func(proto netset.Transport) bool { return t.shoreOf(d.list[i].dst, proto).abroad }) {
				out = append(out, i)
			}
		}
		t.abroad.Store(&out)
	})
	return *t.abroad.Load()
}

// sameTrials says whether the addresses worth trying are those of before the edit.
func (t *Tracer) sameTrials() bool {
	if t.was.learned == nil {
		return false
	}
	abroad := t.was.learned.abroad.Load()
	return abroad != nil && slices.Equal(*abroad, t.openAbroad())
}

// elsewhere are the sources of ours that are not of some islands alone.
func (d *doors) elsewhere(islands []model.Island) netset.Addrs {
	sets := make([]netset.Addrs, len(islands))
	for i, island := range islands {
		sets[i] = d.own[island]
	}
	return d.ours.Subtract(netset.Union(sets...).Subtract(d.shared))
}

// candidates are the addresses worth trying from an origin: on its own island those that something there may take, and
// from the internet those that it carries flows to. Where nothing leads to a network, none of its addresses is worth it.
func (t *Tracer) candidates(o origin) []candidate {
	all := t.allDoors()
	var at []int
	switch {
	case o.place != model.Nowhere:
		at = slices.Concat(all.islands[t.m.Places[o.place].Island], all.public)
	case o.net == model.Internet:
		at = slices.Clone(all.public)
	default:
		at = slices.Concat(all.islands[t.m.Networks[o.net].Island], t.openAbroad())
	}
	slices.Sort(at)
	leads := map[int]bool{} // by prefix
	var out []candidate
	for _, i := range slices.Compact(at) {
		d := &all.list[i]
		switch {
		case d.dst.float != model.Nowhere:
			if !t.besideOrigin(o, d.dst.net) {
				continue
			}
		case d.prefix >= 0:
			lead, known := leads[d.prefix]
			if !known {
				p := all.prefixes[d.prefix]
				lead = t.mayLead(o, p.net, p.one)
				leads[d.prefix] = lead
			}
			if !lead {
				continue
			}
		}
		out = append(out, d.candidate)
	}
	return out
}

// takingKey is an address and what may be listened for there.
type takingKey struct {
	addr  netip.Addr
	proto netset.Transport
}

// taking is whether anything takes flows at an address.
type taking struct {
	takes bool
	reads Reads
}

// mayTake says whether anything could take flows to a candidate over a transport, whatever stands before it. Where it says
// no, nothing is open there and nothing is undecided.
func (t *Tracer) mayTake(c candidate, proto netset.Transport, reads *Reads) bool {
	if c.dst.float != model.Nowhere {
		p := t.m.Places[c.dst.float]
		return t.listens(p, proto, reads) || slices.ContainsFunc(t.forwardsTo(p, proto), func(a netip.Addr) bool {
			x := t.addressTakes(a, proto)
			reads.And(&x.reads)
			return x.takes
		})
	}
	x := t.addressTakes(c.dst.addr, proto)
	reads.And(&x.reads)
	return x.takes
}

// addressTakes says whether whoever holds an address, or what it forwards to, listens for a transport. Forwards may go in rings:
// each address counts once.
func (t *Tracer) addressTakes(a netip.Addr, proto netset.Transport) *taking {
	key := takingKey{a, proto}
	if known, ok := t.taking.find(key, t.was.touch); ok {
		return known
	}
	x := &taking{takes: t.allDoors().unknown}
	seen := map[netip.Addr]bool{a: true}
	for open := []netip.Addr{a}; len(open) > 0 && !x.takes; {
		at := open[len(open)-1]
		open = open[:len(open)-1]
		places := t.allDoors().routedTo(at)
		for _, h := range t.m.Owners(at) {
			places = append(slices.Clip(places), h.Place)
		}
		for _, id := range places {
			p := t.m.Places[id]
			x.takes = x.takes || t.listens(p, proto, &x.reads)
			for _, to := range t.forwardsTo(p, proto) {
				if !seen[to] {
					seen[to] = true
					open = append(open, to)
				}
			}
		}
	}
	t.taking.keep(key, x)
	return x
}

// listens says whether a place listens for a transport, or whether nobody wrote down what does.
func (t *Tracer) listens(p *model.Place, proto netset.Transport, reads *Reads) bool {
	stack := t.m.Places[p.Stack]
	reads.place(p.ID)
	reads.place(stack.ID)
	return p.Unlisted || p.Outside || stack.Unlisted ||
		slices.ContainsFunc(stack.Sockets, func(s model.Socket) bool { return s.Record.Bind.Transport&proto != 0 }) ||
		slices.ContainsFunc(p.Maps, func(m *model.Map) bool { return m.Record.Bind.Transport&proto != 0 }) ||
		slices.ContainsFunc(p.Forwards, func(f *model.Forward) bool { return f.Record.Pool != "" && f.Record.Bind.Transport&proto != 0 })
}

// forwardsTo are the addresses of others that a place forwards to.
func (t *Tracer) forwardsTo(p *model.Place, proto netset.Transport) []netip.Addr {
	var out []netip.Addr
	for _, f := range p.Forwards {
		if f.Record.Bind.Transport&proto != 0 && f.Record.Pool == "" && !p.Owns(f.Record.To.Addr) {
			out = append(out, f.Record.To.Addr)
		}
	}
	return out
}

// shore is what is let in from the internet, of what is for one address.
type shore struct {
	islands []model.Island // where something may take it, or is beside it
	sure    bool           // the internet leads it to one machine
	admits  netset.Addrs   // the sources of whatever comes through there, or cannot be told
	abroad  bool           // it lets in some of ours that are not of those islands
	reads   Reads
}

// shoreOf is the shore of an address, worked out once.
func (t *Tracer) shoreOf(to dest, proto netset.Transport) *shore {
	key := takingKey{to.addr, proto}
	if known, ok := t.shores.find(key, t.was.touch); ok {
		return known
	}
	s := &shore{islands: t.allDoors().islandsOf(t.m, to.addr)}
	switch hop := t.m.InternetHop(to.addr, model.Nowhere); hop.Kind {
	case model.Nobody, model.NoWay, model.Outward:
		s.sure = true
	case model.OnLink, model.Via:
		s.sure = true
		s.islands = append(s.islands, t.m.Places[hop.Place].Island)
		var sets []netset.Addrs
		c := t.crossed(t.m.Places[hop.Place], to, crossingKey{hop.Place, to.addr, proto}, nil)
		s.reads.And(&c.reads)
		for _, l := range c.landings {
			sets = append(sets, l.origins)
		}
		s.admits = netset.Union(sets...)
	}
	s.abroad = !s.sure || s.admits.Overlaps(t.allDoors().elsewhere(s.islands))
	t.shores.keep(key, s)
	return s
}

// keptOut says whether nothing from an origin comes to an address, whatever becomes of it on its way out: it has to cross
// the internet, and on the other side none of the sources that it may have by then is let in.
func (t *Tracer) keptOut(from model.Island, sources netset.Addrs, c candidate, proto netset.Transport, reads *Reads) bool {
	if !c.dst.addr.IsValid() {
		return false
	}
	s := t.shoreOf(c.dst, proto)
	reads.And(&s.reads)
	return s.sure && !slices.Contains(s.islands, from) && !s.admits.Overlaps(sources)
}

// outwards are the sources that flows from an origin may have by the time they leave its island; Mainland where they are on
// the internet already, or are not all known.
func (t *Tracer) outwards(o origin) (model.Island, netset.Addrs) {
	if o.place != model.Nowhere || o.net == model.Internet {
		return model.Mainland, netset.Addrs{}
	}
	island := t.m.Networks[o.net].Island
	return island, netset.Union(o.set, t.allDoors().sources[island])
}

// mayLead says whether anything may lead from an origin to a prefix that an address is in. Where it says no, no
// flow to any address of that prefix gets further than its first machine.
func (t *Tracer) mayLead(o origin, net model.NetID, a netip.Addr) bool {
	at := o.place
	if at == model.Nowhere {
		from := t.m.Networks[o.net]
		if o.net == net || from.Set.Contains(a) {
			return true
		}
		if from.Container() {
			at = from.On // what leaves it leaves by its machine
		} else {
			for _, p := range from.Members {
				if len(t.m.Places[p].Routes) > 0 {
					return true // a written route may be for one address only
				}
			}
			return t.m.FromNetwork(o.net, a).Kind != model.NoWay
		}
	}
	machine := t.m.Places[t.m.Places[at].Host]
	return len(machine.Routes) > 0 || machine.Owns(a) || t.m.NextHop(machine, a).Kind != model.NoWay
}
