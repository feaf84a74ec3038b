package trace

import (
	"net/netip"
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// maxRelays is how many fronts a request passes before it counts as going round.
const maxRelays = 16

// relay is a front that has handed a request on.
type relay struct {
	listen     *estate.Listen
	site       *estate.Site
	name, path string // asked
}

// handOn is a front that hands a request on: a new flow from where the front stands.
func (s *serving) handOn(f served, l landing, rec *estate.Site, q request) {
	m := s.t.m
	place := m.Places[l.sock.Place]
	this := relay{l.sock.Record, rec, q.name, q.path}
	if slices.Contains(s.relays, this) || len(s.relays) >= maxRelays {
		f.stop(Loop, Break{
			Code: "upstream.loop", At: place.Name, Subject: s.goal.subject, Short: "hands on in a ring",
			Why: sentence("The request comes back to %s, which handed it on before.", place.Name), Records: lines(rec),
		})
		s.finish(f)
		return
	}
	next := s.nextRequest(rec, q)
	if l.sock.Record.Passthrough && next.speech == speaksStream {
		next.client = true // the backend's certificate is the client's to check
	}
	f.walk(Step{Stage: StageUpstream, At: place.Name, Verdict: Pass, Ground: Land, Records: lines(rec), Why: sentence("Hands on to %s.", rec.To)})

	inner := *s
	inner.out = nil
	inner.relays = append(slices.Clone(s.relays), this)
	inner.handing = rec
	inner.o = origin{place: place.ID, net: model.NoNet}
	before := f.stopped

	g := s.goal
	g.upstream = true
	g.place, g.service, g.port = model.Nowhere, "", 0
	if s.intent != nil && s.intent.Reaching.Host != "" {
		if p := m.PlaceNamed(s.intent.Reaching.Host); p != nil && p.ID != place.ID {
			g.place = p.ID
		}
	}
	w := f.way
	w.leg++
	w.src = source{float: model.Nowhere, net: model.NoNet}
	w.held, w.mapped, w.forward, w.wouldForward, w.relayed, w.hops = nil, nil, nil, false, false, 0
	w.proto = rec.To.Transport()
	w.ports = netset.PortsOf(netset.OnePort(rec.To.EffectivePort()))
	w.shift, w.many = 0, true
	w.name = next.name

	dests := s.resolveUpstream(place, rec, &w, &g)
	g.noted(s.t, w.reads)
	if len(dests) == 0 {
		w.cell().Backend = rec.To.String()
		inner.finish(served{way: w, place: model.Nowhere, urlpath: q.path})
	}
	// The addresses are tried in turn; the first that arrives decides, else the first.
	var first []served
	for i, d := range dests {
		v := w
		v.dst = d
		try := inner
		for _, l := range s.t.deliver(inner.o, v, g) {
			l.asked = next.name
			try.land(l, next)
		}
		if i == 0 {
			first = try.out
		}
		if allGood(try.out) {
			first = try.out
			break
		}
	}
	inner.out = append(inner.out, first...)
	for _, r := range inner.out {
		r.urlpath, r.defaulted, r.site = f.urlpath, f.defaulted, f.site
		r.src, r.origins = f.src, f.origins
		if before == "" && r.stopped != "" && r.stopped != Undecided && r.stopped != Loop {
			if r.stopped == Outside {
				// What the front hands on to is not ours: it leaves, and is no fault.
			} else if r.stopped != GatewayError {
				r.inner, r.stopped = r.stopped, GatewayError
			}
		}
		r.fronts = append([]Front{frontOf(place.Name, l, rec, r)}, r.fronts...)
		if r.handedBy == nil {
			r.handedBy, r.handedFrom = rec, place.Name
		}
		if r.cells.Backend == "" {
			r.cell().Backend = rec.To.Endpoint.String()
		}
		s.finish(r)
	}
}

// frontOf is one place that handed a request on, by what became of it.
func frontOf(place string, l landing, rec *estate.Site, became served) Front {
	f := Front{Place: place, Port: l.port(), TLS: l.sock.Record.TLS, Site: rec}
	if len(became.fronts) > 0 {
		f.To, f.ToPort = became.fronts[0].Place, became.fronts[0].Port
	} else if became.end != "" {
		f.To, _, _ = strings.Cut(became.end, ":")
		f.ToPort = became.port
	}
	return f
}

func allGood(list []served) bool {
	for _, r := range list {
		if r.stopped != "" {
			return false
		}
	}
	return len(list) > 0
}

// nextRequest is what a front asks of its backend.
func (s *serving) nextRequest(rec *estate.Site, q request) request {
	next := request{name: q.name, path: q.path, pathGiven: q.pathGiven, port: rec.To.EffectivePort(), verified: rec.Verified}
	switch rec.Asking {
	case "", "kept":
	case "upstream":
		next.name = rec.To.Host
	default:
		next.name = rec.Asking
	}
	next.handshake = rec.To.Host
	if rec.Asking != "" && rec.Asking != "kept" {
		next.handshake = next.name
	}
	switch rec.To.Scheme {
	case "http":
		next.speech = speaksPlain
	case "https", "tls":
		next.speech = speaksTLS
	default:
		next.speech, next.handshake = speaksStream, q.handshake
	}
	if path := rec.To.Path; path != "" {
		prefix, _ := pathOf(&model.Site{Record: rec})
		rest := strings.TrimPrefix(q.path, prefix)
		next.path = strings.TrimSuffix(path, "/") + "/" + strings.TrimPrefix(rest, "/")
	}
	return next
}

// resolveUpstream finds what the host part of a URL is, from where the service stands, and
// notes what is wrong with it.
func (s *serving) resolveUpstream(place *model.Place, rec *estate.Site, w *way, g *goal) []dest {
	m := s.t.m
	u := rec.To
	stack := m.Places[place.Stack]
	if u.Host == "localhost" || u.Addr.IsValid() && u.Addr.IsLoopback() {
		return s.localhost(place, stack, rec, w, g)
	}
	if u.Addr.IsValid() {
		return []dest{toAddr(u.Addr)}
	}
	if c, net := s.t.beside(place, u.Host); c != nil {
		g.place = c.ID
		s.mappedPort(c, rec, w)
		var out []dest
		for _, v6 := range []bool{true, false} {
			if a, ok := c.Addr(net, v6); ok {
				out = append(out, toAddr(a))
			}
		}
		if len(out) == 0 {
			out = append(out, dest{float: c.ID, net: net, name: c.Name})
		}
		return out
	}
	if p := m.PlaceNamed(u.Host); p != nil {
		g.place = p.ID
		if out := s.t.addressesFrom(place, p); len(out) > 0 {
			return out
		}
	}
	v6, v4 := m.Names.Addresses(u.Host, m.AskerAt(place.ID, model.NoNet))
	w.reads.Asked(slices.Concat(v6.Chain, v4.Chain)...)
	var out []dest
	for _, a := range slices.Concat(v6.Addresses, v4.Addresses) {
		if a.Addr.IsValid() {
			out = append(out, toAddr(a.Addr))
		}
	}
	if len(out) > 0 {
		var links []estate.Record
		for _, l := range slices.Concat(v6.Links, v4.Links) {
			links = append(links, l.Record)
		}
		w.walk(Step{Stage: StageResolve, At: place.Name, Verdict: Pass, Ground: Land, Records: lines(links...), Why: sentence("%s resolves there to %s.", u.Host, destWords(out))})
		return out
	}
	b := Break{
		Code: "upstream.unresolved", At: place.Name, Subject: s.goal.subject, Short: sentence("%s unknown", u.Host),
		Why: sentence("%s does not resolve from %s.", u.Host, place.Name), Records: lines(rec),
	}
	out = s.instead(place, rec, w, g, &b, 0)
	w.walk(Step{Stage: StageResolve, At: place.Name, Verdict: Broken, Ground: Land, Records: lines(rec), Why: b.Why})
	w.stop(Unresolved, b)
	return out
}

func destWords(list []dest) string {
	var out []string
	for _, d := range list {
		out = append(out, d.addr.String())
	}
	return strings.Join(out, ", ")
}

// localhost is the place itself, in both families.
func (s *serving) localhost(place, stack *model.Place, rec *estate.Site, w *way, g *goal) []dest {
	loop := []netip.Addr{netip.IPv6Loopback(), netip.AddrFrom4([4]byte{127, 0, 0, 1})}
	if a := rec.To.Addr; a.IsValid() {
		loop = []netip.Addr{a}
	}
	var out []dest
	port := rec.To.EffectivePort()
	for _, a := range loop {
		for i := range stack.Sockets {
			sock := &stack.Sockets[i]
			if sock.Record.Bind.Transport&w.proto != 0 && sock.Ports.Contains(port) && sock.Takes(a, true) {
				return []dest{toAddr(a)}
			}
		}
		if !stack.IsContainer() {
			for _, mp := range stack.Maps {
				if mp.Record.Bind.Transport&w.proto != 0 && mp.Ports.Contains(port) && bindTakes(mp.Record.Bind.Addr, a, true) {
					return []dest{toAddr(a)}
				}
			}
		}
	}
	out = []dest{toAddr(loop[len(loop)-1])}
	for _, off := range s.t.m.Off {
		if l, ok := off.(*estate.Listen); ok && l.Bind.Set().Contains(port) {
			if p := s.t.m.PlaceNamed(l.Place); p != nil && p.Stack == stack.ID {
				return out
			}
		}
	}
	if stack.Unlisted {
		return out
	}
	b := Break{Code: "upstream.localhost", At: place.Name, Subject: s.goal.subject, Short: sentence("localhost is %s", place.Name), Records: lines(rec)}
	b.Why = sentence("localhost is %s itself; nothing listens there on %d.", place.Name, port)
	target := s.elsewhere(place, stack, port, w.proto)
	if target == nil {
		return out // refused, plainly
	}
	g.place = target.ID
	instead := s.instead(place, rec, w, g, &b, port)
	w.walk(Step{Stage: StageUpstream, At: place.Name, Verdict: Broken, Ground: Land, Records: lines(rec), Why: b.Why})
	w.stop(Refused, b)
	if len(instead) == 0 {
		return out
	}
	return instead
}

// elsewhere is the place meant, or another place of the machine that listens on a port.
func (s *serving) elsewhere(place, stack *model.Place, port uint16, proto netset.Transport) *model.Place {
	m := s.t.m
	if s.intent != nil && s.intent.Reaching.Host != "" {
		if p := m.PlaceNamed(s.intent.Reaching.Host); p != nil && p.Stack != stack.ID {
			return p
		}
	}
	for _, id := range append([]model.PlaceID{place.Host}, m.Places[place.Host].Containers...) {
		p := m.Places[id]
		if p.Stack == stack.ID || p.Stack != p.ID {
			continue
		}
		for i := range p.Sockets {
			if s := &p.Sockets[i]; s.Record.Bind.Transport&proto != 0 && s.Ports.Contains(port) {
				return m.Places[s.Place]
			}
		}
	}
	return nil
}

// instead finds how the place meant is reached from a front, makes that the break's mend, and
// gives where the flow goes on to.
func (s *serving) instead(place *model.Place, rec *estate.Site, w *way, g *goal, b *Break, port uint16) []dest {
	m := s.t.m
	if g.place == model.Nowhere {
		return nil
	}
	target := m.Places[g.place]
	inner, ok := s.t.portOf(target, 0)
	if p, has := s.t.portOf(target, port); has && port != 0 {
		inner, ok = p, true
	}
	if s.intent != nil && s.intent.Reaching.Host == target.Name && s.intent.Reaching.Port != 0 {
		inner, ok = s.intent.Reaching.Port, true
	}
	if !ok || target.ID == place.ID {
		return nil
	}
	u, ok := s.t.urlFrom(place, target, inner)
	if !ok {
		return nil
	}
	u.Scheme, u.Path = rec.To.Scheme, rec.To.Path
	b.Mend = replace(rec, func(n *estate.Site) { n.To = u })
	b.Why += sentence(" %s is reached as %s.", target.Name, u.Endpoint)
	w.ports = netset.PortsOf(netset.OnePort(u.EffectivePort()))
	if u.Addr.IsValid() {
		return []dest{toAddr(u.Addr)}
	}
	if c, net := s.t.beside(place, u.Host); c != nil {
		if a, ok := c.Addr(net, false); ok {
			return []dest{toAddr(a)}
		}
		if a, ok := c.Addr(net, true); ok {
			return []dest{toAddr(a)}
		}
		return []dest{{float: c.ID, net: net, name: c.Name}}
	}
	if p := m.PlaceNamed(u.Host); p != nil {
		return s.t.addressesFrom(place, p)
	}
	return nil
}

// mappedPort is a front beside a container that asks for its outer port.
func (s *serving) mappedPort(c *model.Place, rec *estate.Site, w *way) {
	port := w.port()
	stack := s.t.m.Places[c.Stack]
	for i := range stack.Sockets {
		if sock := &stack.Sockets[i]; sock.Record.Bind.Transport&w.proto != 0 && sock.Ports.Contains(port) {
			return
		}
	}
	for _, mp := range s.t.m.Places[c.Host].Maps {
		if mp.Container != c.ID || mp.Record.Bind.Transport&w.proto == 0 {
			continue
		}
		for _, p := range mp.Pairs {
			if !p.From.Contains(port) {
				continue
			}
			inner := p.Inner(port)
			why := sentence("From beside it %s is reached on its own port, %d; %d is the outer port of its map.", c.Name, inner, port)
			w.walk(Step{Stage: StageUpstream, At: c.Name, Verdict: Broken, Ground: Land, Records: lines(rec, mp.Record), Why: why})
			w.stop(Refused, Break{
				Code: "upstream.mapped-port", At: c.Name, Subject: s.goal.subject, Short: sentence("%d is outer", port), Why: why, Records: lines(rec, mp.Record),
				Mend: replace(rec, func(n *estate.Site) { n.To.Port = inner }),
			})
			w.ports = netset.PortsOf(netset.OnePort(inner))
			return
		}
	}
}

// ---- where places are, seen from a place

// beside is a container that shares a container network with a place and goes by a name there.
func (t *Tracer) beside(place *model.Place, name string) (*model.Place, model.NetID) {
	if !place.IsContainer() || place.Stack != place.ID {
		return nil, model.NoNet
	}
	for i := range place.Legs {
		net := t.m.Networks[place.Legs[i].Net]
		for _, id := range net.Members {
			c := t.m.Places[id]
			if !c.IsContainer() {
				continue
			}
			_, short, _ := strings.Cut(c.Name, "/")
			rec := c.Record.(*estate.Container)
			if short == name || slices.Contains(rec.Aliases, name) {
				return c, net.ID
			}
		}
	}
	return nil, model.NoNet
}

// Means are the places, as stacks, that the host part of a URL or an endpoint is, seen from a place; from nowhere in
// particular where that is nil. What it resolves to counts, not what stands behind a forward.
func (t *Tracer) Means(from *model.Place, e estate.Endpoint) []model.PlaceID {
	var out []model.PlaceID
	add := func(a netip.Addr) {
		for _, h := range t.m.Owners(a) {
			out = append(out, t.m.Places[h.Place].Stack)
		}
	}
	switch {
	case e.Host == "localhost" || e.Addr.IsValid() && e.Addr.IsLoopback():
		if from != nil {
			out = append(out, from.Stack)
		}
		return out
	case e.Addr.IsValid():
		add(e.Addr)
		return out
	}
	asker := t.m.AskerAt(model.Nowhere, model.Internet)
	if from != nil {
		if c, _ := t.beside(from, e.Host); c != nil {
			return []model.PlaceID{c.Stack}
		}
		asker = t.m.AskerAt(from.ID, model.NoNet)
	}
	if p := t.m.PlaceNamed(e.Host); p != nil {
		return []model.PlaceID{p.Stack}
	}
	v6, v4 := t.m.Names.Addresses(e.Host, asker)
	for _, a := range slices.Concat(v6.Addresses, v4.Addresses) {
		add(a.Addr)
	}
	return out
}

// addressesFrom are the addresses of a place that another can be led to, as they are written down:
// gateways are not tried.
func (t *Tracer) addressesFrom(from, target *model.Place) []dest {
	stack := t.m.Places[target.Stack]
	if from.Stack == stack.ID {
		return []dest{toAddr(netip.AddrFrom4([4]byte{127, 0, 0, 1}))}
	}
	var out []dest
	for _, leg := range stack.Legs {
		if leg.Gateway {
			continue
		}
		for _, a := range leg.Addrs {
			if t.led(from, a) {
				out = append(out, toAddr(a))
			}
		}
	}
	slices.SortStableFunc(out, func(a, b dest) int {
		if a.addr.Is6() == b.addr.Is6() {
			return 0
		}
		if a.addr.Is6() {
			return -1
		}
		return 1
	})
	return out
}

// led says whether a place's ways lead to the holder of an address.
func (t *Tracer) led(from *model.Place, a netip.Addr) bool {
	host := t.m.Places[from.Host]
	if host.Owns(a) {
		return true
	}
	for _, leg := range t.m.Places[from.Stack].Legs {
		if t.m.Networks[leg.Net].Set.Contains(a) {
			return true
		}
	}
	if !t.sends(t.m.Places[from.Stack], a.Is6()) {
		return false
	}
	hop := t.m.NextHop(host, a)
	return hop.Kind == model.OnLink || hop.Kind == model.Via
}

// sends says whether a place has, or may have, an address of a family to send from.
func (t *Tracer) sends(stack *model.Place, v6 bool) bool {
	return slices.ContainsFunc(stack.Legs, func(l model.Leg) bool {
		if stack.IsContainer() {
			return t.m.Networks[l.Net].Family(v6)
		}
		return l.Unknown || len(l.Blocks) > 0 || slices.ContainsFunc(l.Addrs, func(a netip.Addr) bool { return a.Is6() == v6 })
	})
}

// portOf is the port on which a place is listened to: the one asked for if it is among them, else the first.
func (t *Tracer) portOf(p *model.Place, want uint16) (uint16, bool) {
	stack := t.m.Places[p.Stack]
	first := uint16(0)
	for i := range stack.Sockets {
		s := &stack.Sockets[i]
		if s.Place != p.ID || s.Ports.IsEmpty() {
			continue
		}
		if want != 0 && s.Ports.Contains(want) {
			return want, true
		}
		if first == 0 {
			first = s.Ports.Ranges()[0].Lo
		}
	}
	return first, first != 0 && want == 0
}

// urlFrom is how a place is asked for from another: by its name where they share a container
// network, else by an address that leads there and, for a container, the port mapped to it.
func (t *Tracer) urlFrom(from, target *model.Place, port uint16) (estate.URL, bool) {
	u := estate.URL{Scheme: "http"}
	u.Port = port
	if from.Stack == target.Stack {
		u.Host = "localhost"
		return u, true
	}
	if target.IsContainer() && target.Stack == target.ID {
		_, short, _ := strings.Cut(target.Name, "/")
		if c, _ := t.beside(from, short); c == target {
			u.Host = short
			return u, true
		}
		host := t.m.Places[target.Host]
		for _, mp := range host.Maps {
			if mp.Container != target.ID {
				continue
			}
			for _, p := range mp.Pairs {
				if p.To == port {
					for _, d := range t.addressesFrom(from, host) {
						u.Addr, u.Port = d.addr, p.From.Lo
						return u, true
					}
				}
			}
		}
		return u, false
	}
	for _, d := range t.addressesFrom(from, target) {
		if d.addr.Is4() || !u.Addr.IsValid() {
			u.Addr = d.addr
		}
	}
	return u, u.Addr.IsValid()
}

// OneLetterOff says whether two names differ by one letter added, left out, changed or moved.
func OneLetterOff(a, b string) bool {
	if a == b || len(a) > 253 || len(b) > 253 {
		return false
	}
	if levenshtein.ComputeDistance(a, b) == 1 {
		return true
	}
	if len(a) != len(b) { // two neighbours that changed places
		return false
	}
	for i := 0; i+1 < len(a); i++ {
		if a[i] != b[i] {
			return a[i] == b[i+1] && a[i+1] == b[i] && a[i+2:] == b[i+2:]
		}
	}
	return false
}
