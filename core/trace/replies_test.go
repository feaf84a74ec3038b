package trace

import (
	"slices"
	"strings"
	"testing"

	"steady-compass/core/exposure"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
)

const answering = `network lan 10.0.0.0/24
host gate router
host box
host peer
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address box 10.0.0.2 lan
address peer 10.0.0.3 lan
forward gate 8443 to 10.0.0.2
listen box 8443 as web
`

// A reply must pass every stateless filter on its way, to any port that may have asked, and from what the filter sees.
func TestStatelessReplies(t *testing.T) {
	tests := []struct {
		name, filters, from, target string
		want                        []string // outcome and sources of each path
	}{
		{"it lets out to every port that asks", "filter f on box output otherwise drop stateless\nrule f pass 1024-65535", "internet", "203.0.113.1:8443", []string{"arrives"}},
		{"not to all of them", "filter f on box output otherwise drop stateless\nrule f pass 32768-60999", "internet", "203.0.113.1:8443", []string{"lost-reply"}},
		{"to those that a recorded machine asks from", "filter f on box output otherwise drop stateless\nrule f pass 32768-60999", "peer", "10.0.0.2:8443", []string{"arrives"}},
		{"to some of the sources", "filter f on box output otherwise drop stateless\nrule f pass 1024-65535 to 198.51.100.0/24", "internet", "203.0.113.1:8443", []string{"lost-reply except 198.51.100.0/24", "arrives only 198.51.100.0/24"}},
		{"on a router that it passes, seen from the machine", "filter f on gate through otherwise drop stateless\nrule f pass 8443 to box\nrule f pass 1024-65535 from box", "internet", "203.0.113.1:8443", []string{"arrives"}},
		{"the router's own address is not yet its source there", "filter f on gate through otherwise drop stateless\nrule f pass 8443 to box\nrule f pass 1024-65535 from gate", "internet", "203.0.113.1:8443", []string{"lost-reply"}},
		{"a filter with state knows the reply", "filter f on gate through otherwise drop\nrule f pass 8443 to box", "internet", "203.0.113.1:8443", []string{"arrives"}},
		{"at the machine that asked", "filter f on peer input otherwise drop stateless", "peer", "10.0.0.2:8443", []string{"lost-reply"}},
		{"in the other family it is not met", "filter f on box output otherwise drop ipv6 stateless", "internet", "203.0.113.1:8443", []string{"arrives"}},
		{"two filters, each not to some", "filter f on box output otherwise pass stateless\nrule f drop any to 198.51.100.0/24\nfilter g on gate through otherwise pass stateless\nrule g drop any to 192.0.2.0/24", "internet", "203.0.113.1:8443", []string{"arrives except 192.0.2.0/24,198.51.100.0/24", "lost-reply only 192.0.2.0/24,198.51.100.0/24"}},
		{"to some, and to nobody by the second", "filter f on box output otherwise pass stateless\nrule f drop any to 198.51.100.0/24\nfilter g on gate through otherwise drop stateless\nrule g pass 8443 to box", "internet", "203.0.113.1:8443", []string{"lost-reply"}},
		{"in the other direction it is not met", "filter f on box input otherwise pass stateless", "internet", "203.0.113.1:8443", []string{"arrives"}},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			tr := New(model.Compile(notationtest.Parse(t, answering+test.filters+"\n")), "2026-11-25")
			v, err := tr.VantageNamed(test.from)
			if err != nil {
				t.Fatal(err)
			}
			tg, err := tr.ParseTarget(test.target)
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			open := false
			for _, p := range tr.Trace(tg, v).Paths {
				text := string(p.Outcome)
				for word, list := range map[string][]string{" only ": p.Sources.Only, " except ": p.Sources.Except} {
					if len(list) > 0 {
						text += word + strings.Join(list, ",")
					}
				}
				got = append(got, text)
				open = open || p.Outcome == flow.Arrives
			}
			if !slices.Equal(got, test.want) {
				t.Errorf("got %q, want %q", got, test.want)
			}
			exposed := slices.ContainsFunc(tr.Exposure(v).Open, func(o exposure.Open) bool { return o.Place == "box" && o.Range.Contains(8443) })
			if exposed != open {
				t.Errorf("the trace arrives: %v; it stands open: %v", open, exposed)
			}
		})
	}
}

// TestOneSided: a reply that goes another way than it came arrives, past filters that keep state and do not track strictly.
func TestOneSided(t *testing.T) {
	const base = `network near 10.1.0.0/24
network far 10.2.0.0/24
host c
host r router
host s
address c 10.1.0.10 near
address r 10.1.0.1 near
address r 10.2.0.1 far
address s 10.1.0.20 near
address s 10.2.0.20 far
route s default via 10.2.0.1
listen s 80 as web
listen s 53/udp as names
`
	for _, c := range []struct{ lines, target, want, sided string }{
		{"filter f on r through otherwise drop\nrule f pass 80", "10.2.0.20:80", "arrives", "f"},
		{"filter f on r through otherwise drop strict\nrule f pass 80", "10.2.0.20:80", "lost-reply", ""},
		{"filter f on r through otherwise drop strict\nrule f pass 53/udp", "10.2.0.20:53/udp", "arrives", ""},
		{"filter f on r through otherwise drop\nrule f pass 53/udp", "10.2.0.20:53/udp", "arrives", ""},
		{"filter f on s input otherwise drop strict\nrule f pass 80", "10.2.0.20:80", "arrives", ""},
		// The reply meets a machine that did not see the flow begin.
		{"route c 10.2.0.0/24 via 10.1.0.20\nroute s 10.1.0.10/32 via 10.2.0.1\nfilter g on r through otherwise pass", "10.2.0.20:80", "arrives", ""},
	} {
		tr := New(model.Compile(notationtest.Parse(t, base+c.lines)), "2026-11-25")
		v, err := tr.VantageNamed("c")
		if err != nil {
			t.Fatal(err)
		}
		target, err := tr.ParseTarget(c.target)
		if err != nil {
			t.Fatal(err)
		}
		r := tr.Trace(target, v)
		sided := ""
		if f := r.Paths[0].OneSided(); f != nil {
			sided = f.Name
		}
		if string(r.Verdict) != c.want || sided != c.sided {
			t.Errorf("%s\n%s is %s, one-sided at %q; want %s, %q", c.lines, c.target, r.Verdict, sided, c.want, c.sided)
		}
	}
}
