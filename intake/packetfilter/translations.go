package packetfilter

import (
	"fmt"
	"net/netip"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/rules"
)

// led is a forward on the way: rules for what comes from outside and for what comes from inside are one.
type led struct {
	forward       *estate.Forward
	outer, inside bool
	rule          *Rule
}

// forwards reads a chain that translates what arrives: forwards of the host, and maps of its containers.
func (r *reading) forwards(c *Chain) {
	var all []*led
	defer func() { r.led = append(r.led, all...) }()
	for i := range c.Rules {
		rule := &c.Rules[i]
		if rule.Action == Accept && !rule.Match.isAll(c.Family) {
			r.undecided(rule, "an exception from translations")
			continue
		}
		if rule.Action != DNAT && rule.Action != Redirect {
			if rule.Action == Jump || rule.Action == Goto {
				if to := r.chain(c, rule.Chain); to != nil && to.Hook == "" && (rule.Match.isAll(c.Family) || rule.Match.isLocalOnly(c.Family)) {
					r.forwards(to)
					continue
				}
				r.undecided(rule, "a jump among translations, for some flows only,")
			}
			continue
		}
		if rule.Match.empty() || !rule.Match.Fresh {
			continue
		}
		if mp, ok := r.mapping(rule); ok {
			for _, one := range mp {
				r.maps = append(r.maps, piece{mapKey(one, one.Bind.Set(), one.To.Ranges), one})
			}
			continue
		}
		f, outer, inside, why := r.forward(rule, c)
		if why != "" {
			r.undecided(rule, why)
			continue
		}
		for _, one := range f {
			line := estate.Line(one)
			at := slices.IndexFunc(all, func(l *led) bool {
				return estate.Line(l.forward) == line && !(l.outer && outer) && !(l.inside && inside)
			})
			if at < 0 {
				all = append(all, &led{one, outer, inside, rule})
				continue
			}
			all[at].outer, all[at].inside = all[at].outer || outer, all[at].inside || inside
		}
	}
}

// settle makes records of what was read in the end, by the words of lines that are recorded and mean the same.
func (r *reading) settle() {
	var forwards, maps, outbounds []piece
	for _, f := range r.host.Forwards {
		for _, p := range pairsOf(f.Record.Bind.Ports, f.Pairs) {
			forwards = append(forwards, piece{r.forwardKey(f.Record, f.From, p.outer, p.inner), f.Record})
		}
	}
	for _, m := range r.host.Maps {
		for _, p := range pairsOf(m.Record.Bind.Ports, m.Pairs) {
			inner := p.inner
			if len(inner) == 0 {
				inner = p.outer.Ranges()
			}
			maps = append(maps, piece{mapKey(m.Record, p.outer, inner), m.Record})
		}
	}
	for _, o := range r.host.Outbounds {
		outbounds = append(outbounds, piece{r.outboundKey(o.Record, o.From), o.Record})
	}
	r.out.Records = append(r.out.Records, settled(r.forwardPieces(), forwards)...)
	r.out.Records = append(r.out.Records, settled(r.outboundsRead, outbounds)...)
	r.out.Records = append(r.out.Records, settled(r.maps, maps)...)
}

// piece is a part of a record that one rule says, and what it means in a word.
type piece struct {
	means  string
	record estate.Record
}

// settled are the records of what was read: in the place of pieces that together are a recorded line, that line.
func settled(read, recorded []piece) []estate.Record {
	parts := map[estate.Record][]string{}
	for _, p := range recorded {
		parts[p.record] = append(parts[p.record], p.means)
	}
	var out []estate.Record
	used := make([]bool, len(read))
	find := func(means string) int {
		return slices.IndexFunc(read, func(p piece) bool { return p.means == means })
	}
	for i, p := range read {
		if used[i] {
			continue
		}
		at := slices.IndexFunc(recorded, func(o piece) bool { return o.means == p.means })
		if at < 0 {
			out = append(out, p.record)
			continue
		}
		rec := recorded[at].record
		var all []int
		for _, means := range parts[rec] {
			if n := find(means); n >= 0 && !used[n] {
				all = append(all, n)
			}
		}
		if len(all) != len(parts[rec]) {
			out = append(out, p.record)
			continue
		}
		for _, n := range all {
			used[n] = true
		}
		out = append(out, rec)
	}
	return out
}

func (r *reading) forwardKey(f *estate.Forward, from model.Match, outer netset.Ports, inner []netset.PortRange) string {
	six := f.To.Addr.Is6()
	at := r.m.OuterAddrs(r.host, six)
	if f.Bind.Addr.IsValid() {
		at = []netip.Addr{f.Bind.Addr}
	}
	if slices.Equal(inner, outer.Ranges()) {
		inner = nil
	}
	return fmt.Sprint(netset.AddrsOf(at...).Strings(), f.Bind.Transport, from.Set.Of(six).Strings(), f.Inside, f.Hairpin, f.To.Addr, outer, inner)
}

func mapKey(m *estate.Map, outer netset.Ports, inner []netset.PortRange) string {
	bound := m.Bind.Addr
	if bound.IsUnspecified() {
		bound = netip.Addr{} // the family is that of the container's network
	}
	return fmt.Sprint(m.Container, bound, m.Bind.Transport, outer, inner)
}

func (r *reading) outboundKey(o *estate.Outbound, from model.Match) string {
	set := from.Set
	if as, err := netip.ParseAddr(o.As); err == nil {
		set = set.Of(as.Is6())
	}
	return fmt.Sprint(set.Strings(), o.Leaving, o.As)
}

// forwardPieces are the forwards that were read: what comes from outside and from inside is one.
func (r *reading) forwardPieces() []piece {
	var out []piece
	for _, l := range r.led {
		switch {
		case l.outer && l.inside && r.loopsBack(l.forward):
			l.forward = estate.With(l.forward, func(f *estate.Forward) { f.Hairpin = true })
		case l.outer && l.inside:
			l.forward = estate.With(l.forward, func(f *estate.Forward) { f.Inside = true })
		case !l.outer:
			r.undecided(l.rule, "a translation of what comes from inside only")
			continue
		}
		out = append(out, piece{r.forwardKey(l.forward, r.m.MatchOf(l.forward.From, r.host), l.forward.Bind.Set(), l.forward.To.Ports.Ranges), l.forward})
	}
	return out
}

// undecided names a translation that has no meaning in the records, and leaves the flows that it may take undecided ahead
// of it.
func (r *reading) undecided(rule *Rule, why string) {
	r.left(rule, why+" has no meaning here; the flows that it may take are undecided")
	m := rule.Match
	box := rules.Flows{From: m.From, To: m.To, Transport: m.Transport, Ports: m.Ports, Entering: netset.AnyOf[model.NetID](), Leaving: netset.AnyOf[model.NetID]()}
	if m.Local {
		box.To = box.To.Intersect(r.ownAddrs())
	}
	if nets, _, odd := r.nets(m.In); odd == "" {
		box.Entering = nets
	}
	if !box.IsEmpty() {
		r.unknown = append(r.unknown, r.lines("", "unknown", box, true, true)...)
	}
}

// mapping is the map that a rule is, where it leads to a container of the host.
func (r *reading) mapping(rule *Rule) ([]*estate.Map, bool) {
	if !rule.Addr.IsValid() {
		return nil, false
	}
	for _, id := range r.containerNets() {
		h, ok := r.m.Networks[id].Holder(rule.Addr)
		if !ok || !r.m.Places[h.Place].IsContainer() {
			continue
		}
		m := rule.Match
		if len(rule.Strange) > 0 || !m.From.Equal(Everything(familyOf(rule.Addr)).From) && !m.From.Equal(netset.Everything()) {
			return nil, false
		}
		binds := []netip.Addr{{}}
		if !m.Local {
			if some, ok := m.To.Addrs(16); ok {
				binds = some
			}
		}
		var out []*estate.Map
		for _, a := range binds {
			ports := estate.Ports{Ranges: m.Ports.Ranges(), Transport: m.Transport}
			inner := rule.Ports
			if len(inner) == 0 {
				inner = ports.Ranges
			}
			rec := &estate.Map{Container: r.m.Places[h.Place].Name, Bind: estate.Bind{Addr: a, Ports: ports}, To: estate.Ports{Ranges: inner, Transport: netset.TCP}}
			if estate.Complete(rec) != nil {
				return nil, false
			}
			if !slices.ContainsFunc(r.maps, func(o piece) bool { return estate.Line(o.record) == estate.Line(rec) }) {
				out = append(out, rec)
			}
		}
		return out, true
	}
	return nil, false
}

func familyOf(a netip.Addr) string {
	if a.Is6() {
		return "ip6"
	}
	return "ip"
}

// forward reads a rule as forwards; why not, where it is none.
func (r *reading) forward(rule *Rule, c *Chain) (out []*estate.Forward, outer, inside bool, why string) {
	m := rule.Match
	to := rule.Addr
	if rule.Action == Redirect {
		six := c.Family == "ip6"
		for _, a := range r.m.OuterAddrs(r.host, six) {
			to = a
			break
		}
	}
	switch {
	case len(rule.Strange) > 0:
		return nil, false, false, fmt.Sprint(rule.Strange[0])
	case !to.IsValid():
		return nil, false, false, "a translation to no address"
	}
	six := to.Is6()
	m.From, m.To = m.From.Of(six), m.To.Of(six)
	nets, _, odd := r.nets(m.In)
	if odd != "" {
		return nil, false, false, odd
	}
	outerAddrs := r.m.OuterAddrs(r.host, six)
	for _, leg := range r.host.Attachments {
		if leg.Gateway || !nets.Has(leg.Net) {
			continue
		}
		if r.m.Outer(r.host, leg.Net) {
			outer = true
		} else {
			inside = true
		}
	}
	binds := []netip.Addr{{}}
	if some, ok := m.To.Addrs(64); ok && !m.Local && !sameAddrs(some, outerAddrs) {
		binds = some
	} else if !ok && !m.Local && !m.To.Equal(Everything(familyOf(to)).To) {
		return nil, false, false, "a translation for a range of addresses"
	}
	all := m.Ports.Equal(netset.AllPorts()) && len(rule.Ports) == 0
	for _, a := range binds {
		f := &estate.Forward{Router: r.Host, Bind: estate.Bind{Addr: a, Ports: estate.Ports{Ranges: m.Ports.Ranges(), Transport: m.Transport}}, To: estate.Target{Addr: to}}
		if all {
			if !a.IsValid() {
				return nil, false, false, "a translation of every port, for no address of its own,"
			}
			f.Bind.Ports = estate.Ports{Any: true, Transport: m.Transport}
		}
		if len(rule.Ports) > 0 && !slices.Equal(rule.Ports, f.Bind.Ranges) {
			f.To.Ports = estate.Ports{Ranges: rule.Ports, Transport: netset.TCP}
		}
		f.From = r.selectors(m.From, !six, six)
		if err := estate.Complete(f); err != nil {
			return nil, false, false, err.Error()
		}
		out = append(out, f)
	}
	return out, outer, inside, ""
}

func sameAddrs(a, b []netip.Addr) bool {
	return netset.AddrsOf(a...).Equal(netset.AddrsOf(b...))
}

// made reads a chain that translates what the machine makes itself: only what its maps do too has a meaning.
func (r *reading) made(c *Chain) {
	for i := range c.Rules {
		rule := &c.Rules[i]
		if rule.Action != DNAT && rule.Action != Redirect || rule.Match.empty() {
			continue
		}
		if mp, ok := r.mapping(rule); ok && len(mp) == 0 {
			continue // the map is known by what arrives
		}
		r.left(rule, "a translation of what the machine makes itself is left out: only a map does that here")
	}
}

// loopsBack says whether what a forward leads on gets the machine's own source.
func (r *reading) loopsBack(f *estate.Forward) bool {
	inner := f.To.Ports.Set()
	if f.To.Kept() {
		inner = f.Bind.Set()
	}
	return slices.ContainsFunc(r.loops, func(m Match) bool {
		return m.To.Contains(f.To.Addr) && m.Transport&f.Bind.Transport == f.Bind.Transport && inner.Subtract(m.Ports).IsEmpty()
	})
}

// loopsOf finds the translated flows that a chain gives the machine's own source, so that replies come back by it.
func (r *reading) loopsOf(c *Chain) {
	for i := range c.Rules {
		rule := &c.Rules[i]
		if (rule.Action == SNAT || rule.Action == Masquerade) && rule.Match.Translated {
			r.loops = append(r.loops, rule.Match)
		}
	}
}

// outbounds reads a chain that rewrites sources.
func (r *reading) outbounds(c *Chain) {
	var private []netset.Addrs
	for _, six := range []bool{false, true} {
		all := netset.IPv4()
		if six {
			all = netset.IPv6()
		}
		private = append(private, all.Subtract(netset.GloballyReachable()))
	}
	for i := range c.Rules {
		rule := &c.Rules[i]
		m := rule.Match
		if rule.Action != SNAT && rule.Action != Masquerade && rule.Action != Accept || m.empty() || !m.Fresh || m.Translated {
			if rule.Action == Jump || rule.Action == Goto {
				if to := r.chain(c, rule.Chain); to != nil && to.Hook == "" && m.isAll(c.Family) {
					r.outbounds(to)
				} else {
					r.left(rule, "a jump among rewritings, for some flows only, has no meaning here and is left out")
				}
			}
			continue
		}
		nets, _, odd := r.nets(m.Out)
		strange := slices.Clone(rule.Strange)
		if odd != "" {
			strange = append(strange, odd)
		}
		whole := Everything(c.Family)
		if !m.To.Equal(whole.To) || !m.Ports.Equal(whole.Ports) || m.Transport != whole.Transport || !m.In.Any() {
			strange = append(strange, "a rewriting for some destinations, ports or interfaces of entry only")
		}
		if len(strange) > 0 {
			r.left(rule, fmt.Sprintf("%s has no meaning for a rewriting here; it is left out", strange[0]))
			continue
		}
		if r.ownRewriting(rule, nets, private) {
			continue
		}
		r.outbound(rule, c, nets)
	}
}

// ownRewriting says whether a rule does what a machine does here without being told: private sources that leave a router
// for internet, and containers that leave their machine.
func (r *reading) ownRewriting(rule *Rule, nets rules.Nets, private []netset.Addrs) bool {
	m := rule.Match
	if rule.Action == Accept {
		return false
	}
	if slices.Equal(nets.Only(), []model.NetID{model.Internet}) && r.host.Router {
		for i, set := range private {
			a, ok := r.host.Addr(model.Internet, i == 1)
			if m.From.Equal(set) && ok && (rule.Action == Masquerade || rule.Addr == a) {
				return true
			}
		}
	}
	for _, l := range r.led { // one to one, outward too
		if one, single := m.From.Single(); l.forward.Bind.Any && single && one == l.forward.To.Addr && rule.Addr == l.forward.Bind.Addr && slices.Equal(nets.Only(), []model.NetID{model.Internet}) {
			return true
		}
	}
	for _, id := range r.containerNets() {
		n := r.m.Networks[id]
		for _, six := range []bool{false, true} {
			if set := n.Set.Of(six); !set.IsEmpty() && m.From.Equal(set) && rule.Action == Masquerade && !n.Routed() && (nets.Any() || slices.Equal(nets.But(), []model.NetID{id})) {
				return true
			}
		}
	}
	return false
}

func (r *reading) outbound(rule *Rule, c *Chain, nets rules.Nets) {
	if rule.Action == SNAT && !rule.Addr.IsValid() {
		r.undecided(rule, "a rewriting to no address")
		return
	}
	m := rule.Match
	six := c.Family == "ip6" || rule.Addr.Is6() || m.From.Of(false).IsEmpty()
	leaving := nets.Only()
	if leaving == nil && (rule.Action == Masquerade || !nets.Any()) {
		for _, leg := range r.host.Attachments { // each by its own address
			if !leg.Gateway && nets.Has(leg.Net) {
				leaving = append(leaving, leg.Net)
			}
		}
	}
	from := r.selectors(m.From.Of(six), !six, six)
	put := func(leaving string, as string) {
		o := &estate.Outbound{Router: r.Host, From: from, Leaving: leaving, As: as}
		if estate.Complete(o) == nil {
			r.outboundsRead = append(r.outboundsRead, piece{r.outboundKey(o, r.m.MatchOf(o.From, r.host)), o})
		}
	}
	as := func(id model.NetID) string {
		switch rule.Action {
		case Accept:
			return "unchanged"
		case SNAT:
			return rule.Addr.String()
		}
		if a, ok := r.host.Addr(id, six); ok {
			return a.String()
		}
		return ""
	}
	if leaving == nil {
		put("", as(model.NoNet))
		return
	}
	for _, id := range leaving {
		if word := as(id); word != "" {
			put(r.m.Networks[id].Name, word)
		}
	}
}
