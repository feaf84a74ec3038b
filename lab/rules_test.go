package lab

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
)

// What the kernel's packet filter is told for a machine, straight from its records. Connection marks say why a flow was
// translated: by a map, or by a forward that loops it back.
const (
	markMapped = 1
	markLooped = 2
)

func (l *layout) rules(m *machineLaid) string {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	for _, six := range []bool{false, true} {
		family := map[bool]string{false: "ip", true: "ip6"}[six]
		say("table %s translate {", family)
		say("chain arriving {\ntype nat hook prerouting priority -100; policy accept;")
		for _, f := range of[*estate.Forward](l.e) {
			if f.Router == m.host.Name && f.To.Addr.Is6() == six {
				l.forward(say, m, f)
			}
		}
		l.maps(say, m, six, false)
		say("}\nchain made {\ntype nat hook output priority -100; policy accept;")
		l.maps(say, m, six, true)
		say("}\nchain leaving {\ntype nat hook postrouting priority 100; policy accept;")
		l.sources(say, m, six)
		say("}\n}")
	}
	say("table inet filters {")
	l.strangersInside(say, m)
	for i, f := range of[*estate.Filter](l.e) {
		if slices.Contains(f.On, m.host.Name) {
			l.chain(say, m, f, i)
		}
	}
	say("}")
	l.noWay(say, m.space)
	return b.String()
}

func word(six bool) string { return map[bool]string{false: "ip", true: "ip6"}[six] }

func protoWord(p netset.Transport) string { return p.String() }

// outer are a router's networks that forwards without `inside` or `hairpin` take from.
func (l *layout) outer(m *machineLaid) []string {
	var out []string
	if slices.Contains(m.nets, "internet") {
		out = append(out, "internet")
	}
	for _, r := range of[*estate.Route](l.e) {
		if r.Host != m.host.Name || r.To != "default" {
			continue
		}
		for _, name := range m.nets {
			if n := l.network(name); n != nil && slices.ContainsFunc(n.Prefixes, func(p netip.Prefix) bool { return p.Contains(r.Via) }) {
				out = append(out, name)
			}
		}
	}
	return out
}

// held are a machine's addresses on some of its networks.
func (l *layout) held(m *machineLaid, nets []string, six bool) []string {
	var out []string
	for _, a := range of[*estate.Address](l.e) {
		if a.Hosts[0] == m.host.Name && slices.Contains(nets, a.Network) && a.Held.Addr.IsValid() && a.Held.Addr.Is6() == six {
			out = append(out, a.Held.Addr.String())
		}
	}
	return out
}

func braces(words []string) string { return "{ " + strings.Join(words, ", ") + " }" }

func quoted(words []string) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = `"` + w + `"`
	}
	return braces(out)
}

func (l *layout) forward(say func(string, ...any), m *machineLaid, f *estate.Forward) {
	six := f.To.Addr.Is6()
	ip := word(six)
	outer := l.outer(m)
	at := l.held(m, outer, six)
	if f.Bind.Addr.IsValid() {
		at = []string{f.Bind.Addr.String()}
	}
	if len(at) == 0 || len(outer) == 0 {
		return
	}
	from, ok := l.match(ip+" saddr", f.From, m, six)
	if !ok {
		return
	}
	to := f.To.Addr.String()
	for _, proto := range f.Bind.Transport.Each() {
		for _, p := range pairsOf(f.Bind.Ports, f.To.Ports) {
			target := netip.AddrPortFrom(f.To.Addr, p[1]).String()
			if p[0] == p[1] {
				target = to
			}
			line := fmt.Sprintf("%s daddr %s %s dport %d %s", ip, braces(at), protoWord(proto), p[0], from)
			say("iifname %s %s dnat to %s", quoted(outer), line, target)
			switch {
			case f.Hairpin:
				say("iifname != %s %s ct mark set %d dnat to %s", quoted(outer), line, markLooped, target)
			case f.Inside:
				say("iifname != %s %s dnat to %s", quoted(outer), line, target)
			}
		}
	}
}

// maps are what a container engine writes: flows for the machine's own addresses, but for loopback, go to the container.
func (l *layout) maps(say func(string, ...any), m *machineLaid, six, made bool) {
	ip := word(six)
	for _, x := range of[*estate.Map](l.e) {
		if hostPart(x.Container) != m.host.Name || x.Bind.Addr.IsValid() && (x.Bind.Addr.IsLoopback() || x.Bind.Addr.Is6() != six) {
			continue
		}
		to, network := l.target(x.Container, six)
		if to.Is6() != six {
			continue
		}
		at := "fib daddr type local"
		if x.Bind.Addr.IsValid() && !x.Bind.Addr.IsUnspecified() {
			at = fmt.Sprintf("%s daddr %s", ip, x.Bind.Addr)
		}
		if made {
			at = fmt.Sprintf("%s daddr != %s %s", ip, map[bool]string{false: "127.0.0.0/8", true: "::1"}[six], at)
		} else {
			at = fmt.Sprintf("iifname != %q %s", network, at)
		}
		for _, proto := range x.Bind.Transport.Each() {
			for _, p := range pairsOf(x.Bind.Ports, x.To) {
				say("%s %s dport %d ct mark set %d dnat to %s", at, protoWord(proto), p[0], markMapped, netip.AddrPortFrom(to, p[1]))
			}
		}
	}
}

// sources rewrite where a flow comes from, as it leaves.
func (l *layout) sources(say func(string, ...any), m *machineLaid, six bool) {
	ip := word(six)
	for _, o := range of[*estate.Outbound](l.e) {
		if o.Router != m.host.Name {
			continue
		}
		as, err := netip.ParseAddr(o.As)
		if err == nil && as.Is6() != six {
			continue
		}
		when, ok := l.match(ip+" saddr", o.From, m, six)
		if !ok {
			continue
		}
		if o.Leaving != "" {
			when = fmt.Sprintf("oifname %q", o.Leaving)
		}
		if err != nil {
			say("%s accept", when)
		} else {
			say("%s snat to %s", when, as)
		}
	}
	for _, name := range m.nets {
		if at := l.held(m, []string{name}, six); len(at) > 0 {
			say("ct mark %d oifname %q snat to %s", markLooped, name, at[0])
		}
	}
	var inside []string
	for _, p := range private {
		if netip.MustParsePrefix(p).Addr().Is6() == six {
			inside = append(inside, p)
		}
	}
	if at := l.held(m, []string{"internet"}, six); len(at) > 0 {
		say("oifname \"internet\" %s saddr %s snat to %s", ip, braces(inside), at[0])
	}
	for _, n := range m.conts {
		for _, p := range n.Prefixes {
			if p.Addr().Is6() == six && !n.Routed {
				say("oifname != %q %s saddr %s masquerade", n.Name, ip, p)
			}
		}
	}
}

// noWay refuses what a way that nobody wrote down does not lead to: across internet, private addresses; by the only router
// of a network, what it does not lead to either. The rules stand in place of routes that lead nowhere, since the kernel
// tells of those only so many times a second.
func (l *layout) noWay(say func(string, ...any), s *space) {
	out := l.implied[s]
	if len(out) == 0 {
		return
	}
	var inside, behind []netip.Prefix
	for _, p := range private {
		inside = append(inside, netip.MustParsePrefix(p))
	}
	near := l.withoutInternet(out)
	for _, n := range of[*estate.Network](l.e) {
		if near[n.Name] && (n.On == "" || n.Routed) {
			behind = append(behind, n.Prefixes...)
		}
	}
	none := netset.PrefixesOf(inside...).Subtract(netset.PrefixesOf(behind...))
	if slices.Contains(out, "internet") {
		none = netset.PrefixesOf(inside...)
	}
	say("table inet ways {")
	for _, hook := range []string{"forward", "output"} {
		say("chain %s {\ntype filter hook %s priority -20; policy accept;\nct state established,related accept", hook, hook)
		for _, six := range []bool{false, true} {
			var words []string
			for _, p := range none.Of(six).Prefixes() {
				words = append(words, p.String())
			}
			say("oifname %s %s daddr %s reject with icmpx type host-unreachable", quoted(out), word(six), braces(words))
		}
		say("}")
	}
	say("}")
}

// withoutInternet are the networks that hang together with some without the internet between them.
func (l *layout) withoutInternet(from []string) map[string]bool {
	near := map[string]bool{}
	for _, name := range from {
		near[name] = name != "internet"
	}
	for grown := true; grown; {
		grown = false
		for _, m := range l.machines {
			if !slices.ContainsFunc(m.nets, func(n string) bool { return near[n] }) {
				continue
			}
			for _, n := range m.nets {
				grown = grown || n != "internet" && !near[n]
				near[n] = n != "internet"
			}
		}
	}
	return near
}

// strangersInside keeps container networks apart, and closed to other machines but for maps.
func (l *layout) strangersInside(say func(string, ...any), m *machineLaid) {
	if len(m.conts) == 0 {
		return
	}
	say("chain apart {\ntype filter hook forward priority -10; policy accept;\nct state established,related accept")
	var names []string
	for _, n := range m.conts {
		names = append(names, n.Name)
	}
	for _, a := range names {
		for _, b := range names {
			if a != b {
				say("iifname %q oifname %q drop", a, b)
			}
		}
	}
	for _, n := range m.conts {
		if !n.Routed {
			say("iifname != %s oifname %q ct mark != %d reject with icmpx type host-unreachable", quoted(names), n.Name, markMapped)
		}
	}
	say("}")
}

var hookOf = map[string]string{
	"arriving": "prerouting priority -150", "input": "input priority 0", "through": "forward priority 0", "output": "output priority 0", "departing": "postrouting priority 50",
}

// chain is a filter, met behind those written before it.
func (l *layout) chain(say func(string, ...any), m *machineLaid, f *estate.Filter, at int) {
	hook, base, _ := strings.Cut(hookOf[f.Hook], " priority ")
	var priority int
	_, _ = fmt.Sscan(base, &priority)
	say("chain f%d {\ntype filter hook %s priority %d; policy accept;", at, hook, priority+at)
	say("meta l4proto { icmp, ipv6-icmp } accept")
	if f.Family == "ipv4" {
		say("meta nfproto ipv6 accept")
	} else if f.Family == "ipv6" {
		say("meta nfproto ipv4 accept")
	}
	if !f.Stateless {
		say("ct state established,related accept")
	}
	if f.Strict {
		say("meta l4proto tcp ct state invalid drop")
	}
	var names []string
	for _, n := range m.conts {
		names = append(names, n.Name)
	}
	switch f.Hook {
	case "arriving":
		say("iifname \"lo\" accept")
		if len(names) > 0 {
			say("iifname %s accept", quoted(names))
		}
	case "input":
		if !f.LoopbackToo {
			say("iifname \"lo\" accept")
		}
	case "output":
		if !f.LoopbackToo { // by where it goes now: the interface is still that of before the translation
			say("fib daddr type local accept")
		}
	case "departing":
		say("oifname \"lo\" accept")
		for _, n := range m.conts { // between containers of one network only filters on what passes through are met
			for _, p := range n.Prefixes {
				ip := word(p.Addr().Is6())
				say("oifname %q %s saddr %s %s saddr != %s %s daddr %s accept", n.Name, ip, p, ip, p.Addr().Next(), ip, p)
			}
		}
	case "through":
		if !f.GuardsContainers {
			say("ct mark %d accept", markMapped)
			for _, n := range names { // container engines let through what goes out, and what comes back for it
				say("iifname %q oifname != %q accept", n, n)
				say("iifname != %q oifname %q ct state established,related accept", n, n)
			}
		}
	}
	var rules []*estate.Rule
	for _, r := range of[*estate.Rule](l.e) {
		if r.Filter == f.Name {
			rules = append(rules, r)
		}
	}
	if f.DropWins {
		slices.SortStableFunc(rules, func(a, b *estate.Rule) int {
			return map[bool]int{true: 0, false: 1}[a.Action == "drop"] - map[bool]int{true: 0, false: 1}[b.Action == "drop"]
		})
	}
	for _, r := range rules {
		l.rule(say, m, f, r)
	}
	decide(say, "meta l4proto { tcp, udp }", f.Otherwise)
	say("}")
}

func decide(say func(string, ...any), when, action string) {
	switch action {
	case "pass":
		say("%s accept", when)
	case "drop":
		say("%s drop", when)
	case "refuse":
		say("%s meta l4proto tcp reject with tcp reset", when)
		say("%s meta l4proto udp reject with icmpx type port-unreachable", when)
	}
}

func (l *layout) rule(say func(string, ...any), m *machineLaid, f *estate.Filter, r *estate.Rule) {
	when := ""
	if r.Entering != "" {
		if f.Hook == "output" {
			return
		}
		when += fmt.Sprintf("iifname %q ", r.Entering)
	}
	if r.Leaving != "" {
		if f.Hook == "arriving" || f.Hook == "input" {
			return
		}
		when += fmt.Sprintf("oifname %q ", r.Leaving)
	}
	var protos []string
	for _, p := range r.Ports.Transport.Each() {
		protos = append(protos, protoWord(p))
	}
	when += fmt.Sprintf("meta l4proto %s ", braces(protos))
	if !r.Ports.Any {
		var ranges []string
		for _, p := range r.Ports.Set().Ranges() {
			ranges = append(ranges, p.String())
		}
		when += fmt.Sprintf("th dport %s ", braces(ranges))
	}
	for _, six := range []bool{false, true} {
		from, ok := l.match(word(six)+" saddr", r.From, m, six)
		if !ok {
			continue
		}
		to, ok := l.match(word(six)+" daddr", r.To, m, six)
		if !ok {
			continue
		}
		decide(say, fmt.Sprintf("meta nfproto %s %s %s %s", map[bool]string{false: "ipv4", true: "ipv6"}[six], when, from, to), r.Action)
	}
}

// match is a condition on an address; false where nothing of the family is meant.
func (l *layout) match(field string, list []estate.Selector, m *machineLaid, six bool) (string, bool) {
	if len(list) == 0 {
		return "", true
	}
	set := l.selected(list, m).Of(six)
	var words []string
	for _, p := range set.Prefixes() {
		words = append(words, p.String())
	}
	if len(words) == 0 {
		return "", false
	}
	return field + " " + braces(words), true
}

// selected are the addresses that a list of places means, on a machine.
func (l *layout) selected(list []estate.Selector, m *machineLaid) netset.Addrs {
	var out netset.Addrs
	add := func(s netset.Addrs) { out = netset.Union(out, s) }
	for _, s := range list {
		switch {
		case s.Word == "any":
			add(netset.Union(netset.IPv4(), netset.IPv6()))
		case s.Word == "internet":
			add(l.internet())
		case s.Word == "on-link":
			for _, name := range m.nets {
				if n := l.network(name); n != nil {
					add(netset.PrefixesOf(n.Prefixes...))
				}
			}
		case s.Prefix.IsValid():
			add(netset.PrefixesOf(s.Prefix))
		default:
			add(l.named(s.Name, m))
		}
	}
	return out
}

// named are the addresses of a network, machine, container or group.
func (l *layout) named(name string, m *machineLaid) netset.Addrs {
	for _, g := range of[*estate.Group](l.e) {
		if g.Name == name {
			return l.selected(g.Members, m)
		}
	}
	if n := l.network(name); n != nil {
		return netset.PrefixesOf(n.Prefixes...)
	}
	var list []netip.Addr
	for _, a := range of[*estate.Address](l.e) {
		if a.Hosts[0] == name && a.Held.Addr.IsValid() {
			list = append(list, a.Held.Addr)
		}
	}
	for _, n := range of[*estate.Network](l.e) {
		if n.On == name {
			for _, p := range n.Prefixes {
				list = append(list, p.Addr().Next())
			}
		}
	}
	for _, c := range of[*estate.Container](l.e) {
		if c.Name == name {
			for _, at := range c.In {
				list = append(list, at.Addrs...)
			}
		}
	}
	return netset.AddrsOf(list...)
}

// internet is every reachable address that nothing recorded has.
func (l *layout) internet() netset.Addrs {
	var ours []netip.Prefix
	for _, n := range of[*estate.Network](l.e) {
		ours = append(ours, n.Prefixes...)
	}
	for _, a := range of[*estate.Address](l.e) {
		if a.Held.Block.IsValid() {
			ours = append(ours, a.Held.Block)
		} else {
			ours = append(ours, netip.PrefixFrom(a.Held.Addr, a.Held.Addr.BitLen()))
		}
	}
	return netset.GloballyReachable().Subtract(netset.PrefixesOf(ours...))
}
