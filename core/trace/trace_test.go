package trace

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/say"
	"steady-compass/core/serve"
)

const day = "2026-11-25"

func compiled(t testing.TB, e *estate.Estate) *Tracer {
	t.Helper()
	return New(model.Compile(e), day)
}

func ask(t testing.TB, tr *Tracer, target, from string) Result {
	t.Helper()
	v, err := tr.VantageNamed(from)
	if err != nil {
		t.Fatal(err)
	}
	tg, err := tr.ParseTarget(target)
	if err != nil {
		t.Fatal(err)
	}
	return tr.Trace(tg, v)
}

// said is a result in a few words, a line a path: address, port, URL path, outcome, end, sources, breaks.
func said(r Result) []string {
	var out []string
	for _, p := range r.Paths {
		text := p.Address + ":" + say.PortWord(p.Port, flow.ProtoOf(p.Transport)) + strings.TrimSuffix(p.URLPath, "/") + " " + string(p.Outcome)
		if p.Inner != "" {
			text += "(" + string(p.Inner) + ")"
		}
		if p.End != nil {
			text += " " + *p.End
		}
		for _, c := range p.Sources.Only {
			text += " only " + c
		}
		for _, c := range p.Sources.Except {
			text += " except " + c
		}
		for _, b := range p.Breaks {
			text += " !" + b.Code
		}
		out = append(out, text)
	}
	return out
}

func example(t testing.TB) string {
	t.Helper()
	text, err := os.ReadFile("testdata/example.estate")
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// TestExample is what the notation's own description says that a trace of its example must say.
func TestExample(t *testing.T) {
	tr := compiled(t, notationtest.Parse(t, example(t)))
	r := ask(t, tr, "sky.fernmoor.example", "internet")
	want := []string{
		"203.0.113.20:443 gateway-error(refused) azimuth/front:443 !upstream.localhost",
		"203.0.113.20:80 silent !path.blocked !upstream.localhost !redirect.dead",
	}
	if got := said(r); !slices.Equal(got, want) || r.Verdict != flow.GatewayError || r.Holds() {
		t.Errorf("%s, %s", r.Verdict, strings.Join(got, "\n"))
	}
	mend := r.Paths[0].Breaks[0].Mend
	if !slices.Equal(mend.Add, []string{"site front sky.fernmoor.example at 443 to http://allsky:3000"}) {
		t.Errorf("mend %v", mend)
	}
	if mend := r.Paths[1].Breaks[0].Mend; !slices.Equal(mend.Add, []string{"rule edge at 3 pass 80 from internet to azimuth"}) {
		t.Errorf("mend %v", mend)
	}
	last := r.Paths[0].Steps[len(r.Paths[0].Steps)-1]
	if last.At != "azimuth/allsky" || !last.Ghost || last.Stage != flow.StageEnd {
		t.Errorf("past the break the path ends with %+v", last)
	}
	if got := said(ask(t, tr, "azimuth:8080", "perimeter")); !slices.Equal(got, []string{"10.40.8.10:8080 arrives azimuth/allsky:3000"}) {
		t.Errorf("past the filter, around the front: %v", got)
	}
	if got := said(ask(t, tr, "fernmoor.example:443", "internet")); !slices.Equal(got, []string{"203.0.113.20:443 untrusted azimuth/front:443 !cert.names !site.none"}) {
		t.Errorf("the apex: %v", got)
	}
	v, _ := tr.VantageNamed("perimeter")
	x := tr.Exposure(v)
	if !slices.ContainsFunc(x.Open, func(o exposure.Open) bool {
		return o.Place == "azimuth/allsky" && o.Ports == "8080" && o.Intent == exposure.None
	}) {
		t.Errorf("open from perimeter: %+v", x.Open)
	}
}

// TestMendedArrives applies every mend of a trace at once: then it arrives.
func TestMendedArrives(t *testing.T) {
	demo, err := os.ReadFile("../../demo/fernmoor.estate")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ estate, target, from string }{
		{example(t), "sky.fernmoor.example", "internet"},
		{string(demo), "sky.fernmoor.example", "internet"},
		{string(demo), "www.fernmoor.example", "internet"},
		{string(demo), "api.fernmoor.example", "internet"},
		{string(demo), "feed.fernmoor.example", "internet"},
		{string(demo), "mail.fernmoor.example", "internet"},
		{string(demo), "notes.fernmoor.example", "internet"},
		{string(demo), "visit.fernmoor.example", "internet"},
		{string(demo), "archive.fernmoor.example", "yard"},
		{string(demo), "203.0.113.20:2222", "office"},
		// A reply that two stateless filters stop, one after the other.
		{answering + "filter f on box output otherwise drop stateless\nfilter g on gate through otherwise drop stateless\nrule g pass 8443 to box\n", "203.0.113.1:8443", "internet"},
		// Drops that win, one behind the other, and nothing that passes.
		{answering + "filter f on box input otherwise refuse drop-wins\nrule f drop any/tcp+udp\nrule f drop 8000-9000 from internet\nrule f refuse 8443\n", "203.0.113.1:8443", "internet"},
	} {
		e := notationtest.Parse(t, c.estate)
		r := ask(t, compiled(t, e), c.target, c.from)
		if r.Holds() {
			t.Errorf("%s from %s has nothing to mend", c.target, c.from)
		}
		var breaks []flow.Break
		for _, p := range r.Paths {
			for _, b := range p.Breaks {
				if b.Code != "redirect.dead" {
					breaks = append(breaks, b)
				}
			}
		}
		m := serve.JoinMends(breaks)
		if m == nil {
			t.Errorf("%s: not every break has a mend: %v", c.target, said(r))
			continue
		}
		change := estate.Change{Remove: m.Remove}
		for _, line := range m.Add {
			p, _, err := notation.ParseLine(line)
			if err != nil {
				t.Fatal(err)
			}
			change.Add = append(change.Add, p)
		}
		next, err := e.Apply(change)
		if err != nil {
			t.Fatal(err)
		}
		if after := ask(t, compiled(t, next), c.target, c.from); !after.Holds() {
			t.Errorf("%s from %s, mended by %v, is\n%s", c.target, c.from, m, strings.Join(said(after), "\n"))
		}
	}
}

// box is a container host with a mapped port in two networks, and a filter that lets in nothing.
const box = `
network lan 10.0.0.0/24,2001:db8:1::/64
network a 172.20.0.0/24 on box
network b 172.21.0.0/24,2001:db8:2::/64 on box
host box
host peer
address box 10.0.0.2 lan
address box 2001:db8:1::2 lan
address peer 10.0.0.3 lan
container box/web in a
container box/side in a
container box/far in b
container box/both in b
container box/deaf in a
map box/web 8080 to 80
map box/both 9090 to 90
map box/deaf 7070 to 70
listen box/web 80 as web
listen box/both 90 as both
listen box 22 as ssh
listen box 127.0.0.1:6000 as inner
`

// two is two routers in a row, two sites and IPv6.
const two = `
network lan 10.1.0.0/24,2001:db8:a:1::/64
network link 10.9.0.0/30
network inner 10.2.0.0/24
host outer router
host mid router
host web
host db
address outer 203.0.113.1 internet
address outer 2001:db8:a::/48 internet
address outer 10.1.0.1 lan
address outer 10.9.0.1 link
address mid 10.9.0.2 link
address mid 10.2.0.1 inner
address web 10.1.0.10 lan
address web 2001:db8:a:1::10 lan
address db 10.2.0.10 inner
listen web 443 as web tls cert c
listen web 80 as plain
listen db 5432 as pg
cert c for a.example expires 2027-01-01 on web
zone a.example
dns a.example A 203.0.113.1
dns a.example AAAA 2001:db8:a:1::10
`

// TestFlows ties flows to what a Linux machine does with them.
func TestFlows(t *testing.T) {
	for _, c := range []struct {
		base, add, target, from string
		want                    string
	}{
		// How a mapped port is entered, row by row.
		{box, "", "10.0.0.2:8080", "peer", "10.0.0.2:8080 arrives box/web:80"},
		{box, "filter f on box input otherwise drop", "10.0.0.2:8080", "peer", "10.0.0.2:8080 arrives box/web:80"},
		{box, "filter f on box through otherwise drop", "10.0.0.2:8080", "peer", "10.0.0.2:8080 arrives box/web:80"},
		{box, "filter f on box through otherwise drop guards-containers", "10.0.0.2:8080", "peer", "10.0.0.2:8080 silent !path.blocked"},
		{box, "filter f on box through otherwise drop guards-containers\nrule f pass 80", "10.0.0.2:8080", "peer", "10.0.0.2:8080 arrives box/web:80"},
		{box, "filter f on box departing otherwise refuse\nrule f pass 8080", "10.0.0.2:8080", "peer", "10.0.0.2:8080 refused !path.blocked"},
		{box, "filter f on box arriving otherwise drop\nrule f pass 8080", "10.0.0.2:8080", "peer", "10.0.0.2:8080 arrives box/web:80"},
		{box, "", "[2001:db8:1::2]:8080", "lan", "2001:db8:1::2:8080 arrives box/web:80"},
		{box, "filter f on box input otherwise drop\nrule f pass 80", "[2001:db8:1::2]:8080", "lan", "2001:db8:1::2:8080 silent !path.blocked"},
		{box, "filter f on box input otherwise drop\nrule f pass 8080", "[2001:db8:1::2]:8080", "lan", "2001:db8:1::2:8080 arrives box/web:80"},
		{box, "filter f on box output otherwise drop\nrule f pass 8080", "[2001:db8:1::2]:8080", "lan", "2001:db8:1::2:8080 silent !path.blocked"},
		{box, "- map box/web 8080 to 80\nmap box/web 8080 to 80 no-relay", "[2001:db8:1::2]:8080", "lan", "2001:db8:1::2:8080 refused !path.no-listener"},
		{box, "", "10.0.0.2:8080", "box", "10.0.0.2:8080 arrives box/web:80"},
		{box, "filter f on box output otherwise drop\nrule f pass 8080", "10.0.0.2:8080", "box", "10.0.0.2:8080 silent !path.blocked"},
		{box, "filter f on box input otherwise drop", "127.0.0.1:8080", "box", "127.0.0.1:8080 arrives box/web:80"},
		{box, "- map box/web 8080 to 80\nmap box/web 127.0.0.1:8080 to 80", "127.0.0.1:8080", "box", "127.0.0.1:8080 arrives box/web:80"},
		{box, "- map box/web 8080 to 80\nmap box/web 127.0.0.1:8080 to 80", "10.0.0.2:8080", "peer", "10.0.0.2:8080 refused !path.loopback"},
		{box, "", "10.0.0.2:8080", "box/side", "10.0.0.2:8080 arrives box/web:80"},
		{box, "filter f on box input otherwise drop", "10.0.0.2:8080", "box/side", "10.0.0.2:8080 silent !path.blocked"},
		{box, "", "10.0.0.2:8080", "box/far", "10.0.0.2:8080 silent !path.no-route"},
		{box, "", "[2001:db8:1::2]:8080", "box/far", "2001:db8:1::2:8080 arrives box/web:80"},
		{box, "", "10.0.0.2:7070", "peer", "10.0.0.2:7070 refused !path.no-listener"},
		{box, "listen box/deaf 71 as late", "10.0.0.2:7070", "peer", "10.0.0.2:7070 refused !path.map-target"},
		{box, "", "box/web:80", "box/side", "box/web:80 arrives box/web:80"},
		{box, "", "box/web:80", "peer", "box/web:80 unroutable !path.no-route"},
		{box, "", "box/far:1", "box/side", "box/far:1 unroutable !path.no-route"},
		{box, "- container box/web in a\ncontainer box/web in a=172.20.0.9", "172.20.0.9:80", "peer", "172.20.0.9:80 unroutable !path.no-route"},
		{box, "- container box/web in a\ncontainer box/web in a=172.20.0.9", "172.20.0.9:80", "box", "172.20.0.9:80 arrives box/web:80"},
		{box, "- network a 172.20.0.0/24 on box\nnetwork a 172.20.0.0/24 on box routed\n- container box/web in a\ncontainer box/web in a=172.20.0.9", "172.20.0.9:80", "peer", "172.20.0.9:80 arrives box/web:80"},
		{box, "- network a 172.20.0.0/24 on box\nnetwork a 172.20.0.0/24 on box filtered\nfilter f on box through otherwise drop", "box/web:80", "box/side", "box/web:80 silent !path.blocked"},
		// A machine's own sockets.
		{box, "", "10.0.0.2:22", "peer", "10.0.0.2:22 arrives box:22"},
		{box, "", "10.0.0.2:23", "peer", "10.0.0.2:23 refused !path.no-listener"},
		{box, "", "10.0.0.2:6000", "peer", "10.0.0.2:6000 refused !path.loopback"},
		{box, "", "127.0.0.1:6000", "box", "127.0.0.1:6000 arrives box:6000"},
		{box, "filter f on box input otherwise drop", "10.0.0.2:22", "box", "10.0.0.2:22 arrives box:22"},
		{box, "filter f on box input otherwise drop loopback-too", "10.0.0.2:22", "box", "10.0.0.2:22 silent !path.blocked"},
		{box, "filter f on box input otherwise refuse\nrule f pass 22 from peer", "10.0.0.2:22", "lan", "10.0.0.2:22 refused !path.blocked"},
		{box, "filter f on box input otherwise drop\nrule f pass 22 from 10.0.0.128/25", "10.0.0.2:22", "lan", "10.0.0.2:22 silent except 10.0.0.128/25 !path.blocked; 10.0.0.2:22 arrives box:22 only 10.0.0.128/25"},
		{box, "filter f on box input otherwise drop ipv6", "10.0.0.2:22", "lan", "10.0.0.2:22 arrives box:22"},
		{box, "filter f on box input otherwise pass drop-wins\nrule f pass 22\nrule f drop 22 from lan", "10.0.0.2:22", "lan", "10.0.0.2:22 silent !path.blocked"},
		{box, "filter f on box input otherwise drop loopback-too\nrule f pass any from 127.0.0.1", "127.0.0.1:6000", "box", "127.0.0.1:6000 arrives box:6000"},
		{box, "filter f on box input otherwise drop loopback-too\nrule f pass 22 from 10.0.0.2", "10.0.0.2:22", "box", "10.0.0.2:22 arrives box:22"},
		{box, "filter f on box input otherwise drop loopback-too\nrule f pass 80", "127.0.0.1:8080", "box", "127.0.0.1:8080 silent !path.blocked"},
		{box, "filter f on box input otherwise drop loopback-too\nrule f pass 8080", "127.0.0.1:8080", "box", "127.0.0.1:8080 arrives box/web:80"},
		{box, "filter f on peer output otherwise refuse", "10.99.0.1:1", "peer", "10.99.0.1:1 unroutable !path.no-route"},
		{box, "filter f on peer output otherwise refuse", "10.0.0.77:1", "peer", "10.0.0.77:1 refused !path.blocked !path.no-route"},
		{box, "", "172.20.0.1:22", "box/side", "172.20.0.1:22 arrives box:22"},
		{box, "filter f on box input otherwise drop\nrule f pass 22 from a", "172.20.0.1:22", "box/side", "172.20.0.1:22 arrives box:22"},
		{box, "filter f on box input otherwise drop\nrule f pass 22 from 172.20.0.0/30", "172.20.0.1:22", "box/side", "172.20.0.1:22 undecided"},
		{box, "filter f on box input otherwise drop\nrule f pass 22 from box/side", "172.20.0.1:22", "box/side", "172.20.0.1:22 arrives box:22"},
		{box, "listen peer 22 as ssh\nfilter f on peer input otherwise drop\nrule f pass 22 from box", "10.0.0.3:22", "box/side", "10.0.0.3:22 arrives peer:22"},
		{box, "listen peer 22/udp as x", "10.0.0.3:22", "box", "10.0.0.3:22 refused !path.no-listener"},
		{box, "", "10.0.0.77:1", "peer", "10.0.0.77:1 unroutable !path.no-route"},
		{box, "- host peer\nhost peer unlisted", "10.0.0.3:99", "box", "10.0.0.3:99 undecided"},
		{box, "listen box 5000 as one\nlisten box 10.0.0.2:5000 as two", "10.0.0.2:5000", "peer", "10.0.0.2:5000 undecided !conflict.socket"},
		{box, "listen box 5000 as one shared\nlisten box 5000 as two shared", "10.0.0.2:5000", "peer", "10.0.0.2:5000 arrives box:5000"},

		// Routers in a row.
		{two, "", "10.2.0.10:5432", "web", "10.2.0.10:5432 arrives db:5432"},
		{two, "- host mid router\nhost mid", "10.2.0.10:5432", "web", "10.2.0.10:5432 unroutable !path.no-route"},
		{two, "- host mid router\nhost mid\nroute outer 10.2.0.0/24 via 10.9.0.2", "10.2.0.10:5432", "web", "10.2.0.10:5432 silent !path.no-route"},
		{two, "route outer 10.2.0.0/24 via 10.9.0.2\nroute mid default via 10.9.0.1", "10.2.0.10:5432", "web", "10.2.0.10:5432 arrives db:5432"},
		{two, "route outer 10.2.0.0/24 via 10.9.0.2\nroute mid default via 10.9.0.1\nfilter f on mid through otherwise drop\nrule f pass 5432 from lan to db", "10.2.0.10:5432", "web", "10.2.0.10:5432 arrives db:5432"},
		{two, "forward outer 5432 to 10.9.0.2\nforward mid 5432 to 10.2.0.10\nroute mid default via 10.9.0.1", "203.0.113.1:5432", "internet", "203.0.113.1:5432 arrives db:5432"},
		{two, "forward outer 2000-2010 to 10.1.0.10:80", "203.0.113.1:2005", "internet", "203.0.113.1:2005 arrives web:80"},
		{two, "forward outer 2000-2001,2005 to 10.1.0.10:79-81", "203.0.113.1:2001", "internet", "203.0.113.1:2001 arrives web:80"},
		{two, "forward outer 203.0.113.1:any to 10.1.0.10", "203.0.113.1:80", "internet", "203.0.113.1:80 arrives web:80"},
		{two, "forward outer 80 to 10.1.0.10 from 198.51.100.0/24", "203.0.113.1:80", "internet", "203.0.113.1:80 refused except 198.51.100.0/24 !path.no-forward; 203.0.113.1:80 arrives web:80 only 198.51.100.0/24"},
		{two, "forward outer 80 to 10.1.0.10", "203.0.113.1:80", "db", "203.0.113.1:80 refused !path.no-hairpin"},
		{two, "forward outer 80 to 10.1.0.10", "203.0.113.1:80", "lan", "203.0.113.1:80 refused !path.no-hairpin"},
		{two, "forward outer 80 to 10.1.0.10 hairpin", "203.0.113.1:80", "lan", "203.0.113.1:80 arrives web:80"},
		{two, "forward outer 80 to 10.1.0.10 inside", "203.0.113.1:80", "lan", "203.0.113.1:80 lost-reply web:80 !path.lost-reply"},
		{two, "", "[2001:db8:a:1::10]:80", "internet", "2001:db8:a:1::10:80 arrives web:80"},
		{two, "", "[2001:db8:a:1::99]:80", "internet", "2001:db8:a:1::99:80 unroutable !path.no-route"},
		{two, "", "[2001:db8:a:9::1]:80", "internet", "2001:db8:a:9::1:80 unroutable !path.no-route"},
		{two, "", "198.51.100.7:80", "web", "198.51.100.7:80 outside"},
		{two, "host away outside\naddress away 198.51.100.7 internet", "198.51.100.7:80", "web", "198.51.100.7:80 arrives away:80"},
		{two, "filter f on outer through otherwise drop\nrule f pass 80 from web", "198.51.100.7:443", "web", "198.51.100.7:443 silent !path.blocked"},
		{two, "forward outer 443 to 10.1.0.10", "a.example:443", "internet", "2001:db8:a:1::10:443 arrives web:443; 203.0.113.1:443 arrives web:443"},
		{two, "forward outer 443 to 10.1.0.10\nfilter f on web input otherwise drop ipv6", "a.example:443", "internet", "2001:db8:a:1::10:443 silent !path.blocked; 203.0.113.1:443 arrives web:443"},
		{two, "host second router\naddress second 10.1.0.2 lan\naddress second 203.0.113.9 internet", "198.51.100.7:80", "web", "198.51.100.7:80 undecided !path.tie; 198.51.100.7:80 undecided !path.tie"},
		{two, "host second router\naddress second 10.1.0.2 lan\naddress second 203.0.113.9 internet\nroute web default via 10.1.0.2\nforward outer 80 to 10.1.0.10", "203.0.113.1:80", "internet", "203.0.113.1:80 lost-reply web:80 !path.lost-reply"},
		{two, "route web 198.51.100.0/24 via 10.1.0.50", "198.51.100.7:80", "web", "198.51.100.7:80 unroutable !path.no-route"},
		{two, "address outer ? internet\n- address outer 203.0.113.1 internet\ndns b.example A dynamic outer", "b.example:80", "internet", "?:80 undecided"},
	} {
		lines := strings.Split(c.base, "\n")
		for _, l := range strings.Split(c.add, "\n") {
			if gone, ok := strings.CutPrefix(l, "- "); ok {
				i := slices.Index(lines, gone)
				if i < 0 {
					t.Fatalf("no line %q", gone)
				}
				lines = slices.Delete(lines, i, i+1)
			} else {
				lines = append(lines, l)
			}
		}
		tr := compiled(t, notationtest.Parse(t, strings.Join(lines, "\n")))
		if got := strings.Join(said(ask(t, tr, c.target, c.from)), "; "); got != c.want {
			t.Errorf("%s from %s, with\n  %s\ngot  %s\nwant %s", c.target, c.from, strings.ReplaceAll(c.add, "\n", "\n  "), got, c.want)
		}
	}
}

// TestLeads goes backwards from a place: by which names and addresses, from where.
func TestLeads(t *testing.T) {
	tr := compiled(t, notationtest.Parse(t, strings.Replace(example(t), "http://localhost:3000", "http://allsky:3000", 1)))
	say := func(place string, port uint16) string {
		var out []string
		ways, err := tr.Leads(t.Context(), place, port)
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range ways {
			out = append(out, fmt.Sprintf("%s %s:%d from %s to %s", l.Name, l.Address, l.Port, l.From, l.End))
		}
		return strings.Join(out, "\n")
	}
	want := ` azimuth/allsky:3000 from dock to azimuth/allsky:3000
 10.40.8.10:8080 from perimeter to azimuth/allsky:3000
sky.fernmoor.example 203.0.113.20:443 from internet to azimuth/allsky:3000`
	if got := say("azimuth/allsky", 0); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if got := say("azimuth/allsky", 3001); got != "" {
		t.Errorf("a port on which nothing ends: %s", got)
	}
}
