package look

import (
	"strings"
	"testing"
	"time"

	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/trace"
)

const shop = `
network lan 10.9.0.0/24
host gate router
host box
host quiet
address gate 9.9.9.9 internet
address gate 10.9.0.1 lan
address box 10.9.0.5 lan
address quiet 10.9.0.6 lan
zone a.example
dns a.example A 9.9.9.9
dns gone.example A 9.9.9.9 off
zone gone.example
dns bad.a.example A 9.9.9.9
dns in.a.example A 9.9.9.9
dns sign.a.example A 9.9.9.9
forward gate 80,443,8000,8001,22,23,8100 to 10.9.0.5
forward gate 25 to 10.9.0.6
filter edge on gate through otherwise drop
rule edge pass 80,443,8000,8001,22,25,8100 from internet
filter local on quiet input otherwise refuse
listen box 80 as web
listen box 443 as web tls
listen box 22 as ssh
listen box 8000 as plain
listen box 8100 as open
site web a.example,in.a.example at 80 redirect https
site web a.example at 443 to http://localhost:8000
site web a.example at 443 path /old redirect https://a.example/new
site web a.example at 443 path /down to http://localhost:9999
site web a.example at 443 path /desk to http://localhost:8000 guard "a sign-in"
site web in.a.example at 443 to http://localhost:8000 sources lan
site web bad.a.example at 443 to http://localhost:8000
cert a for a.example,in.a.example,sign.a.example expires 2027-01-01 on box by http-01
cert old for bad.a.example expires 2026-11-01 on box by hand
`

// TestJudge is the table of what agrees: for each thing predicted, what agrees with it, what cannot tell, and what contradicts it by which code.
func TestJudge(t *testing.T) {
	tr := trace.New(model.Compile(notationtest.Parse(t, shop)), "2026-12-01")
	yes, no := true, false
	connect := func(target string, came Came, seconds ...float64) Look {
		l := Look{Did: Connect, Target: target, Came: came, Address: "9.9.9.9"}
		if len(seconds) > 0 {
			l.Seconds = seconds[0]
		}
		return l
	}
	page := func(url string, status int, location ...string) Look {
		l := Look{Did: HTTP, Target: url, Came: Arrived, Address: "9.9.9.9", Status: status}
		if len(location) > 0 {
			l.Location = location[0]
		}
		return l
	}
	shown := func(target string, edit func(*Look)) Look {
		l := Look{Did: TLS, Target: target, Came: Arrived, Address: "9.9.9.9", Covers: &yes, Trusted: &yes, Expires: "2027-01-01", Begins: "2026-10-01", Names: []string{"a.example"}}
		edit(&l)
		return l
	}
	answer := func(target, code string, values ...string) Look {
		return Look{Did: Resolve, Target: target, Came: Answered, Code: code, Answers: values}
	}
	as := func(l Look, edit func(*Look)) Look {
		edit(&l)
		return l
	}
	for _, c := range []struct {
		name string
		look Look
		want string // agreement and code
	}{
		{"a listener takes it", connect("a.example:443", Arrived), "yes"},
		{"a web server cuts it", connect("a.example:443", Cut), "no seen.shut"},
		{"a plain service cuts it", connect("a.example:22", Cut), "yes"},
		{"refused, and is to arrive", connect("a.example:443", Refused), "no seen.shut"},
		{"no route, and is to arrive", connect("a.example:443", NoRoute), "no seen.shut"},
		{"silent, and is to arrive", connect("a.example:443", Silent), "no seen.shut"},
		{"not looked", as(connect("a.example:443", NotLooked), func(l *Look) { l.Why = "x" }), "cannot-tell"},
		{"an address that nothing leads to by now", as(connect("a.example:443", Arrived), func(l *Look) { l.Address = "8.8.8.8" }), "cannot-tell"},
		{"refused as recorded", connect("a.example:25", Refused), "yes"},
		{"no route at once", connect("a.example:25", NoRoute, 0.01), "yes"},
		{"no route after a while", connect("a.example:25", NoRoute, 3.1), "no seen.shut"},
		{"cut behind a relay", connect("a.example:25", Cut), "yes"},
		{"silent, and is to be refused", connect("a.example:25", Silent), "no seen.shut"},
		{"open, and is to be refused", connect("a.example:25", Arrived), "no seen.open"},
		{"silent as recorded", connect("a.example:23", Silent), "yes"},
		{"no route, and is to be silent", connect("a.example:23", NoRoute, 3), "yes"},
		{"refused, and is to be silent", connect("a.example:23", Refused), "no seen.shut"},
		{"open, and is to be silent", connect("a.example:23", Arrived), "no seen.open"},
		{"not recorded", connect("www.elsewhere.example:443", Arrived), "cannot-tell"},

		{"the certificate as recorded", shown("a.example:443", func(*Look) {}), "yes"},
		{"the handshake fails", shown("a.example:443", func(l *Look) { l.Came = Failed }), "no seen.certificate"},
		{"it does not cover", shown("a.example:443", func(l *Look) { l.Covers = &no }), "no seen.certificate"},
		{"it has run out", shown("a.example:443", func(l *Look) { l.Expires = "2026-11-30" }), "no seen.certificate"},
		{"it is the one before", shown("a.example:443", func(l *Look) { l.Expires = "2026-12-20" }), "no seen.certificate"},
		{"it lasts longer", shown("a.example:443", func(l *Look) { l.Expires = "2027-03-01" }), "no seen.certificate"},
		{"it is not trusted", shown("a.example:443", func(l *Look) { l.Trusted = &no }), "no seen.certificate"},
		{"trust is not judged", shown("a.example:443", func(l *Look) { l.Trusted = nil }), "yes"},
		{"untrusted as recorded", shown("bad.a.example:443", func(l *Look) { l.Expires = "2026-11-01" }), "yes"},
		{"good, and is to be untrusted", shown("bad.a.example:443", func(*Look) {}), "no seen.certificate"},

		{"a page", page("https://a.example/", 200), "yes"},
		{"an application's own 500", page("https://a.example/", 500), "yes"},
		{"an application's own 404, or no site", page("https://a.example/", 404), "cannot-tell"},
		{"with the mark", as(page("https://a.example/", 404), func(l *Look) { l.Marked = &yes }), "yes"},
		{"without the mark", as(page("https://a.example/", 200), func(l *Look) { l.Marked = &no }), "no seen.site"},
		{"misdirected", page("https://a.example/", 421), "no seen.status"},
		{"a gateway error, and is to arrive", page("https://a.example/", 502), "no seen.status"},
		{"no answer", as(page("https://a.example/", 0), func(l *Look) { l.Came = Failed }), "no seen.status"},
		{"sent to https", page("http://a.example/", 301, "https://a.example/"), "yes"},
		{"by the port that is meant anyway", page("http://a.example/", 308, "https://A.example:443/"), "yes"},
		{"sent elsewhere", page("http://a.example/", 301, "https://b.example/"), "no seen.redirect"},
		{"not sent", page("http://a.example/", 200), "no seen.status"},
		{"sent to a place", page("https://a.example/old", 302, "/new"), "yes"},
		{"sent to another place", page("https://a.example/old", 302, "/newer"), "no seen.redirect"},
		{"a gateway error as recorded", page("https://a.example/down", 504), "yes"},
		{"no gateway error", page("https://a.example/down", 200), "no seen.status"},
		{"guarded", page("https://a.example/desk", 401), "yes"},
		{"guarded by a redirect", page("https://a.example/desk", 302, "https://sign.a.example/"), "yes"},
		{"not guarded", page("https://a.example/desk", 200), "no seen.site"},
		{"denied as recorded", page("https://in.a.example/", 403), "yes"},
		{"not denied", page("https://in.a.example/", 200), "no seen.open"},
		{"no site answers", page("https://sign.a.example/", 404), "yes"},
		{"somebody else answers", page("https://sign.a.example/", 200), "no seen.site"},

		{"the answer", answer("a.example A", "NOERROR", "9.9.9.9"), "yes"},
		{"another answer", answer("a.example A", "NOERROR", "9.9.9.1"), "no seen.answer"},
		{"one more", answer("a.example A", "NOERROR", "9.9.9.9", "9.9.9.1"), "no seen.answer"},
		{"no such name", answer("a.example A", "NXDOMAIN"), "no seen.answer"},
		{"no such type as recorded", answer("a.example AAAA", "NOERROR"), "yes"},
		{"no such name, and only the type is missing", answer("a.example AAAA", "NXDOMAIN"), "no seen.answer"},
		{"an address made by the network", answer("a.example AAAA", "NOERROR", "64:ff9b::909:909"), "yes"},
		{"no such name as recorded", answer("x.gone.example A", "NXDOMAIN"), "yes"},
		{"a resolver's failure", answer("a.example A", "SERVFAIL"), "cannot-tell"},
		{"a resolver's silence", Look{Did: Resolve, Target: "a.example A", Came: Silent}, "cannot-tell"},
		{"a name of somebody else", answer("www.elsewhere.example A", "NOERROR", "9.9.9.9"), "cannot-tell"},
	} {
		t.Run(c.name, func(t *testing.T) {
			l := c.look
			l.From, l.At = "internet", time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC)
			Judge(tr, &l)
			got := string(l.Agrees)
			if l.Finding != "" {
				got += " " + l.Finding
			}
			if got != c.want {
				t.Errorf("got %s (predicted %s: %s), want %s", got, l.Predicted, l.Says, c.want)
			}
			if (l.Agrees == Differs) != (strings.HasPrefix(l.Says, "recorded: ") && strings.Contains(l.Says, "; seen: ")) {
				t.Errorf("says %q", l.Says)
			}
		})
	}
}
