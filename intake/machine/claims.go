package machine

import (
	"cmp"
	"net/netip"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
)

// claim is one port of one address that a listener or a map takes. outer and inner differ for a map only.
type claim struct {
	stack string     // the machine or container whose addresses they are
	addr  netip.Addr // unspecified: every address of its family
	proto netset.Transport
	outer uint16
	inner uint16
}

// claimsOf is a port of an address; of both families where the address is not valid.
func claimsOf(stack string, addr netip.Addr, transport netset.Transport, outer, inner uint16) []claim {
	addrs := []netip.Addr{addr}
	if !addr.IsValid() {
		addrs = []netip.Addr{netip.IPv4Unspecified(), netip.IPv6Unspecified()}
	}
	var out []claim
	for _, proto := range transport.Each() {
		for _, a := range addrs {
			out = append(out, claim{stack, a, proto, outer, inner})
		}
	}
	return out
}

// claimsOfBind are the claims of a recorded line; pairs are its ports and what they lead to.
func claimsOfBind(stack string, b estate.Bind, pairs []estate.Pair) []claim {
	var out []claim
	for _, p := range pairs {
		for port := int(p.From.Lo); port <= int(p.From.Hi); port++ {
			out = append(out, claimsOf(stack, b.Addr, b.Transport, uint16(port), p.Inner(uint16(port)))...)
		}
	}
	return out
}

// meet says whether two claims have a port of an address in common.
func (c claim) meet(d claim) bool {
	return c.stack == d.stack && c.proto == d.proto && c.outer == d.outer &&
		(c.addr == d.addr || c.addr.Is4() == d.addr.Is4() && (c.addr.IsUnspecified() || d.addr.IsUnspecified()))
}

// meetings are the claims that meet one of somebody else's.
func meetings[T comparable](claims []claim, owners func(claim) []T) map[claim]bool {
	type port struct {
		stack string
		proto netset.Transport
		port  uint16
	}
	at := map[port][]claim{}
	for _, c := range claims {
		k := port{c.stack, c.proto, c.outer}
		if !slices.Contains(at[k], c) {
			at[k] = append(at[k], c)
		}
	}
	out := map[claim]bool{}
	for _, list := range at {
		for i, c := range list {
			out[c] = out[c] || len(owners(c)) > 1
			for _, d := range list[i+1:] {
				if c.meet(d) && !slices.Equal(owners(c), owners(d)) {
					out[c], out[d] = true, true
				}
			}
		}
	}
	return out
}

// binding is the ports of an address, and what they lead to.
type binding struct {
	estate.Bind
	to estate.Ports
}

type pair struct{ outer, inner uint16 }

// bindings put claims together: ports of one address in one list, both families in one where they have the same port,
// both transports where they have the same list.
func bindings(claims []claim) []binding {
	type key struct {
		addr  netip.Addr
		proto netset.Transport
	}
	at := map[key][]pair{}
	for _, c := range claims {
		k := key{c.addr, c.proto}
		at[k] = append(at[k], pair{c.outer, c.inner})
	}
	both := netip.Addr{}
	for _, proto := range netset.Both.Each() {
		v4, v6 := key{netip.IPv4Unspecified(), proto}, key{netip.IPv6Unspecified(), proto}
		var common []pair
		for _, p := range at[v4] {
			if slices.Contains(at[v6], p) {
				common = append(common, p)
			}
		}
		if len(common) > 0 {
			at[key{both, proto}] = common
			in := func(p pair) bool { return slices.Contains(common, p) }
			at[v4], at[v6] = slices.DeleteFunc(at[v4], in), slices.DeleteFunc(at[v6], in)
		}
	}
	for k, pairs := range at {
		slices.SortFunc(pairs, func(a, b pair) int { return cmp.Or(cmp.Compare(a.outer, b.outer), cmp.Compare(a.inner, b.inner)) })
		at[k] = slices.Compact(pairs)
	}
	var out []binding
	for k, pairs := range at {
		other := key{k.addr, netset.Both &^ k.proto}
		proto := k.proto
		if len(pairs) > 0 && slices.Equal(at[other], pairs) {
			if proto == netset.UDP {
				continue // it is with that of tcp
			}
			proto = netset.Both
		}
		if len(pairs) > 0 {
			out = append(out, binding{estate.Bind{Addr: k.addr, Ports: outerPorts(pairs, proto)}, innerPorts(pairs, proto)})
		}
	}
	slices.SortFunc(out, func(a, b binding) int {
		return cmp.Or(cmp.Compare(a.Ranges[0].Lo, b.Ranges[0].Lo), cmp.Compare(a.Transport, b.Transport), a.Addr.Compare(b.Addr))
	})
	return out
}

// runs cuts sorted pairs where a port, or what it leads to, does not go up by one.
func runs(pairs []pair, many bool) [][]pair {
	var out [][]pair
	for i, p := range pairs {
		if i > 0 && p.outer == pairs[i-1].outer+1 && (many || p.inner == pairs[i-1].inner+1) {
			out[len(out)-1] = append(out[len(out)-1], p)
			continue
		}
		out = append(out, []pair{p})
	}
	return out
}

func manyToOne(pairs []pair) bool {
	return len(pairs) > 1 && !slices.ContainsFunc(pairs, func(p pair) bool { return p.inner != pairs[0].inner })
}

func outerPorts(pairs []pair, proto netset.Transport) estate.Ports {
	out := estate.Ports{Transport: proto}
	for _, run := range runs(pairs, manyToOne(pairs)) {
		out.Ranges = append(out.Ranges, netset.PortRange{Lo: run[0].outer, Hi: run[len(run)-1].outer})
	}
	return out
}

func innerPorts(pairs []pair, proto netset.Transport) estate.Ports {
	out := estate.Ports{Transport: proto}
	if manyToOne(pairs) {
		out.Ranges = []netset.PortRange{netset.OnePort(pairs[0].inner)}
		return out
	}
	for _, run := range runs(pairs, false) {
		out.Ranges = append(out.Ranges, netset.PortRange{Lo: run[0].inner, Hi: run[len(run)-1].inner})
	}
	return out
}
