package uses

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
	"steady-compass/demo"
)

func indexed(t testing.TB, text string) *Index {
	t.Helper()
	return New(trace.New(model.Compile(parsed(t, text)), "2026-11-25"))
}

const machines = `network lan 10.0.0.0/24,fd00::/64
network dock 172.20.0.0/24 on box
host gate router
host box
host store
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address box 10.0.0.2 lan
address store 10.0.0.3 lan
address store fd00::3 lan
zone a.example
dns store.a.example A 10.0.0.3
container box/front in dock
container box/app in dock alias shop
container box/gauge shares-host
map box/front 80,443 to 80,443
map box/app 8080-8082 to 3000-3002
map box/app 9000,9001 to 3000
forward gate 80,443 to 10.0.0.2
forward gate 8443 to 10.0.0.3:443
forward gate 53/udp to 10.0.0.3
filter in on store input otherwise drop
rule in pass 22,443 from lan
rule in pass any from lan
filter edge on gate through otherwise drop
rule edge pass 443 from internet to store
rule edge pass 443 from internet to 10.0.0.3
rule edge pass 443 from internet
listen box/front 80,443 as front
listen box/app 3000-3002 as app
listen box/gauge 9100 as gauge
listen store 22,443 as web
listen store 53/tcp+udp as names
listen store 6000-6100 as media
site front a.example at 443 to http://shop:3000
site front b.example at 443 to http://box:8080
site front c.example at 80 to https://store.a.example
site front d.example to http://10.0.0.3:443/x
site front e.example at 443 to http://localhost:443
pool p check 443
member p store:443
member p [fd00::3]:443 spare
intend a.example 443 for internet reaching store:443
intend store 22,443 for lan
intend 10.0.0.3 443 for lan off
`

func TestPortUses(t *testing.T) {
	x := indexed(t, machines)
	tests := []struct {
		from, to string
		want     []string // the new lines; "stays LINE" for those that are not changed by themselves
	}{
		{"store:443", "8444", []string{
			"forward gate 8443 to 10.0.0.3:8444",
			"rule edge pass 8444 from internet to store", "rule edge pass 8444 from internet to 10.0.0.3", "rule in pass 22,8444 from lan",
			"listen store 22,8444 as web",
			"site front c.example at 80 to https://store.a.example:8444", "site front d.example to http://10.0.0.3:8444/x",
			"pool p check 8444", "member p store:8444", "member p [fd00::3]:8444 spare",
			"intend a.example 443 for internet reaching store:8444", "intend store 22,8444 for lan", "stays intend 10.0.0.3 443 for lan off",
		}},
		{"store:22", "443", []string{"rule in pass 443 from lan", "listen store 443 as web", "intend store 443 for lan"}},
		{"10.0.0.3:53/udp", "5353", []string{"forward gate 53/udp to 10.0.0.3:5353", "stays listen store 53/tcp+udp as names"}},
		{"store:6050", "7000", []string{"listen store 6000-6049,7000,6051-6100 as media"}},
		{"box:8081", "9999", []string{"map box/app 8080,9999,8082 to 3000-3002"}},
		{"box:9001", "9999", []string{"map box/app 9000,9999 to 3000"}},
		{"box:8080", "81", []string{"map box/app 81,8081-8082 to 3000-3002", "site front b.example at 443 to http://box:81"}},
		{"box:80", "81", []string{"forward gate 80,443 to 10.0.0.2:81,443", "map box/front 81,443 to 80,443"}},
		{"box/app:3000", "4000", []string{
			"map box/app 8080-8082 to 4000,3001-3002", "map box/app 9000,9001 to 4000", "listen box/app 4000,3001-3002 as app", "site front a.example at 443 to http://shop:4000",
		}},
		{"box/front:443", "8443", []string{
			"map box/front 80,443 to 80,8443", "listen box/front 80,8443 as front", "site front a.example at 8443 to http://shop:3000", "site front b.example at 8443 to http://box:8080",
			"site front e.example at 443 to http://localhost:8443",
		}},
		{"box:9100", "9200", []string{"listen box/gauge 9200 as gauge"}},
		{"gate:443", "444", []string{"forward gate 80,444 to 10.0.0.2:80,443"}},
		{"store:1", "2", nil},
	}
	for _, test := range tests {
		kind, _, ok := x.KindOf(test.from)
		if !ok || kind != Port {
			t.Errorf("%s is taken for a %s", test.from, kind)
			continue
		}
		var got []string
		for _, s := range x.Move(test.from, test.to) {
			if s.Keep {
				got = append(got, "stays "+estate.Line(s.Record))
			} else {
				got = append(got, s.New)
			}
		}
		slices.Sort(got)
		slices.Sort(test.want)
		if !slices.Equal(got, test.want) {
			t.Errorf("%s to %s gives\n%s\nwant\n%s", test.from, test.to, strings.Join(got, "\n"), strings.Join(test.want, "\n"))
		}
		if uses := x.Find(test.from); len(uses) != len(got) {
			t.Errorf("%s: %d uses, and %d lines to move", test.from, len(uses), len(got))
		}
	}
	for _, word := range []string{"store:0", "store:70000", "nobody:80", "store:x", "10.0.0.77:80"} {
		if kind, _, ok := x.KindOf(word); ok && kind == Port {
			t.Errorf("%q is taken for a port", word)
		}
	}
	if x.CanTake(Port, "store") || x.CanTake(Port, "0") || x.CanTake(Name, "store:443") || !x.CanTake(Port, " 81 ") {
		t.Error("what can stand in a port's place is a port number")
	}
}

// A listener's port, moved everywhere in the demo in one step, leaves every verdict as it was.
func TestPortMovesKeepVerdicts(t *testing.T) {
	e, faults := notation.Parse(demo.Estate)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	verdicts := func(e *estate.Estate) map[string]string {
		tr := trace.New(model.Compile(e), "2026-11-25")
		out := map[string]string{}
		for _, from := range []string{"internet", "yard", "azimuth/front"} {
			v, err := tr.VantageNamed(from)
			if err != nil {
				t.Fatal(err)
			}
			for _, n := range tr.Names() {
				for _, k := range portsOf(tr, n.Name, &v) {
					tg, err := tr.ParseTarget(n.Name)
					if err != nil {
						continue
					}
					out[fmt.Sprintf("%s %s:%d/%s", from, n.Name, k.Port, k.Transport)] = string(trace.VerdictOf(tr.TracePort(tg, k, v)))
				}
			}
		}
		return out
	}
	before := verdicts(e)
	x := New(trace.New(model.Compile(e), "2026-11-25"))
	moved := 0
	for _, r := range e.Of(estate.KindNamed("listen")) {
		l := r.(*estate.Listen)
		word := fmt.Sprintf("%s:%d", l.Place, l.Bind.Ranges[0].Lo)
		var c estate.Change
		for _, s := range x.Move(word, "61234") {
			if s.Keep && s.Wrong != "" {
				continue
			}
			placed, _, err := notation.ParseLine(s.New)
			if err != nil {
				t.Fatalf("%s: %s: %v", word, s.New, err)
			}
			c.Remove, c.Add = append(c.Remove, estate.Line(s.Record)), append(c.Add, placed)
		}
		next, err := e.Apply(c)
		if err != nil {
			t.Fatal(err)
		}
		moved++
		after := verdicts(next)
		for k, was := range before {
			if now, ok := after[k]; ok && now != was {
				t.Errorf("%s moved: %s was %s and is %s", word, k, was, now)
			}
		}
	}
	if moved < 20 || len(before) < 40 {
		t.Errorf("%d ports moved, %d verdicts held against each other", moved, len(before))
	}
}

func portsOf(tr *trace.Tracer, name string, v *flow.Vantage) []flow.PortKey {
	ports, _ := tr.PortsOf(name, v)
	return ports
}
