package machine

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
)

// Interface is a link of a machine with what it holds there.
type Interface struct {
	Name      string
	Loopback  bool
	Down      bool // out of use: it holds nothing now
	Addresses []Leased
}

// Leased is an address with the length of its network.
type Leased struct {
	netip.Prefix
	Dynamic   bool // given for a time
	Temporary bool // one that the machine asks from only (RFC 8981)
}

// Route is a way of a machine: a destination, "default" or a CIDR or an address, and the router that it goes by.
type Route struct {
	To  string
	Via netip.Addr // not valid: it leads nowhere
}

// Networks adds a machine's interfaces: what each is on is one network, of as many ranges as it holds addresses in. A
// public address is on internet. whole says that these are all.
func (a *Account) Networks(interfaces []Interface, whole bool) {
	a.hosted()
	local, temporary, alone := 0, 0, 0
	for _, i := range interfaces {
		if i.Loopback {
			continue
		}
		if i.Down {
			if len(i.Addresses) > 0 {
				a.Left = append(a.Left, fmt.Sprintf("The interface %s is down; its addresses are left out.", i.Name))
			}
			continue
		}
		name := a.interfaceName(i.Name)
		var ranges []netip.Prefix
		var held []*estate.Address
		for _, l := range i.Addresses {
			addr := l.Addr().Unmap()
			address := &estate.Address{Hosts: []string{a.Host}, Held: estate.Held{Addr: addr}, Network: name}
			switch {
			case addr.IsLinkLocalUnicast() || addr.IsLoopback():
				local++
				continue
			case l.Temporary:
				temporary++
				continue
			case netset.GloballyReachable().Contains(addr):
				address.Network, address.Dynamic = "internet", l.Dynamic
			case a.inContainerNetwork(addr):
				continue // the gateway of one, which its machine holds by itself
			case l.IsSingleIP():
				alone++
				continue
			default:
				if p := l.Masked(); !slices.Contains(ranges, p) {
					ranges = append(ranges, p)
				}
			}
			held = append(held, address)
		}
		if len(ranges) > 0 {
			Add(a, &estate.Network{Name: name, Prefixes: ranges})
		}
		for _, h := range held {
			Add(a, h)
		}
	}
	if whole {
		a.Whole = append(a.Whole, Whole{Addresses, a.Host})
	}
	a.Leave(local, "1 link-local address is left out.", "%d link-local addresses are left out.")
	a.Leave(temporary, "1 temporary address is left out: the machine only asks from it.", "%d temporary addresses are left out: the machine only asks from them.")
	a.Leave(alone, "1 private address without a network of its own is left out.", "%d private addresses without a network of their own are left out.")
}

// Leave says that n of something are left out, in a sentence for one and one for many; nothing where there are none.
func (a *Account) Leave(n int, one, many string) {
	switch {
	case n == 1:
		a.Left = append(a.Left, one)
	case n > 1:
		a.Left = append(a.Left, fmt.Sprintf(many, n))
	}
}

// hosted writes down the machine, once.
func (a *Account) hosted() {
	for _, h := range all[*estate.Host](a.Records) {
		if h.Name == a.Host {
			return
		}
	}
	Add(a, &estate.Host{Name: a.Host})
}

// Forwards says that the machine passes packets on: it is a router where it stands in several networks that are not its own.
func (a *Account) Forwards() {
	legs := map[string]bool{}
	for _, held := range all[*estate.Address](a.Records) {
		legs[held.Network] = true
	}
	if len(legs) < 2 {
		return
	}
	for i, r := range a.Records {
		if h, ok := r.(*estate.Host); ok && h.Name == a.Host {
			a.Records[i] = estate.With(h, func(h *estate.Host) { h.Router = true })
		}
	}
}

func (a *Account) interfaceName(link string) string {
	if name := estate.CleanName(a.Host + "-" + link); name != "" {
		return name
	}
	return a.Host + "-net"
}

// inContainerNetwork says whether an address is in a container network of the account.
func (a *Account) inContainerNetwork(addr netip.Addr) bool {
	return slices.ContainsFunc(a.Records, func(r estate.Record) bool {
		n, ok := r.(*estate.Network)
		return ok && n.On != "" && slices.ContainsFunc(n.Prefixes, func(p netip.Prefix) bool { return p.Contains(addr) })
	})
}

// Routes adds a machine's ways. Those by a router that has only a link-local address there cannot be written: which
// machine it is, another one's account may tell. whole says that these are all.
func (a *Account) Routes(routes []Route, whole bool) {
	a.hosted()
	var local []string
	for _, r := range routes {
		to := r.To
		switch {
		case to == "0.0.0.0/0" || to == "::/0":
			to = "default"
		case to != "default" && !strings.Contains(to, "/"):
			if addr, err := netip.ParseAddr(to); err == nil {
				to = netip.PrefixFrom(addr, addr.BitLen()).String()
			}
		}
		if to == "default" && !r.Via.IsValid() {
			continue // where nothing leads, nothing does without it
		}
		if to != "default" {
			p, err := netip.ParsePrefix(to)
			if err != nil || r.Via.IsValid() && p.Addr().Is4() != r.Via.Is4() {
				a.Left = append(a.Left, fmt.Sprintf("The route to %s by %s is left out: no way of one family.", r.To, r.Via))
				continue
			}
			to = p.Masked().String()
		}
		if r.Via.IsLinkLocalUnicast() {
			local = append(local, to)
			continue
		}
		route := &estate.Route{Host: a.Host, To: to, Via: r.Via}
		if !slices.ContainsFunc(all[*estate.Route](a.Records), func(o *estate.Route) bool { return o.To == to && o.Via == r.Via }) {
			Add(a, route)
		}
	}
	if len(local) > 0 {
		a.Left = append(a.Left, fmt.Sprintf("The way to %s goes by a router's link-local address, which does not say who it is.", strings.Join(local, ", ")))
	}
	if whole {
		a.Whole = append(a.Whole, Whole{Routes, a.Host})
	}
}
