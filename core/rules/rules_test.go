package rules

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
)

const around = `
network a 10.0.0.0/30
network b 10.0.1.0/30
network dock 172.20.0.0/30 on gate
host gate router
address gate 10.0.0.1 a
address gate 10.0.1.1 b
container gate/x in dock
container gate/y in dock=172.20.0.2
`

func reading(t testing.TB, text string) (*model.Model, Reading) {
	t.Helper()
	e, faults := notation.Parse(around + text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	m := model.Compile(e)
	p := m.PlaceNamed("gate")
	for _, list := range p.Filters {
		for _, f := range list {
			return m, Read(m, f, []*model.Place{p})
		}
	}
	t.Fatal("no filter")
	return nil, Reading{}
}

// packet is one flow of one packet, as a filter sees it.
type packet struct {
	from, to netip.Addr
	udp      bool
	port     uint16
	in, out  model.NetID
}

// grid is a packet for every combination that the lines of the test can tell apart.
func grid(m *model.Model) []packet {
	var addrs []netip.Addr
	for _, text := range strings.Fields("10.0.0.0 10.0.0.1 10.0.0.2 10.0.0.3 10.0.1.0 10.0.1.3 10.9.9.9 198.51.100.1 2001:db8::1") {
		addrs = append(addrs, netip.MustParseAddr(text))
	}
	var out []packet
	for _, from := range addrs {
		for _, to := range addrs {
			if from.Is6() != to.Is6() {
				continue
			}
			for port := uint16(1); port <= 5; port++ {
				for i := range 12 {
					out = append(out, packet{from, to, i&1 == 1, port, m.NetNamed([]string{"a", "b"}[i>>1&1]).ID, m.NetNamed([]string{"a", "b", "internet"}[i>>2]).ID})
				}
			}
		}
	}
	return out
}

func (p packet) matches(r *model.Rule) bool {
	proto := netset.TCP
	if p.udp {
		proto = netset.UDP
	}
	return !r.Dead && r.Record.Ports.Transport&proto != 0 && r.Ports.Contains(p.port) && (r.From.Any || r.From.Set.Contains(p.from)) && (r.To.Any || r.To.Set.Contains(p.to)) &&
		(r.Entering == model.NoNet || r.Entering == p.in) && (r.Leaving == model.NoNet || r.Leaving == p.out)
}

func (p packet) in1(f Flows) bool {
	proto := netset.TCP
	if p.udp {
		proto = netset.UDP
	}
	return f.Transport&proto != 0 && f.Ports.Contains(p.port) && f.From.Contains(p.from) && f.To.Contains(p.to) && f.Entering.Has(p.in) && f.Leaving.Has(p.out)
}

// decides is the first line that takes a packet, another than one; -1 where none does.
func decides(lines []Line, p packet, without int) int {
	return slices.IndexFunc(lines, func(l Line) bool { return (without < 0 || lines[without].Rule != l.Rule) && p.matches(l.Rule) })
}

func action(r Reading, i int) string {
	if i < 0 {
		return r.Filter.Record.Otherwise
	}
	return r.Lines[i].Rule.Record.Action
}

// TestAgainstPackets reads random filters, and holds what each line is said to take against what decides each packet.
func TestAgainstPackets(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	pick := func(words string) string { f := strings.Fields(words); return f[r.IntN(len(f))] }
	for range 300 {
		var b strings.Builder
		fmt.Fprintf(&b, "filter f on gate through otherwise %s%s\n", pick("pass drop"), []string{"", "", " drop-wins"}[r.IntN(3)])
		for range 2 + r.IntN(7) {
			fmt.Fprintf(&b, "rule f %s %s", pick("pass drop refuse"), pick("any 1 2-3 1,4 3/udp 2/tcp+udp any/udp"))
			if r.IntN(2) == 0 {
				b.WriteString(" from " + pick("a b 10.0.0.2/31 10.0.0.1 internet 10.0.0.0/8 10.0.0.1,b any"))
			}
			if r.IntN(2) == 0 {
				b.WriteString(" to " + pick("a b 10.0.1.0/31 10.0.0.3 internet 10.0.0.0/8"))
			}
			if r.IntN(5) == 0 {
				b.WriteString(" " + pick("leaving entering") + " " + pick("a b"))
			}
			b.WriteByte('\n')
		}
		m, read := reading(t, b.String())
		packets := grid(m)
		taken, changes := make([]bool, len(read.Lines)), make([]bool, len(read.Lines))
		for _, p := range packets {
			first := decides(read.Lines, p, -1)
			for i := range read.Lines {
				if says := slices.ContainsFunc(read.Lines[i].Takes, p.in1); says != (i == first) {
					t.Fatalf("%s\nline %d takes %+v: said %v", b.String(), read.Lines[i].Rule.Place, p, says)
				}
			}
			if first >= 0 {
				taken[first] = true
				changes[first] = changes[first] || action(read, first) != action(read, decides(read.Lines, p, first))
			}
		}
		for i, l := range read.Lines {
			if taken[i] && l.Shadowed() {
				t.Fatalf("%s\nline %d is said to be shadowed, and takes something", b.String(), l.Rule.Place)
			}
			if l.Idle && changes[i] {
				t.Fatalf("%s\nline %d is said to change nothing, and does", b.String(), l.Rule.Place)
			}
			if !l.Idle && !changes[i] && taken[i] && !slices.ContainsFunc(read.Lines[i+1:], func(later Line) bool { return later.Shadowed() }) {
				t.Fatalf("%s\nline %d changes nothing, and that is not said", b.String(), l.Rule.Place)
			}
		}
	}
}

// TestContainers reads lines that name containers without a written address: by name, by the whole of their network, and by
// a part of it, which cannot be told.
func TestContainers(t *testing.T) {
	for _, c := range []struct {
		lines string
		want  string // a word for each line: takes, shadowed, idle
	}{
		{"rule f pass any from dock\nrule f pass 80 from gate/x", "takes shadowed"},
		{"rule f pass any from 172.20.0.0/31\nrule f pass 80 from gate/x", "takes takes"},
		{"rule f pass any from gate/x\nrule f pass 80 from gate/y", "takes takes"},
		{"rule f pass any from gate/x,gate/y,172.20.0.0/30\nrule f drop 80 from dock", "takes shadowed"},
		{"rule f drop 80 from gate/x\nrule f pass any from a", "idle takes"},
		{"rule f pass 80 from gate/x\nrule f pass any from dock", "idle takes"},
		{"rule f pass 80 from gate/x\nrule f drop any from 172.20.0.0/31\nrule f pass any from dock", "takes takes takes"},
	} {
		_, read := reading(t, "filter f on gate departing otherwise drop\n"+c.lines)
		var got []string
		for _, l := range read.Lines {
			switch {
			case l.Shadowed():
				got = append(got, "shadowed")
			case l.Idle:
				got = append(got, "idle")
			default:
				got = append(got, "takes")
			}
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s\ngot %v, want %s", c.lines, got, c.want)
		}
	}
}

// BenchmarkRead reads one filter of many lines: most of them to one machine each, some to all.
func BenchmarkRead(b *testing.B) {
	for _, n := range []int{1_000, 10_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			r := rand.New(rand.NewPCG(1, 1))
			var text strings.Builder
			text.WriteString("filter f on gate through otherwise drop\n")
			for i := range n {
				if i%100 == 0 {
					fmt.Fprintf(&text, "rule f drop any from 198.51.%d.0/24\n", r.IntN(256))
					continue
				}
				fmt.Fprintf(&text, "rule f pass %d from internet to 10.%d.%d.%d\n", 1+r.IntN(60000), r.IntN(4), r.IntN(256), r.IntN(256))
			}
			e, faults := notation.Parse(around + text.String())
			if len(faults) > 0 {
				b.Fatal(faults)
			}
			m := model.Compile(e)
			p := m.PlaceNamed("gate")
			for b.Loop() {
				Read(m, p.Filters[model.Forwarding][0], []*model.Place{p})
			}
			if e.Count() < n {
				b.Fatal(estate.Kinds)
			}
		})
	}
}
