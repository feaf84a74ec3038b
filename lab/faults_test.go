package lab

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/look"
	"steady-compass/core/look/looktest"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
	"steady-compass/fetch"
)

var laidFaults = flag.Int("judge.laid-faults", 2, "how many single faults are put into estates laid out in namespaces, to be found by looks")

// TestFaultsAreFound lays estates out with one thing in them that is not as recorded, and looks at them from their machines. Each look that the fault
// changes makes a finding, and no other look does; and the fault is among the suspects after the failing look and at most six chosen ones. Only
// faults count that a look from a vantage at hand sees.
func TestFaultsAreFound(t *testing.T) {
	needNamespaces(t, "nft", "ip")
	for _, c := range []struct {
		name         string
		faults       func(*estate.Estate, *rand.Rand) []looktest.Fault
		exact        bool // the records with the fault say what is seen; where a machine stands on no network that its address is of, they do not
		first, three int  // of 100
	}{
		{"of kinds that are hypotheses", looktest.Faults, true, 80, 95},
		{"of kinds that are none", looktest.Strange, false, 0, 70},
	} {
		t.Run(c.name, func(t *testing.T) {
			by := map[string]*tally{}
			all, unseen, looked := tally{}, 0, 0
			for seed := uint64(1); all.n < *laidFaults && seed < uint64(*laidFaults)*60 && !t.Failed(); seed++ {
				r := rand.New(rand.NewPCG(seed, 17))
				e := parsedEstate(t, departingDrops(synth.Crossing(r)))
				f, ok := looktest.Drawn(c.faults(e, r), r)
				if !ok || f.Kind == "address" && strings.Contains(f.Keys[0], "/") { // how a block comes to be routed to somebody is not laid out
					continue
				}
				faulty, err := e.Apply(f.Change)
				if err == nil {
					faulty, err = faulty.Apply(offLink(faulty))
				}
				if err != nil || unheardOf(e) || unheardOf(faulty) || departingDrops(notation.Print(faulty)) != notation.Print(faulty) {
					continue
				}
				x := &inquest{t: t, seed: seed, f: f, e: e, faulty: faulty, recorded: trace.New(model.Compile(e), "2026-12-01"), real: trace.New(model.Compile(faulty), "2026-12-01")}
				if !x.changes(r) { // told by the model, before anything is laid out
					unseen++
					continue
				}
				x.l, x.exact = layOutBroken(t, faulty), c.exact
				suspects, n := x.hold()
				x.l.close()
				if n == 0 {
					unseen++
					continue
				}
				looked += n
				place := f.PlaceAmong(suspects)
				if by[f.Kind] == nil {
					by[f.Kind] = &tally{}
				}
				all.add(place)
				by[f.Kind].add(place)
				if testing.Verbose() && (place < 0 || place > 2) {
					t.Logf("seed %d: %s %v at place %d", seed, f.Kind, f.Keys, place)
				}
			}
			for _, kind := range slices.Sorted(maps.Keys(by)) {
				t.Logf("%-16s %3d: first %3d, among three %3d", kind, by[kind].n, by[kind].first, by[kind].three)
			}
			n := max(1, all.n)
			t.Logf("%d faults that a look sees (%d that none does): first in %d of 100, among the first three in %d; %.1f looks", all.n, unseen, all.first*100/n, all.three*100/n, float64(looked)/float64(n))
			if all.n < *laidFaults {
				t.Errorf("only %d faults were seen", all.n)
			}
			// Of a few faults one that is missed is a large part.
			if all.n >= 20 && (all.first*100 < c.first*n || all.three*100 < c.three*n) {
				t.Errorf("expected %d and %d", c.first, c.three)
			}
		})
	}
}

// offLink takes out the routes by what a machine does not stand on a network with (any more): the kernel keeps none.
func offLink(e *estate.Estate) estate.Change {
	var c estate.Change
	for _, r := range of[*estate.Route](e) {
		onLink := func(p netip.Prefix) bool { return p.Masked().Contains(r.Via) && p.Addr() != r.Via }
		if !r.Off && r.Via.IsValid() && !slices.ContainsFunc(selfOf(e, r.Host).Prefixes, onLink) {
			c.Remove = append(c.Remove, estate.Line(r))
		}
	}
	return c
}

// tally is where faults stood among the suspects.
type tally struct{ n, first, three int }

func (c *tally) add(place int) {
	c.n++
	if place == 0 {
		c.first++
	}
	if place >= 0 && place < 3 {
		c.three++
	}
}

// inquest is a fault in an estate that is laid out.
type inquest struct {
	t              *testing.T
	seed           uint64
	f              looktest.Fault
	e, faulty      *estate.Estate
	recorded, real *trace.Tracer
	targets        []string
	l              *layout
	exact          bool
}

// vantages are the machines that can look: those that the fault leaves where they are.
func (x *inquest) vantages() []string {
	var out []string
	for _, h := range of[*estate.Host](x.e) {
		if !h.Outside && fmt.Sprint(selfOf(x.e, h.Name)) == fmt.Sprint(selfOf(x.faulty, h.Name)) {
			out = append(out, h.Name)
		}
	}
	return out
}

// changes draws what is looked at, and says whether by the model any of it is seen otherwise.
func (x *inquest) changes(r *rand.Rand) bool {
	for range 24 {
		q := synth.Ask(r)
		if !q.UDP {
			x.targets = append(x.targets, netip.AddrPortFrom(q.To, q.Port).String())
		}
	}
	for _, from := range x.vantages() {
		for _, target := range x.targets {
			for _, l := range looktest.Seen(x.real, target, from) {
				if look.Judge(x.recorded, &l); l.Agrees == look.Differs {
					return true
				}
			}
		}
	}
	return false
}

// hold looks at the estate as it is laid out, and asks for suspects; it gives how many looks they hang on, none where no look that may be made
// sees the fault.
func (x *inquest) hold() ([]look.Suspect, int) {
	var seen []look.Look
	target := ""
	for _, from := range x.vantages() {
		for _, l := range x.look(from, x.targets) {
			if l.Agrees == look.Differs && target == "" {
				target = l.Target
				seen = append(seen, l)
			}
		}
	}
	if target == "" {
		return nil, 0
	}
	for range 40 {
		got, err := look.Suspects(context.Background(), x.recorded, target, seen, x.vantages())
		if err != nil {
			x.t.Fatal(err)
		}
		told := len(slices.DeleteFunc(slices.Clone(seen), func(l look.Look) bool { return l.Came == look.NotLooked }))
		if got.Next == nil || told > 6 {
			return got.Suspects, told
		}
		more := x.look(got.Next.From, []string{got.Next.Target})
		if len(more) == 0 { // it may not be looked at from there, and is not chosen again
			more = []look.Look{{From: got.Next.From, Target: got.Next.Target, Did: look.Connect, Came: look.NotLooked}}
		}
		seen = append(seen, more...)
	}
	return nil, len(seen)
}

// look looks from a machine, and holds that each look which the fault changes differs from the records, and no other.
func (x *inquest) look(from string, targets []string) []look.Look {
	self := selfOf(x.e, from)
	plan, err := look.PlanOf(context.Background(), x.recorded, self, look.Question{From: from, Targets: targets})
	if err != nil {
		x.t.Fatal(err)
	}
	s := x.l.at(from)
	o := fetch.LookOptions{From: plan.From, Self: self, Certain: plan.Certain, Rate: 400, Within: 2 * time.Second, Dial: func(ctx context.Context, network, address string) (conn net.Conn, err error) {
		err = s.do(func() error {
			conn, err = (&net.Dialer{}).DialContext(ctx, network, address)
			return err
		})
		return conn, err
	}}
	var out []look.Look
	err = fetch.Looks(context.Background(), plan.Contacts, o, func(l look.Look) {
		if l.Came == look.NotLooked {
			return
		}
		look.Judge(x.recorded, &l)
		if may := x.foreseen(&l); x.exact && len(may) > 0 && !slices.Contains(may, l.Agrees) {
			x.t.Errorf("seed %d, %s %v: from %s %s at %s: came %s, %s; by the fault it is %v\n%s", x.seed, x.f.Kind, x.f.Keys, from, l.Target, l.Address, l.Came, l.Agrees, may, relevant(x.faulty))
		}
		out = append(out, l)
	})
	if err != nil {
		x.t.Fatal(err)
	}
	return out
}

// foreseen is how a look may stand to the records, by the model of the fault: what is unreachable is silent, or said to be.
func (x *inquest) foreseen(l *look.Look) []look.Agreement {
	var out []look.Agreement
	for _, f := range looktest.Seen(x.real, l.Target, l.From) {
		if f.Did != l.Did || f.Address != l.Address {
			continue
		}
		cames := []look.Came{f.Came}
		if f.Came == look.Silent || f.Came == look.NoRoute {
			cames = []look.Came{look.Silent, look.NoRoute}
		}
		for _, came := range cames {
			f.Came, f.Seconds = came, l.Seconds
			look.Judge(x.recorded, &f)
			out = append(out, f.Agrees)
		}
	}
	return out
}
