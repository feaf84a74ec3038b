package lab

import (
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"testing"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
)

// needNamespaces skips where network namespaces cannot be made, or the kernel's packet filter is not there.
func needNamespaces(t testing.TB, tools ...string) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("network namespaces are made by root only: the kernel is not asked")
	}
	for _, tool := range tools {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is not installed: the kernel is not asked", tool)
		}
	}
	s, err := newSpace("try")
	if err != nil {
		t.Skipf("no network namespace can be made here: %v", err)
	}
	s.close()
}

// space is a network namespace that the test made. Nothing in it reaches anything outside of it but by pairs of
// interfaces that the test made too.
type space struct {
	name   string
	ns     netns.NsHandle
	link   *netlink.Handle
	broken bool // a way by a router that it does not stand on a network with is left out
}

// settings make a namespace quick to answer and free of limits: neighbours that are not there are given up at once, and
// every refusal is told.
var settings = map[string]string{
	"net/ipv4/icmp_ratelimit": "0", "net/ipv6/icmp/ratelimit": "0", "net/ipv4/icmp_msgs_per_sec": "100000", "net/ipv4/icmp_msgs_burst": "100000",
	"net/ipv4/conf/all/rp_filter": "0", "net/ipv4/conf/default/rp_filter": "0",
	"net/ipv6/conf/default/accept_dad": "0", "net/ipv6/conf/all/accept_dad": "0", "net/ipv6/conf/default/accept_ra": "0",
	"net/ipv4/conf/all/send_redirects": "0", "net/ipv4/conf/default/send_redirects": "0",
	"net/ipv4/ip_nonlocal_bind": "0", "net/ipv4/ip_unprivileged_port_start": "1",
	"net/bridge/bridge-nf-call-iptables": "0", "net/bridge/bridge-nf-call-ip6tables": "0",
}

func newSpace(name string) (*space, error) {
	s := &space{name: name}
	err := onThread(func() error {
		home, err := netns.Get()
		if err != nil {
			return err
		}
		defer func() { _ = home.Close() }()
		if s.ns, err = netns.New(); err != nil {
			return err
		}
		for path, value := range settings {
			_ = os.WriteFile("/proc/sys/"+path, []byte(value), 0o644) // a kernel that lacks one has its limit elsewhere
		}
		return netns.Set(home)
	})
	if err != nil {
		return nil, err
	}
	if s.link, err = netlink.NewHandleAt(s.ns); err != nil {
		return nil, err
	}
	lo, err := s.link.LinkByName("lo")
	if err != nil {
		return nil, err
	}
	return s, s.link.LinkSetUp(lo)
}

func (s *space) close() {
	if s.link != nil {
		s.link.Close()
	}
	_ = s.ns.Close()
}

// onThread runs f on a thread of its own, which ends with it.
func onThread(f func() error) error {
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // and is never given back
		done <- f()
	}()
	return <-done
}

// do runs f in the namespace: sockets that it makes, and programs that it starts, are in there.
func (s *space) do(f func() error) error {
	return onThread(func() error {
		if err := netns.Set(s.ns); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		return f()
	})
}

// set writes a setting of the namespace.
func (s *space) set(path, value string) error {
	return s.do(func() error { return os.WriteFile("/proc/sys/"+path, []byte(value), 0o644) })
}

// filter loads rules of the kernel's packet filter.
func (s *space) filter(rules string) error {
	return s.do(func() error {
		cmd := exec.Command("nft", "-f", "-")
		cmd.Stdin = strings.NewReader(rules)
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("%s: nft: %v\n%s\n%s", s.name, err, out, rules)
		}
		return nil
	})
}

// join makes a pair of interfaces between two namespaces; both are up.
func join(a *space, nameA string, b *space, nameB string) error {
	veth := &netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: nameA, MTU: 1500}, PeerName: nameB, PeerNamespace: netlink.NsFd(b.ns)}
	if err := a.link.LinkAdd(veth); err != nil {
		return fmt.Errorf("%s %s: %w", a.name, nameA, err)
	}
	for _, end := range []struct {
		s    *space
		name string
	}{{a, nameA}, {b, nameB}} {
		l, err := end.s.link.LinkByName(end.name)
		if err != nil {
			return err
		}
		if err := end.s.link.LinkSetUp(l); err != nil {
			return err
		}
		if err := end.s.hasty(end.name); err != nil {
			return err
		}
	}
	return nil
}

// hasty has neighbours on an interface that are not there given up within 150 ms.
func (s *space) hasty(name string) error {
	return s.do(func() error {
		for _, family := range []string{"ipv4", "ipv6"} {
			for setting, value := range map[string]string{"retrans_time_ms": "50", "mcast_solicit": "3", "delay_first_probe_time": "1"} {
				if err := os.WriteFile(fmt.Sprintf("/proc/sys/net/%s/neigh/%s/%s", family, name, setting), []byte(value), 0o644); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// bridge makes a switch in the namespace.
func (s *space) bridge(name string) error {
	b := &netlink.Bridge{LinkAttrs: netlink.LinkAttrs{Name: name}}
	if err := s.link.LinkAdd(b); err != nil {
		return err
	}
	if err := s.link.LinkSetUp(b); err != nil {
		return err
	}
	return s.hasty(name)
}

// plug puts an interface into a switch.
func (s *space) plug(name, bridge string) error {
	l, err := s.link.LinkByName(name)
	if err != nil {
		return err
	}
	b, err := s.link.LinkByName(bridge)
	if err != nil {
		return err
	}
	return s.link.LinkSetMaster(l, b)
}

// hold gives an interface an address.
func (s *space) hold(name, cidr string) error {
	l, err := s.link.LinkByName(name)
	if err != nil {
		return err
	}
	addr, err := netlink.ParseAddr(cidr)
	if err != nil {
		return err
	}
	addr.Flags = 0x02 // IFA_F_NODAD
	if err := s.link.AddrAdd(l, addr); err != nil {
		return fmt.Errorf("%s: %s on %s: %w", s.name, cidr, name, err)
	}
	return nil
}

// route adds a way, in the words of ip route.
func (s *space) route(args ...string) error {
	return s.do(func() error {
		if out, err := exec.Command("ip", append([]string{"route", "replace"}, args...)...).CombinedOutput(); err != nil {
			if s.broken && strings.Contains(string(out), "invalid gateway") {
				return nil
			}
			return fmt.Errorf("%s: ip route replace %s: %v %s", s.name, strings.Join(args, " "), err, out)
		}
		return nil
	})
}

// way adds a route by a router, where the namespace has anything of its family.
func (s *space) way(to string, via netip.Addr) error {
	err := s.route(to, "via", via.String())
	if err != nil && strings.Contains(err.Error(), "No route to host") {
		return nil
	}
	return err
}
