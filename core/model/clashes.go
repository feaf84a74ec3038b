package model

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"sort"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
)

// Clash is a range of ports that two lines of one namespace claim: two listeners, two maps, or one of each.
type Clash struct {
	Namespace PlaceID
	Transport netset.Transport // one
	Ports     netset.PortRange
	First     estate.Record // as they are written; a listener before a map
	Second    estate.Record
}

// claim is a range of ports that the line with a number takes, for one transport.
type claim struct {
	ports netset.PortRange
	line  int32 // in the order written
}

// claimant is a line of a namespace that takes ports.
type claimant struct {
	of    estate.Record
	place PlaceID // of a listener: the place that its line names
}

// meeting is two lines, the earlier first, and the ports that both want.
type meeting struct {
	ports         netset.PortRange
	first, second int32
}

// Clashes are the ports that two claim, namespace by namespace, in their order. A listener of a service meets another of it on
// one place, and one that is `shared` another that is, on purpose. The cost is that of sorting, and of what is found.
func (m *Model) Clashes() []Clash {
	var out []Clash
	for _, p := range m.Places {
		out = append(out, p.Clashes()...)
	}
	return out
}

// Clashes are those of one namespace.
func (p *Place) Clashes() []Clash {
	var out []Clash
	for _, proto := range netset.Both.Each() {
		out = append(out, p.clashes(proto)...)
	}
	return out
}

// clashes sorts the claims of a namespace by the address that they are bound to; a claim can meet those of its own address
// and of the wider ones alone.
func (p *Place) clashes(proto netset.Transport) []Clash {
	byAddr := map[netip.Addr][]claim{} // the zero address: both families
	lines := make([]claimant, 0, len(p.Sockets)+len(p.Maps))
	add := func(b *estate.Bind, ports netset.Ports, of estate.Record, place PlaceID) {
		lines = append(lines, claimant{of, place})
		if b.Transport&proto == 0 {
			return
		}
		list := byAddr[b.Addr]
		for _, r := range ports.Ranges() {
			list = append(list, claim{r, int32(len(lines) - 1)})
		}
		byAddr[b.Addr] = list
	}
	for i := range p.Sockets {
		s := &p.Sockets[i]
		add(&s.Record.Bind, s.Ports, s.Record, s.Place)
	}
	for _, mp := range p.Maps {
		add(&mp.Record.Bind, mp.Ports, mp.Record, mp.Container)
	}
	var met []meeting
	found := func(a, b claim) {
		if a.line > b.line {
			a, b = b, a
		}
		if !together(&lines[a.line], &lines[b.line]) {
			met = append(met, meeting{netset.PortRange{Lo: max(a.ports.Lo, b.ports.Lo), Hi: min(a.ports.Hi, b.ports.Hi)}, a.line, b.line})
		}
	}
	for _, list := range byAddr {
		slices.SortFunc(list, func(a, b claim) int { return cmp.Or(cmp.Compare(a.ports.Lo, b.ports.Lo), cmp.Compare(a.line, b.line)) })
	}
	both, four, six := widerOf(byAddr[netip.Addr{}]), widerOf(byAddr[netip.IPv4Unspecified()]), widerOf(byAddr[netip.IPv6Unspecified()])
	for addr, list := range byAddr {
		for i, a := range list {
			for _, b := range list[i+1:] {
				if b.ports.Lo > a.ports.Hi {
					break
				}
				found(a, b)
			}
			if addr.IsValid() {
				both.meets(a, found)
			}
			switch {
			case !addr.IsValid() || addr.IsUnspecified():
			case addr.Is4():
				four.meets(a, found)
			default:
				six.meets(a, found)
			}
		}
	}
	slices.SortFunc(met, func(a, b meeting) int {
		return cmp.Or(cmp.Compare(a.ports.Lo, b.ports.Lo), cmp.Compare(a.ports.Hi, b.ports.Hi), cmp.Compare(a.first, b.first), cmp.Compare(a.second, b.second))
	})
	out := make([]Clash, len(met))
	for i, x := range met {
		out[i] = Clash{p.ID, proto, x.ports, lines[x.first].of, lines[x.second].of}
	}
	return out
}

// wider are the claims of every address of a family, or of both, sorted by their first ports, each with the highest port
// of those up to it.
type wider struct {
	list []claim
	high []uint16
}

func widerOf(list []claim) wider {
	w := wider{list: list, high: make([]uint16, len(list))}
	for i, c := range list {
		w.high[i] = c.ports.Hi
		if i > 0 {
			w.high[i] = max(w.high[i], w.high[i-1])
		}
	}
	return w
}

func (w wider) meets(a claim, found func(a, b claim)) {
	end := sort.Search(len(w.list), func(i int) bool { return w.list[i].ports.Lo > a.ports.Hi })
	for i := end - 1; i >= 0 && w.high[i] >= a.ports.Lo; i-- {
		if w.list[i].ports.Hi >= a.ports.Lo {
			found(a, w.list[i])
		}
	}
}

// together says whether two lines share a port on purpose, or are one.
func together(a, b *claimant) bool {
	x, isListen := a.of.(*estate.Listen)
	y, both := b.of.(*estate.Listen)
	if isListen && both {
		return x.Service == y.Service && a.place == b.place || x.Shared && y.Shared
	}
	return a.of == b.of
}

// Why says in a sentence what the two both want, and who gets it.
func (x Clash) Why(m *Model) string {
	port := fmt.Sprintf("%s %s/%s", m.Places[x.Namespace].Name, x.Ports, x.Transport)
	short := func(r estate.Record) string {
		_, name, _ := strings.Cut(r.(*estate.Map).Container, "/")
		return name
	}
	first, listens := x.First.(*estate.Listen)
	second, both := x.Second.(*estate.Listen)
	switch {
	case listens && both:
		return fmt.Sprintf("%s is listened on by %s and by %s; only one of them can start.", port, first.Service, second.Service)
	case listens:
		return fmt.Sprintf("%s is mapped to %s, and %s listens on it; from outside %s gets it.", port, short(x.Second), first.Service, short(x.Second))
	}
	a, b := short(x.First), short(x.Second)
	return fmt.Sprintf("%s is mapped to %s and to %s; %s gets it, and %s does not start.", port, a, b, a, b)
}
