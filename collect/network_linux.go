package collect

import (
	"fmt"
	"net"
	"net/netip"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"steady-compass/intake/machine"
)

// network reads interfaces and routes (rtnetlink).
func network(a *machine.Account) error {
	links, err := netlink.LinkList()
	if err != nil {
		return fmt.Errorf("the interfaces cannot be read: %w", err)
	}
	var interfaces []machine.Interface
	for _, link := range links {
		i := machine.Interface{Name: link.Attrs().Name, Loopback: link.Attrs().Flags&net.FlagLoopback != 0, Down: link.Attrs().Flags&net.FlagUp == 0}
		addrs, err := netlink.AddrList(link, netlink.FAMILY_ALL)
		if err != nil {
			return fmt.Errorf("the addresses of %s cannot be read: %w", i.Name, err)
		}
		for _, addr := range addrs {
			ip, ok := netip.AddrFromSlice(addr.IP)
			length, _ := addr.Mask.Size()
			if !ok {
				continue
			}
			i.Addresses = append(i.Addresses, machine.Leased{
				Prefix:    netip.PrefixFrom(ip.Unmap(), length),
				Dynamic:   addr.Flags&unix.IFA_F_PERMANENT == 0,
				Temporary: ip.Is6() && !ip.Is4In6() && addr.Flags&unix.IFA_F_TEMPORARY != 0,
			})
		}
		interfaces = append(interfaces, i)
	}
	a.Networks(interfaces, true)

	routes, err := netlink.RouteList(nil, netlink.FAMILY_ALL)
	if err != nil {
		return fmt.Errorf("the routes cannot be read: %w", err)
	}
	var ways []machine.Route
	for _, r := range routes {
		to := "default"
		if r.Dst != nil {
			if ones, _ := r.Dst.Mask.Size(); ones > 0 {
				to = r.Dst.String()
			}
		}
		switch r.Type {
		case unix.RTN_UNICAST:
		case unix.RTN_BLACKHOLE, unix.RTN_UNREACHABLE, unix.RTN_PROHIBIT:
			ways = append(ways, machine.Route{To: to})
			continue
		default:
			continue
		}
		hops := []*netlink.NexthopInfo{{Gw: r.Gw, Via: r.Via}}
		for _, hop := range append(hops, r.MultiPath...) {
			gw := hop.Gw
			if via, ok := hop.Via.(*netlink.Via); ok {
				gw = via.Addr
			}
			if addr, ok := netip.AddrFromSlice(gw); ok {
				ways = append(ways, machine.Route{To: to, Via: addr.Unmap()})
			}
		}
	}
	a.Routes(ways, true)
	return nil
}
