// Package plan is for ports that are still to be taken: listeners, maps and forwards that are recorded and off. It holds
// them against what is there and against each other, and switches them on in one step.
package plan

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation"
)

// Line is a planned line, with what it would collide with if all of the plan were on.
type Line struct {
	Record   estate.Record
	Machine  string   // whose ports it takes
	Collides []string // a sentence each
}

// Of are the planned lines of an estate, in its order. chosen says which of them are meant; nil: all.
func Of(e *estate.Estate, chosen func(estate.Record) bool) []Line {
	var out []Line
	at := map[estate.Record]int{} // by the line in force
	var on []estate.Record
	for _, r := range e.All() {
		if !r.Meta().Off || !takesPorts(r) || chosen != nil && !chosen(r) {
			on = append(on, r)
			continue
		}
		live := estate.InForce(r)
		at[live] = len(out)
		out = append(out, Line{Record: r, Machine: machineOf(r), Collides: []string{}})
		on = append(on, live)
	}
	if len(out) == 0 {
		return out
	}
	m := model.Compile(estate.New(on, nil))
	say := func(r estate.Record, why string) {
		if i, planned := at[r]; planned && !slices.Contains(out[i].Collides, why) {
			out[i].Collides = append(out[i].Collides, why)
		}
	}
	for _, x := range m.Clashes() {
		why := x.Why(m)
		say(x.First, why)
		say(x.Second, why)
	}
	for _, p := range m.Places {
		for i, f := range p.Forwards {
			for _, g := range p.Forwards[:i] {
				if why := bothForward(m, p, g, f); why != "" {
					say(f.Record, why)
					say(g.Record, why)
				}
			}
			for j := range p.Sockets {
				if s := &p.Sockets[j]; s.Record.Bind.Transport&f.Record.Bind.Transport != 0 && meetAt(outerOf(m, p, f), s.Record.Bind.Addr) {
					if both := f.Ports.Intersect(s.Ports); !both.IsEmpty() {
						why := fmt.Sprintf("%s listens on %s of %s; from outside the forward to %s takes it.", s.Record.Service, both, p.Name, f.Record.To.Addr)
						say(f.Record, why)
						say(s.Record, why)
					}
				}
			}
		}
	}
	return out
}

// SwitchOn is the change that brings lines into force.
func SwitchOn(lines []estate.Record) estate.Change {
	var c estate.Change
	for _, r := range lines {
		c.Remove = append(c.Remove, estate.Line(r))
		c.Add = append(c.Add, estate.Placed{Record: estate.InForce(r)})
	}
	return c
}

func takesPorts(r estate.Record) bool {
	switch r.(type) {
	case *estate.Forward, *estate.Map, *estate.Listen:
		return true
	}
	return false
}

func machineOf(r estate.Record) string {
	place := ""
	switch r := r.(type) {
	case *estate.Forward:
		place = r.Router
	case *estate.Map:
		place = r.Container
	case *estate.Listen:
		place = r.Place
	}
	host, _, _ := strings.Cut(place, "/")
	return host
}

// outerOf are the addresses that a forward is for.
func outerOf(m *model.Model, p *model.Place, f *model.Forward) []netip.Addr {
	if f.Record.Bind.Addr.IsValid() {
		return []netip.Addr{f.Record.Bind.Addr}
	}
	return m.OuterAddrs(p, f.Record.To.Addr.Is6())
}

// meetAt says whether a bound address is one of a list, or takes one of it.
func meetAt(list []netip.Addr, bound netip.Addr) bool {
	return slices.ContainsFunc(list, func(a netip.Addr) bool {
		return !bound.IsValid() || bound == a || bound.IsUnspecified() && bound.Is6() == a.Is6()
	})
}

// bothForward says that two forwards of a router, the first written first, want the same; "" where they do not.
func bothForward(m *model.Model, p *model.Place, first, second *model.Forward) string {
	proto := first.Record.Bind.Transport & second.Record.Bind.Transport
	both := first.Ports.Intersect(second.Ports)
	if proto == 0 || both.IsEmpty() || !sourcesMeet(first.From, second.From) || !slices.ContainsFunc(outerOf(m, p, first), func(a netip.Addr) bool { return slices.Contains(outerOf(m, p, second), a) }) {
		return ""
	}
	return fmt.Sprintf("%s %s/%s is forwarded to %s and to %s; the first written takes it.", p.Name, both, proto, first.Record.To, second.Record.To)
}

func sourcesMeet(a, b model.Match) bool {
	return a.Any || b.Any || a.Set.Overlaps(b.Set) || slices.ContainsFunc(a.Float, func(id model.PlaceID) bool { return slices.Contains(b.Float, id) })
}

// Fault is a row of a plan that cannot be written as a line.
type Fault struct {
	Row      int // from 1
	What     string
	Expected string
}

// Write makes planned lines of rows: a service a row, as OUTSIDE INSIDE and what it is, if anything. OUTSIDE are the ports
// at the gateway, with an address and a transport where they matter (`8443`, `53/udp`, `203.0.113.20:8000-8010`). INSIDE is
// where they lead: a container of the gateway, or, from a router, an address or a machine; with the ports there where they
// are others (`azimuth/front:443`, `10.40.8.20:443`). Empty rows, and those after a #, are passed over.
func Write(m *model.Model, gateway, rows string) ([]estate.Record, []Fault) {
	var out []estate.Record
	var faults []Fault
	g := m.PlaceNamed(strings.ToLower(strings.TrimSpace(gateway)))
	if g == nil || g.IsContainer() {
		return nil, []Fault{{1, fmt.Sprintf("%q is no machine", gateway), "the router or container host whose ports they are"}}
	}
	for i, row := range strings.Split(rows, "\n") {
		words := strings.Fields(row)
		if len(words) == 0 || strings.HasPrefix(words[0], "#") {
			continue
		}
		fault := func(what, expected string) { faults = append(faults, Fault{i + 1, what, expected}) }
		if len(words) < 2 {
			fault("the row has no inside", "OUTSIDE INSIDE, as 8443 azimuth/front:443")
			continue
		}
		text, what, expected := line(m, g, words[0], strings.ToLower(words[1]))
		if what != "" {
			fault(what, expected)
			continue
		}
		text += " off"
		if len(words) > 2 {
			text += " note " + estate.Quote(strings.Join(words[2:], " "))
		}
		p, _, err := notation.ParseLine(text)
		if err != nil {
			f := err.(*estate.Fault)
			fault(f.What, f.Expected)
			continue
		}
		out = append(out, p.Record)
	}
	return out, faults
}

// line is a row as notation, or why it is none.
func line(m *model.Model, g *model.Place, outside, inside string) (text, what, expected string) {
	place, ports := inside, ""
	if _, err := netip.ParseAddr(inside); err != nil {
		if i := strings.LastIndexByte(inside, ':'); i > 0 {
			place, ports = inside[:i], inside[i+1:]
		}
	}
	if addr, err := netip.ParseAddr(strings.Trim(place, "[]")); err == nil {
		if !g.Router {
			return "", fmt.Sprintf("%s is no router, and maps to its own containers only", g.Name), "a container, as " + g.Name + "/front:443"
		}
		return "forward " + g.Name + " " + outside + " to " + target(addr, ports), "", ""
	}
	p := m.PlaceNamed(place)
	switch {
	case p == nil:
		return "", fmt.Sprintf("%q is no address, machine or container", place), "where the port leads, as 10.40.8.20:443 or azimuth/front:443"
	case p.IsContainer() && p.Host == g.ID:
		if ports == "" {
			_, ports, _ = cutAddr(outside)
			ports, _, _ = strings.Cut(ports, "/")
		}
		return "map " + p.Name + " " + outside + " to " + ports, "", ""
	case p.IsContainer():
		return "", fmt.Sprintf("%s is inside %s", p.Name, m.Places[p.Host].Name), fmt.Sprintf("a port of %s that is mapped to it", m.Places[p.Host].Name)
	case !g.Router:
		return "", fmt.Sprintf("%s is no router, and maps to its own containers only", g.Name), "a container, as " + g.Name + "/front:443"
	}
	six := strings.HasPrefix(outside, "[")
	for _, attachment := range p.Attachments {
		for _, a := range attachment.Addrs {
			if hop := m.NextHop(g, a); !attachment.Gateway && a.Is6() == six && (hop.Kind == model.OnLink || hop.Kind == model.Via) {
				return "forward " + g.Name + " " + outside + " to " + target(a, ports), "", ""
			}
		}
	}
	return "", fmt.Sprintf("%s leads to no address of %s", g.Name, p.Name), "a machine that it leads to, or an address"
}

// cutAddr parts an address from the ports behind it.
func cutAddr(text string) (addr, ports string, found bool) {
	if i := strings.LastIndexByte(text, ':'); i >= 0 {
		return text[:i], text[i+1:], true
	}
	return "", text, false
}

func target(a netip.Addr, ports string) string {
	switch {
	case ports == "":
		return a.String()
	case a.Is6():
		return "[" + a.String() + "]:" + ports
	}
	return a.String() + ":" + ports
}
