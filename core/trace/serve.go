package trace

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/netset"
)

// speech is how a client begins.
type speech uint8

const (
	speaksByPort speech = iota // TLS on 443 and wherever the listener ends or hands on TLS
	speaksTLS
	speaksPlain
	speaksStream // hands on what it got, as it stands
)

// request is what is asked of a listener.
type request struct {
	name      string // the name asked; "" for a bare address
	handshake string // the name in the TLS handshake
	certified string // an address that the certificate is held against, where the handshake has no name
	port      uint16
	speech    speech
	path      string
	pathGiven bool // else one branch for each path that the sites tell apart
	verified  bool // the certificate is checked though a front of ours asks
	client    bool // a visitor asks, not a front
}

// served is a branch that has come to its end.
type served struct {
	way
	end       string // place:port; "" where nobody took it
	place     model.PlaceID
	port      uint16
	service   string
	urlpath   string
	redirect  bool
	defaulted *model.Site // the site that took it, though none has its name

	handedBy   *estate.Site // the last site that handed it on, and where that stands
	handedFrom string
	fronts     []Front      // all that handed it on
	site       *estate.Site // that took it
}

// serving takes landings through TLS and sites to what answers.
type serving struct {
	t       *Tracer
	o       origin
	v       *Vantage
	goal    goal
	place   *model.Place // the place that the client asked for, where it asked for one
	intent  *estate.Intent
	relays  []relay      // so far
	visited []string     // requests that redirects led to
	handing *estate.Site // the site of a front that handed the request on; nil for a client's own
	out     []served
}

func (s *serving) finish(f served) { s.out = append(s.out, f) }

// land takes one landing on, as far as its replies come back.
func (s *serving) land(l landing, q request) {
	lost := s.t.replies(&l, s.o)
	s.landed(l, q)
	if lost != nil {
		s.landed(*lost, q)
	}
}

func (s *serving) landed(l landing, q request) {
	m := s.t.m
	if l.sock == nil {
		f := served{way: l.way, place: model.Nowhere, urlpath: q.path}
		if l.stack != model.Nowhere && m.Places[l.stack].Outside {
			f.place, f.end, f.port = l.stack, fmt.Sprintf("%s:%d", m.Places[l.stack].Name, l.port()), l.port()
			c := f.cell()
			c.Machine, c.Backend = m.Places[l.stack].Name, f.end
			if f.stopped == "" {
				f.took, f.outside = nil, f.end
			}
		}
		s.finish(f)
		return
	}
	service := m.Service(l.sock.Record.Service)
	l.reads.service(service.Name)
	place := m.Places[l.sock.Place]
	w := l.way
	if w.leg == 0 {
		c := w.cell()
		c.Machine, c.Service = place.Name, service.Name
	}
	here := served{way: w, end: fmt.Sprintf("%s:%d", place.Name, w.port()), place: place.ID, port: w.port(), service: service.Name, urlpath: q.path}

	door := doorTo(service, &w)
	group, how := door.pick(siteAsked(q, l), l.sock.Record)
	tlsHere := l.sock.Record.TLS || l.sock.Record.Passthrough
	speaks := speaksFirst(q, w.proto, tlsHere) || q.speech == speaksStream && w.tls
	w.tls = speaks
	if w.leg == 0 {
		w.spokeTLS = speaks
	}
	switch {
	case w.standIn && q.client: // it is not there yet, and would speak as it is spoken to
		if w.standIn = false; speaks && !l.sock.Record.Passthrough {
			s.certificate(&w, l, q, group, place)
			w.tls = false
		}
	case l.sock.Record.TLS && !speaks:
		s.mismatch(&w, l, q, place, "plain", sentence("%s expects TLS on %d, and is spoken to in the clear.", service.Name, w.port()))
	case !tlsHere && speaks && q.speech != speaksStream:
		s.mismatch(&w, l, q, place, "TLS", sentence("%s is spoken to in TLS on %d, and speaks in the clear.", service.Name, w.port()))
		if q.client {
			s.certificate(&w, l, q, group, place)
		}
		w.tls = false
	case l.sock.Record.TLS:
		if q.client || q.verified {
			s.certificate(&w, l, q, group, place)
		} else {
			w.walk(Step{Stage: StageTLS, At: place.Name, Verdict: Pass, Ground: Land, Records: lines(l.sock.Record), Why: "TLS ends here; the certificate is not checked."})
		}
		w.tls = false
	}
	here.way = w
	if len(service.Sites) == 0 && !service.Closed {
		w.walk(Step{Stage: StageEnd, At: place.Name, Verdict: Pass, Ground: Land, Records: lines(l.sock.Record), Why: sentence("Served by %s.", service.Name)})
		w.cell().Backend = here.end
		here.way = w
		s.finish(here)
		return
	}
	if len(group) == 0 {
		s.unanswered(here, l, q, door)
		return
	}
	paths := []string{q.path}
	if !q.pathGiven {
		paths = sitePaths(group)
	}
	for _, path := range paths {
		f, p := here, q
		f.urlpath, p.path, p.pathGiven = path, path, true
		site := byPath(group, path)
		if site == nil {
			f.stop(Unanswered, Break{
				Code: "site.none", At: place.Name, Subject: s.goal.subject, Short: "no such path",
				Why: sentence("No site of %s for that name takes the path %s.", service.Name, path), Records: lines(records(group)...),
			})
			s.finish(f)
			continue
		}
		if how == byDefault {
			f.defaulted = site
		}
		s.act(f, l, site, how, p)
	}
}

// speaksFirst says whether a request begins with a TLS handshake: what a URL says, else as browsers do on 443 and 80 over tcp, else as
// the listener does.
func speaksFirst(q request, proto netset.Transport, tlsHere bool) bool {
	switch {
	case q.speech != speaksByPort:
		return q.speech == speaksTLS
	case proto == netset.TCP && q.port == 443:
		return true
	case proto == netset.TCP && q.port == 80:
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

func siteAsked(q request, l landing) string {
	switch {
	case l.sock.Record.Passthrough:
		return q.handshake
	case q.name != "":
		return q.name
	}
	return l.asked
}

// ---- picking a site

type picked uint8

const (
	byName picked = iota
	byWildcard
	byAny
	byDefault
)

// siteDoor is an address and port at which a service is asked for a site.
type siteDoor struct {
	service *model.Service
	addr    netip.Addr // the zero address where the flow has none
	port    uint16
}

func doorTo(service *model.Service, w *way) siteDoor { return siteDoor{service, w.dst.addr, w.port()} }

// has says whether a site is picked among there.
func (d siteDoor) has(s *model.Site) bool {
	if !s.Ports.IsEmpty() && !s.Ports.Contains(d.port) {
		return false
	}
	a := s.Record.At.Addr
	return !a.IsValid() || a.IsUnspecified() || a == d.addr
}

// atItself says whether a site names that very address and port.
func (d siteDoor) atItself(s *model.Site) bool {
	return d.addr.IsValid() && s.Record.At.Addr == d.addr && s.Ports.Contains(d.port)
}

// among are those of some sites that are picked among there.
func (d siteDoor) among(sites []*model.Site) []*model.Site {
	if d.service.ByAddress && slices.ContainsFunc(d.service.Sites, d.atItself) { // the others at the port are for other addresses
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

// sites are all that are picked among there.
func (d siteDoor) sites() []*model.Site { return d.among(d.service.Sites) }

// pick gives the sites that a name picks: exact, else the longest wildcard, else "*", else the
// default, else, where the listener says so, the first. Where it says in-order, of those that fit a name the first written.
func (d siteDoor) pick(name string, l *estate.Listen) ([]*model.Site, picked) {
	named := func(name string) []*model.Site { return d.among(d.service.Named(name)) }
	if name != "" && l.InOrder {
		for _, s := range d.sites() {
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
	candidates := d.service.Defaults()
	if l.FirstAnswers {
		candidates = slices.Concat(candidates, d.service.Sites)
	}
	if i := slices.IndexFunc(candidates, d.has); i >= 0 {
		return named(candidates[i].Name), byDefault
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

func (s *serving) mismatch(w *way, l landing, q request, place *model.Place, spoken, why string) {
	b := Break{Code: "site.speech", At: place.Name, Short: spoken + " spoken", Why: why, Records: lines(l.sock.Record), Subject: s.goal.subject}
	switch {
	case !q.client:
		b.Code = "upstream.scheme"
		if s.handing != nil {
			b.Records = lines(s.handing, l.sock.Record)
			b.Mend = replace(s.handing, func(n *estate.Site) { n.To.Scheme = otherScheme(n.To.Scheme) })
			if s.handing.To.Port == 0 {
				b.Mend = replace(s.handing, func(n *estate.Site) {
					n.To.Port = n.To.EffectivePort()
					n.To.Scheme = otherScheme(n.To.Scheme)
				})
			}
		}
	default:
		b.Mend = replace(l.sock.Record, func(n *estate.Listen) { n.TLS = !n.TLS })
	}
	w.walk(Step{Stage: StageTLS, At: place.Name, Verdict: Broken, Ground: Land, Records: b.Records, Why: why})
	w.stop(Mismatched, b)
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
func (s *serving) certificate(w *way, l landing, q request, group []*model.Site, place *model.Place) {
	name := q.handshake
	held := orWord(q.certified, name)
	var listed []*estate.Cert
	var wanted *estate.Cert // one that would do, and is not issued yet
	add := func(certName string) {
		switch c := s.t.m.Certs[certName]; {
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
		for _, c := range l.sock.Record.Certs {
			add(c)
		}
	}
	if len(listed) == 0 {
		for _, c := range s.t.m.CertList {
			if slices.Contains(c.On, place.Name) && (name == "" || Covers(c, name)) {
				add(c.Name)
			}
		}
	}
	cert := bestCert(listed, name, s.t.day)
	b := Break{At: place.Name, Subject: s.goal.subject}
	outcome := Outcome("")
	switch {
	case cert == nil && wanted != nil:
		outcome, b.Code, b.Short = Untrusted, "cert.missing", "not issued yet"
		b.Why = sentence("The certificate %s for %s is wanted on %s, and not issued yet.", wanted.Name, orWord(name, "a bare address"), place.Name)
		b.Records = lines(wanted, l.sock.Record)
	case cert == nil:
		outcome, b.Code, b.Short = Untrusted, "cert.missing", "no certificate"
		b.Why = sentence("%s has no certificate for %s.", l.sock.Record.Service, orWord(name, "a bare address"))
		b.Records = lines(l.sock.Record)
		if name != "" {
			b.Mend = s.newCert(l, name, group, place)
		}
	case held != "" && !Covers(cert, held):
		outcome, b.Code, b.Short = Untrusted, "cert.names", "not on certificate"
		b.Why = sentence("Certificate %s covers %s, and not %s.", cert.Name, strings.Join(cert.For, ", "), held)
		b.Records = lines(cert, l.sock.Record)
		b.Mend = s.newCert(l, held, group, place)
	case s.t.day != "" && cert.Expires < s.t.day:
		outcome, b.Code, b.Short = Untrusted, "cert.expired", sentence("expired %s", cert.Expires)
		b.Why = sentence("Certificate %s expired on %s.", cert.Name, cert.Expires)
		b.Records, b.Subject = lines(cert), cert.Name
	case cert.Trial:
		outcome, b.Code, b.Short = Untrusted, "cert.trial", "trial certificate"
		b.Why = sentence("Certificate %s is a trial one, which no visitor trusts.", cert.Name)
		b.Records, b.Subject = lines(cert), cert.Name
		b.Mend = s.trusted(cert, l, group)
	}
	if outcome != "" {
		w.walk(Step{Stage: StageTLS, At: place.Name, Verdict: Broken, Ground: Land, Records: b.Records, Why: b.Why})
		w.stop(outcome, b)
		return
	}
	w.walk(Step{Stage: StageTLS, At: place.Name, Verdict: Pass, Ground: Land, Records: lines(cert), Why: sentence("TLS ends here, with certificate %s, valid until %s.", cert.Name, cert.Expires)})
}

func orWord(s, other string) string {
	if s == "" {
		return other
	}
	return s
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
func (s *serving) newCert(l landing, name string, group []*model.Site, place *model.Place) *Mend {
	names, own := []string{name}, false
	for _, site := range group {
		if old := s.t.m.Certs[site.Record.Cert]; old != nil { // its other names are to be on what comes in its place
			own = true
			for _, other := range site.Record.Names {
				if !slices.Contains(names, other) && Covers(old, other) {
					names = append(names, other)
				}
			}
		}
	}
	m := &Mend{Remove: []string{}, Add: []string{}}
	shown := s.lying(names, place)
	if shown == "" {
		shown = l.sock.Record.Service
		for i := 2; s.t.m.Certs[shown] != nil; i++ {
			shown = fmt.Sprintf("%s-%d", l.sock.Record.Service, i)
		}
		wanted := addLine(&estate.Cert{Name: shown, For: names, On: []string{place.Name}, Renew: estate.NotGiven, Every: estate.NotGiven})
		if wanted == nil {
			return nil
		}
		m.Add = wanted.Add
	}
	also := func(change *Mend) { m.Remove, m.Add = append(m.Remove, change.Remove...), append(m.Add, change.Add...) }
	for _, site := range group {
		if site.Record.Cert != "" {
			also(replace(site.Record, func(n *estate.Site) { n.Cert = shown }))
		}
	}
	if !own && len(l.sock.Record.Certs) > 0 {
		also(replace(l.sock.Record, func(n *estate.Listen) { n.Certs = append(slices.Clone(n.Certs), shown) }))
	}
	return m
}

// trusted is a certificate that is wanted in the place of a trial one, with all its names.
func (s *serving) trusted(trial *estate.Cert, l landing, group []*model.Site) *Mend {
	free := trial.Name + "-2"
	for i := 3; s.t.m.Certs[free] != nil; i++ {
		free = fmt.Sprintf("%s-%d", trial.Name, i)
	}
	m := &Mend{Remove: []string{}, Add: lines(estate.With(trial, func(n *estate.Cert) { n.Name, n.Expires, n.Trial = free, "", false }))}
	also := func(change *Mend) { m.Remove, m.Add = append(m.Remove, change.Remove...), append(m.Add, change.Add...) }
	for _, site := range group {
		if site.Record.Cert == trial.Name {
			also(replace(site.Record, func(n *estate.Site) { n.Cert = free }))
		}
	}
	if i := slices.Index(l.sock.Record.Certs, trial.Name); i >= 0 {
		also(replace(l.sock.Record, func(n *estate.Listen) {
			n.Certs = slices.Clone(n.Certs)
			n.Certs[i] = free
		}))
	}
	return m
}

// lying is a certificate that lies at a place, has all of some names and can be trusted; "" for none.
func (s *serving) lying(names []string, place *model.Place) string {
	for _, c := range s.t.m.CertList {
		if slices.Contains(c.On, place.Name) && c.Expires != "" && c.Expires >= s.t.day && !c.Trial &&
			!slices.ContainsFunc(names, func(n string) bool { return !Covers(c, n) }) {
			return c.Name
		}
	}
	return ""
}

// ---- no site

// unanswered is a name that no site has: what would mend it, and on from there.
func (s *serving) unanswered(f served, l landing, q request, door siteDoor) {
	service, place := door.service, s.t.m.Places[l.sock.Place]
	asked := siteAsked(q, l)
	b := Break{
		Code: "site.none", At: place.Name, Subject: s.goal.subject, Short: "no site",
		Why: sentence("No site of %s has the name %s.", service.Name, orWord(asked, "asked by a bare address")), Records: lines(l.sock.Record),
	}
	outcome := Unanswered
	if !q.client {
		b.Code, b.Short = "upstream.name", "unknown name there"
		b.Why = sentence("%s has sites, and none for %s.", service.Name, orWord(asked, "a bare address"))
		if s.handing != nil {
			b.Records = lines(s.handing, l.sock.Record)
		}
	}
	var site *model.Site
	if off := s.offSite(service, f.way, asked); off != nil {
		b.Code, b.Short = "site.disabled", "site is off"
		if !q.client {
			b.Code = "upstream.name"
		}
		b.Why = sentence("The site of %s for %s is recorded, and off.", service.Name, asked)
		b.Mend, b.Records = revive(off), lines(off)
		site = &model.Site{Name: asked, Record: off, Ports: off.At.Set()}
	} else if near := nearSite(door.sites(), asked); near != nil {
		b.Why = sentence("No site of %s has the name %s; %s is one letter off.", service.Name, asked, near.Name)
		b.Mend = replace(near.Record, func(n *estate.Site) {
			n.Names = slices.Clone(n.Names)
			n.Names[slices.Index(n.Names, near.Name)] = asked
		})
		b.Records = lines(near.Record)
		b.Short = "one letter off"
		site = near
	} else if fresh := s.siteMeant(l, asked, service); fresh != nil {
		b.Mend = addLine(fresh)
		site = &model.Site{Name: asked, Record: fresh}
	}
	f.walk(Step{Stage: StageSite, At: place.Name, Verdict: Broken, Ground: Land, Records: b.Records, Why: b.Why})
	f.stop(outcome, b)
	if site == nil {
		s.finish(f)
		return
	}
	s.act(f, l, site, byName, q)
}

// offSite is the site of a service that is off and would take a name: an exact one before a wildcard, and a `*` or default only
// where no site is in force.
func (s *serving) offSite(service *model.Service, w way, name string) *estate.Site {
	var found *estate.Site
	best := byAny
	for _, r := range s.t.m.Off {
		off, ok := r.(*estate.Site)
		if !ok || off.Service != service.Name {
			continue
		}
		candidate := &model.Service{}
		for _, n := range off.Names {
			candidate.Add(&model.Site{Name: n, Record: off, Ports: off.At.Set()})
		}
		if group, how := doorTo(candidate, &w).pick(name, &estate.Listen{}); len(group) > 0 && how <= best && how != byDefault {
			if found == nil || how < best {
				found, best = off, how
			}
		}
	}
	if found != nil && best == byAny && len(service.Sites) > 0 {
		return nil // some sites are in force: an off * is not what is missed
	}
	if near := nearOff(s.t.m, service.Name, name); near != nil && (found == nil || best == byAny) {
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
func (s *serving) siteMeant(l landing, name string, service *model.Service) *estate.Site {
	if s.intent == nil || s.intent.Reaching.Host == "" || name == "" {
		return nil
	}
	target := s.t.m.PlaceNamed(s.intent.Reaching.Host)
	if target == nil || target.ID == l.sock.Place {
		return nil
	}
	port, ok := s.t.portOf(target, s.intent.Reaching.Port)
	if !ok {
		return nil
	}
	u, ok := s.t.urlFrom(s.t.m.Places[l.sock.Place], target, port)
	if !ok {
		return nil
	}
	site := &estate.Site{Service: service.Name, Names: []string{name}, To: u}
	for _, other := range service.Sites { // as its neighbours say it
		if other.Record.At.Ranges != nil {
			site.At = estate.Bind{Ports: onePort(l.port(), netset.TCP)}
			break
		}
	}
	if estate.Complete(site) != nil {
		return nil
	}
	return site
}

// ---- what a site does

func (s *serving) act(f served, l landing, site *model.Site, how picked, q request) {
	m, rec := s.t.m, site.Record
	place := m.Places[l.sock.Place]
	if len(rec.Sources) > 0 && f.stopped == "" {
		in, out, _ := s.t.sourceSplit(site.Sources, f.way, f.six)
		if out != nil {
			d := f
			d.way = *out
			why, records := sentence("The site lets in %s only.", selectorWords(rec.Sources)), lines(rec)
			if h := d.hiddenBy(); h != nil {
				why = sentence("The site lets in %s only, and sees whoever asks as %s, the source that %s gives on the way.", selectorWords(rec.Sources), h.gave, m.Places[h.place].Name)
				if h.as != nil {
					records = append(records, lines(h.as)...)
				}
			}
			d.walk(Step{Stage: StageSite, At: place.Name, Verdict: Broken, Ground: Land, Records: records, Why: why})
			d.stop(Denied, Break{Code: "site.sources", At: place.Name, Subject: s.goal.subject, Short: "source denied", Why: why, Records: records})
			d.cell().Site = site.Name
			s.finish(d)
		}
		if in == nil {
			return
		}
		f.way = *in
	}
	f.site = rec
	label := site.Name
	if f.leg == 0 {
		f.cell().Site = label
	}
	why := map[picked]string{
		byName:     sentence("Site %s of %s.", site.Name, rec.Service),
		byWildcard: sentence("Site %s of %s has the name by its wildcard.", site.Name, rec.Service),
		byAny:      sentence("Site * of %s takes every name.", rec.Service),
		byDefault:  sentence("No site of %s has the name; the default, %s, takes it.", rec.Service, site.Name),
	}[how]
	f.walk(Step{Stage: StageSite, At: place.Name, Verdict: Pass, Ground: Land, Records: lines(rec), Why: why})
	if rec.Guard != (estate.Guard{}) {
		f.guarded = true
		who := orWord(rec.Guard.Service, rec.Guard.Text)
		f.walk(Step{Stage: StageSite, At: place.Name, Verdict: Assumed, Ground: Land, Records: lines(rec), Why: sentence("Visitors sign in first, by %s.", who)})
	}
	switch {
	case rec.Files.Served:
		f.walk(Step{Stage: StageEnd, At: place.Name, Verdict: Pass, Ground: Land, Records: lines(rec), Why: sentence("Answered from files%s.", inWords(rec.Files.Root))})
		f.cell().Backend = "files"
		s.finish(f)
	case !rec.Redirect.IsZero():
		s.redirect(f, l, rec, q)
	case rec.Pool != "":
		s.notJudged(f, place, sentence("Handed to a member of pool %s: not judged yet.", rec.Pool), "pool "+rec.Pool, rec)
	case rec.Through != "":
		s.notJudged(f, place, sentence("Handed through tunnel %s: not judged yet.", rec.Through), "tunnel "+rec.Through, rec)
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

func selectorWords(list []estate.Selector) string {
	var out []string
	for _, s := range list {
		out = append(out, s.String())
	}
	return strings.Join(out, ", ")
}

func (s *serving) notJudged(f served, place *model.Place, why, cell string, rec estate.Record) {
	f.walk(Step{Stage: StageUpstream, At: place.Name, Verdict: Unsettled, Ground: Land, Records: lines(rec), Why: why})
	f.cell().Backend = cell
	if f.stopped == "" {
		f.stopped = Undecided
	}
	s.finish(f)
}

// redirect is a client sent elsewhere: its new request, from where it is.
func (s *serving) redirect(f served, l landing, rec *estate.Site, q request) {
	place := s.t.m.Places[l.sock.Place]
	host, port, path, tls := q.name, uint16(443), q.path, true
	addr := l.askedAddr
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
	f.walk(Step{Stage: StageSite, At: place.Name, Verdict: Pass, Ground: Land, Records: lines(rec), Why: sentence("Sends the client to %s.", target)})
	f.cell().Backend = "→ " + strings.TrimPrefix(target, "https://"+q.name)
	if rec.Redirect.HTTPS {
		f.cell().Backend = "→ https"
	}
	key := fmt.Sprintf("%s:%d%s %v", where, port, path, tls)
	if slices.Contains(s.visited, key) || key == fmt.Sprintf("%s:%d%s %v", q.name, q.port, q.path, q.speech == speaksTLS || q.speech == speaksByPort && q.port == 443) {
		f.stop(Loop, Break{
			Code: "redirect.loop", At: place.Name, Subject: s.goal.subject, Short: "redirects in a ring",
			Why: sentence("The client is sent to %s, where it has been already.", target), Records: lines(rec),
		})
		s.finish(f)
		return
	}
	next := request{name: host, handshake: host, port: port, path: path, pathGiven: true, client: true, speech: speaksPlain}
	if tls {
		next.speech = speaksTLS
	}
	before := f.stopped
	base := f.way
	base.ghost, base.stopped = base.ghost || before != "", ""
	results := s.t.ask(asking{o: s.o, v: s.v, q: next, addr: addr, place: again, proto: netset.TCP, base: base, visited: append(slices.Clone(s.visited), key)})
	for _, r := range results {
		g := r
		g.redirect, g.defaulted = true, f.defaulted
		g.urlpath = f.urlpath
		g.cells = f.cells
		g.origins = f.origins
		g.src = f.src
		g.ports, g.outer, g.leg, g.spokeTLS = f.ports, f.outer, f.leg, f.spokeTLS
		if g.stopped == Outside && !s.t.newBreaks(f.way, r.way) {
			g.stopped = "" // where it leads is not ours, and no fault
		}
		if before != "" {
			g.stopped, g.inner = before, f.inner
		}
		if r.stopped != "" && r.stopped != Undecided && s.t.newBreaks(f.way, r.way) {
			if before == "" {
				c := g.cell()
				c.Broken, c.Reason = "", ""
			}
			b := Break{
				Code: "redirect.dead", At: place.Name, Subject: s.goal.subject, Short: "leads nowhere",
				Why: sentence("The client is sent to %s, which ends: %s.", target, outcomeWords(r.stopped)), Records: lines(rec), Mend: s.t.mendsSince(f.way, r.way),
			}
			g.stopKeeping(b)
		}
		s.finish(g)
	}
}

// newBreaks says whether b has breaks that a, from which it went on, has not.
func (t *Tracer) newBreaks(a, b way) bool {
	_, before := a.collect()
	_, after := b.collect()
	return len(after) > len(before)
}

// mendsSince joins the mends of the breaks that b has and a has not.
func (t *Tracer) mendsSince(a, b way) *Mend {
	_, before := a.collect()
	_, after := b.collect()
	return JoinMends(after[len(before):])
}

// JoinMends is all the lines that a run of breaks asks for, each once; nil where one has no mend.
func JoinMends(breaks []Break) *Mend {
	out := &Mend{Remove: []string{}, Add: []string{}}
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

func outcomeWords(o Outcome) string { return strings.ReplaceAll(string(o), "-", " ") }
