package findings

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/trace"
)

// shutting stops what is open where nothing intends it: a map on loopback only or, where that would stop something meant, a
// line in a filter of the machine. nil where the records do not say how.
func (c *opened) shutting() *flow.Mend {
	e := c.seen[0]
	if e.Site != nil {
		return nil // other sites come in by the same port
	}
	if e.Map != nil && !c.lets(e.Map) && c.code != "exposure.wider" {
		if mend := c.closing(e.Open); mend != nil {
			return mend
		}
	}
	return c.filtering()
}

// narrowing lets in only whom intents admit: by the site's own list of sources, else by a filter of the machine.
func (c *opened) narrowing() *flow.Mend {
	e := c.seen[0]
	if e.Site == nil {
		return c.shutting()
	}
	audience := audienceOf(e.Meant)
	if len(e.Picked.Names) != 1 || e.Picked.Names[0] != *e.Site || len(audience) == 0 {
		return nil
	}
	for _, e := range c.seen {
		if e.Picked != c.seen[0].Picked {
			return nil
		}
	}
	return &flow.Mend{Remove: lines(e.Picked), Add: lines(estate.With(e.Picked, func(n *estate.Site) { n.Sources = audience }))}
}

// audienceOf are all that intents are for.
func audienceOf(list []*estate.Intent) []estate.Selector {
	var out []estate.Selector
	for _, i := range list {
		for _, s := range i.For {
			if s.Word != "nobody" && !slices.Contains(out, s) {
				out = append(out, s)
			}
		}
	}
	return out
}

// filtering stops what is open by a line of a filter on the machine that takes it, behind one that keeps those who are to
// reach it.
func (c *opened) filtering() *flow.Mend {
	first := c.seen[0]
	ports, ok := doorPorts(first.Open)
	if !ok {
		return nil
	}
	keep := audienceOf(first.Meant)
	past, _ := c.before(first.Place, landed(first.Open))
	for _, front := range past.fronts {
		host, _, _ := strings.Cut(front, "/")
		if host != first.Ingress.Host {
			keep = appendNew(keep, estate.Selector{Name: host})
		}
	}
	host := c.m.PlaceNamed(first.Ingress.Host)
	byHook := map[model.Hook]*met{}
	for i := range c.seen {
		e := &c.seen[i]
		if p, ok := doorPorts(e.Open); !ok || !p.Equal(ports) || e.Ingress.Host != first.Ingress.Host {
			return nil
		}
		hook := model.Input
		if e.Ingress.Mapped {
			hook = model.Prerouting
		}
		if byHook[hook] == nil {
			byHook[hook] = &met{}
		}
		if !byHook[hook].add(e) || !e.Ingress.Same && c.selects(keep, e.Ingress.Source) {
			return nil
		}
	}
	if len(keep) > 0 && c.stopsMeant(byHook) {
		return nil
	}
	transport := netset.TCP
	if first.Transport == "udp" {
		transport = netset.UDP
	}
	listed := estate.Ports{Ranges: ports.Ranges(), Transport: transport}
	mend := &flow.Mend{Remove: []string{}, Add: []string{}}
	for _, hook := range []model.Hook{model.Prerouting, model.Input} {
		flows := byHook[hook]
		if flows == nil {
			continue
		}
		name := filterOn(host, hook, flows, len(keep) > 0)
		if name == "" {
			name = c.freeFilterName(host.Name, hook)
			mend.Add = append(mend.Add, estate.Line(estate.Made(&estate.Filter{Name: name, On: []string{host.Name}, Hook: hook.String(), Otherwise: "pass"})))
		}
		at := 1
		if len(keep) > 0 {
			mend.Add = append(mend.Add, estate.LineAt(estate.Made(&estate.Rule{Filter: name, Action: "pass", Ports: listed, From: keep, To: flows.to}), at))
			at++
		}
		mend.Add = append(mend.Add, estate.LineAt(estate.Made(&estate.Rule{Filter: name, Action: "drop", Ports: listed, From: flows.from, To: flows.to}), at))
	}
	return mend
}

// stopsMeant says whether lines that stop some flows would stop others too that are meant to get to the same ports, and that look
// as those do at the machine that takes them: a machine on the way has given them another source.
func (c *opened) stopsMeant(stopped map[model.Hook]*met) bool {
	first := c.seen[0]
	c.beside = true
	for _, other := range c.reach()[first.Place] {
		a, b := landed(other.Open), landed(first.Open)
		if other.Intent == exposure.None || other.Transport != first.Transport || other.Ingress == nil || other.Ingress.Same || max(a.Lo, b.Lo) > min(a.Hi, b.Hi) {
			continue
		}
		for _, flows := range stopped {
			if c.selects(flows.from, other.Ingress.Source) {
				return true
			}
		}
	}
	return false
}

// met are the flows that filters on one hook of a machine meet.
type met struct {
	from, to []estate.Selector
	v4, v6   bool
}

// add takes in one flow, by the vantage or by the one address that a machine has given it; false where its source is neither.
func (m *met) add(e *seen) bool {
	a, from := e.Ingress.Addr, vantageSelector(e.from)
	if !e.Ingress.Same {
		source, one := e.Ingress.Source.Single()
		if !one {
			return false
		}
		from = addressSelector(source)
	}
	m.from, m.to = appendNew(m.from, from), appendNew(m.to, addressSelector(a))
	m.v4, m.v6 = m.v4 || a.Is4(), m.v6 || a.Is6()
	return true
}

func addressSelector(a netip.Addr) estate.Selector {
	return estate.Selector{Prefix: netip.PrefixFrom(a, a.BitLen())}
}

// selects says whether a list of selectors names some of a set of addresses.
func (c *check) selects(list []estate.Selector, set netset.Addrs) bool {
	return slices.ContainsFunc(list, func(s estate.Selector) bool { return c.m.Selected(s).Set.Overlaps(set) })
}

func appendNew(list []estate.Selector, s estate.Selector) []estate.Selector {
	if slices.Contains(list, s) {
		return list
	}
	return append(list, s)
}

func vantageSelector(word string) estate.Selector {
	if word == "internet" {
		return estate.Selector{Word: word}
	}
	return estate.Selector{Name: word}
}

// doorPorts are the ports of something open as it comes to the machine that takes it.
func doorPorts(e *exposure.Open) (netset.Ports, bool) {
	if e.Ingress == nil {
		return netset.Ports{}, false
	}
	own := netset.PortsOf(e.Range)
	switch {
	case e.Ingress.Host == e.Host && own.Subtract(e.Ingress.Ports).IsEmpty():
		return own, true
	case e.Ingress.Ports.Count() == e.Range.Len():
		return e.Ingress.Ports, true
	}
	return netset.Ports{}, false
}

// filterOn is a filter of a machine on a hook that meets flows of their families, and in which a line put first decides; ""
// where there is none.
func filterOn(p *model.Place, hook model.Hook, flows *met, keeps bool) string {
	for _, f := range p.Filters[hook] {
		if f.Record.Family == "ipv4" && flows.v6 || f.Record.Family == "ipv6" && flows.v4 || f.Record.Stateless || f.Record.DropWins && keeps {
			continue
		}
		return f.Record.Name
	}
	return ""
}

// filterNames are the names that filters have.
func (s *survey) filterNames() map[string]bool {
	taken := map[string]bool{}
	for _, r := range s.m.Estate.Of(estate.KindNamed("filter")) {
		taken[r.(*estate.Filter).Name] = true
	}
	return taken
}

func (c *opened) freeFilterName(host string, hook model.Hook) string {
	name := host + "-" + hook.String()
	for n := 2; ; n++ {
		c.tried = append(c.tried, name)
		if !c.filters[name] {
			return name
		}
		name = fmt.Sprintf("%s-%s%d", host, hook, n)
	}
}

// encrypting sends visitors of a site in the clear to the same site behind TLS, where it is there.
func (c *check) encrypting(e *exposure.Open) *flow.Mend {
	if e.Picked == nil {
		return nil
	}
	served := clearSite(c.m, e)
	if served == nil {
		return nil
	}
	for _, s := range c.m.Services[e.Service].Sites {
		if s.Name != *e.Site || s.Record == served || !s.Record.Redirect.IsZero() {
			continue
		}
		for _, l := range c.m.Services[e.Service].Listens {
			if l.TLS && l.Bind.Set().Contains(443) && (s.Ports.IsEmpty() || s.Ports.Contains(443)) && len(served.Names) == 1 {
				return &flow.Mend{Remove: lines(served), Add: lines(estate.With(served, func(n *estate.Site) {
					*n = estate.Site{Common: n.Common, Service: n.Service, Names: n.Names, At: n.At, Path: n.Path, Default: n.Default, Redirect: estate.Redirect{HTTPS: true}}
				}))}
			}
		}
	}
	return nil
}

// Closing shuts something open to those of a vantage, whether it is meant or not: what is open is the entries of one
// address, transport and range of ports. A map of just these ports is put on loopback, a forward of just these is taken out;
// where they serve more, a line of a filter stops them. nil where the records do not say how.
func Closing(t *trace.Tracer, open []exposure.Open, from string) *flow.Mend {
	if len(open) == 0 {
		return nil
	}
	s := survey{ctx: context.Background(), t: t, m: t.Model}
	e := open[0]
	bare := e
	bare.Meant = nil // also those it is meant for
	c := opened{check{survey: s}, &opening{code: "close", seen: []seen{{&bare, from}}}, nil, s.filterNames()}
	if e.Map != nil && e.Map.Bind.Set().Subtract(netset.PortsOf(e.Range)).IsEmpty() {
		if mend := c.closing(&e); mend != nil {
			return mend
		}
	}
	if host := c.m.PlaceNamed(e.Host); host != nil && from == "internet" {
		for _, f := range host.Forwards {
			if !f.Record.Bind.Any && slices.Contains(e.Records, estate.Line(f.Record)) && f.Ports.Equal(netset.PortsOf(e.Range)) && f.Record.Bind.Transport.String() == e.Transport {
				return offLine(f.Record)
			}
		}
	}
	return c.filtering()
}
