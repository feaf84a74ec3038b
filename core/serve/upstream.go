package serve

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/say"
)

// maxRelays is how many fronts a request passes before it counts as going round.
const maxRelays = 16

// relay is a front that has handed a request on.
type relay struct {
	listen     *estate.Listen
	site       *estate.Site
	name, path string // asked
}

// upstream is where a front hands a request on to.
type upstream struct {
	site   *estate.Site
	to     estate.URL
	member *estate.Member // of the site's pool, where it has one
}

// records are the lines that say so.
func (u *upstream) records() []estate.Record {
	if u.member != nil {
		return []estate.Record{u.site, u.member}
	}
	return []estate.Record{u.site}
}

// aimed is the mend that lets it hand on elsewhere.
func (u *upstream) aimed(to estate.URL) *flow.Mend {
	if u.member == nil {
		return flow.Replace(u.site, func(n *estate.Site) { n.To = to })
	}
	to.Port = to.EffectivePort()
	return flow.Replace(u.member, func(n *estate.Member) { n.At = to.Endpoint })
}

// spoken is the mend that lets it speak another scheme, to the same port.
func (u *upstream) spoken(scheme string) *flow.Mend {
	return flow.Replace(u.site, func(n *estate.Site) {
		if n.Pool != "" {
			n.Speaking = scheme
			return
		}
		n.To.Port, n.To.Scheme = n.To.EffectivePort(), scheme
	})
}

// handOn is a front that hands a request on: a new flow, from where the front stands or where its tunnel ends.
func (s *serving) handOn(f Served, l flow.Landing, from *model.Place, up upstream, q Request) {
	m := s.t.Model
	place, rec := m.Places[l.Socket.Place], up.site
	this := relay{l.Socket.Record, rec, q.Name, q.Path}
	if slices.Contains(s.relays, this) || len(s.relays) >= maxRelays {
		f.Stop(flow.Loop, flow.Break{
			Code: "upstream.loop", At: place.Name, Subject: s.goal.Subject, Short: "hands on in a ring",
			Why: fmt.Sprintf("The request comes back to %s, which handed it on before.", place.Name), Records: say.Lines(rec),
		})
		s.finish(f)
		return
	}
	next := nextRequest(&up, q)
	if l.Socket.Record.Passthrough && next.Speech == speaksStream {
		next.Client = true // the backend's certificate is the client's to check
	}
	f.Add(flow.Step{Stage: flow.StageUpstream, At: from.Name, Verdict: flow.Pass, Ground: flow.Internal, Records: say.Lines(up.records()...), Why: fmt.Sprintf("Hands on to %s.", up.to)})

	inner := *s
	inner.out = nil
	inner.relays = append(slices.Clone(s.relays), this)
	inner.handing = &up
	before := f.Stopped

	g := s.goal
	g.Upstream = true
	g.Place, g.Service, g.Port = model.Nowhere, "", 0
	if s.intent != nil && s.intent.Reaching.Host != "" {
		if p := m.PlaceNamed(s.intent.Reaching.Host); p != nil && p.ID != place.ID {
			g.Place = p.ID
		}
	}
	inner.made(f.Part, from, &up, next, g)
	for _, r := range inner.out {
		r.URLPath, r.Defaulted, r.Site = f.URLPath, f.Defaulted, f.Site
		r.Src, r.Origins = f.Src, f.Origins
		if before == "" && r.Stopped != "" && r.Stopped != flow.Undecided && r.Stopped != flow.Loop && !r.Redirect { // where it is sent, the client goes itself
			if r.Stopped == flow.Outside {
				// What the front hands on to is not ours: it leaves, and is no fault.
			} else if r.Stopped != flow.GatewayError {
				r.Inner, r.Stopped = r.Stopped, flow.GatewayError
			}
		}
		r.Fronts = append([]Front{frontOf(place.Name, l, rec, r)}, r.Fronts...)
		if r.handedBy == nil {
			r.handedBy, r.handedFrom = &up, from.Name
		}
		if r.Cells.Backend == "" {
			r.Cell().Backend = up.to.Endpoint.String()
		}
		s.finish(r)
	}
}

// made follows a flow that a program of ours makes at a place, behind what came before, to whatever answers the request.
func (s *serving) made(w flow.Part, from *model.Place, up *upstream, next Request, g flow.Goal) {
	s.o = flow.Origin{Place: from.ID, Net: model.NoNet}
	w.Handed++
	w.Src = flow.Source{Float: model.Nowhere, Net: model.NoNet}
	w.Met, w.Mapped, w.Forward, w.WouldForward, w.Relayed, w.Hops = nil, nil, nil, false, false, 0
	w.Transport = up.to.Transport()
	w.Ports = netset.PortsOf(netset.OnePort(next.Port))
	w.Shift, w.Many = 0, true
	w.Name = next.Name
	dests := s.resolveUpstream(from, up, &w, &g)
	g.Noted(s.t.Model, w.Reads)
	if len(dests) == 0 {
		w.Cell().Backend = up.to.String()
		s.finish(Served{Part: w, place: model.Nowhere, URLPath: next.Path})
		return
	}
	// The addresses are tried in turn; the first that arrives decides, else the first.
	var first []Served
	for i, d := range dests {
		v := w
		v.Dst = d
		try := *s
		try.out = nil
		for _, l := range s.t.Deliver(s.o, v, g) {
			l.AskedWord = next.Name
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
	s.out = append(s.out, first...)
}

// frontOf is one place that handed a request on, by what became of it.
func frontOf(place string, l flow.Landing, rec *estate.Site, became Served) Front {
	f := Front{Place: place, Port: l.Port(), TLS: l.Socket.Record.TLS, Site: rec}
	if len(became.Fronts) > 0 {
		f.To, f.ToPort = became.Fronts[0].Place, became.Fronts[0].Port
	} else if became.end != "" {
		f.To, _, _ = strings.Cut(became.end, ":")
		f.ToPort = became.port
	}
	return f
}

func allGood(list []Served) bool {
	for _, r := range list {
		if r.Stopped != "" {
			return false
		}
	}
	return len(list) > 0
}

// nextRequest is what a front asks of its backend.
func nextRequest(up *upstream, q Request) Request {
	rec := up.site
	next := Request{Name: q.Name, Path: q.Path, PathGiven: q.PathGiven, Port: up.to.EffectivePort(), verified: rec.Verified, challenge: q.challenge}
	switch rec.Asking {
	case "", "kept":
	case "upstream":
		next.Name = up.to.Host
	default:
		next.Name = rec.Asking
	}
	next.Handshake = up.to.Host
	if rec.Asking != "" && rec.Asking != "kept" {
		next.Handshake = next.Name
	}
	switch up.to.Scheme {
	case "http":
		next.Speech = SpeaksPlain
	case "https", "tls":
		next.Speech = SpeaksTLS
	default:
		next.Speech, next.Handshake = speaksStream, q.Handshake
	}
	if path := up.to.Path; path != "" {
		prefix, _ := pathOf(&model.Site{Record: rec})
		rest := strings.TrimPrefix(q.Path, prefix)
		next.Path = strings.TrimSuffix(path, "/") + "/" + strings.TrimPrefix(rest, "/")
	}
	return next
}

// resolveUpstream finds what the host part of a URL is, from where the service stands, and
// notes what is wrong with it.
func (s *serving) resolveUpstream(place *model.Place, up *upstream, w *flow.Part, g *flow.Goal) []flow.Dest {
	m := s.t.Model
	u := up.to
	namespace := m.Places[place.Namespace]
	if u.Host == "localhost" || u.Addr.IsValid() && u.Addr.IsLoopback() {
		return s.localhost(place, namespace, up, w, g)
	}
	if u.Addr.IsValid() {
		return []flow.Dest{flow.ToAddr(u.Addr)}
	}
	if c, net := s.t.beside(place, u.Host); c != nil {
		g.Place = c.ID
		s.mappedPort(c, up, w)
		var out []flow.Dest
		for _, v6 := range []bool{true, false} {
			if a, ok := c.Addr(net, v6); ok {
				out = append(out, flow.ToAddr(a))
			}
		}
		if len(out) == 0 {
			out = append(out, flow.Dest{Float: c.ID, Net: net, Name: c.Name})
		}
		return out
	}
	if p := m.PlaceNamed(u.Host); p != nil {
		g.Place = p.ID
		if out := s.t.addressesFrom(place, p); len(out) > 0 {
			return out
		}
	}
	v6, v4 := m.Names.Addresses(u.Host, m.AskerAt(place.ID, model.NoNet))
	w.Reads.Asked(slices.Concat(v6.Chain, v4.Chain)...)
	var out []flow.Dest
	for _, a := range slices.Concat(v6.Addresses, v4.Addresses) {
		if a.Addr.IsValid() {
			out = append(out, flow.ToAddr(a.Addr))
		}
	}
	if len(out) > 0 {
		var links []estate.Record
		for _, l := range slices.Concat(v6.Links, v4.Links) {
			links = append(links, l.Record)
		}
		w.Add(flow.Step{Stage: flow.StageResolve, At: place.Name, Verdict: flow.Pass, Ground: flow.Internal, Records: say.Lines(links...), Why: fmt.Sprintf("%s resolves there to %s.", u.Host, destWords(out))})
		return out
	}
	b := flow.Break{
		Code: "upstream.unresolved", At: place.Name, Subject: s.goal.Subject, Short: fmt.Sprintf("%s unknown", u.Host),
		Why: fmt.Sprintf("%s does not resolve from %s.", u.Host, place.Name), Records: say.Lines(up.records()...),
	}
	out = s.instead(place, up, w, g, &b, 0)
	w.Add(flow.Step{Stage: flow.StageResolve, At: place.Name, Verdict: flow.Broken, Ground: flow.Internal, Records: say.Lines(up.records()...), Why: b.Why})
	w.Stop(flow.Unresolved, b)
	return out
}

func destWords(list []flow.Dest) string {
	var out []string
	for _, d := range list {
		out = append(out, d.Addr.String())
	}
	return strings.Join(out, ", ")
}

// localhost is the place itself, in both families.
func (s *serving) localhost(place, namespace *model.Place, up *upstream, w *flow.Part, g *flow.Goal) []flow.Dest {
	loop := []netip.Addr{netip.IPv6Loopback(), netip.AddrFrom4([4]byte{127, 0, 0, 1})}
	if a := up.to.Addr; a.IsValid() {
		loop = []netip.Addr{a}
	}
	var out []flow.Dest
	port := up.to.EffectivePort()
	for _, a := range loop {
		for i := range namespace.Sockets {
			sock := &namespace.Sockets[i]
			if sock.Record.Bind.Transport&w.Transport != 0 && sock.Ports.Contains(port) && sock.Takes(a, true) {
				return []flow.Dest{flow.ToAddr(a)}
			}
		}
		if !namespace.IsContainer() {
			for _, mp := range namespace.Maps {
				if mp.Record.Bind.Transport&w.Transport != 0 && mp.Ports.Contains(port) && flow.BindTakes(mp.Record.Bind.Addr, a, true) {
					return []flow.Dest{flow.ToAddr(a)}
				}
			}
		}
	}
	out = []flow.Dest{flow.ToAddr(loop[len(loop)-1])}
	for _, off := range s.t.Model.Off {
		if l, ok := off.(*estate.Listen); ok && l.Bind.Set().Contains(port) {
			if p := s.t.Model.PlaceNamed(l.Place); p != nil && p.Namespace == namespace.ID {
				return out
			}
		}
	}
	if namespace.Unlisted {
		return out
	}
	b := flow.Break{Code: "upstream.localhost", At: place.Name, Subject: s.goal.Subject, Short: fmt.Sprintf("localhost is %s", place.Name), Records: say.Lines(up.records()...)}
	b.Why = fmt.Sprintf("localhost is %s itself; nothing listens there on %d.", place.Name, port)
	target := s.elsewhere(place, namespace, port, w.Transport)
	if target == nil {
		return out // refused, plainly
	}
	g.Place = target.ID
	instead := s.instead(place, up, w, g, &b, port)
	w.Add(flow.Step{Stage: flow.StageUpstream, At: place.Name, Verdict: flow.Broken, Ground: flow.Internal, Records: say.Lines(up.records()...), Why: b.Why})
	w.Stop(flow.Refused, b)
	if len(instead) == 0 {
		return out
	}
	return instead
}

// elsewhere is the place meant, or another place of the machine that listens on a port.
func (s *serving) elsewhere(place, namespace *model.Place, port uint16, proto netset.Transport) *model.Place {
	m := s.t.Model
	if s.intent != nil && s.intent.Reaching.Host != "" {
		if p := m.PlaceNamed(s.intent.Reaching.Host); p != nil && p.Namespace != namespace.ID {
			return p
		}
	}
	for _, id := range append([]model.PlaceID{place.Host}, m.Places[place.Host].Containers...) {
		p := m.Places[id]
		if p.Namespace == namespace.ID || p.Namespace != p.ID {
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
func (s *serving) instead(place *model.Place, up *upstream, w *flow.Part, g *flow.Goal, b *flow.Break, port uint16) []flow.Dest {
	m := s.t.Model
	if g.Place == model.Nowhere {
		return nil
	}
	target := m.Places[g.Place]
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
	u.Scheme, u.Path = up.to.Scheme, up.to.Path
	b.Mend = up.aimed(u)
	b.Why += fmt.Sprintf(" %s is reached as %s.", target.Name, u.Endpoint)
	w.Ports = netset.PortsOf(netset.OnePort(u.EffectivePort()))
	if u.Addr.IsValid() {
		return []flow.Dest{flow.ToAddr(u.Addr)}
	}
	if c, net := s.t.beside(place, u.Host); c != nil {
		if a, ok := c.Addr(net, false); ok {
			return []flow.Dest{flow.ToAddr(a)}
		}
		if a, ok := c.Addr(net, true); ok {
			return []flow.Dest{flow.ToAddr(a)}
		}
		return []flow.Dest{{Float: c.ID, Net: net, Name: c.Name}}
	}
	if p := m.PlaceNamed(u.Host); p != nil {
		return s.t.addressesFrom(place, p)
	}
	return nil
}

// mappedPort is a front beside a container that asks for its outer port.
func (s *serving) mappedPort(c *model.Place, up *upstream, w *flow.Part) {
	port := w.Port()
	namespace := s.t.Model.Places[c.Namespace]
	for i := range namespace.Sockets {
		if sock := &namespace.Sockets[i]; sock.Record.Bind.Transport&w.Transport != 0 && sock.Ports.Contains(port) {
			return
		}
	}
	for _, mp := range s.t.Model.Places[c.Host].Maps {
		if mp.Container != c.ID || mp.Record.Bind.Transport&w.Transport == 0 {
			continue
		}
		for _, p := range mp.Pairs {
			if !p.From.Contains(port) {
				continue
			}
			inner := p.Inner(port)
			own := up.to
			own.Port = inner
			why := fmt.Sprintf("From beside it %s is reached on its own port, %d; %d is the outer port of its map.", c.Name, inner, port)
			w.Add(flow.Step{Stage: flow.StageUpstream, At: c.Name, Verdict: flow.Broken, Ground: flow.Internal, Records: say.Lines(append(up.records(), mp.Record)...), Why: why})
			w.Stop(flow.Refused, flow.Break{
				Code: "upstream.mapped-port", At: c.Name, Subject: s.goal.Subject, Short: fmt.Sprintf("%d is outer", port), Why: why, Records: say.Lines(append(up.records(), mp.Record)...),
				Mend: up.aimed(own),
			})
			w.Ports = netset.PortsOf(netset.OnePort(inner))
			return
		}
	}
}

// ---- where places are, seen from a place

// beside is a container that shares a container network with a place and goes by a name there.
func (t *Engine) beside(place *model.Place, name string) (*model.Place, model.NetID) {
	if !place.IsContainer() || place.Namespace != place.ID {
		return nil, model.NoNet
	}
	for i := range place.Attachments {
		net := t.Model.Networks[place.Attachments[i].Net]
		for _, id := range net.Members {
			c := t.Model.Places[id]
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

// Means are the places, as namespaces, that the host part of a URL or an endpoint is, seen from a place; from nowhere in
// particular where that is nil. What it resolves to counts, not what stands behind a forward.
func (t *Engine) Means(from *model.Place, e estate.Endpoint) []model.PlaceID {
	var out []model.PlaceID
	add := func(a netip.Addr) {
		for _, h := range t.Model.Owners(a) {
			out = append(out, t.Model.Places[h.Place].Namespace)
		}
	}
	switch {
	case e.Host == "localhost" || e.Addr.IsValid() && e.Addr.IsLoopback():
		if from != nil {
			out = append(out, from.Namespace)
		}
		return out
	case e.Addr.IsValid():
		add(e.Addr)
		return out
	}
	asker := t.Model.AskerAt(model.Nowhere, model.Internet)
	if from != nil {
		if c, _ := t.beside(from, e.Host); c != nil {
			return []model.PlaceID{c.Namespace}
		}
		asker = t.Model.AskerAt(from.ID, model.NoNet)
	}
	if p := t.Model.PlaceNamed(e.Host); p != nil {
		return []model.PlaceID{p.Namespace}
	}
	v6, v4 := t.Model.Names.Addresses(e.Host, asker)
	for _, a := range slices.Concat(v6.Addresses, v4.Addresses) {
		add(a.Addr)
	}
	return out
}

// addressesFrom are the addresses of a place that another can be led to, as they are written down:
// gateways are not tried.
func (t *Engine) addressesFrom(from, target *model.Place) []flow.Dest {
	namespace := t.Model.Places[target.Namespace]
	if from.Namespace == namespace.ID {
		return []flow.Dest{flow.ToAddr(netip.AddrFrom4([4]byte{127, 0, 0, 1}))}
	}
	var out []flow.Dest
	for _, attachment := range namespace.Attachments {
		if attachment.Gateway {
			continue
		}
		for _, a := range attachment.Addrs {
			if t.led(from, a) {
				out = append(out, flow.ToAddr(a))
			}
		}
	}
	slices.SortStableFunc(out, func(a, b flow.Dest) int {
		if a.Addr.Is6() == b.Addr.Is6() {
			return 0
		}
		if a.Addr.Is6() {
			return -1
		}
		return 1
	})
	return out
}

// led says whether a place's ways lead to the holder of an address.
func (t *Engine) led(from *model.Place, a netip.Addr) bool {
	host := t.Model.Places[from.Host]
	if host.Owns(a) {
		return true
	}
	for _, attachment := range t.Model.Places[from.Namespace].Attachments {
		if t.Model.Networks[attachment.Net].Set.Contains(a) {
			return true
		}
	}
	if !t.sends(t.Model.Places[from.Namespace], a.Is6()) {
		return false
	}
	hop := t.Model.NextHop(host, a)
	return hop.Kind == model.OnLink || hop.Kind == model.Via
}

// sends says whether a place has, or may have, an address of a family to send from.
func (t *Engine) sends(namespace *model.Place, v6 bool) bool {
	return slices.ContainsFunc(namespace.Attachments, func(l model.Attachment) bool {
		if namespace.IsContainer() {
			return t.Model.Networks[l.Net].Family(v6)
		}
		return l.Unknown || len(l.Blocks) > 0 || slices.ContainsFunc(l.Addrs, func(a netip.Addr) bool { return a.Is6() == v6 })
	})
}

// portOf is the port on which a place is listened to: the one asked for if it is among them, else the first.
func (t *Engine) portOf(p *model.Place, want uint16) (uint16, bool) {
	namespace := t.Model.Places[p.Namespace]
	first := uint16(0)
	for i := range namespace.Sockets {
		s := &namespace.Sockets[i]
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
func (t *Engine) urlFrom(from, target *model.Place, port uint16) (estate.URL, bool) {
	u := estate.URL{Scheme: "http"}
	u.Port = port
	if from.Namespace == target.Namespace {
		u.Host = "localhost"
		return u, true
	}
	if target.IsContainer() && target.Namespace == target.ID {
		_, short, _ := strings.Cut(target.Name, "/")
		if c, _ := t.beside(from, short); c == target {
			u.Host = short
			return u, true
		}
		host := t.Model.Places[target.Host]
		for _, mp := range host.Maps {
			if mp.Container != target.ID {
				continue
			}
			for _, p := range mp.Pairs {
				if p.To == port {
					for _, d := range t.addressesFrom(from, host) {
						u.Addr, u.Port = d.Addr, p.From.Lo
						return u, true
					}
				}
			}
		}
		return u, false
	}
	for _, d := range t.addressesFrom(from, target) {
		if d.Addr.Is4() || !u.Addr.IsValid() {
			u.Addr = d.Addr
		}
	}
	return u, u.Addr.IsValid()
}

// OneLetterOff says whether two names differ by one letter added, left out, changed or moved.
func OneLetterOff(a, b string) bool {
	if d := len(a) - len(b); a == b || d > 1 || d < -1 || len(a) > 253 {
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
