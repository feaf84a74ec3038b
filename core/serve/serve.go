package serve

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/netset"
	"steady-compass/core/say"
)

// Speech is how a client begins.
type Speech uint8

const (
	SpeaksByPort Speech = iota // TLS on 443 and wherever the listener ends or hands on TLS
	SpeaksTLS
	SpeaksPlain
	speaksStream // hands on what it got, as it stands
)

// Front is a place that handed a request on, by a site, and where it came to from there.
type Front struct {
	Place  string
	Port   uint16 // where it took the request
	TLS    bool   // encrypted up to there
	Site   *estate.Site
	To     string // where it came to; "" where it got nowhere
	ToPort uint16
}

// Request is what is asked of a listener.
type Request struct {
	Name      string // the name asked; "" for a bare address
	Handshake string // the name in the TLS handshake
	Certified string // an address that the certificate is held against, where the handshake has no name
	Port      uint16
	Speech    Speech
	Path      string
	PathGiven bool // else one branch for each path that the sites tell apart
	verified  bool // the certificate is checked though a front of ours asks
	Client    bool // a visitor asks, not a front
}

// Served is a branch that has come to its end.
type Served struct {
	flow.Part
	end       string // place:port; "" where nobody took it
	place     model.PlaceID
	port      uint16
	service   string
	URLPath   string
	Redirect  bool
	Defaulted *model.Site // the site that took it, though none has its name

	handedBy   *estate.Site // the last site that handed it on, and where that stands
	handedFrom string
	Fronts     []Front      // all that handed it on
	Site       *estate.Site // that took it
}

// serving takes landings through TLS and sites to what answers.
type serving struct {
	t       *Engine
	o       flow.Origin
	v       *flow.Vantage
	goal    flow.Goal
	place   *model.Place // the place that the client asked for, where it asked for one
	intent  *estate.Intent
	relays  []relay      // so far
	visited []string     // requests that redirects led to
	handing *estate.Site // the site of a front that handed the request on; nil for a client's own
	out     []Served
}

func (s *serving) finish(f Served) { s.out = append(s.out, f) }

// land takes one landing on, as far as its replies come back.
func (s *serving) land(l flow.Landing, q Request) {
	lost := s.t.Replies(&l, s.o)
	s.landed(l, q)
	if lost != nil {
		s.landed(*lost, q)
	}
}

func (s *serving) landed(l flow.Landing, q Request) {
	m := s.t.Model
	if l.Socket == nil {
		f := Served{Part: l.Part, place: model.Nowhere, URLPath: q.Path}
		if l.Namespace != model.Nowhere && m.Places[l.Namespace].Outside {
			f.place, f.end, f.port = l.Namespace, fmt.Sprintf("%s:%d", m.Places[l.Namespace].Name, l.Port()), l.Port()
			c := f.Cell()
			c.Machine, c.Backend = m.Places[l.Namespace].Name, f.end
			if f.Stopped == "" {
				f.Took, f.Outside = nil, f.end
			}
		}
		s.finish(f)
		return
	}
	service := m.Service(l.Socket.Record.Service)
	l.Reads.Service(service.Name)
	place := m.Places[l.Socket.Place]
	w := l.Part
	if w.Handed == 0 {
		c := w.Cell()
		c.Machine, c.Service = place.Name, service.Name
	}
	here := Served{Part: w, end: fmt.Sprintf("%s:%d", place.Name, w.Port()), place: place.ID, port: w.Port(), service: service.Name, URLPath: q.Path}

	door := endpointOf(service, &w)
	group, how := door.Pick(siteAsked(q, l), l.Socket.Record)
	tlsHere := l.Socket.Record.TLS || l.Socket.Record.Passthrough
	speaks := speaksFirst(q, w.Transport, tlsHere) || q.Speech == speaksStream && w.Encrypted
	w.Encrypted = speaks
	if w.Handed == 0 {
		w.SpokeTLS = speaks
	}
	switch {
	case w.StandIn && q.Client: // it is not there yet, and would speak as it is spoken to
		if w.StandIn = false; speaks && !l.Socket.Record.Passthrough {
			s.certificate(&w, l, q, group, place)
			w.Encrypted = false
		}
	case l.Socket.Record.TLS && !speaks:
		s.mismatch(&w, l, q, place, "plain", fmt.Sprintf("%s expects TLS on %d, and is spoken to in the clear.", service.Name, w.Port()))
	case !tlsHere && speaks && q.Speech != speaksStream:
		s.mismatch(&w, l, q, place, "TLS", fmt.Sprintf("%s is spoken to in TLS on %d, and speaks in the clear.", service.Name, w.Port()))
		if q.Client {
			s.certificate(&w, l, q, group, place)
		}
		w.Encrypted = false
	case l.Socket.Record.TLS:
		if q.Client || q.verified {
			s.certificate(&w, l, q, group, place)
		} else {
			w.Add(flow.Step{Stage: flow.StageTLS, At: place.Name, Verdict: flow.Pass, Ground: flow.Internal, Records: say.Lines(l.Socket.Record), Why: "TLS ends here; the certificate is not checked."})
		}
		w.Encrypted = false
	}
	here.Part = w
	if len(service.Sites) == 0 && !service.Closed {
		w.Add(flow.Step{Stage: flow.StageEnd, At: place.Name, Verdict: flow.Pass, Ground: flow.Internal, Records: say.Lines(l.Socket.Record), Why: fmt.Sprintf("Served by %s.", service.Name)})
		w.Cell().Backend = here.end
		here.Part = w
		s.finish(here)
		return
	}
	if len(group) == 0 {
		s.unanswered(here, l, q, door)
		return
	}
	paths := []string{q.Path}
	if !q.PathGiven {
		paths = sitePaths(group)
	}
	for _, path := range paths {
		f, p := here, q
		f.URLPath, p.Path, p.PathGiven = path, path, true
		site := byPath(group, path)
		if site == nil {
			f.Stop(flow.Unanswered, flow.Break{
				Code: "site.none", At: place.Name, Subject: s.goal.Subject, Short: "no such path",
				Why: fmt.Sprintf("No site of %s for that name takes the path %s.", service.Name, path), Records: say.Lines(records(group)...),
			})
			s.finish(f)
			continue
		}
		if how == ByDefault {
			f.Defaulted = site
		}
		s.act(f, l, site, how, p)
	}
}

// speaksFirst says whether a request begins with a TLS handshake: what a URL says, else as browsers do on 443 and 80 over tcp, else as
// the listener does.
func speaksFirst(q Request, proto netset.Transport, tlsHere bool) bool {
	switch {
	case q.Speech != SpeaksByPort:
		return q.Speech == SpeaksTLS
	case proto == netset.TCP && q.Port == 443:
		return true
	case proto == netset.TCP && q.Port == 80:
		return false
	}
	return tlsHere
}

func records(sites []*model.Site) []estate.Record {
	var out []estate.Record
	for _, s := range sites {
		out = append(out, s.Record)
	}
	return out
}

func siteAsked(q Request, l flow.Landing) string {
	switch {
	case l.Socket.Record.Passthrough:
		return q.Handshake
	case q.Name != "":
		return q.Name
	}
	return l.AskedWord
}

// ---- picking a site

type picked uint8

const (
	byName picked = iota
	byWildcard
	byAny
	ByDefault
)

// Endpoint is an address and port at which a service is asked for a site.
type Endpoint struct {
	Service *model.Service
	Addr    netip.Addr // the zero address where the flow has none
	Port    uint16
}

func endpointOf(service *model.Service, w *flow.Part) Endpoint {
	return Endpoint{service, w.Dst.Addr, w.Port()}
}

// has says whether a site is picked among there.
func (d Endpoint) has(s *model.Site) bool {
	if !s.Ports.IsEmpty() && !s.Ports.Contains(d.Port) {
		return false
	}
	a := s.Record.At.Addr
	return !a.IsValid() || a.IsUnspecified() || a == d.Addr
}

// atItself says whether a site names that very address and port.
func (d Endpoint) atItself(s *model.Site) bool {
	return d.Addr.IsValid() && s.Record.At.Addr == d.Addr && s.Ports.Contains(d.Port)
}

// among are those of some sites that are picked among there.
func (d Endpoint) among(sites []*model.Site) []*model.Site {
	if d.Service.ByAddress && slices.ContainsFunc(d.Service.Sites, d.atItself) { // the others at the port are for other addresses
		var out []*model.Site
		for _, s := range sites {
			if d.has(s) && (s.Ports.IsEmpty() || d.atItself(s)) {
				out = append(out, s)
			}
		}
		return out
	}
	if !slices.ContainsFunc(sites, func(s *model.Site) bool { return !d.has(s) }) {
		return sites
	}
	var out []*model.Site
	for _, s := range sites {
		if d.has(s) {
			out = append(out, s)
		}
	}
	return out
}

// Sites are all that are picked among there.
func (d Endpoint) Sites() []*model.Site { return d.among(d.Service.Sites) }

// Pick gives the sites that a name picks: exact, else the longest wildcard, else "*", else the
// default, else, where the listener says so, the first. Where it says in-order, of those that fit a name the first written.
func (d Endpoint) Pick(name string, l *estate.Listen) ([]*model.Site, picked) {
	named := func(name string) []*model.Site { return d.among(d.Service.Named(name)) }
	if name != "" && l.InOrder {
		for _, s := range d.Sites() {
			if s.Name == name {
				return named(name), byName
			}
			if base, wild := strings.CutPrefix(s.Name, "*."); wild && names.Under(name, base) && name != base {
				return named(s.Name), byWildcard
			}
		}
	} else if name != "" {
		if group := named(name); len(group) > 0 {
			return group, byName
		}
		if _, err := netip.ParseAddr(name); err != nil {
			for up, ok := names.Parent(name); ok; up, ok = names.Parent(up) {
				if group := named("*." + up); len(group) > 0 {
					return group, byWildcard
				}
			}
		}
	}
	if group := named("*"); len(group) > 0 {
		return group, byAny
	}
	candidates := d.Service.Defaults()
	if l.FirstAnswers {
		candidates = slices.Concat(candidates, d.Service.Sites)
	}
	if i := slices.IndexFunc(candidates, d.has); i >= 0 {
		return named(candidates[i].Name), ByDefault
	}
	return nil, byName
}

// sitePaths are the URL paths that a group of sites tells apart.
func sitePaths(group []*model.Site) []string {
	var out []string
	for _, s := range group {
		p, how := pathOf(s)
		if p == "" {
			p = "/"
		}
		if how == pathUnder && byPath(group, p) != s { // another takes that path alone
			p = strings.TrimSuffix(p, "/") + "/"
		}
		if !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	slices.Sort(out)
	return out
}

// pathMatch is how a site's path is held against the one asked.
type pathMatch uint8

const (
	pathUnder  pathMatch = iota // by whole segments
	pathBegins                  // by letters
	pathAlone                   // that one path
)

// pathOf is a site's path, without what says how it is held against the one asked.
func pathOf(s *model.Site) (string, pathMatch) {
	p := s.Record.Path
	if rest, alone := strings.CutPrefix(p, "="); alone {
		return rest, pathAlone
	}
	if rest, begins := strings.CutSuffix(p, "*"); begins {
		return rest, pathBegins
	}
	return strings.TrimSuffix(p, "/"), pathUnder
}

// byPath is the site with the very path that is asked, else the one with the longest that this is under or begins with.
func byPath(group []*model.Site, path string) *model.Site {
	var best *model.Site
	longest := -1
	for _, s := range group {
		p, how := pathOf(s)
		switch {
		case how == pathAlone && p == path:
			return s
		case how == pathUnder && (path == p || strings.HasPrefix(path, p+"/") || p == ""), how == pathBegins && strings.HasPrefix(path, p):
			if len(p) > longest {
				best, longest = s, len(p)
			}
		}
	}
	return best
}

// ---- TLS

func (s *serving) mismatch(w *flow.Part, l flow.Landing, q Request, place *model.Place, spoken, why string) {
	b := flow.Break{Code: "site.speech", At: place.Name, Short: spoken + " spoken", Why: why, Records: say.Lines(l.Socket.Record), Subject: s.goal.Subject}
	switch {
	case !q.Client:
		b.Code = "upstream.scheme"
		if s.handing != nil {
			b.Records = say.Lines(s.handing, l.Socket.Record)
			b.Mend = flow.Replace(s.handing, func(n *estate.Site) { n.To.Scheme = otherScheme(n.To.Scheme) })
			if s.handing.To.Port == 0 {
				b.Mend = flow.Replace(s.handing, func(n *estate.Site) {
					n.To.Port = n.To.EffectivePort()
					n.To.Scheme = otherScheme(n.To.Scheme)
				})
			}
		}
	default:
		b.Mend = flow.Replace(l.Socket.Record, func(n *estate.Listen) { n.TLS = !n.TLS })
	}
	w.Add(flow.Step{Stage: flow.StageTLS, At: place.Name, Verdict: flow.Broken, Ground: flow.Internal, Records: b.Records, Why: why})
	w.Stop(flow.Mismatched, b)
}

func otherScheme(scheme string) string {
	return map[string]string{"http": "https", "https": "http", "tcp": "tls", "tls": "tcp"}[scheme]
}

// Covers says whether a certificate has a name: exactly, or by a wildcard of one label (RFC 9525 §6.3).
func Covers(c *estate.Cert, name string) bool {
	for _, n := range c.For {
		if n == name {
			return true
		}
		if base, ok := strings.CutPrefix(n, "*."); ok {
			if up, has := names.Parent(name); has && up == base {
				return true
			}
		}
	}
	return false
}

// certificate checks what the listener shows: the site's or the listener's own, else one that lies there.
func (s *serving) certificate(w *flow.Part, l flow.Landing, q Request, group []*model.Site, place *model.Place) {
	name := q.Handshake
	held := cmp.Or(q.Certified, name)
	var listed []*estate.Cert
	var wanted *estate.Cert // one that would do, and is not issued yet
	add := func(certName string) {
		switch c := s.t.Model.Certs[certName]; {
		case c == nil || slices.Contains(listed, c):
		case c.Expires == "":
			if Covers(c, name) {
				wanted = c
			}
		default:
			listed = append(listed, c)
		}
	}
	own := false
	for _, site := range group {
		if site.Record.Cert != "" {
			add(site.Record.Cert)
			own = true
		}
	}
	if !own {
		for _, c := range l.Socket.Record.Certs {
			add(c)
		}
	}
	if len(listed) == 0 {
		for _, c := range s.t.Model.CertList {
			if slices.Contains(c.On, place.Name) && (name == "" || Covers(c, name)) {
				add(c.Name)
			}
		}
	}
	cert := bestCert(listed, name, s.t.day)
	b := flow.Break{At: place.Name, Subject: s.goal.Subject}
	outcome := flow.Outcome("")
	switch {
	case cert == nil && wanted != nil:
		outcome, b.Code, b.Short = flow.Untrusted, "cert.missing", "not issued yet"
		b.Why = fmt.Sprintf("The certificate %s for %s is wanted on %s, and not issued yet.", wanted.Name, cmp.Or(name, "a bare address"), place.Name)
		b.Records = say.Lines(wanted, l.Socket.Record)
	case cert == nil:
		outcome, b.Code, b.Short = flow.Untrusted, "cert.missing", "no certificate"
		b.Why = fmt.Sprintf("%s has no certificate for %s.", l.Socket.Record.Service, cmp.Or(name, "a bare address"))
		b.Records = say.Lines(l.Socket.Record)
		if name != "" {
			b.Mend = s.newCert(l, name, group, place)
		}
	case held != "" && !Covers(cert, held):
		outcome, b.Code, b.Short = flow.Untrusted, "cert.names", "not on certificate"
		b.Why = fmt.Sprintf("Certificate %s covers %s, and not %s.", cert.Name, strings.Join(cert.For, ", "), held)
		b.Records = say.Lines(cert, l.Socket.Record)
		b.Mend = s.newCert(l, held, group, place)
	case s.t.day != "" && cert.Expires < s.t.day:
		outcome, b.Code, b.Short = flow.Untrusted, "cert.expired", fmt.Sprintf("expired %s", cert.Expires)
		b.Why = fmt.Sprintf("Certificate %s expired on %s.", cert.Name, cert.Expires)
		b.Records, b.Subject = say.Lines(cert), cert.Name
	case cert.Trial:
		outcome, b.Code, b.Short = flow.Untrusted, "cert.trial", "trial certificate"
		b.Why = fmt.Sprintf("Certificate %s is a trial one, which no visitor trusts.", cert.Name)
		b.Records, b.Subject = say.Lines(cert), cert.Name
		b.Mend = s.trusted(cert, l, group)
	}
	if outcome != "" {
		w.Add(flow.Step{Stage: flow.StageTLS, At: place.Name, Verdict: flow.Broken, Ground: flow.Internal, Records: b.Records, Why: b.Why})
		w.Stop(outcome, b)
		return
	}
	w.Add(flow.Step{Stage: flow.StageTLS, At: place.Name, Verdict: flow.Pass, Ground: flow.Internal, Records: say.Lines(cert), Why: fmt.Sprintf("TLS ends here, with certificate %s, valid until %s.", cert.Name, cert.Expires)})
}

// bestCert is the certificate that a listener shows for a name: one that covers it and is valid, before one
// that covers it, before the first.
func bestCert(list []*estate.Cert, name string, day estate.Date) *estate.Cert {
	if len(list) == 0 {
		return nil
	}
	if name == "" {
		return list[0]
	}
	var covering *estate.Cert
	for _, c := range list {
		if !Covers(c, name) {
			continue
		}
		if c.Expires >= day && !c.Trial {
			return c
		}
		if covering == nil {
			covering = c
		}
	}
	if covering != nil {
		return covering
	}
	return list[0]
}

// newCert shows a certificate for a name: one that lies there already, else one that is wanted, since until when it will be valid
// only the world knows. What shows another now shows it.
func (s *serving) newCert(l flow.Landing, name string, group []*model.Site, place *model.Place) *flow.Mend {
	names, own := []string{name}, false
	for _, site := range group {
		if old := s.t.Model.Certs[site.Record.Cert]; old != nil { // its other names are to be on what comes in its place
			own = true
			for _, other := range site.Record.Names {
				if !slices.Contains(names, other) && Covers(old, other) {
					names = append(names, other)
				}
			}
		}
	}
	m := &flow.Mend{Remove: []string{}, Add: []string{}}
	shown := s.lying(names, place)
	if shown == "" {
		shown = l.Socket.Record.Service
		for i := 2; s.t.Model.Certs[shown] != nil; i++ {
			shown = fmt.Sprintf("%s-%d", l.Socket.Record.Service, i)
		}
		wanted := flow.AddLine(&estate.Cert{Name: shown, For: names, On: []string{place.Name}, Renew: estate.NotGiven, Every: estate.NotGiven})
		if wanted == nil {
			return nil
		}
		m.Add = wanted.Add
	}
	also := func(change *flow.Mend) {
		m.Remove, m.Add = append(m.Remove, change.Remove...), append(m.Add, change.Add...)
	}
	for _, site := range group {
		if site.Record.Cert != "" {
			also(flow.Replace(site.Record, func(n *estate.Site) { n.Cert = shown }))
		}
	}
	if !own && len(l.Socket.Record.Certs) > 0 {
		also(flow.Replace(l.Socket.Record, func(n *estate.Listen) { n.Certs = append(slices.Clone(n.Certs), shown) }))
	}
	return m
}

// trusted is a certificate that is wanted in the place of a trial one, with all its names.
func (s *serving) trusted(trial *estate.Cert, l flow.Landing, group []*model.Site) *flow.Mend {
	free := trial.Name + "-2"
	for i := 3; s.t.Model.Certs[free] != nil; i++ {
		free = fmt.Sprintf("%s-%d", trial.Name, i)
	}
	m := &flow.Mend{Remove: []string{}, Add: say.Lines(estate.With(trial, func(n *estate.Cert) { n.Name, n.Expires, n.Trial = free, "", false }))}
	also := func(change *flow.Mend) {
		m.Remove, m.Add = append(m.Remove, change.Remove...), append(m.Add, change.Add...)
	}
	for _, site := range group {
		if site.Record.Cert == trial.Name {
			also(flow.Replace(site.Record, func(n *estate.Site) { n.Cert = free }))
		}
	}
	if i := slices.Index(l.Socket.Record.Certs, trial.Name); i >= 0 {
		also(flow.Replace(l.Socket.Record, func(n *estate.Listen) {
			n.Certs = slices.Clone(n.Certs)
			n.Certs[i] = free
		}))
	}
	return m
}

// lying is a certificate that lies at a place, has all of some names and can be trusted; "" for none.
func (s *serving) lying(names []string, place *model.Place) string {
	for _, c := range s.t.Model.CertList {
		if slices.Contains(c.On, place.Name) && c.Expires != "" && c.Expires >= s.t.day && !c.Trial &&
			!slices.ContainsFunc(names, func(n string) bool { return !Covers(c, n) }) {
			return c.Name
		}
	}
	return ""
}

// ---- no site

// unanswered is a name that no site has: what would mend it, and on from there.
func (s *serving) unanswered(f Served, l flow.Landing, q Request, door Endpoint) {
	service, place := door.Service, s.t.Model.Places[l.Socket.Place]
	asked := siteAsked(q, l)
	b := flow.Break{
		Code: "site.none", At: place.Name, Subject: s.goal.Subject, Short: "no site",
		Why: fmt.Sprintf("No site of %s has the name %s.", service.Name, cmp.Or(asked, "asked by a bare address")), Records: say.Lines(l.Socket.Record),
	}
	outcome := flow.Unanswered
	if !q.Client {
		b.Code, b.Short = "upstream.name", "unknown name there"
		b.Why = fmt.Sprintf("%s has sites, and none for %s.", service.Name, cmp.Or(asked, "a bare address"))
		if s.handing != nil {
			b.Records = say.Lines(s.handing, l.Socket.Record)
		}
	}
	var site *model.Site
	if off := s.offSite(service, f.Part, asked); off != nil {
		b.Code, b.Short = "site.disabled", "site is off"
		if !q.Client {
			b.Code = "upstream.name"
		}
		b.Why = fmt.Sprintf("The site of %s for %s is recorded, and off.", service.Name, asked)
		b.Mend, b.Records = flow.Revive(off), say.Lines(off)
		site = &model.Site{Name: asked, Record: off, Ports: off.At.Set()}
	} else if near := nearSite(door.Sites(), asked); near != nil {
		b.Why = fmt.Sprintf("No site of %s has the name %s; %s is one letter off.", service.Name, asked, near.Name)
		b.Mend = flow.Replace(near.Record, func(n *estate.Site) {
			n.Names = slices.Clone(n.Names)
			n.Names[slices.Index(n.Names, near.Name)] = asked
		})
		b.Records = say.Lines(near.Record)
		b.Short = "one letter off"
		site = near
	} else if fresh := s.siteMeant(l, asked, service); fresh != nil {
		b.Mend = flow.AddLine(fresh)
		site = &model.Site{Name: asked, Record: fresh}
	}
	f.Add(flow.Step{Stage: flow.StageSite, At: place.Name, Verdict: flow.Broken, Ground: flow.Internal, Records: b.Records, Why: b.Why})
	f.Stop(outcome, b)
	if site == nil {
		s.finish(f)
		return
	}
	s.act(f, l, site, byName, q)
}

// offSite is the site of a service that is off and would take a name: an exact one before a wildcard, and a `*` or default only
// where no site is in force.
func (s *serving) offSite(service *model.Service, w flow.Part, name string) *estate.Site {
	var found *estate.Site
	best := byAny
	for _, r := range s.t.Model.Off {
		off, ok := r.(*estate.Site)
		if !ok || off.Service != service.Name {
			continue
		}
		candidate := &model.Service{}
		for _, n := range off.Names {
			candidate.Add(&model.Site{Name: n, Record: off, Ports: off.At.Set()})
		}
		if group, how := endpointOf(candidate, &w).Pick(name, &estate.Listen{}); len(group) > 0 && how <= best && how != ByDefault {
			if found == nil || how < best {
				found, best = off, how
			}
		}
	}
	if found != nil && best == byAny && len(service.Sites) > 0 {
		return nil // some sites are in force: an off * is not what is missed
	}
	if near := nearOff(s.t.Model, service.Name, name); near != nil && (found == nil || best == byAny) {
		return near
	}
	return found
}

// nearOff is an off site of a service whose name is one letter from the one asked.
func nearOff(m *model.Model, service, name string) *estate.Site {
	for _, r := range m.Off {
		if off, ok := r.(*estate.Site); ok && off.Service == service && slices.ContainsFunc(off.Names, func(n string) bool { return OneLetterOff(n, name) }) {
			return off
		}
	}
	return nil
}

// nearSite is the only site whose name is one letter from the name asked.
func nearSite(sites []*model.Site, name string) *model.Site {
	var found *model.Site
	for _, s := range sites {
		if name != "" && s.Name != "*" && OneLetterOff(s.Name, name) {
			if found != nil {
				return nil
			}
			found = s
		}
	}
	return found
}

// siteMeant is the site that an intent asks for, handing on to the place it is to reach.
func (s *serving) siteMeant(l flow.Landing, name string, service *model.Service) *estate.Site {
	if s.intent == nil || s.intent.Reaching.Host == "" || name == "" {
		return nil
	}
	target := s.t.Model.PlaceNamed(s.intent.Reaching.Host)
	if target == nil || target.ID == l.Socket.Place {
		return nil
	}
	port, ok := s.t.portOf(target, s.intent.Reaching.Port)
	if !ok {
		return nil
	}
	u, ok := s.t.urlFrom(s.t.Model.Places[l.Socket.Place], target, port)
	if !ok {
		return nil
	}
	site := &estate.Site{Service: service.Name, Names: []string{name}, To: u}
	for _, other := range service.Sites { // as its neighbours say it
		if other.Record.At.Ranges != nil {
			site.At = estate.Bind{Ports: flow.OnePort(l.Port(), netset.TCP)}
			break
		}
	}
	if estate.Complete(site) != nil {
		return nil
	}
	return site
}

// ---- what a site does

func (s *serving) act(f Served, l flow.Landing, site *model.Site, how picked, q Request) {
	m, rec := s.t.Model, site.Record
	place := m.Places[l.Socket.Place]
	if len(rec.Sources) > 0 && f.Stopped == "" {
		in, out, _ := s.t.SourceSplit(site.Sources, f.Part, f.IPv6)
		if out != nil {
			d := f
			d.Part = *out
			why, records := fmt.Sprintf("The site lets in %s only.", say.SelectorWords(rec.Sources)), say.Lines(rec)
			if h := d.HiddenBy(); h != nil {
				why = fmt.Sprintf("The site lets in %s only, and sees whoever asks as %s, the source that %s gives on the way.", say.SelectorWords(rec.Sources), h.Gave, m.Places[h.Place].Name)
				if h.As != nil {
					records = append(records, say.Lines(h.As)...)
				}
			}
			d.Add(flow.Step{Stage: flow.StageSite, At: place.Name, Verdict: flow.Broken, Ground: flow.Internal, Records: records, Why: why})
			d.Stop(flow.Denied, flow.Break{Code: "site.sources", At: place.Name, Subject: s.goal.Subject, Short: "source denied", Why: why, Records: records})
			d.Cell().Site = site.Name
			s.finish(d)
		}
		if in == nil {
			return
		}
		f.Part = *in
	}
	f.Site = rec
	label := site.Name
	if f.Handed == 0 {
		f.Cell().Site = label
	}
	why := map[picked]string{
		byName:     fmt.Sprintf("Site %s of %s.", site.Name, rec.Service),
		byWildcard: fmt.Sprintf("Site %s of %s has the name by its wildcard.", site.Name, rec.Service),
		byAny:      fmt.Sprintf("Site * of %s takes every name.", rec.Service),
		ByDefault:  fmt.Sprintf("No site of %s has the name; the default, %s, takes it.", rec.Service, site.Name),
	}[how]
	f.Add(flow.Step{Stage: flow.StageSite, At: place.Name, Verdict: flow.Pass, Ground: flow.Internal, Records: say.Lines(rec), Why: why})
	if rec.Guard != (estate.Guard{}) {
		f.Guarded = true
		who := cmp.Or(rec.Guard.Service, rec.Guard.Text)
		f.Add(flow.Step{Stage: flow.StageSite, At: place.Name, Verdict: flow.Assumed, Ground: flow.Internal, Records: say.Lines(rec), Why: fmt.Sprintf("Visitors sign in first, by %s.", who)})
	}
	switch {
	case rec.Files.Served:
		f.Add(flow.Step{Stage: flow.StageEnd, At: place.Name, Verdict: flow.Pass, Ground: flow.Internal, Records: say.Lines(rec), Why: fmt.Sprintf("Answered from files%s.", inWords(rec.Files.Root))})
		f.Cell().Backend = "files"
		s.finish(f)
	case !rec.Redirect.IsZero():
		s.redirect(f, l, rec, q)
	case rec.Pool != "":
		s.notJudged(f, place, fmt.Sprintf("Handed to a member of pool %s: not judged yet.", rec.Pool), "pool "+rec.Pool, rec)
	case rec.Through != "":
		s.notJudged(f, place, fmt.Sprintf("Handed through tunnel %s: not judged yet.", rec.Through), "tunnel "+rec.Through, rec)
	default:
		s.handOn(f, l, rec, q)
	}
}

func inWords(root string) string {
	if root == "" {
		return ""
	}
	return " in " + root
}

func (s *serving) notJudged(f Served, place *model.Place, why, cell string, rec estate.Record) {
	f.Add(flow.Step{Stage: flow.StageUpstream, At: place.Name, Verdict: flow.Unsettled, Ground: flow.Internal, Records: say.Lines(rec), Why: why})
	f.Cell().Backend = cell
	if f.Stopped == "" {
		f.Stopped = flow.Undecided
	}
	s.finish(f)
}

// redirect is a client sent elsewhere: its new request, from where it is.
func (s *serving) redirect(f Served, l flow.Landing, rec *estate.Site, q Request) {
	place := s.t.Model.Places[l.Socket.Place]
	host, port, path, tls := q.Name, uint16(443), q.Path, true
	addr := l.AskedAddr
	if !rec.Redirect.HTTPS {
		u := rec.Redirect.URL
		host, addr, port, tls = u.Host, u.Addr, u.EffectivePort(), u.Encrypted()
		if u.Addr.IsValid() {
			host = ""
		}
		if path = u.Path; path == "" {
			path = "/"
		}
		path, _, _ = strings.Cut(path, "#")
		path, _, _ = strings.Cut(path, "?")
		if path == "" {
			path = "/"
		}
	}
	where, again := host, (*model.Place)(nil)
	switch {
	case where != "":
	case addr.IsValid():
		where = addr.String()
	case s.place != nil:
		where, again = s.place.Name, s.place
	}
	target := rec.Redirect.URL.String()
	if rec.Redirect.HTTPS {
		target = "https://" + where + strings.TrimSuffix(path, "/")
	}
	f.Add(flow.Step{Stage: flow.StageSite, At: place.Name, Verdict: flow.Pass, Ground: flow.Internal, Records: say.Lines(rec), Why: fmt.Sprintf("Sends the client to %s.", target)})
	f.Cell().Backend = "→ " + strings.TrimPrefix(target, "https://"+q.Name)
	if rec.Redirect.HTTPS {
		f.Cell().Backend = "→ https"
	}
	key := fmt.Sprintf("%s:%d%s %v", where, port, path, tls)
	if slices.Contains(s.visited, key) || key == fmt.Sprintf("%s:%d%s %v", q.Name, q.Port, q.Path, q.Speech == SpeaksTLS || q.Speech == SpeaksByPort && q.Port == 443) {
		f.Stop(flow.Loop, flow.Break{
			Code: "redirect.loop", At: place.Name, Subject: s.goal.Subject, Short: "redirects in a ring",
			Why: fmt.Sprintf("The client is sent to %s, where it has been already.", target), Records: say.Lines(rec),
		})
		s.finish(f)
		return
	}
	next := Request{Name: host, Handshake: host, Port: port, Path: path, PathGiven: true, Client: true, Speech: SpeaksPlain}
	if tls {
		next.Speech = SpeaksTLS
	}
	before := f.Stopped
	base := f.Part
	base.Ghost, base.Stopped = base.Ghost || before != "", ""
	results := s.t.Ask(Question{Origin: s.o, Vantage: s.v, Request: next, Addr: addr, Place: again, Transport: netset.TCP, Base: base, visited: append(slices.Clone(s.visited), key)})
	for _, r := range results {
		g := r
		g.Redirect, g.Defaulted = true, f.Defaulted
		g.URLPath = f.URLPath
		g.Cells = f.Cells
		g.Origins = f.Origins
		g.Src = f.Src
		g.Ports, g.Outer, g.Handed, g.SpokeTLS = f.Ports, f.Outer, f.Handed, f.SpokeTLS
		if g.Stopped == flow.Outside && !s.t.newBreaks(f.Part, r.Part) {
			g.Stopped = "" // where it leads is not ours, and no fault
		}
		if before != "" {
			g.Stopped, g.Inner = before, f.Inner
		}
		if r.Stopped != "" && r.Stopped != flow.Undecided && s.t.newBreaks(f.Part, r.Part) {
			if before == "" {
				c := g.Cell()
				c.Broken, c.Reason = "", ""
			}
			b := flow.Break{
				Code: "redirect.dead", At: place.Name, Subject: s.goal.Subject, Short: "leads nowhere",
				Why: fmt.Sprintf("The client is sent to %s, which ends: %s.", target, outcomeWords(r.Stopped)), Records: say.Lines(rec), Mend: s.t.mendsSince(f.Part, r.Part),
			}
			g.stopKeeping(b)
		}
		s.finish(g)
	}
}

// newBreaks says whether b has breaks that a, from which it went on, has not.
func (t *Engine) newBreaks(a, b flow.Part) bool {
	_, before := a.Collect()
	_, after := b.Collect()
	return len(after) > len(before)
}

// mendsSince joins the mends of the breaks that b has and a has not.
func (t *Engine) mendsSince(a, b flow.Part) *flow.Mend {
	_, before := a.Collect()
	_, after := b.Collect()
	return JoinMends(after[len(before):])
}

// JoinMends is all the lines that a run of breaks asks for, each once; nil where one has no mend.
func JoinMends(breaks []flow.Break) *flow.Mend {
	out := &flow.Mend{Remove: []string{}, Add: []string{}}
	for _, b := range breaks {
		if b.Mend.IsEmpty() {
			return nil
		}
		for _, l := range b.Mend.Remove {
			if !slices.Contains(out.Remove, l) {
				out.Remove = append(out.Remove, l)
			}
		}
		for _, l := range b.Mend.Add {
			if !slices.Contains(out.Add, l) {
				out.Add = append(out.Add, l)
			}
		}
	}
	if out.IsEmpty() {
		return nil
	}
	return out
}

func outcomeWords(o flow.Outcome) string { return strings.ReplaceAll(string(o), "-", " ") }
