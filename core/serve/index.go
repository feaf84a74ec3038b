package serve

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/carry"
	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/netset"
)

// Index holds what is asked of the model by name, once for a tracer.
type Index struct {
	Intents   carry.Map[string, []*estate.Intent] // by target
	Exact     carry.Map[string, []*estate.Site]   // sites in force and off, by name
	Wildcards carry.Map[string, []*estate.Site]   // by the name below the "*."
	Forwards  map[netip.Addr][]*model.Forward     // by target
}

// maxListed is the longest range of ports that is listed one by one where a name's ports are asked for.
const maxListed = 64

// buildIndex makes the index of a model; what no line changed of since before is the other's.
func buildIndex(m *model.Model, before *Engine) *Index {
	x := &Index{Forwards: map[netip.Addr][]*model.Forward{}}
	if before == nil {
		x.indexIntents(m, func(string) bool { return true }, nil)
	} else {
		x.Intents = before.Index.Intents
		gone, come := estate.Changed(before.Model.Estate, m.Estate, estate.KindNamed("intend"))
		targets := map[string]bool{}
		for _, r := range slices.Concat(gone, come) {
			targets[r.(*estate.Intent).Target] = true
		}
		if len(targets) > 0 {
			x.indexIntents(m, estate.OneOf(targets), slices.Collect(maps.Keys(targets)))
		}
	}
	if before == nil {
		x.indexSites(m, func(string) bool { return true }, nil)
	} else {
		x.Exact, x.Wildcards = before.Index.Exact, before.Index.Wildcards
		gone, come := estate.Changed(before.Model.Estate, m.Estate, estate.KindNamed("site"))
		names := map[string]bool{}
		for _, r := range slices.Concat(gone, come) {
			for _, name := range r.(*estate.Site).Names {
				names[name] = true
			}
		}
		if len(names) > 0 {
			x.indexSites(m, estate.OneOf(names), slices.Collect(maps.Keys(names)))
		}
	}
	if before != nil && m.HangsTogetherAs(before.Model) && estate.Same(before.Model.Estate, m.Estate, "forward") {
		x.Forwards = before.Index.Forwards
		return x
	}
	for _, p := range m.Places {
		for _, f := range p.Forwards {
			if f.Record.Pool != "" {
				continue
			}
			x.Forwards[f.Record.To.Addr] = append(x.Forwards[f.Record.To.Addr], f)
		}
	}
	return x
}

// indexIntents lists those intents anew that are for some targets.
func (x *Index) indexIntents(m *model.Model, wanted func(target string) bool, anew []string) {
	come := map[string][]*estate.Intent{}
	for _, i := range m.Intents {
		if wanted(i.Target) {
			come[i.Target] = append(come[i.Target], i)
		}
	}
	x.Intents = x.Intents.After(anew, come)
}

// indexSites lists those sites anew that have some names.
func (x *Index) indexSites(m *model.Model, wanted func(name string) bool, anew []string) {
	exact, wildcards := map[string][]*estate.Site{}, map[string][]*estate.Site{}
	for _, r := range m.Estate.Of(estate.KindNamed("site")) {
		s := r.(*estate.Site)
		for _, name := range s.Names {
			if !wanted(name) {
				continue
			}
			if base, ok := strings.CutPrefix(name, "*."); ok {
				wildcards[base] = append(wildcards[base], s)
			} else {
				exact[name] = append(exact[name], s)
			}
		}
	}
	var named, below []string
	for _, name := range anew {
		if base, ok := strings.CutPrefix(name, "*."); ok {
			below = append(below, base)
		} else {
			named = append(named, name)
		}
	}
	x.Exact, x.Wildcards = x.Exact.After(named, exact), x.Wildcards.After(below, wildcards)
}

// entrances are the outermost ports by which a listener is entered: a forward's, else a map's,
// else its own.
func (x *Index) entrances(m *model.Model, l *estate.Listen) []flow.PortKey {
	p := m.PlaceNamed(l.Place)
	if p == nil {
		return nil
	}
	host := m.Places[p.Host]
	own := KeysOf(l.Bind.Ports)
	var mapped []flow.PortKey
	for _, mp := range host.Maps {
		if mp.Container == p.ID {
			mapped = append(mapped, outerOf(own, mp.Pairs, mp.Record.Bind.Transport)...)
		}
	}
	at := own
	if len(mapped) > 0 {
		at = mapped
	}
	if p.IsContainer() && p.Namespace == p.ID && len(mapped) == 0 {
		return at
	}
	var forwarded []flow.PortKey
	for _, a := range ownAddrs(host) {
		for _, f := range x.Forwards[a] {
			forwarded = append(forwarded, outerOf(at, f.Pairs, f.Record.Bind.Transport)...)
		}
	}
	if len(forwarded) > 0 {
		return forwarded
	}
	return at
}

func ownAddrs(p *model.Place) []netip.Addr {
	var out []netip.Addr
	for _, attachment := range p.Attachments {
		for _, a := range attachment.Addrs {
			if !slices.Contains(out, a) {
				out = append(out, a)
			}
		}
	}
	return out
}

func KeysOf(p estate.Ports) []flow.PortKey {
	var out []flow.PortKey
	if p.Any || p.Count() > maxListed {
		return nil
	}
	for _, t := range p.Transport.Each() {
		for _, r := range p.Ranges {
			for port := int(r.Lo); port <= int(r.Hi); port++ {
				out = append(out, flow.PortKey{Port: uint16(port), Transport: t})
			}
		}
	}
	return out
}

// outerOf are the outer ports that pairs translate to one of the keys.
func outerOf(keys []flow.PortKey, pairs []estate.Pair, transport netset.Transport) []flow.PortKey {
	var out []flow.PortKey
	for _, k := range keys {
		if transport&k.Transport == 0 {
			continue
		}
		for _, p := range pairs {
			switch {
			case p.Many && p.To == k.Port && p.From.Len() <= maxListed:
				for port := int(p.From.Lo); port <= int(p.From.Hi); port++ {
					out = append(out, flow.PortKey{Port: uint16(port), Transport: k.Transport})
				}
			case !p.Many && k.Port >= p.To && int(k.Port) < int(p.To)+p.From.Len():
				out = append(out, flow.PortKey{Port: p.From.Lo + (k.Port - p.To), Transport: k.Transport})
			}
		}
	}
	return out
}

// sitesFor are the sites that name a host name, exactly or by a wildcard; off ones too.
func (x *Index) sitesFor(name string) []*estate.Site {
	out := slices.Clone(x.Exact.Of(name))
	if base, ok := strings.CutPrefix(name, "*."); ok {
		return append(out, x.Wildcards.Of(base)...)
	}
	for up, ok := names.Parent(name); ok; up, ok = names.Parent(up) {
		out = append(out, x.Wildcards.Of(up)...)
	}
	return out
}

// onlyService is the one service that has a site for a name; "" where none or several have.
func (x *Index) onlyService(name string) string {
	found := ""
	for _, s := range x.sitesFor(name) {
		if found != "" && s.Service != found {
			return ""
		}
		found = s.Service
	}
	return found
}

// PortsOf are the ports of a name: those of its intents and those by which its sites are entered; if none,
// those that a forward, map or listener gives at its address; if none, 443 and 80. The second
// result is false in that last case.
func (t *Engine) PortsOf(name string, v *flow.Vantage) ([]flow.PortKey, bool) {
	return t.PortsReading(name, v, nil)
}

// PortsReading are the ports of a name; what they come of is added to reads.
func (t *Engine) PortsReading(name string, v *flow.Vantage, reads *memo.Reads) ([]flow.PortKey, bool) {
	var out []flow.PortKey
	for _, i := range t.Index.Intents.Of(name) {
		out = append(out, KeysOf(i.Ports)...)
	}
	for _, s := range t.Index.sitesFor(name) {
		if s.Off {
			continue
		}
		reads.Service(s.Service)
		service := t.Model.Services[s.Service]
		if service == nil {
			continue
		}
		for _, l := range service.Listens {
			if p := t.Model.PlaceNamed(l.Place); p != nil {
				reads.Place(p.Host)
			}
			if len(s.At.Ranges) > 0 && l.Bind.Set().Intersect(s.At.Set()).IsEmpty() || t.isBackend(name, l, reads) {
				continue
			}
			out = append(out, t.Index.entrances(t.Model, l)...)
		}
	}
	if len(out) == 0 {
		at := t.addressesOf(name, v)
		for _, a := range at {
			for _, h := range t.Model.Owners(a) {
				reads.Place(t.Model.Places[h.Place].Host)
			}
		}
		out = t.portsAtAll(at)
	}
	known := len(out) > 0
	if !known {
		out = []flow.PortKey{{Port: 443, Transport: netset.TCP}, {Port: 80, Transport: netset.TCP}}
	}
	slices.SortFunc(out, ComparePorts)
	return slices.Compact(out), known
}

// isBackend says whether a site of a name hands on to a listener: nobody is to ask that one for the name by itself.
func (t *Engine) isBackend(name string, l *estate.Listen, reads *memo.Reads) bool {
	behind := t.Model.PlaceNamed(l.Place)
	if behind == nil {
		return false
	}
	return slices.ContainsFunc(t.Index.sitesFor(name), func(s *estate.Site) bool {
		service := t.Model.Services[s.Service]
		if s.Off || service == nil {
			return false
		}
		reads.Service(s.Service)
		return slices.ContainsFunc(t.handedTo(s), func(to estate.URL) bool {
			reads.Asked(to.Host)
			return to.Transport()&l.Bind.Transport != 0 && slices.ContainsFunc(service.Listens, func(front *estate.Listen) bool {
				from := t.Model.PlaceNamed(front.Place)
				if tunnel := t.Model.Tunnels[s.Through]; tunnel != nil {
					from = t.Model.PlaceNamed(tunnel.From)
				}
				return front != l && t.handsTo(from, to, behind, l, reads)
			})
		})
	})
}

// handedTo are where a site hands on to: its URL, or each member of its pool.
func (t *Engine) handedTo(s *estate.Site) []estate.URL {
	if !s.To.IsZero() {
		return []estate.URL{s.To}
	}
	var out []estate.URL
	for _, m := range t.Model.Members[s.Pool] {
		out = append(out, estate.URL{Scheme: cmp.Or(s.Speaking, "http"), Endpoint: m.At})
	}
	return out
}

// handsTo says whether a URL, asked from a place, is a listener's: at its own port, or by a map that leads to it.
func (t *Engine) handsTo(from *model.Place, u estate.URL, behind *model.Place, l *estate.Listen, reads *memo.Reads) bool {
	if from == nil {
		return false
	}
	port := u.EffectivePort()
	for _, id := range t.Means(from, u.Endpoint) {
		at := t.Model.Places[id]
		reads.Place(id)
		reads.Place(at.Host)
		if at.ID == behind.Namespace && l.Bind.Set().Contains(port) {
			return true
		}
		for _, mp := range at.Maps {
			if mp.Container != behind.ID || mp.Record.Bind.Transport&u.Transport() == 0 {
				continue
			}
			for _, pair := range mp.Pairs {
				if pair.From.Contains(port) && l.Bind.Set().Contains(pair.Inner(port)) {
					return true
				}
			}
		}
	}
	return false
}

func (t *Engine) addressesOf(name string, v *flow.Vantage) []netip.Addr {
	if a, err := netip.ParseAddr(name); err == nil {
		return []netip.Addr{a.Unmap()}
	}
	if p := t.Model.PlaceNamed(name); p != nil {
		return ownAddrs(t.Model.Places[p.Namespace])
	}
	var out []netip.Addr
	for _, o := range v.Origins {
		v6, v4 := t.Model.Names.Addresses(name, t.Asker(o))
		for _, found := range slices.Concat(v6.Addresses, v4.Addresses) {
			if found.Addr.IsValid() {
				out = append(out, found.Addr)
			}
		}
	}
	return out
}

// portsAtAll are the ports that are given at every one of some addresses; where there are none, those given at any.
func (t *Engine) portsAtAll(addrs []netip.Addr) []flow.PortKey {
	var any, all []flow.PortKey
	for i, a := range addrs {
		here := t.portsAt(a)
		any = append(any, here...)
		if i == 0 {
			all = here
			continue
		}
		all = slices.DeleteFunc(slices.Clone(all), func(k flow.PortKey) bool { return !slices.Contains(here, k) })
	}
	if len(all) > 0 {
		return all
	}
	return any
}

// firstOf stands for each range of a list by its first port: one port of a wide range says what the others do.
func firstOf(p estate.Ports) estate.Ports {
	out := estate.Ports{Transport: p.Transport, Any: p.Any}
	for _, r := range p.Ranges {
		out.Ranges = append(out.Ranges, netset.OnePort(r.Lo))
	}
	return out
}

// portsAt are the ports that a forward, map or listener gives at an address.
func (t *Engine) portsAt(a netip.Addr) []flow.PortKey {
	var out []flow.PortKey
	for _, h := range t.Model.Owners(a) {
		p := t.Model.Places[h.Place]
		for _, f := range p.Forwards {
			if f.Record.Bind.Addr == a || !f.Record.Bind.Addr.IsValid() && slices.Contains(t.Model.OuterAddrs(p, a.Is6()), a) {
				out = append(out, KeysOf(firstOf(f.Record.Bind.Ports))...)
			}
		}
		for _, mp := range p.Maps {
			if flow.BindTakes(mp.Record.Bind.Addr, a, false) {
				out = append(out, KeysOf(firstOf(mp.Record.Bind.Ports))...)
			}
		}
		for i := range p.Sockets {
			if p.Sockets[i].Takes(a, false) {
				out = append(out, KeysOf(firstOf(p.Sockets[i].Record.Bind.Ports))...)
			}
		}
	}
	return out
}

// ComparePorts is the order in which a client tries ports: 443, 80, then rising; tcp before udp.
func ComparePorts(a, b flow.PortKey) int {
	rank := func(k flow.PortKey) int {
		switch k.Port {
		case 443:
			return -2
		case 80:
			return -1
		}
		return int(k.Port)
	}
	if d := rank(a) - rank(b); d != 0 {
		return d
	}
	return int(a.Transport) - int(b.Transport)
}
