package trace

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/flow"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/say"
)

// TestForwardRings: forwards that lead to one another in a ring are followed to an end, from everywhere, however many there are.
func TestForwardRings(t *testing.T) {
	for _, c := range []struct{ routers, each int }{{1, 1}, {2, 1}, {2, 6}, {3, 4}, {9, 2}} {
		var b strings.Builder
		b.WriteString("network lan 10.0.0.0/24\n")
		for i := range c.routers {
			fmt.Fprintf(&b, "host r%d router\naddress r%d 10.0.0.%d lan\naddress r%d 203.0.113.%d internet\n", i, i, i+1, i, i+1)
		}
		for i := range c.routers {
			for n := range c.each {
				fmt.Fprintf(&b, "forward r%d %d to 10.0.0.%d:%d\n", i, 100+n, (i+1)%c.routers+1, 100+n)
			}
		}
		tr := compiled(t, notationtest.Parse(t, b.String()))
		for _, from := range []string{"internet", "lan", "r0"} {
			v, err := tr.VantageNamed(from)
			if err != nil {
				t.Fatal(err)
			}
			if open := tr.Exposure(v).Open; len(open) != 0 {
				t.Errorf("%d routers with %d forwards: from %s there is open %+v", c.routers, c.each, from, open)
			}
			for i := range c.routers {
				for _, p := range ask(t, tr, fmt.Sprintf("203.0.113.%d:100", i+1), from).Paths {
					if p.Outcome.Good() {
						t.Errorf("%d routers with %d forwards: from %s a flow arrives at %s", c.routers, c.each, from, say.OrEmpty(p.End))
					}
				}
			}
		}
		next := after(t, tr, "listen r0 100 as there")
		v, err := next.VantageNamed("lan")
		if err != nil {
			t.Fatal(err)
		}
		if c.routers > 1 && len(next.Exposure(v).Open) == 0 {
			t.Errorf("%d routers with %d forwards: what listens there now is not open", c.routers, c.each)
		}
	}
}

// TestPoolMeshes: fronts that hand to one another by a pool have as many ways through as orders of their machines. A trace follows so many
// and says that there are more; so do routers that forward to one another by a pool; and checks of pools within pools end.
func TestPoolMeshes(t *testing.T) {
	const lan = "network lan 10.0.0.0/24\nzone x.example\ndns x.example A 203.0.113.1\naddress m0 203.0.113.1 internet\n"
	each := func(n int, form string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, strings.ReplaceAll(form, "#", "%[1]d")+"\n", i)
		}
		return b.String()
	}
	fronts := lan + each(9, "host m#\naddress m# 10.0.0.1# lan\nlisten m# 80 as front\nmember p m#:80") + "site front * to pool p\n"
	routers := lan + each(9, "host m# router\naddress m# 10.0.0.1# lan\nforward m# 80 to pool p inside\nmember p 10.0.0.1#:80")
	layers := strings.ReplaceAll(lan, " m0 ", " top ") + "host top\naddress top 10.0.0.200 lan\nlisten top 80 as s0\n"
	for l := range 7 {
		layers += fmt.Sprintf("site s%d * to pool p%d\npool p%d in-turn check 80 path /\n", l, l, l)
		layers += strings.ReplaceAll(each(5, fmt.Sprintf("host h%d#\naddress h%d# 10.0.0.%d# lan\nlisten h%d# 80 as s%d\nmember p%d h%d#:80", l, l, 2+l, l, l+1, l, l)), "%!", "")
	}
	for name, c := range map[string]struct {
		text string
		more flow.Outcome // of some path: that more are not followed
	}{
		"fronts":            {fronts + "pool p in-turn", flow.Undecided},
		"fronts, checked":   {fronts + "pool p in-turn check 80 path /", flow.GatewayError},
		"routers":           {routers + "pool p in-turn", flow.Undecided},
		"routers, checked":  {routers + "pool p in-turn check 80", flow.Refused},
		"layers of checked": {layers, flow.Undecided},
	} {
		tr := compiled(t, notationtest.Parse(t, c.text))
		paths := ask(t, tr, "x.example:80", "internet").Paths
		if len(paths) == 0 || len(paths) > 2000 {
			t.Errorf("%s: %d paths", name, len(paths))
		}
		if !slices.ContainsFunc(paths, func(p Path) bool { return p.Outcome == c.more }) {
			t.Errorf("%s: none of %d paths ends %s", name, len(paths), c.more)
		}
		v, err := tr.VantageNamed("internet")
		if err != nil {
			t.Fatal(err)
		}
		if open := tr.Exposure(v).Open; len(open) > 100 {
			t.Errorf("%s: %d are open", name, len(open))
		}
	}
}
