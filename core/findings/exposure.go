package findings

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/serve"
	"steady-compass/core/trace"
)

// doorKey is an address, a transport and a range of ports.
func doorKey(e *exposure.Open) string { return e.Address + " " + e.Ports + "/" + e.Transport }

// looking is a look into what is open at one address, from one vantage.
type looking struct {
	*survey
	from  string
	meant map[string]bool // the ports of which an intent covers something
	notes []noted
}

func (l *looking) note(code string, e *exposure.Open) *noted {
	l.notes = append(l.notes, noted{seen: seen{e, l.from}, code: code, subject: openSubject(e)})
	return &l.notes[len(l.notes)-1]
}

func openSubject(e *exposure.Open) string {
	return fmt.Sprintf("%s:%s/%s", e.Host, e.Ports, e.Transport)
}

// look says of one thing open what is wrong with it.
func (l *looking) look(e *exposure.Open) {
	if l.from == "internet" {
		if service := Administration(e); service != "" && len(e.Sources.Only) == 0 && len(e.Sources.Except) == 0 {
			l.note("exposure.admin", e)
		}
		if inTheClear(l.m, e) {
			l.note("exposure.plaintext", e)
		}
		if l.byAddress(e) {
			l.note("site.by-address", e).subject = fmt.Sprintf("%s:%s", hostPort(e.Address), portOf(e))
		}
	}
	if e.Intent == exposure.Declared {
		return
	}
	if e.PastInput && !e.Beside && !l.meant[doorKey(e)] {
		l.note("exposure.past-input", e)
	}
	if b, ok := l.around(e); ok {
		found := l.note("exposure.bypass", e)
		found.front, found.guarded = b.front, b.guarded
	}
	switch audience := slices.ContainsFunc(e.Meant, func(i *estate.Intent) bool { return !forNobody(i) }); {
	case len(e.Meant) > 0 && !audience:
		found := l.note("intent.contradicted", e)
		found.intent = e.Meant[0]
		found.subject = found.intent.Target + ":" + found.intent.Ports.String()
	case audience:
		l.note("exposure.wider", e)
	case l.from == "internet" || l.t.Lands(e.Place):
		l.note("exposure.undeclared", e)
	}
}

// byAddress says whether something open is a site that answers whoever asks by the bare address, and no intent names that or its holder.
// One that only redirects gives nothing away.
func (l *looking) byAddress(e *exposure.Open) bool {
	if e.Site == nil || e.Picked == nil || *e.Site != "*" && *e.Site != e.Address || !e.Picked.Redirect.IsZero() || stream(e.Picked) {
		return false
	}
	if _, err := netip.ParseAddr(e.Address); err != nil {
		return false
	}
	return !slices.ContainsFunc(e.Meant, func(i *estate.Intent) bool {
		return slices.Contains([]string{e.Address, e.Host, e.Place}, i.Target) && !forNobody(i)
	})
}

// stream says whether a site hands on what it gets as it stands, and sees no name.
func stream(s *estate.Site) bool {
	scheme := s.To.Scheme
	if s.Pool != "" {
		scheme = s.Speaking
	}
	return scheme == "tcp" || scheme == "udp"
}

func forNobody(i *estate.Intent) bool {
	return !slices.ContainsFunc(i.For, func(s estate.Selector) bool { return s.Word != "nobody" })
}

// backend is what stands before a listener.
type backend struct {
	front   *serve.Front
	guarded bool
	fronts  []string // the places that hand on to it
}

// handedBy notes a front, or those of another port. Of several, one that asks to sign in stands for them, then the first by its
// line.
func (b *backend) handedBy(front *serve.Front, guarded bool, places ...string) {
	if b.front == nil || guarded && !b.guarded || guarded == b.guarded && frontWord(front) < frontWord(b.front) {
		b.front = front
	}
	b.guarded = b.guarded || guarded
	for _, p := range places {
		if i, known := slices.BinarySearch(b.fronts, p); !known {
			b.fronts = slices.Insert(b.fronts, i, p)
		}
	}
}

func frontWord(f *serve.Front) string {
	return fmt.Sprintf("%s %s %d %t", f.Place, estate.Line(f.Site), f.Port, f.TLS)
}

// fronted are the ports of a place that something stands before, rising.
func (s *survey) fronted(id model.PlaceID) []uint16 { return s.walks.at(s.m.Places[id]).fronted }

// before is all that stands before some ports of a place; false where nothing does.
func (s *survey) before(place string, ports netset.PortRange) (backend, bool) {
	var all backend
	p := s.m.PlaceNamed(place)
	if p == nil || s.walks == nil {
		return all, false
	}
	known := s.walks.at(p).fronts
	if ports.Len() == 1 {
		if b := known[ports.Lo]; b != nil {
			return *b, true
		}
		return all, false
	}
	for _, port := range s.walks.at(p).fronted {
		if b := known[port]; ports.Contains(port) {
			all.handedBy(b.front, b.guarded, b.fronts...)
		}
	}
	return all, all.front != nil
}

// lets says whether something meant gets through by the map of something open.
func (s *survey) lets(m *estate.Map) bool {
	host, _, _ := strings.Cut(m.Container, "/")
	p := s.m.PlaceNamed(host)
	return p != nil && s.walks != nil && s.walks.at(p).lets[estate.Line(m)]
}

// around says whether something open leads past the front that stands before it. Containers beside one another meet no
// front, and are not meant by it.
func (l *looking) around(e *exposure.Open) (backend, bool) {
	b, ok := l.before(e.Place, landed(e))
	if !ok || slices.Contains(b.fronts, e.Place) && (b.front == nil || b.front.Site == nil || b.front.Site.Service == e.Service) { // what takes it is a front itself
		return b, false
	}
	net := l.m.NetNamed(l.from)
	beside := net != nil && net.Container() && l.m.PlaceNamed(e.Place).Attachment(net.ID) != nil
	return b, !beside
}

// landed are the ports on which something open lands.
func landed(e *exposure.Open) netset.PortRange {
	return netset.PortRange{Lo: e.Lands(e.Range.Lo), Hi: e.Lands(e.Range.Hi)}
}

// families finds what a machine lets in from the internet in one family and not in the other.
func (s *survey) families(machine *model.Place, open []*exposure.Open) []noted {
	type landing struct {
		place, site, transport string
		port                   uint16
	}
	type lets struct {
		by    [2]*exposure.Open // IPv4, IPv6
		whole [2]bool
	}
	all := map[landing]*lets{}
	var order []landing
	var lively [2]bool // whether a family lets in anything
	for _, e := range open {
		family := 0
		if a, err := netip.ParseAddr(e.Address); err != nil {
			continue
		} else if a.Is6() {
			family = 1
		}
		lively[family] = true
		site := ""
		if e.Site != nil {
			site = *e.Site
		}
		for port := int(e.Range.Lo); port <= int(e.Range.Hi); port++ {
			k := landing{e.Place, site, e.Transport, e.Lands(uint16(port))}
			l := all[k]
			if l == nil {
				l = &lets{}
				all[k] = l
				order = append(order, k)
			}
			if l.by[family] == nil {
				l.by[family] = e
			}
			l.whole[family] = l.whole[family] || len(e.Sources.Only)+len(e.Sources.Except) == 0
			if port-int(e.Range.Lo) >= widest {
				break // a range is one thing
			}
		}
	}
	var notes []noted
	told := map[*exposure.Open]bool{}
	for _, k := range order {
		l := all[k]
		for family, e := range l.by {
			other := 1 - family
			more := e != nil && (l.by[other] == nil || l.whole[family] && !l.whole[other])
			if !more || told[e] || e.Intent == exposure.Declared || !(lively[other] || family == 1 && holds(machine, false)) {
				continue
			}
			told[e] = true
			notes = append(notes, noted{seen: seen{e, "internet"}, code: "exposure.family", subject: openSubject(e), some: l.by[other] != nil})
		}
	}
	return notes
}

// holds says whether a machine has an address of a family, its containers' gateways aside.
func holds(p *model.Place, v6 bool) bool {
	return slices.ContainsFunc(p.Attachments, func(l model.Attachment) bool {
		return !l.Gateway && slices.ContainsFunc(l.Addrs, func(a netip.Addr) bool { return a.Is6() == v6 })
	})
}

// opened is a look at what is open under one code and subject.
type opened struct {
	check
	*opening
	reach   func() reached
	filters map[string]bool
}

// finding is the finding about it.
func (c *opened) finding() Finding {
	o := c.opening
	e := o.seen[0]
	f := Finding{Code: o.code, Subject: o.subject, Records: e.Records, Trace: &Where{fmt.Sprintf("%s:%s", hostPort(e.Address), portOf(e.Open)), e.from}}
	if f.Code != "exposure.source-lost" {
		f.keys = []string{fmt.Sprintf("door: %s:%d/%s", e.Place, e.Port, e.Transport)}
		if e.Site != nil && e.Picked != nil {
			f.keys = []string{flow.RecordCause(estate.Line(e.Picked))}
		}
	}
	f.opens = opens{place: e.Place, port: e.Port}
	what := e.Service + " on " + e.Place
	if e.Site != nil {
		f.opens.site = *e.Site
		what = fmt.Sprintf("site %s of %s on %s", *e.Site, e.Service, e.Place)
	}
	at := what
	if e.Address != e.Place {
		at += " at " + e.Address
	}
	switch o.code {
	case "exposure.undeclared":
		f.Why = fmt.Sprintf("Open, and no intent says so: %s reaches %s.", o.who(), at)
		f.Mend = c.undeclaredMend()
	case "exposure.wider":
		f.Why = fmt.Sprintf("Open to more than it is meant for: %s, and %s reaches it too, at %s.", meantFor(e.Meant), whoOf(e), at)
		for _, i := range e.Meant {
			f.Records = append(slices.Clone(f.Records), estate.Line(i))
		}
		f.Mend = c.narrowing()
	case "intent.contradicted":
		f.Why = fmt.Sprintf("Nobody is meant to reach %s, and %s does: %s.", o.intent.Target, o.who(), at)
		f.Records = append(lines(o.intent), f.Records...)
		f.Mend = c.shutting()
	case "exposure.past-input":
		host, _, _ := strings.Cut(e.Map.Container, "/")
		f.Records = lines(e.Map)
		var names []string
		for _, in := range c.m.PlaceNamed(host).Filters[model.Input] {
			f.Records = append(f.Records, estate.Line(in.Record))
			names = append(names, in.Record.Name)
		}
		f.Why = fmt.Sprintf("%s reaches %s on %s by the map, ahead of the input filter %s, which would have stopped it.", o.who(), e.Service, e.Place, joined(names))
		f.Mend = c.closing(e.Open)
	case "exposure.bypass":
		past := "its front " + o.front.Place
		switch {
		case o.guarded && o.front.Site.Guard != (estate.Guard{}):
			past += fmt.Sprintf(", which asks to sign in (%s)", orText(o.front.Site.Guard))
		case o.front.TLS && !e.Listen.TLS:
			past += ", which encrypts"
		}
		f.Why = fmt.Sprintf("%s reaches %s around %s.", o.who(), at, past)
		outside := slices.ContainsFunc(o.seen, func(e seen) bool { return e.from == "internet" })
		if !outside && !o.guarded && o.front.Site.Guard == (estate.Guard{}) && len(o.front.Site.Sources) == 0 {
			f.Level = Warning // from our own networks only, around a front that lets in everybody
		}
		f.Records = append(slices.Clone(f.Records), estate.Line(o.front.Site))
		f.Mend = c.shutting()
	case "exposure.admin":
		f.Why = fmt.Sprintf("Every address on the internet reaches %s, on a port for %s.", at, Administration(e.Open))
		if e.Intent == exposure.None {
			f.Mend = c.shutting()
		}
	case "exposure.plaintext":
		f.Why = fmt.Sprintf("%s reaches %s, and what is said there can be read on the way.", o.who(), at)
		f.Mend = c.encrypting(e.Open)
	case "site.by-address":
		f.Why = fmt.Sprintf("%s who asks by the bare address %s is answered by %s, and no intent says so.", o.who(), e.Address, what)
	case "exposure.family":
		other, family := "IPv6", "IPv4"
		if e.addrIs6() {
			other, family = family, other
		}
		f.Why = fmt.Sprintf("Over %s %s reaches %s, and over %s not.", family, o.who(), at, other)
		if len(e.Sources.Only)+len(e.Sources.Except) > 0 {
			f.Why = fmt.Sprintf("Over %s more of the internet reaches %s than over %s.", family, at, other)
		}
		if e.Intent == exposure.None && !o.some { // else it would be the other family that lets in more
			f.Mend = c.shutting()
		}
	case "exposure.source-lost":
		f.Why = fmt.Sprintf("The port relay of %s hides who asks: %s has a list of sources, and sees the relay instead of %s.", e.Host, what, o.who())
		if e.Intent == exposure.None && e.Map != nil && !c.lets(e.Map) {
			f.Mend = &flow.Mend{Remove: lines(e.Map), Add: lines(estate.With(e.Map, func(m *estate.Map) { m.NoRelay = true }))}
		}
	}
	f.Why = strings.ToUpper(f.Why[:1]) + f.Why[1:] + alsoFrom(o)
	return *f.made()
}

// alsoFrom says from where else.
func alsoFrom(o *opening) string {
	var more []string
	for _, e := range o.seen[1:] {
		if e.from != o.seen[0].from && !slices.Contains(more, e.from) {
			more = append(more, e.from)
		}
	}
	if len(more) == 0 {
		return ""
	}
	return " And from " + strings.Join(more, ", ") + "."
}

func orText(g estate.Guard) string { return cmp.Or(g.Service, g.Text) }

func (e *seen) addrIs6() bool {
	a, err := netip.ParseAddr(e.Address)
	return err == nil && a.Is6()
}

// meantFor says for whom intents are.
func meantFor(list []*estate.Intent) string {
	var words []string
	for _, i := range list {
		for _, s := range i.For {
			if w := s.String(); s.Word != "nobody" && !slices.Contains(words, w) {
				words = append(words, w)
			}
		}
	}
	return "for " + joined(words)
}

// whoOf is who reaches something open.
func whoOf(e seen) string {
	switch {
	case len(e.Sources.Only) > 0:
		return fmt.Sprintf("%s (from %s)", strings.Join(e.Sources.Only, ", "), e.from)
	case len(e.Sources.Except) > 0:
		return fmt.Sprintf("%s but for %s", who(e.from), strings.Join(e.Sources.Except, ", "))
	}
	return who(e.from)
}

// who is whoever of the first vantage reaches something open: to exactly whom, where not everybody there does.
func (o *opening) who() string {
	var only, except []string
	for i := range o.seen {
		e := &o.seen[i]
		switch {
		case e.from != o.seen[0].from:
		case len(e.Sources.Only) > 0:
			only = appendEach(only, e.Sources.Only)
		case len(e.Sources.Except) > 0:
			except = appendEach(except, e.Sources.Except)
		default:
			return who(e.from)
		}
	}
	switch {
	case len(except) > 0 && len(only) == 0:
		return who(o.seen[0].from) + " but for " + shortList(except)
	case len(only) > 0 && len(except) == 0:
		return "whoever asks from " + shortList(only)
	}
	return who(o.seen[0].from)
}

func appendEach(list, more []string) []string {
	for _, word := range more {
		word = strings.TrimSuffix(strings.TrimSuffix(word, "/32"), "/128") // a single address is written so
		if !slices.Contains(list, word) {
			list = append(list, word)
		}
	}
	return list
}

// shortList is a list in words; of a long one the first, and how many more there are.
func shortList(list []string) string {
	const most = 4
	if len(list) > most {
		list = append(list[:most-1:most-1], fmt.Sprintf("%d more", len(list)-most+1))
	}
	return joined(list)
}

// undeclaredMend closes what nothing intends, or says that it is meant.
func (c *opened) undeclaredMend() *flow.Mend {
	o := c.opening
	if mend := c.closing(o.seen[0].Open); mend != nil {
		return mend
	}
	d := declaring{opened: c, at: map[string]int{}}
	if o.seen[0].from != "internet" {
		return d.place(&o.seen[0])
	}
	for i := range o.seen {
		e := &o.seen[i]
		if e.from != "internet" && d.anyone {
			continue // what is meant for the internet is meant for anyone
		}
		sites := []string{""}
		if e.Site != nil {
			sites = append([]string{*e.Site}, e.Also...)
		}
		for _, site := range sites {
			if !d.declare(e, site) {
				return nil
			}
		}
	}
	return &flow.Mend{Remove: []string{}, Add: d.add}
}

// closing puts the map of a service that no intent speaks of on loopback only: with it the maps that would take
// its ports, and without the forwards that would then lead nowhere. nil where one of them serves something else.
func (c *check) closing(e *exposure.Open) *flow.Mend {
	if e.Map == nil {
		return nil
	}
	name, _, _ := strings.Cut(e.Map.Container, "/")
	host := c.m.PlaceNamed(name)
	i := slices.IndexFunc(host.Maps, func(m *model.Map) bool { return m.Record == e.Map })
	if i < 0 {
		return nil
	}
	ports := host.Maps[i].Ports
	loop := netip.AddrFrom4([4]byte{127, 0, 0, 1})
	mend := &flow.Mend{}
	for _, m := range host.Maps {
		if m.Record.Bind.Transport&e.Map.Bind.Transport == 0 || m.Ports.Intersect(ports).IsEmpty() {
			continue
		}
		if m.Record.Bind.Addr.IsValid() || c.t.Lands(m.Record.Container) {
			return nil
		}
		mend.Remove = append(mend.Remove, estate.Line(m.Record))
		mend.Add = append(mend.Add, estate.Line(estate.With(m.Record, func(m *estate.Map) { m.Bind.Addr = loop })))
	}
	for _, f := range c.forwardsTo(host) {
		if f.Record.Bind.Transport&e.Map.Bind.Transport == 0 {
			continue
		}
		var led []netset.PortRange
		for _, pair := range f.Pairs {
			led = append(led, netset.PortRange{Lo: pair.To, Hi: pair.Inner(pair.From.Hi)})
		}
		switch to := netset.PortsOf(led...); {
		case to.Intersect(ports).IsEmpty():
		case to.Subtract(ports).IsEmpty():
			mend.Remove = append(mend.Remove, estate.Line(f.Record))
		default:
			return nil
		}
	}
	return mend
}

// forwardsTo are the forwards that lead to a machine.
func (c *check) forwardsTo(host *model.Place) []*model.Forward {
	var out []*model.Forward
	var seen []netip.Addr
	for _, attachment := range host.Attachments {
		for _, a := range attachment.Addrs {
			if !slices.Contains(seen, a) {
				seen, out = append(seen, a), append(out, c.t.ForwardsTo(a)...)
			}
		}
	}
	return out
}

// arrives says whether a target gets through from a vantage, on the ports of something open: the first of them stands for all.
func (c *opened) arrives(target string, e *exposure.Open, from string) bool {
	key := flow.PortKey{Port: e.Range.Lo, Transport: netset.TCP}
	if e.Transport == "udp" {
		key.Transport = netset.UDP
	}
	for _, w := range c.walksTo(target, &c.reads) {
		if w.key == key && w.from.Word == from {
			return allGood(w.paths)
		}
	}
	v, err := c.t.VantageNamed(from)
	if err != nil {
		return false
	}
	tg, err := c.t.ParseTarget(target)
	if err != nil {
		return false
	}
	return allGood(c.t.TraceReading(tg, key, v, &c.reads))
}

func allGood(paths []trace.Path) bool {
	return len(paths) > 0 && !slices.ContainsFunc(paths, func(p trace.Path) bool { return !p.Outcome.Good() })
}

func who(from string) string {
	if from == "internet" {
		return "anyone on the internet"
	}
	return from
}

func hostPort(address string) string {
	if a, err := netip.ParseAddr(address); err == nil && a.Is6() {
		return "[" + address + "]"
	}
	return address
}

func portOf(e *exposure.Open) string {
	if e.Transport == "udp" {
		return fmt.Sprintf("%d/udp", e.Range.Lo)
	}
	return fmt.Sprint(e.Range.Lo)
}

// declaring writes the intents that say that something open is meant to be.
type declaring struct {
	*opened
	add    []string
	at     map[string]int // the line of a target and ports
	anyone bool           // one of them is for the internet
}

// declare says that something is meant to be open: for the site's name, else for the address as it is entered. false where
// that cannot be said, or would not be met.
func (d *declaring) declare(e *seen, site string) bool {
	ports := estate.Ports{Ranges: []netset.PortRange{e.Range}, Transport: netset.TCP}
	if e.Transport == "udp" {
		ports.Transport = netset.UDP
	}
	target := e.Address
	if site != "" {
		name, ok := estate.CleanHostname(site)
		if !ok || name == "*" || e.from != "internet" {
			return false // which name is meant, or how it is asked for there, is not known
		}
		target = name
	}
	if len(e.Sources.Only) > 0 || !d.arrives(target, e.Open, e.from) {
		return false // for some only, others who get there would not be meant
	}
	head := fmt.Sprintf("intend %s %s for ", target, ports)
	if i, ok := d.at[head]; ok { // it stands there for another audience
		if list := strings.TrimPrefix(d.add[i], head); !slices.Contains(strings.Split(list, ","), e.from) {
			d.add[i] += "," + e.from
		}
		return true
	}
	i := &estate.Intent{Target: target, Ports: ports, For: []estate.Selector{vantageSelector(e.from)}}
	if estate.Complete(i) != nil {
		return false
	}
	d.anyone = d.anyone || e.from == "internet"
	d.at[head] = len(d.add)
	d.add = append(d.add, estate.Line(i))
	return true
}

// place says that ports are meant for all who reach them, by the place where they land: an intent is for nobody else. Ports
// that others reach have a line of their own. nil where there are sites, or so many ports that they are not told apart, or
// where some do not get there by each of the place's addresses.
func (d *declaring) place(e *seen) *flow.Mend {
	inner := landed(e.Open)
	if e.Site != nil || inner.Len() != e.Range.Len() || inner.Len() > widest {
		return nil
	}
	d.beside = true
	reach := func(port int) []string { return d.reach().from(e.Place, e.Transport, uint16(port)) }
	mend := &flow.Mend{Remove: []string{}}
	for lo := int(inner.Lo); lo <= int(inner.Hi); {
		hi := lo
		for hi < int(inner.Hi) && slices.Equal(reach(hi+1), reach(lo)) {
			hi++
		}
		i := d.placeIntent(e, netset.PortRange{Lo: uint16(lo), Hi: uint16(hi)}, reach(lo))
		if i == nil {
			return nil
		}
		mend.Add = append(mend.Add, estate.Line(i))
		lo = hi + 1
	}
	return mend
}

// placeIntent is the line that says of some ports of a place that they are meant for those who reach them.
func (d *declaring) placeIntent(e *seen, ports netset.PortRange, audience []string) *estate.Intent {
	entry := *e.Open
	entry.Range = ports
	i := &estate.Intent{Target: e.Place, Ports: estate.Ports{Ranges: []netset.PortRange{ports}, Transport: netset.TCP}}
	if e.Transport == "udp" {
		i.Ports.Transport = netset.UDP
	}
	for _, from := range audience {
		if !d.arrives(e.Place, &entry, from) {
			return nil
		}
		i.For = appendNew(i.For, vantageSelector(from))
	}
	if slices.Contains(i.For, vantageSelector("internet")) {
		i.For = []estate.Selector{vantageSelector("internet")}
	}
	if len(i.For) == 0 || estate.Complete(i) != nil {
		return nil
	}
	return i
}
