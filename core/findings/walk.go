package findings

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/trace"
)

// paths notes the breaks of paths as findings.
func (c *check) paths(target string, from string, paths []trace.Path) {
	for i := range paths {
		p := &paths[i]
		for _, b := range p.Breaks {
			if b.Code == "redirect.dead" {
				b.Mend = deadMend(p.Breaks, b)
			}
			f := Finding{Code: b.Code, Subject: b.Subject, Why: b.Why, Records: b.Records, Mend: b.Mend, Trace: &Where{target, from}}
			if from != "internet" {
				f.Why += fmt.Sprintf(" (from %s)", from)
			}
			if f.Subject == "" {
				f.Subject = target
			}
			c.add(f)
		}
	}
}

// deadMend mends a redirect that leads nowhere by what mends its target.
func deadMend(breaks []trace.Break, dead trace.Break) *trace.Mend {
	if dead.Mend != nil {
		return dead.Mend
	}
	return nil
}

// intents walks every intent from its audiences.
func (c *check) intents() {
	for _, i := range c.m.Intents {
		tg, err := c.t.ParseTarget(i.Target)
		if err != nil {
			continue
		}
		for _, s := range i.For {
			if s.Word == "nobody" {
				continue
			}
			v, err := c.t.VantageNamed(s.String())
			if err != nil {
				continue
			}
			for _, key := range portKeys(i.Ports) {
				c.paths(fmt.Sprintf("%s:%s", i.Target, keyWord(key)), v.Word, c.t.TracePort(tg, key, v))
			}
		}
	}
}

// widest is how many ports of an intent are walked one by one.
const widest = 64

func portKeys(p estate.Ports) []trace.PortKey {
	var out []trace.PortKey
	if p.Any || p.Count() > widest {
		return nil
	}
	for _, t := range p.Transport.Each() {
		for _, r := range p.Ranges {
			for port := int(r.Lo); port <= int(r.Hi); port++ {
				out = append(out, trace.PortKey{Port: uint16(port), Transport: t})
			}
		}
	}
	return out
}

func keyWord(k trace.PortKey) string {
	if k.Transport == netset.UDP {
		return fmt.Sprintf("%d/udp", k.Port)
	}
	return fmt.Sprint(k.Port)
}

// names walks every name at its ports, where no intent does.
func (c *check) names() {
	internet, _ := c.t.VantageNamed("internet")
	intended := map[string]bool{}
	for _, i := range c.m.Intents {
		for _, k := range portKeys(i.Ports) {
			intended[i.Target+" "+keyWord(k)] = true
		}
	}
	for _, n := range c.t.Names() {
		vantages := []trace.Vantage{internet}
		if len(n.From) > 0 {
			vantages = nil
			for _, word := range n.From {
				if v, err := c.t.VantageNamed(word); err == nil {
					vantages = append(vantages, v)
				}
			}
		}
		tg := trace.Target{Text: n.Name, Name: n.Name}
		for _, v := range vantages {
			ports, known := c.t.PortsOf(n.Name, &v)
			var all []trace.Path
			arrives := false
			for _, k := range ports {
				paths := c.t.TracePort(tg, k, v)
				c.catches(n.Name, keyWord(k), v, paths)
				if intended[n.Name+" "+keyWord(k)] {
					continue
				}
				for i := range paths {
					arrives = arrives || paths[i].Outcome.Good()
				}
				if known {
					c.paths(n.Name+":"+keyWord(k), v.Word, paths)
				}
				all = append(all, paths...)
			}
			if !known && !arrives && len(all) > 0 {
				c.paths(n.Name, v.Word, all[:1])
			}
			if !n.Owner && v.Word == "internet" {
				c.unrecorded(n)
			}
		}
	}
}

// catches notes a name that lands on a default site.
func (c *check) catches(name, port string, v trace.Vantage, paths []trace.Path) {
	for i := range paths {
		p := &paths[i]
		site := p.Defaulted()
		if site == nil || slices.ContainsFunc(p.Breaks, func(b trace.Break) bool { return b.Code == "path.wrong-place" }) {
			continue
		}
		c.add(Finding{
			Code: "site.default-answers", Subject: name + ":" + port, Records: lines(site), Trace: &Where{name + ":" + port, v.Word},
			Why: fmt.Sprintf("No site has the name %s; the default one answers in its place.", name),
		})
	}
}

// unrecorded is a name that a site, an intent or a certificate uses and that DNS does not know.
func (c *check) unrecorded(n trace.Name) {
	for _, net := range c.m.Networks {
		asker := c.m.AskerAt(model.Nowhere, net.ID)
		v6, v4 := c.m.Names.Addresses(n.Name, asker)
		if len(v6.Addresses)+len(v4.Addresses) > 0 {
			return
		}
	}
	if c.at[[2]string{"name.unresolved", n.Name}] != nil {
		return
	}
	c.add(Finding{
		Code: "name.unresolved", Subject: n.Name, Records: n.Records, Trace: &Where{n.Name, "internet"},
		Why: fmt.Sprintf("%s is used here, and no record gives it an address.", n.Name),
	})
}

// ownSake looks at each forward, map and listener by itself: its own address, and what it leads to.
func (c *check) ownSake() {
	for _, p := range c.m.Places {
		for _, f := range p.Forwards {
			c.forward(p, f)
		}
		for _, m := range p.Maps {
			c.mapping(p, m)
		}
		for i := range p.Sockets {
			s := &p.Sockets[i]
			a := s.Record.Bind.Addr
			if a.IsValid() && !a.IsUnspecified() && !a.IsLoopback() && !p.Owns(a) && !c.blockAt(p, a) {
				c.add(Finding{
					Code: "path.listen-address", Subject: fmt.Sprintf("%s:%s", s.Record.Place, first(s.Record.Bind.Ports)), Records: lines(s.Record),
					Why:  fmt.Sprintf("%s is bound to %s, which %s does not hold.", s.Record.Service, a, p.Name),
					Mend: &trace.Mend{Remove: lines(s.Record), Add: lines(estate.With(s.Record, func(l *estate.Listen) { l.Bind.Addr = netip.Addr{} }))},
				})
			}
		}
	}
}

func first(p estate.Ports) string {
	if p.Any {
		return "any"
	}
	text := fmt.Sprint(p.Ranges[0].Lo)
	if p.Transport == netset.UDP {
		text += "/udp"
	}
	return text
}

func (c *check) blockAt(p *model.Place, a netip.Addr) bool {
	for _, leg := range p.Legs {
		for _, b := range leg.Blocks {
			if b.Contains(a) {
				return true
			}
		}
	}
	return false
}

func (c *check) forward(p *model.Place, f *model.Forward) {
	rec := f.Record
	subject := fmt.Sprintf("%s:%s", p.Name, first(rec.Bind.Ports))
	if a := rec.Bind.Addr; a.IsValid() && !p.Owns(a) && !c.blockAt(p, a) {
		found := Finding{Code: "path.forward-address", Subject: subject, Records: lines(rec), Why: fmt.Sprintf("The forward is for %s, which %s does not answer for.", a, p.Name)}
		if outer := c.m.OuterAddrs(p, a.Is6()); len(outer) == 1 {
			found.Mend = &trace.Mend{Remove: lines(rec), Add: lines(estate.With(rec, func(n *estate.Forward) { n.Bind.Addr = outer[0] }))}
		}
		c.add(found)
	}
	to := rec.To.Addr
	if p.Owns(to) || to.IsLoopback() {
		return
	}
	hop := c.m.NextHop(p, to)
	at := p
	for range 8 {
		if hop.Kind != model.Via {
			break
		}
		at = c.m.Places[hop.Place]
		hop = c.m.NextHop(at, to)
	}
	switch hop.Kind {
	case model.OnLink:
		c.leadsTo(subject, rec, c.m.Places[hop.Place], to, f.Pairs, rec.Bind.Ports)
	case model.Nobody, model.NoWay:
		c.add(Finding{Code: "path.forward-nowhere", Subject: subject, Records: lines(rec), Why: fmt.Sprintf("The forward leads to %s, which no machine holds.", to), Mend: c.nearestTarget(rec)})
	}
}

// nearestTarget leads a forward that reaches nobody to the only machine that listens on its ports.
func (c *check) nearestTarget(rec *estate.Forward) *trace.Mend {
	inner := rec.To.Ports
	if rec.To.Kept() {
		inner = rec.Bind.Ports
	}
	var found netip.Addr
	for _, p := range c.m.Places {
		if p.IsContainer() || p.Outside {
			continue
		}
		takes := false
		for i := range p.Sockets {
			takes = takes || p.Sockets[i].Ports.Subtract(inner.Set()).Equal(netset.Ports{}) && p.Sockets[i].Record.Bind.Transport&rec.Bind.Transport != 0
		}
		for _, m := range p.Maps {
			takes = takes || inner.Set().Subtract(m.Ports).IsEmpty() && m.Record.Bind.Transport&rec.Bind.Transport != 0
		}
		if !takes {
			continue
		}
		for _, leg := range p.Legs {
			for _, a := range leg.Addrs {
				if !leg.Gateway && a.Is6() == rec.To.Addr.Is6() {
					if found.IsValid() {
						return nil
					}
					found = a
				}
			}
		}
	}
	if !found.IsValid() {
		return nil
	}
	return &trace.Mend{Remove: lines(rec), Add: lines(estate.With(rec, func(n *estate.Forward) { n.To.Addr = found }))}
}

// leadsTo looks at what stands on the ports that a forward leads to.
func (c *check) leadsTo(subject string, rec estate.Record, p *model.Place, to netip.Addr, pairs []estate.Pair, outer estate.Ports) {
	if p.Unlisted || p.Outside || outer.Any {
		return
	}
	var open, loopback, other netset.Ports
	stack := c.m.Places[p.Stack]
	for i := range stack.Sockets {
		s := &stack.Sockets[i]
		switch {
		case s.Record.Bind.Transport&outer.Transport == 0:
			other = other.Union(s.Ports)
		case s.Takes(to, false):
			open = open.Union(s.Ports)
		case s.Record.Bind.Addr.IsLoopback():
			loopback = loopback.Union(s.Ports)
		}
	}
	for _, m := range p.Maps {
		switch {
		case m.Record.Bind.Transport&outer.Transport == 0:
			other = other.Union(m.Ports)
		case m.Record.Bind.Addr.IsLoopback():
			loopback = loopback.Union(m.Ports)
		default:
			open = open.Union(m.Ports)
		}
	}
	for _, pair := range pairs {
		inner := netset.PortsOf(netset.PortRange{Lo: pair.To, Hi: pair.Inner(pair.From.Hi)})
		if !inner.Intersect(open).IsEmpty() {
			continue
		}
		at := fmt.Sprint(pair.From.Lo)
		if outer.Transport == netset.UDP {
			at += "/udp"
		}
		f := Finding{
			Code: "path.no-listener", Subject: subject[:strings.LastIndex(subject, ":")] + ":" + at, Records: lines(rec),
			Why: fmt.Sprintf("It leads to port %s of %s, where nothing listens.", inner, p.Name),
		}
		switch {
		case !inner.Intersect(loopback).IsEmpty():
			f.Code, f.Why = "path.loopback", fmt.Sprintf("It leads to port %s of %s, which listens there for itself only.", inner, p.Name)
		case !inner.Intersect(other).IsEmpty():
			f.Code, f.Why = "path.forward-transport", fmt.Sprintf("It leads to port %s of %s over %s, and what listens there does not speak it.", inner, p.Name, outer.Transport)
			if fwd, ok := rec.(*estate.Forward); ok {
				f.Mend = &trace.Mend{Remove: lines(rec), Add: lines(estate.With(fwd, func(n *estate.Forward) { n.Bind.Transport = netset.Both &^ n.Bind.Transport }))}
			}
		}
		if f.Mend == nil {
			f.Mend = c.mendLoopback(stack, p, inner, f.Code)
		}
		if f.Mend == nil {
			f.Mend = offLine(rec)
		}
		c.add(f)
	}
}

// mendLoopback opens a listener or map that is bound to loopback.
func (c *check) mendLoopback(stack, p *model.Place, inner netset.Ports, code string) *trace.Mend {
	if code != "path.loopback" {
		return nil
	}
	for i := range stack.Sockets {
		if s := &stack.Sockets[i]; s.Record.Bind.Addr.IsLoopback() && !s.Ports.Intersect(inner).IsEmpty() {
			return &trace.Mend{Remove: lines(s.Record), Add: lines(estate.With(s.Record, func(l *estate.Listen) { l.Bind.Addr = netip.Addr{} }))}
		}
	}
	for _, m := range p.Maps {
		if m.Record.Bind.Addr.IsLoopback() && !m.Ports.Intersect(inner).IsEmpty() {
			return &trace.Mend{Remove: lines(m.Record), Add: lines(estate.With(m.Record, func(n *estate.Map) { n.Bind.Addr = netip.Addr{} }))}
		}
	}
	return nil
}

// offLine takes a line out of force, for one that leads nowhere.
func offLine(r estate.Record) *trace.Mend {
	return &trace.Mend{Remove: lines(r), Add: []string{}}
}

func (c *check) mapping(p *model.Place, m *model.Map) {
	rec := m.Record
	subject := fmt.Sprintf("%s:%s", p.Name, first(rec.Bind.Ports))
	if a := rec.Bind.Addr; a.IsValid() && !a.IsUnspecified() && !a.IsLoopback() && !p.Owns(a) {
		c.add(Finding{
			Code: "path.listen-address", Subject: subject, Records: lines(rec), Why: fmt.Sprintf("The map is on %s, which %s does not hold.", a, p.Name),
			Mend: &trace.Mend{Remove: lines(rec), Add: lines(estate.With(rec, func(n *estate.Map) { n.Bind.Addr = netip.Addr{} }))},
		})
	}
	if m.Container == model.Nowhere {
		return // record.unknown-reference
	}
	inside := c.m.Places[m.Container]
	if inside.Unlisted {
		return
	}
	stack := c.m.Places[inside.Stack]
	var open, all netset.Ports
	for i := range stack.Sockets {
		s := &stack.Sockets[i]
		if s.Record.Bind.Transport&rec.Bind.Transport == 0 {
			continue
		}
		all = all.Union(s.Ports)
		if !s.Record.Bind.Addr.IsLoopback() {
			open = open.Union(s.Ports)
		}
	}
	for _, pair := range m.Pairs {
		inner := netset.PortsOf(netset.PortRange{Lo: pair.To, Hi: pair.Inner(pair.From.Hi)})
		if !inner.Intersect(open).IsEmpty() {
			continue
		}
		f := Finding{
			Code: "path.no-listener", Subject: fmt.Sprintf("%s:%d", p.Name, pair.From.Lo), Records: lines(rec),
			Why: fmt.Sprintf("It leads to port %s of %s, where nothing listens.", inner, inside.Name), Mend: offLine(rec),
		}
		switch {
		case !inner.Intersect(all).IsEmpty():
			f.Code, f.Why = "path.loopback", fmt.Sprintf("It leads to port %s of %s, which listens there for itself only.", inner, inside.Name)
			f.Mend = c.mendLoopback(stack, inside, inner, f.Code)
		case !open.IsEmpty():
			f.Code, f.Why = "path.map-target", fmt.Sprintf("It leads to port %s of %s, which listens on %s.", inner, inside.Name, open)
			f.Mend = nil
			if open.Count() == 1 && rec.Bind.Count() == 1 {
				f.Mend = &trace.Mend{Remove: lines(rec), Add: lines(estate.With(rec, func(n *estate.Map) { n.To.Ranges = open.Ranges() }))}
			}
		}
		c.add(f)
	}
}

// exposure finds what is open and nobody declared.
func (c *check) exposure() {
	for _, net := range c.m.Networks {
		v, err := c.t.VantageNamed(net.Name)
		if err != nil {
			continue
		}
		for _, e := range c.t.Exposure(v).Open {
			if e.Intent == trace.Declared || net.ID != model.Internet && !c.t.Lands(e.Place) {
				continue
			}
			c.undeclared(e, v.Word)
		}
	}
}

func (c *check) undeclared(e trace.Open, from string) {
	subject := fmt.Sprintf("%s:%s/%s", e.Host, e.Ports, e.Transport)
	if old := c.at[[2]string{"exposure.undeclared", subject}]; old != nil {
		if !strings.Contains(old.Why, from) {
			old.Why = strings.TrimSuffix(old.Why, ".") + ", and from " + from + "."
			if m := declare(e, from); m != nil && old.Mend != nil && len(old.Mend.Add) == 1 && len(old.Mend.Remove) == 0 && strings.HasPrefix(old.Mend.Add[0], "intend ") {
				old.Mend = widen(old.Mend, from)
			}
		}
		return
	}
	what := e.Service + " on " + e.Place
	if e.Site != nil {
		what = fmt.Sprintf("site %s of %s on %s", *e.Site, e.Service, e.Place)
	}
	f := Finding{
		Code: "exposure.undeclared", Subject: subject, Records: e.Records, Trace: &Where{fmt.Sprintf("%s:%s", hostPort(e.Address), portOf(e)), from},
		Why: fmt.Sprintf("Open, and no intent says so: %s reaches %s at %s.", who(from), what, e.Address), Mend: declare(e, from),
	}
	if e.Map != nil && !e.Map.Bind.Addr.IsValid() && !c.t.Lands(e.Place) {
		loop := netip.AddrFrom4([4]byte{127, 0, 0, 1})
		f.Mend = &trace.Mend{Remove: lines(e.Map), Add: lines(estate.With(e.Map, func(m *estate.Map) { m.Bind.Addr = loop }))}
	}
	c.add(f)
}

func who(from string) string {
	if from == "internet" {
		return "anyone on the internet"
	}
	return from
}

func hostPort(address string) string {
	if a, err := netip.ParseAddr(address); err == nil && a.Is6() {
		return "[" + address + "]"
	}
	return address
}

func portOf(e trace.Open) string {
	if e.Transport == "udp" {
		return fmt.Sprintf("%d/udp", e.Range.Lo)
	}
	return fmt.Sprint(e.Range.Lo)
}

// declare is the intent that says that this is meant to be open.
func declare(e trace.Open, from string) *trace.Mend {
	ports := estate.Ports{Ranges: []netset.PortRange{{Lo: e.Port, Hi: e.Port + (e.Range.Hi - e.Range.Lo)}}, Transport: netset.TCP}
	if e.Transport == "udp" {
		ports.Transport = netset.UDP
	}
	s := estate.Selector{Name: from}
	if from == "internet" {
		s = estate.Selector{Word: from}
	}
	i := &estate.Intent{Target: e.Place, Ports: ports, For: []estate.Selector{s}}
	if estate.Complete(i) != nil {
		return nil
	}
	return &trace.Mend{Remove: []string{}, Add: lines(i)}
}

// widen adds an audience to the intent that a mend adds.
func widen(m *trace.Mend, from string) *trace.Mend {
	head, rest, ok := strings.Cut(m.Add[0], " for ")
	if !ok {
		return m
	}
	audience, tail, _ := strings.Cut(rest, " ")
	if tail != "" {
		tail = " " + tail
	}
	return &trace.Mend{Remove: m.Remove, Add: []string{head + " for " + audience + "," + from + tail}}
}
