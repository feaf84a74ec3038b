package serve_test

import (
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/serve"
)

// TestChallenge: whether the challenge of a certificate gets in, past redirects and fronts, by either family.
func TestChallenge(t *testing.T) {
	const base = `network lan 10.0.0.0/24,2001:db8:7::/64
host gate router
host web
host store
address gate 203.0.113.1 internet
address gate 2001:db8:7::/64 internet
address gate 10.0.0.1 lan
address gate 2001:db8:7::1 lan
address web 10.0.0.5 lan
address web 2001:db8:7::5 lan
address store 10.0.0.6 lan
route web default via 2001:db8:7::1
zone a.example
dns a.example A 203.0.113.1
forward gate 80,443 to 10.0.0.5
listen web 80 as front
listen web 443 as front tls cert kept
listen store 80 as shop
`
	for _, c := range []struct{ lines, cert, want string }{
		{"", "on web by http-01", "works"},
		{"site front * redirect https://a.example", "on web by http-01", "where it has been already"},
		{"site front * at 80 redirect https", "on web by http-01", "works"},
		{"site front * at 80 redirect https://b.example", "on web by http-01", "works"}, // outside, and taken to keep the path
		{"site front * at 80 redirect https://a.example/welcome", "on web by http-01", "no answer at that path"},
		{"site front * at 80 redirect https://a.example/.well-known/acme-challenge/x", "on web by http-01", "works"},
		{"site front * at 80 redirect https://a.example:8443", "on web by http-01", "ports 80 and 443 alone"},
		{"site front * at 80 redirect https://203.0.113.1", "on web by http-01", "names alone"},
		{"site front * at 80 redirect http://www.a.example", "on web by http-01", "has no record"},
		{"site front * at 80 redirect http://www.a.example", "on web by http-01 through front", "works"},
		{"site front * at 80 redirect http://www.a.example", "on web by http-01 alone", "works"},
		{"site front * at 80 redirect http://www.a.example", "on store by http-01 alone", "has no record"},
		{"site front * at 80 to http://store:80", "on web by http-01 through shop", "works"},
		{"site front * at 80 to http://store:80\nsite shop * redirect http://203.0.113.1", "on web by http-01", "names alone"},
		{"site front * at 80 to http://store:80\nsite shop * redirect http://203.0.113.1", "on web by http-01 through shop", "works"},
		{"dns a.example AAAA 2001:db8:7::9", "on web by http-01", "works by IPv4"},
		{"dns a.example AAAA 2001:db8:7::9\nsite front * at 80 redirect https", "on web by http-01", "works by IPv4"},
		{"dns a.example AAAA 2001:db8:7::5\nsite front * at 80 redirect https", "on web by http-01", "works"},
		{"zone b.example for lan\ndns _acme-challenge.a.example CNAME proof.b.example", "on web by dns-01", "no zone that the internet sees has proof.b.example"},
		{"zone b.example\ndns _acme-challenge.a.example CNAME proof.b.example", "on web by dns-01", "works"},
		{"dns _acme-challenge.a.example CNAME proof.b.example", "on web by dns-01", "works"}, // somebody else proves it
	} {
		e := notationtest.Parse(t, base+c.lines+"\ncert kept for a.example expires 2027-03-01 "+c.cert+"\n")
		got := serve.New(model.Compile(e), "2026-12-01").Challenge(e.Of(estate.KindNamed("cert"))[0].(*estate.Cert), "a.example", nil)
		said := got.Why
		switch {
		case got.Only4:
			said = "works by IPv4"
		case got.Works:
			said = "works"
		}
		if c.want == "works" && said != c.want || !strings.Contains(said, c.want) {
			t.Errorf("%q %s: %q, want %q", c.lines, c.cert, said, c.want)
		}
	}
}
