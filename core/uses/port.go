package uses

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/netset"
	"steady-compass/core/trace"
)

// Port is a port of a machine or container, and of one transport: `azimuth:80`, `10.40.8.10:53/udp`.
const Port Kind = "port"

// widest is how many ports a rule may list and still mean each of them.
const widest = 64

// portAt is a port of a place that is looked for.
type portAt struct {
	t         *trace.Tracer
	m         *model.Model
	place     *model.Place // as it is named
	namespace *model.Place // whose addresses it is on
	port      uint16
	proto     netset.Transport
}

// parsePort reads PLACE:PORT or IP:PORT, with /udp behind it where it is that.
func (x *Index) parsePort(word string) (portAt, bool) {
	word = strings.ToLower(strings.TrimSpace(word))
	p := portAt{t: x.tracer, m: x.tracer.Model, proto: netset.TCP}
	if cut, ok := strings.CutSuffix(word, "/udp"); ok {
		word, p.proto = cut, netset.UDP
	} else {
		word = strings.TrimSuffix(word, "/tcp")
	}
	i := strings.LastIndexByte(word, ':')
	if i <= 0 {
		return p, false
	}
	n, err := strconv.ParseUint(word[i+1:], 10, 16)
	if err != nil || n == 0 {
		return p, false
	}
	p.port = uint16(n)
	host := strings.TrimSuffix(strings.TrimPrefix(word[:i], "["), "]")
	if p.place = p.m.PlaceNamed(host); p.place == nil {
		if a, err := netip.ParseAddr(host); err == nil {
			if owners := p.m.Owners(a); len(owners) > 0 {
				p.place = p.m.Places[owners[0].Place]
			}
		}
	}
	if p.place == nil {
		return p, false
	}
	p.namespace = p.m.Places[p.place.Namespace]
	return p, true
}

func (p portAt) String() string {
	text := p.place.Name + ":" + strconv.Itoa(int(p.port))
	if p.proto == netset.UDP {
		text += "/udp"
	}
	return text
}

// find gives every record that uses the port, in the order of the estate.
func (p portAt) find(all []estate.Record) []Use {
	var out []Use
	for _, r := range all {
		if how, _ := p.use(r); how != "" {
			out = append(out, Use{r, how, ""})
		}
	}
	return out
}

// move gives each line with another port in the old one's place.
func (p portAt) move(all []estate.Record, to uint16) []Swap {
	var out []Swap
	for _, r := range all {
		how, with := p.use(r)
		if how == "" {
			continue
		}
		s := Swap{Use: Use{Record: r, How: how}, New: estate.Line(r), Keep: how != Direct || r.Meta().Off || isForName(r)}
		if with != nil {
			next := with(to)
			if err := estate.Complete(next); err != nil {
				s.Keep, s.Wrong = true, err.Error()
			} else {
				s.New = estate.Line(next)
			}
		}
		if with == nil {
			s.Keep, s.Wrong = true, "it stands in a range or in words, and is yours to change"
		}
		out = append(out, s)
	}
	return out
}

// takenBy says whether a record takes the port: it listens there, or is mapped there into a container, recorded or not.
func (p portAt) takenBy(r estate.Record) bool {
	switch r := r.(type) {
	case *estate.Listen:
		return r.Place == p.place.Name && p.among(r.Bind.Ports)
	case *estate.Map:
		host, _, _ := strings.Cut(r.Container, "/")
		return host == p.place.Name && p.among(r.Bind.Ports)
	}
	return false
}

// isForName says whether a record says at which port a name is asked: that is the visitors' habit, and stays by itself.
func isForName(r estate.Record) bool {
	i, ok := r.(*estate.Intent)
	if !ok || i.Reaching.Port != 0 {
		return false
	}
	_, err := netip.ParseAddr(i.Target)
	return err != nil && strings.Contains(i.Target, ".") && !strings.Contains(i.Target, "/")
}

// use says how a record uses the port, and makes the record with another in its place.
func (p portAt) use(r estate.Record) (How, func(to uint16) estate.Record) {
	switch r := r.(type) {
	case *estate.Listen:
		if at := p.m.PlaceNamed(r.Place); at != nil && at.Namespace == p.namespace.ID && p.among(r.Bind.Ports) {
			return p.list(r.Bind.Ports, func(ports estate.Ports) estate.Record { c := *r; c.Bind.Ports = ports; return fresh(&c) })
		}
	case *estate.Map:
		return p.mapped(r)
	case *estate.Forward:
		return p.forwarded(r)
	case *estate.Rule:
		if p.ruled(r) {
			with := func(ports estate.Ports) estate.Record { c := *r; c.Ports = ports; return fresh(&c) }
			if p.sharedRule(r) {
				return p.beside(r.Ports, with)
			}
			return p.list(r.Ports, with)
		}
	case *estate.Site:
		return p.site(r)
	case *estate.Member:
		if p.proto == netset.TCP && r.At.Port == p.port && p.meant(nil, r.At) {
			return Direct, func(to uint16) estate.Record { c := *r; c.At.Port = to; return fresh(&c) }
		}
	case *estate.Pool:
		if r.Check == int(p.port) && p.proto == netset.TCP && p.hasMember(r.Name) {
			return Direct, func(to uint16) estate.Record { c := *r; c.Check = int(to); return fresh(&c) }
		}
	case *estate.Tunnel:
		if from := p.m.PlaceNamed(r.From); from != nil && r.To.Port == p.port && p.meant([]*model.Place{from}, r.To) {
			return Direct, func(to uint16) estate.Record { c := *r; c.To.Port = to; return fresh(&c) }
		}
	case *estate.Intent:
		return p.intended(r)
	}
	return "", nil
}

// fresh is a record whose line is still to be made.
func fresh(r estate.Record) estate.Record {
	c := estate.InForce(r)
	c.Meta().Off = r.Meta().Off
	return c
}

// among says whether a list has the port.
func (p portAt) among(list estate.Ports) bool {
	return list.Transport&p.proto != 0 && list.Set().Contains(p.port)
}

// list is the use of a list of ports. One that is for every port, or for another transport too, stays as it is.
func (p portAt) list(list estate.Ports, with func(estate.Ports) estate.Record) (How, func(uint16) estate.Record) {
	if list.Any {
		return Inside, nil
	}
	if list.Transport != p.proto {
		return Direct, nil
	}
	return Direct, func(to uint16) estate.Record {
		list.Ranges = swapPort(list.Ranges, p.port, to)
		return with(list)
	}
}

// beside is the use of a list that others need as it is: the other port comes beside the old one.
func (p portAt) beside(list estate.Ports, with func(estate.Ports) estate.Record) (How, func(uint16) estate.Record) {
	how, alone := p.list(list, with)
	if alone == nil {
		return how, nil
	}
	return how, func(to uint16) estate.Record {
		if !list.Set().Contains(to) {
			list.Ranges = append(slices.Clone(list.Ranges), netset.OnePort(to))
		}
		return with(list)
	}
}

// sharedRule says whether a rule lets others on to that port too: other machines of its filter, or other places that it names.
func (p portAt) sharedRule(r *estate.Rule) bool {
	others := func(place *model.Place) bool {
		return place != nil && place.Namespace != p.namespace.ID && p.uses(place)
	}
	if len(r.To) > 0 {
		return slices.ContainsFunc(r.To, func(s estate.Selector) bool {
			switch at := p.m.PlaceNamed(s.Name); {
			case at != nil:
				return others(at)
			case s.Name != "" || s.Word != "" || !s.Prefix.IsSingleIP():
				return true // a network, a group: whoever is in it
			}
			return slices.ContainsFunc(p.m.Owners(s.Prefix.Addr()), func(h model.Holding) bool { return others(p.m.Places[h.Place]) })
		})
	}
	return slices.ContainsFunc(p.m.FilteredBy(r.Filter), func(id model.PlaceID) bool { return others(p.m.Places[id]) })
}

// uses says whether a place listens on the port, maps or forwards it, or nobody wrote down what it does.
func (p portAt) uses(at *model.Place) bool {
	namespace := p.m.Places[at.Namespace]
	return at.Unlisted || namespace.Unlisted ||
		slices.ContainsFunc(namespace.Sockets, func(s model.Socket) bool { return p.among(s.Record.Bind.Ports) }) ||
		slices.ContainsFunc(at.Maps, func(m *model.Map) bool { return p.among(m.Record.Bind.Ports) }) ||
		slices.ContainsFunc(at.Forwards, func(f *model.Forward) bool { return p.among(f.Record.Bind.Ports) })
}

// swapPort puts a port in another's place, in the order written; one that the list has already is not listed twice.
func swapPort(ranges []netset.PortRange, from, to uint16) []netset.PortRange {
	has := netset.PortsOf(ranges...).Contains(to)
	var out []netset.PortRange
	for _, r := range splitAt(ranges, from) {
		switch {
		case r != netset.OnePort(from):
			out = append(out, r)
		case !has:
			out = append(out, netset.OnePort(to))
		}
	}
	return out
}

// splitAt cuts the range that has a port, so that the port stands alone.
func splitAt(ranges []netset.PortRange, port uint16) []netset.PortRange {
	var out []netset.PortRange
	for _, r := range ranges {
		if !r.Contains(port) {
			out = append(out, r)
			continue
		}
		if r.Lo < port {
			out = append(out, netset.PortRange{Lo: r.Lo, Hi: port - 1})
		}
		out = append(out, netset.OnePort(port))
		if port < r.Hi {
			out = append(out, netset.PortRange{Lo: port + 1, Hi: r.Hi})
		}
	}
	return out
}

// replaceAt puts a port in another's place wherever it stands in a list that is translated one to one.
func replaceAt(ranges []netset.PortRange, from, to uint16) []netset.PortRange {
	out := splitAt(ranges, from)
	for i, r := range out {
		if r == netset.OnePort(from) {
			out[i] = netset.OnePort(to)
		}
	}
	return out
}

// mapped is a map whose outer port the machine has, or whose inner one the container.
func (p portAt) mapped(r *estate.Map) (How, func(uint16) estate.Record) {
	c := p.m.PlaceNamed(r.Container)
	if c == nil || r.Bind.Transport&p.proto == 0 {
		return "", nil
	}
	alone := r.Bind.Transport == p.proto
	switch {
	case c.Host == p.namespace.ID && p.namespace.ID == p.place.ID && r.Bind.Set().Contains(p.port):
		if !alone {
			return Direct, nil
		}
		return Direct, func(to uint16) estate.Record {
			n := *r
			n.Bind.Ranges = replaceAt(r.Bind.Ranges, p.port, to)
			return fresh(&n)
		}
	case c.Namespace == p.namespace.ID && c.ID != p.namespace.Host && r.To.Set().Contains(p.port):
		if !alone {
			return Direct, nil
		}
		return Direct, func(to uint16) estate.Record {
			n := *r
			n.To.Ranges = replaceAt(r.To.Ranges, p.port, to)
			return fresh(&n)
		}
	}
	return "", nil
}

// forwarded is a forward that leads to the port, or stands on it.
func (p portAt) forwarded(r *estate.Forward) (How, func(uint16) estate.Record) {
	if r.Bind.Transport&p.proto == 0 {
		return "", nil
	}
	leads := slices.ContainsFunc(p.m.Owners(r.To.Addr), func(h model.Holding) bool { return h.Place == p.namespace.ID })
	inner := r.To.Ports
	if r.To.Kept() {
		inner = r.Bind.Ports
	}
	switch {
	case leads && inner.Set().Contains(p.port):
		if r.Bind.Any || inner.Any || r.Bind.Transport != p.proto {
			return Inside, nil
		}
		return Direct, func(to uint16) estate.Record {
			n := *r
			n.To.Ports.Ranges = replaceAt(inner.Ranges, p.port, to)
			n.To.Ports.Transport = netset.TCP
			return fresh(&n)
		}
	case r.Router == p.place.Name && r.Bind.Set().Contains(p.port):
		if r.Bind.Any || r.Bind.Transport != p.proto {
			return Inside, nil
		}
		return Direct, func(to uint16) estate.Record {
			n := *r
			if n.To.Kept() {
				n.To.Ports.Ranges, n.To.Ports.Transport = splitAt(r.Bind.Ranges, p.port), netset.TCP
			}
			n.Bind.Ranges = replaceAt(r.Bind.Ranges, p.port, to)
			return fresh(&n)
		}
	}
	return "", nil
}

// ruled says whether a rule is for the port: on a filter of the machine for what comes in to it, or to the place.
func (p portAt) ruled(r *estate.Rule) bool {
	if r.Ports.Any || r.Ports.Count() > widest || !p.among(r.Ports) {
		return false
	}
	host := p.m.Places[p.namespace.Host]
	for hook, filters := range host.Filters {
		for _, f := range filters {
			if f.Record.Name != r.Filter {
				continue
			}
			if h := model.Hook(hook); !p.namespace.IsContainer() && (h == model.Input || h == model.Prerouting) {
				return len(r.To) == 0 || p.named(r.To)
			}
		}
	}
	return len(r.To) > 0 && p.named(r.To)
}

// named says whether a list names the place, or an address of its own and no wider one.
func (p portAt) named(list []estate.Selector) bool {
	return slices.ContainsFunc(list, func(s estate.Selector) bool {
		if s.Name != "" {
			at := p.m.PlaceNamed(s.Name)
			return at != nil && at.Namespace == p.namespace.ID
		}
		return s.Prefix.IsValid() && s.Prefix.IsSingleIP() && p.namespace.Owns(s.Prefix.Addr())
	})
}

// site is a site that hands on to the port, or is picked at it.
func (p portAt) site(r *estate.Site) (How, func(uint16) estate.Record) {
	var places []*model.Place
	if s := p.m.Services[r.Service]; s != nil {
		for _, l := range s.Listens {
			if at := p.m.PlaceNamed(l.Place); at != nil {
				places = append(places, at)
			}
		}
	}
	asker := places
	if t := p.m.Tunnels[r.Through]; t != nil { // it is the inner place that hands on
		asker = []*model.Place{p.m.PlaceNamed(t.From)}
	}
	if !r.To.IsZero() && r.To.EffectivePort() == p.port && r.To.Transport() == p.proto && p.meant(asker, r.To.Endpoint) {
		return Direct, func(to uint16) estate.Record { c := *r; c.To.Port = to; return fresh(&c) }
	}
	if len(r.At.Ranges) > 0 && p.among(r.At.Ports) {
		for _, at := range places {
			if at.Namespace == p.namespace.ID {
				return p.list(r.At.Ports, func(ports estate.Ports) estate.Record { c := *r; c.At.Ports = ports; return fresh(&c) })
			}
		}
	}
	return "", nil
}

// meant says whether the host part of a URL or an endpoint is the place, seen from one of some places.
func (p portAt) meant(from []*model.Place, e estate.Endpoint) bool {
	if len(from) == 0 {
		from = []*model.Place{nil}
	}
	return slices.ContainsFunc(from, func(at *model.Place) bool {
		return slices.Contains(p.t.Means(at, e), p.namespace.ID)
	})
}

func (p portAt) hasMember(pool string) bool {
	for _, r := range p.m.Estate.Of(estate.KindNamed("member")) {
		if m := r.(*estate.Member); m.Pool == pool && p.meant(nil, m.At) {
			return true
		}
	}
	return false
}

// intended is an intent for the place on the port, or one that is to reach it there.
func (p portAt) intended(r *estate.Intent) (How, func(uint16) estate.Record) {
	is := func(name string) bool {
		at := p.m.PlaceNamed(name)
		return at != nil && at.ID == p.place.ID
	}
	owns := p.answers(r)
	switch {
	case r.Reaching.Port == p.port && is(r.Reaching.Host):
		return Direct, func(to uint16) estate.Record { c := *r; c.Reaching.Port = to; return fresh(&c) }
	case (is(r.Target) || owns) && !r.Ports.Any && p.among(r.Ports):
		return p.list(r.Ports, func(ports estate.Ports) estate.Record { c := *r; c.Ports = ports; return fresh(&c) })
	}
	return "", nil
}

// answers says whether an intent's target is an address of the place's own, or a name that answers with one to the
// intent's audience.
func (p portAt) answers(r *estate.Intent) bool {
	if a, err := netip.ParseAddr(r.Target); err == nil {
		return p.namespace.Owns(a)
	}
	askers := []names.Asker{p.m.AskerAt(model.Nowhere, model.Internet)}
	for _, s := range r.For {
		if n := p.m.NetNamed(s.Name); s.Name != "" && n != nil {
			askers = append(askers, p.m.AskerAt(model.Nowhere, n.ID))
		} else if at := p.m.PlaceNamed(s.Name); s.Name != "" && at != nil {
			askers = append(askers, p.m.AskerAt(at.ID, model.NoNet))
		}
	}
	return slices.ContainsFunc(askers, func(asker names.Asker) bool {
		v6, v4 := p.m.Names.Addresses(r.Target, asker)
		return slices.ContainsFunc(slices.Concat(v6.Addresses, v4.Addresses), func(a names.Address) bool { return p.namespace.Owns(a.Addr) })
	})
}
