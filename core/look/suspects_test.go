package look_test

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/look"
	"steady-compass/core/look/looktest"
	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

var judgedFaults = flag.Int("judge.faults", 16, "how many single faults are put into estates, to be found by looks")

// counted is where faults stood among the suspects.
type counted struct{ n, first, three int }

func (c *counted) add(place int) {
	c.n++
	if place == 0 {
		c.first++
	}
	if place >= 0 && place < 3 {
		c.three++
	}
}

// TestSuspectsFindTheFault puts one fault into random estates, lets a look see it and at most six chosen ones after it, and counts where the fault
// stands among the suspects; those that no look at hand parts count as one. So it does with every twentieth look falsely silent, and with faults
// of kinds that are no hypothesis.
func TestSuspectsFindTheFault(t *testing.T) {
	for _, c := range []struct {
		name         string
		faults       func(*estate.Estate, *rand.Rand) []looktest.Fault
		lie, second  bool
		first, three int // of 100
	}{
		{"of kinds that are hypotheses", looktest.Faults, false, false, 80, 95},
		{"with every twentieth look falsely silent", looktest.Faults, true, false, 0, 90},
		{"with a second difference elsewhere", looktest.Faults, false, true, 0, 90},
		{"of kinds that are none", looktest.Strange, false, false, 0, 70},
	} {
		t.Run(c.name, func(t *testing.T) {
			by, all := map[string]*counted{}, counted{}
			unseen, together, looked := 0, 0, 0
			for seed := uint64(1); all.n < *judgedFaults && seed < uint64(*judgedFaults)*60; seed++ {
				r := rand.New(rand.NewPCG(seed, 99))
				e := notationtest.Parse(t, synth.Crossing(r))
				f, ok := looktest.Drawn(c.faults(e, r), r)
				if !ok {
					continue
				}
				faulty, err := e.Apply(f.Change)
				if err != nil {
					continue
				}
				reality := faulty
				if c.second {
					other, ok := looktest.Drawn(c.faults(e, r), r)
					if reality, err = faulty.Apply(other.Change); !ok || err != nil || slices.ContainsFunc(other.Keys, func(key string) bool { return slices.Contains(f.Keys, key) }) {
						continue
					}
				}
				i := inquire(t, e, faulty, reality, r, c.lie)
				if i == nil {
					unseen++
					continue
				}
				place := f.PlaceAmong(i.got.Suspects)
				if place >= 0 {
					together += len(i.got.Suspects[place].About())
				}
				looked += i.looks
				if by[f.Kind] == nil {
					by[f.Kind] = &counted{}
				}
				all.add(place)
				by[f.Kind].add(place)
				if testing.Verbose() && (place < 0 || place > 2) {
					t.Logf("seed %d: %s %v at place %d of %s from %s: %s", seed, f.Kind, f.Keys, place, i.first, i.from, i.said())
				}
			}
			for _, kind := range slices.Sorted(maps.Keys(by)) {
				t.Logf("%-16s %3d: first %3d, among three %3d", kind, by[kind].n, by[kind].first, by[kind].three)
			}
			n := max(1, all.n)
			t.Logf("%d faults that a look sees (%d that none does): first in %d of 100, among the first three in %d; %.1f that no look parts, %.1f looks", all.n, unseen, all.first*100/n, all.three*100/n, float64(together)/float64(n), float64(looked)/float64(n))
			if all.first*100 < c.first*n || all.three*100 < c.three*n {
				t.Errorf("expected %d and %d", c.first, c.three)
			}
		})
	}
}

// inquired is what came of asking after a fault.
type inquired struct {
	got         look.Inquiry
	first, from string
	looks       int
}

func (i *inquired) said() string {
	var said []string
	for _, s := range i.got.Suspects[:min(len(i.got.Suspects), 4)] {
		said = append(said, fmt.Sprintf("%s %v (%d of %d)", s.Why, s.Records, s.Explains, s.Of))
	}
	return strings.Join(said, " | ")
}

// inquire looks at what is otherwise by a fault, and then at what is said to be looked at next, as it is in reality, which may be otherwise elsewhere
// too; nil where no look sees it.
func inquire(t *testing.T, e, faulty, reality *estate.Estate, r *rand.Rand, lie bool) *inquired {
	t.Helper()
	tr, fault, real := trace.New(model.Compile(e), "2026-12-01"), trace.New(model.Compile(faulty), "2026-12-01"), trace.New(model.Compile(reality), "2026-12-01")
	atHand := []string{"internet"}
	for _, n := range tr.Model.Networks {
		if n.Record != nil && !n.Container() && len(atHand) < 3 {
			atHand = append(atHand, n.Name)
		}
	}
	i := &inquired{}
	if i.first, i.from = failing(tr, fault, atHand); i.first == "" {
		return nil
	}
	looks := looktest.Seen(real, i.first, i.from)
	if !slices.ContainsFunc(looks, func(l look.Look) bool { look.Judge(tr, &l); return l.Agrees == look.Differs }) {
		return nil // the other difference covers it
	}
	for range 7 {
		var err error
		if i.got, err = look.Suspects(context.Background(), tr, i.first, looks, atHand); err != nil {
			t.Fatal(err)
		}
		if i.got.Next == nil {
			break
		}
		more := looktest.Seen(real, i.got.Next.Target, i.got.Next.From)
		for k := range more {
			if lie && more[k].Did == look.Connect && r.IntN(20) == 0 {
				more[k].Came = look.Silent
			}
		}
		looks = append(looks, more...)
	}
	i.looks = len(looks)
	return i
}

// failing is a target that is seen otherwise in reality than by the records, from the first vantage that sees it.
func failing(tr, real *trace.Tracer, atHand []string) (target, from string) {
	for _, from := range atHand {
		for _, n := range tr.Names() {
			if strings.HasPrefix(n.Name, "*") {
				continue
			}
			for _, l := range looktest.Seen(real, n.Name, from) {
				if look.Judge(tr, &l); l.Agrees == look.Differs && l.Did != look.Resolve {
					return n.Name, from
				}
			}
		}
		for _, p := range tr.Model.Places {
			for _, l := range looktest.Seen(real, p.Name, from) {
				if look.Judge(tr, &l); l.Agrees == look.Differs {
					return p.Name, from
				}
			}
		}
	}
	return "", ""
}

// TestSuspectSays holds what is said of a suspect: what speaks for it, and against it only what is as recorded.
func TestSuspectSays(t *testing.T) {
	tr := trace.New(model.Compile(notationtest.Parse(t, `
network lan 10.9.0.0/24
host gate router
host box
address gate 9.9.9.9 internet
address gate 10.9.0.1 lan
address box 10.9.0.5 lan
zone a.example
dns a.example A 9.9.9.9
forward gate 443,22,8100 to 10.9.0.5
listen box 443 as web tls
listen box 22 as ssh
listen box 8100 as open
`)), "2026-12-01")
	at := time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC)
	looks := []look.Look{
		{At: at, From: "internet", Target: "a.example:22", Did: look.Connect, Came: look.Refused, Address: "9.9.9.9"},
		{At: at, From: "internet", Target: "a.example:443", Did: look.Connect, Came: look.Arrived, Address: "9.9.9.9"},
		{At: at, From: "internet", Target: "a.example:8100", Did: look.Connect, Came: look.Silent, Address: "9.9.9.9"},
	}
	got, err := look.Suspects(context.Background(), tr, "a.example:22", looks, []string{"internet"})
	if err != nil {
		t.Fatal(err)
	}
	if len(got.Suspects) == 0 || got.Suspects[0].Why != "ssh does not run on box" || !slices.Equal(got.Suspects[0].For, []string{"a.example:22 from internet (connect)"}) || len(got.Suspects[0].Against) > 0 {
		t.Errorf("%+v", got.Suspects)
	}
	if got.Elsewhere == nil || got.Elsewhere.From != "lan" { // who is let in from inside tells a filter in front of the internet from a program that does not run
		t.Errorf("a look elsewhere: %+v", got.Elsewhere)
	}
	if everywhere, err := look.Suspects(context.Background(), tr, "a.example:22", looks, []string{"internet", "lan"}); err != nil || everywhere.Elsewhere != nil || everywhere.Next == nil || everywhere.Next.From != "lan" {
		t.Errorf("with both at hand: %+v %+v %v", everywhere.Next, everywhere.Elsewhere, err)
	}
	for _, s := range got.Suspects {
		if strings.Contains(s.Why, "every port") && !slices.Contains(s.Against, "a.example:443 from internet (connect)") {
			t.Errorf("nothing speaks against %s", s.Why)
		}
		if slices.Contains(s.Against, "a.example:8100 from internet (connect)") {
			t.Errorf("what the records do not explain speaks against %s", s.Why)
		}
	}
	if got, err := look.Suspects(context.Background(), tr, "a.example:443", looks, nil); err != nil || got.None == "" || len(got.Suspects) > 0 {
		t.Errorf("of what is as recorded: %+v %v", got, err)
	}
}

// TestProgramThatHangs: who takes a connection and never answers is told from who does not run, at first hand and behind a front.
func TestProgramThatHangs(t *testing.T) {
	tr := trace.New(model.Compile(notationtest.Parse(t, `
network lan 10.9.0.0/24
host gate router
host box
host back
address gate 9.9.9.9 internet
address gate 10.9.0.1 lan
address box 10.9.0.5 lan
address back 10.9.0.6 lan
zone a.example
dns a.example A 9.9.9.9
dns b.example A 9.9.9.9
forward gate 80,8100 to 10.9.0.5
listen box 80 as front
listen box 8100 as tool
listen back 3000 as app
listen back 3001 as other
site front a.example to http://back:3000
site front b.example to http://back:3001
site tool a.example files
`)), "2026-12-01")
	at := time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC)
	seen := func(target string, did look.Did, came look.Came, status int) look.Look {
		return look.Look{At: at, From: "internet", Target: target, Did: did, Came: came, Status: status, Address: "9.9.9.9"}
	}
	well := []look.Look{
		seen("b.example:80", look.Connect, look.Arrived, 0), seen("http://b.example/", look.HTTP, look.Arrived, 200), seen("a.example:80", look.Connect, look.Arrived, 0),
	}
	for _, c := range []struct {
		target, first string
		looks         []look.Look
	}{
		{"a.example:80", "app hangs on back: it takes connections, and answers nothing", append(slices.Clone(well), seen("http://a.example/", look.HTTP, look.Arrived, 504))},
		{"a.example:80", "app does not run on back", append(slices.Clone(well), seen("http://a.example/", look.HTTP, look.Arrived, 502))},
		{"a.example:8100", "tool hangs on box: it takes connections, and answers nothing", append(slices.Clone(well),
			seen("a.example:8100", look.Connect, look.Arrived, 0), seen("http://a.example:8100/", look.HTTP, look.Failed, 0))},
		{"a.example:80", "front hangs on box: it takes connections, and answers nothing", []look.Look{
			well[0], well[2], seen("http://a.example/", look.HTTP, look.Failed, 0), seen("http://b.example/", look.HTTP, look.Failed, 0),
		}},
	} {
		got, err := look.Suspects(t.Context(), tr, c.target, c.looks, []string{"internet"})
		if err != nil {
			t.Fatal(err)
		}
		if len(got.Suspects) == 0 || got.Suspects[0].Why != c.first || len(got.Suspects[0].Against) > 0 {
			t.Errorf("%s: expected %q, got %+v (%s)", c.target, c.first, got.Suspects, got.None)
		}
	}
}

// TestListensOnOneAddress: a program that is met at one address of its machine and refused at another listens on the one only.
func TestListensOnOneAddress(t *testing.T) {
	tr := trace.New(model.Compile(notationtest.Parse(t, `
network lan 10.9.0.0/24
network yard 10.8.0.0/24
host box
host desk
host shed
address box 10.9.0.5 lan
address box 10.8.0.5 yard
address desk 10.9.0.9 lan
address shed 10.8.0.9 yard
listen box 8080 as tool
`)), "2026-12-01")
	at := time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC)
	looks := []look.Look{
		{At: at, From: "desk", Target: "10.9.0.5:8080", Did: look.Connect, Came: look.Arrived, Address: "10.9.0.5"},
		{At: at, From: "shed", Target: "10.8.0.5:8080", Did: look.Connect, Came: look.Refused, Address: "10.8.0.5"},
	}
	got, err := look.Suspects(t.Context(), tr, "10.8.0.5:8080", looks, []string{"desk", "shed"})
	if err != nil {
		t.Fatal(err)
	}
	at10 := slices.IndexFunc(got.Suspects, func(s look.Suspect) bool { return s.Why == "tool listens on 10.9.0.5 only on box" })
	if at10 < 0 || at10 > 2 || len(got.Suspects[at10].Against) > 0 {
		t.Errorf("%+v (%s)", got.Suspects, got.None)
	}
}

// TestOtherWay: a machine whose route leads to another router than the recorded one, and one that holds another address, are told from those that
// have no route, and no address.
func TestOtherWay(t *testing.T) {
	tr := trace.New(model.Compile(notationtest.Parse(t, `
network lan 10.9.0.0/24
network yard 10.8.0.0/24
network mid 10.7.0.0/24
host near router
host far router
host desk
host shed
host post
address near 10.9.0.1 lan
address near 10.8.0.1 yard
address near 10.7.0.1 mid
address far 10.9.0.2 lan
address far 10.7.0.2 mid
address desk 10.9.0.9 lan
address shed 10.8.0.9 yard
address post 10.7.0.9 mid
route desk default via 10.9.0.1
route shed default via 10.8.0.1
route post 10.9.0.0/24 via 10.7.0.1
filter wall on far through otherwise drop
rule wall pass any to mid
listen shed 8080 as tool
listen post 8080 as tool
listen desk 22 as ssh
`)), "2026-12-01")
	at := time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC)
	seen := func(from, target string, came look.Came) look.Look {
		address, _, _ := strings.Cut(target, ":")
		return look.Look{At: at, From: from, Target: target, Did: look.Connect, Came: came, Address: address}
	}
	for _, c := range []struct {
		target, why string
		looks       []look.Look
	}{
		{"10.8.0.9:8080", "the default route of desk leads by 10.9.0.2", []look.Look{seen("desk", "10.8.0.9:8080", look.Silent), seen("desk", "10.7.0.9:8080", look.Arrived)}},
		{"10.9.0.9:22", "desk holds another address than 10.9.0.9", []look.Look{seen("shed", "10.9.0.9:22", look.Silent), seen("desk", "10.8.0.9:8080", look.Arrived)}},
	} {
		got, err := look.Suspects(t.Context(), tr, c.target, c.looks, []string{"desk", "shed"})
		if err != nil {
			t.Fatal(err)
		}
		said := ""
		for _, s := range got.Suspects {
			said += s.Why + "\n" + strings.Join(s.Same, "\n") + "\n"
		}
		if !strings.Contains(said, c.why) {
			t.Errorf("%q is not among\n%s%s", c.why, said, got.None)
		}
	}
}
