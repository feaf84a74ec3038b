package trace

import (
	"net/netip"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// sockets is a flow at a stack: whichever of its listeners takes it.
func (r *run) sockets(p *model.Place, w way, local bool) {
	w.reads.place(p.ID)
	left := w.ports
	for i := range p.Sockets {
		s := &p.Sockets[i]
		mine := r.claims(s, w, local).Intersect(left)
		if mine.IsEmpty() {
			continue
		}
		left = left.Subtract(mine)
		for j := i + 1; j < len(p.Sockets); j++ {
			other := &p.Sockets[j]
			if other.Record.Service == s.Record.Service && other.Place == s.Place {
				continue
			}
			both := r.claims(other, w, local).Intersect(mine)
			if both.IsEmpty() {
				continue
			}
			if s.Record.Shared && other.Record.Shared {
				r.land(other, p, w.onPorts(both), local) // each is a branch
				continue
			}
			mine = mine.Subtract(both)
			r.contested(p, s, other, w.onPorts(both), local)
		}
		if !mine.IsEmpty() {
			r.land(s, p, w.onPorts(mine), local)
		}
	}
	if left.IsEmpty() {
		return
	}
	w = w.onPorts(left)
	if p.Unlisted {
		w.walk(Step{
			Stage: StageSocket, At: p.Name, Verdict: Unsettled, Ground: Land, Records: lines(p.Record),
			Why: sentence("The listeners of %s are not written down yet.", p.Name),
		})
		if w.stopped == "" {
			w.stopped = Undecided
		}
		r.out = append(r.out, landing{way: w, stack: p.ID, local: local})
		return
	}
	r.nobodyListens(p, w, local)
}

func (r *run) claims(s *model.Socket, w way, local bool) netset.Ports {
	if s.Record.Bind.Transport&w.proto == 0 || !takes(s, w, local) {
		return netset.Ports{}
	}
	return w.ports.Intersect(s.Ports)
}

func takes(s *model.Socket, w way, local bool) bool {
	if w.dst.addr.IsValid() {
		return s.Takes(w.dst.addr, local)
	}
	bound := s.Record.Bind.Addr // some point of a network: any address of the family
	return !bound.IsValid() || bound.IsUnspecified() && bound.Is6() == w.six
}

func (r *run) land(s *model.Socket, p *model.Place, w way, local bool) {
	w.walk(Step{
		Stage: StageSocket, At: r.place(s.Place).Name, Verdict: Pass, Ground: Land, Records: lines(s.Record),
		Why: r.say("%s takes it, on %s.", s.Record.Service, w.portWord()),
	})
	if w.stopped == "" && !w.ghost {
		w.took, w.tookPort = s, w.port()
	}
	r.out = append(r.out, landing{way: w, sock: s, stack: p.ID, local: local})
}

// contested is a port that two services claim: which of them runs cannot be told.
func (r *run) contested(p *model.Place, first, second *model.Socket, w way, local bool) {
	why := sentence("%s and %s both listen on %s of %s; only one of them can.", first.Record.Service, second.Record.Service, w.portWord(), p.Name)
	w.walk(Step{Stage: StageSocket, At: p.Name, Verdict: Unsettled, Ground: Land, Records: lines(first.Record, second.Record), Why: why})
	w.stop(Undecided, Break{
		Code: "conflict.socket", At: p.Name, Why: why, Short: sentence("two claim %s", w.portWord()),
		Records: lines(first.Record, second.Record), Subject: sentence("%s:%d/%s", p.Name, w.port(), w.proto), Mend: MendSockets(first.Record, second.Record),
	})
	r.out = append(r.out, landing{way: w, sock: first, stack: p.ID, local: local})
}

// MendSockets ends a clash of two listeners: the second goes off, for where it belongs is not known.
func MendSockets(first, second *estate.Listen) *Mend {
	return replace(second, func(l *estate.Listen) { l.Off = true })
}

// replace is the mend that changes one record.
func replace[R any, P interface {
	*R
	estate.Record
}](rec P, edit func(P)) *Mend {
	return &Mend{Remove: []string{estate.Line(rec)}, Add: []string{estate.Line(estate.With(rec, edit))}}
}

func revive(off estate.Record) *Mend {
	return &Mend{Remove: []string{estate.Line(off)}, Add: []string{estate.Line(estate.InForce(off))}}
}

func addLine(r estate.Record) *Mend {
	if err := estate.Complete(r); err != nil {
		return nil
	}
	return &Mend{Remove: []string{}, Add: []string{estate.Line(r)}}
}

// nobodyListens is a flow at a port that no listener takes: what is missing, and on as if it
// were there.
func (r *run) nobodyListens(p *model.Place, w way, local bool) {
	if w.mute {
		if !w.fruitless() {
			r.out = append(r.out, landing{way: w, stack: p.ID, local: local})
		}
		return
	}
	name := p.Name
	outcome := Refused
	if w.proto == netset.UDP && w.relayed {
		outcome = Silent // behind a port relay nobody says that nobody is there
	}
	code := "path.no-listener"
	if r.goal.upstream {
		code = "upstream.refused"
	}
	b := Break{Code: code, Short: sentence("nothing on %s", w.portWord()), Why: sentence("Nothing listens on %s of %s.", w.portWord(), name)}
	stop := func(shown ...estate.Record) {
		r.stopAt(&w, StageSocket, name, Land, outcome, b, shown...)
	}
	on := func(s *model.Socket) { r.land(s, r.place(r.place(s.Place).Stack), w, local) }

	// An `off` listener or map that would take it.
	for _, off := range r.t.m.Off {
		switch off := off.(type) {
		case *estate.Listen:
			place := r.t.m.PlaceNamed(off.Place)
			s := model.Socket{Record: off, Ports: off.Bind.Set()}
			if place == nil || place.Stack != p.ID || r.claims(&s, w, local).IsEmpty() {
				continue
			}
			s.Place = place.ID
			b.Why = sentence("%s on %s of %s is recorded, and off.", off.Service, w.portWord(), name)
			b.Mend = revive(off)
			stop(off)
			on(&s)
			return
		case *estate.Map:
			c := r.t.m.PlaceNamed(off.Container)
			if c == nil || c.Host != p.ID || off.Bind.Transport&w.proto == 0 || !bindTakes(off.Bind.Addr, w.dst.addr, local) || w.ports.Intersect(off.Bind.Set()).IsEmpty() {
				continue
			}
			b.Why = sentence("The map of %s to %s is recorded, and off.", w.portWord(), off.Container)
			b.Mend = revive(off)
			stop(off)
			r.throughMap(p, c, estate.Translate(off.Bind.Ports, off.To), w)
			return
		}
	}
	// A listener, or a map, that is bound too narrowly.
	for i := range p.Sockets {
		s := &p.Sockets[i]
		bound := s.Record.Bind.Addr
		if s.Record.Bind.Transport&w.proto == 0 || w.ports.Intersect(s.Ports).IsEmpty() || !bound.IsValid() {
			continue
		}
		switch {
		case bound.IsLoopback() && !local:
			b.Code, b.Short = "path.loopback", "on loopback only"
			b.Why = sentence("%s listens on %s only, for %s itself.", s.Record.Service, bound, r.place(s.Place).Name)
			b.Mend = replace(s.Record, func(l *estate.Listen) { l.Bind.Addr = netip.Addr{} })
		case !bound.IsUnspecified() && !bound.IsLoopback() && !p.Owns(bound):
			b.Code, b.Short = "path.listen-address", sentence("bound to %s", bound)
			b.Why = sentence("%s is bound to %s, which %s does not hold.", s.Record.Service, bound, name)
			b.Mend = replace(s.Record, func(l *estate.Listen) { l.Bind.Addr = netip.Addr{} })
		default:
			b.Short = sentence("bound to %s", bound)
			b.Why = sentence("%s listens on %s only, and the flow is for %s.", s.Record.Service, bound, r.destWord(w))
			b.Mend = replace(s.Record, func(l *estate.Listen) { l.Bind.Addr = netip.Addr{} })
		}
		stop(s.Record)
		on(s)
		return
	}
	for _, mp := range p.Maps {
		if mp.Container == model.Nowhere || local || mp.Record.Bind.Transport&w.proto == 0 || w.ports.Intersect(mp.Ports).IsEmpty() {
			continue
		}
		b.Code, b.Short = "path.loopback", "mapped on loopback"
		b.Why = sentence("%s is mapped on %s only.", mp.Record.Container, mp.Record.Bind.Addr)
		if !mp.Record.Bind.Addr.IsLoopback() {
			b.Code, b.Short = code, sentence("mapped on %s", mp.Record.Bind.Addr)
		}
		b.Mend = replace(mp.Record, func(m *estate.Map) { m.Bind.Addr = netip.Addr{} })
		stop(mp.Record)
		r.throughMap(p, r.place(mp.Container), mp.Pairs, w)
		return
	}
	meant, meantSocket := r.meantSocket(w)
	// Mapped to a port on which the container does not listen.
	if w.mapped != nil && r.place(w.mapped.Container).Stack == p.ID {
		s := meantSocket
		if s == nil || r.place(s.Place).Stack != p.ID {
			s = r.onlySocket(p, w.proto)
		}
		if s != nil {
			inner := s.Ports.Ranges()[0].Lo
			b.Code, b.Short = "path.map-target", sentence("listens on %d", inner)
			b.Why = sentence("The map leads to port %s of %s, which listens on %s.", w.portWord(), name, s.Ports)
			if s.Record.Bind.Addr.IsLoopback() { // to open it is to open it to all beside, meant or not
				b.Why = sentence("The map leads to port %s of %s, which listens on %s for itself only.", w.portWord(), name, s.Ports)
			} else {
				b.Mend = r.mendMap(w.mapped.Record, w.port(), inner)
			}
			stop(w.mapped.Record, s.Record)
			w.ports, w.many = netset.PortsOf(netset.OnePort(inner)), true
			on(s)
			return
		}
	}
	switch {
	case meant == nil:
		stop()
	case meant.Host == p.ID && meant.Stack != p.ID && meantSocket != nil:
		// The service meant is in a container of this machine, and no map leads there.
		inner := r.innerPort(meantSocket, w)
		b.Short = sentence("%s not mapped", w.portWord())
		b.Why = sentence("Nothing on %s of %s: %s listens on %d in %s, and nothing is mapped to it.", w.portWord(), name, meantSocket.Record.Service, inner, meant.Name)
		b.Mend = addLine(&estate.Map{Container: meant.Name, Bind: estate.Bind{Ports: onePort(w.port(), w.proto)}, To: onePort(inner, netset.TCP)})
		stop()
		w.moved = true
		r.throughMap(p, meant, []estate.Pair{{From: netset.OnePort(w.port()), To: inner, Many: true}}, w)
		return
	case meant.Stack == p.ID && meantSocket != nil:
		inner := r.innerPort(meantSocket, w)
		b.Short = sentence("listens on %d", inner)
		b.Why = sentence("Nothing listens on %s of %s; %s listens on %s.", w.portWord(), name, meantSocket.Record.Service, meantSocket.Ports)
		b.Mend, w.standIn = r.mendPort(w, meantSocket, inner)
		stop(meantSocket.Record)
		w.moved = true
		w.ports, w.many = netset.PortsOf(netset.OnePort(inner)), true
		on(meantSocket)
		return
	default:
		stop()
	}
	r.out = append(r.out, landing{way: w, stack: p.ID, local: local})
}

// innerPort is the port of a listener that a flow meant for it should reach: the one asked where
// it is among them.
func (r *run) innerPort(s *model.Socket, w way) uint16 {
	for _, p := range []uint16{w.port(), r.goal.port, w.outerPort()} {
		if s.Ports.Contains(p) {
			return p
		}
	}
	return s.Ports.Ranges()[0].Lo
}

func onePort(p uint16, t netset.Transport) estate.Ports {
	return estate.Ports{Ranges: []netset.PortRange{netset.OnePort(p)}, Transport: t}
}

// throughMap takes a flow on as if a map led into the container.
func (r *run) throughMap(h, c *model.Place, pairs []estate.Pair, w way) {
	if len(c.Legs) == 0 {
		r.out = append(r.out, landing{way: w, stack: h.ID})
		return
	}
	for _, v := range w.translated(pairs) {
		net := r.t.m.Networks[c.Legs[0].Net]
		if !net.Family(v.six) {
			v.six = !v.six
		}
		v.dst = r.containerDest(c.ID, net.ID, v.six)
		r.sockets(r.place(c.Stack), v, false)
	}
}

// mendMap leads one outer port of a map to the right inner one.
func (r *run) mendMap(m *estate.Map, wrong, right uint16) *Mend {
	if m.Bind.Count() == 1 || m.To.Count() == 1 {
		return replace(m, func(n *estate.Map) { n.To = onePort(right, netset.TCP) })
	}
	return replace(m, func(n *estate.Map) {
		n.To.Ranges = slices.Clone(n.To.Ranges)
		for i, rg := range n.To.Ranges {
			if rg == netset.OnePort(wrong) {
				n.To.Ranges[i] = netset.OnePort(right)
			}
		}
	})
}

// mendPort leads a flow to the port on which the service meant listens: the forward that chose the port changes, else a second
// listener comes beside the first, beside says so. It speaks first as the asker does.
func (r *run) mendPort(w way, s *model.Socket, inner uint16) (m *Mend, beside bool) {
	if w.forward != nil && w.forward.Record.Bind.Count() == 1 {
		return replace(w.forward.Record, func(f *estate.Forward) { f.To.Ports = onePort(inner, netset.TCP) }), false
	}
	listen := *s.Record
	listen.Bind = estate.Bind{Ports: onePort(w.port(), w.proto)}
	if r.goal.service == "" {
		w.reads.Everywhere()
		if service := r.serviceOn(w.port(), w.proto); service != "" {
			listen = estate.Listen{Place: listen.Place, Bind: listen.Bind, Service: service}
		}
	}
	if !r.goal.upstream && w.proto == netset.TCP && !listen.Passthrough {
		switch w.outerPort() {
		case 443:
			listen.TLS = true
		case 80:
			listen.TLS, listen.Certs = false, nil
		}
	}
	return addLine(estate.With(&listen, func(*estate.Listen) {})), true
}

// serviceOn is what listens on a port wherever anything does: "" where nothing does, or different things.
func (r *run) serviceOn(port uint16, proto netset.Transport) string {
	found := ""
	for _, p := range r.t.m.Places {
		for i := range p.Sockets {
			s := &p.Sockets[i]
			if s.Record.Bind.Transport&proto == 0 || !s.Ports.Contains(port) {
				continue
			}
			if found != "" && found != s.Record.Service {
				return ""
			}
			found = s.Record.Service
		}
	}
	return found
}

func (r *run) onlySocket(p *model.Place, proto netset.Transport) *model.Socket {
	var found *model.Socket
	for i := range p.Sockets {
		if s := &p.Sockets[i]; s.Record.Bind.Transport&proto != 0 {
			if found != nil && found.Record.Service != s.Record.Service {
				return nil
			}
			if found == nil {
				found = s
			}
		}
	}
	return found
}

// meantSocket is the place meant and the listener there that the flow is meant for.
func (r *run) meantSocket(w way) (*model.Place, *model.Socket) {
	if r.goal.place == model.Nowhere {
		return nil, nil
	}
	p := r.place(r.goal.place)
	var best *model.Socket
	stack := r.place(p.Stack)
	for i := range stack.Sockets {
		s := &stack.Sockets[i]
		if s.Place != p.ID || s.Record.Bind.Transport&w.proto == 0 || r.goal.service != "" && s.Record.Service != r.goal.service {
			continue
		}
		if best == nil || r.goal.port != 0 && s.Ports.Contains(r.goal.port) && !best.Ports.Contains(r.goal.port) ||
			s.Ports.Contains(w.outerPort()) && !best.Ports.Contains(w.outerPort()) {
			best = s
		}
	}
	return p, best
}

func (r *run) meantMachine() *model.Place {
	if r.goal.place == model.Nowhere {
		return nil
	}
	return r.place(r.place(r.goal.place).Host)
}

// meantFrom is an address of the machine meant that a router can be led to.
func (r *run) meantFrom(h *model.Place, v6 bool) (netip.Addr, bool) {
	m := r.meantMachine()
	if m == nil || m == h {
		return netip.Addr{}, false
	}
	for _, leg := range m.Legs {
		for _, a := range leg.Addrs {
			if leg.Gateway || a.Is6() != v6 {
				continue
			}
			if hop := r.t.m.NextHop(h, a); hop.Kind == model.OnLink || hop.Kind == model.Via {
				return a, true
			}
		}
	}
	return netip.Addr{}, false
}

// missingForward is a flow at a router's own address that is meant for another machine, and that no
// forward takes: which line is wrong or missing, and on as if it were right.
func (r *run) missingForward(h *model.Place, in model.NetID, w way) {
	to, known := r.meantFrom(h, w.six)
	port := portWord(w.port(), w.proto)
	b := Break{Code: "path.no-forward", Short: sentence("%s not forwarded", port), Why: sentence("%s does not forward %s.", h.Name, port)}
	shown := []estate.Record{h.Record}
	outer := in == model.NoNet || r.t.m.Outer(h, in)
	hairpin := !outer // as the forward that is missing would be
	inner := netset.Ports{}
	fwd := &estate.Forward{Router: h.Name, Bind: estate.Bind{Ports: onePort(w.port(), w.proto)}, To: estate.Target{Addr: to}, Hairpin: !outer}
	if len(r.t.m.OuterAddrs(h, w.six)) > 1 || !slices.Contains(r.t.m.OuterAddrs(h, w.six), w.dst.addr) {
		fwd.Bind.Addr = w.dst.addr
	}
	if known {
		b.Mend = addLine(fwd)
	}
	follow := func(f *estate.Forward, m *Mend) {
		b.Mend, shown, hairpin = m, []estate.Record{f}, f.Hairpin || !outer && !f.Inside
		if f.Pool == "" && f.To.Addr.Is6() == w.six {
			to, known = f.To.Addr, true
		}
		for _, v := range w.translated(estate.Translate(f.Bind.Ports, f.To.Ports)) {
			inner = v.ports
		}
	}
	if f, why := r.almostForward(h, w, outer); f != nil {
		switch why {
		case "off":
			b.Why = sentence("The forward of %s is recorded, and off.", port)
			follow(f, revive(f))
		case "hairpin":
			b.Code, b.Short = "path.no-hairpin", "not looped back"
			b.Why = sentence("From inside, the public address leads back to %s, which does not loop it back.", h.Name)
			follow(f, replace(f, func(n *estate.Forward) { n.Hairpin = true }))
		case "transport":
			b.Code, b.Short = "path.forward-transport", sentence("forwarded as %s only", f.Bind.Transport)
			b.Why = sentence("%s forwards %s as %s only, and it is asked over %s.", h.Name, f.Bind.List(), f.Bind.Transport, w.proto)
			follow(f, replace(f, func(n *estate.Forward) { n.Bind.Transport = w.proto }))
		case "sources":
			b.Short = sentence("not from %s", orWord(w.src.word, "here"))
			b.Why = sentence("%s forwards %s from %s only.", h.Name, port, selectorWords(f.From))
			follow(f, replace(f, func(n *estate.Forward) { n.From = append(slices.Clone(n.From), r.sourceSelectors(w)...) }))
		case "address":
			b.Code, b.Short = "path.forward-address", sentence("forward is for %s", f.Bind.Addr)
			b.Why = sentence("The forward of %s is for %s, which %s does not answer for.", port, f.Bind.Addr, h.Name)
			follow(f, replace(f, func(n *estate.Forward) { n.Bind.Addr = w.dst.addr }))
		}
	}
	r.stopAt(&w, StageTranslate, h.Name, Shallows, Refused, b, shown...)
	w.wouldForward = false
	if !known { // nothing says where it should lead
		r.out = append(r.out, landing{way: w, stack: h.ID})
		return
	}
	w.translatedBy(h.ID, w.dst)
	w.dst = toAddr(to)
	if !inner.IsEmpty() {
		w.ports, w.many = inner, true
	}
	if h.Owns(to) {
		r.sockets(h, w, false)
		return
	}
	if hairpin {
		hop := r.t.m.NextHop(h, to)
		if a, ok := h.Addr(hop.Net, w.six); ok {
			r.passAs(h, in, w, &a)
			return
		}
	}
	r.pass(h, in, w)
}

// almostForward is a forward that would take the flow but for one thing.
func (r *run) almostForward(h *model.Place, w way, outer bool) (*estate.Forward, string) {
	for _, off := range r.t.m.Off {
		f, ok := off.(*estate.Forward)
		if ok && f.Pool == "" && f.Router == h.Name && f.Bind.Transport&w.proto != 0 && f.Bind.Set().Contains(w.port()) && f.To.Addr.Is6() == w.six &&
			(!f.Bind.Addr.IsValid() || f.Bind.Addr == w.dst.addr) {
			return f, "off"
		}
	}
	var found *estate.Forward
	why := ""
	for _, f := range h.Forwards {
		rec := f.Record
		if !f.Ports.Contains(w.port()) || rec.Pool == "" && rec.To.Addr.Is6() != w.six {
			continue
		}
		takes := r.forwardTakes(h, f, w.dst.addr)
		transport := rec.Bind.Transport&w.proto != 0
		switch {
		case takes && transport && !outer && !rec.Inside && !rec.Hairpin:
			return rec, "hairpin"
		case takes && transport && len(rec.From) > 0:
			found, why = rec, "sources"
		case takes && !transport && why == "":
			found, why = rec, "transport"
		case !takes && transport && rec.Bind.Addr.IsValid() && !h.Owns(rec.Bind.Addr) && !r.routedTo(h, rec.Bind.Addr):
			found, why = rec, "address"
		}
	}
	return found, why
}

// ---- words

// destWord names where a flow goes, for a sentence.
func (r *run) destWord(w way) string {
	if w.dst.float != model.Nowhere {
		return r.place(w.dst.float).Name
	}
	if owners := r.t.m.Owners(w.dst.addr); len(owners) == 1 {
		return r.place(owners[0].Place).Name
	}
	return w.dst.addr.String()
}

// destSelector names where a flow goes, for a rule.
func (r *run) destSelector(w way) (estate.Selector, bool) {
	if w.dst.float != model.Nowhere {
		return estate.Selector{Name: r.place(w.dst.float).Name}, true
	}
	if owners := r.t.m.Owners(w.dst.addr); len(owners) == 1 {
		return estate.Selector{Name: r.place(owners[0].Place).Name}, true
	}
	return estate.Selector{Prefix: netip.PrefixFrom(w.dst.addr, w.dst.addr.BitLen())}, w.dst.addr.IsValid()
}

// sourceSelectors names a flow's sources, for a rule: as the vantage is named while they are its own.
func (r *run) sourceSelectors(w way) []estate.Selector {
	if w.src.float != model.Nowhere {
		return []estate.Selector{{Name: r.place(w.src.float).Name}}
	}
	if w.src.word != "" {
		if w.src.word == "internet" {
			return []estate.Selector{{Word: "internet"}}
		}
		if a, err := netip.ParseAddr(w.src.word); err == nil {
			return []estate.Selector{{Prefix: netip.PrefixFrom(a, a.BitLen())}}
		}
		if p, err := netip.ParsePrefix(w.src.word); err == nil {
			return []estate.Selector{{Prefix: p}}
		}
		return []estate.Selector{{Name: w.src.word}}
	}
	var out []estate.Selector
	for _, p := range w.src.set.Prefixes() {
		if p.IsSingleIP() {
			if owners := r.t.m.Owners(p.Addr()); len(owners) == 1 {
				out = append(out, estate.Selector{Name: r.place(owners[0].Place).Name})
				continue
			}
		}
		out = append(out, estate.Selector{Prefix: p})
	}
	return out
}
