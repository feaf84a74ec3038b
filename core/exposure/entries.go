package exposure

import (
	"net/netip"
	"slices"
	"sync"

	"github.com/gaissmai/bart"

	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// candidate is an address at which something of ours may answer.
type candidate struct {
	dst  flow.Dest
	word string
}

// entries are the addresses at which something of ours may answer, in the order written; the lists are of their indices.
type entries struct {
	list     []entry
	prefixes []prefixAt
	segments map[model.Segment][]int        // those that something of a segment may take, or is beside
	public   []int                          // those that the internet carries flows to
	routed   bart.Table[[]model.PlaceID]    // the blocks routed to hosts, from wherever
	named    map[netip.Addr][]model.PlaceID // who has a forward for an address
	unknown  bool                           // somebody holds an address that nobody knows
	sources  map[model.Segment]netset.Addrs // what flows may have as their source by the time they leave a segment
	ours     netset.Addrs                   // every source that is not a stranger's out on the internet
	own      map[model.Segment]netset.Addrs // of these, those of a segment
	shared   netset.Addrs                   // and those of more than one
}

// entry is one of the entries; prefix is the index of the prefix that it is in, -1 where every origin may try it.
type entry struct {
	candidate
	prefix int
}

type prefixAt struct {
	net model.NetID
	one netip.Addr // any of the entries in it: what leads to one leads to all
}

// entryList is the entries, worked out once.
type entryList struct {
	once sync.Once
	all  *entries
}

func (t *Engine) allEntries() *entries {
	t.entries.once.Do(func() {
		d := &entries{segments: map[model.Segment][]int{}, sources: map[model.Segment]netset.Addrs{}, own: map[model.Segment]netset.Addrs{}, named: map[netip.Addr][]model.PlaceID{}}
		seen := map[netip.Addr]bool{}
		index := map[netip.Prefix]int{}
		add := func(a netip.Addr, net model.NetID) {
			if seen[a] || a.IsLoopback() {
				return
			}
			seen[a] = true
			at := entry{candidate{flow.ToAddr(a), a.String()}, -1}
			if net != model.Internet && net != model.NoNet {
				key := t.PrefixOf(net, a)
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
		held := map[model.Segment][]netip.Addr{}
		for _, p := range t.Model.Places {
			for _, attachment := range p.Attachments {
				for _, b := range attachment.Blocks {
					d.routed.Modify(b, func(ids []model.PlaceID, _ bool) ([]model.PlaceID, bool) {
						return append(slices.Clone(ids), p.ID), false
					})
				}
			}
			held[p.Segment] = p.AppendSources(held[p.Segment])
			if p.Outside {
				continue
			}
			for _, attachment := range p.Attachments {
				d.unknown = d.unknown || attachment.Unknown
				for _, a := range attachment.Addrs {
					add(a, attachment.Net)
				}
				if p.IsContainer() && p.Namespace == p.ID && attachment.Float() {
					d.segments[p.Segment] = append(d.segments[p.Segment], len(d.list))
					d.list = append(d.list, entry{candidate{flow.Dest{Float: p.ID, Net: attachment.Net, Name: p.Name}, p.Name}, -1})
				}
			}
			for _, f := range p.Forwards {
				if a := f.Record.Bind.Addr; a.IsValid() {
					add(a, model.NoNet)
					d.named[a] = append(d.named[a], p.ID)
				}
			}
		}
		own := map[model.Segment][]netset.Addrs{}
		for segment, list := range held {
			d.sources[segment] = netset.AddrsOf(list...)
			own[segment] = append(own[segment], d.sources[segment])
		}
		for _, n := range t.Model.Networks[1:] {
			own[n.Segment] = append(own[n.Segment], n.Set)
		}
		for segment, sets := range own {
			d.own[segment] = netset.Union(sets...)
			d.shared = netset.Union(d.shared, d.ours.Intersect(d.own[segment]))
			d.ours = netset.Union(d.ours, d.own[segment])
		}
		for i, c := range d.list {
			if !c.dst.Addr.IsValid() {
				continue
			}
			for _, segment := range d.segmentsOf(t.Model, c.dst.Addr) {
				d.segments[segment] = append(d.segments[segment], i)
			}
			if netset.GloballyReachable().Contains(c.dst.Addr) {
				d.public = append(d.public, i)
			}
		}
		t.entries.all = d
	})
	return t.entries.all
}

// routedTo are the hosts to which blocks that an address is in are routed, from wherever.
func (d *entries) routedTo(a netip.Addr) []model.PlaceID {
	var out []model.PlaceID
	for _, ids := range d.routed.Supernets(netip.PrefixFrom(a, a.BitLen())) {
		out = append(out, ids...)
	}
	return out
}

// segmentsOf are those in which something may take what is for an address, or is beside it; each once.
func (d *entries) segmentsOf(m *model.Model, a netip.Addr) []model.Segment {
	var out []model.Segment
	add := func(segment model.Segment) {
		if !slices.Contains(out, segment) {
			out = append(out, segment)
		}
	}
	for _, h := range m.Owners(a) {
		add(m.Places[h.Place].Segment)
	}
	for _, n := range m.NetworksAround(a) {
		add(m.Networks[n].Segment)
	}
	for _, p := range d.routedTo(a) {
		add(m.Places[p].Segment)
	}
	for _, p := range d.named[a] {
		add(m.Places[p].Segment)
	}
	return out
}

// openAbroad are the entries that let in more than strangers from the internet: those worth trying from other segments.
func (t *Engine) openAbroad() []int {
	t.abroadOnce.Do(func() {
		d := t.allEntries()
		out := []int{}
		for _, i := range d.public {
			if slices.ContainsFunc(netset.Both.Each(), func(proto netset.Transport) bool { return t.admissionOf(d.list[i].dst, proto).abroad }) {
				out = append(out, i)
			}
		}
		t.abroad.Store(&out)
	})
	return *t.abroad.Load()
}

// sameTrials says whether the addresses worth trying are those of before the edit.
func (t *Engine) sameTrials() bool {
	if t.was == nil {
		return false
	}
	abroad := t.was.abroad.Load()
	return abroad != nil && slices.Equal(*abroad, t.openAbroad())
}

// admitsOthers says whether some sources have any of ours among them that are not of some segments alone.
func (d *entries) admitsOthers(sources netset.Addrs, segments []model.Segment) bool {
	sets := make([]netset.Addrs, len(segments))
	for i, segment := range segments {
		sets[i] = d.own[segment]
	}
	return sources.Subtract(netset.Union(sets...).Subtract(d.shared)).Overlaps(d.ours)
}

// candidates are the addresses worth trying from an origin: on its own segment those that something there may take, and
// from the internet those that it carries flows to. Where nothing leads to a network, none of its addresses is worth it.
func (t *Engine) candidates(o flow.Origin) []candidate {
	all := t.allEntries()
	var at []int
	switch {
	case o.Place != model.Nowhere:
		at = slices.Concat(all.segments[t.Model.Places[o.Place].Segment], all.public)
	case o.Net == model.Internet:
		at = slices.Clone(all.public)
	default:
		at = slices.Concat(all.segments[t.Model.Networks[o.Net].Segment], t.openAbroad())
	}
	slices.Sort(at)
	leads := map[int]bool{} // by prefix
	var out []candidate
	for _, i := range slices.Compact(at) {
		d := &all.list[i]
		switch {
		case d.dst.Float != model.Nowhere:
			if !t.BesideOrigin(o, d.dst.Net) {
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
	reads memo.Reads
}

// mayTake says whether anything could take flows to a candidate over a transport, whatever stands before it. Where it says
// no, nothing is open there and nothing is undecided.
func (t *Engine) mayTake(c candidate, proto netset.Transport, reads *memo.Reads) bool {
	if c.dst.Float != model.Nowhere {
		p := t.Model.Places[c.dst.Float]
		return t.listens(p, proto, reads) || slices.ContainsFunc(t.forwardsTo(p, proto), func(a netip.Addr) bool {
			x := t.addressTakes(a, proto)
			reads.And(&x.reads)
			return x.takes
		})
	}
	x := t.addressTakes(c.dst.Addr, proto)
	reads.And(&x.reads)
	return x.takes
}

// addressTakes says whether whoever holds an address, or what it forwards to, listens for a transport. Forwards may go in rings:
// each address counts once.
func (t *Engine) addressTakes(a netip.Addr, proto netset.Transport) *taking {
	key := takingKey{a, proto}
	if known, ok := t.taking.Find(key, t.Touch()); ok {
		return known
	}
	x := &taking{takes: t.allEntries().unknown}
	seen := map[netip.Addr]bool{a: true}
	for open := []netip.Addr{a}; len(open) > 0 && !x.takes; {
		at := open[len(open)-1]
		open = open[:len(open)-1]
		places := t.allEntries().routedTo(at)
		for _, h := range t.Model.Owners(at) {
			places = append(slices.Clip(places), h.Place)
		}
		for _, id := range places {
			p := t.Model.Places[id]
			x.takes = x.takes || t.listens(p, proto, &x.reads)
			for _, to := range t.forwardsTo(p, proto) {
				if !seen[to] {
					seen[to] = true
					open = append(open, to)
				}
			}
		}
	}
	t.taking.Keep(key, x)
	return x
}

// listens says whether a place listens for a transport, or whether nobody wrote down what does.
func (t *Engine) listens(p *model.Place, proto netset.Transport, reads *memo.Reads) bool {
	namespace := t.Model.Places[p.Namespace]
	reads.Place(p.ID)
	reads.Place(namespace.ID)
	return p.Unlisted || p.Outside || namespace.Unlisted ||
		slices.ContainsFunc(namespace.Sockets, func(s model.Socket) bool { return s.Record.Bind.Transport&proto != 0 }) ||
		slices.ContainsFunc(p.Maps, func(m *model.Map) bool { return m.Record.Bind.Transport&proto != 0 }) ||
		slices.ContainsFunc(p.Forwards, func(f *model.Forward) bool { return f.Record.Pool != "" && f.Record.Bind.Transport&proto != 0 })
}

// forwardsTo are the addresses of others that a place forwards to.
func (t *Engine) forwardsTo(p *model.Place, proto netset.Transport) []netip.Addr {
	var out []netip.Addr
	for _, f := range p.Forwards {
		if f.Record.Bind.Transport&proto != 0 && f.Record.Pool == "" && !p.Owns(f.Record.To.Addr) {
			out = append(out, f.Record.To.Addr)
		}
	}
	return out
}

// admission is what is let in from the internet, of what is for one address.
type admission struct {
	segments []model.Segment // where something may take it, or is beside it
	sure     bool            // the internet leads it to one machine
	admits   netset.Addrs    // the sources of whatever comes through there, or cannot be told
	abroad   bool            // it lets in some of ours that are not of those segments
	reads    memo.Reads
}

// admissionOf is the admission of an address, worked out once.
func (t *Engine) admissionOf(to flow.Dest, proto netset.Transport) *admission {
	key := takingKey{to.Addr, proto}
	if known, ok := t.admissions.Find(key, t.Touch()); ok {
		return known
	}
	s := &admission{segments: t.allEntries().segmentsOf(t.Model, to.Addr)}
	switch hop := t.Model.InternetHop(to.Addr, model.Nowhere); hop.Kind {
	case model.Nobody, model.NoWay, model.Outward:
		s.sure = true
	case model.OnLink, model.Via:
		s.sure = true
		s.segments = append(s.segments, t.Model.Places[hop.Place].Segment)
		var sets []netset.Addrs
		c := t.OverInternet(t.Model.Places[hop.Place], to, proto)
		s.reads.And(&c.Reads)
		for _, l := range c.Landings {
			sets = append(sets, l.Origins)
		}
		s.admits = netset.Union(sets...)
	}
	s.abroad = !s.sure || t.allEntries().admitsOthers(s.admits, s.segments)
	t.admissions.Keep(key, s)
	return s
}

// keptOut says whether nothing from an origin comes to an address, whatever becomes of it on its way out: it has to cross
// the internet, and on the other side none of the sources that it may have by then is let in.
func (t *Engine) keptOut(from model.Segment, sources netset.Addrs, c candidate, proto netset.Transport, reads *memo.Reads) bool {
	if !c.dst.Addr.IsValid() {
		return false
	}
	s := t.admissionOf(c.dst, proto)
	reads.And(&s.reads)
	return s.sure && !slices.Contains(s.segments, from) && !s.admits.Overlaps(sources)
}

// outwards are the sources that flows from an origin may have by the time they leave its segment; Mainland where they are on
// the internet already, or are not all known.
func (t *Engine) outwards(o flow.Origin) (model.Segment, netset.Addrs) {
	if o.Place != model.Nowhere || o.Net == model.Internet {
		return model.OpenSegment, netset.Addrs{}
	}
	segment := t.Model.Networks[o.Net].Segment
	return segment, netset.Union(o.Set, t.allEntries().sources[segment])
}

// mayLead says whether anything may lead from an origin to a prefix that an address is in. Where it says no, no
// flow to any address of that prefix gets further than its first machine.
func (t *Engine) mayLead(o flow.Origin, net model.NetID, a netip.Addr) bool {
	at := o.Place
	if at == model.Nowhere {
		from := t.Model.Networks[o.Net]
		if o.Net == net || from.Set.Contains(a) {
			return true
		}
		if from.Container() {
			at = from.On // what leaves it leaves by its machine
		} else {
			for _, p := range from.Members {
				if len(t.Model.Places[p].Routes) > 0 {
					return true // a written route may be for one address only
				}
			}
			return t.Model.FromNetwork(o.Net, a).Kind != model.NoWay
		}
	}
	machine := t.Model.Places[t.Model.Places[at].Host]
	return len(machine.Routes) > 0 || machine.Owns(a) || t.Model.NextHop(machine, a).Kind != model.NoWay
}

// Read is what it was worked out from.
func (x *taking) Read() *memo.Reads { return &x.reads }

// Read is what it was worked out from.
func (s *admission) Read() *memo.Reads { return &s.reads }
