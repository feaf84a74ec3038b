package model_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
)

func compiled(t testing.TB, text string) *model.Model {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatalf("%v in\n%s", faults[0], text)
	}
	return model.Compile(e)
}

// TestRegions: what is worked out once for a part of the address space is so for each of its addresses. A model that has
// been asked of many addresses answers as one that is asked of one alone.
func TestRegions(t *testing.T) {
	asked := 0
	for seed := uint64(1); seed <= 25; seed++ {
		r := rand.New(rand.NewPCG(seed, 11))
		text := synth.Crossing(r)
		warm := compiled(t, text)
		var dsts []netip.Addr
		for range 12 {
			dsts = append(dsts, synth.Ask(r).To)
		}
		for _, p := range warm.Places {
			for _, attachment := range p.Attachments {
				dsts = append(dsts, attachment.Addrs...)
			}
		}
		for _, dst := range dsts { // fills what is remembered
			for _, p := range warm.Places {
				if !p.Owns(dst) {
					warm.NextHop(p, dst)
				}
			}
		}
		for range 30 {
			dst, p := dsts[r.IntN(len(dsts))], warm.Places[r.IntN(len(warm.Places))]
			if p.Owns(dst) || dst.IsLoopback() {
				continue
			}
			fresh := compiled(t, text)
			say := func(m *model.Model) string {
				h := m.NextHop(m.Places[p.ID], dst)
				n := m.FromNetwork(1, dst)
				return fmt.Sprint(h.Kind, h.Net, h.Place, h.Ties, n.Kind, n.Net, n.Place, n.Ties)
			}
			if got, want := say(warm), say(fresh); got != want {
				t.Fatalf("seed %d: from %s to %s: %s, and asked alone %s\n%s", seed, p.Name, dst, got, want, text)
			}
			asked++
		}
		for _, a := range dsts {
			in := false
			for _, n := range warm.Networks[1:] {
				in = in || n.Set.Contains(a)
			}
			if warm.InRecordedNetwork(a) != in || warm.Global(a) != netset.GloballyReachable().Contains(a) {
				t.Errorf("seed %d: %s is in a recorded network: %v, global: %v", seed, a, warm.InRecordedNetwork(a), warm.Global(a))
			}
		}
	}
	if asked < 300 {
		t.Errorf("only %d questions", asked)
	}
}

// TestRulesFor: the lines that an index finds for an address are all that may take what goes there, in their order.
func TestRulesFor(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	var text strings.Builder
	text.WriteString("network in 10.0.0.0/24\nhost gate router\naddress gate 10.0.0.1 in\nhost box\naddress box 10.0.0.9 in\nfilter f on gate through otherwise drop drop-wins\n")
	for range 200 {
		fmt.Fprintf(&text, "rule f %s %d", []string{"pass", "drop"}[r.IntN(2)], 1+r.IntN(60))
		switch r.IntN(4) {
		case 0:
			text.WriteString(" to 10.0.0.0/28")
		case 1:
			text.WriteString(" to box")
		case 2:
			fmt.Fprintf(&text, " to 10.0.0.%d", r.IntN(20))
		}
		text.WriteByte('\n')
	}
	m := compiled(t, text.String())
	f := m.PlaceNamed("gate").Filters[model.Forwarding][0]
	for last := range 20 {
		a := netip.AddrFrom4([4]byte{10, 0, 0, byte(last)})
		var found []*model.Rule
		for rule := range f.For(a) {
			found = append(found, rule)
		}
		at := 0
		for _, rule := range f.Rules {
			if at < len(found) && found[at] == rule {
				at++
				continue
			}
			if rule.To.Any || rule.To.Set.Contains(a) {
				t.Fatalf("line %d may take what goes to %s, and is not found", rule.Place, a)
			}
		}
		if at != len(found) {
			t.Errorf("for %s the lines stand in another order", a)
		}
	}
	for range f.For(netip.Addr{}) {
		return
	}
	t.Error("no line for a destination that is not known")
}
