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
	if candidates = d.among(candidates); len(candidates) > 0 {
		return named(candidates[0].Name), ByDefault
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

// unanswered is a name that no site has: what would mend it, and on from there.
func (s *serving) unanswered(f Served, l flow.Landing, q Request, at Endpoint) {
	service, place := at.Service, s.t.Model.Places[l.Socket.Place]
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
			b.Records = say.Lines(append(s.handing.records(), l.Socket.Record)...)
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
	} else if near := nearSite(at.Sites(), asked); near != nil {
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
