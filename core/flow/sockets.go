package flow

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/say"
)

// sockets is a flow at a namespace: whichever of its listeners takes it.
func (r *run) sockets(p *model.Place, w Part, local bool) {
	w.Reads.Place(p.ID)
	left := w.Ports
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
		w.Add(Step{
			Stage: StageSocket, At: p.Name, Verdict: Unsettled, Ground: Internal, Records: say.Lines(p.Record),
			Why: fmt.Sprintf("The listeners of %s are not written down yet.", p.Name),
		})
		if w.Stopped == "" {
			w.Stopped = Undecided
		}
		r.out = append(r.out, Landing{Part: w, Namespace: p.ID, local: local})
		return
	}
	r.nobodyListens(p, w, local)
}

func (r *run) claims(s *model.Socket, w Part, local bool) netset.Ports {
	if s.Record.Bind.Transport&w.Transport == 0 || !takes(s, w, local) {
		return netset.Ports{}
	}
	return w.Ports.Intersect(s.Ports)
}

func takes(s *model.Socket, w Part, local bool) bool {
	if w.Dst.Addr.IsValid() {
		return s.Takes(w.Dst.Addr, local)
	}
	bound := s.Record.Bind.Addr // some point of a network: any address of the family
	return !bound.IsValid() || bound.IsUnspecified() && bound.Is6() == w.IPv6
}

func (r *run) land(s *model.Socket, p *model.Place, w Part, local bool) {
	w.Add(Step{
		Stage: StageSocket, At: r.place(s.Place).Name, Verdict: Pass, Ground: Internal, Records: say.Lines(s.Record),
		Why: r.say("%s takes it, on %s.", s.Record.Service, w.portWord()),
	})
	if w.Stopped == "" && !w.Ghost {
		w.Took, w.TookPort = s, w.Port()
	}
	r.out = append(r.out, Landing{Part: w, Socket: s, Namespace: p.ID, local: local})
}

// contested is a port that two services claim: which of them runs cannot be told.
func (r *run) contested(p *model.Place, first, second *model.Socket, w Part, local bool) {
	why := fmt.Sprintf("%s and %s both listen on %s of %s; only one of them can.", first.Record.Service, second.Record.Service, w.portWord(), p.Name)
	w.Add(Step{Stage: StageSocket, At: p.Name, Verdict: Unsettled, Ground: Internal, Records: say.Lines(first.Record, second.Record), Why: why})
	w.Stop(Undecided, Break{
		Code: "conflict.socket", At: p.Name, Why: why, Short: fmt.Sprintf("two claim %s", w.portWord()),
		Records: say.Lines(first.Record, second.Record), Subject: fmt.Sprintf("%s:%d/%s", p.Name, w.Port(), w.Transport), Mend: MendSockets(first.Record, second.Record),
	})
	r.out = append(r.out, Landing{Part: w, Socket: first, Namespace: p.ID, local: local})
}

// MendSockets ends a clash of two listeners: the second goes off, for where it belongs is not known.
func MendSockets(first, second *estate.Listen) *Mend {
	return Replace(second, func(l *estate.Listen) { l.Off = true })
}

// Replace is the mend that changes one record.
func Replace[R any, P interface {
	*R
	estate.Record
}](rec P, edit func(P)) *Mend {
	return &Mend{Remove: []string{estate.Line(rec)}, Add: []string{estate.Line(estate.With(rec, edit))}}
}

func Revive(off estate.Record) *Mend {
	return &Mend{Remove: []string{estate.Line(off)}, Add: []string{estate.Line(estate.InForce(off))}}
}

func AddLine(r estate.Record) *Mend {
	if err := estate.Complete(r); err != nil {
		return nil
	}
	return &Mend{Remove: []string{}, Add: []string{estate.Line(r)}}
}

// nobodyListens is a flow at a port that no listener takes: what is missing, and on as if it
// were there.
func (r *run) nobodyListens(p *model.Place, w Part, local bool) {
	if w.Quiet {
		if !w.fruitless() {
			r.out = append(r.out, Landing{Part: w, Namespace: p.ID, local: local})
		}
		return
	}
	name := p.Name
	outcome := Refused
	if w.Transport == netset.UDP && w.Relayed {
		outcome = Silent // behind a port relay nobody says that nobody is there
	}
	code := "path.no-listener"
	if r.goal.Upstream {
		code = "upstream.refused"
	}
	b := Break{Code: code, Short: fmt.Sprintf("nothing on %s", w.portWord()), Why: fmt.Sprintf("Nothing listens on %s of %s.", w.portWord(), name)}
	stop := func(shown ...estate.Record) {
		r.stopAt(&w, StageSocket, name, Internal, outcome, b, shown...)
	}
	on := func(s *model.Socket) { r.land(s, r.place(r.place(s.Place).Namespace), w, local) }

	// An `off` listener or map that would take it.
	for _, off := range r.t.Model.Off {
		switch off := off.(type) {
		case *estate.Listen:
			place := r.t.Model.PlaceNamed(off.Place)
			s := model.Socket{Record: off, Ports: off.Bind.Set()}
			if place == nil || place.Namespace != p.ID || r.claims(&s, w, local).IsEmpty() {
				continue
			}
			s.Place = place.ID
			b.Why = fmt.Sprintf("%s on %s of %s is recorded, and off.", off.Service, w.portWord(), name)
			b.Mend = Revive(off)
			stop(off)
			on(&s)
			return
		case *estate.Map:
			c := r.t.Model.PlaceNamed(off.Container)
			if c == nil || c.Host != p.ID || off.Bind.Transport&w.Transport == 0 || !BindTakes(off.Bind.Addr, w.Dst.Addr, local) || w.Ports.Intersect(off.Bind.Set()).IsEmpty() {
				continue
			}
			b.Why = fmt.Sprintf("The map of %s to %s is recorded, and off.", w.portWord(), off.Container)
			b.Mend = Revive(off)
			stop(off)
			r.throughMap(p, c, estate.Translate(off.Bind.Ports, off.To), w)
			return
		}
	}
	// A listener, or a map, that is bound too narrowly.
	for i := range p.Sockets {
		s := &p.Sockets[i]
		bound := s.Record.Bind.Addr
		if s.Record.Bind.Transport&w.Transport == 0 || w.Ports.Intersect(s.Ports).IsEmpty() || !bound.IsValid() {
			continue
		}
		switch {
		case bound.IsLoopback() && !local:
			b.Code, b.Short = "path.loopback", "on loopback only"
			b.Why = fmt.Sprintf("%s listens on %s only, for %s itself.", s.Record.Service, bound, r.place(s.Place).Name)
			b.Mend = Replace(s.Record, func(l *estate.Listen) { l.Bind.Addr = netip.Addr{} })
		case !bound.IsUnspecified() && !bound.IsLoopback() && !p.Owns(bound):
			b.Code, b.Short = "path.listen-address", fmt.Sprintf("bound to %s", bound)
			b.Why = fmt.Sprintf("%s is bound to %s, which %s does not hold.", s.Record.Service, bound, name)
			b.Mend = Replace(s.Record, func(l *estate.Listen) { l.Bind.Addr = netip.Addr{} })
		default:
			b.Short = fmt.Sprintf("bound to %s", bound)
			b.Why = fmt.Sprintf("%s listens on %s only, and the flow is for %s.", s.Record.Service, bound, r.destWord(w))
			b.Mend = Replace(s.Record, func(l *estate.Listen) { l.Bind.Addr = netip.Addr{} })
		}
		stop(s.Record)
		on(s)
		return
	}
	for _, mp := range p.Maps {
		if mp.Container == model.Nowhere || local || mp.Record.Bind.Transport&w.Transport == 0 || w.Ports.Intersect(mp.Ports).IsEmpty() {
			continue
		}
		shown := []estate.Record{mp.Record}
		switch bound := mp.Record.Bind.Addr; {
		case mp.Net == model.NoNet:
			c := r.place(mp.Container)
			b.Short = "the map takes nothing"
			b.Why = fmt.Sprintf("The map of %s to %s takes nothing: the container is in no recorded network.", w.portWord(), c.Name)
			if c.Namespace == p.ID {
				b.Why = fmt.Sprintf("The map of %s to %s takes nothing: the container shares the machine's own ports.", w.portWord(), c.Name)
			}
			shown, b.Key = append(shown, c.Record), RecordCause(estate.Line(c.Record))
		default:
			b.Code, b.Short = "path.loopback", "mapped on loopback"
			b.Why = fmt.Sprintf("%s is mapped on %s only.", mp.Record.Container, bound)
			if !bound.IsLoopback() {
				b.Code, b.Short = code, fmt.Sprintf("mapped on %s", bound)
			}
			b.Mend = Replace(mp.Record, func(m *estate.Map) { m.Bind.Addr = netip.Addr{} })
		}
		stop(shown...)
		r.throughMap(p, r.place(mp.Container), mp.Pairs, w)
		return
	}
	meant, meantSocket := r.meantSocket(w)
	// Mapped to a port on which the container does not listen.
	if w.Mapped != nil && r.place(w.Mapped.Container).Namespace == p.ID {
		s := meantSocket
		if s == nil || r.place(s.Place).Namespace != p.ID {
			s = r.onlySocket(p, w.Transport)
		}
		if s != nil {
			inner := s.Ports.Ranges()[0].Lo
			b.Code, b.Short = "path.map-target", fmt.Sprintf("listens on %d", inner)
			b.Why = fmt.Sprintf("The map leads to port %s of %s, which listens on %s.", w.portWord(), name, s.Ports)
			if s.Record.Bind.Addr.IsLoopback() { // to open it is to open it to all beside, meant or not
				b.Why = fmt.Sprintf("The map leads to port %s of %s, which listens on %s for itself only.", w.portWord(), name, s.Ports)
			} else {
				b.Mend = r.mendMap(w.Mapped.Record, w.Port(), inner)
			}
			stop(w.Mapped.Record, s.Record)
			w.Ports, w.Many = netset.PortsOf(netset.OnePort(inner)), true
			on(s)
			return
		}
	}
	switch {
	case meant == nil:
		stop()
	case meant.Host == p.ID && meant.Namespace != p.ID && meantSocket != nil:
		// The service meant is in a container of this machine, and no map leads there.
		inner := r.innerPort(meantSocket, w)
		b.Short = fmt.Sprintf("%s not mapped", w.portWord())
		b.Why = fmt.Sprintf("Nothing on %s of %s: %s listens on %d in %s, and nothing is mapped to it.", w.portWord(), name, meantSocket.Record.Service, inner, meant.Name)
		b.Mend = AddLine(&estate.Map{Container: meant.Name, Bind: estate.Bind{Ports: OnePort(w.Port(), w.Transport)}, To: OnePort(inner, netset.TCP)})
		stop()
		w.Moved = true
		r.throughMap(p, meant, []estate.Pair{{From: netset.OnePort(w.Port()), To: inner, Many: true}}, w)
		return
	case meant.Namespace == p.ID && meantSocket != nil:
		inner := r.innerPort(meantSocket, w)
		b.Short = fmt.Sprintf("listens on %d", inner)
		b.Why = fmt.Sprintf("Nothing listens on %s of %s; %s listens on %s.", w.portWord(), name, meantSocket.Record.Service, meantSocket.Ports)
		b.Mend, w.StandIn = r.mendPort(w, meantSocket, inner)
		stop(meantSocket.Record)
		w.Moved = true
		w.Ports, w.Many = netset.PortsOf(netset.OnePort(inner)), true
		on(meantSocket)
		return
	default:
		stop()
	}
	r.out = append(r.out, Landing{Part: w, Namespace: p.ID, local: local})
}

// innerPort is the port of a listener that a flow meant for it should reach: the one asked where
// it is among them.
func (r *run) innerPort(s *model.Socket, w Part) uint16 {
	for _, p := range []uint16{w.Port(), r.goal.Port, w.outerPort()} {
		if s.Ports.Contains(p) {
			return p
		}
	}
	return s.Ports.Ranges()[0].Lo
}

func OnePort(p uint16, t netset.Transport) estate.Ports {
	return estate.Ports{Ranges: []netset.PortRange{netset.OnePort(p)}, Transport: t}
}

// throughMap takes a flow on as if a map led into the container.
func (r *run) throughMap(h, c *model.Place, pairs []estate.Pair, w Part) {
	if c.Namespace == h.ID {
		r.out = append(r.out, Landing{Part: w, Namespace: h.ID})
		return
	}
	for _, v := range w.translated(pairs) {
		if len(c.Attachments) == 0 {
			v.Dst = Dest{Float: c.ID, Net: model.NoNet, Name: c.Name}
			r.sockets(r.place(c.Namespace), v, false)
			continue
		}
		net := r.t.Model.Networks[c.Attachments[0].Net]
		if !net.Family(v.IPv6) {
			v.IPv6 = !v.IPv6
		}
		v.Dst = r.containerDest(c.ID, net.ID, v.IPv6)
		r.sockets(r.place(c.Namespace), v, false)
	}
}

// mendMap leads one outer port of a map to the right inner one.
func (r *run) mendMap(m *estate.Map, wrong, right uint16) *Mend {
	if m.Bind.Count() == 1 || m.To.Count() == 1 {
		return Replace(m, func(n *estate.Map) { n.To = OnePort(right, netset.TCP) })
	}
	return Replace(m, func(n *estate.Map) {
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
func (r *run) mendPort(w Part, s *model.Socket, inner uint16) (m *Mend, beside bool) {
	if w.Forward != nil && w.Forward.Record.Bind.Count() == 1 {
		return Replace(w.Forward.Record, func(f *estate.Forward) { f.To.Ports = OnePort(inner, netset.TCP) }), false
	}
	listen := *s.Record
	listen.Bind = estate.Bind{Ports: OnePort(w.Port(), w.Transport)}
	if r.goal.Service == "" {
		w.Reads.Everywhere()
		if service := r.serviceOn(w.Port(), w.Transport); service != "" {
			listen = estate.Listen{Place: listen.Place, Bind: listen.Bind, Service: service}
		}
	}
	if !r.goal.Upstream && w.Transport == netset.TCP && !listen.Passthrough {
		switch w.outerPort() {
		case 443:
			listen.TLS = true
		case 80:
			listen.TLS, listen.Certs = false, nil
		}
	}
	return AddLine(estate.With(&listen, func(*estate.Listen) {})), true
}

// serviceOn is what listens on a port wherever anything does: "" where nothing does, or different things.
func (r *run) serviceOn(port uint16, proto netset.Transport) string {
	found := ""
	for _, p := range r.t.Model.Places {
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
func (r *run) meantSocket(w Part) (*model.Place, *model.Socket) {
	if r.goal.Place == model.Nowhere {
		return nil, nil
	}
	p := r.place(r.goal.Place)
	var best *model.Socket
	namespace := r.place(p.Namespace)
	for i := range namespace.Sockets {
		s := &namespace.Sockets[i]
		if s.Place != p.ID || s.Record.Bind.Transport&w.Transport == 0 || r.goal.Service != "" && s.Record.Service != r.goal.Service {
			continue
		}
		if best == nil || r.goal.Port != 0 && s.Ports.Contains(r.goal.Port) && !best.Ports.Contains(r.goal.Port) ||
			s.Ports.Contains(w.outerPort()) && !best.Ports.Contains(w.outerPort()) {
			best = s
		}
	}
	return p, best
}

func (r *run) meantMachine() *model.Place {
	if r.goal.Place == model.Nowhere {
		return nil
	}
	return r.place(r.place(r.goal.Place).Host)
}

// meantFrom is an address of the machine meant that a router can be led to.
func (r *run) meantFrom(h *model.Place, v6 bool) (netip.Addr, bool) {
	m := r.meantMachine()
	if m == nil || m == h {
		return netip.Addr{}, false
	}
	for _, attachment := range m.Attachments {
		for _, a := range attachment.Addrs {
			if attachment.Gateway || a.Is6() != v6 {
				continue
			}
			if hop := r.t.Model.NextHop(h, a); hop.Kind == model.OnLink || hop.Kind == model.Via {
				return a, true
			}
		}
	}
	return netip.Addr{}, false
}

// missingForward is a flow at a router's own address that is meant for another machine, and that no
// forward takes: which line is wrong or missing, and on as if it were right.
func (r *run) missingForward(h *model.Place, in model.NetID, w Part) {
	to, known := r.meantFrom(h, w.IPv6)
	port := say.PortWord(w.Port(), w.Transport)
	b := Break{Code: "path.no-forward", Short: fmt.Sprintf("%s not forwarded", port), Why: fmt.Sprintf("%s does not forward %s.", h.Name, port)}
	shown := []estate.Record{h.Record}
	outer := in == model.NoNet || r.t.Model.Outer(h, in)
	hairpin := !outer // as the forward that is missing would be
	inner := netset.Ports{}
	fwd := &estate.Forward{Router: h.Name, Bind: estate.Bind{Ports: OnePort(w.Port(), w.Transport)}, To: estate.Target{Addr: to}, Hairpin: !outer}
	if len(r.t.Model.OuterAddrs(h, w.IPv6)) > 1 || !slices.Contains(r.t.Model.OuterAddrs(h, w.IPv6), w.Dst.Addr) {
		fwd.Bind.Addr = w.Dst.Addr
	}
	if known {
		b.Mend = AddLine(fwd)
	}
	follow := func(f *estate.Forward, m *Mend) {
		b.Mend, shown, hairpin = m, []estate.Record{f}, f.Hairpin || !outer && !f.Inside
		if f.Pool == "" && f.To.Addr.Is6() == w.IPv6 {
			to, known = f.To.Addr, true
		}
		for _, v := range w.translated(estate.Translate(f.Bind.Ports, f.To.Ports)) {
			inner = v.Ports
		}
	}
	if f, why := r.almostForward(h, w, outer); f != nil {
		switch why {
		case "off":
			b.Why = fmt.Sprintf("The forward of %s is recorded, and off.", port)
			follow(f, Revive(f))
		case "hairpin":
			b.Code, b.Short = "path.no-hairpin", "not looped back"
			b.Why = fmt.Sprintf("From inside, the public address leads back to %s, which does not loop it back.", h.Name)
			follow(f, Replace(f, func(n *estate.Forward) { n.Hairpin = true }))
		case "transport":
			b.Code, b.Short = "path.forward-transport", fmt.Sprintf("forwarded as %s only", f.Bind.Transport)
			b.Why = fmt.Sprintf("%s forwards %s as %s only, and it is asked over %s.", h.Name, f.Bind.List(), f.Bind.Transport, w.Transport)
			follow(f, Replace(f, func(n *estate.Forward) { n.Bind.Transport = w.Transport }))
		case "sources":
			b.Short = fmt.Sprintf("not from %s", cmp.Or(w.Src.word, "here"))
			b.Why = fmt.Sprintf("%s forwards %s from %s only.", h.Name, port, say.SelectorWords(f.From))
			follow(f, Replace(f, func(n *estate.Forward) { n.From = append(slices.Clone(n.From), r.sourceSelectors(w)...) }))
		case "address":
			b.Code, b.Short = "path.forward-address", fmt.Sprintf("forward is for %s", f.Bind.Addr)
			b.Why = fmt.Sprintf("The forward of %s is for %s, which %s does not answer for.", port, f.Bind.Addr, h.Name)
			follow(f, Replace(f, func(n *estate.Forward) { n.Bind.Addr = w.Dst.Addr }))
		}
	}
	r.stopAt(&w, StageTranslate, h.Name, Edge, Refused, b, shown...)
	w.WouldForward = false
	if !known { // nothing says where it should lead
		r.out = append(r.out, Landing{Part: w, Namespace: h.ID})
		return
	}
	w.translatedBy(h.ID, w.Dst)
	w.Dst = ToAddr(to)
	if !inner.IsEmpty() {
		w.Ports, w.Many = inner, true
	}
	if h.Owns(to) {
		r.sockets(h, w, false)
		return
	}
	if hairpin {
		hop := r.t.Model.NextHop(h, to)
		if a, ok := h.Addr(hop.Net, w.IPv6); ok {
			r.passAs(h, in, w, &a)
			return
		}
	}
	r.pass(h, in, w)
}

// almostForward is a forward that would take the flow but for one thing.
func (r *run) almostForward(h *model.Place, w Part, outer bool) (*estate.Forward, string) {
	for _, off := range r.t.Model.Off {
		f, ok := off.(*estate.Forward)
		if ok && f.Pool == "" && f.Router == h.Name && f.Bind.Transport&w.Transport != 0 && f.Bind.Set().Contains(w.Port()) && f.To.Addr.Is6() == w.IPv6 &&
			(!f.Bind.Addr.IsValid() || f.Bind.Addr == w.Dst.Addr) {
			return f, "off"
		}
	}
	var found *estate.Forward
	why := ""
	for _, f := range h.Forwards {
		rec := f.Record
		if !f.Ports.Contains(w.Port()) || rec.Pool == "" && rec.To.Addr.Is6() != w.IPv6 {
			continue
		}
		takes := r.forwardTakes(h, f, w.Dst.Addr)
		transport := rec.Bind.Transport&w.Transport != 0
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
func (r *run) destWord(w Part) string {
	if w.Dst.Float != model.Nowhere {
		return r.place(w.Dst.Float).Name
	}
	if owners := r.t.Model.Owners(w.Dst.Addr); len(owners) == 1 {
		return r.place(owners[0].Place).Name
	}
	return w.Dst.Addr.String()
}

// destSelector names where a flow goes, for a rule.
func (r *run) destSelector(w Part) (estate.Selector, bool) {
	if w.Dst.Float != model.Nowhere {
		return estate.Selector{Name: r.place(w.Dst.Float).Name}, true
	}
	if owners := r.t.Model.Owners(w.Dst.Addr); len(owners) == 1 {
		return estate.Selector{Name: r.place(owners[0].Place).Name}, true
	}
	return estate.Selector{Prefix: netip.PrefixFrom(w.Dst.Addr, w.Dst.Addr.BitLen())}, w.Dst.Addr.IsValid()
}

// sourceSelectors names a flow's sources, for a rule: as the vantage is named while they are its own.
func (r *run) sourceSelectors(w Part) []estate.Selector {
	if w.Src.Float != model.Nowhere {
		return []estate.Selector{{Name: r.place(w.Src.Float).Name}}
	}
	if w.Src.word != "" {
		if w.Src.word == "internet" {
			return []estate.Selector{{Word: "internet"}}
		}
		if a, err := netip.ParseAddr(w.Src.word); err == nil {
			return []estate.Selector{{Prefix: netip.PrefixFrom(a, a.BitLen())}}
		}
		if p, err := netip.ParsePrefix(w.Src.word); err == nil {
			return []estate.Selector{{Prefix: p}}
		}
		return []estate.Selector{{Name: w.Src.word}}
	}
	var out []estate.Selector
	for _, p := range w.Src.Set.Prefixes() {
		if p.IsSingleIP() {
			if owners := r.t.Model.Owners(p.Addr()); len(owners) == 1 {
				out = append(out, estate.Selector{Name: r.place(owners[0].Place).Name})
				continue
			}
		}
		out = append(out, estate.Selector{Prefix: p})
	}
	return out
}
