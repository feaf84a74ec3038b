package trace

import (
	"net/netip"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/netset"
)

// asking is one request of a client: what, from where, and what came before it.
type asking struct {
	o       origin
	v       *Vantage
	q       request
	addr    netip.Addr // for a bare address
	place   *model.Place
	proto   netset.Transport
	base    way
	visited []string
}

// ask follows one request from an origin to every end it has.
func (t *Tracer) ask(a asking) []served {
	target := a.q.name
	if target == "" {
		target = a.addr.String()
	}
	if a.place != nil {
		target = a.place.Name
	}
	intent := t.intentOf(target, a.q.port, a.proto)
	subject := target + ":" + portWord(a.q.port, a.proto)
	s := &serving{t: t, o: a.o, v: a.v, intent: intent, place: a.place, visited: a.visited}
	s.goal = goal{repair: true, subject: subject, place: model.Nowhere, port: a.q.port}
	t.aim(&s.goal, a, intent, a.base.reads)

	start := a.o.start(a.proto, netset.PortsOf(netset.OnePort(a.q.port)))
	start.trail, start.stopped, start.inner = a.base.trail, a.base.stopped, a.base.inner
	start.ghost, start.took, start.tookPort = a.base.ghost, a.base.took, a.base.tookPort
	start.name, start.reads = a.q.name, a.base.reads
	if intent != nil {
		start.reads.Asked(intent.Reaching.Host)
	}
	start.asked, start.askedAddr, start.sixAsked = a.base.asked, a.base.askedAddr, a.base.sixAsked
	if !a.base.origins.IsEmpty() && a.o.place == model.Nowhere {
		// A client has the other family too: what narrowed its sources says nothing about that one.
		start.src.set = netset.Union(a.base.origins, a.o.set.Of(!a.base.sixAsked))
		start.origins = start.src.set
	}
	for _, w := range t.ofFamilies(a.o, s.resolve(a, start)) {
		asked := w.dst.addr
		w.setAsked()
		if w.ended {
			s.finish(served{way: w.way, place: model.Nowhere, urlpath: a.q.path})
			continue
		}
		for _, l := range s.delivers(&a, w.way) {
			l.askedAddr = asked
			if a.q.name == "" && asked.IsValid() {
				l.asked = asked.String()
			}
			s.land(l, a.q)
		}
	}
	if intent != nil && intent.Reaching.Host != "" {
		for i := range s.out {
			s.t.reached(&s.out[i], intent, s.goal)
		}
	}
	return s.out
}

// ofFamilies leaves out the addresses of a family that the origin has none of, where there is one of the other.
func (t *Tracer) ofFamilies(o origin, all []resolved) []resolved {
	has := func(w resolved) bool {
		return w.ended || w.dst.float != model.Nowhere || t.hasFamily(o, w.dst.addr.Is6())
	}
	if !slices.ContainsFunc(all, has) {
		return all
	}
	return slices.DeleteFunc(all, func(w resolved) bool { return !has(w) })
}

// hasFamily says whether an origin has, or may have, an address of a family.
func (t *Tracer) hasFamily(o origin, v6 bool) bool {
	if o.place != model.Nowhere {
		if a, one := o.set.Single(); one {
			return a.Is6() == v6
		}
		return t.sends(t.m.Places[t.m.Places[o.place].Stack], v6)
	}
	return !o.set.Of(v6).IsEmpty()
}

// noted notes what a flow is meant for.
func (g *goal) noted(t *Tracer, reads *Reads) {
	if g.place != model.Nowhere {
		reads.place(g.place)
		reads.place(t.m.Places[g.place].Host)
	}
	if g.service != "" {
		reads.service(g.service)
	}
}

// aim finds what a request is meant for: the machine of the only service with a site for the name,
// else the place that the intent says. What that hangs on is added to reads.
func (t *Tracer) aim(g *goal, a asking, intent *estate.Intent, reads *Reads) {
	defer func() { g.noted(t, reads) }()
	if a.place != nil {
		g.place = a.place.ID
		return
	}
	if a.q.name != "" {
		if service := t.index.onlyService(a.q.name); service != "" {
			reads.service(service)
			if p := t.serviceAt(service, a.q.port); p != nil {
				g.place, g.service = p.ID, service
				return
			}
		}
	}
	if intent != nil && intent.Reaching.Host != "" {
		if p := t.m.PlaceNamed(intent.Reaching.Host); p != nil {
			g.place = p.ID
			g.port = intent.Reaching.Port
		}
	}
	if p := t.m.PlaceNamed(a.q.name); g.place == model.Nowhere && p != nil {
		g.place = p.ID
	}
}

// serviceAt is the place where a service listens: the one with the port asked, before any.
func (t *Tracer) serviceAt(service string, port uint16) *model.Place {
	s := t.m.Services[service]
	if s == nil {
		return nil
	}
	var found *model.Place
	for _, l := range s.Listens {
		p := t.m.PlaceNamed(l.Place)
		if p == nil {
			continue
		}
		if l.Bind.Set().Contains(port) {
			return p
		}
		if found == nil {
			found = p
		}
	}
	return found
}

// reached holds an end against the place that the intent says.
func (t *Tracer) reached(f *served, intent *estate.Intent, g goal) {
	if f.end == "" || f.redirect || f.stopped != "" {
		return
	}
	want := intent.Reaching
	place := t.m.Places[f.place]
	if place.Name == want.Host && (want.Port == 0 || want.Port == f.port) {
		return
	}
	b := Break{
		Code: "path.wrong-place", At: place.Name, Subject: g.subject, Short: "not " + want.Host,
		Why: sentence("It ends at %s, and is meant to reach %s.", f.end, want), Records: lines(intent),
	}
	if f.handedBy != nil {
		if target, from := t.m.PlaceNamed(want.Host), t.m.PlaceNamed(f.handedFrom); target != nil && from != nil {
			if port, ok := t.portOf(target, want.Port); ok {
				if u, ok := t.urlFrom(from, target, port); ok {
					u.Scheme, u.Path = f.handedBy.To.Scheme, f.handedBy.To.Path
					b.Mend = replace(f.handedBy, func(n *estate.Site) { n.To = u })
				}
			}
		}
		b.Records = lines(intent, f.handedBy)
	}
	f.stopKeeping(b)
}

// setAsked notes the address that the client tries: that of its first request.
func (w *way) setAsked() {
	if w.asked != "" || w.askedAddr.IsValid() {
		return
	}
	w.asked, w.askedAddr = w.cells.Answers, w.dst.addr
	if a, err := netip.ParseAddr(w.cells.Answers); err == nil {
		w.askedAddr = a
	} else {
		w.asked = ""
	}
	if w.dst.float != model.Nowhere {
		w.asked = w.cells.Answers
	}
	w.sixAsked = w.askedAddr.Is6()
}

// resolved is one address that a name answered, or a branch that ends there.
type resolved struct {
	way
	ended bool
}

// resolve is the first step: what the name answers to whoever asks.
func (s *serving) resolve(a asking, w way) []resolved {
	t := s.t
	switch {
	case a.place != nil:
		return s.resolvePlace(a, w)
	case a.q.name == "":
		w.dst = toAddr(a.addr)
		w.cell().Answers = a.addr.String()
		w.walk(Step{Stage: StageResolve, At: a.addr.String(), Verdict: Pass, Ground: Water, Records: []string{}, Why: "Asked for by its address."})
		return s.addressed(a, w, nil, names.Answer{})
	}
	v6, v4 := t.m.Names.Addresses(a.q.name, t.asker(a.o))
	w.reads.Asked(slices.Concat(v6.Chain, v4.Chain)...)
	var out []resolved
	for _, answer := range []names.Answer{v6, v4} {
		for _, found := range answer.Addresses {
			out = append(out, s.answered(a, w, answer, found)...)
		}
	}
	if len(out) > 0 {
		return out
	}
	return s.unresolved(a, w, v4)
}

func linkRecords(answer names.Answer) []estate.Record {
	var out []estate.Record
	for _, l := range answer.Links {
		if d, ok := l.Record.(*estate.DNS); ok && d.Type != "A" && d.Type != "AAAA" || !ok {
			out = append(out, l.Record)
		}
	}
	return out
}

// ageWords says how long the old answer may be seen after a change.
func ageWords(answer names.Answer) string {
	if age, known := answer.Age(); known && age > 0 {
		return sentence("; after a change the old answer may be seen for %s", age)
	}
	return ""
}

// chainTo are the links that lead to one address of an answer.
func chainTo(answer names.Answer, found names.Address) []Link {
	var out []Link
	for _, l := range answer.Links {
		link := Link{Name: l.Owner, Type: "hosts", Record: estate.Line(l.Record), Value: found.Addr.String()}
		if d, ok := l.Record.(*estate.DNS); ok {
			if (d.Type == "A" || d.Type == "AAAA") && l.Record != found.Record {
				continue
			}
			link.Type = d.Type
			if d.Type != "A" && d.Type != "AAAA" {
				link.Value = d.Value
			}
			if l.TTL != estate.NotGiven {
				link.TTL = &l.TTL
			}
		}
		if age, known := l.Age(); known {
			link.Age = &age
		}
		out = append(out, link)
	}
	return out
}

// answered is a branch for one address of an answer.
func (s *serving) answered(a asking, w way, answer names.Answer, found names.Address) []resolved {
	shown := append(linkRecords(answer), found.Record)
	at := answer.Last()
	how := ""
	switch {
	case answer.Wildcard:
		how = ", by the wildcard"
	case len(answer.Chain) > 1:
		how = sentence(", by way of %s", at)
	}
	if _, ok := found.Record.(*estate.HostsEntry); ok {
		how = ", in its own hosts file"
	}
	if found.Unknown {
		w.walk(Step{Stage: StageResolve, At: at, Verdict: Unsettled, Ground: Water, Records: lines(shown...), Why: sentence("%s follows an address that nobody knows.", a.q.name)})
		w.cell().Answers = "?"
		if w.stopped == "" {
			w.stopped = Undecided
		}
		return []resolved{{w, true}}
	}
	w.dst = toAddr(found.Addr)
	w.cell().Answers = found.Addr.String()
	w.walk(Step{Stage: StageResolve, At: at, Verdict: Pass, Ground: Water, Records: lines(shown...), Why: sentence("Answers %s%s%s.", found.Addr, how, ageWords(answer)), Chain: chainTo(answer, found)})
	return s.addressed(a, w, found.Record, answer)
}

// addressed judges an address before anything is sent to it: private, from the internet; or public, and held by
// nobody.
func (s *serving) addressed(a asking, w way, rec estate.Record, answer names.Answer) []resolved {
	t := s.t
	addr := w.dst.addr
	fromInternet := a.o.place == model.Nowhere && a.o.net == model.Internet
	dns, _ := rec.(*estate.DNS)
	switch {
	case fromInternet && !netset.GloballyReachable().Contains(addr):
		b := Break{
			Code: "path.no-public-address", Short: sentence("%s is private", addr), Records: lines(recordsOf(rec)...), Subject: s.goal.subject, At: orWord(a.q.name, addr.String()),
			Why: sentence("%s is a private address, which the internet carries nothing to.", addr),
		}
		return s.elsewhereInstead(a, w, dns, b, Unroutable)
	case !netset.GloballyReachable().Contains(addr) || len(t.m.Owners(addr)) > 0 || t.m.InRecordedNetwork(addr):
		return []resolved{{w, false}}
	}
	if _, ok := t.m.BlockOf(addr); ok || dns == nil {
		return []resolved{{w, false}}
	}
	if t.m.Names.ZoneOf(a.q.name, t.asker(a.o)) == nil {
		return []resolved{{w, false}} // a name that is not ours
	}
	b := Break{
		Code: "name.dangling", Short: sentence("%s is not ours", addr), Records: lines(rec), Subject: a.q.name, At: a.q.name,
		Why: sentence("%s is held by nobody recorded: whoever has it now answers for %s.", addr, a.q.name),
	}
	for _, off := range t.m.Off {
		if old, ok := off.(*estate.Address); ok && old.Held.Addr == addr {
			b.Code, b.Records, b.Short = "name.stale", lines(rec, off), sentence("%s was ours once", addr)
			b.Why = sentence("%s was held by %s once, and no longer: whoever has it now answers for %s.", addr, old.Hosts[0], a.q.name)
		}
	}
	return s.elsewhereInstead(a, w, dns, b, Outside)
}

func recordsOf(rec estate.Record) []estate.Record {
	if rec == nil {
		return nil
	}
	return []estate.Record{rec}
}

// elsewhereInstead stops a branch at its address and goes on, as if mended, to where it should lead.
func (s *serving) elsewhereInstead(a asking, w way, dns *estate.DNS, b Break, outcome Outcome) []resolved {
	instead, ok := s.t.publicAddress(s.goal, a.o, a.q.port, a.proto, w.dst.addr.Is6())
	if dns != nil && ok {
		b.Mend = replace(dns, func(d *estate.DNS) { d.Value, d.Dynamic, d.Every = instead.String(), "", estate.NotGiven })
	} else if dns != nil {
		b.Mend = &Mend{Remove: lines(dns), Add: []string{}}
	}
	w.brokenStep()
	w.stop(outcome, b)
	if !ok || dns == nil {
		return []resolved{{w, true}}
	}
	w.dst = toAddr(instead)
	return []resolved{{w, false}}
}

// brokenStep marks the last step as the one that broke.
func (w *way) brokenStep() {
	if last := w.lastStep(); last != nil {
		s := *last
		s.Verdict = Broken
		w.trail = &trail{prev: w.trail.prev, n: w.trail.n, step: &s}
	}
}

// unresolved is a name without an address: whether that is a fault, and on as if it had the right one.
func (s *serving) unresolved(a asking, w way, answer names.Answer) []resolved {
	t := s.t
	name, last := a.q.name, answer.Last()
	var shown []estate.Record
	for _, l := range answer.Links {
		shown = append(shown, l.Record)
	}
	w.cell().Answers = map[names.Code]string{names.NXDomain: "no such name", names.ServFail: "goes round", names.Outside: "elsewhere"}[answer.Code]
	if w.cells.Answers == "" {
		w.cell().Answers = "no address"
	}
	if answer.Code == names.Outside {
		w.walk(Step{Stage: StageResolve, At: last, Verdict: Pass, Ground: Water, Records: lines(shown...), Why: sentence("%s is in no recorded zone: what it answers is not known here.", last)})
		if w.stopped == "" {
			w.stopped = Outside
		}
		return []resolved{{w, true}}
	}
	b := Break{Code: "name.unresolved", Subject: name, At: name, Short: w.cells.Answers, Records: lines(shown...)}
	switch {
	case answer.Loop:
		b.Code, b.Why = "name.alias-loop", sentence("%s is an alias that leads back to itself.", name)
	case len(answer.Chain) > 1:
		b.Code, b.Short = "name.broken-alias", sentence("%s is gone", last)
		b.Why = sentence("%s is an alias of %s, which has no address.", answer.Chain[len(answer.Chain)-2], last)
	case answer.Code == names.NXDomain:
		b.Why = sentence("%s has no record, and no wildcard covers it.", name)
	default:
		b.Why = sentence("%s exists, and has no address.", name)
	}
	instead, ok := netip.Addr{}, false
	if off := t.offAddress(name); off != nil {
		b.Mend = revive(off)
		instead, ok = netip.MustParseAddr(off.Value), true
	} else if instead, ok = t.publicAddress(s.goal, a.o, a.q.port, a.proto, false); ok {
		fresh := &estate.DNS{Owner: name, Type: "A", Value: instead.String(), TTL: estate.NotGiven, Every: estate.NotGiven, For: t.askerSelector(a.o)}
		b.Mend = addLine(fresh)
		if len(answer.Links) > 0 {
			if alias, isDNS := answer.Links[len(answer.Links)-1].Record.(*estate.DNS); isDNS && alias.Type != "DNAME" {
				b.Mend = replace(alias, func(d *estate.DNS) {
					d.Type, d.Value, d.Dynamic, d.Every = "A", instead.String(), "", estate.NotGiven
				})
			}
		}
	}
	if b.Mend == nil && len(answer.Links) > 0 { // an alias of nothing, and nothing says what was meant
		b.Mend = &Mend{Remove: lines(answer.Links[len(answer.Links)-1].Record), Add: []string{}}
	}
	why := b.Why
	if answer.NegativeKnown && !answer.Loop {
		why = sentence("%s That it is not there may be remembered for %s.", b.Why, answer.Negative)
	}
	w.walk(Step{Stage: StageResolve, At: last, Verdict: Broken, Ground: Water, Records: lines(shown...), Why: why})
	w.stop(Unresolved, b)
	if !ok {
		return []resolved{{w, true}}
	}
	w.dst = toAddr(instead)
	return []resolved{{w, false}}
}

func (t *Tracer) askerSelector(o origin) []estate.Selector {
	if o.place == model.Nowhere && o.net == model.Internet {
		return nil
	}
	if o.place == model.Nowhere {
		return []estate.Selector{{Name: t.m.Networks[o.net].Name}}
	}
	return []estate.Selector{{Name: t.m.Places[o.place].Name}}
}

func (t *Tracer) offAddress(name string) *estate.DNS {
	for _, off := range t.m.Off {
		if d, ok := off.(*estate.DNS); ok && d.Owner == name && (d.Type == "A" || d.Type == "AAAA") && d.Dynamic == "" {
			return d
		}
	}
	return nil
}

// publicAddress is the address by which an origin should reach the place meant: one of the machine's own that
// it can be led to, else that of a router that forwards to it, else that of the only router on the internet.
func (t *Tracer) publicAddress(g goal, o origin, port uint16, proto netset.Transport, v6 bool) (netip.Addr, bool) {
	if g.place == model.Nowhere {
		return netip.Addr{}, false
	}
	machine := t.m.Places[t.m.Places[g.place].Host]
	inside := o.place != model.Nowhere || o.net != model.Internet
	for _, leg := range machine.Legs {
		for _, addr := range leg.Addrs {
			if leg.Gateway || addr.Is6() != v6 || !inside && !netset.GloballyReachable().Contains(addr) {
				continue
			}
			hop := model.Hop{}
			if o.place == model.Nowhere {
				hop = t.m.FromNetwork(o.net, addr)
			} else if t.led(t.m.Places[o.place], addr) {
				return addr, true
			}
			if hop.Kind == model.OnLink || hop.Kind == model.Via {
				return addr, true
			}
		}
	}
	for _, own := range ownAddrs(machine) {
		for _, f := range t.index.forwards[own] {
			if own.Is6() != v6 || !f.Ports.Contains(port) || f.Record.Bind.Transport&proto == 0 {
				continue
			}
			if p := t.m.PlaceNamed(f.Record.Router); p.Router && p.Leg(model.Internet) != nil {
				if a := f.Record.Bind.Addr; a.IsValid() {
					return a, true
				}
				if outer := t.m.OuterAddrs(p, v6); len(outer) > 0 {
					return outer[0], true
				}
			}
		}
	}
	var only []netip.Addr
	for _, id := range t.m.Routers(machine.Island) {
		p := t.m.Places[id]
		if a, ok := p.Addr(model.Internet, v6); ok && t.led(p, machineAddr(machine, v6)) {
			only = append(only, a)
		}
	}
	if len(only) == 1 {
		return only[0], true
	}
	return netip.Addr{}, false
}

func machineAddr(p *model.Place, v6 bool) netip.Addr {
	for _, leg := range p.Legs {
		for _, a := range leg.Addrs {
			if a.Is6() == v6 && !leg.Gateway {
				return a
			}
		}
	}
	return netip.Addr{}
}

// resolvePlace tries a place at its address lines that the vantage can be led to; if at none, at all of
// them.
func (s *serving) resolvePlace(a asking, w way) []resolved {
	t := s.t
	stack := t.m.Places[a.place.Stack]
	var all, led []dest
	var unknown []estate.Record
	for _, leg := range stack.Legs {
		if leg.Gateway {
			continue
		}
		for _, addr := range leg.Addrs {
			all = append(all, toAddr(addr))
			if t.ledFrom(a.o, addr) {
				led = append(led, toAddr(addr))
			}
		}
		if leg.Unknown {
			unknown = append(unknown, leg.Records...)
		}
		if stack.IsContainer() && leg.Float() {
			all = append(all, dest{float: stack.ID, net: leg.Net, name: stack.Name})
			if t.besideOrigin(a.o, leg.Net) {
				led = append(led, dest{float: stack.ID, net: leg.Net, name: stack.Name})
			}
		}
	}
	if len(led) > 0 {
		all = led
	}
	if len(all) == 0 && len(unknown) > 0 {
		w.cell().Answers = "?"
		w.walk(Step{Stage: StageResolve, At: a.place.Name, Verdict: Unsettled, Ground: Water, Records: lines(unknown...), Why: sentence("The address of %s is not known.", a.place.Name)})
		if w.stopped == "" {
			w.stopped = Undecided
		}
		return []resolved{{w, true}}
	}
	if len(all) == 0 {
		w.cell().Answers = "no address"
		why := sentence("No address of %s is written down.", a.place.Name)
		w.walk(Step{Stage: StageResolve, At: a.place.Name, Verdict: Broken, Ground: Water, Records: lines(a.place.Record), Why: why})
		w.stop(Unroutable, Break{Code: "path.no-route", At: a.place.Name, Subject: s.goal.subject, Short: "no address", Why: why, Records: lines(a.place.Record)})
		return []resolved{{w, true}}
	}
	var out []resolved
	for _, d := range all {
		v := w
		v.dst = d
		word := a.place.Name
		if d.addr.IsValid() {
			word = d.addr.String()
		}
		v.cell().Answers = word
		v.walk(Step{Stage: StageResolve, At: a.place.Name, Verdict: Pass, Ground: Water, Records: lines(a.place.Record), Why: sentence("Asked for at %s.", word)})
		if d.float != model.Nowhere && !t.besideOrigin(a.o, d.net) {
			why := sentence("%s has no address that is reached from outside %s.", a.place.Name, t.m.Networks[d.net].Name)
			v.brokenStep()
			v.stop(Unroutable, Break{Code: "path.no-route", At: a.place.Name, Subject: s.goal.subject, Short: "inside " + t.m.Networks[d.net].Name, Why: why, Records: lines(a.place.Record)})
			out = append(out, resolved{v, true})
			continue
		}
		out = append(out, resolved{v, false})
	}
	return out
}

func (t *Tracer) ledFrom(o origin, a netip.Addr) bool {
	if o.place != model.Nowhere {
		return t.led(t.m.Places[o.place], a)
	}
	if !t.m.Networks[o.net].Family(a.Is6()) {
		return false
	}
	hop := t.m.FromNetwork(o.net, a)
	return hop.Kind == model.OnLink || hop.Kind == model.Via
}

// besideOrigin says whether an origin stands in a container network, or on its machine.
func (t *Tracer) besideOrigin(o origin, net model.NetID) bool {
	if o.place == model.Nowhere {
		return o.net == net
	}
	p := t.m.Places[t.m.Places[o.place].Stack]
	return p.Leg(net) != nil
}

// intentOf is the intent for a name, address or place on a port.
func (t *Tracer) intentOf(target string, port uint16, proto netset.Transport) *estate.Intent {
	for _, i := range t.index.intents.Of(target) {
		if i.Ports.Transport&proto != 0 && i.Ports.Set().Contains(port) && !nobody(i) {
			return i
		}
	}
	return nil
}

func nobody(i *estate.Intent) bool {
	return slices.ContainsFunc(i.For, func(s estate.Selector) bool { return s.Word == "nobody" })
}

// stopKeeping notes a break that leaves the outcome as it is.
func (f *served) stopKeeping(b Break) {
	was := f.stopped
	f.stop("x", b)
	f.stopped = was
}
