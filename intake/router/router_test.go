package router

import (
	"slices"
	"strings"
	"testing"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/notation/notationtest"
	"steady-compass/intake"
)

const ridge = `
network ridge-lan 10.60.0.0/24
host gate router
host cam
address gate 9.9.9.61 internet
address gate 10.60.0.1 ridge-lan
address cam 10.60.0.20 ridge-lan
forward gate 443 to 10.60.0.20
forward gate 8000-8010 to 10.60.0.20:9000-9010 from 198.51.100.0/24
forward gate 25 to 10.60.0.20 off
`

// TestRead holds doors against the recorded forwards: what one of them does is as recorded, all else comes as a line, and nothing goes.
func TestRead(t *testing.T) {
	for _, c := range []struct {
		name string
		m    Mapping
		add  string // "": none
		left string
	}{
		{"as recorded", Mapping{External: 443, Protocol: "TCP", Client: "10.60.0.20", Internal: 443, Enabled: true}, "", "as recorded, by forward gate 443 to 10.60.0.20"},
		{"in other letters", Mapping{External: 443, Protocol: "tcp", Client: "10.60.0.20", Internal: 443, Enabled: true}, "", "as recorded"},
		{"over udp", Mapping{External: 443, Protocol: "UDP", Client: "10.60.0.20", Internal: 443, Enabled: true}, `forward gate 443/udp to 10.60.0.20 note "asked for by a program"`, "no line"},
		{"to another port", Mapping{External: 443, Protocol: "TCP", Client: "10.60.0.20", Internal: 8443, Enabled: true}, `forward gate 443 to 10.60.0.20:8443 note "asked for by a program"`, "no line"},
		{"by a program", Mapping{External: 51413, Protocol: "TCP", Client: "10.60.0.20", Internal: 51413, Enabled: true, Description: "plates \"x\"", Lease: time.Hour}, `forward gate 51413 to 10.60.0.20 note "asked for by a program: plates \"x\""`, "for 1 hour more"},
		{"of a range, for fewer", Mapping{External: 8003, Protocol: "TCP", Client: "10.60.0.20", Internal: 9003, Enabled: true}, `forward gate 8003 to 10.60.0.20:9003 note "asked for by a program"`, "no line"},
		{"for one", Mapping{Remote: "198.51.100.7", External: 22, Protocol: "TCP", Client: "10.60.0.20", Internal: 22, Enabled: true}, `forward gate 22 to 10.60.0.20 from 198.51.100.7/32 note "asked for by a program"`, "from 198.51.100.7"},
		{"a line that is off", Mapping{External: 25, Protocol: "TCP", Client: "10.60.0.20", Internal: 25, Enabled: true}, `forward gate 25 to 10.60.0.20 note "asked for by a program"`, "no line"},
		{"not in force", Mapping{External: 26, Protocol: "TCP", Client: "10.60.0.20", Internal: 26}, `forward gate 26 to 10.60.0.20 off note "asked for by a program"`, "not in force"},
		{"every port", Mapping{External: 0, Protocol: "TCP", Client: "10.60.0.20", Internal: 0, Enabled: true}, `forward gate any/tcp to 10.60.0.20 note "asked for by a program"`, "every port"},
		{"to a name", Mapping{External: 27, Protocol: "TCP", Client: "cam.lan", Internal: 27, Enabled: true}, "", "which is no address"},
		{"of no transport", Mapping{External: 27, Protocol: "SCTP", Client: "10.60.0.20", Internal: 27, Enabled: true}, "", "neither tcp nor udp"},
		{"words that act", Mapping{External: 28, Protocol: "TCP", Client: "10.60.0.20", Internal: 28, Enabled: true, Description: "a\x1b[31m\nrule b"}, `forward gate 28 to 10.60.0.20 note "asked for by a program: a\\u001b[31m\\u000arule b"`, "no line"},
	} {
		t.Run(c.name, func(t *testing.T) {
			e := notationtest.Parse(t, ridge)
			r := Read("x", "gate", Answer{External: []string{"9.9.9.61"}, Mappings: []Mapping{c.m}}, e)
			p := intake.Compare(e, r)
			var add []string
			for _, rec := range p.Add {
				add = append(add, estate.Line(rec))
			}
			if got := strings.Join(add, "\n"); got != c.add && !(c.name == "for one" && strings.HasPrefix(got, "forward gate 22 to 10.60.0.20 from 198.51.100.7")) || len(p.Gone)+len(p.Change)+len(r.Faults) > 0 {
				t.Errorf("adds %q, want %q; %v %v %v", got, c.add, p.Gone, p.Change, r.Faults)
			}
			if !slices.ContainsFunc(r.Left, func(text string) bool { return strings.Contains(text, c.left) }) {
				t.Errorf("says %q, want %q", r.Left, c.left)
			}
			if len(p.Add) > 0 {
				if again, err := e.Apply(p.Edit(false)); err != nil || len(intake.Compare(again, Read("x", "gate", Answer{Mappings: []Mapping{c.m}}, again)).Add) > 0 && c.m.Enabled {
					t.Errorf("a second reading adds it again (%v)", err)
				}
			}
		})
	}
}

// TestExternal holds the address outside against the recorded one.
func TestExternal(t *testing.T) {
	for _, c := range []struct{ address, estate, add, left string }{
		{"9.9.9.61", ridge, "", ""},
		{"9.9.9.62", ridge, "", "another is recorded"},
		{"100.64.3.4", ridge, "", "another router translates before it"},
		{"0.0.0.0", ridge, "", "not connected"},
		{"9.9.9.61", "host gate router\n", "address gate 9.9.9.61 internet", ""},
		{"9.9.9.61", "host gate router\naddress gate ? internet\n", "", "9.9.9.61 now"},
	} {
		e := notationtest.Parse(t, c.estate)
		r := Read("x", "gate", Answer{External: []string{c.address}}, e)
		add := ""
		for _, rec := range r.Records {
			add += estate.Line(rec)
		}
		if add != c.add || !strings.Contains(strings.Join(r.Left, "\n"), c.left) {
			t.Errorf("%s: %q %q, want %q %q", c.address, add, r.Left, c.add, c.left)
		}
	}
	for _, place := range []string{"nobody", "cam"} {
		if r := Read("x", place, Answer{}, notationtest.Parse(t, ridge)); len(r.Faults) != 1 {
			t.Errorf("%s is taken for a router", place)
		}
	}
}
