package exposure

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
)

// What a change opens and closes is, point for point, what is in one exposure and not in the other: at random estates, in
// and at the edges of every range.
func TestOpenedPointForPoint(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	differ := 0
	for range 60 {
		var tr [2]*Engine
		for i := range tr {
			tr[i] = New(model.Compile(notationtest.Parse(t, synth.Crossing(r))), "2026-11-25")
		}
		for _, from := range []string{"internet", "lan", "plain"} {
			var x [2]Exposure
			var v [2]flow.Vantage
			for i := range tr {
				var err error
				if v[i], err = tr[i].VantageNamed(from); err != nil {
					t.Fatal(err)
				}
				x[i] = tr[i].Exposure(v[i])
			}
			opened := Opened(x[0].Open, x[1].Open, v[1])
			has := func(list []Open, address, transport string, port uint16, src netip.Addr) bool {
				return slices.ContainsFunc(list, func(o Open) bool {
					return o.Address == address && o.Transport == transport && o.Range.Contains(port) && (o.set.IsEmpty() || o.set.Contains(src))
				})
			}
			for _, list := range [][]Open{x[0].Open, x[1].Open} {
				for _, o := range list {
					sources := []netip.Addr{o.set.Lowest()}
					for _, p := range o.set.Prefixes() {
						sources = append(sources, p.Addr(), p.Masked().Addr().Prev())
					}
					for _, port := range []uint16{o.Range.Lo, o.Range.Hi, o.Range.Lo - 1, o.Range.Hi + 1} {
						for _, src := range sources {
							want := has(x[1].Open, o.Address, o.Transport, port, src) && !has(x[0].Open, o.Address, o.Transport, port, src)
							if want {
								differ++
							}
							if got := has(opened, o.Address, o.Transport, port, src); got != want {
								t.Fatalf("from %s %s at %s:%d/%s: opened %v, want %v", from, src, o.Address, port, o.Transport, got, want)
							}
						}
					}
				}
			}
			for _, o := range opened {
				if o.Ports != o.Range.String() || len(o.Sources.Only) > 0 && !o.set.Equal(netset.PrefixesOf(prefixesOf(o.Sources.Only)...).Intersect(o.set)) {
					t.Fatalf("%+v does not say what it is", o)
				}
			}
			if again := Opened(x[1].Open, x[1].Open, v[1]); len(again) > 0 {
				t.Fatalf("nothing changed, and %v is told to open", again)
			}
		}
	}
	if differ < 500 {
		t.Errorf("only %d points differed", differ)
	}
}

func prefixesOf(list []string) []netip.Prefix {
	var out []netip.Prefix
	for _, s := range list {
		out = append(out, netip.MustParsePrefix(s))
	}
	return out
}

// TestEvidence: what is open shows the lines that let in those who reach it, and none that lets in others only.
func TestEvidence(t *testing.T) {
	tr := compiled(t, notationtest.Parse(t, `
network yard 10.0.0.0/24
network perimeter 10.0.8.0/24
host gate router
host box
address gate 203.0.113.1 internet
address gate 10.0.0.1 yard
address gate 10.0.8.1 perimeter
address box 10.0.8.10 perimeter
listen box 443 as web
forward gate 443 to 10.0.8.10
filter edge on gate through otherwise drop
rule edge pass any from yard
rule edge pass 443 from 198.51.100.0/24
rule edge pass 443 from internet to box
`))
	for from, want := range map[string]string{
		"internet":     "forward gate 443 to 10.0.8.10; rule edge pass 443 from 198.51.100.0/24; rule edge pass 443 from internet to box; listen box 443 as web",
		"198.51.100.7": "forward gate 443 to 10.0.8.10; rule edge pass 443 from 198.51.100.0/24; listen box 443 as web",
		"yard":         "host gate router; rule edge pass any from yard; listen box 443 as web",
	} {
		v, err := tr.VantageNamed(from)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, e := range tr.Exposure(v).Open {
			got = append(got, strings.Join(e.Records, "; "))
		}
		if !slices.Equal(got, []string{want}) {
			t.Errorf("from %s\n%v\nwant\n%s", from, got, want)
		}
	}
}

// TestWideIntents: an intent for more ports than are tried one by one covers what lands on any of them, and no more.
func TestWideIntents(t *testing.T) {
	const text = `
network lan 10.0.0.0/24
network dmz 10.0.1.0/24
host gate router
host box
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address gate 10.0.1.1 dmz
address box 10.0.1.5 dmz
listen box 1000-1500 as desk
listen box 2000 as other
forward gate 1000-1500 to 10.0.1.5
forward gate 2000 to 10.0.1.5
`
	for _, c := range []struct{ intent, from, ports, want string }{
		{"intend 203.0.113.1 900-1400 for internet", "internet", "1000-1400", "declared"},
		{"intend 203.0.113.1 900-1400 for internet", "internet", "1401-1500", "none"},
		{"intend 203.0.113.1 900-1400 for internet", "internet", "2000", "none"},
		{"intend 10.0.1.5 any for lan", "lan", "1000-1500", "declared"},
		{"intend 10.0.1.5 any for lan", "lan", "2000", "declared"},
		{"intend 10.0.1.5 any for lan", "internet", "1000-1500", "none"},
		{"intend box 1100-1300 for lan", "lan", "1000-1099", "none"},
		{"intend box 1100-1300 for lan", "lan", "1100-1300", "declared"},
	} {
		tr := New(model.Compile(notationtest.Parse(t, text+c.intent)), "2026-11-25")
		v, err := tr.VantageNamed(c.from)
		if err != nil {
			t.Fatal(err)
		}
		found := false
		for _, e := range tr.Exposure(v).Open {
			if e.Ports == c.ports && e.Transport == "tcp" {
				found = true
				if string(e.Intent) != c.want {
					t.Errorf("%s: from %s port %s of %s is %s, want %s", c.intent, c.from, e.Ports, e.Address, e.Intent, c.want)
				}
			}
		}
		if !found {
			t.Errorf("%s: nothing open on just %s from %s", c.intent, c.ports, c.from)
		}
	}
}

func openOf(list []*OpenAt) []Open {
	var out []Open
	for _, at := range list {
		out = append(out, at.Open...)
	}
	return out
}

// TestBeyond holds the exposure that is looked at for what may be more than is meant against the whole of it.
func TestBeyond(t *testing.T) {
	entries := 0
	for seed := uint64(1); seed <= 120; seed++ {
		r := rand.New(rand.NewPCG(seed, 41))
		text := synth.Crossing(r)
		for range 5 {
			q := synth.Ask(r)
			text += fmt.Sprintf("\nintend %s %d for %s", q.To, q.Port, []string{"internet", "lan", "shore", "nobody"}[r.IntN(4)])
		}
		tr := New(model.Compile(notationtest.Parse(t, text)), "2026-11-25")
		ports := map[string][]uint16{"plain": {2, 3, 7}, "away": {4}, "box/one": {uint16(1 + r.IntN(9))}}
		fronted := tr.Fronted(func(p model.PlaceID) []uint16 { return ports[tr.Model.Places[p].Name] }, nil, nil)
		for _, net := range tr.Model.Networks {
			v, err := tr.VantageNamed(net.Name)
			if err != nil {
				t.Fatal(err)
			}
			key := func(e *Open) string {
				return fmt.Sprint(e.Address, e.Transport, e.Ports, e.Sources, e.Place, e.Port, e.Service, e.Intent, e.PastInput)
			}
			got, want := map[string]bool{}, map[string]bool{}
			for i, list := 0, openOf(tr.Beyond(v, fronted)); i < len(list); i++ {
				got[key(&list[i])] = true
			}
			for i, list := 0, openOf(tr.Parted(v, fronted)); i < len(list); i++ {
				e := &list[i]
				anyone := slices.ContainsFunc(e.Meant, func(i *estate.Intent) bool {
					return slices.ContainsFunc(i.For, func(s estate.Selector) bool { return s.Word == "internet" })
				})
				concerns := tr.Lands(e.Place) || e.Map != nil || slices.ContainsFunc(ports[e.Place], func(p uint16) bool {
					return p >= e.Lands(e.Range.Lo) && p <= e.Lands(e.Range.Hi)
				})
				if concerns && !anyone {
					want[key(e)] = true
					entries++
				}
			}
			for k := range want {
				if !got[k] {
					t.Fatalf("seed %d from %s: %s is left out\n%s", seed, net.Name, k, text)
				}
			}
			for k := range got {
				if !want[k] {
					t.Fatalf("seed %d from %s: %s is of nobody's concern\n%s", seed, net.Name, k, text)
				}
			}
		}
	}
	if entries < 500 {
		t.Errorf("only %d entries", entries)
	}
}
