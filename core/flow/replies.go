package flow

import (
	"fmt"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/say"
)

// Replies judges whether the reply of a landed flow finds its way. It must pass, in reverse, every machine that translated the flow
// and, over TCP, every strict filter that it met. On its own way it is known to filters that keep state and saw the flow begin; a strict
// one that did not drops it over TCP, and the others take it as any flow. And nobody on its way may give it another source. Where a
// filter that does not know it lets it pass to some of the sources only, the landing is parted: what is lost then is apart.
func (t *Engine) Replies(l *Landing, o Origin) (lost *Landing) {
	if l.Socket == nil || (l.Met == nil || l.local) && !t.Model.Stateless || l.imagined {
		return nil
	}
	float := l.Src.Float != model.Nowhere
	set := l.Src.Set.Of(l.IPv6)
	if float && !t.Model.Stateless || !float && set.IsEmpty() {
		return nil
	}
	namespace := t.Model.Places[l.Namespace]
	back := wayBack{t: t, l: l, sender: t.sender(o), passed: []model.PlaceID{namespace.ID}, ports: replyPorts(o), src: l.Dst, to: Source{Set: set, Float: l.Src.Float, Net: l.Src.Net}, asking: l.Src.Set.Equal(l.Origins)}
	back.follow(namespace, back.sender)
	if back.tie != nil {
		t.tiedReply(l, back)
		return nil
	}
	for h := l.Met; h != nil; h = h.prev {
		if h.needs(l.Transport) && !slices.Contains(back.passed, h.Place) && !float {
			t.lose(l, namespace, t.replyBy(l, namespace, h.Place), fmt.Sprintf("The reply to %s does not come back by %s, which knows of the flow.", t.replyWord(l), t.Model.Places[h.Place].Name))
			return nil
		}
	}
	if back.adrift != nil {
		t.lose(l, namespace, nil, fmt.Sprintf("The reply to %s does not come back: nothing leads there from %s.", back.to.Set.Of(l.IPv6).Lowest(), back.adrift.Name))
		return nil
	}
	if back.astray != nil {
		t.lose(l, namespace, nil, fmt.Sprintf("The reply goes out by %s, which did not see the flow and gives it another source.", back.astray.Name))
		return nil
	}
	lost = t.stateless(l, namespace, back)
	for h := l.Met; h != nil && !float; h = h.prev {
		if h.tracks(l.Transport) && !slices.Contains(back.passed, h.Place) {
			l.OneSided = h.by
			break
		}
	}
	return lost
}

// replyPorts are the ports from which a program asks, and to which a reply goes: those that a recorded machine gives, or
// that any may.
func replyPorts(o Origin) netset.Ports {
	if o.Place != model.Nowhere {
		return netset.PortsOf(netset.PortRange{Lo: 32768, Hi: 60999})
	}
	return netset.PortsOf(netset.PortRange{Lo: 1024, Hi: netset.MaxPort})
}

// stateless parts a landing by what stateless filters do with its reply: into what comes back, and what does not.
func (t *Engine) stateless(l *Landing, namespace *model.Place, back wayBack) (lost *Landing) {
	if len(back.stops) > 0 {
		lost = l
		if !back.all && !back.lost.IsEmpty() {
			if rest := l.Origins.Of(l.IPv6).Subtract(back.lost); !rest.IsEmpty() {
				parted := *l
				lost = &parted
				l.Part, lost.Part = l.Part.ofOrigins(rest), l.Part.ofOrigins(back.lost)
			}
		}
		var by []estate.Record
		for _, s := range back.stops {
			by = append(by, s.filter.Record)
		}
		first := back.stops[0]
		why := fmt.Sprintf("The stateless filter %s on %s does not let the reply pass, to ports %s.", first.filter.Record.Name, first.at.Name, back.ports)
		if !first.filter.Record.Stateless {
			why = fmt.Sprintf("The filter %s on %s did not see the flow begin, and does not let the reply pass, to ports %s.", first.filter.Record.Name, first.at.Name, back.ports)
		}
		t.lose(lost, namespace, t.passReply(back), why, by...)
		if lost == l {
			return nil
		}
	}
	if back.unsure != nil {
		by := back.unsure.filter.Record
		l.Add(Step{Stage: StageFilter, At: back.unsure.at.Name, Filter: by.Name, Verdict: Unsettled, Ground: Edge, Records: say.Lines(by), Why: fmt.Sprintf("%s keeps no state, and its rules for the reply name part of a network: the container may be any point of it.", by.Name)})
		if l.Stopped == "" {
			l.Stopped = Undecided
		}
	}
	return lost
}

// ofOrigins narrows the branch to some of the vantage's sources.
func (w Part) ofOrigins(set netset.Addrs) Part {
	if w.Origins.Equal(w.Src.Set) {
		w.Src.Set = set
	}
	w.Origins = set
	return w
}

func (t *Engine) replyWord(l *Landing) string {
	if l.Src.word != "" {
		return l.Src.word
	}
	return l.Src.Set.Lowest().String()
}

func (t *Engine) lose(l *Landing, namespace *model.Place, mend *Mend, why string, shown ...estate.Record) {
	records := say.Lines(append(shown, namespace.Record)...)
	l.Add(Step{Stage: StageRoute, At: namespace.Name, Verdict: Broken, Ground: Internal, Records: records, Why: why})
	l.Stop(LostReply, Break{Code: "path.lost-reply", At: namespace.Name, Why: why, Short: "reply goes astray", Records: records, Mend: mend})
}

// sender is the machine that a flow was made at.
func (t *Engine) sender(o Origin) model.PlaceID {
	if o.Place == model.Nowhere {
		return model.Nowhere
	}
	return t.Model.Places[o.Place].Host
}

// wayBack is how a reply goes, from where its flow ended.
type wayBack struct {
	t      *Engine
	l      *Landing
	ports  netset.Ports  // to which it goes
	src    Dest          // where it comes from, as the machine that it is at sees it
	to     Source        // to whom
	sender model.PlaceID // the machine that the flow was made at
	asking bool          // to are the vantage's own sources, and not one that a machine gave them

	passed []model.PlaceID
	adrift *model.Place // a machine that nothing leads on from, to a private address
	astray *model.Place // a machine that did not see the flow, and sends its reply out over internet as its own
	tie    *model.Hop   // several ways, and nothing says which
	tiedAt *model.Place // the machine that they part at

	stops  []replyStop  // the stateless filters that do not let it pass
	lost   netset.Addrs // to whom it does not get, of the vantage's own sources
	all    bool         // to nobody
	unsure *replyStop   // the first of which it cannot be told
}

// replyStop is a stateless filter that a reply meets, and the reply as it comes to it.
type replyStop struct {
	filter *model.Filter
	at     *model.Place
	src    Dest
	to     Source
}

// follow follows a reply: each machine that rewrote the flow's source gives the reply the old one and sends it on to
// there; each that translated its destination gives the reply that as its source.
func (b *wayBack) follow(namespace *model.Place, sender model.PlaceID) {
	t := b.t
	if b.l.local { // it never leaves the machine, and meets what its flow met
		b.filters(namespace, model.Output, model.NoNet, model.NoNet)
		b.filters(namespace, model.Input, model.NoNet, model.NoNet)
		return
	}
	at, in, made := namespace, model.NoNet, true
	if at.IsContainer() && !t.besideMachines(at) {
		host := t.Model.Places[at.Host]
		net := b.legTowards(at)
		if net != nil && !host.Owns(b.to.Set.Lowest()) {
			b.passed = append(b.passed, host.ID) // its bridge is the machine's
			if net.Record != nil && net.Record.Filtered {
				b.filters(host, model.Forwarding, net.ID, net.ID)
			}
			return
		}
		at, made = host, false
		if len(namespace.Attachments) > 0 {
			in = namespace.Attachments[0].Net
		}
		b.passed = append(b.passed, at.ID)
	}
	left := b.l.Met // the rewritings that are still to be undone
	for range maxHops {
		b.l.Reads.Place(at.ID)
		if !made && !b.inside(at, in) {
			b.filters(at, model.Prerouting, in, model.NoNet)
		}
		for h := left; h != nil; h = h.prev {
			if s, one := b.to.Set.Single(); h.Place != at.ID || !one || h.Gave != s {
				continue
			}
			left = h.prev
			b.to, b.asking = h.was, h.was.Float != model.Nowhere || h.was.Set.Of(b.l.IPv6).Equal(b.l.Origins.Of(b.l.IPv6))
			break
		}
		if b.to.Float != model.Nowhere {
			b.passed = append(b.passed, b.to.Float)
			if host := t.Model.Places[t.Model.Places[b.to.Float].Host]; host == at {
				b.pass(at, in, b.to.Net, made)
			}
			return
		}
		to := b.to.Set.Of(b.l.IPv6).Lowest()
		if !to.IsValid() {
			return
		}
		if at.Owns(to) {
			if !made {
				b.filters(at, model.Input, in, model.NoNet)
			}
			return
		}
		hop := t.Model.NextHop(at, to)
		private := b.l.Dst.Addr.IsValid() && !netset.GloballyReachable().Contains(b.l.Dst.Addr)
		if !b.met(at.ID) && at.ID != namespace.ID && at.Router && hop.Net == model.Internet && private {
			b.astray = at
		}
		b.pass(at, in, hop.Net, made)
		in, made = hop.Net, false
		switch hop.Kind {
		case model.OnLink:
			at = t.Model.Places[hop.Place]
			b.passed = append(b.passed, at.ID, at.Host)
			if at.IsContainer() {
				return
			}
		case model.Via:
			at = t.Model.Places[hop.Place]
			b.passed = append(b.passed, at.ID)
		case model.Tie:
			b.tie, b.tiedAt = &hop, at
			return
		default:
			if hop.Kind == model.NoWay && !t.Model.Global(to) {
				b.adrift = at
			}
			if sender != model.Nowhere {
				b.passed = append(b.passed, sender)
			}
			return
		}
	}
}

// met says whether the flow met a machine.
func (b *wayBack) met(p model.PlaceID) bool { return b.l.Met.Has(p) }

// besideMachines says whether a container leaves by a network that is inside no machine.
func (t *Engine) besideMachines(c *model.Place) bool {
	return len(c.Attachments) > 0 && !t.Model.Networks[c.Attachments[0].Net].Container()
}

// legTowards is the container network by which a container sends its reply to somebody beside it; nil for others.
func (b *wayBack) legTowards(c *model.Place) *model.Network {
	for i := range c.Attachments {
		net := b.t.Model.Networks[c.Attachments[i].Net]
		if b.to.Float != model.Nowhere && b.to.Net == net.ID || b.to.Float == model.Nowhere && net.Set.Contains(b.to.Set.Lowest()) {
			return net
		}
	}
	return nil
}

// inside says whether a network is one of a machine's container networks.
func (b *wayBack) inside(at *model.Place, net model.NetID) bool {
	return net != model.NoNet && b.t.Model.Networks[net].On == at.ID
}

// pass is a reply that a machine made, or passes on: its filters, and what it gives it as source.
func (b *wayBack) pass(at *model.Place, in, out model.NetID, made bool) {
	if made {
		b.filters(at, model.Output, model.NoNet, out)
	} else {
		b.filters(at, model.Forwarding, in, out)
	}
	b.filters(at, model.Postrouting, in, out)
	for h := b.l.Met; h != nil; h = h.prev {
		if h.Place == at.ID && h.asked != nil {
			b.src = *h.asked
			return
		}
	}
}

// knows says whether a machine saw the flow begin: it sent it, passed it or took it.
func (b *wayBack) knows(at *model.Place) bool {
	return at.ID == b.sender || b.met(at.ID) || at.ID == b.l.Namespace || at.ID == b.t.Model.Places[b.l.Namespace].Host
}

// filters puts the reply through those of a machine's filters on a hook that do not know it. What comes from or goes into a container
// network is let through ahead of those that do not guard containers.
func (b *wayBack) filters(at *model.Place, hook model.Hook, in, out model.NetID) {
	if len(at.Filters[hook]) == 0 || b.unsure != nil {
		return
	}
	known := b.knows(at)
	containers := (b.inside(at, in) || b.inside(at, out)) && in != out
	for _, f := range at.Filters[hook] {
		rec := f.Record
		if known && !rec.Stateless || b.l.local && !rec.LoopbackToo || rec.Family == "ipv4" && b.l.IPv6 || rec.Family == "ipv6" && !b.l.IPv6 || hook == model.Forwarding && containers && !rec.GuardsContainers {
			continue
		}
		lost, all, unsure := b.judge(f, in, out)
		if rec.Strict && b.l.Transport == netset.TCP {
			lost, all, unsure = b.to.Set.Of(b.l.IPv6), b.to.Float != model.Nowhere, false
		}
		stop := replyStop{f, at, b.src, b.to}
		switch {
		case unsure:
			if !b.all {
				b.unsure = &stop
			}
			return
		case all || !lost.IsEmpty():
			b.stops, b.lost, b.all = append(b.stops, stop), netset.Union(b.lost, lost), b.all || all || !b.asking
		}
	}
}

// judge says to whom a filter that does not know it does not let the reply pass, on any of the ports that it may go to.
func (b *wayBack) judge(f *model.Filter, in, out model.NetID) (lost netset.Addrs, all, unsure bool) {
	type part struct {
		set   netset.Addrs
		ports netset.Ports
	}
	left := []part{{b.to.Set.Of(b.l.IPv6), b.ports}}
	float := b.to.Float != model.Nowhere
	stop := func(p part, action string) {
		unsure = unsure || action == "unknown"
		if action != "pass" {
			lost, all = netset.Union(lost, p.set), all || float
		}
	}
	for _, rule := range f.Rules {
		if rule.Dead || rule.Record.Ports.Transport&b.l.Transport == 0 || rule.Entering != model.NoNet && rule.Entering != in || rule.Leaving != model.NoNet && rule.Leaving != out {
			continue
		}
		from := b.t.destMatches(rule.From, b.src, b.l.IPv6)
		if from == no {
			continue
		}
		var rest []part
		for _, p := range left {
			ports := p.ports
			if !rule.Record.Ports.Any {
				ports = p.ports.Intersect(rule.Ports)
			}
			to := p.set
			switch {
			case ports.IsEmpty():
				rest = append(rest, p)
				continue
			case float:
				switch b.t.floats(rule.To, b.to.Float, b.to.Net, b.l.IPv6) {
				case no:
					rest = append(rest, p)
					continue
				case maybe:
					unsure = true
				}
			case !rule.To.Any:
				if to = p.set.Intersect(rule.To.Set); to.IsEmpty() {
					rest = append(rest, p)
					continue
				}
			}
			unsure = unsure || from == maybe
			stop(part{to, ports}, rule.Record.Action)
			if other := p.ports.Subtract(ports); !other.IsEmpty() {
				rest = append(rest, part{to, other})
			}
			if others := p.set.Subtract(to); !others.IsEmpty() {
				rest = append(rest, part{others, p.ports})
			}
		}
		left = rest
	}
	for _, p := range left {
		stop(p, f.Record.Otherwise)
	}
	return lost, all, unsure
}
