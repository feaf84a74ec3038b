package lab

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
	"steady-compass/core/synth"
)

// layout is an estate laid out in network namespaces: a namespace for each machine and container, switches for networks,
// the kernel's packet filter for filters, forwards and maps, real sockets for listeners. It goes by the records alone,
// and asks the engine nothing.
type layout struct {
	e        *estate.Estate
	wire     *space // the switches
	spaces   map[string]*space
	machines []*machineLaid
	bound    []*bound
	plugs    int                 // into the switches
	implied  map[*space][]string // the networks by which ways lead that nobody wrote down
	broken   bool                // the machines stand where the records do not say: ways that the kernel takes for none are left out
}

// machineLaid is a machine as it is laid out.
type machineLaid struct {
	*space
	host  *estate.Host
	nets  []string // that it is on, the container networks inside it among them
	conts []*estate.Network
}

// of are the records of a kind in force.
func of[T estate.Record](e *estate.Estate) []T {
	var out []T
	for _, r := range e.All() {
		if t, ok := r.(T); ok && !r.Meta().Off {
			out = append(out, t)
		}
	}
	return out
}

func layOut(t *testing.T, e *estate.Estate) *layout {
	t.Helper()
	l := &layout{e: e, spaces: map[string]*space{}, implied: map[*space][]string{}}
	l.build(t)
	return l
}

// layOutBroken lays out an estate in which machines stand where its networks do not lead.
func layOutBroken(t *testing.T, e *estate.Estate) *layout {
	t.Helper()
	l := &layout{e: e, spaces: map[string]*space{}, implied: map[*space][]string{}, broken: true}
	l.build(t)
	return l
}

func (l *layout) build(t *testing.T) {
	t.Helper()
	t.Cleanup(l.close)
	for _, step := range []func() error{l.switches, l.hosts, l.containers, l.strangers, l.routes, l.filters, l.listeners, l.relays} {
		if err := step(); err != nil {
			t.Fatal(err)
		}
	}
}

func (l *layout) close() {
	for _, b := range l.bound {
		b.close()
	}
	for _, s := range l.spaces {
		s.close()
	}
	if l.wire != nil {
		l.wire.close()
	}
	l.bound, l.spaces, l.wire = nil, nil, nil
}

// at is where a vantage's flows are made: a machine or container, or the stranger on a network.
func (l *layout) at(vantage string) *space {
	if s := l.spaces[vantage]; s != nil {
		return s
	}
	return l.spaces["a stranger on "+vantage]
}

func (l *layout) space(name string) (*space, error) {
	s, err := newSpace(name)
	if err == nil {
		s.broken = l.broken
		l.spaces[name] = s
	}
	return s, err
}

func (l *layout) switches() (err error) {
	if l.wire, err = newSpace("wire"); err != nil {
		return err
	}
	if err = l.wire.bridge("internet"); err != nil {
		return err
	}
	for _, n := range of[*estate.Network](l.e) {
		if n.On == "" {
			if err = l.wire.bridge(n.Name); err != nil {
				return err
			}
		}
	}
	return nil
}

// attach puts a namespace on a network; its interface is called as the network.
func (l *layout) attach(s *space, network string) error {
	l.plugs++
	end := fmt.Sprintf("p%d", l.plugs)
	if err := join(s, network, l.wire, end); err != nil {
		return err
	}
	return l.wire.plug(end, network)
}

// length is the length of the network of an address: its range's, or that of one address on internet.
func (l *layout) length(network string, a netip.Addr) int {
	for _, n := range of[*estate.Network](l.e) {
		for _, p := range n.Prefixes {
			if n.Name == network && p.Contains(a) {
				return p.Bits()
			}
		}
	}
	return a.BitLen()
}

// local is the link-local address by which a machine on internet is routed to.
func (l *layout) local(host string) string {
	return fmt.Sprintf("fe80::%x", 1+slices.IndexFunc(l.machines, func(m *machineLaid) bool { return m.host.Name == host }))
}

func (l *layout) hosts() error {
	for _, h := range of[*estate.Host](l.e) {
		s, err := l.space(h.Name)
		if err != nil {
			return err
		}
		m := &machineLaid{space: s, host: h}
		l.machines = append(l.machines, m)
		for _, a := range of[*estate.Address](l.e) {
			if a.Hosts[0] != h.Name {
				continue
			}
			if !slices.Contains(m.nets, a.Network) {
				m.nets = append(m.nets, a.Network)
				if err := l.attach(s, a.Network); err != nil {
					return err
				}
			}
			if a.Held.Addr.IsValid() {
				if err := s.hold(a.Network, fmt.Sprintf("%s/%d", a.Held.Addr, l.length(a.Network, a.Held.Addr))); err != nil {
					return err
				}
			}
		}
		if slices.Contains(m.nets, "internet") {
			if err := s.hold("internet", l.local(h.Name)+"/64"); err != nil {
				return err
			}
			// Its inner addresses are not there, and nobody learns of them.
			for path, value := range map[string]string{"net/ipv4/conf/internet/arp_ignore": "1", "net/ipv4/conf/internet/arp_announce": "2"} {
				if err := s.set(path, value); err != nil {
					return err
				}
			}
		}
		for _, n := range of[*estate.Network](l.e) {
			if n.On != h.Name {
				continue
			}
			m.conts, m.nets = append(m.conts, n), append(m.nets, n.Name)
			if err := s.bridge(n.Name); err != nil {
				return err
			}
			for _, p := range n.Prefixes {
				if err := s.hold(n.Name, fmt.Sprintf("%s/%d", p.Addr().Next(), p.Bits())); err != nil {
					return err
				}
			}
			if n.Filtered {
				if err := s.do(func() error {
					return exec.Command("ip", "link", "set", "dev", n.Name, "type", "bridge", "nf_call_iptables", "1", "nf_call_ip6tables", "1").Run()
				}); err != nil {
					return fmt.Errorf("%s: bridge filtering on %s: %w", s.name, n.Name, err)
				}
			}
		}
		if h.Router || len(m.conts) > 0 {
			for _, path := range []string{"net/ipv4/ip_forward", "net/ipv6/conf/all/forwarding"} {
				if err := s.set(path, "1"); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func (l *layout) network(name string) *estate.Network {
	for _, n := range of[*estate.Network](l.e) {
		if n.Name == name {
			return n
		}
	}
	return nil
}

func (l *layout) machine(name string) *machineLaid {
	for _, m := range l.machines {
		if m.host.Name == name {
			return m
		}
	}
	return nil
}

func hostPart(place string) string {
	host, _, _ := strings.Cut(place, "/")
	return host
}

func (l *layout) containers() error {
	for i, c := range of[*estate.Container](l.e) {
		if c.SharesHost {
			continue
		}
		s, err := l.space(c.Name)
		if err != nil {
			return err
		}
		host := l.spaces[hostPart(c.Name)]
		for j, at := range c.In {
			end := fmt.Sprintf("c%d-%d", i, j)
			if err := join(s, at.Network, host, end); err != nil {
				return err
			}
			if err := host.plug(end, at.Network); err != nil {
				return err
			}
			for _, a := range at.Addrs {
				if err := s.hold(at.Network, fmt.Sprintf("%s/%d", a, l.length(at.Network, a))); err != nil {
					return err
				}
			}
		}
		for _, six := range []bool{false, true} {
			for _, at := range c.In { // out by the first network that has the family
				i := slices.IndexFunc(l.network(at.Network).Prefixes, func(p netip.Prefix) bool { return p.Addr().Is6() == six })
				if i < 0 {
					continue
				}
				if err := s.route("default", "via", l.network(at.Network).Prefixes[i].Addr().Next().String(), "dev", at.Network); err != nil {
					return err
				}
				break
			}
		}
	}
	return nil
}

// outsideAddr is a machine of others on internet, which answers on every port of the questions.
var outsideAddr = netip.MustParseAddr("198.51.100.7")

// strangers are those on each network whom nobody recorded.
func (l *layout) strangers() error {
	for network, list := range synth.Strangers {
		if network != "internet" && l.network(network) == nil {
			continue
		}
		s, err := l.space("a stranger on " + network)
		if err != nil {
			return err
		}
		if err := l.attach(s, network); err != nil {
			return err
		}
		for _, word := range list {
			a := netip.MustParseAddr(word)
			if err := s.hold(network, fmt.Sprintf("%s/%d", a, l.length(network, a))); err != nil {
				return err
			}
		}
		if network != "internet" {
			if err := l.defaults(s, []string{network}); err != nil {
				return err
			}
			continue
		}
		if err := s.hold(network, outsideAddr.String()+"/32"); err != nil {
			return err
		}
		if err := l.onInternet(s); err != nil {
			return err
		}
		for port := uint16(1); port <= 14; port++ {
			for _, proto := range netset.Both.Each() {
				b, err := s.answer(outsideAddr, port, proto, "outside")
				if err != nil {
					return err
				}
				l.bound = append(l.bound, b)
			}
		}
	}
	return nil
}

// private are the ranges that are not carried across internet.
var private = []string{"10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "fc00::/7"}

// onInternet gives ways to everything that is reachable there: all of it on the same wire.
func (l *layout) onInternet(s *space) error {
	if l.machine(s.name) == nil { // of a machine of ours nobody takes what internet does not carry, once its filters passed it
		l.implied[s] = append(l.implied[s], "internet")
	}
	for _, family := range []string{"-4", "-6"} {
		if err := s.do(func() error {
			return exec.Command("ip", family, "route", "replace", "default", "dev", "internet").Run()
		}); err != nil {
			return fmt.Errorf("%s: the way to internet: %w", s.name, err)
		}
	}
	for _, a := range of[*estate.Address](l.e) {
		if a.Held.Block.IsValid() && a.Network == "internet" && a.Hosts[0] == s.name { // what nobody there holds goes nowhere
			if err := s.route("unreachable", a.Held.Block.String()); err != nil {
				return err
			}
		}
		if a.Held.Block.IsValid() && a.Network == "internet" && a.Hosts[0] != s.name {
			if err := s.route(a.Held.Block.String(), "via", l.local(a.Hosts[0]), "dev", "internet"); err != nil {
				return err
			}
		}
	}
	return nil
}

// defaults gives a machine its way out where none is written: the only router of its networks, in each family.
func (l *layout) defaults(s *space, nets []string) error {
	for _, six := range []bool{false, true} {
		var via []*estate.Address
		for _, a := range of[*estate.Address](l.e) {
			m := l.machine(a.Hosts[0])
			if m.host.Router && m.space != s && slices.Contains(nets, a.Network) && a.Held.Addr.IsValid() && a.Held.Addr.Is6() == six {
				via = append(via, a)
			}
		}
		if len(via) == 1 {
			everywhere := slices.ContainsFunc(of[*estate.Route](l.e), func(r *estate.Route) bool { return r.Host == via[0].Hosts[0] && r.To == "default" })
			if !everywhere && !slices.Contains(l.implied[s], via[0].Network) {
				l.implied[s] = append(l.implied[s], via[0].Network)
			}
			if err := s.way("default", via[0].Held.Addr); err != nil {
				return err
			}
		}
	}
	return nil
}

func (l *layout) routes() error {
	for _, m := range l.machines {
		written := false
		for _, r := range of[*estate.Route](l.e) {
			if r.Host == m.host.Name {
				written = written || r.To == "default"
				way := []string{r.To, "via", r.Via.String()}
				if !r.Via.IsValid() {
					way = []string{"unreachable", r.To}
				}
				if err := m.route(way...); err != nil {
					return err
				}
			}
		}
		switch {
		case slices.Contains(m.nets, "internet"):
			if err := l.onInternet(m.space); err != nil {
				return err
			}
		case !written:
			if err := l.defaults(m.space, m.nets); err != nil {
				return err
			}
		}
	}
	// The machine of a routed container network is the way to it, for all on its networks whose written routes lead nowhere there.
	for _, n := range of[*estate.Network](l.e) {
		if n.On == "" || !n.Routed {
			continue
		}
		for _, a := range of[*estate.Address](l.e) {
			if a.Hosts[0] != n.On || !a.Held.Addr.IsValid() {
				continue
			}
			for name, s := range l.spaces {
				on := strings.HasSuffix(name, " on "+a.Network)
				if m := l.machine(name); m != nil {
					on = slices.Contains(m.nets, a.Network)
				}
				for _, p := range n.Prefixes {
					if on && name != n.On && p.Addr().Is4() == a.Held.Addr.Is4() && !l.written(name, p) {
						if err := s.way(p.String(), a.Held.Addr); err != nil {
							return err
						}
					}
				}
			}
		}
	}
	return nil
}

// written says whether a route of a machine leads to a network.
func (l *layout) written(name string, to netip.Prefix) bool {
	return slices.ContainsFunc(of[*estate.Route](l.e), func(r *estate.Route) bool {
		if r.Host != name || r.Via.IsValid() && r.Via.Is4() != to.Addr().Is4() {
			return false
		}
		p, err := netip.ParsePrefix(r.To)
		return r.To == "default" || err == nil && p.Contains(to.Addr())
	})
}

func (l *layout) listeners() error {
	for _, r := range of[*estate.Listen](l.e) {
		place := r.Place
		for _, c := range of[*estate.Container](l.e) {
			if c.Name == place && c.SharesHost {
				place = hostPart(place)
			}
		}
		for _, proto := range r.Bind.Transport.Each() {
			for _, ports := range r.Bind.Ranges {
				for port := int(ports.Lo); port <= int(ports.Hi); port++ {
					b, err := l.spaces[place].answer(r.Bind.Addr, uint16(port), proto, fmt.Sprintf("%s:%d", r.Place, port))
					if errors.Is(err, syscall.EADDRNOTAVAIL) {
						continue
					}
					if err != nil {
						return fmt.Errorf("%s: port %d: %w", estate.Line(r), port, err)
					}
					l.bound = append(l.bound, b)
				}
			}
		}
	}
	return nil
}

// pairsOf are the outer ports of a translation, each with its inner one, in the order written.
func pairsOf(outer, inner estate.Ports) [][2]uint16 {
	list := func(p estate.Ports) []uint16 {
		var out []uint16
		for _, r := range p.Ranges {
			for q := int(r.Lo); q <= int(r.Hi); q++ {
				out = append(out, uint16(q))
			}
		}
		return out
	}
	to := list(inner)
	var out [][2]uint16
	for i, p := range list(outer) {
		switch len(to) {
		case 0:
			out = append(out, [2]uint16{p, p})
		case 1:
			out = append(out, [2]uint16{p, to[0]})
		default:
			out = append(out, [2]uint16{p, to[i]})
		}
	}
	return out
}

// target is a container's address in its first network; in the family wanted where it has it.
func (l *layout) target(container string, six bool) (addr netip.Addr, network string) {
	for _, c := range of[*estate.Container](l.e) {
		if c.Name != container {
			continue
		}
		for _, a := range c.In[0].Addrs {
			if !addr.IsValid() || a.Is6() == six {
				addr = a
			}
		}
		return addr, c.In[0].Network
	}
	return addr, ""
}

// relays are the port relays of maps: small programs on the machine that connect to the container anew.
func (l *layout) relays() error {
	for _, m := range of[*estate.Map](l.e) {
		if m.NoRelay {
			continue
		}
		host := l.spaces[hostPart(m.Container)]
		for _, proto := range m.Bind.Transport.Each() {
			for _, pair := range pairsOf(m.Bind.Ports, m.To) {
				b, err := host.bindAnd(m.Bind.Addr, pair[0], proto,
					func(c net.Conn) { l.carry(host, c, m.Container, pair[1]) },
					func(_ netip.AddrPort, text []byte, reply func([]byte)) {
						l.carryDatagram(host, m, pair[1], text, reply)
					})
				if errors.Is(err, syscall.EADDRINUSE) || errors.Is(err, syscall.EADDRNOTAVAIL) {
					continue
				}
				if err != nil {
					return fmt.Errorf("relay of %s: %w", estate.Line(m), err)
				}
				l.bound = append(l.bound, b)
			}
		}
	}
	return nil
}

func (l *layout) dial(host *space, network string, to netip.AddrPort) (c net.Conn, err error) {
	err = host.do(func() (err error) {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		var d net.Dialer
		c, err = d.DialContext(ctx, network, to.String())
		return err
	})
	return c, err
}

func (l *layout) carry(host *space, client net.Conn, container string, port uint16) {
	six := netip.MustParseAddrPort(client.LocalAddr().String()).Addr().Unmap().Is6()
	addr, _ := l.target(container, six)
	c, err := l.dial(host, "tcp", netip.AddrPortFrom(addr, port))
	if err != nil {
		if !errors.Is(err, syscall.ECONNREFUSED) {
			time.Sleep(patience) // the client waits
		}
		return
	}
	defer func() { _ = c.Close() }()
	_ = c.SetDeadline(time.Now().Add(patience))
	text := make([]byte, 512)
	if n, err := c.Read(text); err == nil {
		_, _ = client.Write(text[:n])
	}
}

func (l *layout) carryDatagram(host *space, m *estate.Map, port uint16, text []byte, reply func([]byte)) {
	go func() {
		addr, _ := l.target(m.Container, false)
		c, err := l.dial(host, "udp", netip.AddrPortFrom(addr, port))
		if err != nil {
			return
		}
		defer func() { _ = c.Close() }()
		_ = c.SetDeadline(time.Now().Add(patience))
		_, _ = c.Write(text)
		back := make([]byte, 512)
		if n, err := c.Read(back); err == nil {
			reply(back[:n])
		}
	}()
}

// filters loads each machine's rules, at the same time.
func (l *layout) filters() error {
	var g errgroup.Group
	for _, m := range l.machines {
		g.Go(func() error { return m.filter(l.rules(m)) })
	}
	for name, s := range l.spaces {
		if strings.HasPrefix(name, "a stranger") {
			g.Go(func() error {
				var b strings.Builder
				l.noWay(func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }, s)
				return s.filter(b.String())
			})
		}
	}
	return g.Wait()
}
