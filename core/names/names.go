// Package names says what a name answers, and to whom: RFC 1034 §4.3.2 over the recorded zones,
// with wildcards by their closest encloser (RFC 4592), DNAME (RFC 6672), negative answers
// (RFC 2308), split views and hosts files.
package names

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/net/idna"

	"steady-compass/core/carry"
	"steady-compass/core/estate"
)

// Code is a DNS response code, or Outside where the answer is not in what is recorded.
type Code uint8

const (
	NoError  Code = iota
	NXDomain      // no such name
	ServFail      // an alias that leads back to itself
	YXDomain      // a DNAME makes a name that is too long (RFC 6672 §2.2)
	Outside       // the chain leaves what is recorded
)

func (c Code) String() string {
	return [...]string{"NOERROR", "NXDOMAIN", "SERVFAIL", "YXDOMAIN", "outside"}[c]
}

// maxName is the most characters of a name in text, without the last dot (RFC 1035 §2.3.4).
const maxName = 253

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
	// Negative is how long it may be kept that the last name, or this type of it, is not there.
	Negative      estate.Seconds
	NegativeKnown bool // an SOA is recorded that says so
}

// Age is how long a record may still be seen as it was after it changes: its TTL (RFC 1035 §3.2.1), and for one that
// follows a machine also the interval at which it is brought up to date. known is false where one of them is not
// recorded.
func (l Link) Age() (age estate.Seconds, known bool) {
	d, ok := l.Record.(*estate.DNS)
	switch {
	case !ok:
		return 0, true // a hosts file is read anew each time
	case l.TTL == estate.NotGiven, d.Dynamic != "" && d.Every == estate.NotGiven:
		return 0, false
	case d.Dynamic != "":
		return l.TTL + d.Every, true
	}
	return l.TTL, true
}

// Age is how old an answer may be that is still seen after any of its records changed: the most of its links, or,
// where there is no address, how long that may be kept (RFC 2308 §5).
func (a *Answer) Age() (age estate.Seconds, known bool) {
	known = true
	for _, l := range a.Links {
		one, ok := l.Age()
		age, known = max(age, one), known && ok
	}
	if len(a.Values) == 0 && a.Code != Outside {
		return max(age, a.Negative), known && a.NegativeKnown
	}
	return age, known
}

// Last is the name where the chain ends.
func (a *Answer) Last() string { return a.Chain[len(a.Chain)-1] }

// Names is the recorded name space, compiled. It is immutable.
type Names struct {
	estate *estate.Estate
	public *view
	views  []*view                  // the copies of zones for some askers
	over   map[string][]*estate.DNS // records of one name for some askers, where they have no copy of its zone

	overrides []*estate.DNS // the same, in the order in which they are written

	files  map[string][]*estate.HostsEntry // by place
	groups map[string]map[string]bool      // the places and networks in each group, itself included
	holds  func(host string, v6 bool) (addrs []netip.Addr, unknown bool)
}

// view is one copy of the name space: everything public, or one zone for some askers.
type view struct {
	zone  *estate.Zone // nil: the public view
	for_  map[string]bool
	zones map[string]*estate.Zone
	nodes carry.Map[string, *node]

	wildcards carry.Map[string, *node] // by the name that they stand below
	records   []*estate.DNS            // of a copy, in the order in which they are written
}

// node is a name that exists, by its records or since a name below it does (RFC 4592 §2.2.2).
type node struct {
	records []*estate.DNS
	dname   *estate.DNS // the names below it are elsewhere (RFC 6672)
	cut     bool        // it holds NS records: below a zone's own name, another server answers from here on
}

// Compile builds the name space of an estate. holds tells what addresses a host holds on internet.
func Compile(e *estate.Estate, holds func(host string, v6 bool) ([]netip.Addr, bool)) *Names {
	n := &Names{
		estate: e, over: map[string][]*estate.DNS{}, files: map[string][]*estate.HostsEntry{},
		groups: map[string]map[string]bool{}, holds: holds,
	}
	n.compileGroups(e)
	public := newWriting(&view{zones: map[string]*estate.Zone{}})
	n.public = public.view
	var copies []*writing
	for _, r := range e.Of(estate.KindNamed("zone")) {
		z := r.(*estate.Zone)
		if z.Off {
			continue
		}
		if len(z.For) == 0 {
			if n.public.zones[z.Name] == nil {
				n.public.zones[z.Name] = z
				public.add(z.Name)
			}
			continue
		}
		v := newWriting(&view{zone: z, for_: n.expand(z.For), zones: map[string]*estate.Zone{z.Name: z}})
		v.add(z.Name)
		copies, n.views = append(copies, v), append(n.views, v.view)
	}
	for _, r := range e.Of(estate.KindNamed("dns")) {
		d := r.(*estate.DNS)
		if d.Off {
			continue
		}
		if len(d.For) == 0 {
			public.put(d)
			continue
		}
		places, in := n.expand(d.For), false
		for _, v := range copies {
			if Under(d.Owner, v.zone.Name) && len(n.public.longest(d.Owner)) <= len(v.zone.Name) && overlap(places, v.for_) {
				v.put(d)
				in = true
			}
		}
		if !in {
			n.over[d.Owner] = append(n.over[d.Owner], d)
			n.overrides = append(n.overrides, d)
		}
	}
	for _, r := range e.Of(estate.KindNamed("name")) {
		if h := r.(*estate.HostsEntry); !h.Off {
			n.files[h.Place] = append(n.files[h.Place], h)
		}
	}
	for _, v := range append(copies, public) {
		v.done()
	}
	return n
}

// Owned are the public records of a name, and those for some askers where they have no copy of its zone.
func (n *Names) Owned(name string) []*estate.DNS {
	var out []*estate.DNS
	if at := n.public.nodes.Of(name); at != nil {
		out = append(out, at.records...)
	}
	return append(out, n.over[name]...)
}

// After is the name space of an estate that came of the compiled one by an edit, in the same groups. It answers as one compiled
// anew does; where all that changed are public records of a few names that have some still, it shares the rest.
func (n *Names) After(e *estate.Estate, holds func(host string, v6 bool) ([]netip.Addr, bool)) *Names {
	gone, come := estate.Changed(n.estate, e, estate.KindNamed("dns"))
	owners := map[string]bool{}
	plain := estate.Same(n.estate, e, "zone", "name") && len(gone)+len(come) <= fewRecords
	for _, r := range slices.Concat(gone, come) {
		d := r.(*estate.DNS)
		plain = plain && len(d.For) == 0
		owners[d.Owner] = true
	}
	if !plain {
		return Compile(e, holds)
	}
	nodes := map[string]*node{}
	wanted := estate.OneOf(owners)
	for _, r := range e.Of(estate.KindNamed("dns")) {
		d := r.(*estate.DNS)
		if !wanted(d.Owner) || d.Off || len(d.For) > 0 {
			continue
		}
		if nodes[d.Owner] == nil {
			nodes[d.Owner] = &node{}
		}
		nodes[d.Owner].put(d)
	}
	for owner := range owners {
		if was := n.public.nodes.Of(owner); was != nil && nodes[owner] == nil && len(was.records) > 0 {
			return Compile(e, holds) // it may be gone, and names above it with it
		}
	}
	next := *n
	next.estate, next.holds = e, holds
	next.public = &view{zones: n.public.zones, nodes: n.public.nodes, wildcards: n.public.wildcards}
	v := newWriting(next.public)
	for owner, at := range nodes {
		v.add(owner)
		*v.make(owner) = *at
	}
	v.done()
	return &next
}

// fewRecords is how many records may change before all are compiled anew.
const fewRecords = 64

// writing is a view that names are brought into.
type writing struct {
	*view
	fresh map[string]*node // besides those that the view has, or in their place
	stars map[string]*node // and of the wildcards
}

func newWriting(v *view) *writing { return &writing{v, map[string]*node{}, map[string]*node{}} }

func (v *writing) done() {
	v.nodes, v.wildcards = v.nodes.After(nil, v.fresh), v.wildcards.After(nil, v.stars)
}

func (v *writing) at(name string) *node {
	if at := v.fresh[name]; at != nil {
		return at
	}
	return v.nodes.Of(name)
}

// add makes a name exist, and every name above it.
func (v *writing) add(name string) *node {
	found := v.at(name)
	if found != nil {
		return found
	}
	found = v.make(name)
	for up, ok := Parent(name); ok; up, ok = Parent(up) {
		if v.at(up) != nil {
			break
		}
		v.make(up)
	}
	return found
}

// make makes the node of a name, which may have had one.
func (v *writing) make(name string) *node {
	at := &node{}
	v.fresh[name] = at
	if below, ok := strings.CutPrefix(name, "*."); ok {
		v.stars[below] = at
	} else if name == "*" {
		v.stars["."] = at
	}
	return at
}

func (v *writing) put(d *estate.DNS) {
	v.add(d.Owner).put(d)
	if v.zone != nil {
		v.records = append(v.records, d)
	}
}

func (at *node) put(d *estate.DNS) {
	at.records = append(at.records, d)
	switch {
	case d.Type == "NS":
		at.cut = true
	case d.Type == "DNAME" && at.dname == nil:
		at.dname = d
	}
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
		f := n.find(name, asker)
		if len(a.Chain) == 1 {
			a.Wildcard = f.wildcard
		}
		if f.code == Outside {
			a.Code = Outside
			return
		}
		a.Negative, a.NegativeKnown = negativeTTL(f)
		alias := f.dname
		for _, d := range f.records {
			switch {
			case d.Type == qtype:
				n.take(a, name, d, f.zone)
				alias = nil
			case len(a.Values)+len(a.Addresses) > 0 || alias != nil:
			case d.Type == "CNAME", d.Type == "ALIAS" && isAddressType(qtype):
				alias = d
			}
		}
		if len(a.Values)+len(a.Addresses) > 0 || alias == nil {
			a.Code = f.code
			return
		}
		a.Links = append(a.Links, Link{name, alias, ttlOf(alias, f.zone)})
		next := strings.TrimSuffix(alias.Value, ".")
		if next == "" {
			next = "."
		}
		if f.dname != nil {
			if next = strings.TrimSuffix(name, alias.Owner) + next; len(next) > maxName {
				a.Code = YXDomain
				return
			}
			if qtype == "CNAME" { // the alias that the DNAME makes is what was asked for (RFC 6672 §3.1)
				a.Values = append(a.Values, next)
				return
			}
		}
		a.Chain = append(a.Chain, next)
		if slices.Contains(a.Chain[:len(a.Chain)-1], next) || len(a.Chain) > maxChain {
			a.Code, a.Loop = ServFail, true
			return
		}
		name = next
	}
}

// negativeTTL is how long it may be kept that a name, or a type of it, is not there: the lesser of the SOA's own TTL
// and its MINIMUM (RFC 2308 §5). Without a recorded SOA it is not known.
func negativeTTL(f found) (estate.Seconds, bool) {
	if f.soa == nil {
		return 0, false
	}
	words := strings.Fields(noParentheses.Replace(f.soa.Value))
	if len(words) != 7 {
		return 0, false
	}
	minimum, err := strconv.Atoi(words[6])
	if err != nil {
		return 0, false
	}
	if ttl := ttlOf(f.soa, f.zone); ttl != estate.NotGiven {
		return min(ttl, estate.Seconds(minimum)), true
	}
	return estate.Seconds(minimum), true
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

// found is what stands at a name, or decides about it.
type found struct {
	records  []*estate.DNS
	dname    *estate.DNS // the DNAME above the name, which takes the place of all below it
	code     Code        // NoError where the name exists
	zone     *estate.Zone
	soa      *estate.DNS // of the zone
	wildcard bool        // the records are those of the closest encloser's wildcard
}

// find gives what answers for a name: its own records, the DNAME above it, or a wildcard's records.
func (n *Names) find(name string, asker Asker) found {
	v, zone := n.seen(name, asker)
	over := n.override(name, asker)
	if v == nil {
		if len(over) == 0 {
			if at := n.public.nodes.Of(name); at != nil {
				over = at.records // a record in no zone of ours stands alone
			}
		}
		if len(over) == 0 {
			return found{code: Outside}
		}
		return found{records: over}
	}
	f := found{zone: v.zones[zone], soa: v.nodes.Of(zone).soa()}
	if len(over) > 0 {
		f.records = beside(over, v.nodes.Of(name))
		return f
	}
	// Upwards from the name; the last word has what stands nearest to the zone's own name, a delegation or a DNAME.
	at := v.nodes.Of(name)
	var encloser string // the closest name above that exists
	for up, here := name, at; ; {
		if here != nil {
			if here.dname != nil && up != name {
				f.dname, f.code = here.dname, NoError
			}
			if here.cut && up != zone {
				f.dname, f.code = nil, Outside
			}
			if encloser == "" && up != name {
				encloser = up
			}
		}
		if up == zone {
			break
		}
		if up, _ = Parent(up); up == "" {
			up = "."
		}
		here = v.nodes.Of(up)
	}
	switch {
	case f.code == Outside || f.dname != nil:
		return f
	case at != nil:
		f.records = at.records
		return f
	}
	at = v.wildcards.Of(encloser)
	if len(n.over) > 0 {
		if over := n.override("*."+encloser, asker); len(over) > 0 {
			f.records, f.wildcard = beside(over, at), true
			return f
		}
	}
	if at != nil {
		f.records, f.wildcard = at.records, true
		return f
	}
	f.code = NXDomain
	return f
}

// beside is what an asker has of its own for a name, and of what everybody has there that which it does not hide.
func beside(over []*estate.DNS, at *node) []*estate.DNS {
	if at == nil {
		return over
	}
	out := slices.Clip(over)
	for _, d := range at.records {
		if !hidesAddress(d.Type) {
			out = append(out, d)
		}
	}
	return out
}

// Unicode is a name as people write it (RFC 5890 §2.3.2.1); "" where that is the same, or the name is no such.
func Unicode(name string) string {
	if !strings.Contains(name, "xn--") {
		return ""
	}
	text, err := idna.Lookup.ToUnicode(strings.TrimPrefix(name, "*."))
	if err != nil || text == name || slices.Contains(strings.Split(text, "."), "") {
		return ""
	}
	if strings.HasPrefix(name, "*.") {
		text = "*." + text
	}
	return text
}

// Standing is what decides about a name that is asked for.
type Standing struct {
	Zone     string // the zone that answers; "" where none is recorded
	Exists   bool   // the name itself is there
	Encloser string // else the closest name above that is (RFC 4592 §3.3.1)
	Wildcard string // the wildcard below that, where there is one
}

// Standing says by what a name would be answered.
func (n *Names) Standing(name string, asker Asker) Standing {
	v, zone := n.seen(name, asker)
	if v == nil {
		at := n.public.nodes.Of(name)
		return Standing{Exists: at != nil && len(at.records) > 0 || len(n.override(name, asker)) > 0}
	}
	s := Standing{Zone: zone, Exists: v.nodes.Of(name) != nil || len(n.override(name, asker)) > 0}
	for up, ok := Parent(name); !s.Exists && ok; up, ok = Parent(up) {
		if v.nodes.Of(up) == nil {
			continue
		}
		s.Encloser = up
		if v.wildcards.Of(up) != nil || len(n.override("*."+up, asker)) > 0 {
			s.Wildcard = "*." + up
		}
		break
	}
	return s
}

func (at *node) soa() *estate.DNS {
	for _, d := range at.records {
		if d.Type == "SOA" {
			return d
		}
	}
	return nil
}

// ZoneOf is the zone in which an asker looks for a name; nil where none is recorded.
func (n *Names) ZoneOf(name string, asker Asker) *estate.Zone {
	v, zone := n.seen(name, asker)
	if v == nil {
		return nil
	}
	return v.zones[zone]
}

// Recorded says whether anybody at all finds a recorded zone that a name is in.
func (n *Names) Recorded(name string) bool {
	return n.public.longest(name) != "" || slices.ContainsFunc(n.views, func(v *view) bool { return v.longest(name) != "" })
}

// Zone gives the copy of a zone that an asker sees, and what stands in it in the order in which it is written; nil
// where there is none. Records of one name that are for the asker alone stand in place of those they hide.
func (n *Names) Zone(zone string, asker Asker) (*estate.Zone, []*estate.DNS) {
	v, name := n.seen(zone, asker)
	if v == nil || name != zone {
		return nil, nil
	}
	var out []*estate.DNS
	overridden := map[string]bool{}
	for _, d := range n.recordsOf(v) {
		if v == n.public && v.longest(d.Owner) != zone {
			continue
		}
		over := n.override(d.Owner, asker)
		if len(over) > 0 && hidesAddress(d.Type) {
			continue
		}
		out = append(out, d)
	}
	for _, d := range n.overrides {
		if v.longest(d.Owner) != zone || overridden[d.Owner] {
			continue
		}
		overridden[d.Owner] = true
		out = append(out, n.override(d.Owner, asker)...)
	}
	return v.zones[zone], out
}

// recordsOf are the records of a view, in the order in which they are written.
func (n *Names) recordsOf(v *view) []*estate.DNS {
	if v != n.public {
		return v.records
	}
	var out []*estate.DNS
	for _, r := range n.estate.Of(estate.KindNamed("dns")) {
		if d := r.(*estate.DNS); !d.Off && len(d.For) == 0 {
			out = append(out, d)
		}
	}
	return out
}

// Addresses answers for both families, IPv6 first. The code is that of the name: NoError where
// either family has an address or the name exists.
func (n *Names) Addresses(name string, asker Asker) (v6, v4 Answer) {
	return n.Ask(name, "AAAA", asker), n.Ask(name, "A", asker)
}

// noParentheses takes out what spreads a value over lines (RFC 1035 section 5.1).
var noParentheses = strings.NewReplacer("(", " ", ")", " ")
