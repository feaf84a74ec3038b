package serve

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/say"
)

func (s *serving) mismatch(w *flow.Part, l flow.Landing, q Request, place *model.Place, spoken, why string) {
	b := flow.Break{Code: "site.speech", At: place.Name, Short: spoken + " spoken", Why: why, Records: say.Lines(l.Socket.Record), Subject: s.goal.Subject}
	switch {
	case !q.Client:
		b.Code = "upstream.scheme"
		if s.handing != nil {
			b.Records = say.Lines(append(s.handing.records(), l.Socket.Record)...)
			b.Mend = s.handing.spoken(otherScheme(s.handing.to.Scheme))
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
	if q.challenge != nil && q.Client {
		return
	}
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
		for _, c := range s.t.Model.CertsAt[place.Name] {
			if name == "" || Covers(c, name) {
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
		if there := s.t.issuedOn(place); there != nil && name != "" {
			b.Code, b.Short = "cert.names", "not on certificate"
			b.Why = fmt.Sprintf("No certificate on %s covers %s; %s covers %s.", place.Name, name, there.Name, strings.Join(there.For, ", "))
			b.Records = say.Lines(there, l.Socket.Record)
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

// issuedOn is the first certificate that is issued and lies at a place; nil where none does.
func (t *Engine) issuedOn(place *model.Place) *estate.Cert {
	for _, c := range t.Model.CertsAt[place.Name] {
		if c.Expires != "" {
			return c
		}
	}
	return nil
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
	for _, c := range s.t.Model.CertsAt[place.Name] {
		if c.Expires != "" && c.Expires >= s.t.day && !c.Trial &&
			!slices.ContainsFunc(names, func(n string) bool { return !Covers(c, n) }) {
			return c.Name
		}
	}
	return ""
}
