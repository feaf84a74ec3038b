package exposure

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/say"
	"steady-compass/core/serve"
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
	Address   string       `json:"address"`
	Transport string       `json:"transport"`
	Ports     string       `json:"ports"`
	Sources   flow.Sources `json:"sources"`
	Place     string       `json:"place"`
	Port      uint16       `json:"port"` // where the first of Ports lands
	Service   string       `json:"service"`
	Site      *string      `json:"site"`
	Records   []string     `json:"records" nullable:"false"`
	Intent    Covered      `json:"intent"`

	Range   netset.PortRange `json:"-"`
	Host    string           `json:"-"` // the machine entered
	Listen  *estate.Listen   `json:"-"`
	Map     *estate.Map      `json:"-"` // the map it came in by
	Ingress *Ingress         `json:"-"` // the machine that takes it, as it comes there; nil where it comes beside it
	Picked  *estate.Site     `json:"-"` // the site's record
	Meant   []*estate.Intent `json:"-"` // the intents that land there, whoever they are for
	// PastInput says that the map takes it ahead of input filters of its machine that would have stopped it.
	PastInput bool `json:"-"`
	// Also are the names of other sites that are open just so; only where what is meant for anyone is left out.
	Also []string `json:"-"`
	// Beside says that another site on the same port is meant for anyone.
	Beside  bool `json:"-"`
	fronted bool // something stands before its ports
	addr    netip.Addr
	set     netset.Addrs
	flat    int // inner port less outer; where several land on one, manyToOne less that
}

// From are the sources that get in.
func (e *Open) From() netset.Addrs { return e.set }

// Inner are the ports at which the range comes out.
func (e *Open) Inner() netset.PortRange {
	return netset.PortRange{Lo: e.Lands(e.Range.Lo), Hi: e.Lands(e.Range.Hi)}
}

// Ingress is where a flow comes to the machine that takes it, and how it looks there before any map.
type Ingress struct {
	Host   string
	Addr   netip.Addr
	Ports  netset.Ports
	Same   bool         // the source is still the one that it was made with
	Source netset.Addrs // as it is seen there
	Mapped bool         // a map leads it on, translated: input filters do not meet it
}

// same says whether another says the same.
func (e Open) same(o Open) bool {
	site := e.Site == o.Site || e.Site != nil && o.Site != nil && *e.Site == *o.Site
	return site && e.Address == o.Address && e.Transport == o.Transport && e.Ports == o.Ports && e.Place == o.Place && e.Port == o.Port && e.Service == o.Service &&
		e.Intent == o.Intent && e.Range == o.Range && e.Host == o.Host && e.Listen == o.Listen && e.Map == o.Map && e.Picked == o.Picked &&
		e.PastInput == o.PastInput && e.Beside == o.Beside && e.fronted == o.fronted && e.addr == o.addr && e.flat == o.flat &&
		slices.Equal(e.Records, o.Records) && slices.Equal(e.Meant, o.Meant) && slices.Equal(e.Also, o.Also) && e.Sources.Equal(o.Sources) && e.set.Equal(o.set) && e.Ingress.same(o.Ingress)
}

func (d *Ingress) same(o *Ingress) bool {
	if d == nil || o == nil {
		return d == o
	}
	return d.Host == o.Host && d.Addr == o.Addr && d.Same == o.Same && d.Mapped == o.Mapped && d.Ports.Equal(o.Ports) && d.Source.Equal(o.Source)
}

func (e *Open) manyToOne() bool { return e.flat <= manyToOne }

// manyToOne is the distance of ports that all land on one.
const manyToOne = -1 << 20

// Undecided is what may be open, and cannot be told.
type Undecided struct {
	Address   string   `json:"address"`
	Transport string   `json:"transport"`
	Ports     string   `json:"ports"`
	Place     string   `json:"place"`
	Why       string   `json:"why"`
	Records   []string `json:"records" nullable:"false"`
}

func (d Undecided) same(o Undecided) bool {
	return d.Address == o.Address && d.Transport == o.Transport && d.Ports == o.Ports && d.Place == o.Place && d.Why == o.Why && slices.Equal(d.Records, o.Records)
}

// Exposure is the answer to what can be touched from a vantage.
type Exposure struct {
	From      string      `json:"from"`
	Open      []Open      `json:"open" nullable:"false"`
	Undecided []Undecided `json:"undecided" nullable:"false"`
}

// Fronted tells what stands before places.
type Fronted struct {
	ports  func(model.PlaceID) []uint16
	touch  *memo.Touch
	itself *struct{ byte } // what tells it from others, without keeping it
	after  *struct{ byte }
}

// Fronted tells of a place the ports that something stands before, rising. after, where it is not nil, is what told that before
// the edit, and anew are the places where it told something else.
func (t *Engine) Fronted(ports func(model.PlaceID) []uint16, after *Fronted, anew []model.PlaceID) *Fronted {
	f := &Fronted{ports: ports, touch: t.touched().Also(anew), itself: &struct{ byte }{}}
	if after != nil {
		f.after = after.itself
	}
	return f
}

// looking is how an exposure is looked at.
type looking struct {
	fronted *Fronted // where asked for, ranges are parted where other intents land, and where something stands before them
	beyond  bool     // without what is meant for anyone, and what is nobody's concern
}

// exposing is the exposure of one address on the way.
type exposing struct {
	looking
	*attempt
}

// Exposure is everything that can be touched from a vantage, exact in sources, addresses, transports and
// ports.
func (t *Engine) Exposure(v flow.Vantage) Exposure {
	return t.look(v, looking{}).exposure(v.Word)
}

// Parted is an exposure, by the addresses at which something is open, whose ranges are parted wherever other intents land, and where something stands before them.
func (t *Engine) Parted(v flow.Vantage, fronted *Fronted) []*OpenAt {
	return t.look(v, looking{fronted: fronted}).shown
}

// Beyond is what a parted exposure has that may be more than is meant: not what is meant for anyone, and only what lands
// where some intent does, what a map leads to, and what something stands before. Nothing is told of what is undecided.
func (t *Engine) Beyond(v flow.Vantage, fronted *Fronted) []*OpenAt {
	return t.look(v, looking{fronted: fronted, beyond: true}).shown
}

// opened notes what one landing opens, as far as its replies come back.
func (t *Engine) opened(x *exposing, l flow.Landing, c candidate, o flow.Origin) {
	dark := &x.Undecided
	switch {
	case l.Stopped == flow.Undecided:
		place := t.entered(c, &l)
		if l.Namespace != model.Nowhere {
			place = t.Model.Places[l.Namespace].Name
		}
		why, records := "", []string{}
		if s := l.LastStep(); s != nil {
			why, records = s.Why, s.Records
		}
		*dark = append(*dark, Undecided{c.word, l.Transport.String(), l.Outer.String(), place, why, records})
		return
	case l.Stopped != "" || l.Socket == nil || x.beyond && !t.concerns(x, l):
		return
	}
	t.Replies(&l, o) // what is lost is not open
	switch l.Stopped {
	case "":
		t.openedAt(x, l, c)
	case flow.Undecided:
		*dark = append(*dark, Undecided{c.word, l.Transport.String(), l.Outer.String(), t.Model.Places[l.Namespace].Name, l.LastStep().Why, []string{}})
	}
}

// portsOfConcern are those on which a candidate may open more than is meant: all, where an intent lands there or its machine
// leads flows elsewhere, else those that something stands before.
func (t *Engine) portsOfConcern(x *exposing, c candidate) netset.Ports {
	places := []model.PlaceID{c.dst.Float}
	if c.dst.Float == model.Nowhere {
		places = places[:0]
		for _, h := range t.Model.Owners(c.dst.Addr) {
			places = append(places, h.Place)
		}
		if len(places) == 0 || t.allEntries().named[c.dst.Addr] != nil {
			return netset.AllPorts()
		}
	}
	var ports []netset.PortRange
	for _, id := range places {
		p := t.Model.Places[id]
		if x.reads.Place(id); t.intended().lands(id) || len(p.Maps)+len(p.Forwards) > 0 || slices.ContainsFunc(p.Sockets, func(s model.Socket) bool { return s.Place != id }) {
			return netset.AllPorts()
		}
		for _, port := range x.fronted.ports(p.ID) {
			ports = append(ports, netset.OnePort(port))
		}
	}
	return netset.PortsOf(ports...)
}

// concerns says whether what a landing opens may be more than is meant.
func (t *Engine) concerns(x *exposing, l flow.Landing) bool {
	x.reads.Place(l.Socket.Place)
	x.reads.Service(l.Socket.Record.Service)
	if l.Mapped == nil && !t.intended().lands(l.Socket.Place) {
		return slices.ContainsFunc(x.fronted.ports(l.Socket.Place), l.Ports.Contains)
	}
	return !t.forAnyone(l)
}

// openedAt notes what a landing whose replies come back opens.
func (t *Engine) openedAt(x *exposing, l flow.Landing, c candidate) {
	x.reads.Place(l.Socket.Place)
	x.reads.Service(l.Socket.Record.Service)
	records := l.RecordsMet()
	place := t.Model.Places[l.Socket.Place]
	base := Open{
		Address: c.word, Transport: l.Transport.String(), Place: place.Name, Service: l.Socket.Record.Service, Records: records,
		Host: t.entered(c, &l), Listen: l.Socket.Record, addr: c.dst.Addr, set: l.Origins,
	}
	if l.Mapped != nil {
		base.Map, base.PastInput = l.Mapped.Record, l.StoppedAtInput.Overlaps(l.Src.Set) || !l.Src.Set.Equal(l.Origins) && !l.StoppedAtInput.IsEmpty()
	}
	base.Ingress = t.ingressOf(l)
	service := t.Model.Services[base.Service]
	for _, r := range l.Outer.Ranges() {
		e := base
		e.Range, e.flat = r, l.Shift
		e.Port = uint16(int(r.Lo) + l.Shift)
		if l.Many {
			e.Port = l.Port()
			e.flat = manyToOne - int(e.Port)
			if r.Lo == r.Hi {
				e.flat = int(e.Port) - int(r.Lo)
			}
		}
		if len(service.Sites) == 0 {
			x.add(t, e, "")
			continue
		}
		found := t.sitesOf(service, l, e.Port, x.beyond)
		for i, site := range found.sites {
			s := e
			s.Beside = found.beside
			if i == 0 {
				s.Also = found.also
			}
			s.Site, s.Picked = &site.name, site.record
			s.set = site.from(t, l)
			s.Records = append(slices.Clone(records), estate.Line(site.record))
			if l.Relayed && len(site.record.Sources) > 0 {
				s.Ports = s.Range.String()
				x.Hidden = append(x.Hidden, s)
			}
			if !s.set.IsEmpty() || l.Src.Float != model.Nowhere || l.Origins.IsEmpty() {
				x.add(t, s, site.name)
			}
		}
	}
}

// add takes in what is open, parted where the intents that land there change along its ports, and what stands before them.
func (x *exposing) add(t *Engine, e Open, site string) {
	place := t.Model.PlaceNamed(e.Place).ID
	byPort := t.intended().at.Of(landsAt{place, flow.ProtoOf(e.Transport), site})
	var fronted []uint16
	if x.fronted != nil {
		fronted = x.fronted.ports(place)
	}
	if len(byPort)+len(fronted) == 0 || e.manyToOne() || e.Range.Lo == e.Range.Hi {
		e.fronted = slices.Contains(fronted, e.Port)
		x.keep(e, byPort[e.Port])
		return
	}
	var ports []int // outer ones, on which an intent lands, or that something stands before
	for _, inner := range slices.AppendSeq(slices.Clone(fronted), maps.Keys(byPort)) {
		if outer := int(inner) - e.flat; outer >= int(e.Range.Lo) && outer <= int(e.Range.Hi) {
			ports = append(ports, outer)
		}
	}
	slices.Sort(ports)
	ports = slices.Compact(ports)
	next := int(e.Range.Lo)
	put := func(lo, hi int, m *meant) {
		part := e
		part.Range = netset.PortRange{Lo: uint16(lo), Hi: uint16(hi)}
		part.Port = uint16(lo + e.flat)
		part.fronted = slices.Contains(fronted, part.Port)
		if x.beyond && !part.fronted && e.Map == nil && !t.intended().lands(place) {
			return // no intent lands there, and nothing stands before it
		}
		x.keep(part, m)
	}
	for _, p := range ports {
		if p > next {
			put(next, p-1, nil)
		}
		put(p, p, byPort[uint16(p+e.flat)])
		next = p + 1
	}
	if next <= int(e.Range.Hi) {
		put(next, int(e.Range.Hi), nil)
	}
}

func (x *exposing) keep(e Open, m *meant) {
	if x.beyond && m != nil && m.anyone {
		return
	}
	x.Open = append(x.Open, e)
}

// ingressOf is where a landing came to the machine that took it; nil where it came to a container from beside it.
func (t *Engine) ingressOf(l flow.Landing) *Ingress {
	if l.Ingress == nil {
		return nil
	}
	d := &Ingress{Host: t.Model.Places[l.Ingress.Host].Name, Addr: l.Ingress.Dst, Ports: l.Ports, Same: l.Ingress.Own, Source: l.Ingress.Src}
	if l.Mapped != nil {
		d.Ports, d.Mapped = l.Before, !l.Relayed
	}
	return d
}

// entered is the machine, or container at its own address, that an address is entered at: of several that hold it, each in a
// network of its own, the one that the flow met.
func (t *Engine) entered(c candidate, l *flow.Landing) string {
	if c.dst.Float != model.Nowhere {
		return c.dst.Name
	}
	owners := t.Model.Owners(c.dst.Addr)
	met := func(h model.Holding) bool {
		return h.Place == l.Namespace || l.Ingress != nil && h.Place == l.Ingress.Host || l.Met.Has(h.Place)
	}
	if i := slices.IndexFunc(owners, met); i >= 0 {
		return t.Model.Places[owners[i].Place].Name
	}
	if len(owners) > 0 {
		return t.Model.Places[owners[0].Place].Name
	}
	if b, ok := t.Model.BlockOf(c.dst.Addr); ok {
		return t.Model.Places[b.Place].Name
	}
	return c.word
}

type openSite struct {
	name   string
	record *estate.Site
	site   *model.Site
}

// from narrows the sources to those that the site lets in.
func (o openSite) from(t *Engine, l flow.Landing) netset.Addrs {
	if o.site == nil || len(o.site.Record.Sources) == 0 {
		return l.Origins
	}
	in, _, _ := t.SourceSplit(o.site.Sources, l.Part, l.IPv6)
	if in == nil {
		return netset.Addrs{}
	}
	return in.Origins
}

// sitesOf are the sites that a landing on a port picks among: where only what is not meant for anyone is asked for, these,
// with one for all that no intent speaks of and that let in every source.
func (t *Engine) sitesOf(service *model.Service, l flow.Landing, port uint16, beyond bool) *narrowSites {
	if !beyond {
		return &narrowSites{sites: t.siteNames(service, l, port)}
	}
	key := sitesKey{sock: l.Socket, port: port, proto: l.Transport}
	if service.ByAddress {
		key.addr = l.Dst.Addr
	}
	if known, ok := t.narrow.Find(key, t.touched()); ok {
		return known
	}
	found := &narrowSites{}
	found.reads.Place(l.Socket.Place)
	found.reads.Service(service.Name)
	for _, s := range t.siteNames(service, l, port) {
		m := t.meantAt(l.Socket.Place, port, l.Transport, s.name)
		switch {
		case m != nil && m.anyone:
			found.beside = true
		case m == nil && len(s.record.Sources) == 0 && found.plain:
			found.also = append(found.also, s.name)
		case m == nil && len(s.record.Sources) == 0:
			found.plain = true
			found.sites = append([]openSite{s}, found.sites...)
		default:
			found.sites = append(found.sites, s)
		}
	}
	t.narrow.Keep(key, found)
	return found
}

// sitesKey is a listener as sites are picked at it; narrowSites are those that are not meant for anyone.
type (
	sitesKey struct {
		sock  *model.Socket
		port  uint16
		addr  netip.Addr // where sites are picked by it
		proto netset.Transport
	}
	narrowSites struct {
		sites  []openSite // the first stands for also too, where there are any
		also   []string
		plain  bool // the first is one that no intent speaks of
		beside bool // there are others, meant for anyone
		reads  memo.Reads
	}
)

// forAnyone says whether all that a landing opens is meant for anyone, and no list of sources is hidden there.
func (t *Engine) forAnyone(l flow.Landing) bool {
	service := t.Model.Services[l.Socket.Record.Service]
	for _, r := range l.Outer.Ranges() {
		port := uint16(int(r.Lo) + l.Shift)
		if l.Many {
			port = l.Port()
		}
		if len(service.Sites) > 0 {
			if len(t.sitesOf(service, l, port, true).sites) > 0 {
				return false
			}
			continue
		}
		if m := t.meantAt(l.Socket.Place, port, l.Transport, ""); m == nil || !m.anyone || r.Lo != r.Hi && !l.Many {
			return false
		}
	}
	return true
}

// siteNames are the sites that a listener picks among, each name once, and "*" for what a default takes.
func (t *Engine) siteNames(service *model.Service, l flow.Landing, port uint16) []openSite {
	at := serve.Endpoint{Service: service, Addr: l.Dst.Addr, Port: port}
	var out []openSite
	seen := map[string]bool{}
	for _, s := range at.Sites() {
		if !seen[s.Name] {
			seen[s.Name] = true
			out = append(out, openSite{s.Name, s.Record, s})
		}
	}
	if group, how := at.Pick("", l.Socket.Record); how == serve.ByDefault && !seen["*"] && len(group) > 0 {
		out = append(out, openSite{"*", group[0].Record, group[0]})
	}
	return out
}

// Lands is the port on which one of the ports lands.
func (e *Open) Lands(port uint16) uint16 {
	if e.manyToOne() {
		return e.Port
	}
	return e.Port + (port - e.Range.Lo)
}

// openKey is what neighbours have in common to be one entry.
type openKey struct {
	address, transport, sources, place, service, site, meant string
	intent                                                   Covered
	flat                                                     int
	fronted                                                  bool
}

func (k *openKey) compare(o *openKey) int {
	return cmp.Or(strings.Compare(k.address, o.address), strings.Compare(k.transport, o.transport), strings.Compare(k.sources, o.sources), strings.Compare(k.place, o.place),
		strings.Compare(k.service, o.service), strings.Compare(k.site, o.site), strings.Compare(k.meant, o.meant), strings.Compare(string(k.intent), string(o.intent)), cmp.Compare(k.flat, o.flat), compareBools(k.fronted, o.fronted))
}

// finish joins neighbours, says who is covered, and orders.
func (t *Engine) finish(open []Open, v *flow.Vantage, parted bool) []Open {
	type said struct {
		sources flow.Sources
		word    string
	}
	type saying struct {
		set netset.Addrs
		v6  bool
	}
	type keyed struct {
		key openKey
		at  int // in open
	}
	words := map[saying]said{} // a set in words, each once
	all := make([]keyed, len(open))
	for i := range open {
		e := &open[i]
		e.Intent = t.covered(e, v)
		of := saying{e.set, e.addr.Is6()}
		s, known := words[of]
		if !known {
			s.sources, _ = v.Say(of.set, of.v6)
			if len(s.sources.Only)+len(s.sources.Except) > 0 {
				s.word = strings.Join(s.sources.Only, ",") + "!" + strings.Join(s.sources.Except, ",")
			}
			words[of] = s
		}
		e.Sources = s.sources
		k := openKey{e.Address, e.Transport, s.word, e.Place, e.Service, say.OrEmpty(e.Site), "", e.Intent, e.flat, e.fronted}
		if parted {
			for n, i := range e.Meant {
				if n > 0 {
					k.meant += "\n"
				}
				k.meant += estate.Line(i)
			}
		}
		all[i] = keyed{k, i}
	}
	slices.SortFunc(all, func(a, b keyed) int {
		return cmp.Or(a.key.compare(&b.key), cmp.Compare(open[a.at].Range.Lo, open[b.at].Range.Lo), cmp.Compare(a.at, b.at))
	})
	out := make([]Open, 0, len(open))
	for i := range all {
		e := &open[all[i].at]
		if n := len(out); n > 0 && all[i-1].key == all[i].key {
			last := &out[n-1]
			if int(last.Range.Hi)+1 >= int(e.Range.Lo) {
				last.Range.Hi = max(last.Range.Hi, e.Range.Hi)
				for _, r := range e.Records {
					if !slices.Contains(last.Records, r) {
						last.Records = append(slices.Clip(last.Records), r)
					}
				}
				continue
			}
		}
		out = append(out, *e)
	}
	for i := range out {
		out[i].Ports = out[i].Range.String()
	}
	slices.SortStableFunc(out, func(a, b Open) int {
		return cmp.Or(a.addr.Compare(b.addr), strings.Compare(a.Address, b.Address), cmp.Compare(a.Range.Lo, b.Range.Lo), strings.Compare(a.Transport, b.Transport), strings.Compare(say.OrEmpty(a.Site), say.OrEmpty(b.Site)))
	})
	return out
}

// compareBools puts false before true.
func compareBools(a, b bool) int {
	switch {
	case a == b:
		return 0
	case b:
		return -1
	}
	return 1
}

// Read adds to reads the machines that let it in and take it, and its service.
func (e *Open) Read(m *model.Model, r *memo.Reads) {
	names := []string{e.Place, e.Host}
	if e.Ingress != nil {
		names = append(names, e.Ingress.Host)
	}
	for _, name := range names {
		if p := m.PlaceNamed(name); p != nil {
			r.Place(p.ID)
			r.Place(p.Namespace)
			r.Place(p.Host)
		}
	}
	r.Service(e.Service)
}

// Read is what it was worked out from.
func (x *narrowSites) Read() *memo.Reads { return &x.reads }
