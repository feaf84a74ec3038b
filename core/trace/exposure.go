package trace

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/netset"
)

// Covered says how far an intent covers something open.
type Covered string

const (
	Declared Covered = "declared"
	Partial  Covered = "partial"
	None     Covered = "none"
)

// Open is one thing that can be touched: an address, a transport and an unbroken range of
// ports, from a set of sources, and the listener that takes it.
type Open struct {
	Address   string   `json:"address"`
	Transport string   `json:"transport"`
	Ports     string   `json:"ports"`
	Sources   Sources  `json:"sources"`
	Place     string   `json:"place"`
	Port      uint16   `json:"port"` // where the first of Ports lands
	Service   string   `json:"service"`
	Site      *string  `json:"site"`
	Records   []string `json:"records" nullable:"false"`
	Intent    Covered  `json:"intent"`

	Range  netset.PortRange `json:"-"`
	Host   string           `json:"-"` // the machine entered
	Listen *estate.Listen   `json:"-"`
	Map    *estate.Map      `json:"-"` // the map it came in by
	Door   *Door            `json:"-"` // the machine that takes it, as it comes there; nil where it comes beside it
	Picked *estate.Site     `json:"-"` // the site's record
	Meant  []*estate.Intent `json:"-"` // the intents that land there, whoever they are for
	// PastInput says that the map takes it ahead of input filters of its machine that would have stopped it.
	PastInput bool `json:"-"`
	addr      netip.Addr
	set       netset.Addrs
	flat      int // inner port less outer, or manyToOne
}

// Door is where a flow comes to the machine that takes it, and how it looks there before any map.
type Door struct {
	Host   string
	Addr   netip.Addr
	Ports  netset.Ports
	Same   bool         // the source is still the one that it was made with
	Source netset.Addrs // as it is seen there
	Mapped bool         // a map leads it on, translated: input filters do not meet it
}

// manyToOne is the distance of ports that all land on one.
const manyToOne = -1 << 20

// Dark is what may be open, and cannot be told.
type Dark struct {
	Address   string   `json:"address"`
	Transport string   `json:"transport"`
	Ports     string   `json:"ports"`
	Place     string   `json:"place"`
	Why       string   `json:"why"`
	Records   []string `json:"records" nullable:"false"`
}

// Exposure is the answer to what can be touched from a vantage.
type Exposure struct {
	From      string `json:"from"`
	Open      []Open `json:"open" nullable:"false"`
	Undecided []Dark `json:"undecided" nullable:"false"`

	// Hidden is what reaches a site with a list of sources by a port relay, which hides them; whether it is let in or not.
	Hidden []Open `json:"-"`
}

// candidate is an address at which something of ours may answer.
type candidate struct {
	dst  dest
	word string
}

// candidates are the addresses worth trying: those that machines and containers hold, and those that
// forwards are for.
func (t *Tracer) candidates(o origin) []candidate {
	var out []candidate
	seen := map[netip.Addr]bool{}
	led := map[netip.Prefix]bool{}
	add := func(a netip.Addr, net model.NetID) {
		if seen[a] || a.IsLoopback() {
			return
		}
		seen[a] = true
		if net != model.Internet && net != model.NoNet {
			// Where nothing leads to a network, none of its addresses is worth trying.
			key := t.prefixOf(net, a)
			worth, known := led[key]
			if !known {
				worth = t.mayLead(o, net, a)
				led[key] = worth
			}
			if !worth {
				return
			}
		}
		out = append(out, candidate{toAddr(a), a.String()})
	}
	for _, p := range t.m.Places {
		if p.Outside {
			continue
		}
		for _, leg := range p.Legs {
			for _, a := range leg.Addrs {
				add(a, leg.Net)
			}
			if p.IsContainer() && p.Stack == p.ID && leg.Float() && t.besideOrigin(o, leg.Net) {
				out = append(out, candidate{dest{float: p.ID, net: leg.Net, name: p.Name}, p.Name})
			}
		}
		for _, f := range p.Forwards {
			if a := f.Record.Bind.Addr; a.IsValid() {
				add(a, model.NoNet)
			}
		}
	}
	return out
}

// prefixOf is the prefix of a network that an address is in; the address itself where it is in none.
func (t *Tracer) prefixOf(net model.NetID, a netip.Addr) netip.Prefix {
	for _, p := range t.m.Networks[net].Prefixes {
		if p.Contains(a) {
			return p
		}
	}
	return netip.PrefixFrom(a, a.BitLen())
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

// Exposure is everything that can be touched from a vantage, exact in sources, addresses, transports and
// ports.
func (t *Tracer) Exposure(v Vantage) Exposure {
	x := Exposure{From: v.Word, Open: []Open{}, Undecided: []Dark{}}
	var open []Open
	for _, o := range v.origins {
		for _, c := range t.candidates(o) {
			if o.place == model.Nowhere && o.net == model.Internet && !netset.GloballyReachable().Contains(c.dst.addr) {
				continue
			}
			if o.place != model.Nowhere && t.m.Places[t.m.Places[o.place].Stack].Owns(c.dst.addr) {
				continue // a machine reaching itself is nobody's exposure
			}
			for _, proto := range netset.Both.Each() {
				w := o.start(proto, netset.AllPorts())
				w.dst = c.dst
				for _, l := range t.deliver(o, w, goal{place: model.Nowhere}) {
					t.opened(&open, &x, l, c, o)
				}
			}
		}
	}
	x.Open = t.finish(open, &v)
	slices.SortStableFunc(x.Undecided, func(a, b Dark) int {
		return cmp.Or(strings.Compare(a.Address, b.Address), strings.Compare(a.Transport, b.Transport), strings.Compare(a.Ports, b.Ports))
	})
	x.Undecided = slices.CompactFunc(x.Undecided, func(a, b Dark) bool {
		return a.Address == b.Address && a.Transport == b.Transport && a.Ports == b.Ports && a.Place == b.Place
	})
	return x
}

// opened notes what one landing opens, as far as its replies come back.
func (t *Tracer) opened(open *[]Open, x *Exposure, l landing, c candidate, o origin) {
	dark := &x.Undecided
	switch {
	case l.stopped == Undecided:
		place := c.word
		if l.stack != model.Nowhere {
			place = t.m.Places[l.stack].Name
		} else if owners := t.m.Owners(c.dst.addr); len(owners) > 0 {
			place = t.m.Places[owners[0].Place].Name
		}
		why, records := "", []string{}
		if s := l.lastStep(); s != nil {
			why, records = s.Why, s.Records
		}
		*dark = append(*dark, Dark{c.word, l.proto.String(), l.outer.String(), place, why, records})
		return
	case l.stopped != "" || l.sock == nil:
		return
	}
	for _, part := range t.replies(l, o) {
		switch part.stopped {
		case "":
			t.openedAt(open, x, part, c)
		case Undecided:
			*dark = append(*dark, Dark{c.word, l.proto.String(), l.outer.String(), t.m.Places[l.stack].Name, part.lastStep().Why, []string{}})
		}
	}
}

// openedAt notes what a landing whose replies come back opens.
func (t *Tracer) openedAt(open *[]Open, x *Exposure, l landing, c candidate) {
	steps, _ := l.collect()
	var records []string
	for _, s := range steps {
		for _, r := range s.Records {
			if !slices.Contains(records, r) {
				records = append(records, r)
			}
		}
	}
	place := t.m.Places[l.sock.Place]
	base := Open{
		Address: c.word, Transport: l.proto.String(), Place: place.Name, Service: l.sock.Record.Service, Records: records,
		Host: t.entered(c), Listen: l.sock.Record, addr: c.dst.addr, set: l.origins,
	}
	if l.mapped != nil {
		base.Map, base.PastInput = l.mapped.Record, l.pastInput
	}
	base.Door = t.doorOf(l)
	service := t.m.Services[base.Service]
	for _, r := range l.outer.Ranges() {
		e := base
		e.Range, e.flat = r, l.shift
		e.Port = uint16(int(r.Lo) + l.shift)
		if l.many {
			e.flat, e.Port = manyToOne, l.port()
		}
		if len(service.Sites) == 0 {
			*open = append(*open, e)
			continue
		}
		for _, site := range t.siteNames(service, l, e) {
			s := e
			s.Site, s.Picked = &site.name, site.record
			s.set = site.from(t, l)
			s.Records = append(slices.Clone(records), estate.Line(site.record))
			if l.relayed && len(site.record.Sources) > 0 {
				s.Ports = s.Range.String()
				x.Hidden = append(x.Hidden, s)
			}
			if !s.set.IsEmpty() || l.src.float != model.Nowhere || l.origins.IsEmpty() {
				*open = append(*open, s)
			}
		}
	}
}

// doorOf is where a landing came to the machine that took it; nil where it came to a container from beside it.
func (t *Tracer) doorOf(l landing) *Door {
	if l.door == nil {
		return nil
	}
	d := &Door{Host: t.m.Places[l.door.host].Name, Addr: l.door.dst, Ports: l.ports, Same: l.door.src.Equal(l.origins), Source: l.door.src}
	if l.mapped != nil {
		d.Ports, d.Mapped = l.before, !l.relayed
	}
	return d
}

// entered is the machine, or container at its own address, that an address is entered at.
func (t *Tracer) entered(c candidate) string {
	if c.dst.float != model.Nowhere {
		return c.dst.name
	}
	if owners := t.m.Owners(c.dst.addr); len(owners) > 0 {
		return t.m.Places[owners[0].Place].Name
	}
	if b, ok := t.m.BlockOf(c.dst.addr); ok {
		return t.m.Places[b.Place].Name
	}
	return c.word
}

type openSite struct {
	name   string
	record *estate.Site
	site   *model.Site
}

// from narrows the sources to those that the site lets in.
func (o openSite) from(t *Tracer, l landing) netset.Addrs {
	if o.site == nil || len(o.site.Record.Sources) == 0 {
		return l.origins
	}
	in, _, _ := t.sourceSplit(o.site.Sources, l.way, l.six)
	if in == nil {
		return netset.Addrs{}
	}
	return in.origins
}

// siteNames are the sites that a listener picks among, each name once, and "*" for what a default takes.
func (t *Tracer) siteNames(service *model.Service, l landing, e Open) []openSite {
	w := l.way
	w.ports = netset.PortsOf(netset.OnePort(e.Port))
	sites := sitesAt(service, w)
	var out []openSite
	seen := map[string]bool{}
	for _, s := range sites {
		if !seen[s.Name] {
			seen[s.Name] = true
			out = append(out, openSite{s.Name, s.Record, s})
		}
	}
	if group, how := pick(sites, "", l.sock.Record.FirstAnswers); how == byDefault && !seen["*"] && len(group) > 0 {
		out = append(out, openSite{"*", group[0].Record, group[0]})
	}
	return out
}

// Lands is the port on which one of the ports lands.
func (e *Open) Lands(port uint16) uint16 {
	if e.flat == manyToOne {
		return e.Port
	}
	return e.Port + (port - e.Range.Lo)
}

// finish joins neighbours, says who is covered, and orders.
func (t *Tracer) finish(open []Open, v *Vantage) []Open {
	for i := range open {
		e := &open[i]
		e.Intent = t.covered(e, v)
		e.Sources, _ = v.say(e.set, e.addr.Is6())
	}
	key := func(e *Open) string {
		return fmt.Sprint(e.Address, e.Transport, e.Sources.Only, e.Sources.Except, e.Place, e.Service, deref(e.Site), e.Intent, e.flat)
	}
	slices.SortStableFunc(open, func(a, b Open) int {
		return cmp.Or(strings.Compare(key(&a), key(&b)), cmp.Compare(a.Range.Lo, b.Range.Lo))
	})
	var out []Open
	for _, e := range open {
		if n := len(out); n > 0 && key(&out[n-1]) == key(&e) {
			last := &out[n-1]
			if int(last.Range.Hi)+1 >= int(e.Range.Lo) {
				last.Range.Hi = max(last.Range.Hi, e.Range.Hi)
				for _, r := range e.Records {
					if !slices.Contains(last.Records, r) {
						last.Records = append(last.Records, r)
					}
				}
				continue
			}
		}
		out = append(out, e)
	}
	for i := range out {
		out[i].Ports = out[i].Range.String()
	}
	slices.SortStableFunc(out, func(a, b Open) int {
		return cmp.Or(a.addr.Compare(b.addr), strings.Compare(a.Address, b.Address), cmp.Compare(a.Range.Lo, b.Range.Lo), strings.Compare(a.Transport, b.Transport), strings.Compare(deref(a.Site), deref(b.Site)))
	})
	if out == nil {
		out = []Open{}
	}
	return out
}

// ---- what was meant

// landingKey is where an entry lands: the listener that first takes it, and the site.
type landingKey struct {
	place model.PlaceID
	port  uint16
	proto netset.Transport
	site  string
}

// meant is who may reach what lands at a key, by all the intents that land there.
type meant struct {
	audience netset.Addrs
	places   map[model.PlaceID]bool // containers without a written address
	anyone   bool
	records  []*estate.Intent
}

// intended builds, once, where every intent lands and for whom.
func (t *Tracer) intended() map[landingKey]*meant {
	t.once.Do(func() {
		t.meant = map[landingKey]*meant{}
		for _, i := range t.m.Intents {
			t.landIntent(i)
		}
	})
	return t.meant
}

func (t *Tracer) note(k landingKey, i *estate.Intent) {
	m := t.meant[k]
	if m == nil {
		m = &meant{places: map[model.PlaceID]bool{}}
		t.meant[k] = m
	}
	if slices.Contains(m.records, i) {
		return
	}
	m.records = append(m.records, i)
	for _, s := range i.For {
		switch {
		case s.Word == "internet":
			m.anyone = true
		case s.Word == "nobody":
		default:
			match := t.m.Selected(s)
			m.audience = netset.Union(m.audience, match.Set)
			for _, f := range match.Float {
				m.places[f] = true
			}
		}
	}
}

// landIntent finds where the ways that an intent names land, from its audience.
func (t *Tracer) landIntent(i *estate.Intent) {
	var vantages []string
	for _, s := range i.For {
		if s.Word != "nobody" {
			vantages = append(vantages, s.String())
		}
	}
	if len(vantages) == 0 {
		vantages = []string{"internet"}
		for _, n := range t.m.Networks[1:] {
			vantages = append(vantages, n.Name)
		}
	}
	keys := keysOf(i.Ports)
	if p := t.m.PlaceNamed(i.Target); p != nil {
		t.landPlace(i, p)
	}
	for _, word := range vantages {
		v, err := t.VantageNamed(word)
		if err != nil {
			continue
		}
		for _, o := range v.origins {
			for _, d := range t.meantDests(i, o) {
				if len(keys) == 0 {
					t.landWide(i, o, d)
					continue
				}
				for _, k := range keys {
					g := goal{repair: true, place: model.Nowhere, port: k.Port}
					name := ""
					if t.m.PlaceNamed(i.Target) == nil && !isIP(i.Target) {
						name = i.Target
					}
					t.aim(&g, asking{q: request{name: name, port: k.Port}, place: t.m.PlaceNamed(i.Target)}, i)
					w := o.start(k.Transport, netset.PortsOf(netset.OnePort(k.Port)))
					w.dst = d
					for _, l := range t.deliver(o, w, g) {
						t.landAt(i, l, name)
					}
				}
			}
		}
	}
}

func isIP(text string) bool { _, err := netip.ParseAddr(text); return err == nil }

// landPlace is an intent for a place: its own listeners on those ports, at every address it holds.
func (t *Tracer) landPlace(i *estate.Intent, p *model.Place) {
	stack := t.m.Places[p.Stack]
	for n := range stack.Sockets {
		s := &stack.Sockets[n]
		if s.Place != p.ID && p.IsContainer() {
			continue
		}
		both := s.Ports.Intersect(i.Ports.Set())
		for _, proto := range (s.Record.Bind.Transport & i.Ports.Transport).Each() {
			for _, r := range both.Ranges() {
				for port := int(r.Lo); port <= int(r.Hi); port++ {
					t.landService(i, s, uint16(port), proto, "")
				}
			}
		}
	}
}

// landWide is an intent for so many ports that they are tried as one set.
func (t *Tracer) landWide(i *estate.Intent, o origin, d dest) {
	for _, proto := range i.Ports.Transport.Each() {
		w := o.start(proto, i.Ports.Set())
		w.dst = d
		for _, l := range t.deliver(o, w, goal{place: model.Nowhere}) {
			if l.sock == nil {
				continue
			}
			for _, r := range l.ports.Ranges() {
				for port := int(r.Lo); port <= int(r.Hi); port++ {
					t.landService(i, l.sock, uint16(port), proto, "")
				}
			}
		}
	}
}

func (t *Tracer) landAt(i *estate.Intent, l landing, name string) {
	if l.sock == nil {
		return
	}
	t.landService(i, l.sock, l.port(), l.proto, name)
}

// landService notes an intent at a listener: at the site that the name picks, or at all of them
// where the intent names the place.
func (t *Tracer) landService(i *estate.Intent, s *model.Socket, port uint16, proto netset.Transport, name string) {
	service := t.m.Services[s.Record.Service]
	key := landingKey{s.Place, port, proto, ""}
	if len(service.Sites) == 0 {
		t.note(key, i)
		return
	}
	w := way{ports: netset.PortsOf(netset.OnePort(port))}
	sites := sitesAt(service, w)
	if name == "" {
		for _, site := range sites {
			key.site = site.Name
			t.note(key, i)
		}
		key.site = "*"
		t.note(key, i)
		return
	}
	group, how := pick(sites, name, s.Record.FirstAnswers)
	if len(group) > 0 {
		key.site = group[0].Name
		if how == byDefault {
			key.site = "*"
		}
		t.note(key, i)
	}
}

// meantDests are where an intent's target is or, while its name leads to nobody of ours, should be.
func (t *Tracer) meantDests(i *estate.Intent, o origin) []dest {
	found := t.destsOf(i.Target, o)
	if o.place == model.Nowhere && o.net == model.Internet {
		found = slices.DeleteFunc(found, func(d dest) bool { return !netset.GloballyReachable().Contains(d.addr) })
	}
	ours := slices.ContainsFunc(found, func(d dest) bool {
		return d.float != model.Nowhere || len(t.m.Owners(d.addr)) > 0 || t.routedToUs(d.addr)
	})
	if ours || len(i.Ports.Ranges) == 0 || t.m.PlaceNamed(i.Target) != nil {
		return found
	}
	g := goal{place: model.Nowhere}
	port, proto := i.Ports.Ranges[0].Lo, i.Ports.Transport.Each()[0]
	t.aim(&g, asking{q: request{name: i.Target, port: port}}, i)
	if a, ok := t.publicAddress(g, o, port, proto, false); ok {
		return []dest{toAddr(a)}
	}
	return found
}

func (t *Tracer) routedToUs(a netip.Addr) bool { _, ok := t.m.BlockOf(a); return ok }

// destsOf are where a name, address or place is, seen from an origin.
func (t *Tracer) destsOf(target string, o origin) []dest {
	if a, err := netip.ParseAddr(target); err == nil {
		return []dest{toAddr(a.Unmap())}
	}
	var out []dest
	if p := t.m.PlaceNamed(target); p != nil {
		stack := t.m.Places[p.Stack]
		for _, leg := range stack.Legs {
			for _, a := range leg.Addrs {
				out = append(out, toAddr(a))
			}
			if stack.IsContainer() && leg.Float() && t.besideOrigin(o, leg.Net) {
				out = append(out, dest{float: stack.ID, net: leg.Net, name: stack.Name})
			}
		}
		return out
	}
	v6, v4 := t.m.Names.Addresses(target, t.asker(o))
	for _, answer := range []names.Answer{v6, v4} {
		for _, found := range answer.Addresses {
			if found.Addr.IsValid() {
				out = append(out, toAddr(found.Addr))
			}
		}
	}
	return out
}

// covered says whether intents admit an entry's sources: all of them, some or none.
func (t *Tracer) covered(e *Open, v *Vantage) Covered {
	p := t.m.PlaceNamed(e.Place)
	m := t.intended()[landingKey{p.ID, e.Port, protoOf(e.Transport), deref(e.Site)}]
	if m == nil {
		return None
	}
	e.Meant = m.records
	if m.anyone {
		return Declared
	}
	set := e.set
	if set.IsEmpty() { // a container without a written address
		for _, o := range v.origins {
			if o.place != model.Nowhere && m.places[o.place] {
				return Declared
			}
			if o.place != model.Nowhere {
				for _, leg := range t.m.Places[o.place].Legs {
					if m.audience.Covers(t.m.Networks[leg.Net].Set) {
						return Declared
					}
				}
			}
		}
		return None
	}
	switch {
	case m.audience.Covers(set):
		return Declared
	case m.audience.Overlaps(set):
		return Partial
	}
	return None
}
