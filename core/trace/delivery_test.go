package trace

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"

	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
	"steady-compass/demo"
)

// TestSharedDeliveries holds what a tracer that many names were asked of says of each against what one says that is asked for that
// name alone: a flow that several share tells each by its own name.
func TestSharedDeliveries(t *testing.T) {
	shared, broken := 0, 0
	for seed := uint64(1); seed <= 24; seed++ {
		r := rand.New(rand.NewPCG(seed, 31))
		text := []string{demo.Estate, touching, synth.String(60, seed), synth.Crossing(r)}[seed%4]
		// Faults on the way, so that breaks are shared too.
		e := notationtest.Parse(t, text)
		for range 1 + seed%3*4 {
			c, _ := synth.Edit(r, e, nil)
			if next, err := e.Apply(c); err == nil {
				e = next
			}
		}
		m := model.Compile(e)
		tr := New(m, day)
		asks, flows := 0, map[string]bool{} // who asks for which address and port
		for _, n := range tr.Names() {
			for _, word := range append([]string{"internet"}, tr.VantagesOf(n.Name)...) {
				v, err := tr.VantageNamed(word)
				if err != nil {
					continue
				}
				ports, _ := tr.PortsOf(n.Name, &v)
				for _, port := range ports[:min(len(ports), 3)] {
					asks++
					tg := Target{Text: n.Name, Name: n.Name}
					got, want := tr.TracePort(tg, port, v), New(m, day).TracePort(tg, port, v)
					if !reflect.DeepEqual(got, want) {
						t.Fatalf("seed %d: %s:%d from %s\n%+v\nalone\n%+v", seed, n.Name, port.Port, word, got, want)
					}
					for i := range got {
						flows[fmt.Sprint(word, got[i].Address, got[i].Port, got[i].Transport)] = true
						for _, b := range got[i].Breaks {
							if b.Subject == "?" {
								t.Fatalf("seed %d: a break of %s does not say what it is about: %+v", seed, n.Name, b)
							}
							broken++
						}
					}
				}
			}
		}
		shared += max(0, asks-len(flows))
	}
	if broken < 100 || shared < 100 {
		t.Errorf("only %d breaks, and %d flows that several share", broken, shared)
	}
}
