package packetfilter

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// writing turns the records of a host into a ruleset.
type writing struct {
	m     *model.Model
	host  *model.Place
	names map[model.NetID]string // its interfaces
	out   *Ruleset
	left  []string
}

// ErrNoHost is the error for a place that has no packet filter of its own.
var ErrNoHost = errors.New("no host")

// FromRecords is the ruleset that does what the records say of a host: its filters, forwards, rewritings, and the maps of
// its containers. An interface has the name of its network where none is given for it. left names what a ruleset cannot
// say.
func FromRecords(e *estate.Estate, host string, interfaces map[string]string) (rs *Ruleset, left []string, err error) {
	w := &writing{m: model.Compile(e), names: map[model.NetID]string{}, out: &Ruleset{}}
	if w.host = w.m.PlaceNamed(host); w.host == nil || w.host.IsContainer() {
		return nil, nil, fmt.Errorf("%w: %q; expected a host that is recorded", ErrNoHost, host)
	}
	for _, leg := range w.host.Attachments {
		w.names[leg.Net] = w.m.Networks[leg.Net].Name
		for name, net := range interfaces {
			if net == w.names[leg.Net] {
				w.names[leg.Net] = name
				break
			}
		}
	}
	for hook, list := range w.host.Filters {
		for i, f := range list {
			w.filter(model.Hook(hook), i, f)
		}
	}
	for _, six := range []bool{false, true} {
		w.translate(six)
	}
	return w.out, w.left, nil
}

func (w *writing) leave(format string, args ...any) {
	line := fmt.Sprintf(format, args...)
	if !slices.Contains(w.left, line) {
		w.left = append(w.left, line)
	}
}

// kernelHooks are the hooks of the kernel, with the priority from which filters are put in order: ahead of translation, or
// behind it.
var kernelHooks = map[model.Hook]struct {
	hook     string
	priority int
}{
	model.Prerouting: {"prerouting", -150}, model.Input: {"input", 0}, model.Forwarding: {"forward", 0}, model.Output: {"output", 0}, model.Postrouting: {"postrouting", 50},
}

func (w *writing) filter(hook model.Hook, at int, f *model.Filter) {
	family := map[string]string{"": "inet", "ipv4": "ip", "ipv6": "ip6"}[f.Record.Family]
	k := kernelHooks[hook]
	c := &Chain{Family: family, Table: "filters", Name: f.Record.Name, Type: "filter", Hook: k.hook, Priority: k.priority + at, Policy: "accept"}
	w.out.Chains = append(w.out.Chains, c)
	put := func(action Action, edit func(*Match)) {
		m := Everything(family)
		edit(&m)
		c.Rules = append(c.Rules, Rule{Match: m, Action: action})
	}
	put(Accept, func(m *Match) { m.Transport, m.ICMP = 0, true })
	if !f.Record.Stateless {
		put(Accept, func(m *Match) { m.Fresh, m.Invalid = false, false })
	}
	if f.Record.Strict {
		put(Drop, func(m *Match) { m.Transport, m.Fresh, m.GoingOn = netset.TCP, false, false })
	}
	inside := w.containerNets()
	switch hook {
	case model.Prerouting:
		put(Accept, func(m *Match) { m.In = Interfaces{List: append([]string{"lo"}, inside...)} })
	case model.Input:
		if !f.Record.LoopbackToo {
			put(Accept, func(m *Match) { m.In = Interfaces{List: []string{"lo"}} })
		}
	case model.Output:
		if !f.Record.LoopbackToo {
			put(Accept, func(m *Match) { m.Local = true })
		}
	case model.Postrouting:
		put(Accept, func(m *Match) { m.Out = Interfaces{List: []string{"lo"}} })
	case model.Forwarding:
		if !f.Record.GuardsContainers {
			for _, n := range inside {
				put(Accept, func(m *Match) {
					m.In, m.Out = Interfaces{List: []string{n}}, Interfaces{Except: true, List: []string{n}}
				})
				put(Accept, func(m *Match) { m.Out, m.Translated = Interfaces{List: []string{n}}, true })
			}
		}
	}
	for _, rule := range f.Rules {
		w.rule(c, rule)
	}
	switch f.Record.Otherwise {
	case "drop":
		c.Policy = "drop"
	case "refuse":
		c.Policy = "drop"
		w.decide(c, Everything(family), "refuse")
	}
}

func (w *writing) containerNets() []string {
	var out []string
	for _, leg := range w.host.Attachments {
		if leg.Gateway {
			out = append(out, w.names[leg.Net])
		}
	}
	return out
}

// decide puts a rule; a refusal is one for each transport, since each is refused in its own way.
func (w *writing) decide(c *Chain, m Match, action string) {
	if action != "refuse" {
		c.Rules = append(c.Rules, Rule{Match: m, Action: map[string]Action{"pass": Accept, "drop": Drop}[action]})
		return
	}
	if c.Hook == "postrouting" {
		w.leave("filter %s: the kernel refuses nothing that departs; it is written as a drop", c.Name)
		c.Rules = append(c.Rules, Rule{Match: m, Action: Drop})
		return
	}
	for _, t := range m.Transport.Each() {
		one := m
		one.Transport = t
		c.Rules = append(c.Rules, Rule{Match: one, Action: Reject})
	}
}

func (w *writing) rule(c *Chain, rule *model.Rule) {
	rec := rule.Record
	line := estate.Line(rec)
	switch {
	case rule.Entering != model.NoNet && (c.Hook == "output" || c.Hook == "prerouting" && slices.Contains(w.containerNets(), w.names[rule.Entering])), rule.Leaving != model.NoNet && (c.Hook == "prerouting" || c.Hook == "input"):
		w.leave("%s: never takes anything where filter %s stands", line, c.Name)
		return
	case rule.Dead:
		w.leave("%s: names a network that is not recorded", line)
		return
	case rec.Action == "unknown":
		w.leave("%s: what is done there is not recorded", line)
		return
	case len(rule.From.Float)+len(rule.To.Float) > 0:
		w.leave("%s: names a container without a written address", line)
		return
	}
	base := Everything(c.Family)
	base.Transport, base.Ports = rec.Ports.Transport, rule.Ports
	for _, leg := range []struct {
		net model.NetID
		at  *Interfaces
	}{{rule.Entering, &base.In}, {rule.Leaving, &base.Out}} {
		if leg.net == model.NoNet {
			continue
		}
		name, on := w.names[leg.net]
		if !on {
			w.leave("%s: %s is not on that network, and nothing comes or goes by it", line, w.host.Name)
			return
		}
		*leg.at = Interfaces{List: []string{name}}
	}
	if rule.From.Any && rule.To.Any {
		w.decide(c, base, rec.Action)
		return
	}
	written := false
	defer func() {
		if !written {
			w.leave("%s: names no address that a flow there could have", line)
		}
	}()
	for _, six := range []bool{false, true} { // a condition on an address is one on its family
		m := base
		m.From, m.To = base.From.Of(six), base.To.Of(six)
		if !rule.From.Any {
			m.From = m.From.Intersect(rule.From.Set)
		}
		if !rule.To.Any {
			m.To = m.To.Intersect(rule.To.Set)
		}
		if !m.From.IsEmpty() && !m.To.IsEmpty() {
			written = true
			w.decide(c, m, rec.Action)
		}
	}
}

// translate writes the translations and rewritings of one family.
func (w *writing) translate(six bool) {
	family := map[bool]string{false: "ip", true: "ip6"}[six]
	chain := func(name, hook string, priority int) *Chain {
		return &Chain{Family: family, Table: "translations", Name: name, Type: "nat", Hook: hook, Priority: priority, Policy: "accept"}
	}
	arriving, made, leaving := chain("arriving", "prerouting", -100), chain("made", "output", -100), chain("leaving", "postrouting", 100)
	for _, o := range w.host.Outbounds {
		w.outbound(leaving, o, six)
	}
	for _, f := range w.host.Forwards {
		if f.Record.To.Addr.Is6() == six {
			w.forward(arriving, leaving, f, six)
		}
	}
	for _, mp := range w.host.Maps {
		w.mapping(arriving, made, mp, six)
	}
	w.own(leaving, six)
	for _, c := range []*Chain{arriving, made, leaving} {
		if len(c.Rules) > 0 {
			w.out.Chains = append(w.out.Chains, c)
		}
	}
}

func (w *writing) outbound(c *Chain, o *model.Outbound, six bool) {
	m := Everything(c.Family)
	if o.Dead || o.As.IsValid() && o.As.Is6() != six {
		return
	}
	if len(o.From.Float) > 0 {
		w.leave("%s: names a container without a written address", estate.Line(o.Record))
	}
	if !o.From.Any {
		if m.From = m.From.Intersect(o.From.Set); m.From.IsEmpty() {
			if o.As.IsValid() {
				w.leave("%s: names no address that a flow there could have", estate.Line(o.Record))
			}
			return
		}
	}
	if o.Leaving != model.NoNet {
		name, on := w.names[o.Leaving]
		if !on {
			w.leave("%s: %s is not on that network, and nothing goes by it", estate.Line(o.Record), w.host.Name)
			return
		}
		m.Out = Interfaces{List: []string{name}}
	}
	rule := Rule{Match: m, Action: SNAT, Addr: o.As}
	if !o.As.IsValid() {
		rule.Action = Accept
	}
	c.Rules = append(c.Rules, rule)
}

// outerNames are the interfaces of the networks that a router is outside on.
func (w *writing) outerNames() []string {
	var out []string
	for _, leg := range w.host.Attachments {
		if !leg.Gateway && w.m.Outer(w.host, leg.Net) {
			out = append(out, w.names[leg.Net])
		}
	}
	return out
}

// innerNames are those of its other networks.
func (w *writing) innerNames() []string {
	outer := w.outerNames()
	var out []string
	for _, leg := range w.host.Attachments {
		if name := w.names[leg.Net]; !slices.Contains(outer, name) {
			out = append(out, name)
		}
	}
	return out
}

func (w *writing) forward(c, leaving *Chain, f *model.Forward, six bool) {
	rec := f.Record
	at := w.m.OuterAddrs(w.host, six)
	if rec.Bind.Addr.IsValid() {
		at = []netip.Addr{rec.Bind.Addr}
	}
	outer := w.outerNames()
	if len(at) == 0 || len(outer) == 0 {
		w.leave("%s: %s has no outer network and address that it could be for", estate.Line(rec), w.host.Name)
		return
	}
	base := Everything(c.Family)
	base.To, base.Transport = netset.AddrsOf(at...), rec.Bind.Transport
	if len(f.From.Float) > 0 {
		w.leave("%s: names a container without a written address", estate.Line(rec))
	}
	if !f.From.Any {
		if base.From = base.From.Intersect(f.From.Set); base.From.IsEmpty() {
			w.leave("%s: names no address that a flow there could have", estate.Line(rec))
			return
		}
	}
	for _, p := range pairsOf(rec.Bind.Ports, f.Pairs) {
		for i, in := range []Interfaces{{List: outer}, {List: w.innerNames()}} {
			if i == 1 && !rec.Inside && !rec.Hairpin || len(in.List) == 0 {
				continue
			}
			m := base
			m.In, m.Ports = in, p.outer
			c.Rules = append(c.Rules, Rule{Match: m, Action: DNAT, Addr: rec.To.Addr, Ports: p.inner})
		}
		if rec.Hairpin {
			w.loopBack(leaving, rec, p, six)
		}
	}
	if rec.Bind.Any && rec.Bind.Addr.IsValid() {
		if name, on := w.names[model.Internet]; on {
			m := Everything(c.Family)
			m.From, m.Out = netset.AddrsOf(rec.To.Addr), Interfaces{List: []string{name}}
			leaving.Rules = append(leaving.Rules, Rule{Match: m, Action: SNAT, Addr: rec.Bind.Addr})
		}
	}
}

// loopBack gives what a forward sends back inside the router's own source.
func (w *writing) loopBack(c *Chain, rec *estate.Forward, p pair, six bool) {
	hop := w.m.NextHop(w.host, rec.To.Addr)
	a, ok := w.host.Addr(hop.Net, six)
	if !ok {
		return
	}
	m := Everything(c.Family)
	m.To, m.Transport, m.Ports, m.Translated = netset.AddrsOf(rec.To.Addr), rec.Bind.Transport, p.outer, true
	if len(p.inner) > 0 {
		m.Ports = netset.PortsOf(p.inner...)
	}
	m.In = Interfaces{List: w.innerNames()}
	for _, leg := range w.host.Attachments {
		if slices.Contains(m.In.List, w.names[leg.Net]) {
			m.Near = netset.Union(m.Near, w.m.Networks[leg.Net].Set)
		}
	}
	c.Rules = append(c.Rules, Rule{Match: m, Action: SNAT, Addr: a})
}

// pair is a translation of ports that one rule can do: those that stay, or one to one.
type pair struct {
	outer netset.Ports
	inner []netset.PortRange // none: they stay
}

// pairsOf parts a translation of ports: a rule for all that stay, and one a port for others, since the kernel does not keep
// the distance in a range.
func pairsOf(bind estate.Ports, pairs []estate.Pair) []pair {
	if bind.Any {
		return []pair{{outer: netset.AllPorts()}}
	}
	var stay []netset.PortRange
	var out []pair
	for _, p := range pairs {
		switch {
		case p.Many:
			out = append(out, pair{netset.PortsOf(p.From), []netset.PortRange{netset.OnePort(p.To)}})
		case p.To == p.From.Lo:
			stay = append(stay, p.From)
		default:
			for port := int(p.From.Lo); port <= int(p.From.Hi); port++ {
				out = append(out, pair{netset.PortsOf(netset.OnePort(uint16(port))), []netset.PortRange{netset.OnePort(p.Inner(uint16(port)))}})
			}
		}
	}
	for i, p := range out { // a single port that stays
		if one := p.outer.Ranges(); len(one) == 1 && one[0] == p.inner[0] {
			stay = append(stay, one[0])
			out[i].inner = nil
		}
	}
	out = slices.DeleteFunc(out, func(p pair) bool { return p.inner == nil })
	if len(stay) > 0 {
		out = append([]pair{{outer: netset.PortsOf(stay...)}}, out...)
	}
	return out
}

// mapping writes a map as a container engine does: what is for the machine's own addresses goes to the container.
func (w *writing) mapping(arriving, made *Chain, mp *model.Map, six bool) {
	rec := mp.Record
	bound := rec.Bind.Addr
	if mp.Container == model.Nowhere || mp.Net == model.NoNet || bound.IsValid() && (bound.IsLoopback() || bound.Is6() != six) {
		return
	}
	if !w.m.Networks[mp.Net].Family(six) {
		return // the port relay takes it
	}
	to, ok := w.m.Places[mp.Container].Addr(mp.Net, six)
	if !ok {
		w.leave("%s: %s has no written address", estate.Line(rec), rec.Container)
		return
	}
	for _, p := range pairsOf(rec.Bind.Ports, mp.Pairs) {
		m := Everything(arriving.Family)
		m.Transport, m.Ports, m.Local = rec.Bind.Transport, p.outer, true
		if bound.IsValid() && !bound.IsUnspecified() {
			m.Local, m.To = false, netset.AddrsOf(bound)
		}
		rule := Rule{Match: m, Action: DNAT, Addr: to, Ports: p.inner}
		rule.Match.In = Interfaces{Except: true, List: []string{w.names[mp.Net]}}
		arriving.Rules = append(arriving.Rules, rule)
		rule.Match.In = Interfaces{Except: true}
		loop := netip.MustParsePrefix("127.0.0.0/8")
		if six {
			loop = netip.MustParsePrefix("::1/128")
		}
		rule.Match.To = rule.Match.To.Subtract(netset.PrefixesOf(loop))
		made.Rules = append(made.Rules, rule)
	}
}

// own writes what a machine does with sources without being told.
func (w *writing) own(c *Chain, six bool) {
	if name, on := w.names[model.Internet]; on && w.host.Router {
		if a, ok := w.host.Addr(model.Internet, six); ok {
			m := Everything(c.Family)
			m.From, m.Out = m.From.Subtract(netset.GloballyReachable()), Interfaces{List: []string{name}}
			c.Rules = append(c.Rules, Rule{Match: m, Action: SNAT, Addr: a})
		}
	}
	for _, leg := range w.host.Attachments {
		n := w.m.Networks[leg.Net]
		if set := n.Set.Of(six); leg.Gateway && !n.Routed() && !set.IsEmpty() {
			m := Everything(c.Family)
			m.From, m.Out = set, Interfaces{Except: true, List: []string{w.names[leg.Net]}}
			c.Rules = append(c.Rules, Rule{Match: m, Action: Masquerade})
		}
	}
}
