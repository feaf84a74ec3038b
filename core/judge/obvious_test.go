package judge

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
)

// fate is what becomes of a packet: "arrives PLACE:PORT", or how it ends. It is sent from a source in a network (or the internet); or, where no
// source is given, by a machine or a container.
func (w *world) fate(from string, src, dst netip.Addr, port uint16, udp bool) string {
	if src.IsValid() {
		return w.fromNet(from, packet{src, dst, port, udp})
	}
	return w.sent(from, dst, port, udp)
}

// packet is a flow as it is at one point of its way.
type packet struct {
	src, dst netip.Addr
	port     uint16
	udp      bool
}

// machine is a host with what is on it.
type machine struct {
	name      string
	router    bool
	addrs     map[string][]netip.Addr // by network
	blocks    []netip.Prefix
	routes    []*estate.Route
	forwards  []*estate.Forward
	outbounds []*estate.Outbound
	maps      []*estate.Map
	filters   []*estate.Filter
}

// world is what an estate records, read a second time: one concrete packet at a time, straight from the records, with no sets and nothing worked
// out before. Replies, names and sites are not its business.
type world struct {
	nets       []*estate.Network
	machines   []*machine
	containers map[string]*estate.Container
	listens    []*estate.Listen
	rules      map[string][]*estate.Rule
	groups     map[string][]estate.Selector
}

// read reads an estate.
func read(e *estate.Estate) *world {
	w := &world{containers: map[string]*estate.Container{}, rules: map[string][]*estate.Rule{}, groups: map[string][]estate.Selector{}}
	for _, r := range e.All() {
		if r.Meta().Off {
			continue
		}
		switch r := r.(type) {
		case *estate.Network:
			w.nets = append(w.nets, r)
		case *estate.Host:
			w.noted(r.Name).router = r.Router
		}
	}
	for _, r := range e.All() {
		if r.Meta().Off {
			continue
		}
		switch r := r.(type) {
		case *estate.Address:
			m := w.noted(r.Hosts[0])
			if r.Held.Block.IsValid() {
				m.blocks = append(m.blocks, r.Held.Block)
				if m.addrs[r.Network] == nil { // it is on that network, without an address there
					m.addrs[r.Network] = []netip.Addr{}
				}
			} else {
				m.addrs[r.Network] = append(m.addrs[r.Network], r.Held.Addr)
			}
		case *estate.Network:
			if r.On != "" {
				for _, p := range r.Prefixes {
					w.noted(r.On).addrs[r.Name] = append(w.noted(r.On).addrs[r.Name], p.Addr().Next())
				}
			}
		case *estate.Route:
			w.noted(r.Host).routes = append(w.noted(r.Host).routes, r)
		case *estate.Forward:
			w.noted(r.Router).forwards = append(w.noted(r.Router).forwards, r)
		case *estate.Outbound:
			w.noted(r.Router).outbounds = append(w.noted(r.Router).outbounds, r)
		case *estate.Container:
			w.containers[r.Name] = r
		case *estate.Map:
			m := w.noted(strings.Split(r.Container, "/")[0])
			m.maps = append(m.maps, r)
		case *estate.Listen:
			w.listens = append(w.listens, r)
		case *estate.Filter:
			for _, on := range r.On {
				w.noted(on).filters = append(w.noted(on).filters, r)
			}
		case *estate.Group:
			w.groups[r.Name] = r.Members
		case *estate.Rule:
			w.rules[r.Filter] = append(w.rules[r.Filter], r)
		}
	}
	return w
}

// noted is a machine of which a line speaks.
func (w *world) noted(name string) *machine {
	m := w.machine(name)
	if m == nil {
		m = &machine{name: name, addrs: map[string][]netip.Addr{}}
		w.machines = append(w.machines, m)
	}
	return m
}

func (w *world) machine(name string) *machine {
	for _, m := range w.machines {
		if m.name == name {
			return m
		}
	}
	return nil
}

func (w *world) net(name string) *estate.Network {
	for _, n := range w.nets {
		if n.Name == name {
			return n
		}
	}
	return nil
}

func within(n *estate.Network, a netip.Addr) bool {
	return slices.ContainsFunc(n.Prefixes, func(p netip.Prefix) bool { return p.Contains(a) })
}

func hasFamily(n *estate.Network, six bool) bool {
	return slices.ContainsFunc(n.Prefixes, func(p netip.Prefix) bool { return p.Addr().Is6() == six })
}

func (m *machine) owns(a netip.Addr) bool {
	if a.IsLoopback() {
		return true
	}
	for _, list := range m.addrs {
		if slices.Contains(list, a) {
			return true
		}
	}
	return false
}

func (m *machine) addr(net string, six bool) netip.Addr {
	for _, a := range m.addrs[net] {
		if a.Is6() == six {
			return a
		}
	}
	return netip.Addr{}
}

// attached are a container's networks with its address in each.
func attached(c *estate.Container, six bool) (net string, addr netip.Addr) {
	for _, at := range c.In {
		for _, a := range at.Addrs {
			if a.Is6() == six {
				return at.Network, a
			}
		}
	}
	return "", netip.Addr{}
}

// containerAt is the container that holds an address on a network.
func (w *world) containerAt(net string, a netip.Addr) *estate.Container {
	for _, c := range w.containers {
		for _, at := range c.In {
			if at.Network == net && slices.Contains(at.Addrs, a) {
				return c
			}
		}
	}
	return nil
}

func (w *world) holder(net string, a netip.Addr) *machine {
	for _, m := range w.machines {
		if slices.Contains(m.addrs[net], a) {
			return m
		}
	}
	return nil
}

// public says whether an address is the internet's: reachable, in no network, held by nobody, in no block.
func (w *world) public(a netip.Addr) bool {
	if !netset.GloballyReachable().Contains(a) {
		return false
	}
	for _, n := range w.nets {
		if within(n, a) {
			return false
		}
	}
	for _, m := range w.machines {
		if m.owns(a) || slices.ContainsFunc(m.blocks, func(p netip.Prefix) bool { return p.Contains(a) }) {
			return false
		}
	}
	return true
}

// selected says whether an address is one of a rule's or forward's.
func (w *world) selected(list []estate.Selector, a netip.Addr, m *machine) bool {
	if len(list) == 0 {
		return true
	}
	return slices.ContainsFunc(list, func(s estate.Selector) bool {
		switch {
		case s.Word == "any":
			return true
		case s.Word == "internet":
			return w.public(a)
		case s.Word == "on-link":
			for net := range m.addrs {
				if n := w.net(net); n != nil && within(n, a) {
					return true
				}
			}
			return false
		case s.Prefix.IsValid():
			return s.Prefix.Contains(a)
		}
		if members := w.groups[s.Name]; members != nil {
			return w.selected(members, a, m)
		}
		if n := w.net(s.Name); n != nil {
			return within(n, a)
		}
		if other := w.machine(s.Name); other != nil {
			return other.owns(a) && !a.IsLoopback()
		}
		if c := w.containers[s.Name]; c != nil {
			return slices.ContainsFunc(c.In, func(at estate.Attachment) bool { return slices.Contains(at.Addrs, a) })
		}
		return false
	})
}

func hasPort(p estate.Ports, port uint16, udp bool) bool {
	t := netset.TCP
	if udp {
		t = netset.UDP
	}
	return p.Transport&t != 0 && p.Set().Contains(port)
}

// verdict is what the filters of a hook say: "", silent or refused.
func (w *world) filtered(m *machine, hook string, p packet, in, out string, want func(*estate.Filter) bool) string {
	for _, f := range m.filters {
		if f.Hook != hook || f.Family == "ipv4" && p.dst.Is6() || f.Family == "ipv6" && p.dst.Is4() || want != nil && !want(f) {
			continue
		}
		action := f.Otherwise
		decided := false
		for _, r := range w.rules[f.Name] {
			if !hasPort(r.Ports, p.port, p.udp) || !w.selected(r.From, p.src, m) || !w.selected(r.To, p.dst, m) {
				continue
			}
			if r.Entering != "" && (hook == "output" || r.Entering != in) || r.Leaving != "" && (hook == "arriving" || hook == "input" || r.Leaving != out) {
				continue
			}
			if f.DropWins && r.Action == "drop" {
				action, decided = "drop", true
				break
			}
			if !decided {
				action, decided = r.Action, true
				if !f.DropWins {
					break
				}
			}
		}
		switch action {
		case "drop":
			return "silent"
		case "refuse":
			return "refused"
		}
	}
	return ""
}

// socket is what a place's own sockets do with a packet that got to them.
func (w *world) socket(place string, m *machine, p packet) string {
	for _, l := range w.listens {
		at := l.Place
		if c := w.containers[at]; c != nil && c.SharesHost {
			at = strings.Split(at, "/")[0]
		}
		if at != place || !hasPort(l.Bind.Ports, p.port, p.udp) {
			continue
		}
		a := l.Bind.Addr
		if !a.IsValid() || a == p.dst || a.IsUnspecified() && a.Is6() == p.dst.Is6() {
			return fmt.Sprintf("arrives %s:%d", l.Place, p.port)
		}
	}
	return "refused"
}

// mapAt is the map that takes a packet to a machine's own address.
func (w *world) mapAt(m *machine, p packet) *estate.Map {
	for _, x := range m.maps {
		if hasPort(x.Bind.Ports, p.port, p.udp) && (!x.Bind.Addr.IsValid() || x.Bind.Addr == p.dst || x.Bind.Addr.IsUnspecified() && x.Bind.Addr.Is6() == p.dst.Is6()) {
			return x
		}
	}
	return nil
}

// inner is the port that an outer one becomes.
func inner(outer, to estate.Ports, port uint16) uint16 {
	if outer.Any || len(to.Ranges) == 0 {
		return port
	}
	var list, others []uint16
	for _, r := range outer.Ranges {
		for q := int(r.Lo); q <= int(r.Hi); q++ {
			list = append(list, uint16(q))
		}
	}
	for _, r := range to.Ranges {
		for q := int(r.Lo); q <= int(r.Hi); q++ {
			others = append(others, uint16(q))
		}
	}
	if len(others) == 1 {
		return others[0]
	}
	return others[slices.Index(list, port)]
}

// relay is the port relay's own attachment: locally made, to the container's inner port.
func (w *world) relay(m *machine, x *estate.Map, p packet) string {
	c := w.containers[x.Container]
	net := c.In[0].Network
	six := !hasFamily(w.net(net), false)
	if hasFamily(w.net(net), p.dst.Is6()) {
		six = p.dst.Is6()
	}
	_, to := attached(c, six)
	attachment := packet{m.addr(net, six), to, inner(x.Bind.Ports, x.To, p.port), p.udp}
	for _, hook := range []string{"output", "departing"} {
		if v := w.filtered(m, hook, attachment, "", net, nil); v != "" {
			return v
		}
	}
	got := w.socket(x.Container, nil, attachment)
	if got == "refused" && p.udp {
		return "silent"
	}
	return got
}

// translated is a mapped flow on its way into its container.
func (w *world) translated(m *machine, x *estate.Map, p packet, in string, local bool) string {
	c := w.containers[x.Container]
	net := c.In[0].Network
	_, to := attached(c, p.dst.Is6())
	p.dst, p.port = to, inner(x.Bind.Ports, x.To, p.port)
	if local {
		if v := w.filtered(m, "output", p, "", net, nil); v != "" {
			return v
		}
	} else if v := w.filtered(m, "through", p, in, net, func(f *estate.Filter) bool { return f.GuardsContainers }); v != "" {
		return v
	}
	if v := w.filtered(m, "departing", p, in, net, nil); v != "" {
		return v
	}
	return w.socket(x.Container, nil, p)
}

// own is a packet for the machine's own address from another machine or a container: its sockets, behind input.
func (w *world) own(m *machine, p packet, in string) string {
	if v := w.filtered(m, "input", p, in, "", nil); v != "" {
		return v
	}
	return w.socket(m.name, m, p)
}

// throughRelay is a packet that the port relay takes behind the input filters.
func (w *world) throughRelay(m *machine, x *estate.Map, p packet, in string) string {
	if x.NoRelay {
		return w.own(m, p, in)
	}
	if v := w.filtered(m, "input", p, in, "", nil); v != "" {
		return v
	}
	return w.relay(m, x, p)
}

// sent is a packet that a machine or a container makes.
func (w *world) sent(place string, dst netip.Addr, port uint16, udp bool) string {
	p := packet{dst: dst, port: port, udp: udp}
	if c := w.containers[place]; c != nil && !c.SharesHost {
		return w.fromContainer(c, p)
	}
	m := w.machine(strings.Split(place, "/")[0])
	if m.owns(dst) {
		p.src = dst
		looped := func(f *estate.Filter) bool { return f.LoopbackToo }
		if x := w.mapAt(m, p); x != nil {
			net := w.net(w.containers[x.Container].In[0].Network)
			if !dst.IsLoopback() && hasFamily(net, dst.Is6()) {
				return w.translated(m, x, p, "", true)
			}
			if !x.NoRelay {
				for _, hook := range []string{"output", "input"} {
					if v := w.filtered(m, hook, p, "", "", looped); v != "" {
						return v
					}
				}
				return w.relay(m, x, p)
			}
		}
		for _, hook := range []string{"output", "input"} {
			if v := w.filtered(m, hook, p, "", "", looped); v != "" {
				return v
			}
		}
		return w.socket(m.name, m, p)
	}
	hop, out := w.way(m, dst)
	if p.src = m.addr(out, dst.Is6()); !p.src.IsValid() {
		p.src = w.anyAddr(m, dst.Is6())
	}
	if !p.src.IsValid() {
		return "unroutable"
	}
	if hop == "" {
		return "unroutable"
	}
	for _, hook := range []string{"output", "departing"} {
		if v := w.filtered(m, hook, p, "", out, nil); v != "" {
			return v
		}
	}
	p.src = w.rewritten(m, p, "", out)
	return w.onward(m, hop, out, p, 0)
}

func (w *world) anyAddr(m *machine, six bool) netip.Addr {
	var found []netip.Addr
	for _, list := range m.addrs {
		for _, a := range list {
			if a.Is6() == six {
				found = append(found, a)
			}
		}
	}
	slices.SortFunc(found, netip.Addr.Compare)
	if len(found) == 0 {
		return netip.Addr{}
	}
	return found[0]
}

func (w *world) fromContainer(c *estate.Container, p packet) string {
	if p.dst.IsLoopback() {
		return w.socket(c.Name, nil, p)
	}
	for _, at := range c.In {
		if slices.Contains(at.Addrs, p.dst) {
			return w.socket(c.Name, nil, p)
		}
	}
	host := w.machine(strings.Split(c.Name, "/")[0])
	net, src := attached(c, p.dst.Is6())
	for _, at := range c.In { // on-link first
		if within(w.net(at.Network), p.dst) {
			for _, a := range at.Addrs {
				if a.Is6() == p.dst.Is6() {
					net, src = at.Network, a
				}
			}
		}
	}
	if net == "" {
		return "unroutable"
	}
	p.src = src
	if within(w.net(net), p.dst) && !host.owns(p.dst) {
		other := w.containerAt(net, p.dst)
		if other == nil {
			return "unroutable"
		}
		if w.net(net).Filtered {
			if v := w.filtered(host, "through", p, net, net, nil); v != "" {
				return v
			}
		}
		return w.socket(other.Name, nil, p)
	}
	if host.owns(p.dst) {
		x := w.mapAt(host, p)
		if x == nil {
			return w.own(host, p, net)
		}
		to := w.net(w.containers[x.Container].In[0].Network)
		if to.Name == net || !hasFamily(to, p.dst.Is6()) {
			return w.throughRelay(host, x, p, net)
		}
		return "silent"
	}
	hop, out := w.way(host, p.dst)
	if hop == "" {
		return "unroutable"
	}
	if n := w.net(out); n != nil && n.On != "" {
		return "silent" // two container networks are strangers
	}
	if v := w.filtered(host, "through", p, net, out, func(f *estate.Filter) bool { return f.GuardsContainers }); v != "" {
		return v
	}
	if v := w.filtered(host, "departing", p, net, out, nil); v != "" {
		return v
	}
	if !w.net(net).Routed {
		if p.src = host.addr(out, p.dst.Is6()); !p.src.IsValid() {
			p.src = w.anyAddr(host, p.dst.Is6())
		}
		if !p.src.IsValid() {
			return "unroutable"
		}
	}
	return w.onward(host, hop, out, p, 0)
}

// way is where a machine sends a packet on: "net" on a network of its own, the name of the next machine, "internet",
// or nothing.
func (w *world) way(m *machine, dst netip.Addr) (hop, out string) {
	best := -1
	for _, n := range w.nets {
		if _, on := m.addrs[n.Name]; !on {
			continue
		}
		for _, p := range n.Prefixes {
			if p.Contains(dst) && p.Bits() > best {
				best, hop, out = p.Bits(), "net", n.Name
			}
		}
	}
	if best >= 0 {
		return hop, out
	}
	for _, r := range m.routes {
		var to netip.Prefix
		if r.To == "default" {
			to = netip.PrefixFrom(r.Via, 0).Masked()
		} else {
			to = netip.MustParsePrefix(r.To)
		}
		if !to.Contains(dst) || to.Addr().Is6() != dst.Is6() || to.Bits() <= best {
			continue
		}
		best, hop, out = to.Bits(), "", ""
		for net := range m.addrs {
			if next := w.holder(net, r.Via); next != nil && next != m {
				hop, out = next.name, net
			}
		}
	}
	if best >= 0 {
		return hop, out
	}
	if slices.ContainsFunc(m.blocks, func(b netip.Prefix) bool { return b.Contains(dst) }) {
		return "", "" // routed here, and nobody holds it
	}
	if _, on := m.addrs["internet"]; on && w.overInternet(m, dst) {
		return "internet", "internet"
	}
	for net := range m.addrs {
		if net == "internet" || !hasFamily(w.net(net), dst.Is6()) {
			continue
		}
		for _, next := range w.machines {
			if _, on := next.addrs[net]; on && next != m && w.leads(next, dst, net, 0) {
				hop, out = next.name, net
			}
		}
	}
	if _, on := m.addrs["internet"]; on && hop == "" { // out there nothing takes it, but it leaves
		return "nowhere", "internet"
	}
	return hop, out
}

// overInternet says whether an address is reached across the internet.
func (w *world) overInternet(m *machine, dst netip.Addr) bool {
	if w.public(dst) {
		return true
	}
	for _, other := range w.machines {
		if other != m && (slices.Contains(other.addrs["internet"], dst) || slices.ContainsFunc(other.blocks, func(p netip.Prefix) bool { return p.Contains(dst) })) {
			return true
		}
	}
	return false
}

// leads says whether a machine leads to an address by another network than the one it is asked from.
func (w *world) leads(m *machine, dst netip.Addr, from string, depth int) bool {
	if depth > 4 {
		return false
	}
	if w.leadsToSelf(m, dst, from) {
		return true
	}
	for net := range m.addrs {
		n := w.net(net)
		if net == from || n == nil || !within(n, dst) {
			continue
		}
		if n.On == "" && m.router || n.Routed {
			return true
		}
	}
	if !m.router {
		return false
	}
	if _, on := m.addrs["internet"]; on && netset.GloballyReachable().Contains(dst) && !slices.ContainsFunc(w.nets, func(n *estate.Network) bool { return within(n, dst) }) {
		return true
	}
	for _, r := range m.routes {
		to := netip.PrefixFrom(r.Via, 0).Masked()
		if r.To != "default" {
			to = netip.MustParsePrefix(r.To)
		}
		if to.Contains(dst) && to.Addr().Is6() == dst.Is6() {
			for net := range m.addrs {
				if net != from && w.holder(net, r.Via) != nil {
					return true
				}
			}
			return false
		}
	}
	for net := range m.addrs {
		if net == from || net == "internet" || !hasFamily(w.net(net), dst.Is6()) {
			continue
		}
		for _, next := range w.machines {
			if _, on := next.addrs[net]; on && next != m && w.leads(next, dst, net, depth+1) {
				return true
			}
		}
	}
	if _, on := m.addrs["internet"]; !on || from == "internet" || !netset.GloballyReachable().Contains(dst) {
		return false
	}
	for _, other := range w.machines { // over the internet, to a network behind another router
		if _, on := other.addrs["internet"]; on && other != m && other.router && w.leads(other, dst, "internet", depth+1) {
			return true
		}
	}
	return false
}

// outer says whether a network is one from which a router's forwards are entered.
func (w *world) outer(m *machine, net string) bool {
	if net == "internet" {
		return true
	}
	for _, r := range m.routes {
		if r.To == "default" {
			for _, n := range w.nets {
				if n.Name == net && within(n, r.Via) {
					return true
				}
			}
		}
	}
	return false
}

// rewritten is the source that a flow leaves a machine with.
func (w *world) rewritten(m *machine, p packet, hairpin, out string) netip.Addr {
	for _, o := range m.outbounds {
		if o.Leaving != "" && o.Leaving != out || !w.selected(o.From, p.src, m) {
			continue
		}
		if o.As == "unchanged" {
			return p.src
		}
		if a := netip.MustParseAddr(o.As); a.Is6() == p.src.Is6() {
			return a
		}
	}
	if hairpin != "" {
		return m.addr(out, p.src.Is6())
	}
	if a := m.addr("internet", p.src.Is6()); out == "internet" && m.router && a.IsValid() && !netset.GloballyReachable().Contains(p.src) {
		return a
	}
	return p.src
}

// onward brings a packet from a machine to the next.
func (w *world) onward(m *machine, hop, out string, p packet, depth int) string {
	if depth > 12 { // it goes round until its time to live is over (RFC 791 §3.1)
		return "unroutable"
	}
	switch hop {
	case "", "nowhere":
		return "unroutable"
	case "internet":
		return w.acrossInternet(m, p, depth)
	case "net":
		if n := w.net(out); n.On != "" {
			if c := w.containerAt(out, p.dst); c != nil {
				return w.socket(c.Name, nil, p)
			}
			return "unroutable"
		}
		if next := w.holder(out, p.dst); next != nil {
			return w.arriving(next, out, p, depth+1)
		}
		return "unroutable"
	}
	return w.arriving(w.machine(hop), out, p, depth+1)
}

func (w *world) acrossInternet(from *machine, p packet, depth int) string {
	if !netset.GloballyReachable().Contains(p.dst) {
		return "unroutable"
	}
	if next := w.holder("internet", p.dst); next != nil {
		return w.arriving(next, "internet", p, depth+1)
	}
	for _, m := range w.machines {
		if m != from && slices.ContainsFunc(m.blocks, func(b netip.Prefix) bool { return b.Contains(p.dst) }) {
			return w.arriving(m, "internet", p, depth+1)
		}
	}
	if w.public(p.dst) {
		return "outside"
	}
	return "unroutable"
}

// arriving is a packet that comes to a machine from another.
func (w *world) arriving(m *machine, in string, p packet, depth int) string {
	if v := w.filtered(m, "arriving", p, in, "", nil); v != "" {
		return v
	}
	for _, f := range m.forwards {
		if f.Bind.Addr.IsValid() {
			if f.Bind.Addr != p.dst {
				continue
			}
		} else {
			here := false
			for net, list := range m.addrs {
				here = here || w.outer(m, net) && slices.Contains(list, p.dst)
			}
			if !here || f.To.Addr.Is6() != p.dst.Is6() {
				continue
			}
		}
		if !hasPort(f.Bind.Ports, p.port, p.udp) || !w.selected(f.From, p.src, m) || !w.outer(m, in) && !f.Hairpin && !f.Inside {
			continue
		}
		p.dst, p.port = f.To.Addr, inner(f.Bind.Ports, f.To.Ports, p.port)
		if m.owns(p.dst) {
			if x := w.mapAt(m, p); x != nil {
				return w.throughRelay(m, x, p, in)
			}
			return w.own(m, p, in)
		}
		hairpin := ""
		if f.Hairpin && !w.outer(m, in) {
			hairpin = "hairpin"
		}
		return w.through(m, in, p, hairpin, depth)
	}
	if m.owns(p.dst) {
		if x := w.mapAt(m, p); x != nil && !(x.Bind.Addr.IsValid() && x.Bind.Addr.IsLoopback()) {
			if hasFamily(w.net(w.containers[x.Container].In[0].Network), p.dst.Is6()) {
				return w.translated(m, x, p, in, false)
			}
			return w.throughRelay(m, x, p, in)
		}
		return w.own(m, p, in)
	}
	return w.through(m, in, p, "", depth)
}

// through is a packet that passes a machine.
func (w *world) through(m *machine, in string, p packet, hairpin string, depth int) string {
	hop, out := w.way(m, p.dst)
	n := w.net(out)
	if hop == "" || n != nil && n.On != "" && !n.Routed {
		return "unroutable"
	}
	if !m.router && (n == nil || !n.Routed) {
		return "silent" // no router: it passes nothing on
	}
	if v := w.filtered(m, "through", p, in, out, nil); v != "" {
		return v
	}
	if v := w.filtered(m, "departing", p, in, out, nil); v != "" {
		return v
	}
	p.src = w.rewritten(m, p, hairpin, out)
	return w.onward(m, hop, out, p, depth)
}

// fromNet is a packet of a machine nobody recorded, in a network or out on the internet.
func (w *world) fromNet(net string, p packet) string {
	if net == "internet" {
		return w.acrossInternet(nil, p, 0)
	}
	if within(w.net(net), p.dst) {
		if next := w.holder(net, p.dst); next != nil {
			return w.arriving(next, net, p, 0)
		}
		return "unroutable"
	}
	for _, m := range w.machines {
		if _, on := m.addrs[net]; on && w.leads(m, p.dst, net, 0) {
			return w.arriving(m, net, p, 0)
		}
	}
	return "unroutable"
}

// leadsToSelf says whether a router leads from one of its networks to its address on another.
func (w *world) leadsToSelf(m *machine, dst netip.Addr, from string) bool {
	if !m.router {
		return false
	}
	for net, list := range m.addrs {
		if n := w.net(net); net != from && slices.Contains(list, dst) && (n == nil || n.On == "" || n.Routed) {
			return true
		}
	}
	return false
}
