package model

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
)

func compiled(t testing.TB, text string) *Model {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return Compile(e)
}

// taken are the (address, port) pairs that a bind takes, over a few addresses that stand for all.
func taken(b estate.Bind) map[string]bool {
	out := map[string]bool{}
	for _, a := range []string{"10.0.0.1", "10.0.0.2", "10.0.0.77", "127.0.0.1", "fd00::1", "fd00::77", "::1"} {
		addr := netip.MustParseAddr(a)
		if b.Addr.IsValid() && b.Addr != addr && (!b.Addr.IsUnspecified() || b.Addr.Is6() != addr.Is6()) {
			continue
		}
		for _, proto := range b.Transport.Each() {
			for _, r := range b.Ranges {
				for p := int(r.Lo); p <= int(r.Hi); p++ {
					out[fmt.Sprintf("%s %d/%s", a, p, proto)] = true
				}
			}
		}
	}
	return out
}

// Two lines clash where the plain sets of what they take meet, and nowhere else.
func TestClashesAgainstSets(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	word := func(list ...string) string { return list[r.IntN(len(list))] }
	met := 0
	for range 400 {
		var b strings.Builder
		b.WriteString("network dock 172.20.0.0/24 on box\nhost box\ncontainer box/c in dock\ncontainer box/d in dock\ncontainer box/s shares-host\n")
		at := func() string {
			lo := 100 + r.IntN(6)
			return word("", "", "0.0.0.0:", "[::]:", "10.0.0.1:", "10.0.0.2:", "[fd00::1]:", "127.0.0.1:") +
				word(fmt.Sprint(lo), fmt.Sprintf("%d-%d", lo, lo+r.IntN(3)), fmt.Sprintf("%d,%d", lo, lo+2)) + word("", "", "/udp", "/tcp+udp")
		}
		for range 2 + r.IntN(5) {
			fmt.Fprintf(&b, "listen %s %s as %s %s\n", word("box", "box/s"), at(), word("x", "y", "z"), word("", "", "shared"))
		}
		for range r.IntN(4) {
			fmt.Fprintf(&b, "map box/%s %s to 80\n", word("c", "d"), at())
		}
		m := compiled(t, b.String())
		var got, want []string
		for _, c := range m.Clashes() {
			got = append(got, estate.Line(c.First)+" | "+estate.Line(c.Second))
		}
		var records []estate.Record
		for _, kind := range []string{"listen", "map"} {
			records = append(records, m.Estate.Of(estate.KindNamed(kind))...)
		}
		bind := func(x estate.Record) estate.Bind {
			if l, ok := x.(*estate.Listen); ok {
				return l.Bind
			}
			return x.(*estate.Map).Bind
		}
		for i, a := range records {
			for _, b := range records[i+1:] {
				x, isListen := a.(*estate.Listen)
				if y, ok := b.(*estate.Listen); ok && isListen && (x.Service == y.Service && x.Place == y.Place || x.Shared && y.Shared) {
					continue
				}
				one, other := taken(bind(a)), taken(bind(b))
				for k := range one {
					if other[k] {
						want = append(want, estate.Line(a)+" | "+estate.Line(b))
						break
					}
				}
			}
		}
		met += len(want)
		slices.Sort(got)
		slices.Sort(want)
		if got = slices.Compact(got); !slices.Equal(got, slices.Compact(want)) {
			t.Fatalf("%s\nclashes\n%s\nsets that meet\n%s", b.String(), strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
	if met < 500 {
		t.Errorf("only %d clashes were tried", met)
	}
}

// A clash says which ports and transport, in the order of ports, and names the lines as they are written.
func TestClashWhere(t *testing.T) {
	m := compiled(t, "host box\nlisten box 8000-8010/tcp+udp as a\nlisten box 8005-8020 as b\nlisten box 7000 as c\nlisten box 10.0.0.1:7000 as d\n")
	var got []string
	for _, c := range m.Clashes() {
		got = append(got, fmt.Sprintf("%s/%s %s %s", c.Ports, c.Transport, c.First.(*estate.Listen).Service, c.Second.(*estate.Listen).Service))
	}
	if want := []string{"7000/tcp c d", "8005-8010/tcp a b"}; !slices.Equal(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
}

// BenchmarkClashes is the search among 100,000 listeners and maps: of one machine, over all ports and many addresses, and
// of a thousand machines.
func BenchmarkClashes(b *testing.B) {
	one := func(machines int) string {
		var text strings.Builder
		each := 100_000 / machines
		for h := range machines {
			fmt.Fprintf(&text, "host h%d\nnetwork n%d 172.20.0.0/24 on h%d\ncontainer h%d/c in n%d\n", h, h, h, h, h)
			for i := range each {
				port, addr := 1+i%60000, ""
				if i >= 60000 {
					addr = "10.0.0.1:"
				}
				if i%3 == 0 {
					fmt.Fprintf(&text, "map h%d/c %s%d/udp to 80\n", h, addr, port)
				} else {
					fmt.Fprintf(&text, "listen h%d %s%d as s%d\n", h, addr, port, i)
				}
			}
		}
		return text.String()
	}
	for _, machines := range []int{1, 1000} {
		m := compiled(b, one(machines))
		b.Run(fmt.Sprintf("machines=%d", machines), func(b *testing.B) {
			for b.Loop() {
				if n := len(m.Clashes()); machines == 1 && n == 0 {
					b.Fatal("no clash is found")
				}
			}
		})
	}
}

func TestTakenPorts(t *testing.T) {
	m := compiled(t, `host gate router
host box
address gate 203.0.113.1 internet
network lan 10.0.0.0/24
address gate 10.0.0.1 lan
address box 10.0.0.2 lan
network dock 172.20.0.0/24 on box
container box/c in dock
forward gate 8443 to 10.0.0.2:443
forward gate 9000-9001/udp to 10.0.0.2
listen box 22 as ssh
listen box 127.0.0.1:5432 as pg
map box/c 80,81 to 80
`)
	for _, c := range []struct {
		machine, on string
		proto       netset.Transport
		want        string
	}{
		{"box", "", netset.TCP, "22,80-81,443,5432"},
		{"box", "", netset.UDP, "9000-9001"},
		{"gate", "", netset.TCP, "8443"},
		{"box", "10.0.0.2", netset.TCP, "22,80-81,443"},
		{"box", "127.0.0.1", netset.TCP, "22,80-81,5432"},
		{"box", "0.0.0.0", netset.TCP, "22,80-81,443,5432"},
		{"box", "::1", netset.TCP, "22,80-81"},
		{"gate", "10.0.0.1", netset.TCP, "8443"},
	} {
		var on netip.Addr
		if c.on != "" {
			on = netip.MustParseAddr(c.on)
		}
		if got := m.TakenPorts(m.PlaceNamed(c.machine), on, c.proto).String(); got != c.want {
			t.Errorf("%s %s %s: %s taken, want %s", c.machine, c.on, c.proto, got, c.want)
		}
	}
}
