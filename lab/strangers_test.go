package lab

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"golang.org/x/sync/errgroup"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/trace"
	"steady-compass/intake"
	"steady-compass/intake/packetfilter"
)

var (
	judgedRulesets = flag.Int("judge.rulesets", 3, "how many random rulesets are held against the kernel")
	rulesetsFrom   = flag.Uint64("judge.rulesets.from", 1, "the first of their seeds")
)

// between is a router between two networks, with machines on both: what a random ruleset on it stops, translates and lets pass.
const between = `
network lan 10.1.0.0/24,2001:db8:a:1::/64
network far 10.2.0.0/24,2001:db8:b:1::/64
host edge router
host near
host next
host deep
host rear
address edge 10.1.0.1 lan
address edge 2001:db8:a:1::1 lan
address edge 10.2.0.1 far
address edge 2001:db8:b:1::1 far
address near 10.1.0.20 lan
address near 2001:db8:a:1::20 lan
address next 10.1.0.21 lan
address next 2001:db8:a:1::21 lan
address deep 10.2.0.10 far
address deep 2001:db8:b:1::10 far
address rear 10.2.0.11 far
address rear 2001:db8:b:1::11 far
listen edge 1-9/tcp+udp as edge
listen near 1-9/tcp+udp as near
listen next 1-9/tcp+udp as next
listen deep 1-9/tcp+udp as deep
listen rear 1-9/tcp+udp as rear
`

// writer writes random rules in the packet filter's own language, of all that the reader claims to know and of what it has to
// leave undecided.
type writer struct{ *rand.Rand }

func (w writer) of(words ...string) string { return words[w.IntN(len(words))] }

func (w writer) port() string { return fmt.Sprint(1 + w.IntN(11)) }

func (w writer) ports() string {
	low := 1 + w.IntN(8)
	switch w.IntN(5) {
	case 0:
		return fmt.Sprintf("%d-%d", low, low+w.IntN(4))
	case 1:
		return fmt.Sprintf("{ %d, %d-%d }", low, low+2, low+3)
	case 2:
		return fmt.Sprintf("!= %d", low)
	case 3:
		return w.of("@doors", "!= @doors", "< 5", ">= 4", "!= { 2, 3 }")
	}
	return fmt.Sprint(low)
}

func (w writer) address(six bool) string {
	if six {
		return w.of("2001:db8:a:1::20", "2001:db8:a:1::/64", "2001:db8:b:1::10", "{ 2001:db8:a:1::21, 2001:db8:b:1::/64 }", "!= 2001:db8:b:1::11", "2001:db8:a:1::10-2001:db8:a:1::20", "& ffff:ffff:ffff:ffff:: == 2001:db8:a:1::", "!= { 2001:db8:a:1::20, 2001:db8:a:1::21 }")
	}
	return w.of("10.1.0.20", "10.1.0.0/24", "10.2.0.10", "{ 10.1.0.21, 10.2.0.0/24 }", "!= 10.2.0.11", "10.1.0.10-10.1.0.20", "@known", "!= @known", "& 255.255.255.0 == 10.1.0.0", "& 255.0.0.255 == 10.0.0.20", "!= { 10.1.0.20, 10.1.0.21 }", "< 10.1.0.21")
}

// condition is a condition that may stand in a chain on a hook.
func (w writer) condition(hook string) string {
	proto := w.of("tcp", "udp")
	ways := []func() string{
		func() string { return proto + " dport " + w.ports() },
		func() string { return proto + " dport " + w.ports() },
		func() string {
			return "meta l4proto " + w.of("tcp", "udp", "{ tcp, udp }", "!= tcp", "{ udp, icmp }", "6-17", "!= { udp, sctp }") + " th dport " + w.ports()
		},
		func() string { return "ip " + w.of("saddr ", "daddr ") + w.address(false) },
		func() string { return "ip6 " + w.of("saddr ", "daddr ") + w.address(true) },
		func() string { return "ip protocol " + w.of("tcp", "udp", "{ tcp, udp }", "!= udp") },
		func() string { return "ip6 nexthdr " + w.of("tcp", "udp", "!= tcp") },
		func() string {
			return "ct state " + w.of("new", "{ established, related }", "established,related", "invalid", "new,established", "!= new", "{ new, untracked }", "! established", "related", "!= invalid", "new,invalid", "untracked")
		},
		func() string {
			return "ct status " + w.of("dnat", "! dnat", "snat", "assured", "confirmed", "dnat,snat", "!= dnat")
		},
		func() string { return "meta nfproto " + w.of("ipv4", "ipv6", "!= ipv4") },
		func() string {
			return "meta pkttype " + w.of("host", "unicast", "broadcast", "!= host", "{ host, multicast }")
		},
		func() string {
			return "fib daddr type " + w.of("local", "!= local", "unicast", "{ local, broadcast }", "broadcast")
		},
		func() string { return "fib saddr type " + w.of("local", "unicast") },
		func() string {
			return "tcp flags " + w.of("syn / fin,syn,rst,ack", "& (fin | syn | rst | ack) == syn", "& syn == 0", "syn", "syn,ack", "{ syn, ack }", "== syn", "!= syn", "& (syn | ack) == ack", "ack", "! syn", "& (fin | syn | rst | ack) != syn", "{ syn, syn | ack }", "rst,fin")
		},
		func() string { return "tcp sport " + w.of("1-1023", "1024-65535", "{ 22, 32768-65535 }", ">= 1024") },
	}
	odd := []func() string{ // of which most cannot be told by the records
		func() string { return "ct direction " + w.of("original", "reply") },
		func() string { return "meta mark " + w.of("0", "7", "!= 7", "& 1 == 0") },
		func() string { return "ct mark " + w.of("0", "3") },
		func() string { return "meta length " + w.of("< 2000", "> 1") },
		func() string { return "ip ttl " + w.of("> 1", "255") },
		func() string { return "limit rate " + w.of("1000/second", "over 100000/second", "5/minute") },
		func() string { return "meta priority 0" },
		func() string {
			return "ip saddr . tcp dport " + w.of("{ 10.1.0.20 . 3, 10.2.0.10 . 4 }", "@pairs", "{ 10.1.0.0/24 . 1-4 }")
		},
		func() string { return "ip saddr . ip daddr { 10.1.0.20 . 10.2.0.10 }" },
		func() string { return "ct original proto-dst " + w.port() },
		func() string { return "ct original ip daddr 10.1.0.1" },
		func() string { return "meta skuid 0" },
		func() string { return "iif lo" },
		func() string { return "meta cpu 0-63" },
	}
	if hook != "output" && hook != "postrouting" {
		ways = append(ways, func() string {
			return "iifname " + w.of(`"lan"`, `"far"`, `{ "lan", "far" }`, `!= "lan"`, `"l*"`, `!= "lo"`, `"lo"`, `!= { "far", "lo" }`)
		})
	}
	if hook != "input" && hook != "prerouting" {
		ways = append(ways, func() string {
			return "oifname " + w.of(`"lan"`, `"far"`, `{ "lan", "far" }`, `!= "lan"`, `"f*"`, `!= "lo"`)
		})
	}
	if w.IntN(12) == 0 {
		ways = odd
	}
	return ways[w.IntN(len(ways))]()
}

func (w writer) conditions(hook string) string {
	var out []string
	for range 1 + w.IntN(2) {
		out = append(out, w.condition(hook))
	}
	return strings.Join(out, " ")
}

// beside is what a rule does that decides nothing.
func (w writer) beside() string {
	return w.of("", "", "", "counter ", `log prefix "x" `, "meta mark set 7 ", "ct mark set 3 ", "counter ", "meta priority set 0 ", "update @seen { ip saddr } ", "add @often { ip saddr limit rate over 100000/second } ")
}

func (w writer) verdict(hook string) string {
	switch w.IntN(9) {
	case 0, 1, 2:
		return "accept"
	case 3, 4:
		return "drop"
	case 5:
		if hook == "prerouting" || hook == "postrouting" {
			return "drop"
		}
		return w.of("reject", "reject with tcp reset", "reject with icmpx admin-prohibited", "reject with icmpx port-unreachable")
	case 6:
		return w.of("jump aside", "goto aside", "jump farther")
	case 7:
		return "return"
	}
	return w.of("accept", "drop", "accept", "drop", "queue num 5 bypass", "notrack", "continue", "ip daddr set 10.2.0.11", "tcp dport set 4", "udp dport set 4", "ip saddr set 10.1.0.99")
}

func (w writer) rule(hook string) string {
	switch w.IntN(12) {
	case 0:
		return fmt.Sprintf("tcp dport vmap { %s : accept, %d-%d : drop, 9 : jump aside }", w.of("1", "2"), 3, 3+w.IntN(3))
	case 1:
		return w.of("ip saddr vmap { 10.1.0.20 : accept, 10.2.0.0/24 : drop }", "ct state vmap { established : accept, related : accept, invalid : drop }", "meta l4proto . th dport vmap { tcp . 3 : drop, udp . 4 : accept }", "meta nfproto vmap { ipv6 : jump aside, ipv4 : jump farther }")
	case 2:
		if hook == "input" || hook == "forward" {
			return `iifname vmap { "lan" : jump aside, "far" : jump farther }`
		}
	}
	verdict := w.verdict(hook)
	conditions := w.conditions(hook)
	if verdict == "tcp dport set 4" || verdict == "reject with tcp reset" {
		conditions = "meta l4proto tcp " + conditions
	}
	if verdict == "udp dport set 4" {
		conditions = "meta l4proto udp " + conditions
	}
	return conditions + " " + w.beside() + verdict
}

func (w writer) translation() string {
	target := w.of("10.2.0.10", "10.2.0.11", "10.2.0.10:"+w.port(), "10.2.0.11:"+w.port())
	proto := w.of("tcp", "udp")
	switch w.IntN(7) {
	case 0:
		return fmt.Sprintf("%s dport %s redirect to :%s", proto, w.port(), w.port())
	case 1:
		return fmt.Sprintf("%s dport %s dnat ip to tcp dport map { 1 : 10.2.0.10, 2 : 10.2.0.11 }", "tcp", w.of("1-2", "{ 1, 2 }"))
	case 2:
		return fmt.Sprintf("ip daddr 10.1.0.1 %s dport %s dnat ip to %s", proto, w.port(), target)
	case 3:
		return fmt.Sprintf("%s %s dport %s dnat ip to %s", w.condition("prerouting"), proto, w.port(), target)
	case 4:
		return fmt.Sprintf("fib daddr type local %s dport %s dnat ip to %s", proto, w.port(), target)
	case 5:
		return w.conditions("prerouting") + " " + w.of("accept", "return", "jump turned")
	}
	return fmt.Sprintf(`iifname "%s" ip daddr { 10.1.0.1, 10.2.0.1 } %s dport %s dnat ip to %s`, w.of("lan", "far"), proto, w.port(), target)
}

// ruleset is a ruleset: its tables, sets and chains, and the rules, one by one, since not each that can be written can be had.
// What tells of errors and of neighbours passes everywhere, as the records take it.
func (w writer) ruleset() (frame string, rules []string) {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	rule := func(chain, text string) { rules = append(rules, "add rule "+chain+" "+text) }
	say("table inet one {")
	say("set doors { type inet_service; flags interval; elements = { 2, 4-6 }; }")
	say("set known { type ipv4_addr; flags interval; elements = { 10.1.0.20, 10.2.0.0/26 }; }")
	say("set pairs { type ipv4_addr . inet_service; elements = { 10.1.0.20 . 5, 10.1.0.21 . 6 }; }")
	say("set seen { type ipv4_addr; flags dynamic; size 64; }")
	say("set often { type ipv4_addr; flags dynamic; size 64; }")
	say("chain farther { }\nchain aside { }")
	rule("inet one farther", w.rule("any"))
	for range 2 {
		rule("inet one aside", w.rule("any"))
	}
	for _, hook := range []string{"input", "forward", "output", "prerouting", "postrouting"} {
		if w.IntN(4) == 0 || hook != "input" && hook != "forward" && w.IntN(2) == 0 {
			continue
		}
		chain := "inet one at_" + hook
		say("chain at_%s { type filter hook %s priority %s; policy %s; }", hook, hook, w.of("filter", "filter", "raw", "-150", "10"), w.of("accept", "drop"))
		rule(chain, "meta l4proto { icmp, ipv6-icmp } accept")
		if w.IntN(3) > 0 {
			rule(chain, w.of("ct state established,related accept", "ct state vmap { established : accept, related : accept, invalid : drop }", "ct state { established, related } counter accept"))
		}
		if w.IntN(2) > 0 {
			rule(chain, `iif "lo" accept`)
		}
		for range 1 + w.IntN(5) {
			rule(chain, w.rule(hook))
		}
	}
	say("}")
	if w.IntN(2) == 0 {
		say("table ip turns {\nchain turned { }\nchain turn { type nat hook prerouting priority dstnat; policy accept; }\nchain out { type nat hook postrouting priority srcnat; policy accept; }\n}")
		rule("ip turns turned", "tcp dport 7 dnat to 10.2.0.11:3")
		for range 1 + w.IntN(4) {
			rule("ip turns turn", w.translation())
		}
		if w.IntN(2) == 0 {
			rule("ip turns out", w.of(`oifname "far" masquerade`, `ip saddr 10.1.0.0/24 oifname "far" snat to 10.2.0.1`, `ct status dnat masquerade`, `ip saddr 10.1.0.20 masquerade`))
		}
	}
	if w.IntN(6) == 0 {
		say("table inet asleep { flags dormant;\nchain in { type filter hook input priority 0; policy drop; }\n}")
	}
	return b.String(), rules
}

// TestStrangersRulesets loads rulesets in the packet filter's own language, at random over its expressions, into the kernel, reads
// what that lists, and holds what the records say then against what real connections meet. What was not understood is undecided,
// and says nothing.
func TestStrangersRulesets(t *testing.T) {
	needNamespaces(t, "nft", "ip")
	r := rand.New(rand.NewPCG(1, 1))
	tried, undecided, rules, refused, told, differ := 0, 0, 0, 0, 0, 0
	said := map[string]int{}
	for seed := *rulesetsFrom; seed < *rulesetsFrom+uint64(*judgedRulesets) && differ < 5; seed++ {
		w := writer{rand.New(rand.NewPCG(seed, 9))}
		text, list := w.ruleset()
		bare := parsedEstate(t, between)
		l := layOut(t, bare)
		show := []string{"nft", "-j", "list", "ruleset"}
		listed, err := runIn(l.spaces["edge"], "flush ruleset\n"+text, []string{"nft", "-f", "-"}, show)
		if err != nil {
			t.Fatalf("seed %d: %v\n%s", seed, err, text)
		}
		for _, rule := range list {
			now, err := runIn(l.spaces["edge"], rule, []string{"nft", "-f", "-"}, show)
			if err != nil {
				refused++
				continue
			}
			listed, text, rules = now, text+rule+"\n", rules+1
		}
		rs, faults := packetfilter.ReadJSON("listed", listed)
		if len(faults) > 0 {
			t.Fatalf("seed %d: %v\n%s", seed, faults, text)
		}
		reading := packetfilter.Source{Host: "edge"}.Reading(rs, bare)
		if len(reading.Faults) > 0 {
			t.Fatalf("seed %d: %v\n%s", seed, reading.Faults, text)
		}
		if strings.Contains(strings.Join(reading.Left, "\n"), "taken as let in") { // the records say another thing, and the reading says so
			told++
			l.close()
			continue
		}
		e, err := bare.Apply(intake.Compare(bare, reading).Edit(false))
		if err != nil {
			t.Fatalf("seed %d: %v\n%s", seed, err, text)
		}
		tr := trace.New(model.Compile(e), "2026-11-25")
		by := map[string][]*probe{}
		from := []string{"near", "next", "deep", "rear", "edge"}
		to := []string{"10.1.0.1", "10.2.0.1", "10.2.0.10", "10.2.0.11", "10.1.0.20", "2001:db8:a:1::1", "2001:db8:b:1::10", "2001:db8:b:1::11", "2001:db8:a:1::20"}
		for range 200 {
			v := from[r.IntN(len(from))]
			p := &probe{to: netip.AddrPortFrom(netip.MustParseAddr(to[r.IntN(len(to))]), uint16(1+r.IntN(11))), proto: netset.TCP}
			if r.IntN(2) == 0 {
				p.proto = netset.UDP
			}
			by[v] = append(by[v], p)
		}
		try := func(which func(from string, p *probe) bool) {
			var g errgroup.Group
			for _, vantage := range from {
				var list []*probe
				for _, p := range by[vantage] {
					if which(vantage, p) {
						p.got, p.name = "", ""
						list = append(list, p)
					}
				}
				g.Go(func() error { return l.at(vantage).tryAll(list) })
			}
			if err := g.Wait(); err != nil {
				t.Fatal(err)
			}
		}
		try(func(string, *probe) bool { return true })
		try(func(from string, p *probe) bool { // on a busy machine an answer may come too late
			return p.got == "silent" && verdictOn(t, tr, from, p, endOf) != "silent"
		})
		wrong := 0
		for _, vantage := range from {
			for _, p := range by[vantage] {
				want := verdictOn(t, tr, vantage, p, endOf)
				if want == "" {
					undecided++
					continue
				}
				tried++
				said[strings.Fields(want)[0]]++
				got := strings.TrimSpace(p.got + " " + p.name)
				if strings.Contains(got, "permission denied") {
					got = "refused"
				}
				if got == want || p.got == "silent" && answered[want] || p.got == "unroutable" && want == "refused" { // with which word it refuses is not recorded
					continue
				}
				if wrong++; wrong <= 3 {
					t.Errorf("seed %d: from %s to %s/%s the kernel: %s (seen as %s); the records: %s", seed, vantage, p.to, p.proto, got, p.seen, want)
				}
			}
		}
		if wrong > 0 {
			differ++
			var lines []string
			for _, rec := range e.All() {
				switch rec.(type) {
				case *estate.Filter, *estate.Rule, *estate.Forward, *estate.Outbound:
					lines = append(lines, estate.Line(rec))
				}
			}
			t.Errorf("seed %d: %d differ\n%s\nread as\n%s\nleft\n%s", seed, wrong, text, strings.Join(lines, "\n"), strings.Join(reading.Left, "\n"))
		}
		l.close()
	}
	if tried < undecided/4 {
		t.Errorf("of %d connections %d are undecided", tried+undecided, undecided)
	}
	t.Logf("%d rulesets of %d rules (%d more the kernel does not take; of %d rulesets is said that they stop more), %d connections: %v; %d undecided", *judgedRulesets, rules, refused, told, tried, said, undecided)
}
