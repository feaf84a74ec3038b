package look

import (
	"fmt"
	"net/netip"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// touching decides which addresses may be contacted. Whatever is not allowed here is not contacted by anything of this program.
type touching struct {
	m        *model.Model
	self     Self
	standing Standing
	named    map[netip.Addr]estate.Record // addresses that a forward, map, listener or dns line names
}

func newTouching(m *model.Model, self Self, standing Standing) *touching {
	t := &touching{m: m, self: self, standing: standing, named: map[netip.Addr]estate.Record{}}
	name := func(a netip.Addr, r estate.Record) {
		if a.IsValid() && t.named[a] == nil {
			t.named[a] = r
		}
	}
	for _, p := range m.Places {
		for _, f := range p.Forwards {
			name(f.Record.Bind.Addr, f.Record)
		}
		for _, mp := range p.Maps {
			name(mp.Record.Bind.Addr, mp.Record)
		}
		for i := range p.Sockets {
			name(p.Sockets[i].Record.Bind.Addr, p.Sockets[i].Record)
		}
	}
	for _, r := range m.Estate.Of(estate.KindNamed("dns")) {
		if d := r.(*estate.DNS); !d.Off && (d.Type == "A" || d.Type == "AAAA") {
			if a, err := netip.ParseAddr(d.Value); err == nil {
				name(a, r)
			}
		}
	}
	return t
}

// Ranges that are not looked at, and what each is (RFC 6890, RFC 5737, RFC 3849, RFC 9637).
var (
	documentation = prefixes("192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24", "2001:db8::/32", "3fff::/20")
	private       = prefixes("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "fc00::/7")
)

func prefixes(words ...string) []netip.Prefix {
	var out []netip.Prefix
	for _, w := range words {
		out = append(out, netip.MustParsePrefix(w))
	}
	return out
}

// nobodys says whether an address is of a range for documentation that the machine itself is not in.
func nobodys(a netip.Addr, self Self) bool {
	return slices.ContainsFunc(documentation, func(r netip.Prefix) bool { return r.Contains(a) && !self.in(r) })
}

func within(list []netip.Prefix, a netip.Addr) bool {
	return slices.ContainsFunc(list, func(p netip.Prefix) bool { return p.Contains(a) })
}

// may gives the line by which an address is ours and may be contacted from where the machine stands; or why it may not.
func (t *touching) may(a netip.Addr) (ours estate.Record, why string) {
	switch {
	case !a.IsValid() || a.IsUnspecified() || a.IsMulticast() || a == netip.AddrFrom4([4]byte{255, 255, 255, 255}):
		return nil, "it is no address of one machine"
	case a.Is4In6() || a.Zone() != "":
		return nil, "it is no address as records have them"
	case a.IsLoopback():
		return nil, "it is a machine's own loopback, which no line says that a host of ours holds"
	case a.IsLinkLocalUnicast():
		return nil, "it is link-local: it means another machine on every link"
	}
	ours, holder, why := t.holder(a)
	if ours == nil {
		return nil, why
	}
	if line, ok := ours.(*estate.Address); ok && line.Dynamic {
		return nil, fmt.Sprintf("the address of %s changes by itself: who has this one now is not known", holder.Name)
	}
	switch {
	case nobodys(a, t.self):
		return nil, "it is of a range for documentation, which nobody has"
	case within(private, a):
		if why := t.meantHere(a, holder); why != "" {
			return nil, why
		}
	case !within(documentation, a) && !netset.GloballyReachable().Contains(a):
		return nil, "it is of a range for special use, and cannot be reached over a network"
	}
	return ours, ""
}

// changing is the line by which a host of ours holds an address that changes by itself; nil where none does.
func (t *touching) changing(a netip.Addr) *estate.Address {
	ours, _, _ := t.holder(a)
	if line, ok := ours.(*estate.Address); ok && line.Dynamic {
		return line
	}
	return nil
}

// holder is the line in force by which a host of ours holds an address, and that host.
func (t *touching) holder(a netip.Addr) (estate.Record, *model.Place, string) {
	why := "no line in force says that a host of ours holds it"
	for _, h := range t.m.Owners(a) {
		p := t.m.Places[h.Place]
		switch {
		case p.Outside:
			why = fmt.Sprintf("%s holds it, which is not ours", p.Name)
		case p.IsContainer() && !t.nearContainer(p, a):
			why = fmt.Sprintf("it is %s's own, which is reached from its machine alone", p.Name)
		default:
			if ours := t.lineOf(p, a, h.Record); ours != nil {
				return ours, p, ""
			}
		}
	}
	if b, ok := t.m.BlockOf(a); ok && len(t.m.Owners(a)) == 0 {
		p := t.m.Places[b.Place]
		switch {
		case p.Outside:
			why = fmt.Sprintf("its block is routed to %s, which is not ours", p.Name)
		case t.named[a] == nil:
			why = fmt.Sprintf("its block is routed to %s, and no line names the address itself", p.Name)
		default:
			return t.named[a], p, ""
		}
	}
	return nil, nil, why
}

// lineOf is the line by which a place holds an address.
func (t *touching) lineOf(p *model.Place, a netip.Addr, by estate.Record) estate.Record {
	if by != nil {
		return by
	}
	for i := range p.Attachments {
		if at := &p.Attachments[i]; slices.Contains(at.Addrs, a) && len(at.Records) > 0 {
			return at.Records[0]
		}
	}
	return p.Record
}

// nearContainer says whether a container's own address is reached from where the machine stands: it is the container's machine, or the network
// is routed.
func (t *touching) nearContainer(p *model.Place, a netip.Addr) bool {
	for i := range p.Attachments {
		if at := &p.Attachments[i]; slices.Contains(at.Addrs, a) && t.m.Networks[at.Net].Routed() {
			return true
		}
	}
	return t.standing.place != nil && (t.standing.place.ID == p.Host || t.standing.place.Host == p.Host)
}

// meantHere says why a private address does not mean here what the records say; "" where it does.
func (t *touching) meantHere(a netip.Addr, holder *model.Place) string {
	switch {
	case !t.standing.Certain:
		return "it is private, and nothing says for certain from where this machine looks; say it with --from"
	case t.standing.place == nil && !slices.ContainsFunc(t.standing.nets, func(n *model.Network) bool { return n.ID != model.Internet }):
		return "it is private, and over the internet it means another machine"
	}
	onLink := slices.ContainsFunc(t.standing.nets, func(n *model.Network) bool { return holder.Attachment(n.ID) != nil && n.Set.Contains(a) })
	if len(t.m.Owners(a)) > 1 && !onLink {
		return "several machines of ours hold it, in networks of their own: which of them it means here cannot be told"
	}
	return ""
}
