package trace

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/exposure"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/say"
	"steady-compass/core/synth"
)

// TestOneOfMany holds what is said of one source among all of a network against what is said of it alone: also of what comes back.
func TestOneOfMany(t *testing.T) {
	asked, lost := 0, 0
	for seed := uint64(1); seed <= 1500; seed++ {
		r := rand.New(rand.NewPCG(seed, 13))
		text := synth.Crossing(r)
		pick := func(words ...string) string { return words[r.IntN(len(words))] }
		machine := pick("plain", "plain", "deep", "away", "box", "edge", "inner", "other")
		for i := range 2 + r.IntN(3) { // replies that are stopped on their way, for some
			text += fmt.Sprintf("\nfilter back%d on %s %s otherwise %s stateless\nrule back%d %s any/tcp+udp to %s\nrule back%d pass 1-14/tcp+udp",
				i, machine, pick("output", "departing", "through"), pick("pass", "pass", "drop"),
				i, pick("drop", "drop", "pass"), pick("198.51.100.0/25", "198.51.100.128/25", "192.0.2.0/24", "10.1.0.0/27", "lan", "far", "shore", "internet", "2001:db8:ffff::/48"), i)
		}
		tr := New(model.Compile(notationtest.Parse(t, text)), "2026-11-25")
		for range 25 {
			q := synth.Ask(r)
			if !q.Source.IsValid() {
				continue
			}
			if q.To, q.Port = netip.MustParseAddr(pick("10.1.0.20", "10.2.0.10", "203.0.113.1", "203.0.113.9")), uint16(1+r.IntN(9)); q.Source.Is6() {
				q.To = netip.MustParseAddr(pick("2001:db8:a:1::10", "2001:db8:b:1::10"))
			}
			key := flow.PortKey{Port: q.Port, Transport: netset.TCP}
			if q.UDP {
				key.Transport = netset.UDP
			}
			of := func(word string) string {
				v, err := tr.VantageNamed(word)
				if err != nil {
					t.Fatal(err)
				}
				for _, p := range tr.TracePort(Target{Text: q.To.String(), Addr: q.To}, key, v) {
					holds := func(list []string) bool {
						return slices.ContainsFunc(list, func(s string) bool { return netip.MustParsePrefix(s).Contains(q.Source) })
					}
					if (len(p.Sources.Only) == 0 || holds(p.Sources.Only)) && !holds(p.Sources.Except) {
						return string(p.Outcome) + " " + say.OrEmpty(p.End)
					}
				}
				return "no path"
			}
			all, alone := of(q.From), of(q.Source.String())
			asked++
			if strings.HasPrefix(alone, string(flow.LostReply)) {
				lost++
			}
			if all != alone {
				t.Fatalf("seed %d: from %s of %s to %s:%d udp %v: %s, and alone %s\n%s", seed, q.Source, q.From, q.To, q.Port, q.UDP, all, alone, text)
			}
		}
	}
	if lost < 100 {
		t.Errorf("of %d flows only %d do not come back", asked, lost)
	}
	t.Logf("%d flows, of which %d do not come back", asked, lost)
}

// TestExposureAgrees holds exposure, worked out for all ports and sources at once, against traces of one port: what
// arrives is open to that source, and nothing else is.
func TestExposureAgrees(t *testing.T) {
	asked, arrived := 0, 0
	for seed := uint64(1); seed <= 150; seed++ {
		r := rand.New(rand.NewPCG(seed, 77))
		text := synth.Crossing(r)
		if seed%4 == 0 {
			text += synth.Ring(r)
		}
		tr := New(model.Compile(notationtest.Parse(t, text)), "2026-11-25")
		open := map[string]exposure.Exposure{}
		for range 80 {
			q := synth.Ask(r)
			if !q.Source.IsValid() {
				continue
			}
			v, err := tr.VantageNamed(q.From)
			if err != nil {
				t.Fatal(err)
			}
			x, known := open[q.From]
			if !known {
				x = tr.Exposure(v)
				open[q.From] = x
			}
			key := flow.PortKey{Port: q.Port, Transport: netset.TCP}
			if q.UDP {
				key.Transport = netset.UDP
			}
			from := func(s flow.Sources) bool {
				holds := func(list []string) bool {
					return slices.ContainsFunc(list, func(s string) bool { return netip.MustParsePrefix(s).Contains(q.Source) })
				}
				return (len(s.Only) == 0 || holds(s.Only)) && !holds(s.Except)
			}
			want, by := "", ""
			for _, p := range tr.TracePort(Target{Text: q.To.String(), Addr: q.To, Port: q.Port, Proto: key.Transport}, key, v) {
				if from(p.Sources) && p.Service != nil && p.Outcome == flow.Arrives {
					want = *p.End
				}
				if from(p.Sources) {
					by = string(p.Outcome)
				}
			}
			got := ""
			for i := range x.Open {
				if e := &x.Open[i]; e.Address == q.To.String() && e.Transport == key.Transport.String() && e.Range.Contains(q.Port) && from(e.Sources) {
					got = fmt.Sprintf("%s:%d", e.Place, e.Lands(q.Port))
				}
			}
			asked++
			if want != "" {
				arrived++
			}
			if got != want && by != string(flow.Undecided) {
				t.Fatalf("seed %d: from %s %s to %s:%d udp %v: open at %q, and a trace arrives at %q (%s)\n%s", seed, q.From, q.Source, q.To, q.Port, q.UDP, got, want, by, text)
			}
		}
	}
	if arrived < asked/50 {
		t.Errorf("of %d questions only %d arrive: too few to tell", asked, arrived)
	}
	t.Logf("%d questions, %d arrive", asked, arrived)
}

// BenchmarkLongFilter follows names through one filter of many lines, most of them for one machine each.
func BenchmarkLongFilter(b *testing.B) {
	for _, n := range []int{100, 1_000, 10_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			var text strings.Builder
			text.WriteString("network in 10.0.0.0/8\nhost gate router\naddress gate 203.0.113.1 internet\naddress gate 10.255.255.254 in\nhost box\naddress box 10.0.0.1 in\nlisten box 22 as ssh\nforward gate 22 to 10.0.0.1\nfilter f on gate through otherwise drop\n")
			for i := range n {
				fmt.Fprintf(&text, "rule f pass %d from internet to 10.%d.%d.%d\n", 1+i%60000, i%4, i/4%256, 2+i/1024)
			}
			text.WriteString("rule f pass 22 from internet to box\n")
			e, faults := notation.Parse(text.String())
			if len(faults) > 0 {
				b.Fatal(faults)
			}
			tr := New(model.Compile(e), "2026-11-25")
			v, err := tr.VantageNamed("internet")
			if err != nil {
				b.Fatal(err)
			}
			for b.Loop() {
				a := netip.MustParseAddr("203.0.113.1")
				if p := tr.TracePort(Target{Text: "203.0.113.1", Addr: a}, flow.PortKey{Port: 22, Transport: netset.TCP}, v); len(p) != 1 || p[0].Outcome != flow.Arrives {
					b.Fatal(p)
				}
			}
		})
	}
}
