package synth

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
)

// crossing is a router on the internet with a container host and a plain machine behind it, and a second router with a
// machine behind that; and elsewhere, over the internet, a router with a machine.
const crossing = `
network lan 10.1.0.0/24,2001:db8:a:1::/64
network link 10.9.0.0/30
network far 10.2.0.0/24
network shore 10.3.0.0/24,2001:db8:b:1::/64
host edge router
host inner router
host box
host plain
host deep
host other router
host away
address edge 203.0.113.1 internet
address edge 2001:db8:a::/48 internet
address edge 10.1.0.1 lan
address edge 2001:db8:a:1::1 lan
address edge 10.9.0.1 link
address inner 10.9.0.2 link
address inner 10.2.0.1 far
address box 10.1.0.10 lan
address box 2001:db8:a:1::10 lan
address plain 10.1.0.20 lan
address deep 10.2.0.10 far
address other 203.0.113.9 internet
address other 2001:db8:b::/48 internet
address other 10.3.0.1 shore
address other 2001:db8:b:1::1 shore
address away 10.3.0.10 shore
address away 2001:db8:b:1::10 shore
route inner default via 10.9.0.1
route edge 10.2.0.0/24 via 10.9.0.2
`

type chooser struct{ *rand.Rand }

func (c chooser) of(words ...string) string { return words[c.IntN(len(words))] }

func (c chooser) some(chance int, text string) string {
	if c.IntN(100) < chance {
		return text
	}
	return ""
}

func (c chooser) ports() string {
	n := 1 + c.IntN(9)
	text := fmt.Sprint(n)
	switch c.IntN(8) {
	case 3:
		text = "1024-65535" // where replies go
	case 0:
		text = fmt.Sprintf("%d-%d", n, n+c.IntN(4))
	case 1:
		text = "any"
	case 2:
		text = fmt.Sprintf("%d,%d", n, n+2)
	}
	return text + c.of("", "", "", "/udp", "/tcp+udp")
}

func (c chooser) anyone() string {
	return c.of("any", "internet", "lan", "far", "link", "a", "b", "box", "plain", "deep", "edge", "inner", "box/one", "box/two", "some", "on-link", "10.1.0.0/27", "198.51.100.0/25", "10.1.0.20", "2001:db8:a:1::/65", "203.0.113.1", "shore", "away", "203.0.113.9")
}

// Crossing is a random estate in which flows cross two routers and a container host: filters, forwards, maps, outbound
// lines and groups at random over machines that are always the same. It is for holding the engine against other readings
// of the same records.
func Crossing(r *rand.Rand) string {
	c := chooser{r}
	var out strings.Builder
	tell := func(format string, args ...any) {
		out.WriteString(strings.Join(strings.Fields(fmt.Sprintf(format, args...)), " ") + "\n")
	}
	switch c.IntN(6) { // a machine with a second attachment, so that replies may go another way
	case 0:
		tell("address plain 10.2.0.20 far")
		tell("route plain default via %s", c.of("10.1.0.1", "10.2.0.1"))
	case 1:
		tell("address deep 10.1.0.40 lan")
		tell("route deep default via %s", c.of("10.1.0.1", "10.2.0.1"))
	}
	tell("group others plain,%s", c.of("10.1.0.0/28", "deep", "198.51.100.0/24"))
	tell("group some others,%s", c.of("box/two", "far", "203.0.113.1"))
	six := c.IntN(2) == 0
	tell("network a 172.20.0.0/24%s on box %s %s", c.some(30, ",fd00:20::/64"), c.some(25, "routed"), c.some(25, "filtered"))
	aSix := strings.Contains(out.String(), "fd00:20")
	tell("network b 172.21.0.0/24%s on box", map[bool]string{true: ",fd00:21::/64"}[six])
	at := func(net string, n int, six bool) string {
		return fmt.Sprintf("%s=172.2%d.0.%d%s", net, map[string]int{"a": 0, "b": 1}[net], n, map[bool]string{true: fmt.Sprintf("+fd00:2%d::%d", map[string]int{"a": 0, "b": 1}[net], n)}[six])
	}
	tell("container box/one in %s", at("a", 5, aSix))
	tell("container box/two in %s", at("b", 6, six))
	tell("container box/both in %s,%s", at("a", 7, aSix), at("b", 7, six))
	if c.IntN(2) == 0 {
		tell("container box/same shares-host")
		tell("listen box/same %d as same", 20+c.IntN(3))
	}
	tell("listen box/one %s as one", c.of("1-9", "3", "2-4/tcp+udp"))
	tell("listen box/two %s as two", c.of("1-9", "5", "127.0.0.1:4"))
	tell("listen plain %s as plain", c.of("1-9/tcp+udp", "10.1.0.20:4", "127.0.0.1:3", "[::]:5"))
	tell("listen deep %s as deep", c.of("1-9", "4,6/udp"))
	tell("listen box %s as box", c.of("11-14", "10.1.0.10:12", "[::]:13", "0.0.0.0:13"))
	tell("listen edge %s as edge", c.of("7", "1-3"))
	tell("listen away %s as away", c.of("1-9/tcp+udp", "10.3.0.10:4", "[::]:5"))
	used := map[string]bool{}
	for range c.IntN(4) {
		name := c.of("one", "two", "both")
		outer := 1 + c.IntN(9)
		if key := fmt.Sprint(outer); !used[key] {
			used[key] = true
			tell("map box/%s %s%d%s to %d %s", name, c.of("", "", "", "10.1.0.10:", "127.0.0.1:"), outer, c.of("", "", "/udp"), 1+c.IntN(9), c.some(20, "no-relay"))
		}
	}
	for range c.IntN(4) {
		n := 1 + c.IntN(8)
		tell("forward edge %s%s to %s %s %s", c.of("", "", "203.0.113.1:"), c.of(fmt.Sprint(n), fmt.Sprintf("%d-%d", n, n+2), fmt.Sprintf("%d/udp", n)),
			c.of("10.1.0.10", "10.1.0.20", "10.2.0.10", "10.1.0.20:4", "10.9.0.2", "10.1.0.99"), c.some(30, "from "+c.anyone()), c.of("", "", "hairpin", "inside"))
	}
	if c.IntN(4) == 0 {
		tell("forward inner 4 to 10.2.0.10")
	}
	for _, ports := range []string{"5", "1-3", "4/udp"} {
		if c.IntN(3) == 0 {
			tell("forward other %s to 10.3.0.10 %s %s", ports, c.some(30, "from "+c.anyone()), c.of("", "", "hairpin"))
		}
	}
	if c.IntN(4) == 0 {
		tell("outbound %s as %s", c.of("edge from lan", "edge leaving link", "edge leaving far", "inner leaving far"), c.of("10.9.0.1", "unchanged", "10.2.0.1"))
	}
	for i := range 1 + c.IntN(4) {
		name := fmt.Sprintf("f%d", i)
		hook := c.of("arriving", "input", "through", "output", "departing")
		tell("filter %s on %s %s otherwise %s %s %s %s %s %s", name, c.of("edge", "inner", "box", "box", "plain", "deep", "other", "away", "box,deep", "edge,inner", "edge,other"), hook, c.of("pass", "drop", "refuse"),
			c.of("", "", "ipv4", "ipv6"), c.some(25, "drop-wins"), c.of("", "", "", "", "stateless", "strict"), c.some(20, "loopback-too"), c.some(30, "guards-containers"))
		for range c.IntN(5) {
			tell("rule %s %s %s %s %s %s", name, c.of("pass", "pass", "drop", "refuse"), c.ports(), c.some(50, "from "+c.anyone()), c.some(25, "to "+c.anyone()),
				c.of("", "", "", "entering lan", "leaving far", "entering a", "leaving internet", "entering internet"))
		}
	}
	return crossing + out.String()
}

var askers = []string{"internet", "lan", "far", "shore", "edge", "inner", "box", "plain", "deep", "other", "away", "box/one", "box/two", "box/both"}

var destinations = []string{
	"203.0.113.1", "2001:db8:a:1::1", "2001:db8:a:1::10", "2001:db8:a:1::99", "2001:db8:a:7::1", "10.1.0.1", "10.1.0.10", "10.1.0.20", "10.1.0.99",
	"10.9.0.1", "10.9.0.2", "10.2.0.1", "10.2.0.10", "10.2.0.20", "10.1.0.40", "172.20.0.1", "172.20.0.5", "172.21.0.6", "172.21.0.7", "172.21.0.1", "198.51.100.7", "203.0.113.9", "10.3.0.1", "10.3.0.10", "2001:db8:b:1::1", "2001:db8:b:1::10", "127.0.0.1", "::1",
}

// Strangers are addresses that nobody holds, inside and at the edges of what rules speak of.
var Strangers = map[string][]string{
	"internet": {"198.51.100.0", "198.51.100.127", "198.51.100.128", "192.0.2.1", "2001:db8:ffff::1"},
	"lan":      {"10.1.0.2", "10.1.0.31", "10.1.0.32", "10.1.0.254", "2001:db8:a:1::77", "2001:db8:a:1:8000::1"},
	"far":      {"10.2.0.77"},
	"shore":    {"10.3.0.77", "2001:db8:b:1::77"},
}

// Question is one packet that somebody on a crossing sends.
type Question struct {
	From   string     // a vantage
	Source netip.Addr // of a stranger there; not valid where a machine or container of the crossing asks
	To     netip.Addr
	Port   uint16
	UDP    bool
}

// Ask is a random question.
func Ask(r *rand.Rand) Question {
	c := chooser{r}
	for {
		q := Question{From: c.of(askers...), To: netip.MustParseAddr(c.of(destinations...)), Port: uint16(1 + c.IntN(14)), UDP: c.IntN(4) == 0}
		list := Strangers[q.From]
		if list == nil {
			return q
		}
		if q.Source = netip.MustParseAddr(c.of(list...)); q.Source.Is6() == q.To.Is6() && !q.To.IsLoopback() {
			return q
		}
	}
}

// Ring is some forwards by which the routers of a crossing lead to one another.
func Ring(r *rand.Rand) string {
	c := chooser{r}
	var out strings.Builder
	for range 1 + c.IntN(4) {
		fmt.Fprintf(&out, "forward %s %s to %s%s\n", c.of("edge", "inner", "other"), c.of("1-9", fmt.Sprint(1+c.IntN(9)), "3-5/tcp+udp"),
			c.of("10.9.0.1", "10.9.0.2", "10.1.0.1", "10.2.0.1", "203.0.113.1", "203.0.113.9", "10.3.0.1"), c.of("", "", " inside", " hairpin"))
	}
	return out.String()
}
