package trace

import (
	"fmt"
	"strings"
	"testing"

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
		tr := compiled(t, parsed(t, b.String()))
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
