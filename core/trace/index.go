package trace

import (
	"maps"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/carry"
	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/netset"
)

// index holds what is asked of the model by name, once for a tracer.
type index struct {
	intents   carry.Map[string, []*estate.Intent] // by target
	exact     carry.Map[string, []*estate.Site]   // sites in force and off, by name
	wildcards carry.Map[string, []*estate.Site]   // by the name below the "*."
	forwards  map[netip.Addr][]*model.Forward     // by target
}

// PortKey is a port of one transport.
type PortKey struct {
	Port      uint16
	Transport netset.Transport
}

// maxListed is the longest range of ports that is listed one by one where a name's ports are asked for.
const maxListed = 64

// buildIndex makes the index of a model; what no line changed of since before is the other's.
func buildIndex(m *model.Model, before *Tracer) *index {
	x := &index{forwards: map[netip.Addr][]*model.Forward{}}
	if before == nil {
		x.indexIntents(m, func(string) bool { return true }, nil)
	} else {
		x.intents = before.index.intents
		gone, come := estate.Changed(before.m.Estate, m.Estate, estate.KindNamed("intend"))
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
		x.exact, x.wildcards = before.index.exact, before.index.wildcards
		gone, come := estate.Changed(before.m.Estate, m.Estate, estate.KindNamed("site"))
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
	if before != nil && m.HangsTogetherAs(before.m) && estate.Same(before.m.Estate, m.Estate, "forward") {
		x.forwards = before.index.forwards
		return x
	}
	for _, p := range m.Places {
		for _, f := range p.Forwards {
			if f.Record.Pool != "" {
				continue
			}
			x.forwards[f.Record.To.Addr] = append(x.forwards[f.Record.To.Addr], f)
		}
	}
	return x
}

// indexIntents lists those intents anew that are for some targets.
func (x *index) indexIntents(m *model.Model, wanted func(target string) bool, anew []string) {
	come := map[string][]*estate.Intent{}
	for _, i := range m.Intents {
		if wanted(i.Target) {
			come[i.Target] = append(come[i.Target], i)
		}
	}
	x.intents = x.intents.After(anew, come)
}

// indexSites lists those sites anew that have some names.
func (x *index) indexSites(m *model.Model, wanted func(name string) bool, anew []string) {
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
	x.exact, x.wildcards = x.exact.After(named, exact), x.wildcards.After(below, wildcards)
}

// entrances are the outermost ports by which a listener is entered: a forward's, else a map's,
// else its own.
func (x *index) entrances(m *model.Model, l *estate.Listen) []PortKey {
	p := m.PlaceNamed(l.Place)
	if p == nil {
		return nil
	}
	host := m.Places[p.Host]
	own := keysOf(l.Bind.Ports)
	var mapped []PortKey
	for _, mp := range host.Maps {
		if mp.Container == p.ID {
			mapped = append(mapped, outerOf(own, mp.Pairs, mp.Record.Bind.Transport)...)
		}
	}
	at := own
	if len(mapped) > 0 {
		at = mapped
	}
	if p.IsContainer() && p.Stack == p.ID && len(mapped) == 0 {
		return at
	}
	var forwarded []PortKey
	for _, a := range ownAddrs(host) {
		for _, f := range x.forwards[a] {
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
	for _, leg := range p.Legs {
		for _, a := range leg.Addrs {
			if !slices.Contains(out, a) {
				out = append(out, a)
			}
		}
	}
	return out
}

func keysOf(p estate.Ports) []PortKey {
	var out []PortKey
	if p.Any || p.Count() > maxListed {
		return nil
	}
	for _, t := range p.Transport.Each() {
		for _, r := range p.Ranges {
			for port := int(r.Lo); port <= int(r.Hi); port++ {
				out = append(out, PortKey{uint16(port), t})
			}
		}
	}
	return out
}

// outerOf are the outer ports that pairs translate to one of the keys.
func outerOf(keys []PortKey, pairs []estate.Pair, transport netset.Transport) []PortKey {
	var out []PortKey
	for _, k := range keys {
		if transport&k.Transport == 0 {
			continue
		}
		for _, p := range pairs {
			switch {
			case p.Many && p.To == k.Port && p.From.Len() <= maxListed:
				for port := int(p.From.Lo); port <= int(p.From.Hi); port++ {
					out = append(out, PortKey{uint16(port), k.Transport})
				}
			case !p.Many && k.Port >= p.To && int(k.Port) < int(p.To)+p.From.Len():
				out = append(out, PortKey{p.From.Lo + (k.Port - p.To), k.Transport})
			}
		}
	}
	return out
}

// sitesFor are the sites that name a host name, exactly or by a wildcard; off ones too.
func (x *index) sitesFor(name string) []*estate.Site {
	out := slices.Clone(x.exact.Of(name))
	if base, ok := strings.CutPrefix(name, "*."); ok {
		return append(out, x.wildcards.Of(base)...)
	}
	for up, ok := names.Parent(name); ok; up, ok = names.Parent(up) {
		out = append(out, x.wildcards.Of(up)...)
	}
	return out
}

// onlyService is the one service that has a site for a name; "" where none or several have.
func (x *index) onlyService(name string) string {
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
func (t *Tracer) PortsOf(name string, v *Vantage) ([]PortKey, bool) {
	return t.PortsReading(name, v, nil)
}

// PortsReading are the ports of a name; what they come of is added to reads.
func (t *Tracer) PortsReading(name string, v *Vantage, reads *Reads) ([]PortKey, bool) {
	var out []PortKey
	for _, i := range t.index.intents.Of(name) {
		out = append(out, keysOf(i.Ports)...)
	}
	for _, s := range t.index.sitesFor(name) {
		if s.Off {
			continue
		}
		reads.service(s.Service)
		service := t.m.Services[s.Service]
		if service == nil {
			continue
		}
		for _, l := range service.Listens {
			if p := t.m.PlaceNamed(l.Place); p != nil {
				reads.place(p.Host)
			}
			if len(s.At.Ranges) > 0 && l.Bind.Set().Intersect(s.At.Set()).IsEmpty() || t.isBackend(name, l, reads) {
				continue
			}
			out = append(out, t.index.entrances(t.m, l)...)
		}
	}
	if len(out) == 0 {
		at := t.addressesOf(name, v)
		for _, a := range at {
			for _, h := range t.m.Owners(a) {
				reads.place(t.m.Places[h.Place].Host)
			}
		}
		out = t.portsAtAll(at)
	}
	known := len(out) > 0
	if !known {
		out = []PortKey{{443, netset.TCP}, {80, netset.TCP}}
	}
	slices.SortFunc(out, comparePorts)
	return slices.Compact(out), known
}

// isBackend says whether a site of a name hands on to a listener: nobody is to ask that one for the name by itself.
func (t *Tracer) isBackend(name string, l *estate.Listen, reads *Reads) bool {
	behind := t.m.PlaceNamed(l.Place)
	if behind == nil {
		return false
	}
	return slices.ContainsFunc(t.index.sitesFor(name), func(s *estate.Site) bool {
		service := t.m.Services[s.Service]
		if s.Off || s.To.IsZero() || service == nil || s.To.Transport()&l.Bind.Transport == 0 {
			return false
		}
		reads.service(s.Service)
		reads.Asked(s.To.Host)
		return slices.ContainsFunc(service.Listens, func(front *estate.Listen) bool {
			return front != l && t.handsTo(t.m.PlaceNamed(front.Place), s.To, behind, l, reads)
		})
	})
}

// handsTo says whether a URL, asked from a place, is a listener's: at its own port, or by a map that leads to it.
func (t *Tracer) handsTo(from *model.Place, u estate.URL, behind *model.Place, l *estate.Listen, reads *Reads) bool {
	if from == nil {
		return false
	}
	port := u.EffectivePort()
	for _, id := range t.Means(from, u.Endpoint) {
		at := t.m.Places[id]
		reads.place(id)
		reads.place(at.Host)
		if at.ID == behind.Stack && l.Bind.Set().Contains(port) {
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

func (t *Tracer) addressesOf(name string, v *Vantage) []netip.Addr {
	if a, err := netip.ParseAddr(name); err == nil {
		return []netip.Addr{a.Unmap()}
	}
	if p := t.m.PlaceNamed(name); p != nil {
		return ownAddrs(t.m.Places[p.Stack])
	}
	var out []netip.Addr
	for _, o := range v.origins {
		v6, v4 := t.m.Names.Addresses(name, t.asker(o))
		for _, found := range slices.Concat(v6.Addresses, v4.Addresses) {
			if found.Addr.IsValid() {
				out = append(out, found.Addr)
			}
		}
	}
	return out
}

// portsAtAll are the ports that are given at every one of some addresses; where there are none, those given at any.
func (t *Tracer) portsAtAll(addrs []netip.Addr) []PortKey {
	var any, all []PortKey
	for i, a := range addrs {
		here := t.portsAt(a)
		any = append(any, here...)
		if i == 0 {
			all = here
			continue
		}
		all = slices.DeleteFunc(slices.Clone(all), func(k PortKey) bool { return !slices.Contains(here, k) })
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
func (t *Tracer) portsAt(a netip.Addr) []PortKey {
	var out []PortKey
	for _, h := range t.m.Owners(a) {
		p := t.m.Places[h.Place]
		for _, f := range p.Forwards {
			if f.Record.Bind.Addr == a || !f.Record.Bind.Addr.IsValid() && slices.Contains(t.m.OuterAddrs(p, a.Is6()), a) {
				out = append(out, keysOf(firstOf(f.Record.Bind.Ports))...)
			}
		}
		for _, mp := range p.Maps {
			if bindTakes(mp.Record.Bind.Addr, a, false) {
				out = append(out, keysOf(firstOf(mp.Record.Bind.Ports))...)
			}
		}
		for i := range p.Sockets {
			if p.Sockets[i].Takes(a, false) {
				out = append(out, keysOf(firstOf(p.Sockets[i].Record.Bind.Ports))...)
			}
		}
	}
	return out
}

// comparePorts is the order in which a client tries ports: 443, 80, then rising; tcp before udp.
func comparePorts(a, b PortKey) int {
	rank := func(k PortKey) int {
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
