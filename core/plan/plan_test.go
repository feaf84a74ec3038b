package plan_test

import (
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/plan"
)

const base = `network lan 10.0.0.0/24
network dock 172.20.0.0/24 on box
host gate router
host box
host peer
address gate 203.0.113.1 internet
address gate 2001:db8:1::1 internet
address gate 10.0.0.1 lan
address box 10.0.0.2 lan
address peer 10.0.0.3 lan
container box/front in dock
container box/app in dock
map box/front 80 to 80
listen box 22 as ssh
listen gate 8080 as admin
forward gate 443 to 10.0.0.2
forward gate 2222 to 10.0.0.2:22 from 198.51.100.0/24
`

func parsed(t *testing.T, text string) *estate.Estate {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return e
}

// Each planned line, and what it would collide with: in the plan and with what is there.
func TestOf(t *testing.T) {
	tests := []struct {
		name, planned string
		collides      [][]string // of each line, a word of each sentence
	}{
		{"free ports", "forward gate 8443 to 10.0.0.3:443 off\nmap box/app 8081 to 80 off\nlisten peer 443 as web off", [][]string{{}, {}, {}}},
		{"a map on a mapped port", "map box/app 80 to 80 off", [][]string{{"mapped to front and to app"}}},
		{"a map on a listener's port", "map box/app 22 to 22 off", [][]string{{"ssh listens on it"}}},
		{"a map on another address", "map box/app 127.0.0.1:8081 to 80 off\nmap box/front 8081/udp to 80 off", [][]string{{}, {}}},
		{"two of the plan", "map box/app 8081 to 80 off\nlisten box 8081 as x off", [][]string{{"x listens on it"}, {"x listens on it"}}},
		{"a forward of a forwarded port", "forward gate 440-450 to 10.0.0.3 off", [][]string{{"gate 443/tcp is forwarded to 10.0.0.2 and to 10.0.0.3"}}},
		{"a forward from others", "forward gate 2222 to 10.0.0.3:22 from 192.0.2.0/24 off", [][]string{{}}},
		{"a forward from some of them", "forward gate 2222 to 10.0.0.3:22 from 198.51.100.7 off", [][]string{{"gate 2222/tcp"}}},
		{"a forward in the other transport", "forward gate 443/udp to 10.0.0.3 off", [][]string{{}}},
		{"a forward over the router's own listener", "forward gate 8080 to 10.0.0.3 off", [][]string{{"admin listens on 8080 of gate"}}},
		{"a line that is off and takes no port", "address peer 10.0.0.9 lan off", nil},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			lines := plan.Of(parsed(t, base+test.planned), nil)
			if len(lines) != len(test.collides) {
				t.Fatalf("%d planned lines: %v", len(lines), lines)
			}
			for i, l := range byText(lines, test.planned) {
				want := test.collides[i]
				if len(l.Collides) != len(want) {
					t.Errorf("%s collides with %q, want %q", estate.Line(l.Record), l.Collides, want)
					continue
				}
				for j, word := range want {
					if !strings.Contains(l.Collides[j], word) {
						t.Errorf("%s: %q does not say %q", estate.Line(l.Record), l.Collides[j], word)
					}
				}
			}
		})
	}
}

// byText puts planned lines in the order of a text.
func byText(lines []plan.Line, text string) []plan.Line {
	var out []plan.Line
	for _, t := range strings.Split(text, "\n") {
		for _, l := range lines {
			if estate.Line(l.Record) == t {
				out = append(out, l)
			}
		}
	}
	return out
}

func TestChosen(t *testing.T) {
	e := parsed(t, base+"map box/app 8081 to 80 off\nlisten box 8081 as x off\n")
	lines := plan.Of(e, func(r estate.Record) bool { _, isMap := r.(*estate.Map); return isMap })
	if len(lines) != 1 || len(lines[0].Collides) != 0 {
		t.Errorf("alone, the map would collide: %+v", lines)
	}
}

func TestSwitchOn(t *testing.T) {
	e := parsed(t, base+"map box/app 8081 to 80 off note \"app\"\nlisten box 8082 as x off\n")
	var chosen []estate.Record
	for _, l := range plan.Of(e, nil) {
		chosen = append(chosen, l.Record)
	}
	next, err := e.Apply(plan.SwitchOn(chosen))
	if err != nil {
		t.Fatal(err)
	}
	text := notation.Print(next)
	if strings.Contains(text, " off") || !strings.Contains(text, `map       box/app 8081 to 80 note "app"`) || len(plan.Of(next, nil)) > 0 {
		t.Errorf("switched on:\n%s", text)
	}
}

func TestWrite(t *testing.T) {
	m := model.Compile(parsed(t, base))
	tests := []struct {
		gateway, rows string
		want          []string
		faults        []string
	}{
		{"gate", "8443 10.0.0.3:443 the desk\n\n# later\n53/udp peer\n8000-8002 peer:9000-9002\n203.0.113.1:25 10.0.0.2", []string{
			`forward gate 8443 to 10.0.0.3:443 off note "the desk"`,
			"forward gate 53/udp to 10.0.0.3 off",
			"forward gate 8000-8002 to 10.0.0.3:9000-9002 off",
			"forward gate 203.0.113.1:25 to 10.0.0.2 off",
		}, nil},
		{"BOX", "8443 box/front:443\n127.0.0.1:8081 box/app:80\n53/udp box/app", []string{
			"map box/front 8443 to 443 off", "map box/app 127.0.0.1:8081 to 80 off", "map box/app 53/udp to 53 off",
		}, nil},
		{"gate", "8443\n8443 box/front:443\n8443 nobody:1\n70000 10.0.0.3\n1-3 10.0.0.3:1-2", nil, []string{
			"no inside", "inside box", "no address, machine or container", "70000", "cannot be translated",
		}},
		{"box", "8443 10.0.0.3:443\n8444 peer", nil, []string{"no router", "no router"}},
		{"box/front", "1 2", nil, []string{"no machine"}},
	}
	for _, test := range tests {
		got, faults := plan.Write(m, test.gateway, test.rows)
		var lines []string
		for _, r := range got {
			lines = append(lines, estate.Line(r))
		}
		if !slices.Equal(lines, test.want) || len(faults) != len(test.faults) {
			t.Errorf("%q: %q %v", test.rows, lines, faults)
			continue
		}
		for i, f := range faults {
			if !strings.Contains(f.What, test.faults[i]) || f.Expected == "" {
				t.Errorf("%q, row %d: %q, want %q", test.rows, f.Row, f.What, test.faults[i])
			}
		}
	}
}
