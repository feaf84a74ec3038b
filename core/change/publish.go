package change

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/mend"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
	"steady-compass/core/serve"
	"steady-compass/core/trace"
)

// Wish is what is to be published: a name, on some ports, that ends at a place, for an audience.
type Wish struct {
	Name     string
	Ports    string // "" where they are those of the pattern
	Place    string
	Port     uint16 // 0 where the place has but one
	UDP      bool   // of the port; where nothing but UDP is listened for there, it is that anyhow
	Audience []string
	Guard    string // the service that signs in first; "" for none
	Front    string // "" where it is that of the pattern
	At       netip.Addr
}

// mostPlans is how many plans are kept to choose from, mostTried how many are tried for them, mostMended how many breaks are mended in one, and
// mostAlike how many names are looked at for how they are published.
const (
	mostPlans  = 3
	mostTried  = 24
	mostMended = 6
	mostAlike  = 48
)

// pattern is how names like the one to be published are: where they are answered, what takes them, which certificate.
type pattern struct {
	records []*estate.DNS
	entry   *estate.Listen // what takes the visitor
	ports   string         // by which it is entered
	method  string         // of its certificate
	class   int            // how near: the same zone and audience, the same audience, the zone
	count   int
}

// otherAudience is the class of patterns that are for others.
const otherAudience = 2

func (p *pattern) key() string {
	var b strings.Builder
	for _, d := range p.records {
		fmt.Fprintf(&b, "%s %s%s %v;", d.Type, d.Value, d.Dynamic, d.For)
	}
	if p.entry != nil {
		b.WriteString(p.entry.Service + " " + p.entry.Place)
	}
	return b.String()
}

type publishing struct {
	first *point
	wish  Wish
	end   *estate.Listen // what listens there
	zone  string
}

// draftPlan is a plan that is being made.
type draftPlan struct {
	lines   []string // that come
	gone    []string // that they lengthen
	pattern *pattern
	front   bool
	kept    int // how much of the pattern it keeps
	doors   int
}

// Publish works out the lines that let an audience reach a place by a name: begun with what is meant, and proven by what comes of it.
func Publish(ctx context.Context, s mend.State, w Wish) (Proposals, error) {
	before := s.Tracer.Model.Estate
	p := &publishing{first: &point{before, before, s}, wish: w}
	if why := p.understand(); why != "" {
		return none("%s", why), nil
	}
	var plans []*draftPlan
	var reasons []string
	tried := map[string]bool{}
	for _, d := range p.proposals() {
		key := strings.Join(d.lines, "\n")
		if tried[key] {
			continue
		}
		if len(tried) == mostTried || len(plans) == 1 && before.Large() || len(plans) == mostPlans && d.kept <= plans[0].kept/2 {
			break
		}
		tried[key] = true
		why, err := p.prove(ctx, d)
		if err != nil {
			return Proposals{}, err
		}
		if why != "" {
			if !slices.Contains(reasons, why) {
				reasons = append(reasons, why)
			}
			continue
		}
		plans = append(plans, d)
	}
	if len(plans) == 0 {
		return none("%s", cmp.Or(strings.Join(reasons[:min(len(reasons), 2)], " "), "Nothing that is recorded leads there.")), nil
	}
	slices.SortStableFunc(plans, func(a, b *draftPlan) int {
		return cmp.Or(cmp.Compare(b.kept, a.kept), cmp.Compare(a.doors, b.doors), cmp.Compare(len(a.lines), len(b.lines)))
	})
	out := Proposals{Plans: []Proposal{}, Stays: []Stay{}}
	for _, d := range plans {
		lines := Lines{Remove: append([]string{}, d.gone...), Add: slices.Clone(d.lines)}
		if slices.ContainsFunc(out.Plans, func(o Proposal) bool { return sameLines(o.Add, lines.Add) }) {
			continue
		}
		out.Plans = append(out.Plans, Proposal{Lines: lines, Derived: p.derived(d)})
		if len(out.Plans) == mostPlans {
			break
		}
	}
	return out, nil
}

func sameLines(a, b []string) bool {
	return slices.Equal(slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b)))
}

// understand reads the wish; why it cannot be fulfilled, or "".
func (p *publishing) understand() string {
	w := &p.wish
	t := p.first.Tracer
	e := t.Model.Estate
	name, ok := estate.CleanHostname(w.Name)
	if !ok || !strings.Contains(name, ".") {
		return fmt.Sprintf("%q is no host name; expected one, as sky.fernmoor.example.", w.Name)
	}
	w.Name = name
	for _, z := range of[*estate.Zone](e) {
		if names.Under(name, z.Name) && len(z.Name) > len(p.zone) {
			p.zone = z.Name
		}
	}
	if p.zone == "" {
		return fmt.Sprintf("No zone that is recorded has %s: whoever keeps its zone must put the record in.", name)
	}
	if w.Ports != "" {
		if _, _, err := notation.ParseLine(fmt.Sprintf("intend %s %s for internet", w.Name, w.Ports)); err != nil {
			return fmt.Sprintf("%s: %q are no ports; expected ports, as 443 or 80,443.", w.Name, w.Ports)
		}
	}
	if len(w.Audience) == 0 {
		return "It is not said for whom; expected internet, or networks, machines or groups."
	}
	for _, a := range w.Audience {
		if _, err := t.VantageNamed(a); err != nil {
			return fmt.Sprintf("%s: %v.", a, err)
		}
	}
	if why := p.serviceMeant(); why != "" {
		return why
	}
	if t.Model.PlaceNamed(w.Place) == nil {
		var all []string
		for _, pl := range t.Model.Places {
			all = append(all, pl.Name)
		}
		near := estate.Nearest(w.Place, all)
		if near == "" {
			near = "a machine or a container that is recorded"
		}
		return fmt.Sprintf("No place is called %q; expected %s.", w.Place, near)
	}
	if why := p.listener(); why != "" {
		return why
	}
	if w.Guard != "" && !listens(e, w.Guard) {
		return fmt.Sprintf("Nothing listens as %s, which is to sign visitors in.", w.Guard)
	}
	if w.Front != "" && !listens(e, w.Front) {
		return fmt.Sprintf("Nothing listens as %s, by which it is to go.", w.Front)
	}
	return p.there()
}

// serviceMeant puts the place in for a service by whose name it is said.
func (p *publishing) serviceMeant() string {
	m := p.first.Tracer.Model
	if m.PlaceNamed(p.wish.Place) != nil {
		return ""
	}
	service, port := p.wish.Place, p.wish.Port
	var at []string
	for _, l := range of[*estate.Listen](m.Estate) {
		if l.Service != service || l.Off {
			continue
		}
		for _, r := range l.Bind.Ranges {
			if port == 0 || r.Contains(port) {
				p.wish.Place, p.wish.Port = l.Place, max(r.Lo, port)
				at = append(at, fmt.Sprintf("%s:%d", l.Place, p.wish.Port))
			}
		}
	}
	if len(at) > 1 {
		return fmt.Sprintf("It is at several places: say which of %s.", strings.Join(at, ", "))
	}
	return ""
}

// listener finds what listens where it is to end.
func (p *publishing) listener() string {
	w := &p.wish
	var all, datagrams []*estate.Listen
	for _, l := range of[*estate.Listen](p.first.Tracer.Model.Estate) {
		if l.Place != w.Place || l.Off {
			continue
		}
		if l.Bind.Transport != netset.UDP && !w.UDP {
			all = append(all, l)
		}
		if l.Bind.Transport != netset.TCP {
			datagrams = append(datagrams, l)
		}
	}
	takes := func(l *estate.Listen) bool { return w.Port == 0 || l.Bind.Set().Contains(w.Port) }
	if w.UDP = !slices.ContainsFunc(all, takes) && slices.ContainsFunc(datagrams, takes); w.UDP {
		all = datagrams
	}
	if w.Port == 0 {
		all = slices.DeleteFunc(all, func(l *estate.Listen) bool { return l.Bind.Set().Contains(22) || l.Bind.Addr.IsLoopback() })
		switch {
		case len(all) == 0:
			return fmt.Sprintf("Write down what listens on %s first: nothing that could be published is recorded there.", w.Place)
		case len(all) > 1 || all[0].Bind.Set().Count() > 1:
			var ports []string
			for _, l := range all {
				ports = append(ports, fmt.Sprintf("%s (%s)", l.Bind.List(), l.Service))
			}
			return fmt.Sprintf("%s listens on %s; say which port.", w.Place, strings.Join(ports, ", "))
		}
		p.end, w.Port = all[0], all[0].Bind.Ranges[0].Lo
		return ""
	}
	for _, l := range all {
		if l.Bind.Set().Contains(w.Port) {
			p.end = l
			if !l.Bind.Addr.IsLoopback() {
				return ""
			}
		}
	}
	if p.end == nil {
		return fmt.Sprintf("Write down what listens on %s:%d first: nothing is recorded there.", w.Place, w.Port)
	}
	return fmt.Sprintf("%s listens on loopback alone on %s:%d: nobody else can reach it.", p.end.Service, w.Place, w.Port)
}

// there says where the name leads already, where it is recorded.
func (p *publishing) there() string {
	t := p.first.Tracer
	for _, d := range of[*estate.DNS](t.Model.Estate) {
		if d.Owner != p.wish.Name || d.Off || !addressType(d.Type) {
			continue
		}
		return p.leadsTo()
	}
	for _, r := range of[*estate.Site](t.Model.Estate) {
		if slices.Contains(r.Names, p.wish.Name) && !r.Off {
			return p.leadsTo()
		}
	}
	return ""
}

func addressType(typ string) bool {
	return typ == "A" || typ == "AAAA" || typ == "CNAME" || typ == "ALIAS"
}

func (p *publishing) leadsTo() string {
	t := p.first.Tracer
	v, err := t.VantageNamed(p.wish.Audience[0])
	if err != nil {
		return err.Error()
	}
	tg := trace.Target{Text: p.wish.Name, Name: p.wish.Name}
	for _, path := range t.Trace(tg, v).Paths {
		if path.Outcome == flow.Arrives && path.End != nil {
			if *path.End == fmt.Sprintf("%s:%d", p.wish.Place, p.wish.Port) {
				return fmt.Sprintf("%s leads to %s already.", p.wish.Name, *path.End)
			}
			return fmt.Sprintf("%s is there: it leads to %s. Move it, or retire it first.", p.wish.Name, *path.End)
		}
	}
	return fmt.Sprintf("%s is recorded, and leads nowhere. Mend it, or retire it first.", p.wish.Name)
}

// patterns are how other names are published, the most common way first: those of the same zone and audience, else of the same audience, else of
// the zone.
func (p *publishing) patterns() []*pattern {
	owned := map[string][]*estate.DNS{}
	for _, d := range of[*estate.DNS](p.first.Tracer.Model.Estate) {
		if !d.Off && addressType(d.Type) && d.Until == "" {
			owned[d.Owner] = append(owned[d.Owner], d)
		}
	}
	classes := [3][]*trace.Name{}
	for _, n := range p.first.Tracer.Names() {
		if n.Name == p.wish.Name || strings.HasPrefix(n.Name, "*.") || len(owned[n.Name]) == 0 {
			continue
		}
		same, zone := p.sameAudience(n), n.Zone == p.zone
		switch {
		case same && zone:
			classes[0] = append(classes[0], n)
		case same:
			classes[1] = append(classes[1], n)
		case zone:
			classes[2] = append(classes[2], n)
		}
	}
	for class, alike := range classes {
		found := map[string]*pattern{}
		var out []*pattern
		for _, n := range alike[:min(len(alike), mostAlike)] {
			pt := p.patternOf(n, owned[n.Name])
			if pt == nil {
				continue
			}
			if old := found[pt.key()]; old != nil {
				old.count++
				continue
			}
			pt.class, pt.count = class, 1
			found[pt.key()] = pt
			out = append(out, pt)
		}
		if len(out) > 0 {
			slices.SortStableFunc(out, func(a, b *pattern) int { return cmp.Compare(b.count, a.count) })
			return out
		}
	}
	return nil
}

// sameAudience says whether a name is meant for those whom the new one is for.
func (p *publishing) sameAudience(n *trace.Name) bool {
	for _, i := range p.first.Tracer.IntentsOf(n.Name) {
		var words []string
		for _, s := range i.For {
			words = append(words, s.String())
		}
		if slices.Equal(slices.Sorted(slices.Values(words)), slices.Sorted(slices.Values(p.wish.Audience))) {
			return true
		}
	}
	return false
}

// patternOf is how a name is published; nil where it does not work.
func (p *publishing) patternOf(n *trace.Name, records []*estate.DNS) *pattern {
	t := p.first.Tracer
	pt := &pattern{records: records}
	internet := slices.Contains(p.wish.Audience, "internet")
	if len(pt.records) == 0 || internet && slices.ContainsFunc(pt.records, func(d *estate.DNS) bool { return len(d.For) > 0 }) {
		return nil
	}
	for _, word := range t.VantagesOf(n.Name) {
		v, err := t.VantageNamed(word)
		if err != nil {
			continue
		}
		keys, _ := t.PortsOf(n.Name, &v)
		for _, key := range keys {
			for _, path := range t.TracePort(trace.Target{Text: n.Name, Name: n.Name}, key, v) {
				if path.Outcome != flow.Arrives {
					continue
				}
				pt.entry, pt.method = entryOf(&path), p.methodOf(n.Name)
				pt.ports = fmt.Sprint(key.Port)
				if key.Port == 443 && p.redirected(n.Name) {
					pt.ports = "80,443"
				}
				return pt
			}
		}
	}
	return nil
}

// redirected says whether everybody whom the new name is for comes from 80 of another to where it is encrypted.
func (p *publishing) redirected(name string) bool {
	t := p.first.Tracer
	for _, word := range p.wish.Audience {
		v, err := t.VantageNamed(word)
		if err != nil {
			return false
		}
		paths := t.TracePort(trace.Target{Text: name, Name: name}, flow.PortKey{Port: 80, Transport: netset.TCP}, v)
		if len(paths) == 0 || trace.VerdictOf(paths) != flow.Redirects {
			return false
		}
	}
	return true
}

// entryOf is the listener that takes a path's visitor.
func entryOf(p *trace.Path) *estate.Listen {
	for _, s := range p.Steps {
		if s.Stage != flow.StageSocket {
			continue
		}
		for _, line := range s.Records {
			if placed, _, err := notation.ParseLine(line); err == nil {
				if l, is := placed.Record.(*estate.Listen); is {
					return l
				}
			}
		}
	}
	return nil
}

func (p *publishing) methodOf(name string) string {
	for _, c := range of[*estate.Cert](p.first.Tracer.Model.Estate) {
		if serve.Covers(c, name) && c.By != "" {
			return c.By
		}
	}
	return ""
}

// proposals are what may do, the nearest to the pattern first: by a front, with each of the sets of records that its names have; else by the
// router, with the addresses that it has.
func (p *publishing) proposals() []*draftPlan {
	var out []*draftPlan
	patterns := p.patterns()
	for _, f := range p.fronts(patterns) {
		for _, backend := range p.backends(f) {
			for _, rec := range p.recordSets(f, patterns) {
				out = append(out, p.byFront(f, backend, rec, patterns))
			}
		}
	}
	if p.wish.Front == "" {
		for _, rec := range p.direct(patterns) {
			out = append(out, p.byRouter(rec, patterns))
		}
	}
	return out
}

// fronts are the listeners that pick sites by name over TLS, the pattern's first.
func (p *publishing) fronts(patterns []*pattern) []*estate.Listen {
	var out []*estate.Listen
	add := func(l *estate.Listen) {
		if l == nil || !p.isFront(l) || p.wish.Front != "" && l.Service != p.wish.Front {
			return
		}
		if !slices.ContainsFunc(out, func(o *estate.Listen) bool { return o.Service == l.Service }) {
			out = append(out, l)
		}
	}
	if p.wish.UDP || p.wish.Ports != "" && p.wish.Ports != "443" && p.wish.Ports != "80,443" && p.wish.Ports != "443,80" && p.wish.Front == "" {
		return nil // a stream
	}
	for _, pt := range patterns {
		add(pt.entry)
	}
	if len(out) > 0 {
		return out
	}
	handing, others := []*estate.Listen{}, []*estate.Listen{}
	for _, l := range of[*estate.Listen](p.first.Tracer.Model.Estate) {
		if slices.ContainsFunc(p.first.Tracer.Model.Service(l.Service).Sites, func(s *model.Site) bool { return !s.Record.To.IsZero() || s.Record.Pool != "" }) {
			handing = append(handing, l)
		} else {
			others = append(others, l) // it hands nothing on yet
		}
	}
	for _, l := range append(handing, others...) {
		if add(l); len(out) == mostPlans {
			break
		}
	}
	return out
}

// isFront says whether a listener picks sites by name over TLS.
func (p *publishing) isFront(l *estate.Listen) bool {
	service := p.first.Tracer.Model.Service(l.Service)
	return l.TLS && !l.Off && len(service.Sites) > 0 && !service.Closed && l.Service != p.end.Service
}

// backend is how a front can call the place.
type backend struct {
	url  string
	more []string // lines that let it
	gone []string // those that these lengthen
}

// backends are the ways for a front to call the place: by its name on a network that both are on, after it is put into the backend's, at the
// machine's mapped port.
func (p *publishing) backends(f *estate.Listen) []backend {
	e := p.first.Tracer.Model.Estate
	scheme := "http"
	if p.end.TLS {
		scheme = "https"
	}
	host, inside, is := strings.Cut(p.wish.Place, "/")
	frontHost, _, frontInside := strings.Cut(f.Place, "/")
	url := func(host string, port uint16) string { return fmt.Sprintf("%s://%s:%d", scheme, host, port) }
	byHost := func() []backend { // by its name, else by each of its addresses
		out := []backend{{url: url(host, p.wish.Port)}}
		for _, a := range of[*estate.Address](e) {
			if a.Hosts[0] == host && !a.Off && a.Held.Addr.IsValid() && a.Network != "internet" {
				out = append(out, backend{url: url(exposure.Bracketed(a.Held.String()), p.wish.Port)})
			}
		}
		return out
	}
	if !is {
		return byHost()
	}
	container, front := containerNamed(e, p.wish.Place), containerNamed(e, f.Place)
	if container != nil && container.SharesHost {
		return byHost()
	}
	var out []backend
	if frontInside && frontHost == host && container != nil && front != nil {
		shared := slices.ContainsFunc(front.In, func(a estate.Attachment) bool {
			return slices.ContainsFunc(container.In, func(b estate.Attachment) bool { return a.Network == b.Network })
		})
		if shared {
			return []backend{{url: url(inside, p.wish.Port)}}
		}
		for _, a := range container.In {
			joined := estate.With(front, func(c *estate.Container) {
				c.In = append(slices.Clone(c.In), estate.Attachment{Network: a.Network})
			})
			out = append(out, backend{url: url(inside, p.wish.Port), more: []string{estate.Line(joined)}, gone: []string{estate.Line(front)}})
		}
	}
	for _, m := range of[*estate.Map](e) {
		if m.Container != p.wish.Place || m.Off {
			continue
		}
		for _, pair := range estate.Translate(m.Bind.Ports, m.To) {
			if port, ok := outerOf(pair, p.wish.Port); ok {
				out = append(out, backend{url: url(host, port)})
			}
		}
	}
	return append(out, backend{url: url(host, p.wish.Port), more: []string{fmt.Sprintf("map %s %s%d to %d", p.wish.Place, p.narrow(host, f.Place), p.wish.Port, p.wish.Port)}})
}

// outerOf is the outer port that leads to an inner one.
func outerOf(p estate.Pair, inner uint16) (uint16, bool) {
	for port := uint32(p.From.Lo); port <= uint32(p.From.Hi); port++ {
		if p.Inner(uint16(port)) == inner {
			return uint16(port), true
		}
	}
	return 0, false
}

// narrow is the address at which a map lets in no more than it has to: loopback where the front stands on the machine itself.
func (p *publishing) narrow(host, front string) string {
	if front == host {
		return "127.0.0.1:"
	}
	return ""
}

func containerNamed(e *estate.Estate, name string) *estate.Container {
	for _, c := range of[*estate.Container](e) {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// recordSet are the records that give the name an address.
type recordSet struct {
	lines   []string
	pattern *pattern
}

// recordSets are those that a front's names have, the most common first; none where a wildcard answers already.
func (p *publishing) recordSets(f *estate.Listen, patterns []*pattern) []recordSet {
	var out []recordSet
	if !p.wish.At.IsValid() && p.answered() {
		out = append(out, recordSet{})
	}
	for _, pt := range patterns {
		if pt.entry != nil && pt.entry.Service == f.Service && (!p.wish.At.IsValid() || slices.ContainsFunc(pt.records, func(d *estate.DNS) bool { return d.Value == p.wish.At.String() })) {
			out = append(out, recordSet{p.copied(pt), pt})
		}
	}
	if p.wish.At.IsValid() {
		return append(out, recordSet{lines: []string{p.record(p.wish.At)}})
	}
	if len(out) > 0 {
		return out
	}
	return p.fresh()
}

// answered says whether everybody whom it is for has an answer for the name by a wildcard.
func (p *publishing) answered() bool {
	t := p.first.Tracer
	for _, word := range p.wish.Audience {
		v, err := t.VantageNamed(word)
		if err != nil {
			return false
		}
		a, six := t.Answer(p.wish.Name, "A", v), t.Answer(p.wish.Name, "AAAA", v)
		if len(a.Addresses)+len(six.Addresses) == 0 {
			return false
		}
	}
	return true
}

// copied are a pattern's records, for the name. What is dynamic is an alias to the name that follows the address; where the audience is inside
// only, they are for it alone.
func (p *publishing) copied(pt *pattern) []string {
	var out []string
	for _, d := range pt.records {
		is := estate.With(d, func(n *estate.DNS) {
			n.Owner, n.Note, n.TTL = p.wish.Name, "", estate.NotGiven
			if d.Dynamic != "" && len(pt.records) == 1 {
				n.Type, n.Value, n.Dynamic, n.Every = "CNAME", d.Owner, "", estate.NotGiven
			}
			if !slices.Contains(p.wish.Audience, "internet") {
				n.For = p.selectors()
			}
		})
		if line := estate.Line(is); !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	return out
}

// selectors are the audience as a list of a record.
func (p *publishing) selectors() []estate.Selector {
	out := make([]estate.Selector, len(p.wish.Audience))
	for i, w := range p.wish.Audience {
		out[i] = estate.Selector{Name: w}
		if slices.Contains([]string{"any", "internet", "on-link", "nobody"}, w) {
			out[i] = estate.Selector{Word: w}
		}
	}
	return out
}

// record is an address record of the name, for those alone whom it is for where nobody else is to see it.
func (p *publishing) record(a netip.Addr) string {
	typ := "A"
	if a.Is6() {
		typ = "AAAA"
	}
	line := fmt.Sprintf("dns %s %s %s", p.wish.Name, typ, a)
	if !slices.Contains(p.wish.Audience, "internet") {
		line += " for " + strings.Join(p.wish.Audience, ",")
	}
	return line
}

// fresh are record sets that no pattern has: the addresses of routers where the internet is to reach it, and the machine's own that are carried
// there; else the machine's own.
func (p *publishing) fresh() []recordSet {
	t := p.first.Tracer
	var out []recordSet
	internet := slices.Contains(p.wish.Audience, "internet")
	host, _, _ := strings.Cut(p.wish.Place, "/")
	for _, a := range of[*estate.Address](t.Model.Estate) {
		if a.Off || !a.Held.Addr.IsValid() || a.Dynamic {
			continue
		}
		if pl := t.Model.PlaceNamed(a.Hosts[0]); pl == nil || pl.Outside {
			continue
		}
		own := a.Hosts[0] == host
		if outer := a.Network == "internet"; internet && !outer && !(own && t.Model.Global(a.Held.Addr)) || !internet && (outer || !own) {
			continue
		}
		if out = append(out, recordSet{lines: []string{p.record(a.Held.Addr)}}); len(out) == 2*mostPlans {
			break
		}
	}
	return out
}

// byFront is a plan by a site of a front.
func (p *publishing) byFront(f *estate.Listen, b backend, rec recordSet, patterns []*pattern) *draftPlan {
	w := p.wish
	d := &draftPlan{front: true, pattern: rec.pattern, gone: slices.Clone(b.gone)}
	ports := w.Ports
	if rec.pattern != nil && ports == "" {
		ports = rec.pattern.ports
	}
	ports = cmp.Or(ports, p.portsOf(f))
	d.lines = append(d.lines, p.intend(ports))
	d.lines = append(d.lines, rec.lines...)
	d.lines = append(d.lines, b.more...)
	secure := f.Bind.Ranges[0].Lo
	site := fmt.Sprintf("site %s%s %s at %d to %s", f.Service, p.ahead(f), w.Name, secure, b.url)
	if w.Guard != "" {
		site += " guard " + w.Guard
	}
	if !slices.Contains(w.Audience, "internet") && p.open(f) {
		site += " sources " + strings.Join(w.Audience, ",")
	}
	cert, line := p.certificate(f, patterns)
	if line != "" {
		d.lines = append(d.lines, line)
	}
	if cert != "" && !slices.Contains(f.Certs, cert) {
		site += " cert " + cert
	}
	d.lines = append(d.lines, site)
	d.kept = 8
	if rec.pattern != nil {
		d.kept += 4 - rec.pattern.class
	} else if len(rec.lines) == 0 {
		d.kept += 4
	}
	if len(patterns) > 0 && patterns[0].entry != nil && patterns[0].entry.Service == f.Service {
		d.kept += 4
	}
	return d
}

// ahead is the place of a site of its own, where a front takes the first that fits: before the wildcard's, and before that for all.
func (p *publishing) ahead(f *estate.Listen) string {
	n := 0
	for _, s := range of[*estate.Site](p.first.Tracer.Model.Estate) {
		if s.Service != f.Service {
			continue
		}
		n++
		if f.InOrder && slices.ContainsFunc(s.Names, func(w string) bool {
			base, wild := strings.CutPrefix(w, "*")
			return wild && strings.HasSuffix(p.wish.Name, base)
		}) {
			return fmt.Sprintf(" at %d", n)
		}
	}
	return ""
}

// portsOf are the ports by which a front's names are entered: that of the listener, and 80 where everything there is sent to https.
func (p *publishing) portsOf(f *estate.Listen) string {
	secure := fmt.Sprint(f.Bind.Ranges[0].Lo)
	for _, s := range of[*estate.Site](p.first.Tracer.Model.Estate) {
		if s.Service == f.Service && !s.Off && s.Redirect.HTTPS && slices.Contains(s.Names, "*") && s.At.Set().Contains(80) && secure == "443" {
			return "80,443"
		}
	}
	return secure
}

func (p *publishing) intend(ports string) string {
	line := fmt.Sprintf("intend %s %s for %s reaching %s:%d", p.wish.Name, ports, strings.Join(p.wish.Audience, ","), p.wish.Place, p.wish.Port)
	if p.wish.Guard != "" {
		line += " guarded"
	}
	return line
}

// open says whether somebody else than the audience reaches a listener.
func (p *publishing) open(f *estate.Listen) bool {
	for _, net := range p.first.Tracer.Model.Networks {
		if net.Container() || slices.Contains(p.wish.Audience, net.Name) {
			continue
		}
		for _, o := range exposure.OpenOf(p.first.doors(net.Name)) {
			if o.Service == f.Service && f.Bind.Set().Contains(o.Port) {
				return true
			}
		}
	}
	return false
}

// certificate is the one that a front shows for the name: one that is there, else one that is wanted, by the method of the pattern.
func (p *publishing) certificate(f *estate.Listen, patterns []*pattern) (name, line string) {
	all := of[*estate.Cert](p.first.Tracer.Model.Estate)
	for _, c := range all {
		if !c.Off && c.Expires != "" && serve.Covers(c, p.wish.Name) && (slices.Contains(f.Certs, c.Name) || slices.Contains(c.On, f.Place)) {
			return c.Name, ""
		}
	}
	method := ""
	for _, pt := range patterns {
		if method = pt.method; method != "" {
			break
		}
	}
	if method == "" {
		method = "http-01"
		if !slices.Contains(p.wish.Audience, "internet") {
			method = "dns-01"
		}
	}
	label, _, _ := strings.Cut(strings.TrimPrefix(p.wish.Name, "*."), ".")
	name = label
	for n := 2; slices.ContainsFunc(all, func(c *estate.Cert) bool { return c.Name == name }); n++ {
		name = fmt.Sprintf("%s-%d", label, n)
	}
	line = fmt.Sprintf("cert %s for %s on %s by %s", name, p.wish.Name, f.Place, method)
	if method == "http-01" || method == "tls-alpn-01" {
		line += " through " + f.Service
	}
	return name, line
}

// direct are record sets for what goes without a front.
func (p *publishing) direct(patterns []*pattern) []recordSet {
	var out []recordSet
	if p.wish.At.IsValid() {
		return []recordSet{{lines: []string{p.record(p.wish.At)}}}
	}
	if p.answered() {
		out = append(out, recordSet{})
	}
	internet := slices.Contains(p.wish.Audience, "internet")
	for _, pt := range patterns {
		if pt.class < otherAudience || internet { // whoever is inside does not go by the address that the world has
			out = append(out, recordSet{p.copied(pt), pt})
		}
	}
	return append(out, p.fresh()...)
}

// byRouter is a plan without a front: what is still in its way is mended where it is met.
func (p *publishing) byRouter(rec recordSet, patterns []*pattern) *draftPlan {
	ports := fmt.Sprint(p.wish.Port)
	if p.wish.UDP {
		ports += "/udp"
	}
	ports = cmp.Or(p.wish.Ports, ports)
	d := &draftPlan{pattern: rec.pattern, lines: append([]string{p.intend(ports)}, rec.lines...)}
	if rec.pattern != nil {
		d.kept = 4 - rec.pattern.class
	}
	if p.end.TLS {
		d.kept += 4
		if !slices.ContainsFunc(of[*estate.Cert](p.first.Tracer.Model.Estate), func(c *estate.Cert) bool {
			return serve.Covers(c, p.wish.Name) && (slices.Contains(p.end.Certs, c.Name) || slices.Contains(c.On, p.end.Place))
		}) {
			if _, line := p.certificate(p.end, patterns); line != "" {
				d.lines = append(d.lines, line)
			}
		}
	}
	return d
}

// change is a plan as a change.
func (d *draftPlan) change() (estate.Change, error) {
	c := estate.Change{Remove: slices.Clone(d.gone)}
	for _, line := range d.lines {
		placed, _, err := notation.ParseLine(line)
		if err != nil {
			return c, fmt.Errorf("%s: %w", line, err)
		}
		c.Add = append(c.Add, placed)
	}
	return c, nil
}

// prove tries a plan, and mends what is still in its way; why it is none, or "".
func (p *publishing) prove(ctx context.Context, d *draftPlan) (string, error) {
	for range mostMended + 1 {
		c, err := d.change()
		if err != nil {
			return err.Error(), nil
		}
		e, err := p.first.estate.Apply(c)
		if err != nil {
			return err.Error(), nil
		}
		q := &point{e, p.first.begun, mend.State{Tracer: p.first.Tracer.After(mend.Issued(e, p.first.estate))}}
		b, outcome := p.broken(q)
		if outcome == "" {
			return p.holds(ctx, d, q)
		}
		if b == nil {
			return fmt.Sprintf("%s would end %s.", p.wish.Name, strings.ReplaceAll(string(outcome), "-", " ")), nil
		}
		if why := d.take(b, p.first.estate); why != "" {
			return why, nil
		}
	}
	return fmt.Sprintf("Too much is in the way of %s.", p.wish.Name), nil
}

// broken is the first break of the name's paths, from whomever it is for; "" where all of them get there.
func (p *publishing) broken(q *point) (*flow.Break, flow.Outcome) {
	t := q.Tracer
	for _, word := range p.wish.Audience {
		v, err := t.VantageNamed(word)
		if err != nil {
			return nil, flow.Unroutable
		}
		for _, i := range t.IntentsOf(p.wish.Name) {
			for _, r := range i.Ports.Ranges {
				for port := uint32(r.Lo); port <= uint32(r.Hi); port++ {
					key := flow.PortKey{Port: uint16(port), Transport: i.Ports.Transport}
					paths := t.TracePort(trace.Target{Text: p.wish.Name, Name: p.wish.Name}, key, v)
					if len(paths) == 0 {
						return nil, flow.Unresolved
					}
					for n := range paths {
						path := &paths[n]
						if wrong := slices.IndexFunc(path.Breaks, func(b flow.Break) bool { return !path.Outcome.Good() || b.Code == "path.wrong-place" }); wrong >= 0 {
							return &path.Breaks[wrong], path.Outcome
						}
						if !path.Outcome.Good() {
							return nil, path.Outcome
						}
					}
				}
			}
		}
	}
	return nil, ""
}

// take adds the mend of a break to a plan. No line of another name, service or intent is taken out or changed, but lengthened.
func (d *draftPlan) take(b *flow.Break, before *estate.Estate) string {
	if b.Mend.IsEmpty() {
		return b.Why
	}
	for _, line := range b.Mend.Remove {
		if !slices.Contains(d.lines, line) && !before.Has(line) || (!slices.ContainsFunc(b.Mend.Add, func(a string) bool { return lengthens(a, line) })) {
			return b.Why
		}
	}
	for _, line := range b.Mend.Remove {
		if own := slices.Index(d.lines, line); own >= 0 {
			d.lines = slices.Delete(d.lines, own, own+1)
		} else {
			d.gone = append(d.gone, line)
		}
	}
	for _, line := range b.Mend.Add {
		if slices.Contains(d.lines, line) {
			return b.Why
		}
		d.lines = append(d.lines, line)
	}
	return ""
}

// lengthens says whether a line is another with more words in its lists, or one word more.
func lengthens(longer, line string) bool {
	a, b := strings.Fields(longer), strings.Fields(line)
	i := 0
	for _, w := range b {
		for i < len(a) && !hasAll(a[i], w) {
			i++
		}
		if i == len(a) {
			return false
		}
		i++
	}
	return true
}

func hasAll(longer, list string) bool {
	have := strings.Split(longer, ",")
	for w := range strings.SplitSeq(list, ",") {
		if !slices.Contains(have, w) {
			return false
		}
	}
	return true
}

// holds says why a plan whose name gets there is none: something else stops, something opens that nobody declares, an error comes.
func (p *publishing) holds(ctx context.Context, d *draftPlan, q *point) (string, error) {
	var err error
	if q.Checked, err = p.first.Checked.After(ctx, q.Tracer); err != nil {
		return "", err
	}
	if lost := findings.Lost(p.first.Checked.Walked(), q.Checked.Walked()); len(lost) > 0 {
		return fmt.Sprintf("%s would end %s.", lost[0].Target, strings.ReplaceAll(string(lost[0].Now), "-", " ")), nil
	}
	for _, net := range q.Tracer.Model.Networks {
		if net.Container() {
			continue
		}
		all := p.first.doors(net.Name)
		_, is := exposure.Unlike(all, q.doors(net.Name))
		if len(is) == 0 {
			continue
		}
		there := exposure.DoorsOf(all)
		for _, o := range exposure.OpenOf(is) {
			if there.Cover(o, netset.Addrs{}) {
				continue
			}
			d.doors++
			if o.Intent != exposure.Declared {
				return fmt.Sprintf("It would open %s:%s on %s to %s, which nobody declares.", exposure.Bracketed(o.Address), o.Ports, o.Place, o.Sources), nil
			}
		}
	}
	if f := newError(p.first.Checked, q.Checked); f != nil {
		return f.Why, nil
	}
	return "", nil
}

// newError is an error that comes of a change, and whose cause the estate did not have before; nil for none. What stands open is not its business:
// it was held against what stood open before, and what was open already to more than are meant now, since nothing was ever recorded to stop
// them, is no fault of the change.
func newError(before, after *findings.Checked) *findings.Finding {
	known := map[string]bool{}
	causes, _ := before.Causes()
	for _, c := range causes {
		known[c.Key] = true
	}
	causes, of := after.Causes()
	come := map[*findings.Finding]bool{}
	for _, f := range findings.Ended(after.Report, before.Report) {
		come[f] = true
	}
	for i, f := range after.Findings {
		if family, _, _ := strings.Cut(f.Code, "."); family == "exposure" {
			continue
		}
		if come[f] && f.Level == findings.Error && slices.ContainsFunc(of[i], func(c int) bool { return !known[causes[c].Key] }) {
			return f
		}
	}
	return nil
}

// derived are the words of each line that nobody said.
func (p *publishing) derived(d *draftPlan) []string {
	w := p.wish
	said := []string{w.Name, w.Place, fmt.Sprint(w.Port), w.Guard, w.Front, w.Ports, strings.Join(w.Audience, ","), fmt.Sprintf("%s:%d", w.Place, w.Port), w.At.String()}
	keywords := []string{"at", "to", "for", "on", "by", "from", "as", "in", "guard", "guarded", "reaching", "sources", "cert", "through", "site", "dns", "intend", "map", "rule", "forward", "container", "pass", "hairpin", "ttl", "filter"}
	out := []string{}
	for _, line := range d.lines {
		var words []string
		for _, word := range strings.Fields(line) {
			if !slices.Contains(said, word) && !slices.Contains(keywords, word) {
				words = append(words, word)
			}
		}
		out = append(out, strings.Join(words, " "))
	}
	return out
}
