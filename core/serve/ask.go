package serve

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/netset"
	"steady-compass/core/say"
)

// Question is one request of a client: what, from where, and what came before it.
type Question struct {
	Origin    flow.Origin
	Vantage   *flow.Vantage
	Request   Request
	Addr      netip.Addr // for a bare address
	Place     *model.Place
	Meant     *model.Place // where it is to lead, where nothing recorded says that; nil for nowhere
	Transport netset.Transport
	Base      flow.Part
	visited   []string
	left      *int // of the request that redirected here
}

// Ask follows one request from an origin to every end it has.
func (t *Engine) Ask(a Question) []Served {
	target := a.Request.Name
	if target == "" {
		target = a.Addr.String()
	}
	if a.Place != nil {
		target = a.Place.Name
	}
	intent := t.IntentOf(target, a.Request.Port, a.Transport)
	subject := target + ":" + say.PortWord(a.Request.Port, a.Transport)
	s := &serving{t: t, o: a.Origin, client: a.Origin, v: a.Vantage, intent: intent, place: a.Place, visited: a.visited, left: cmp.Or(a.left, new(mostHandedOn))}
	s.goal = flow.Goal{Diagnose: true, Subject: subject, Place: model.Nowhere, Port: a.Request.Port}
	t.Aim(&s.goal, a, intent, a.Base.Reads)

	start := a.Origin.Start(a.Transport, netset.PortsOf(netset.OnePort(a.Request.Port)))
	start.Trail, start.Stopped, start.Inner = a.Base.Trail, a.Base.Stopped, a.Base.Inner
	start.Ghost, start.Took, start.TookPort = a.Base.Ghost, a.Base.Took, a.Base.TookPort
	start.Name, start.Reads = a.Request.Name, a.Base.Reads
	if intent != nil {
		start.Reads.Asked(intent.Reaching.Host)
	}
	start.AskedWord, start.AskedAddr, start.AskedIPv6 = a.Base.AskedWord, a.Base.AskedAddr, a.Base.AskedIPv6
	if !a.Base.Origins.IsEmpty() && a.Origin.Place == model.Nowhere {
		// A client has the other family too: what narrowed its sources says nothing about that one.
		start.Src.Set = netset.Union(a.Base.Origins, a.Origin.Set.Of(!a.Base.AskedIPv6))
		start.Origins = start.Src.Set
	}
	for _, w := range t.ofFamilies(a.Origin, s.resolve(a, start)) {
		asked := w.Dst.Addr
		w.SetAsked()
		if w.ended {
			s.finish(Served{Part: w.Part, place: model.Nowhere, URLPath: a.Request.Path})
			continue
		}
		for _, l := range s.delivers(&a, w.Part) {
			l.AskedAddr = asked
			if a.Request.Name == "" && asked.IsValid() {
				l.AskedWord = asked.String()
			}
			s.land(l, a.Request)
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
func (t *Engine) ofFamilies(o flow.Origin, all []resolved) []resolved {
	has := func(w resolved) bool {
		return w.ended || w.Dst.Float != model.Nowhere || t.hasFamily(o, w.Dst.Addr.Is6())
	}
	if !slices.ContainsFunc(all, has) {
		return all
	}
	return slices.DeleteFunc(all, func(w resolved) bool { return !has(w) })
}

// hasFamily says whether an origin has, or may have, an address of a family.
func (t *Engine) hasFamily(o flow.Origin, v6 bool) bool {
	if o.Place != model.Nowhere {
		if a, one := o.Set.Single(); one {
			return a.Is6() == v6
		}
		return t.sends(t.Model.Places[t.Model.Places[o.Place].Namespace], v6)
	}
	return !o.Set.Of(v6).IsEmpty()
}

// Aim finds what a request is meant for: the machine of the only service with a site for the name,
// else the place that the intent says. What that hangs on is added to reads.
func (t *Engine) Aim(g *flow.Goal, a Question, intent *estate.Intent, reads *memo.Reads) {
	defer func() { g.Noted(t.Model, reads) }()
	if a.Place != nil {
		g.Place = a.Place.ID
		return
	}
	if a.Request.Name != "" {
		if service := t.Index.onlyService(a.Request.Name); service != "" {
			reads.Service(service)
			if p := t.serviceAt(service, a.Request.Port); p != nil {
				g.Place, g.Service = p.ID, service
				return
			}
		}
	}
	if intent != nil && intent.Reaching.Host != "" {
		if p := t.Model.PlaceNamed(intent.Reaching.Host); p != nil {
			g.Place = p.ID
			g.Port = intent.Reaching.Port
		}
	}
	if p := t.Model.PlaceNamed(a.Request.Name); g.Place == model.Nowhere && p != nil {
		g.Place = p.ID
	}
	if g.Place == model.Nowhere && a.Meant != nil {
		g.Place = a.Meant.ID
	}
}

// serviceAt is the place where a service listens: the one with the port asked, before any.
func (t *Engine) serviceAt(service string, port uint16) *model.Place {
	s := t.Model.Services[service]
	if s == nil {
		return nil
	}
	var found *model.Place
	for _, l := range s.Listens {
		p := t.Model.PlaceNamed(l.Place)
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
func (t *Engine) reached(f *Served, intent *estate.Intent, g flow.Goal) {
	if f.end == "" || f.Redirect || f.Stopped != "" {
		return
	}
	want := intent.Reaching
	place := t.Model.Places[f.place]
	if place.Name == want.Host && (want.Port == 0 || want.Port == f.port) {
		return
	}
	b := flow.Break{
		Code: "path.wrong-place", At: place.Name, Subject: g.Subject, Short: "not " + want.Host,
		Why: fmt.Sprintf("It ends at %s, and is meant to reach %s.", f.end, want), Records: say.Lines(intent),
	}
	if f.handedBy != nil {
		if target, from := t.Model.PlaceNamed(want.Host), t.Model.PlaceNamed(f.handedFrom); target != nil && from != nil {
			if port, ok := t.portOf(target, want.Port); ok {
				if u, ok := t.urlFrom(from, target, port); ok {
					u.Scheme, u.Path = f.handedBy.to.Scheme, f.handedBy.to.Path
					b.Mend = f.handedBy.aimed(u)
				}
			}
		}
		b.Records = say.Lines(append([]estate.Record{intent}, f.handedBy.records()...)...)
	}
	f.stopKeeping(b)
}

// resolved is one address that a name answered, or a branch that ends there.
type resolved struct {
	flow.Part
	ended bool
}

// resolve is the first step: what the name answers to whoever asks.
func (s *serving) resolve(a Question, w flow.Part) []resolved {
	t := s.t
	switch {
	case a.Place != nil:
		return s.resolvePlace(a, w)
	case a.Request.Name == "":
		w.Dst = flow.ToAddr(a.Addr)
		w.Cell().Answers = a.Addr.String()
		w.Add(flow.Step{Stage: flow.StageResolve, At: a.Addr.String(), Verdict: flow.Pass, Ground: flow.External, Records: []string{}, Why: "Asked for by its address."})
		return s.addressed(a, w, nil, names.Answer{})
	}
	v6, v4 := t.Model.Names.Addresses(a.Request.Name, t.Asker(a.Origin))
	w.Reads.Asked(slices.Concat(v6.Chain, v4.Chain)...)
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
		return fmt.Sprintf("; after a change the old answer may be seen for %s", age)
	}
	return ""
}

// chainTo are the links that lead to one address of an answer.
func chainTo(answer names.Answer, found names.Address) []flow.Link {
	var out []flow.Link
	for _, l := range answer.Links {
		link := flow.Link{Name: l.Owner, Type: "hosts", Record: estate.Line(l.Record), Value: found.Addr.String()}
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
func (s *serving) answered(a Question, w flow.Part, answer names.Answer, found names.Address) []resolved {
	shown := append(linkRecords(answer), found.Record)
	at := answer.Last()
	how := ""
	switch {
	case answer.Wildcard:
		how = ", by the wildcard"
	case len(answer.Chain) > 1:
		how = fmt.Sprintf(", by way of %s", at)
	}
	if _, ok := found.Record.(*estate.HostsEntry); ok {
		how = ", in its own hosts file"
	}
	if found.Unknown {
		w.Add(flow.Step{Stage: flow.StageResolve, At: at, Verdict: flow.Unsettled, Ground: flow.External, Records: say.Lines(shown...), Why: fmt.Sprintf("%s follows an address that nobody knows.", a.Request.Name)})
		w.Cell().Answers = "?"
		if w.Stopped == "" {
			w.Stopped = flow.Undecided
		}
		return []resolved{{w, true}}
	}
	w.Dst = flow.ToAddr(found.Addr)
	w.Cell().Answers = found.Addr.String()
	w.Add(flow.Step{Stage: flow.StageResolve, At: at, Verdict: flow.Pass, Ground: flow.External, Records: say.Lines(shown...), Why: fmt.Sprintf("Answers %s%s%s.", found.Addr, how, ageWords(answer)), Chain: chainTo(answer, found)})
	return s.addressed(a, w, found.Record, answer)
}

// addressed judges an address before anything is sent to it: private, from the internet; or public, and held by
// nobody.
func (s *serving) addressed(a Question, w flow.Part, rec estate.Record, answer names.Answer) []resolved {
	t := s.t
	addr := w.Dst.Addr
	fromInternet := a.Origin.Place == model.Nowhere && a.Origin.Net == model.Internet
	dns, _ := rec.(*estate.DNS)
	switch {
	case fromInternet && !netset.GloballyReachable().Contains(addr):
		b := flow.Break{
			Code: "path.no-public-address", Short: fmt.Sprintf("%s is private", addr), Records: say.Lines(recordsOf(rec)...), Subject: s.goal.Subject, At: cmp.Or(a.Request.Name, addr.String()),
			Why: fmt.Sprintf("%s is a private address, which the internet carries nothing to.", addr),
		}
		return s.elsewhereInstead(a, w, dns, b, flow.Unroutable)
	case !netset.GloballyReachable().Contains(addr) || len(t.Model.Owners(addr)) > 0 || t.Model.InRecordedNetwork(addr):
		return []resolved{{w, false}}
	}
	if _, ok := t.Model.BlockOf(addr); ok || dns == nil {
		return []resolved{{w, false}}
	}
	if t.Model.Names.ZoneOf(a.Request.Name, t.Asker(a.Origin)) == nil {
		return []resolved{{w, false}} // a name that is not ours
	}
	b := flow.Break{
		Code: "name.dangling", Short: fmt.Sprintf("%s is not ours", addr), Records: say.Lines(rec), Subject: a.Request.Name, At: a.Request.Name,
		Why: fmt.Sprintf("%s is held by nobody recorded: whoever has it now answers for %s.", addr, a.Request.Name),
	}
	for _, off := range t.Model.Off {
		if old, ok := off.(*estate.Address); ok && old.Held.Addr == addr {
			b.Code, b.Records, b.Short = "name.stale", say.Lines(rec, off), fmt.Sprintf("%s was ours once", addr)
			b.Why = fmt.Sprintf("%s was held by %s once, and no longer: whoever has it now answers for %s.", addr, old.Hosts[0], a.Request.Name)
		}
	}
	return s.elsewhereInstead(a, w, dns, b, flow.Outside)
}

func recordsOf(rec estate.Record) []estate.Record {
	if rec == nil {
		return nil
	}
	return []estate.Record{rec}
}

// elsewhereInstead stops a branch at its address and goes on, as if mended, to where it should lead.
func (s *serving) elsewhereInstead(a Question, w flow.Part, dns *estate.DNS, b flow.Break, outcome flow.Outcome) []resolved {
	instead, ok := s.t.PublicAddress(s.goal, a.Origin, a.Request.Port, a.Transport, w.Dst.Addr.Is6())
	if dns != nil && ok {
		b.Mend = flow.Replace(dns, func(d *estate.DNS) { d.Value, d.Dynamic, d.Every = instead.String(), "", estate.NotGiven })
	} else if dns != nil {
		b.Mend = &flow.Mend{Remove: say.Lines(dns), Add: []string{}}
	}
	w.BrokenStep()
	w.Stop(outcome, b)
	if !ok || dns == nil {
		return []resolved{{w, true}}
	}
	w.Dst = flow.ToAddr(instead)
	return []resolved{{w, false}}
}

// unresolved is a name without an address: whether that is a fault, and on as if it had the right one.
func (s *serving) unresolved(a Question, w flow.Part, answer names.Answer) []resolved {
	t := s.t
	name, last := a.Request.Name, answer.Last()
	var shown []estate.Record
	for _, l := range answer.Links {
		shown = append(shown, l.Record)
	}
	w.Cell().Answers = map[names.Code]string{names.NXDomain: "no such name", names.ServFail: "goes round", names.Outside: "elsewhere"}[answer.Code]
	if w.Cells.Answers == "" {
		w.Cell().Answers = "no address"
	}
	if answer.Code == names.Outside {
		w.Add(flow.Step{Stage: flow.StageResolve, At: last, Verdict: flow.Pass, Ground: flow.External, Records: say.Lines(shown...), Why: fmt.Sprintf("%s is in no recorded zone: what it answers is not known here.", last)})
		if w.Stopped == "" {
			w.Stopped = flow.Outside
		}
		return []resolved{{w, true}}
	}
	b := flow.Break{Code: "name.unresolved", Subject: name, At: name, Short: w.Cells.Answers, Records: say.Lines(shown...)}
	switch {
	case answer.Loop:
		b.Code, b.Why = "name.alias-loop", fmt.Sprintf("%s is an alias that leads back to itself.", name)
	case len(answer.Chain) > 1:
		b.Code, b.Short = "name.broken-alias", fmt.Sprintf("%s is gone", last)
		b.Why = fmt.Sprintf("%s is an alias of %s, which has no address.", answer.Chain[len(answer.Chain)-2], last)
	case answer.Code == names.NXDomain:
		b.Why = fmt.Sprintf("%s has no record, and no wildcard covers it.", name)
	default:
		b.Why = fmt.Sprintf("%s exists, and has no address.", name)
	}
	instead, ok := netip.Addr{}, false
	if off := t.offAddress(name); off != nil {
		b.Mend = flow.Revive(off)
		instead, ok = netip.MustParseAddr(off.Value), true
	} else if instead, ok = t.PublicAddress(s.goal, a.Origin, a.Request.Port, a.Transport, false); ok {
		fresh := &estate.DNS{Owner: name, Type: "A", Value: instead.String(), TTL: estate.NotGiven, Every: estate.NotGiven, For: t.askerSelector(a.Origin)}
		b.Mend = flow.AddLine(fresh)
		if len(answer.Links) > 0 {
			if alias, isDNS := answer.Links[len(answer.Links)-1].Record.(*estate.DNS); isDNS && alias.Type != "DNAME" {
				b.Mend = flow.Replace(alias, func(d *estate.DNS) {
					d.Type, d.Value, d.Dynamic, d.Every = "A", instead.String(), "", estate.NotGiven
				})
			}
		}
	}
	if b.Mend == nil && len(answer.Links) > 0 { // an alias of nothing, and nothing says what was meant
		b.Mend = &flow.Mend{Remove: say.Lines(answer.Links[len(answer.Links)-1].Record), Add: []string{}}
	}
	why := b.Why
	if answer.NegativeKnown && !answer.Loop {
		why = fmt.Sprintf("%s That it is not there may be remembered for %s.", b.Why, answer.Negative)
	}
	w.Add(flow.Step{Stage: flow.StageResolve, At: last, Verdict: flow.Broken, Ground: flow.External, Records: say.Lines(shown...), Why: why})
	w.Stop(flow.Unresolved, b)
	if !ok {
		return []resolved{{w, true}}
	}
	w.Dst = flow.ToAddr(instead)
	return []resolved{{w, false}}
}

func (t *Engine) askerSelector(o flow.Origin) []estate.Selector {
	if o.Place == model.Nowhere && o.Net == model.Internet {
		return nil
	}
	if o.Place == model.Nowhere {
		return []estate.Selector{{Name: t.Model.Networks[o.Net].Name}}
	}
	return []estate.Selector{{Name: t.Model.Places[o.Place].Name}}
}

func (t *Engine) offAddress(name string) *estate.DNS {
	for _, off := range t.Model.Off {
		if d, ok := off.(*estate.DNS); ok && d.Owner == name && (d.Type == "A" || d.Type == "AAAA") && d.Dynamic == "" {
			return d
		}
	}
	return nil
}

// PublicAddress is the address by which an origin should reach the place meant: one of the machine's own that
// it can be led to, else that of a router that forwards to it, else that of the only router on the internet.
func (t *Engine) PublicAddress(g flow.Goal, o flow.Origin, port uint16, proto netset.Transport, v6 bool) (netip.Addr, bool) {
	if g.Place == model.Nowhere {
		return netip.Addr{}, false
	}
	machine := t.Model.Places[t.Model.Places[g.Place].Host]
	inside := o.Place != model.Nowhere || o.Net != model.Internet
	for _, attachment := range machine.Attachments {
		for _, addr := range attachment.Addrs {
			if attachment.Gateway || addr.Is6() != v6 || !inside && !netset.GloballyReachable().Contains(addr) {
				continue
			}
			hop := model.Hop{}
			if o.Place == model.Nowhere {
				hop = t.Model.FromNetwork(o.Net, addr)
			} else if t.led(t.Model.Places[o.Place], addr) {
				return addr, true
			}
			if hop.Kind == model.OnLink || hop.Kind == model.Via {
				return addr, true
			}
		}
	}
	for _, own := range ownAddrs(machine) {
		for _, f := range t.Index.Forwards[own] {
			if own.Is6() != v6 || !f.Ports.Contains(port) || f.Record.Bind.Transport&proto == 0 {
				continue
			}
			if p := t.Model.PlaceNamed(f.Record.Router); p.Router && p.Attachment(model.Internet) != nil {
				if a := f.Record.Bind.Addr; a.IsValid() {
					return a, true
				}
				if outer := t.Model.OuterAddrs(p, v6); len(outer) > 0 {
					return outer[0], true
				}
			}
		}
	}
	var only []netip.Addr
	for _, id := range t.Model.Routers(machine.Segment) {
		p := t.Model.Places[id]
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
	for _, attachment := range p.Attachments {
		for _, a := range attachment.Addrs {
			if a.Is6() == v6 && !attachment.Gateway {
				return a
			}
		}
	}
	return netip.Addr{}
}

// resolvePlace tries a place at its address lines that the vantage can be led to; if at none, at all of
// them.
func (s *serving) resolvePlace(a Question, w flow.Part) []resolved {
	t := s.t
	namespace := t.Model.Places[a.Place.Namespace]
	var all, led []flow.Dest
	var unknown []estate.Record
	for _, attachment := range namespace.Attachments {
		if attachment.Gateway {
			continue
		}
		for _, addr := range attachment.Addrs {
			all = append(all, flow.ToAddr(addr))
			if t.ledFrom(a.Origin, addr) {
				led = append(led, flow.ToAddr(addr))
			}
		}
		if attachment.Unknown {
			unknown = append(unknown, attachment.Records...)
		}
		if namespace.IsContainer() && attachment.Float() {
			all = append(all, flow.Dest{Float: namespace.ID, Net: attachment.Net, Name: namespace.Name})
			if t.BesideOrigin(a.Origin, attachment.Net) {
				led = append(led, flow.Dest{Float: namespace.ID, Net: attachment.Net, Name: namespace.Name})
			}
		}
	}
	if len(led) > 0 {
		all = led
	}
	if len(all) == 0 && len(unknown) > 0 {
		w.Cell().Answers = "?"
		w.Add(flow.Step{Stage: flow.StageResolve, At: a.Place.Name, Verdict: flow.Unsettled, Ground: flow.External, Records: say.Lines(unknown...), Why: fmt.Sprintf("The address of %s is not known.", a.Place.Name)})
		if w.Stopped == "" {
			w.Stopped = flow.Undecided
		}
		return []resolved{{w, true}}
	}
	if len(all) == 0 {
		w.Cell().Answers = "no address"
		why := fmt.Sprintf("No address of %s is written down.", a.Place.Name)
		w.Add(flow.Step{Stage: flow.StageResolve, At: a.Place.Name, Verdict: flow.Broken, Ground: flow.External, Records: say.Lines(a.Place.Record), Why: why})
		w.Stop(flow.Unroutable, flow.Break{Code: "path.no-route", At: a.Place.Name, Subject: s.goal.Subject, Short: "no address", Why: why, Records: say.Lines(a.Place.Record)})
		return []resolved{{w, true}}
	}
	var out []resolved
	for _, d := range all {
		v := w
		v.Dst = d
		word := a.Place.Name
		if d.Addr.IsValid() {
			word = d.Addr.String()
		}
		v.Cell().Answers = word
		v.Add(flow.Step{Stage: flow.StageResolve, At: a.Place.Name, Verdict: flow.Pass, Ground: flow.External, Records: say.Lines(a.Place.Record), Why: fmt.Sprintf("Asked for at %s.", word)})
		if d.Float != model.Nowhere && !t.BesideOrigin(a.Origin, d.Net) {
			why := fmt.Sprintf("%s has no address that is reached from outside %s.", a.Place.Name, t.Model.Networks[d.Net].Name)
			v.BrokenStep()
			v.Stop(flow.Unroutable, flow.Break{Code: "path.no-route", At: a.Place.Name, Subject: s.goal.Subject, Short: "inside " + t.Model.Networks[d.Net].Name, Why: why, Records: say.Lines(a.Place.Record)})
			out = append(out, resolved{v, true})
			continue
		}
		out = append(out, resolved{v, false})
	}
	return out
}

func (t *Engine) ledFrom(o flow.Origin, a netip.Addr) bool {
	if o.Place != model.Nowhere {
		return t.led(t.Model.Places[o.Place], a)
	}
	if !t.Model.Networks[o.Net].Family(a.Is6()) {
		return false
	}
	hop := t.Model.FromNetwork(o.Net, a)
	return hop.Kind == model.OnLink || hop.Kind == model.Via
}

// BesideOrigin says whether an origin stands in a container network, or on its machine.
func (t *Engine) BesideOrigin(o flow.Origin, net model.NetID) bool {
	if o.Place == model.Nowhere {
		return o.Net == net
	}
	p := t.Model.Places[t.Model.Places[o.Place].Namespace]
	return p.Attachment(net) != nil
}

// IntentOf is the intent for a name, address or place on a port.
func (t *Engine) IntentOf(target string, port uint16, proto netset.Transport) *estate.Intent {
	for _, i := range t.Index.Intents.Of(target) {
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
func (f *Served) stopKeeping(b flow.Break) {
	was := f.Stopped
	f.Stop("x", b)
	f.Stopped = was
}

// delivers follows a request's flow from the address that was answered: one that nothing came before goes as all such do.
func (s *serving) delivers(a *Question, w flow.Part) []flow.Landing {
	if a.Base.IsBegun() || w.Stopped != "" {
		return s.t.Deliver(a.Origin, w, s.goal)
	}
	return s.t.Delivery(a.Origin, w.Dst, flow.PortKey{Port: a.Request.Port, Transport: a.Transport}, s.goal).Of(&w, s.goal.Subject)
}
