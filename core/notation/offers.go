package notation

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
)

// What the estate knows that could stand in a field: addresses that are held or free, ports that are listened on or free, URLs by which
// a front reaches a backend. It is offered from the records alone, as they are written; what it would come to is the engine's.

// offers gathers them, each once.
type offers struct {
	e    *estate.Estate
	out  []Suggestion
	seen map[string]bool
}

func (o *offers) add(text, format string, args ...any) {
	if text != "" && !o.seen[text] {
		o.seen[text] = true
		o.out = append(o.out, Suggestion{text, fmt.Sprintf(format, args...)})
	}
}

// inForce gives the records of a kind that are not off.
func inForce[R estate.Record](e *estate.Estate, kind string) []R {
	var out []R
	for _, r := range e.Of(estate.KindNamed(kind)) {
		if !r.Meta().Off {
			out = append(out, r.(R))
		}
	}
	return out
}

// offered is what fits into a field of a record that is begun.
func offered(draft estate.Record, column string, e *estate.Estate) []Suggestion {
	o := &offers{e: e, seen: map[string]bool{}}
	switch r := draft.(type) {
	case *estate.DNS:
		if column == "value" {
			o.answers(r.Type)
		}
	case *estate.Address:
		if column == "held" {
			o.freeAddresses()
		}
	case *estate.Forward:
		switch column {
		case "target":
			o.addresses(func(a *estate.Address) bool { return a.Network != "internet" && !slices.Contains(a.Hosts, r.Router) })
		case "bind":
			o.listened(func(l *estate.Listen) bool { return hostOf(l.Place) != r.Router })
		}
	case *estate.Route:
		if column == "via" {
			o.addresses(func(a *estate.Address) bool { return !slices.Contains(a.Hosts, r.Host) && o.isRouter(a.Hosts[0]) })
		}
	case *estate.HostsEntry:
		if column == "address" {
			o.addresses(func(*estate.Address) bool { return true })
		}
	case *estate.Outbound:
		if column == "rewritten" {
			o.addresses(func(a *estate.Address) bool { return slices.Contains(a.Hosts, r.Router) })
		}
	case *estate.Rule:
		if column == "ports" {
			o.listened(func(*estate.Listen) bool { return true })
		}
	case *estate.Map:
		switch column {
		case "bind":
			o.outerPorts(r.Container)
		case "inner":
			o.listened(func(l *estate.Listen) bool { return l.Place == r.Container })
		}
	case *estate.Listen:
		if column == "bind" {
			o.mappedInto(r.Place)
		}
	case *estate.Site:
		if column == "target" {
			o.upstreams(r.Service)
		}
	case *estate.Member:
		if column == "endpoint" {
			o.endpoints()
		}
	case *estate.Intent:
		switch column {
		case "reaching":
			o.endpoints()
		case "ports":
			o.listened(func(*estate.Listen) bool { return true })
		}
	}
	return o.out
}

func hostOf(place string) string {
	host, _, _ := strings.Cut(place, "/")
	return host
}

func (o *offers) isRouter(name string) bool {
	return slices.ContainsFunc(inForce[*estate.Host](o.e, "host"), func(h *estate.Host) bool { return h.Name == name && h.Router })
}

// addresses are those that machines hold.
func (o *offers) addresses(wanted func(*estate.Address) bool) {
	for _, a := range inForce[*estate.Address](o.e, "address") {
		if a.Held.Addr.IsValid() && wanted(a) {
			o.add(a.Held.Addr.String(), "%s on %s", a.Hosts[0], a.Network)
		}
	}
}

// answers are what a name may answer: the addresses held on internet first, then those inside; or names.
func (o *offers) answers(typ string) {
	if typ != "A" && typ != "AAAA" {
		for _, d := range inForce[*estate.DNS](o.e, "dns") {
			o.add(d.Owner, "name")
		}
		return
	}
	for _, outside := range []bool{true, false} {
		o.addresses(func(a *estate.Address) bool {
			return (a.Network == "internet") == outside && a.Held.Addr.Is4() == (typ == "A")
		})
	}
}

// freeAddresses is the next address of each network that nobody holds.
func (o *offers) freeAddresses() {
	held := map[netip.Addr]bool{}
	for _, a := range inForce[*estate.Address](o.e, "address") {
		held[a.Held.Addr] = true
	}
	const mostTried = 4096
	for _, n := range inForce[*estate.Network](o.e, "network") {
		if n.On != "" {
			continue
		}
		for _, p := range n.Prefixes {
			a := p.Addr().Next()
			for range mostTried {
				if !held[a] || !p.Contains(a) {
					break
				}
				a = a.Next()
			}
			if p.Contains(a) && !held[a] {
				o.add(a.String(), "free on %s", n.Name)
			}
		}
	}
}

// listened are the ports on which something listens.
func (o *offers) listened(wanted func(*estate.Listen) bool) {
	for _, l := range inForce[*estate.Listen](o.e, "listen") {
		if wanted(l) && !l.Bind.Any {
			o.add(l.Bind.Ports.String(), "%s on %s", l.Service, l.Place)
		}
	}
}

// mappedInto are the ports of a container to which maps lead.
func (o *offers) mappedInto(place string) {
	for _, m := range inForce[*estate.Map](o.e, "map") {
		if m.Container == place {
			o.add(m.To.List(), "mapped from %s", m.Bind)
		}
	}
}

// taken are the ports of a machine that its listeners and maps hold.
func (o *offers) taken(host string) netset.Ports {
	var all []netset.PortRange
	for _, l := range inForce[*estate.Listen](o.e, "listen") {
		if l.Place == host {
			all = append(all, l.Bind.Ranges...)
		}
	}
	for _, m := range inForce[*estate.Map](o.e, "map") {
		if hostOf(m.Container) == host {
			all = append(all, m.Bind.Ranges...)
		}
	}
	return netset.PortsOf(all...)
}

// outerPorts are ports of a container's machine that are free: the container's own where they are, else the next ones.
func (o *offers) outerPorts(container string) {
	host := hostOf(container)
	taken := o.taken(host)
	const from = 8000
	for _, l := range inForce[*estate.Listen](o.e, "listen") {
		if l.Place != container || len(l.Bind.Ranges) == 0 {
			continue
		}
		if port := l.Bind.Ranges[0].Lo; !taken.Contains(port) {
			o.add(fmt.Sprint(port), "free on %s, as inside", host)
		}
	}
	for port := from; port <= netset.MaxPort; port++ {
		if !taken.Contains(uint16(port)) {
			o.add(fmt.Sprint(port), "free on %s", host)
			return
		}
	}
}

// endpoints are places with the ports on which they listen.
func (o *offers) endpoints() {
	for _, l := range inForce[*estate.Listen](o.e, "listen") {
		if len(l.Bind.Ranges) > 0 {
			o.add(fmt.Sprintf("%s:%d", l.Place, l.Bind.Ranges[0].Lo), "%s", l.Service)
		}
	}
}

// upstreams are URLs by which the places of a service reach what listens elsewhere: a container by its name on a network that they
// share, what is on the machine itself by localhost, another machine by an address.
func (o *offers) upstreams(service string) {
	var fronts []string
	for _, l := range inForce[*estate.Listen](o.e, "listen") {
		if l.Service == service {
			fronts = append(fronts, l.Place)
		}
	}
	for _, l := range inForce[*estate.Listen](o.e, "listen") {
		if l.Service == service || l.Bind.Transport&netset.TCP == 0 || len(l.Bind.Ranges) == 0 {
			continue
		}
		scheme := "http"
		if l.TLS {
			scheme = "https"
		}
		for _, front := range fronts {
			if host := o.seenFrom(front, l); host != "" {
				o.add(fmt.Sprintf("%s://%s:%d", scheme, host, l.Bind.Ranges[0].Lo), "%s on %s", l.Service, l.Place)
			}
		}
	}
}

// seenFrom is the host part by which a place reaches a listener; "" where the records do not say one.
func (o *offers) seenFrom(front string, l *estate.Listen) string {
	_, container, isContainer := strings.Cut(l.Place, "/")
	switch {
	case front == l.Place:
		return "localhost"
	case isContainer && o.shareNetwork(front, l.Place):
		return container
	case isContainer || l.Bind.Addr.IsLoopback():
		return ""
	}
	for _, a := range inForce[*estate.Address](o.e, "address") {
		if a.Hosts[0] == l.Place && a.Held.Addr.Is4() && a.Network != "internet" {
			return a.Held.Addr.String()
		}
	}
	return ""
}

// shareNetwork says whether two containers are on one network.
func (o *offers) shareNetwork(a, b string) bool {
	on := map[string]bool{}
	for _, c := range inForce[*estate.Container](o.e, "container") {
		for _, at := range c.In {
			if c.Name == a {
				on[at.Network] = true
			}
		}
	}
	return slices.ContainsFunc(inForce[*estate.Container](o.e, "container"), func(c *estate.Container) bool {
		return c.Name == b && slices.ContainsFunc(c.In, func(at estate.Attachment) bool { return on[at.Network] })
	})
}
