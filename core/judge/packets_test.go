package judge

import (
	"flag"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

var packets = flag.Int("packets", 4000, "how many random packets are held against the engine")

// TestPackets holds the engine against the obvious reading, packet by packet, over random estates.
func TestPackets(t *testing.T) {
	differ, sent := 0, 0
	told := map[string]int{}
	for seed := uint64(1); sent < *packets && differ < 5; seed++ {
		r := rand.New(rand.NewPCG(seed, 7))
		text := synth.Crossing(r)
		if seed%4 == 0 {
			text += synth.Ring(r)
		}
		e := notationtest.Parse(t, text)
		w, tr := read(e), trace.New(model.Compile(e), "2026-11-25")
		for range 60 {
			q := synth.Ask(r)
			from, src, dst, port, udp := q.From, q.Source, q.To, q.Port, q.UDP
			sent++
			want := w.fate(from, src, dst, port, udp)
			got := engineOn(t, tr, from, src, dst, port, udp)
			told[strings.Fields(want)[0]]++
			if got != want {
				differ++
				t.Errorf("seed %d: from %s %s to %s:%d udp %v\nengine  %s\nobvious %s\n%s", seed, from, src, dst, port, udp, got, want, text)
				break
			}
		}
	}
	t.Logf("%d packets: %v", sent, told)
}

// engineOn is the engine's word on one packet.
func engineOn(t *testing.T, tr *trace.Tracer, from string, src, dst netip.Addr, port uint16, udp bool) string {
	t.Helper()
	v, err := tr.VantageNamed(from)
	if err != nil {
		t.Fatal(err)
	}
	key := flow.PortKey{Port: port, Transport: netset.TCP}
	if udp {
		key.Transport = netset.UDP
	}
	for _, p := range tr.TracePort(trace.Target{Text: dst.String(), Addr: dst, Port: port, Proto: key.Transport}, key, v) {
		if src.IsValid() {
			holds := func(list []string) bool {
				return slices.ContainsFunc(list, func(s string) bool { return netip.MustParsePrefix(s).Contains(src) })
			}
			if len(p.Sources.Only) > 0 && !holds(p.Sources.Only) || holds(p.Sources.Except) {
				continue
			}
		}
		switch p.Outcome {
		case flow.Arrives, flow.LostReply:
			if p.End == nil {
				return "arrives nowhere"
			}
			return "arrives " + *p.End
		}
		return string(p.Outcome)
	}
	return "no path"
}
