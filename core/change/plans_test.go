package change

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/mend"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/trace"
	"steady-compass/demo"
)

func (l Lines) String() string { return textOf(l) }

// TestRetire are hand cases: what goes, and what stays for whom.
func TestRetire(t *testing.T) {
	const more = `
dns *.lab.fernmoor.example A 203.0.113.20
dns api.fernmoor.example A 203.0.113.20
dns deep.lab.fernmoor.example A 203.0.113.20
site front api.fernmoor.example at 443 to http://zenith:7000
site front *.lab.fernmoor.example at 443 to http://azimuth:3000
listen zenith 7000 as api
listen zenith 22 as ssh
cert both for *.lab.fernmoor.example,api.fernmoor.example expires 2027-05-01 on azimuth
intend api.fernmoor.example 443 for internet reaching zenith
intend zenith 22 for perimeter
intend *.lab.fernmoor.example 443 for internet
filter near on zenith input otherwise drop
rule near pass 22,7000 from azimuth
rule near drop 7000 from perimeter
rule near pass 22 from perimeter
forward meridian 203.0.113.20:2222,7000 to 10.20.8.11
`
	for _, c := range []struct{ of, goes, stays, none string }{
		{
			of: "api.fernmoor.example", goes: `
- dns api.fernmoor.example A 203.0.113.20
- site front api.fernmoor.example at 443 to http://zenith:7000
- cert both for *.lab.fernmoor.example,api.fernmoor.example expires 2027-05-01 on azimuth
- intend api.fernmoor.example 443 for internet reaching zenith
+ cert both for *.lab.fernmoor.example expires 2027-05-01 on azimuth`,
			stays: "forward meridian 203.0.113.20:80,443 to 10.20.8.10",
		},
		{of: "api", goes: `
- dns api.fernmoor.example A 203.0.113.20
- listen zenith 7000 as api`, stays: "rule edge pass 80,443 from internet"},
		{of: "zenith", goes: `
- host zenith
- address zenith 10.20.8.11 perimeter
- dns api.fernmoor.example A 203.0.113.20
- forward meridian 203.0.113.20:2222,7000 to 10.20.8.11
- filter near on zenith input otherwise drop`, stays: "rule edge pass 80,443 from internet"},
		{of: "deep.lab.fernmoor.example", none: "All that deep.lab.fernmoor.example goes by is needed by others."}, // the wildcard would answer for it
		{of: "zenit", none: "nearest: zenith"},
	} {
		e := notationtest.Parse(t, hill+more)
		first := looked(t, e)
		got, err := Retire(t.Context(), first, c.of)
		if err != nil {
			t.Fatal(err)
		}
		if c.none != "" {
			if got.None == nil || !strings.Contains(*got.None, c.none) {
				t.Errorf("%s: %v, want none: %s", c.of, got, c.none)
			}
			continue
		}
		if len(got.Plans) != 1 {
			t.Errorf("%s: %v", c.of, *got.None)
			continue
		}
		text := textOf(got.Plans[0].Lines)
		for line := range strings.SplitSeq(strings.TrimSpace(c.goes), "\n") {
			if !strings.Contains(text, line+"\n") {
				t.Errorf("%s: %s is missing from\n%s%v", c.of, line, text, got.Stays)
			}
		}
		if c.stays != "" && !slices.ContainsFunc(got.Stays, func(s Stay) bool { return s.Record == c.stays && len(s.For) > 0 }) {
			t.Errorf("%s: %s is not said to stay: %v", c.of, c.stays, got.Stays)
		}
		harmless(t, c.of, first, looked(t, changed(t, e, text)), got)
	}
}

// TestRetireARouter: what others go through stays, and its filter with all that it decides by.
func TestRetireARouter(t *testing.T) {
	e := notationtest.Parse(t, demo.Estate)
	got, err := Retire(t.Context(), looked(t, e), "meridian")
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range got.Plans {
		for _, line := range p.Remove {
			if strings.HasPrefix(line, "rule edge ") {
				t.Errorf("it takes out %s", line)
			}
		}
	}
	if !slices.ContainsFunc(got.Stays, func(s Stay) bool { return strings.HasPrefix(s.Record, "filter edge") }) {
		t.Errorf("the filter does not stay: %v %v", got.Plans, got.Stays)
	}
}

// harmless says that nothing of others stops, and nothing opens, by what is retired.
func harmless(t *testing.T, of string, before, after mend.State, got Proposals) {
	t.Helper()
	removed := strings.Join(got.Plans[0].Remove, "\n")
	for _, l := range findings.Lost(before.Checked.Walked(), after.Checked.Walked()) {
		name, _, _ := strings.Cut(l.Target, ":")
		if !strings.Contains(removed, name) {
			t.Errorf("%s: %s from %s ends %s without it", of, l.Target, l.From, l.Now)
		}
	}
}

// TestPublish are hand cases on the demo: the first plan, or why there is none.
func TestPublish(t *testing.T) {
	for _, c := range []struct {
		wish Wish
		want string // the lines of the first plan, or the reason
	}{
		{Wish{Name: "pics.fernmoor.example", Place: "zenith", Port: 9000, Audience: []string{"internet"}}, `
+ intend pics.fernmoor.example 80,443 for internet reaching zenith:9000
+ dns pics.fernmoor.example A 203.0.113.20
+ site front pics.fernmoor.example at 443 to http://zenith:9000`},
		{Wish{Name: "pics.fernmoor.example", Place: "images", Audience: []string{"internet"}}, `
+ intend pics.fernmoor.example 80,443 for internet reaching zenith:9000
+ dns pics.fernmoor.example A 203.0.113.20
+ site front pics.fernmoor.example at 443 to http://zenith:9000`},
		{Wish{Name: "pics.fernmoor.example", Place: "front", Audience: []string{"internet"}}, "at several places"},
		{Wish{Name: "g.fernmoor.example", Place: "azimuth/gauge", Audience: []string{"internet"}}, `
+ intend g.fernmoor.example 80,443 for internet reaching azimuth/gauge:9100
+ dns g.fernmoor.example A 203.0.113.20
+ site front g.fernmoor.example at 443 to http://10.40.8.10:9100
+ rule local at 3 pass 9100 from azimuth/front`},
		{Wish{Name: "g.fernmoor.example", Place: "azimuth/gauge", Audience: []string{"yard"}, Ports: "9100"}, `
+ intend g.fernmoor.example 9100 for yard reaching azimuth/gauge:9100
+ dns g.fernmoor.example A 10.40.8.10 for yard`},
		{Wish{Name: "m.fernmoor.example", Place: "azimuth/meters", Audience: []string{"yard", "instruments"}}, `
+ intend m.fernmoor.example 443 for yard,instruments reaching azimuth/meters:8086
+ dns m.fernmoor.example A 10.40.8.10 for yard,instruments
+ site front m.fernmoor.example at 443 to http://meters:8086 sources yard,instruments`},
		{Wish{Name: "x.lab.fernmoor.example", Place: "azimuth/lab", Audience: []string{"internet"}}, `
+ intend x.lab.fernmoor.example 80,443 for internet reaching azimuth/lab:8000
+ site front x.lab.fernmoor.example at 443 to http://lab:8000`},
		{Wish{Name: "stats.fernmoor.example", Ports: "443", Place: "azimuth/stars", Audience: []string{"internet"}, Guard: "sign"}, `
+ intend stats.fernmoor.example 443 for internet reaching azimuth/stars:7000 guarded
+ dns stats.fernmoor.example A 203.0.113.20
+ site front stats.fernmoor.example at 443 to http://stars:7000 guard sign`},
		{Wish{Name: "a.b.fernmoor.example", Place: "zenith", Port: 9000, Audience: []string{"internet"}, Ports: "443"}, `
+ intend a.b.fernmoor.example 443 for internet reaching zenith:9000
+ dns a.b.fernmoor.example A 203.0.113.20
+ cert a for a.b.fernmoor.example on azimuth/front by dns-01
+ site front a.b.fernmoor.example at 443 to http://zenith:9000 cert a`},
		{Wish{Name: "*.new.fernmoor.example", Ports: "443", Place: "azimuth/lab", Audience: []string{"internet"}}, `
+ intend *.new.fernmoor.example 443 for internet reaching azimuth/lab:8000
+ dns *.new.fernmoor.example A 203.0.113.20
+ cert new for *.new.fernmoor.example on azimuth/front by dns-01
+ site front *.new.fernmoor.example at 443 to http://lab:8000 cert new`},
		{Wish{Name: "n.fernmoor.example", Ports: "abc", Place: "zenith", Port: 9000, Audience: []string{"internet"}}, "no ports"},
		{Wish{Name: "q.fernmoor.example", Place: "zenith", Port: 9999, Audience: []string{"internet"}}, "Write down what listens on zenith:9999 first"},
		{Wish{Name: "n.fernmoor.example", Place: "zenith", Port: 9090, Audience: []string{"internet"}}, "on loopback alone"},
		{Wish{Name: "n.fernmoor.example", Place: "zenit", Port: 9090, Audience: []string{"internet"}}, "expected zenith"},
		{Wish{Name: "n.fernmoor.example", Place: "zenith", Port: 9000, Audience: []string{"yrad"}}, "yrad"},
		{Wish{Name: "n.fernmoor.example", Place: "zenith", Port: 9000}, "for whom"},
		{Wish{Name: "n", Place: "zenith", Port: 9000, Audience: []string{"internet"}}, "no host name"},
		{Wish{Name: "n.elsewhere.example", Place: "zenith", Port: 9000, Audience: []string{"internet"}}, "No zone"},
		{Wish{Name: "archive.fernmoor.example", Place: "azimuth/lab", Audience: []string{"internet"}}, "Move it, or retire it first"},
		{Wish{Name: "archive.fernmoor.example", Place: "zenith", Port: 9000, Audience: []string{"internet"}}, "leads to zenith:9000 already"},
		{Wish{Name: "n.fernmoor.example", Place: "orrery-a", Audience: []string{"internet"}}, "say which port"},
		{Wish{Name: "n.fernmoor.example", Place: "zenith", Port: 9000, Audience: []string{"internet"}, Guard: "nobody"}, "nobody"},
		{Wish{Name: "n.fernmoor.example", Place: "zenith", Port: 9000, Audience: []string{"internet"}, At: netip.MustParseAddr("203.0.113.99")}, "203.0.113.99"},
	} {
		e := notationtest.Parse(t, demo.Estate)
		first := looked(t, e)
		got, err := Publish(t.Context(), first, c.wish)
		if err != nil {
			t.Fatal(err)
		}
		if !strings.HasPrefix(c.want, "\n") {
			if got.None == nil || !strings.Contains(*got.None, c.want) {
				t.Errorf("%v: %v, want none: %s", c.wish, got, c.want)
			} else if len(got.Plans) > 0 {
				t.Errorf("%v: plans and none", c.wish)
			}
			continue
		}
		if got.None != nil {
			t.Errorf("%v: %s", c.wish, *got.None)
			continue
		}
		if s := textOf(got.Plans[0].Lines); s != strings.TrimPrefix(c.want, "\n")+"\n" {
			t.Errorf("%v:\n%swant\n%s", c.wish, s, c.want)
		}
		for i := range got.Plans {
			proven(t, c.wish, first, changed(t, e, textOf(got.Plans[i].Lines)))
		}
	}
}

// proven compiles a plan anew: the name gets to its place from whomever it is for, and nothing else stops.
func proven(t *testing.T, w Wish, before mend.State, e *estate.Estate) {
	t.Helper()
	after := looked(t, mend.Issued(e, before.Tracer.Model.Estate))
	for _, word := range w.Audience {
		v, err := after.Tracer.VantageNamed(word)
		if err != nil {
			t.Fatal(err)
		}
		r := after.Tracer.Trace(trace.Target{Text: w.Name, Name: w.Name}, v)
		if !r.Verdict.Good() || !slices.ContainsFunc(r.Paths, func(p trace.Path) bool {
			return p.Outcome == flow.Arrives && p.End != nil && (strings.HasPrefix(*p.End, w.Place+":") || p.Service != nil && *p.Service == w.Place)
		}) {
			t.Errorf("%s from %s ends %s", w.Name, word, r.Verdict)
		}
	}
	for _, l := range findings.Lost(before.Checked.Walked(), after.Checked.Walked()) {
		t.Errorf("%s: %s from %s ends %s by it", w.Name, l.Target, l.From, l.Now)
	}
}

// TestRetireAndPublish: what is retired is published again, and all is as it was; and the other way round.
func TestRetireAndPublish(t *testing.T) {
	e := notationtest.Parse(t, demo.Estate)
	first := looked(t, e)
	tried := 0
	for _, name := range []string{"archive.fernmoor.example", "sign.fernmoor.example", "meters.fernmoor.example", "fernmoor.example", "api.fernmoor.example", "*.lab.fernmoor.example"} {
		var intent *estate.Intent
		for _, i := range of[*estate.Intent](e) {
			if i.Target == name {
				intent = i
			}
		}
		gone, err := Retire(t.Context(), first, name)
		if err != nil {
			t.Fatal(err)
		}
		if gone.None != nil {
			t.Errorf("%s: %s", name, *gone.None)
			continue
		}
		without := changed(t, e, textOf(gone.Plans[0].Lines))
		harmless(t, name, first, looked(t, without), gone)
		if strings.HasPrefix(name, "*") || intent == nil || name == "fernmoor.example" || name == "api.fernmoor.example" { // a wildcard, an apex and what does not work are not published
			continue
		}
		tried++
		w := Wish{Name: name, Place: intent.Reaching.Host, Port: intent.Reaching.Port}
		for _, s := range intent.For {
			w.Audience = append(w.Audience, s.String())
		}
		if intent.Guarded || name == "meters.fernmoor.example" {
			w.Guard = "sign"
		}
		back, err := Publish(t.Context(), looked(t, without), w)
		if err != nil {
			t.Fatal(err)
		}
		if back.None != nil {
			if name != "archive.fernmoor.example" { // it does not work from the yard before either: nothing loops it back
				t.Errorf("%s is not published again: %s", name, *back.None)
			}
			continue
		}
		again := changed(t, without, textOf(back.Plans[0].Lines))
		proven(t, w, looked(t, without), again)
		for _, l := range findings.Lost(first.Checked.Walked(), looked(t, mend.Issued(again, e)).Checked.Walked()) {
			t.Errorf("%s: %s from %s ends %s when it is back", name, l.Target, l.From, l.Now)
		}
		last, err := Retire(t.Context(), looked(t, again), name)
		if err != nil {
			t.Fatal(err)
		}
		if last.None != nil {
			t.Errorf("%s is not retired again: %s", name, *last.None)
			continue
		}
		end := looked(t, changed(t, again, textOf(last.Plans[0].Lines)))
		start := looked(t, without)
		for _, l := range slices.Concat(findings.Lost(start.Checked.Walked(), end.Checked.Walked()), findings.Lost(end.Checked.Walked(), start.Checked.Walked())) {
			t.Errorf("%s: %s from %s ends %s after all", name, l.Target, l.From, l.Now)
		}
	}
	if tried < 3 {
		t.Errorf("only %d were published again", tried)
	}
}

// TestPublishWithoutAFront: a datagram service, one that is asked by both transports, and one for the inside alone on a network where others
// reach it anyhow.
func TestPublishWithoutAFront(t *testing.T) {
	e := notationtest.Parse(t, `network lan 10.1.0.0/24
network office 10.2.0.0/24
host gate router
host box
address gate 203.0.113.1 internet
address gate 10.1.0.1 lan
address gate 10.2.0.1 office
address box 10.1.0.10 lan
zone pier.example
listen box 51820/udp as tunnel
listen box 53/tcp+udp as resolver
listen box 8080 as app
filter edge on gate through otherwise drop
`)
	first := looked(t, e)
	for sentence, want := range map[string]string{
		"publish vpn.pier.example to box:51820 for internet":           "intend vpn.pier.example 51820/udp for internet reaching box:51820; dns vpn.pier.example A 203.0.113.1; forward gate 51820/udp to 10.1.0.10; rule edge at 1 pass 51820/udp from internet to box",
		"publish vpn.pier.example to tunnel for internet":              "intend vpn.pier.example 51820/udp for internet reaching box:51820; dns vpn.pier.example A 203.0.113.1; forward gate 51820/udp to 10.1.0.10; rule edge at 1 pass 51820/udp from internet to box",
		"publish ns.pier.example to box:53/udp for internet":           "intend ns.pier.example 53/udp for internet reaching box:53; dns ns.pier.example A 203.0.113.1; forward gate 53/udp to 10.1.0.10; rule edge at 1 pass 53/udp from internet to box",
		"publish ns.pier.example to box:53 for internet":               "intend ns.pier.example 53 for internet reaching box:53; dns ns.pier.example A 203.0.113.1; forward gate 53 to 10.1.0.10; rule edge at 1 pass 53 from internet to box",
		"publish ns.pier.example:53/tcp+udp to resolver for internet":  "intend ns.pier.example 53/tcp+udp for internet reaching box:53; dns ns.pier.example A 203.0.113.1; forward gate 53/tcp+udp to 10.1.0.10; rule edge at 1 pass 53/tcp+udp from internet to box",
		"publish app.pier.example to app for office":                   "intend app.pier.example 8080 for office reaching box:8080; dns app.pier.example A 10.1.0.10 for office; rule edge at 1 pass 8080 from office to box",
		"publish vpn.pier.example to box:51820/sctp for internet":      "",
		"publish vpn.pier.example:51820 to box:51820/udp for internet": "",
	} {
		got, err := Said(t.Context(), first, sentence)
		if want == "" {
			if err == nil && got.None == nil {
				t.Errorf("%s: %v", sentence, got.Plans[0].Add)
			}
			continue
		}
		if err != nil || got.None != nil {
			t.Errorf("%s: %v %v", sentence, err, got.None)
			continue
		}
		if lines := strings.Join(got.Plans[0].Add, "; "); lines != want || len(got.Plans[0].Remove) > 0 {
			t.Errorf("%s:\n got %s\nwant %s", sentence, lines, want)
		}
	}
}
