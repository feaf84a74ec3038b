// Package iproute reads what `ip -json` of a Linux machine prints: its addresses (`ip -json addr`), its links and its
// routes (`ip -json route`, `ip -json -6 route`), one listing or several after another.
package iproute

import (
	"encoding/json"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/intake"
	"steady-compass/intake/machine"
)

// object is an element of any of the listings.
type object struct {
	// Of a link with its addresses.
	Name      string   `json:"ifname"`
	Type      string   `json:"link_type"`
	Flags     []string `json:"flags"`
	Addresses []struct {
		Family    string     `json:"family"`
		Local     netip.Addr `json:"local"`
		Length    int        `json:"prefixlen"`
		Scope     string     `json:"scope"`
		Dynamic   bool       `json:"dynamic"`
		Temporary bool       `json:"temporary"`
	} `json:"addr_info"`
	// Of a route.
	To       string    `json:"dst"`
	Kind     string    `json:"type"`
	Gateway  string    `json:"gateway"`
	Via      *via      `json:"via"`
	Device   string    `json:"dev"`
	Next     []nextHop `json:"nexthops"`
	Protocol string    `json:"protocol"`
	Table    string    `json:"table"`
}

type via struct {
	Host string `json:"host"`
}

type nextHop struct {
	Gateway string `json:"gateway"`
	Via     *via   `json:"via"`
}

// Read reads the listings of a machine.
func Read(file, text, host string) machine.Account {
	a := machine.Account{Host: host}
	in := json.NewDecoder(strings.NewReader(text))
	var links []machine.Interface
	var routes []machine.Route
	sawLinks, sawRoutes := false, false
	for {
		var list []object
		err := in.Decode(&list)
		if err != nil {
			if in.InputOffset() < int64(len(strings.TrimSpace(text))) || len(links)+len(routes) == 0 && !sawLinks && !sawRoutes {
				a.Faults = append(a.Faults, intake.JSONFault(file, text, in, err, "what ip -json addr or ip -json route prints"))
			}
			break
		}
		sawRoutes = sawRoutes || len(list) == 0
		for _, o := range list {
			switch {
			case o.To != "":
				sawRoutes = true
				routes = append(routes, o.routes()...)
			case o.Name != "":
				sawLinks = true
				links = append(links, o.link())
			}
		}
	}
	a.Networks(links, sawLinks && len(a.Faults) == 0)
	a.Routes(routes, sawRoutes && len(a.Faults) == 0)
	return a
}

func (o *object) link() machine.Interface {
	i := machine.Interface{Name: o.Name, Loopback: o.Type == "loopback", Down: o.Flags != nil && !slices.Contains(o.Flags, "UP")}
	for _, a := range o.Addresses {
		if a.Local.IsValid() && a.Length >= 0 && a.Length <= a.Local.BitLen() {
			i.Addresses = append(i.Addresses, machine.Leased{Prefix: netip.PrefixFrom(a.Local, a.Length), Dynamic: a.Dynamic, Temporary: a.Temporary})
		}
	}
	return i
}

// routes are the ways that a route has, one for each gateway.
func (o *object) routes() []machine.Route {
	if o.Table != "" && o.Table != "main" {
		return nil
	}
	switch o.Kind {
	case "", "unicast":
	case "blackhole", "unreachable", "prohibit":
		return []machine.Route{{To: o.To}}
	default:
		return nil
	}
	gateways := []string{gatewayOf(o.Gateway, o.Via)}
	for _, n := range o.Next {
		gateways = append(gateways, gatewayOf(n.Gateway, n.Via))
	}
	var out []machine.Route
	for _, g := range gateways {
		if addr, err := netip.ParseAddr(g); err == nil {
			out = append(out, machine.Route{To: o.To, Via: addr})
		}
	}
	return out
}

func gatewayOf(gateway string, v *via) string {
	if v != nil {
		return v.Host
	}
	return gateway
}
