// Package names says what a name answers, and to whom: RFC 1034 §4.3.2 over the recorded zones,
// with wildcards by their closest encloser (RFC 4592), DNAME (RFC 6672), negative answers
// (RFC 2308), split views and hosts files.
package names

import (
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
)

// Code is a DNS response code, or Outside where the answer is not in what is recorded.
type Code uint8

const (
	NoError  Code = iota
	NXDomain      // no such name
	ServFail      // an alias that leads back to itself
	Outside       // the chain leaves what is recorded
)

func (c Code) String() string {
	return [...]string{"NOERROR", "NXDOMAIN", "SERVFAIL", "outside"}[c]
}

// maxChain is how many aliases are followed before a chain counts as a loop.
const maxChain = 32

// Asker is who asks: its names from the nearest out (the container, its machine, its networks),
// and the place whose hosts file is read first.
type Asker struct {
	Levels [][]string
	Place  string // "" where no hosts file of ours is read
}

// Link is a record that an answer went through.
type Link struct {
	Owner  string // the name asked, which a wildcard's own owner is not
	Record estate.Record
	TTL    estate.Seconds // how long the answer may be kept
}

// Address is one address of an answer with the record it stands in.
type Address struct {
	Addr   netip.Addr
	Record estate.Record
	// Unknown is set where the record follows a machine whose address nobody knows.
	Unknown bool
}

// Answer is what a name answers for one type.
type Answer struct {
	Code      Code
	Chain     []string // the names asked in turn, the first being the question's
	Links     []Link
	Addresses []Address // for A and AAAA
	Values    []string  // the values as text, for any type
	Loop      bool
	Wildcard  bool // the first name is answered by a wildcard
}

// Last is the name where the chain ends.
func (a *Answer) Last() string { return a.Chain[len(a.Chain)-1] }

// Names is the recorded name space, compiled. It is immutable.
type Names struct {
	public *view
	views  []*view // the copies of zones for some askers
	over   map[string][]*estate.DNS
	files  map[string][]*estate.HostsEntry // by place
	groups map[string]map[string]bool      // the places and networks in each group, itself included
	holds  func(host string, v6 bool) (addrs []netip.Addr, unknown bool)
}

// view is one copy of the name space: everything public, or one zone for some askers.
type view struct {
	zone  *estate.Zone // nil: the public view
	for_  map[string]bool
	zones map[string]*estate.Zone
	nodes map[string]*node
}

// node is a name that exists, by its records or since a name below it does (RFC 4592 §2.2.2).
type node struct {
	records []*estate.DNS
}

// Compile builds the name space of an estate. holds tells what addresses a host holds on internet.
func Compile(e *estate.Estate, holds func(host string, v6 bool) ([]netip.Addr, bool)) *Names {
	n := &Names{
		public: newView(nil), over: map[string][]*estate.DNS{}, files: map[string][]*estate.HostsEntry{},
		groups: map[string]map[string]bool{}, holds: holds,
	}
	n.compileGroups(e)
	for _, r := range e.Of(estate.KindNamed("zone")) {
		z := r.(*estate.Zone)
		if z.Off {
			continue
		}
		if len(z.For) == 0 {
			if n.public.zones[z.Name] == nil {
				n.public.zones[z.Name] = z
				n.public.add(z.Name)
			}
			continue
		}
		v := newView(z)
		v.for_ = n.expand(z.For)
		v.zones[z.Name] = z
		v.add(z.Name)
		n.views = append(n.views, v)
	}
	for _, r := range e.Of(estate.KindNamed("dns")) {
		d := r.(*estate.DNS)
		if d.Off {
			continue
		}
		if len(d.For) == 0 {
			n.public.put(d)
			continue
		}
		places, in := n.expand(d.For), false
		for _, v := range n.views {
			if Under(d.Owner, v.zone.Name) && len(n.public.longest(d.Owner)) <= len(v.zone.Name) && overlap(places, v.for_) {
				v.put(d)
				in = true
			}
		}
		if !in {
			n.over[d.Owner] = append(n.over[d.Owner], d)
		}
	}
	for _, r := range e.Of(estate.KindNamed("name")) {
		if h := r.(*estate.HostsEntry); !h.Off {
			n.files[h.Place] = append(n.files[h.Place], h)
		}
	}
	return n
}

func newView(z *estate.Zone) *view {
	return &view{zone: z, zones: map[string]*estate.Zone{}, nodes: map[string]*node{}}
}

// add makes a name exist, and every name above it.
func (v *view) add(name string) *node {
	found := v.nodes[name]
	if found != nil {
		return found
	}
	found = &node{}
	v.nodes[name] = found
	for up, ok := Parent(name); ok; up, ok = Parent(up) {
		if v.nodes[up] != nil {
			break
		}
		v.nodes[up] = &node{}
	}
	return found
}

func (v *view) put(d *estate.DNS) {
	at := v.add(d.Owner)
	at.records = append(at.records, d)
}

// longest is the longest zone of the view that a name is in; "" where there is none.
func (v *view) longest(name string) string {
	for z, ok := name, true; ok; z, ok = Parent(z) {
		if v.zones[z] != nil {
			return z
		}
	}
	if v.zones["."] != nil {
		return "."
	}
	return ""
}

// Parent is the name above; false above the top-level names.
func Parent(name string) (string, bool) {
	_, up, ok := strings.Cut(name, ".")
	return up, ok && up != ""
}

// Under says whether name is zone or below it.
func Under(name, zone string) bool {
	return zone == "." || name == zone || strings.HasSuffix(name, zone) && strings.HasSuffix(name[:len(name)-len(zone)], ".")
}

func (n *Names) compileGroups(e *estate.Estate) {
	members := map[string][]estate.Selector{}
	for _, r := range e.Of(estate.KindNamed("group")) {
		if g := r.(*estate.Group); !g.Off && members[g.Name] == nil {
			members[g.Name] = g.Members
		}
	}
	var collect func(name string, into map[string]bool)
	collect = func(name string, into map[string]bool) {
		if into[name] {
			return
		}
		into[name] = true
		for _, m := range members[name] {
			if m.Name != "" {
				collect(m.Name, into)
			}
		}
	}
	for name := range members {
		n.groups[name] = map[string]bool{}
		collect(name, n.groups[name])
	}
}

func (n *Names) expand(selectors []estate.Selector) map[string]bool {
	out := map[string]bool{}
	for _, s := range selectors {
		if s.Name == "" {
			continue
		}
		out[s.Name] = true
		for name := range n.groups[s.Name] {
			out[name] = true
		}
	}
	return out
}

func overlap(a, b map[string]bool) bool {
	for name := range a {
		if b[name] {
			return true
		}
	}
	return false
}

// seen is the copy of a zone's name space in which an asker looks for a name: the longest zone
// that it sees, the copy nearest to it before the public one.
func (n *Names) seen(name string, asker Asker) (*view, string) {
	best, zone, bestLevel := (*view)(nil), n.public.longest(name), len(asker.Levels)
	if zone != "" {
		best = n.public
	}
	for _, v := range n.views {
		if !Under(name, v.zone.Name) || len(v.zone.Name) < len(zone) {
			continue
		}
		level := slices.IndexFunc(asker.Levels, func(names []string) bool {
			return slices.ContainsFunc(names, func(x string) bool { return v.for_[x] })
		})
		if level >= 0 && (len(v.zone.Name) > len(zone) || level < bestLevel) {
			best, zone, bestLevel = v, v.zone.Name, level
		}
	}
	return best, zone
}

// override gives the records of a name that are for this asker alone, where there are any.
func (n *Names) override(name string, asker Asker) []*estate.DNS {
	records := n.over[name]
	if len(records) == 0 {
		return nil
	}
	for _, level := range asker.Levels {
		var out []*estate.DNS
		for _, d := range records {
			places := n.expand(d.For)
			if slices.ContainsFunc(level, func(x string) bool { return places[x] }) {
				out = append(out, d)
			}
		}
		if len(out) > 0 {
			return out
		}
	}
	return nil
}

func isAddressType(t string) bool { return t == "A" || t == "AAAA" }

// hidesAddress are the types that an override of a name takes the place of.
func hidesAddress(t string) bool { return isAddressType(t) || t == "ALIAS" || t == "CNAME" }

// Ask answers a question of one type (RFC 1034 §4.3.2).
func (n *Names) Ask(name, qtype string, asker Asker) Answer {
	a := Answer{Chain: []string{name}}
	if isAddressType(qtype) && asker.Place != "" {
		if n.fromFile(&a, name, qtype, asker.Place) {
			return a
		}
	}
	n.ask(&a, name, qtype, asker)
	return a
}

// fromFile answers from a machine's own hosts file: the asked name only, and it hides the
// name's other family.
func (n *Names) fromFile(a *Answer, name, qtype, place string) bool {
	found := false
	for _, h := range n.files[place] {
		if h.Hostname != name {
			continue
		}
		found = true
		if h.Addr.Is4() == (qtype == "A") {
			a.Links = append(a.Links, Link{Owner: name, Record: h})
			a.Addresses = append(a.Addresses, Address{Addr: h.Addr, Record: h})
			a.Values = append(a.Values, h.Addr.String())
		}
	}
	return found
}

func (n *Names) ask(a *Answer, name, qtype string, asker Asker) {
	for {
		if len(a.Chain) > maxChain {
			a.Code, a.Loop = ServFail, true
			return
		}
		records, code, zone, synth := n.find(name, asker)
		if code == Outside {
			a.Code = Outside
			return
		}
		if len(a.Chain) == 1 {
			a.Wildcard = synth
		}
		next, ok := "", false
		var found []*estate.DNS
		for _, d := range records {
			switch {
			case d.Type == qtype:
				found = append(found, d)
			case d.Type == "CNAME" && !ok:
				next, ok = d.Value, true
				a.Links = append(a.Links, Link{name, d, ttlOf(d, zone)})
			case d.Type == "ALIAS" && isAddressType(qtype) && !ok:
				next, ok = d.Value, true
				a.Links = append(a.Links, Link{name, d, ttlOf(d, zone)})
			case d.Type == "DNAME" && !ok && d.Owner != name && !synth:
				prefix := strings.TrimSuffix(name, d.Owner)
				next, ok = prefix+d.Value, true
				a.Links = append(a.Links, Link{name, d, ttlOf(d, zone)})
			}
		}
		if len(found) > 0 {
			for _, d := range found {
				n.take(a, name, d, zone)
			}
			a.Code = NoError
			return
		}
		if !ok {
			a.Code = code
			return
		}
		next = strings.TrimSuffix(next, ".")
		if next == "" {
			next = "."
		}
		if slices.Contains(a.Chain, next) {
			a.Chain = append(a.Chain, next)
			a.Code, a.Loop = ServFail, true
			return
		}
		a.Chain = append(a.Chain, next)
		name = next
	}
}

func ttlOf(d *estate.DNS, zone *estate.Zone) estate.Seconds {
	switch {
	case d.TTL != estate.NotGiven:
		return d.TTL
	case zone != nil:
		return zone.TTL
	}
	return estate.NotGiven
}

func (n *Names) take(a *Answer, name string, d *estate.DNS, zone *estate.Zone) {
	a.Links = append(a.Links, Link{name, d, ttlOf(d, zone)})
	if !isAddressType(d.Type) {
		a.Values = append(a.Values, d.Value)
		return
	}
	if d.Dynamic == "" {
		addr, err := netip.ParseAddr(d.Value)
		if err == nil {
			a.Addresses = append(a.Addresses, Address{Addr: addr, Record: d})
			a.Values = append(a.Values, d.Value)
		}
		return
	}
	addrs, unknown := n.holds(d.Dynamic, d.Type == "AAAA")
	for _, addr := range addrs {
		a.Addresses = append(a.Addresses, Address{Addr: addr, Record: d})
		a.Values = append(a.Values, addr.String())
	}
	if unknown {
		a.Addresses = append(a.Addresses, Address{Record: d, Unknown: true})
		a.Values = append(a.Values, "?")
	}
}

// find gives the records that answer for a name: its own, a wildcard's, or the DNAME above
// it. With none, code says whether the name exists.
func (n *Names) find(name string, asker Asker) (records []*estate.DNS, code Code, zone *estate.Zone, wildcard bool) {
	v, zoneName := n.seen(name, asker)
	over := n.override(name, asker)
	if v == nil {
		if len(over) > 0 {
			return over, NoError, nil, false
		}
		if at := n.public.nodes[name]; at != nil && len(at.records) > 0 {
			return at.records, NoError, nil, false // a record in no zone of ours stands alone
		}
		return nil, Outside, nil, false
	}
	zone = v.zones[zoneName]
	if len(over) > 0 {
		records = over
		if at := v.nodes[name]; at != nil {
			for _, d := range at.records {
				if !hidesAddress(d.Type) {
					records = append(records, d)
				}
			}
		}
		return records, NoError, zone, false
	}
	// From the zone's own name down: a delegation or a DNAME on the way decides.
	for _, above := range between(name, zoneName) {
		at := v.nodes[above]
		if at == nil {
			break
		}
		for _, d := range at.records {
			switch {
			case d.Type == "NS" && above != zoneName:
				return nil, Outside, zone, false
			case d.Type == "DNAME" && above != name:
				return []*estate.DNS{d}, NoError, zone, false
			}
		}
	}
	if at := v.nodes[name]; at != nil {
		return at.records, NoError, zone, false
	}
	for up, ok := Parent(name); ok; up, ok = Parent(up) {
		if v.nodes[up] == nil && up != zoneName {
			continue
		}
		if at := v.nodes["*."+up]; at != nil {
			return at.records, NoError, zone, true
		}
		break
	}
	return nil, NXDomain, zone, false
}

// between lists the names from zone down to name, both included.
func between(name, zone string) []string {
	var out []string
	for at, ok := name, true; ok; at, ok = Parent(at) {
		out = append(out, at)
		if at == zone {
			break
		}
	}
	slices.Reverse(out)
	return out
}

// ZoneOf is the zone in which an asker looks for a name; nil where none is recorded.
func (n *Names) ZoneOf(name string, asker Asker) *estate.Zone {
	v, zone := n.seen(name, asker)
	if v == nil {
		return nil
	}
	return v.zones[zone]
}

// Addresses answers for both families, IPv6 first. The code is that of the name: NoError where
// either family has an address or the name exists.
func (n *Names) Addresses(name string, asker Asker) (v6, v4 Answer) {
	return n.Ask(name, "AAAA", asker), n.Ask(name, "A", asker)
}
