package exposure

import (
	"net/netip"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// Shut is a port that is shut to the internet, as it would be entered, and the lines that each alone keep it so: taken out, or off, any of
// them would let the internet in.
type Shut struct {
	Host      *model.Place // the machine that would be entered
	Addr      netip.Addr
	Port      uint16
	Transport netset.Transport
	By        []estate.Record // a filter, and the rule of it that decides, where one does
}

// wayIn is an address and port by which a listener may be come to, if nothing stops it.
type wayIn struct {
	host *model.Place
	addr netip.Addr
	port uint16
}

// KeptShut finds what alone keeps the internet from a port of a place, by each way that leads there: its machine's addresses that the
// internet carries, its maps, and the forwards to these. Where something else stops the flow as well, no line does alone; nor does one that
// would let in some who are named and not everybody.
func (t *Engine) KeptShut(p *model.Place, key flow.PortKey, reads *memo.Reads) []Shut {
	internet, err := t.VantageNamed("internet")
	if err != nil {
		return nil
	}
	reads.Place(p.ID)
	reads.Place(p.Host)
	var out []Shut
	for _, e := range t.entriesTo(p, key) {
		reads.Place(e.host.ID)
		if by := t.keeping(internet.Origins[0], e, p, key, reads); len(by) > 0 {
			out = append(out, Shut{e.host, e.addr, e.port, key.Transport, by})
		}
	}
	return out
}

// entriesTo are the ways to a port of a place that begin on the internet.
func (t *Engine) entriesTo(p *model.Place, key flow.PortKey) []wayIn {
	host := t.Model.Places[p.Host]
	var at []wayIn // on its own machine
	add := func(of *model.Place, port uint16, bound netip.Addr) {
		for _, attachment := range of.Attachments {
			for _, a := range attachment.Addrs {
				if !attachment.Gateway && (!bound.IsValid() || bound == a || bound.IsUnspecified() && bound.Is6() == a.Is6()) {
					at = append(at, wayIn{host, a, port})
				}
			}
		}
	}
	add(p, key.Port, netip.Addr{})
	for _, mp := range host.Maps {
		if mp.Container != p.ID || mp.Net == model.NoNet || mp.Record.Bind.Transport&key.Transport == 0 {
			continue
		}
		for _, outer := range outers(mp.Pairs, key.Port) {
			add(host, outer, mp.Record.Bind.Addr)
		}
	}
	var out []wayIn
	for _, e := range at {
		if netset.GloballyReachable().Contains(e.addr) {
			out = append(out, e)
		}
		for _, f := range t.Index.Forwards[e.addr] {
			router := t.Model.PlaceNamed(f.Record.Router)
			if router == nil || f.Record.Bind.Transport&key.Transport == 0 {
				continue
			}
			addrs := t.Model.OuterAddrs(router, e.addr.Is6())
			if a := f.Record.Bind.Addr; a.IsValid() {
				addrs = []netip.Addr{a}
			}
			for _, outer := range outers(f.Pairs, e.port) {
				for _, a := range addrs {
					if netset.GloballyReachable().Contains(a) {
						out = append(out, wayIn{router, a, outer})
					}
				}
			}
		}
	}
	return out
}

// outers are the ports that a translation makes one: the first of those that become the same.
func outers(pairs []estate.Pair, inner uint16) []uint16 {
	var out []uint16
	for _, p := range pairs {
		for _, port := range []int{int(p.From.Lo), int(p.From.Lo) + int(inner) - int(p.To)} {
			if port >= int(p.From.Lo) && port <= int(p.From.Hi) && p.Inner(uint16(port)) == inner {
				out = append(out, uint16(port))
				break
			}
		}
	}
	return out
}

// keeping are the lines of which each alone stops a flow on its way to a place.
func (t *Engine) keeping(o flow.Origin, e wayIn, p *model.Place, key flow.PortKey, reads *memo.Reads) []estate.Record {
	deliver := func(g flow.Goal) []flow.Landing {
		w := o.Start(key.Transport, netset.PortsOf(netset.OnePort(e.port)))
		w.Dst, w.Reads = flow.ToAddr(e.addr), reads
		g.Place = p.ID
		return t.Deliver(o, w, g)
	}
	opens := func(absent flow.Absent) bool {
		var in []netset.Addrs
		for _, l := range deliver(flow.Goal{Absent: absent}) {
			if l.Stopped == "" && l.Socket != nil && l.Socket.Place == p.ID {
				in = append(in, l.Origins)
			}
		}
		return netset.Union(in...).Share() > o.Set.Of(e.addr.Is6()).Share()/2
	}
	var out []estate.Record
	for _, l := range deliver(flow.Goal{Diagnose: true, Port: key.Port}) {
		steps, breaks := l.Collect()
		if len(breaks) == 0 || breaks[0].Code != "path.blocked" || breaks[0].Step >= len(steps) {
			continue
		}
		f, rule := t.decided(&steps[breaks[0].Step])
		if f == nil || slices.Contains(out, estate.Record(f)) || !opens(flow.Absent{Filter: f}) {
			continue
		}
		if out = append(out, f); rule != nil && opens(flow.Absent{Rule: rule}) {
			out = append(out, rule)
		}
	}
	return out
}

// decided are the filter of a step, and the one rule of it that decided; nil where none alone did.
func (t *Engine) decided(s *flow.Step) (*estate.Filter, *estate.Rule) {
	at := t.Model.PlaceNamed(s.At)
	if at == nil || s.Filter == "" {
		return nil, nil
	}
	for _, list := range at.Filters {
		for _, f := range list {
			if f.Record.Name != s.Filter {
				continue
			}
			if i := slices.IndexFunc(f.Rules, func(r *model.Rule) bool { return len(s.Records) == 1 && estate.Line(r.Record) == s.Records[0] }); i >= 0 {
				return f.Record, f.Rules[i].Record
			}
			return f.Record, nil
		}
	}
	return nil, nil
}
