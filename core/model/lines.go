package model

import (
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
)

// part is the part of a model whose lines are compiled: some kinds of some machines' lines, some services and filters; or
// all of them.
type part struct {
	all      bool
	kinds    map[string]bool             // of the lines that changed
	machines map[string]map[PlaceID]bool // by kind; nil: every one
	services map[string]bool
	filters  map[string]bool // whose rules are to be read anew
	rules    []estate.Record // those of these filters, perhaps with others
	before   []*Place        // the machines as they were; nil where there is nothing to keep of them
}

// some says whether lines of a kind are compiled at all.
func (x *part) some(kind string) bool { return x.all || x.kinds[kind] }

// of says whether lines of a kind are compiled for a machine.
func (x *part) of(kind string, p *Place) bool {
	return p != nil && (x.machines == nil || x.machines[kind][p.ID])
}

func (x *part) anew(filter string) bool { return x.before == nil || x.filters[filter] }

// kept is a filter of a machine as it was, where its rules are not to be read anew; else nil.
func (x *part) kept(p *Place, hook Hook, f *estate.Filter) *Filter {
	if x.anew(f.Name) {
		return nil
	}
	list := x.before[p.ID].Filters[hook]
	if i := slices.IndexFunc(list, func(old *Filter) bool { return old.Record == f }); i >= 0 {
		return list[i]
	}
	return nil
}

// compileLines gives machines the lines that are theirs alone, and services their listeners and sites. Those of the part that
// it is about have none before.
func (m *Model) compileLines(x part) {
	e := m.Estate
	if x.some("forward") {
		for _, r := range inForce[*estate.Forward](e, "forward") {
			if p := m.PlaceNamed(r.Router); x.of("forward", p) {
				p.Forwards = append(p.Forwards, &Forward{r, m.match(r.From, p), estate.Translate(r.Bind.Ports, r.To.Ports), r.Bind.Set()})
			}
		}
	}
	if x.some("outbound") {
		for _, r := range inForce[*estate.Outbound](e, "outbound") {
			if p := m.PlaceNamed(r.Router); x.of("outbound", p) {
				o := &Outbound{Record: r, From: m.match(r.From, p)}
				o.Leaving, o.Dead = m.netOrNone(r.Leaving)
				if r.As != "unchanged" {
					o.As = netip.MustParseAddr(r.As)
				}
				p.Outbounds = append(p.Outbounds, o)
			}
		}
	}
	if x.some("map") {
		for _, r := range inForce[*estate.Map](e, "map") {
			if p := m.hostOf(r); x.of("map", p) {
				mp := &Map{r, Nowhere, NoNet, estate.Translate(r.Bind.Ports, r.To), r.Bind.Set()}
				if c := m.PlaceNamed(r.Container); c != nil {
					mp.Container = c.ID
					if len(c.Attachments) > 0 {
						mp.Net = c.Attachments[0].Net
					}
				}
				p.Maps = append(p.Maps, mp)
			}
		}
	}
	if x.some("filter") {
		m.compileFilters(x)
	}
	if !x.all && x.some("rule") {
		m.compileRulesAnew(x)
	}
	if x.all {
		m.compileListeners()
		m.compileSites(func(string) bool { return true })
	}
}

// compileListeners gives places their sockets, and services their listeners.
func (m *Model) compileListeners() {
	var p *Place // of the last one: the listeners of a place stand together
	for r := range eachInForce[*estate.Listen](m.Estate, "listen") {
		s := m.Services[r.Service]
		if s == nil {
			s = &Service{Name: r.Service}
			m.Services[r.Service] = s
		}
		s.Listens = append(s.Listens, r)
		if p == nil || p.Name != r.Place {
			p = m.PlaceNamed(r.Place)
		}
		if p != nil {
			namespace := m.Places[p.Namespace]
			namespace.Sockets = append(namespace.Sockets, socket(r, p))
		}
	}
}

func socket(r *estate.Listen, on *Place) Socket { return Socket{r, on.ID, r.Bind.Set()} }

// compileSites gives services their sites: all, or some of them.
func (m *Model) compileSites(wanted func(service string) bool) {
	for _, record := range m.Estate.Of(estate.KindNamed("site")) {
		r := record.(*estate.Site)
		if !wanted(r.Service) {
			continue
		}
		s := m.Services[r.Service]
		switch {
		case s == nil:
		case r.Off:
			s.Closed = len(s.Sites) == 0
		default:
			s.Closed = false
			sources := m.match(r.Sources, nil)
			for _, name := range r.Names {
				s.Add(&Site{name, r, r.At.Set(), sources})
			}
		}
	}
}

// Service is what listens under a name: where nothing does that is in force, the sites that it would have.
func (m *Model) Service(name string) *Service {
	if s := m.Services[name]; s != nil {
		return s
	}
	s := &Service{Name: name}
	for _, r := range inForce[*estate.Site](m.Estate, "site") {
		if r.Service == name {
			sources := m.MatchOf(r.Sources, nil)
			for _, n := range r.Names {
				s.Add(&Site{n, r, r.At.Set(), sources})
			}
		}
	}
	return s
}

// hostOf is the machine that a map is on; nil where it is not recorded.
func (m *Model) hostOf(r *estate.Map) *Place {
	host, _, _ := strings.Cut(r.Container, "/")
	return m.PlaceNamed(host)
}

// compileLists makes the lists of records that are no machine's.
func (m *Model) compileLists() {
	m.Certs, m.CertList, m.Pools = map[string]*estate.Cert{}, nil, map[string]*estate.Pool{}
	m.CertsAt, m.CertsFor = map[string][]*estate.Cert{}, map[string][]*estate.Cert{}
	m.Members, m.Tunnels = map[string][]*estate.Member{}, map[string]*estate.Tunnel{}
	for _, r := range inForce[*estate.Cert](m.Estate, "cert") {
		if m.Certs[r.Name] == nil {
			m.Certs[r.Name] = r
			m.CertList = append(m.CertList, r)
			for _, place := range r.On {
				m.CertsAt[place] = append(m.CertsAt[place], r)
			}
			for _, name := range r.For {
				m.CertsFor[name] = append(m.CertsFor[name], r)
			}
		}
	}
	for _, r := range inForce[*estate.Pool](m.Estate, "pool") {
		if m.Pools[r.Name] == nil {
			m.Pools[r.Name] = r
		}
	}
	for _, r := range inForce[*estate.Member](m.Estate, "member") {
		m.Members[r.Pool] = append(m.Members[r.Pool], r)
	}
	for _, r := range inForce[*estate.Tunnel](m.Estate, "tunnel") {
		if m.Tunnels[r.Name] == nil {
			m.Tunnels[r.Name] = r
		}
	}
	m.Intents = inForce[*estate.Intent](m.Estate, "intend")
}

// rulesOf are the rules of the filters whose rules are to be read anew.
func (x *part) rulesOf() map[string][]*estate.Rule {
	out := map[string][]*estate.Rule{}
	for _, r := range x.rules {
		if rule := r.(*estate.Rule); x.anew(rule.Filter) {
			out[rule.Filter] = append(out[rule.Filter], rule)
		}
	}
	return out
}

// compileOff lists the records that are off, of the kinds that are asked for; those of others stay as they are.
func (m *Model) compileOff(changed func(*estate.Kind) bool) {
	off := make([][]estate.Record, len(estate.Kinds))
	for i, k := range estate.Kinds {
		if !changed(k) {
			off[i] = m.off[i]
			continue
		}
		for _, r := range m.Estate.Of(k) {
			if r.Meta().Off {
				off[i] = append(off[i], r)
			}
		}
	}
	m.off, m.Off = off, slices.Concat(off...)
}

func (m *Model) compileFilters(x part) {
	build := m.building(x)
	touched := func(string) bool { return true }
	if x.machines != nil {
		names := map[string]bool{}
		for id := range x.machines["filter"] {
			names[m.Places[id].Name] = true
		}
		touched = estate.OneOf(names)
	}
	seen := make(map[string]bool, len(m.Estate.Of(estate.KindNamed("filter"))))
	m.Stateless = false
	for f := range eachInForce[*estate.Filter](m.Estate, "filter") {
		if seen[f.Name] {
			continue
		}
		seen[f.Name] = true
		if len(f.On) == 1 && !f.Stateless && !touched(f.On[0]) && m.PlaceNamed(f.On[0]) != nil {
			continue // on one machine, which is not compiled
		}
		hook := Hook(slices.Index(hooks, f.Hook))
		for _, p := range m.machines(f.On) {
			m.Stateless = m.Stateless || f.Stateless
			if !x.of("filter", p) {
				continue
			}
			on := x.kept(p, hook, f)
			if on == nil {
				on = build(f, p)
			}
			p.Filters[hook] = append(p.Filters[hook], on)
		}
	}
}

// building makes filters as they are on a machine.
func (m *Model) building(x part) func(*estate.Filter, *Place) *Filter {
	rules := x.rulesOf()
	made := map[*estate.Filter]*Filter{}
	return func(f *estate.Filter, on *Place) *Filter {
		known := made[f]
		if known == nil || slices.ContainsFunc(rules[f.Name], saysOnLink) { // else rules mean the same on every machine
			known = &Filter{Record: f, Rules: m.compileRules(rules[f.Name], on), Lines: len(rules[f.Name])}
			if f.DropWins {
				slices.SortStableFunc(known.Rules, func(a, b *Rule) int { return dropsFirst(a) - dropsFirst(b) })
			}
			known.index = indexRules(known.Rules)
			made[f] = known
		}
		return known
	}
}

func dropsFirst(r *Rule) int {
	if r.Record.Action == "drop" {
		return 0
	}
	return 1
}

func saysOnLink(r *estate.Rule) bool {
	is := func(s estate.Selector) bool { return s.Word == "on-link" }
	return slices.ContainsFunc(r.From, is) || slices.ContainsFunc(r.To, is)
}

func (m *Model) compileRules(rules []*estate.Rule, on *Place) []*Rule {
	out := []*Rule{}
	for i, r := range rules {
		if r.Off {
			continue
		}
		c := &Rule{Record: r, Place: i + 1, From: m.match(r.From, on), To: m.match(r.To, on), Ports: r.Ports.Set()}
		var dead bool
		if c.Entering, dead = m.netOrNone(r.Entering); dead {
			c.Dead = true
		}
		if c.Leaving, dead = m.netOrNone(r.Leaving); dead {
			c.Dead = true
		}
		out = append(out, c)
	}
	return out
}

// FilteredBy are the machines that a filter of a name is on, whether it is in force or not.
func (m *Model) FilteredBy(name string) []PlaceID {
	var out []PlaceID
	for _, r := range m.Estate.Of(estate.KindNamed("filter")) {
		if f := r.(*estate.Filter); f.Name == name {
			for _, p := range m.machines(f.On) {
				out = append(out, p.ID)
			}
		}
	}
	return out
}

// machines are the hosts that a filter is on, those of groups included, each once.
func (m *Model) machines(on []string) []*Place {
	if len(on) == 1 {
		if p := m.PlaceNamed(on[0]); p != nil && !p.IsContainer() {
			return []*Place{p}
		}
	}
	var out []*Place
	seen := map[string]bool{}
	var add func(name string)
	add = func(name string) {
		if seen[name] {
			return
		}
		seen[name] = true
		if p := m.PlaceNamed(name); p != nil {
			if !p.IsContainer() {
				out = append(out, p)
			}
			return
		}
		for _, member := range m.groups[name] {
			if member.Name != "" {
				add(member.Name)
			}
		}
	}
	for _, name := range on {
		add(name)
	}
	return out
}

func (m *Model) netOrNone(name string) (NetID, bool) {
	if name == "" {
		return NoNet, false
	}
	id, ok := m.networks[name]
	if !ok {
		return NoNet, true
	}
	return id, false
}

// challengePorts are those at which a method of a certificate proves a name (RFC 8555 §8.3, RFC 8737 §3).
var challengePorts = map[string]uint16{"http-01": 80, "tls-alpn-01": 443}

// ChallengePort is the port at which a method proves a name; false where it does at none.
func ChallengePort(method string) (uint16, bool) {
	port, ok := challengePorts[method]
	return port, ok
}

// ProvedAt are the TCP ports of a place that a program listens on while it has a certificate proved, and nobody otherwise.
func (m *Model) ProvedAt(p *Place) netset.Ports {
	var out netset.Ports
	for _, c := range m.CertsAt[p.Name] {
		if port, ok := ChallengePort(c.By); ok && c.Alone {
			out = out.Union(netset.PortsOf(netset.PortRange{Lo: port, Hi: port}))
		}
	}
	return out
}
