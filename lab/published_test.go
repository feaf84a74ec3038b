package lab

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"steady-compass/core/change"
	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/mend"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

// TestPublishedInTheKernel takes services out of sight, publishes them again, and lays the estate out as the plan leaves it: those who are meant
// come to the service, and nobody else gets anywhere that he did not.
func TestPublishedInTheKernel(t *testing.T) {
	needNamespaces(t, "nft", "ip")
	tried, meant, newly := 0, 0, 0
	for seed := uint64(1); seed <= 4; seed++ {
		r := rand.New(rand.NewPCG(seed, 23))
		e := parsedEstate(t, synth.Pier(r))
		intents := of[*estate.Intent](e)
		intent := intents[r.IntN(len(intents))]
		made := func(from *estate.Estate, how string, plans func(mend.State) (change.Proposals, error)) *estate.Estate {
			tr := trace.New(model.Compile(from), "2026-12-01")
			checked, err := findings.Check(t.Context(), tr, "2026-12-01")
			if err != nil {
				t.Fatal(err)
			}
			got, err := plans(mend.State{Tracer: tr, Checked: checked})
			if err != nil || got.None != nil {
				t.Fatalf("seed %d: %s %s: %v %v", seed, how, intent.Target, err, got.None)
			}
			text := ""
			for _, line := range got.Plans[0].Remove {
				text += "- " + line + "\n"
			}
			for _, line := range got.Plans[0].Add {
				text += "+ " + line + "\n"
			}
			c, faults := notation.ParseChange(text, from)
			if len(faults) > 0 {
				t.Fatal(faults)
			}
			next, err := from.Apply(c)
			if err != nil {
				t.Fatal(err)
			}
			return next
		}
		without := made(e, "retire", func(s mend.State) (change.Proposals, error) { return change.Retire(t.Context(), s, intent.Target) })
		audience := intent.For[0].String()
		after := made(without, "publish", func(s mend.State) (change.Proposals, error) {
			return change.Publish(t.Context(), s, change.Wish{Name: intent.Target, Ports: intent.Ports.List(), Place: intent.Reaching.Host, Port: intent.Reaching.Port, Audience: []string{audience}})
		})
		before, now := trace.New(model.Compile(without), "2026-12-01"), trace.New(model.Compile(after), "2026-12-01")
		v, err := now.VantageNamed(audience)
		if err != nil {
			t.Fatal(err)
		}
		entries := map[netip.AddrPort]bool{}
		for _, typ := range []string{"A", "AAAA"} {
			for _, a := range now.Answer(intent.Target, typ, v).Addresses {
				for _, r := range intent.Ports.Ranges {
					entries[netip.AddrPortFrom(a.Addr, r.Lo)] = true
				}
			}
		}
		if len(entries) == 0 {
			t.Fatalf("seed %d: %s answers nothing", seed, intent.Target)
		}
		to := []netip.AddrPort{}
		for entry := range entries {
			to = append(to, entry)
		}
		for _, a := range of[*estate.Address](after) {
			for _, l := range of[*estate.Listen](after) {
				if at := netip.AddrPortFrom(a.Held.Addr, l.Bind.Ranges[0].Lo); a.Held.Addr.IsValid() && !entries[at] {
					to = append(to, at)
				}
			}
		}
		l := layOut(t, after)
		for _, vantage := range []string{"internet", "lan", "far"} {
			var probes []*probe
			for _, at := range to {
				for _, word := range synth.Strangers[vantage] {
					if source := netip.MustParseAddr(word); source.Is6() == at.Addr().Is6() {
						probes = append(probes, &probe{source: source, to: at, proto: netset.TCP})
						break
					}
				}
			}
			if err := l.at(vantage).tryAll(probes); err != nil {
				t.Fatal(err)
			}
			for _, p := range probes {
				want, was := verdictOn(t, now, vantage, p, endOf), verdictOn(t, before, vantage, p, endOf)
				got := fmt.Sprintf("%s %s", p.got, p.name)
				arrived := p.got == "arrived"
				tried++
				switch {
				case want != "" && arrived != taken(want):
					t.Errorf("seed %d: from %s to %s the kernel: %s; the records: %s", seed, vantage, p.to, got, want)
				case entries[p.to] && vantage == audience:
					if meant++; !arrived {
						t.Errorf("seed %d: %s is for %s, and %s from there: %s", seed, intent.Target, audience, p.to, got)
					}
				case arrived && !taken(was):
					if newly++; audience != "internet" && vantage != audience {
						t.Errorf("seed %d: %s is for %s, and %s, who came to %s before as %q, gets to %s by it", seed, intent.Target, audience, vantage, p.to, was, got)
					}
				}
			}
		}
		l.close()
	}
	t.Logf("%d connections, %d of those who are meant, %d that get somewhere new", tried, meant, newly)
	if meant == 0 || tried < 100 {
		t.Error("nothing was judged")
	}
}

// taken says whether a socket takes a connection that ends so: who asks a front for no site of its own is taken, and not answered.
func taken(verdict string) bool {
	return strings.HasPrefix(verdict, "arrived") || verdict == string(flow.Unanswered)
}
