package serve

import (
	"fmt"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
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
	PathGiven bool       // else one branch for each path that the sites tell apart
	verified  bool       // the certificate is checked though a front of ours asks
	Client    bool       // a visitor asks, not a front
	challenge *challenge // it is to see a name proven; certificates on its way are not looked at
}

// Served is a branch that has come to its end.
type Served struct {
	flow.Part
	end       string // place:port; "" where nobody took it
	answered  bool   // a challenge is answered here
	strayed   string // why a challenge that is sent on does not come to its answer
	place     model.PlaceID
	port      uint16
	service   string
	URLPath   string
	Redirect  bool
	Defaulted *model.Site // the site that took it, though none has its name

	handedBy   *upstream // the last that handed it on, and where that stands
	handedFrom string
	Fronts     []Front      // all that handed it on
	Site       *estate.Site // that took it
}

// serving takes landings through TLS and sites to what answers.
type serving struct {
	t          *Engine
	o          flow.Origin // of the flow at hand: behind a front, where that stands
	client     flow.Origin // of whoever asks, and asks anew where it is redirected
	v          *flow.Vantage
	goal       flow.Goal
	place      *model.Place // the place that the client asked for, where it asked for one
	intent     *estate.Intent
	relays     []relay   // so far
	visited    []string  // requests that redirects led to
	handing    *upstream // by which a front handed the request on; nil for a client's own
	connecting bool      // nothing is asked once a listener has taken it
	probing    bool      // it is no request of a client's, but one of our own: what it would be redirected to is not asked
	left       *int      // how many more times a pool may hand on
	out        []Served
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

	if q.challenge != nil && here.Stopped == "" {
		here.answered = q.challenge.answeredBy(service.Name, place.Name)
		if here.answered || q.challenge.tls && l.Socket.Record.TLS && q.challenge.through == "" {
			s.finish(here)
			return
		}
	}
	if s.connecting {
		s.connected(here, l, q)
		return
	}
	at := endpointOf(service, &w)
	group, how := at.Pick(siteAsked(q, l), l.Socket.Record)
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
		s.unanswered(here, l, q, at)
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

// connected is a connection that asks nothing more: where it is to be encrypted, the listener has to speak so.
func (s *serving) connected(here Served, l flow.Landing, q Request) {
	if q.Speech == SpeaksTLS && !l.Socket.Record.TLS && !l.Socket.Record.Passthrough {
		s.mismatch(&here.Part, l, q, s.t.Model.Places[l.Socket.Place], "TLS", fmt.Sprintf("%s is spoken to in TLS on %d, and speaks in the clear.", l.Socket.Record.Service, here.Port()))
	}
	s.finish(here)
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
	s.guard(&f, place, rec)
	switch {
	case rec.Unknown:
		f.Add(flow.Step{Stage: flow.StageEnd, At: place.Name, Verdict: flow.Unsettled, Ground: flow.Internal, Records: say.Lines(rec), Why: fmt.Sprintf("What site %s of %s does with it is not written down here.", site.Name, rec.Service)})
		f.Cell().Backend = "?"
		if f.Stopped == "" {
			f.Stopped = flow.Undecided
		}
		s.finish(f)
	case rec.Files.Served:
		f.Add(flow.Step{Stage: flow.StageEnd, At: place.Name, Verdict: flow.Pass, Ground: flow.Internal, Records: say.Lines(rec), Why: fmt.Sprintf("Answered from files%s.", inWords(rec.Files.Root))})
		f.Cell().Backend = "files"
		s.finish(f)
	case !rec.Redirect.IsZero():
		s.redirect(f, l, rec, q)
	default:
		from := s.through(&f, place, rec)
		if rec.Pool != "" {
			s.handToPool(f, l, from, rec, q)
		} else {
			s.handOn(f, l, from, upstream{site: rec, to: rec.To}, q)
		}
	}
}

func inWords(root string) string {
	if root == "" {
		return ""
	}
	return " in " + root
}
