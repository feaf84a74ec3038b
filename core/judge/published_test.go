package judge

import (
	"flag"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/change"
	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/mend"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
	"steady-compass/demo"
)

var published = flag.Int("published", 40, "how many names are published, and held against the second reading")

func of[T estate.Record](e *estate.Estate) (out []T) {
	for _, r := range e.Of(estate.KindOf(*new(T))) {
		out = append(out, r.(T))
	}
	return out
}

// planned is an estate with the first of some plans made; nil where there is none.
func planned(t *testing.T, e *estate.Estate, plans func(mend.State) (change.Proposals, error)) *estate.Estate {
	t.Helper()
	tr := trace.New(model.Compile(e), "2026-12-01")
	checked, err := findings.Check(t.Context(), tr, "2026-12-01")
	if err != nil {
		t.Fatal(err)
	}
	got, err := plans(mend.State{Tracer: tr, Checked: checked})
	if err != nil {
		t.Fatal(err)
	}
	if got.None != nil {
		return nil
	}
	var lines []string
	for _, line := range got.Plans[0].Remove {
		lines = append(lines, "- "+line)
	}
	return notationtest.Edit(t, e, append(lines, got.Plans[0].Add...)...)
}

// TestPublishedPackets publishes names that were taken out of sight, and sends packets from everywhere to all that is recorded, before and after:
// none that came somewhere comes elsewhere, and none that came to no place comes to one now but from those who are meant.
func TestPublishedPackets(t *testing.T) {
	names, packets, newly := 0, 0, 0
	for seed := range *published {
		r := rand.New(rand.NewPCG(uint64(seed), 29))
		text := demo.Estate
		if seed%3 > 0 {
			text = synth.Pier(r)
		}
		e := notationtest.Parse(t, text)
		intents := slices.DeleteFunc(of[*estate.Intent](e), func(i *estate.Intent) bool {
			return i.Reaching.Port == 0 || !strings.HasSuffix(i.Target, ".example")
		})
		intent := intents[r.IntN(len(intents))]
		var audience []string
		for _, s := range intent.For {
			audience = append(audience, s.String())
		}
		before := planned(t, e, func(s mend.State) (change.Proposals, error) { return change.Retire(t.Context(), s, intent.Target) })
		if before == nil {
			continue
		}
		after := planned(t, before, func(s mend.State) (change.Proposals, error) {
			return change.Publish(t.Context(), s, change.Wish{Name: intent.Target, Ports: intent.Ports.List(), Place: intent.Reaching.Host, Port: intent.Reaching.Port, Audience: audience})
		})
		if after == nil {
			continue // it did not work before either
		}
		names++
		was, is := read(before), read(after)
		var to []netip.Addr
		for _, a := range of[*estate.Address](after) {
			if a.Held.Addr.Is4() && !a.Off {
				to = append(to, a.Held.Addr)
			}
		}
		sources := map[string]netip.Addr{"internet": netip.MustParseAddr("198.51.100.200")}
		for _, n := range of[*estate.Network](after) {
			for _, p := range n.Prefixes {
				if n.On == "" && p.Addr().Is4() {
					last := p.Masked().Addr().As4()
					last[3] = 250
					sources[n.Name] = netip.AddrFrom4(last)
				}
			}
		}
		for from, src := range sources {
			for _, dst := range to {
				for _, l := range of[*estate.Listen](after) {
					port, udp := l.Bind.Ranges[0].Lo, l.Bind.Transport == netset.UDP
					old, now := was.fate(from, src, dst, port, udp), is.fate(from, src, dst, port, udp)
					packets++
					arrives := strings.HasPrefix(now, "arrives")
					if old == now || !arrives && !strings.HasPrefix(old, "arrives") {
						continue
					}
					if newly++; strings.HasPrefix(old, "arrives") || !slices.Contains(audience, from) && !slices.Contains(audience, "internet") {
						t.Errorf("seed %d: %s for %v: from %s %s to %s:%d ended %s, and ends %s", seed, intent.Target, audience, from, src, dst, port, old, now)
					}
				}
			}
		}
	}
	t.Logf("%d names, %d packets, of which %d get somewhere new", names, packets, newly)
	if names < *published/2 || newly == 0 {
		t.Error("too few are judged")
	}
}
