package findings

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// ringEstate is an estate of nothing but lines that lead to one another: forwards between routers on the internet and inside,
// outbound lines, redirects, hand-ons, guards, pools, tunnels, aliases and groups, any of which may close a ring.
func ringEstate(r *rand.Rand) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	const routers, names, groups = 4, 5, 6
	other := func(n, not int) int {
		if i := r.IntN(n); i != not || r.IntN(6) == 0 { // now and then to itself
			return i
		}
		return (not + 1) % n
	}
	line("network lan 10.0.0.0/24")
	line("network back 10.1.0.0/24")
	line("zone ring.example")
	for i := range routers {
		line("host r%d router", i)
		line("address r%d 203.0.113.%d internet", i, i+1)
		line("address r%d 10.0.0.%d lan", i, i+1)
		if r.IntN(2) == 0 {
			line("address r%d 10.1.0.%d back", i, i+1)
		}
	}
	for i := range routers {
		for range r.IntN(4) {
			network := []string{"203.0.113", "10.0.0", "10.1.0"}[r.IntN(3)]
			line("forward r%d %d,%d to %s.%d%s", i, 80+r.IntN(3), 443+r.IntN(3), network, other(routers, i)+1, []string{"", " hairpin", " inside"}[r.IntN(3)])
		}
		if r.IntN(3) == 0 {
			line("outbound r%d from lan as 203.0.113.%d", i, other(routers, i)+1)
		}
		if r.IntN(3) == 0 {
			line("route r%d default via 10.%d.0.%d", i, r.IntN(2), other(routers, i)+1)
		}
		line("listen r%d %d as s%d", i, []int{80, 443, 8080}[r.IntN(3)], i)
		if r.IntN(2) == 0 {
			line("tunnel t%d from r%d to n%d.ring.example:443", i, i, r.IntN(names))
		}
		line("pool p%d check 80 path /", i)
		line("member p%d n%d.ring.example:80", i, r.IntN(names))
		line("member p%d 10.0.0.%d:80", i, other(routers, i)+1)
		action := []string{
			fmt.Sprintf("to http://n%d.ring.example", other(names, i)), fmt.Sprintf("redirect http://n%d.ring.example/", other(names, i)),
			fmt.Sprintf("to pool p%d", other(routers, i)), "redirect https", fmt.Sprintf("to http://10.0.0.%d guard s%d", other(routers, i)+1, other(routers, i)),
		}[r.IntN(5)]
		line("site s%d *,n%d.ring.example %s", i, i, action)
	}
	for i := range names {
		switch r.IntN(3) {
		case 0:
			line("dns n%d.ring.example CNAME n%d.ring.example", i, other(names, i))
		case 1:
			line("dns n%d.ring.example ALIAS n%d.ring.example", i, other(names, i))
		default:
			line("dns n%d.ring.example A 203.0.113.%d", i, r.IntN(routers)+1)
		}
		line("intend n%d.ring.example 80,443 for g%d,internet", i, r.IntN(groups))
	}
	for i := range groups {
		line("group g%d g%d,g%d,%s", i, other(groups, i), other(groups, i), []string{"lan", "r1", "192.0.2.0/24"}[r.IntN(3)])
	}
	line("filter f on g%d,r0 through otherwise drop", r.IntN(groups))
	line("rule f pass 80,443 from g%d", r.IntN(groups))
	return b.String()
}

var judgedRings = flag.Int("judge.rings", 100, "how many estates of lines that lead to one another are looked over")

// TestRings looks over random estates whose lines lead to one another in rings of every kind: each ends (a namespace that
// overflows ends the test, and one that goes on for ever its time), and says something.
func TestRings(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	for i := range *judgedRings {
		text := ringEstate(r)
		if len(looked(t, reread(t, text)).Findings) == 0 {
			t.Errorf("estate %d: nothing is said of\n%s", i, text)
		}
	}
}

// TestGroupsInGroups: what a group stands for is worked out once, however many ways lead to it.
func TestGroupsInGroups(t *testing.T) {
	var b strings.Builder
	b.WriteString("network lan 10.0.0.0/24\nhost box\naddress box 10.0.0.2 lan\nlisten box 80 as w\nfilter f on box input otherwise drop\ngroup g0 lan\ngroup h0 lan\n")
	const depth = 200
	for i := 1; i <= depth; i++ {
		fmt.Fprintf(&b, "group g%d g%d,h%d\ngroup h%d g%d,h%d\n", i, i-1, i-1, i, i-1, i-1)
	}
	fmt.Fprintf(&b, "rule f pass 80 from g%d\nintend box 80 for lan\n", depth)
	for _, f := range looked(t, reread(t, b.String())).Findings {
		t.Errorf("%s %s: %s", f.Code, f.Subject, f.Why)
	}
}
