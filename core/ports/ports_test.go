package ports

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"steady-compass/core/exposure"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
)

const records = `
network lan 10.0.0.0/24
network dock 172.20.0.0/24 on box
host gate router
host box
host peer
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address box 10.0.0.2 lan
address peer 10.0.0.3 lan
container box/front in dock
container box/db in dock
container box/shut in dock
map box/front 80,443 to 80,443
map box/db 127.0.0.1:5432 to 5432
map box/shut 7000 to 70
map box/db 7000 to 5432
listen box/front 80 as front
listen box/front 443 as front tls cert c
listen box/db 5432 as pg
listen box 22 as ssh
listen box 9000-9010 as wide
listen peer 127.0.0.1:6000 as inner
listen peer 8884 as feed
forward gate 8884/udp to 10.0.0.3
forward gate 443 to 10.0.0.2
forward gate 8883/udp to 10.0.0.2
forward gate 2222 to 10.0.0.2:22
filter edge on gate through otherwise drop
rule edge pass 443 from internet
rule edge pass any from lan
filter local on box input otherwise drop
rule local pass 22,25 from lan
site front a.example at 443 files
site front * at 80 redirect https
cert c for a.example expires 2027-01-01 on box/front
intend a.example 443 for internet
`

func chart(t testing.TB, text string, clashes ...Clash) *Chart {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	tr := trace.New(model.Compile(e), "2026-11-25")
	open := map[string][]exposure.Open{}
	for _, net := range tr.Model.Networks {
		v, err := tr.VantageNamed(net.Name)
		if err != nil {
			t.Fatal(err)
		}
		open[net.Name] = tr.Exposure(v).Open
	}
	return New(tr, open, clashes)
}

func TestMachines(t *testing.T) {
	c := chart(t, records, Clash{"box", "tcp", netset.OnePort(7000), "two want it"})
	var got []string
	for _, m := range c.Machines() {
		for _, p := range m.Ports {
			line := fmt.Sprintf("%s %d", m.Name, p.Port)
			if p.Last != p.Port {
				line += fmt.Sprintf("-%d", p.Last)
			}
			line += fmt.Sprintf("/%s %s", p.Transport, p.Reach)
			if p.Clash != "" {
				line += " clash"
			}
			if p.Undeclared {
				line += " undeclared"
			}
			got = append(got, line)
		}
	}
	want := `box 22/tcp inside
box 25/tcp nobody
box 80/tcp inside
box 443/tcp world
box 5432/tcp itself
box 7000/tcp nobody clash
box 8883/udp nobody
box 9000-9010/tcp itself
peer 6000/tcp itself
peer 8884/tcp inside
peer 8884/udp nobody`
	if all := strings.Join(got, "\n"); all != want {
		t.Errorf("got\n%s\nwant\n%s", all, want)
	}
}

// TestDepths reads each port from the outside in: what is met, where it stops, what would come behind.
func TestDepths(t *testing.T) {
	c := chart(t, records)
	var got []string
	for _, d := range append(c.Depths("box"), c.Depths("peer")...) {
		var layers []string
		for _, items := range d.Layers {
			var words []string
			for _, i := range items {
				text := i.Text
				if i.Stops {
					text = "!" + text
				}
				if i.Beyond {
					text = "(" + text + ")"
				}
				words = append(words, text)
			}
			layers = append(layers, strings.Join(words, ", "))
		}
		got = append(got, fmt.Sprintf("%d from %s: %s; %d to %d", d.Port.Port, d.From, strings.Join(layers, " | "), d.First, d.Ends))
	}
	want := `22 from internet: gate 2222 | !edge drops 22 |  | (ssh) | ; 0 to 1
25 from lan:  | local |  | !nothing on 25 | ; 1 to 3
80 from lan:  | past local | front 80 | front | * redirects; 1 to 4
443 from internet: gate 443 | edge, past local | front 443 | front | a.example; 0 to 4
5432 from lan:  | !local drops 5432 | (db 5432) | (pg) | ; 1 to 1
7000 from lan:  |  | (shut 70), (db 5432) | !nothing on 70 | ; 1 to 3
8883 from internet: gate 8883 | !edge drops 8883/udp |  |  | ; 0 to 1
9000 from lan:  | !local drops 9000 |  | (wide) | ; 1 to 1
6000 from lan:  |  |  | !on loopback only, (inner) | ; 1 to 3
8884 from internet: !gate 8884/udp |  |  | (feed) | ; 0 to 0
8884 from internet: gate 8884 | !edge drops 8884/udp |  |  | ; 0 to 1`
	if all := strings.Join(got, "\n"); all != want {
		t.Errorf("got\n%s\nwant\n%s", all, want)
	}
	if c.Depths("moon") != nil || c.Depths("box/front") != nil {
		t.Error("depths of what is no machine")
	}
}

func TestNextFree(t *testing.T) {
	c := chart(t, records)
	for _, x := range []struct {
		machine string
		proto   netset.Transport
		above   uint16
		want    uint16
	}{
		{"box", netset.TCP, 442, 444},
		{"box", netset.TCP, 8999, 9011},
		{"box", netset.UDP, 8882, 8884},
		{"box", netset.TCP, 8882, 8883},
		{"gate", netset.TCP, 442, 444},
		{"peer", netset.TCP, 5999, 6001},
		{"box", netset.TCP, 65535, 0},
		{"moon", netset.TCP, 1, 0},
	} {
		if got, ok := c.NextFree(x.machine, netip.Addr{}, x.proto, x.above); got != x.want || ok != (x.want != 0) {
			t.Errorf("%s %s above %d: %d, want %d", x.machine, x.proto, x.above, got, x.want)
		}
	}
}

// BenchmarkChart lays out five hundred ports of one machine.
func BenchmarkChart(b *testing.B) {
	var text strings.Builder
	text.WriteString("network lan 10.0.0.0/24\nhost box\nhost gate router\naddress box 10.0.0.2 lan\naddress gate 10.0.0.1 lan\naddress gate 203.0.113.1 internet\n")
	for i := range 500 {
		fmt.Fprintf(&text, "listen box %d as s%d\n", 1000+3*i, i)
	}
	c := chart(b, text.String())
	for b.Loop() {
		if n := len(c.Depths("box")); n != 500 {
			b.Fatal(n)
		}
	}
}
