package findings

import (
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

const day = "2026-11-25"

// sound is an estate with nothing wrong in it: a router, a container host, a plain machine, both families.
//
//go:embed testdata/sound.estate
var sound string

// edited is an estate with lines taken out ("- line") and put in.
func edited(t *testing.T, base, edit string) *estate.Estate {
	t.Helper()
	lines := strings.Split(base, "\n")
	for _, l := range strings.Split(edit, "\n") {
		l = strings.TrimSpace(l)
		if gone, ok := strings.CutPrefix(l, "- "); ok {
			i := slices.Index(lines, gone)
			if i < 0 {
				t.Fatalf("no line %q to take out", gone)
			}
			lines = slices.Delete(lines, i, i+1)
		} else if l != "" {
			lines = append(lines, l)
		}
	}
	e, faults := notation.Parse(strings.Join(lines, "\n"))
	if len(faults) > 0 {
		t.Fatalf("%v in\n%s", faults, edit)
	}
	return e
}

func check1(e *estate.Estate) Report {
	r, err := Check(context.Background(), trace.New(model.Compile(e), day), day)
	if err != nil {
		panic(err)
	}
	return r.Report
}

func said(r Report) []string {
	var out []string
	for _, f := range r.Findings {
		out = append(out, f.Code+" "+f.Subject)
	}
	slices.Sort(out)
	return out
}

// mended is an estate with a mend applied.
func mended(t *testing.T, e *estate.Estate, m *flow.Mend) *estate.Estate {
	t.Helper()
	c := estate.Change{Remove: m.Remove}
	for _, line := range m.Add {
		p, _, err := notation.ParseLine(line)
		if err != nil {
			t.Fatalf("a mend that cannot be read: %s: %v", line, err)
		}
		if cert, ok := p.Record.(*estate.Cert); ok && cert.Expires == "" { // once it is issued
			p.Record = estate.With(cert, func(n *estate.Cert) { n.Expires = "2027-03-01" })
		}
		c.Add = append(c.Add, p)
	}
	next, err := e.Apply(c)
	if err != nil {
		t.Fatalf("a mend that cannot be applied: %v\n%v", err, m)
	}
	return next
}

// mailServer is a machine that takes mail.
const mailServer = `dns m.a.example A 203.0.113.1
	listen store 25 as mail
	forward gate 25 to 10.0.8.20
	rule edge pass 25 from internet to store
	rule local pass 25
	intend m.a.example 25 for internet reaching store
	`

func TestSound(t *testing.T) {
	for _, f := range check1(edited(t, sound, "")).Findings {
		t.Errorf("%s %s: %s", f.Code, f.Subject, f.Why)
	}
}

// TestCases ties each code to an estate that has it, and nothing else wrong. Where a mend is known, it makes the
// finding vanish and brings no new error.
func TestCases(t *testing.T) {
	for _, c := range []struct {
		edit string
		want string // every finding, "code subject" a line; "(no mend)" behind those that have none
	}{
		{`listen box 80 as web`, `conflict.map-socket box:80/tcp`},
		{`map box/app 443 to 3000`, `conflict.map box:443/tcp`},
		{`map box/app 400-500 to 3000`, `conflict.map box:443/tcp
		  exposure.bypass box:400-442/tcp
		  exposure.bypass box:444-500/tcp`},
		{`listen store 0.0.0.0:9000 as other`, `conflict.socket store:9000/tcp
		  intent.undecided store:9000
		  intent.undecided www.a.example:80,443`},
		{`forward gate 443 to 10.0.8.20:9000`, `conflict.forward gate:443/tcp`},
		{`forward gate 203.0.113.1:80 to 10.0.8.20:9000`, `conflict.forward gate:80/tcp`},
		{`cert old for www.a.example expires 2026-11-28 on store by dns-01`, `cert.expiring old (no mend)`},
		{`cert old for www.a.example expires 2026-11-20 on store by hand`, `cert.expired old (no mend)`},
		{`cert wild for *.b.a.example expires 2027-11-20 on store by http-01`, `cert.method wild (no mend)`},
		{`cert own for www.a.example expires 2027-11-20 on box/front by http-01 alone`, `cert.clash own (no mend)`},
		{`listen store 9000/udp as other`, ``},
		{`listen store 9000 as files`, `conflict.record listen store 9000 as files`},
		{"- listen store 9000 as files\nlisten store 9000 as files shared\nlisten store 9000 as files2 shared", ``},

		{`- forward gate 80,443 to 10.0.8.10
		  forward gate 443 to 10.0.8.10`, `intent.unmet a.example:80,443
		  intent.unmet www.a.example:80,443
		  path.no-forward a.example:80
		  path.no-forward www.a.example:80`},
		{`- forward gate 80,443 to 10.0.8.10
		  forward gate 80 to 10.0.8.10
		  forward gate 443/udp to 10.0.8.10`, `intent.unmet a.example:80,443
		  intent.unmet www.a.example:80,443
		  path.forward-transport a.example:443
		  path.forward-transport gate:443/udp
		  path.forward-transport www.a.example:443
		  redirect.dead a.example:80
		  redirect.dead www.a.example:80`},
		{`- forward gate 80,443 to 10.0.8.10
		  forward gate 203.0.113.9:80,443 to 10.0.8.10`, `intent.unmet a.example:80,443
		  intent.unmet www.a.example:80,443
		  path.forward-address a.example:443
		  path.forward-address a.example:80
		  path.forward-address gate:80
		  path.forward-address www.a.example:443
		  path.forward-address www.a.example:80`},
		{`- forward gate 80,443 to 10.0.8.10
		  forward gate 80,443 to 10.0.8.99`, `intent.unmet a.example:80,443
		  intent.unmet www.a.example:80,443
		  path.forward-nowhere a.example:443
		  path.forward-nowhere a.example:80
		  path.forward-nowhere gate:80
		  path.forward-nowhere www.a.example:443
		  path.forward-nowhere www.a.example:80`},
		{`rule edge at 1 drop 443 from 198.51.100.0/24`, `intent.unmet a.example:80,443
		  intent.unmet www.a.example:80,443
		  path.blocked a.example:443
		  path.blocked www.a.example:443
		  redirect.dead a.example:80
		  redirect.dead www.a.example:80`},
		{`- rule local pass 9000 from box`, `intent.unmet store:9000
		  intent.unmet www.a.example:80,443
		  path.blocked store:9000
		  redirect.dead www.a.example:80
		  upstream.blocked www.a.example:443`},
		{`- listen box/app 3000 as app
		  listen box/app 127.0.0.1:3000 as app`, `intent.unmet a.example:80,443
		  intent.unmet six.a.example:443
		  path.loopback a.example:443
		  path.loopback six.a.example:443
		  redirect.dead a.example:80`},
		{`- map box/front 80,443 to 80,443
		  map box/front 80,443 to 80,8443`, `intent.unmet a.example:80,443
		  intent.unmet six.a.example:443
		  intent.unmet www.a.example:80,443
		  path.map-target a.example:443
		  path.map-target box:443
		  path.map-target six.a.example:443
		  path.map-target www.a.example:443
		  redirect.dead a.example:80
		  redirect.dead www.a.example:80`},
		{`- dns a.example A 203.0.113.1
		  dns a.example A 10.0.8.10`, `intent.unmet a.example:80,443
		  intent.unmet www.a.example:80,443
		  name.private a.example (no mend)
		  path.no-public-address a.example:443
		  path.no-public-address a.example:80
		  path.no-public-address www.a.example:443
		  path.no-public-address www.a.example:80`},
		{`- intend a.example 80,443 for internet reaching box/app
		  intend a.example 80,443 for internet reaching store`, `intent.unmet a.example:80,443
		  path.wrong-place a.example:443`},
		{`- host gate router
		  host gate`, `intent.unmet a.example:80,443
		  intent.unmet six.a.example:443
		  intent.unmet www.a.example:80,443
		  order.unused rule edge pass any from perimeter to internet
		  path.no-route a.example:443
		  path.no-route a.example:80
		  path.no-route six.a.example:443
		  path.no-route www.a.example:443
		  path.no-route www.a.example:80`},

		{`- dns www.a.example CNAME a.example`, `intent.unmet www.a.example:80,443
		  name.unresolved www.a.example`},
		{`- dns www.a.example CNAME a.example
		  dns www.a.example CNAME gone.a.example`, `intent.unmet www.a.example:80,443
		  name.broken-alias www.a.example`},
		{`- dns www.a.example CNAME a.example
		  dns www.a.example CNAME b.a.example
		  dns b.a.example CNAME www.a.example`, `intent.unmet www.a.example:80,443
		  name.alias-loop b.a.example
		  name.alias-loop www.a.example`},
		{`dns old.a.example A 198.51.100.7`, `name.dangling old.a.example`},
		{`dns old.a.example A 198.51.100.7
		  address gate 198.51.100.7 internet off`, `name.stale old.a.example`},
		{`site front b.example at 443 files`, `exposure.undeclared box:443/tcp (no mend)
		  exposure.undeclared gate:443/tcp (no mend)
		  name.unresolved b.example (no mend)`},

		{`- site front www.a.example at 443 to http://store:9000`, `intent.unmet www.a.example:80,443
		  redirect.dead www.a.example:80
		  site.none www.a.example:443`},
		{`- site front www.a.example at 443 to http://store:9000
		  site front www.a.example at 443 to http://store:9000 off`, `intent.unmet www.a.example:80,443
		  redirect.dead www.a.example:80
		  site.disabled www.a.example:443`},
		{`- site front www.a.example at 443 to http://store:9000
		  site front wwww.a.example at 443 to http://store:9000`, `exposure.undeclared box:443/tcp (no mend)
		  exposure.undeclared gate:443/tcp (no mend)
		  intent.unmet www.a.example:80,443
		  name.near-miss wwww.a.example
		  name.unresolved wwww.a.example
		  redirect.dead www.a.example:80
		  site.none www.a.example:443`},
		{`dns other.a.example A 203.0.113.1
		  - site front a.example at 443 to http://app:3000
		  site front a.example at 443 to http://app:3000 default
		  intend other.a.example 443 for internet`, `site.by-address 203.0.113.1:443 (no mend)
		  site.by-address [2001:db8:8::10]:443 (no mend)
		  site.default-answers other.a.example:443 (no mend)`},
		{`- listen box/front 443 as front tls cert star
		  listen box/front 443 as front`, `intent.unmet a.example:80,443
		  intent.unmet six.a.example:443
		  intent.unmet www.a.example:80,443
		  redirect.dead a.example:80
		  redirect.dead www.a.example:80
		  site.speech a.example:443
		  site.speech six.a.example:443
		  site.speech www.a.example:443`},
		{`site fornt x.a.example at 443 files
		  dns x.a.example A 203.0.113.1
		  intend x.a.example 80 for internet`, `intent.unmet x.a.example:80 (no mend)
		  redirect.dead x.a.example:80 (no mend)
		  site.none x.a.example:443 (no mend)
		  site.unknown-service x.a.example:443`},

		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to http://localhost:3000`, `intent.unmet a.example:80,443
		  redirect.dead a.example:80
		  upstream.localhost a.example:443`},
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to http://app:3001`, `intent.unmet a.example:80,443
		  redirect.dead a.example:80
		  upstream.refused a.example:443`},
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to http://apps:3000`, `intent.unmet a.example:80,443
		  redirect.dead a.example:80
		  upstream.unresolved a.example:443`},
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to https://app:3000`, `intent.unmet a.example:80,443
		  redirect.dead a.example:80
		  upstream.scheme a.example:443`},
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to http://app:8081
		  map box/app 127.0.0.1:8081 to 3000`, `intent.unmet a.example:80,443
		  redirect.dead a.example:80
		  upstream.mapped-port a.example:443`},
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to https://localhost:443`, `intent.unmet a.example:80,443 (no mend)
		  redirect.dead a.example:80 (no mend)
		  upstream.loop a.example:443 (no mend)`},

		{`- cert star for a.example,*.a.example expires 2027-03-01 on box/front by dns-01
		  cert star for *.a.example expires 2027-03-01 on box/front by dns-01`, `cert.names a.example:443
		  intent.unmet a.example:80,443
		  redirect.dead a.example:80`},
		{`- cert star for a.example,*.a.example expires 2027-03-01 on box/front by dns-01
		  cert star for a.example,*.a.example expires 2026-11-24 on box/front by dns-01`, `cert.expired star (no mend)
		  intent.unmet a.example:80,443 (no mend)
		  intent.unmet six.a.example:443 (no mend)
		  intent.unmet www.a.example:80,443 (no mend)
		  redirect.dead a.example:80 (no mend)
		  redirect.dead www.a.example:80 (no mend)`},
		{`- cert star for a.example,*.a.example expires 2027-03-01 on box/front by dns-01
		  cert star for a.example,*.a.example expires 2026-11-25 on box/front by dns-01`, `cert.expiring star (no mend)`},
		{`- cert star for a.example,*.a.example expires 2027-03-01 on box/front by dns-01
		  cert star for a.example,*.a.example expires 2027-03-01 on box/front by dns-01 trial`, `cert.trial star
		  intent.unmet a.example:80,443
		  intent.unmet six.a.example:443
		  intent.unmet www.a.example:80,443
		  redirect.dead a.example:80
		  redirect.dead www.a.example:80`},
		{`- cert star for a.example,*.a.example expires 2027-03-01 on box/front by dns-01
		  - listen box/front 443 as front tls cert star
		  listen box/front 443 as front tls`, `cert.missing a.example:443
		  cert.missing six.a.example:443
		  cert.missing www.a.example:443
		  intent.unmet a.example:80,443
		  intent.unmet six.a.example:443
		  intent.unmet www.a.example:80,443
		  redirect.dead a.example:80
		  redirect.dead www.a.example:80`},
		{`site front a.example at 80 redirect http://www.a.example/
		  site front www.a.example at 80 redirect http://a.example/`, `exposure.undeclared box:80/tcp (no mend)
		  exposure.undeclared gate:80/tcp (no mend)
		  intent.unmet a.example:80,443 (no mend)
		  intent.unmet www.a.example:80,443 (no mend)
		  redirect.dead a.example:80 (no mend)
		  redirect.dead www.a.example:80 (no mend)
		  redirect.loop a.example:80 (no mend)
		  redirect.loop www.a.example:80 (no mend)`},

		{`- intend six.a.example 443 for internet reaching box/app`, `exposure.undeclared box:443/tcp
		  exposure.undeclared gate:443/tcp`},
		{`listen box 22 as ssh`, ``},
		{`listen box 22 as ssh
		  rule edge pass 22 from internet to box`, `exposure.admin box:22/tcp
		  exposure.family box:22/tcp
		  exposure.undeclared box:22/tcp`},
		{`listen box [::]:22 as ssh
		  intend 2001:db8:8::10 22 for 2001:db8:8::77`, `exposure.thin box:22/tcp (no mend)
		  exposure.wider box:22/tcp`},
		// Meant for the inside, and one line stands before it; with two none does alone.
		{`listen store 22 as ssh
		  address store 2001:db8:8::20 perimeter
		  rule local pass 22 from box
		  intend store 22 for box`, ``},
		{`- filter local on store input otherwise drop
		  filter local on store input otherwise drop ipv4
		  address store 2001:db8:8::20 perimeter
		  listen store 22 as ssh
		  rule local pass 22 from perimeter
		  intend store 22 for perimeter`, `exposure.bypass store:9000/tcp
		  exposure.thin store:22/tcp (no mend)
		  exposure.thin store:9000/tcp (no mend)
		  exposure.wider store:9000/tcp`},
		{`forward gate 2222 to 10.0.8.20:22
		  listen store 22 as ssh
		  rule local pass 22 from internet
		  rule edge at 1 drop 22 from internet to store
		  rule edge pass 22 from internet to store
		  intend store 22 for box`, `exposure.thin gate:2222/tcp (no mend)
		  intent.unmet store:22
		  order.shadowed rule edge pass 22 from internet to store
		  path.blocked store:22`},
		{`map box/app 8080 to 3000
		  rule edge pass 8080 from internet to box
		  - intend a.example 80,443 for internet reaching box/app
		  intend a.example 80,443 for internet`, `exposure.bypass box:8080/tcp
		  exposure.family box:8080/tcp
		  exposure.undeclared box:8080/tcp`},
		// Sites that want the same.
		{`site front a.example at 443 to http://store:9000`, `conflict.site front a.example`},
		{`site front a.example at 443 path /x to http://app:3000`, ``},
		{`site front a.example to http://app:3000`, `conflict.site front a.example
		  exposure.plaintext box:80/tcp
		  exposure.plaintext gate:80/tcp
		  redirect.missing a.example:80 (no mend)`},
		{`site front b.a.example,a.example at 443 to http://app:3000
		  dns b.a.example A 203.0.113.1
		  intend b.a.example 443 for internet reaching box/app`, `conflict.site front a.example`},
		{`- site front a.example at 443 to http://app:3000
		  - site front www.a.example at 443 to http://store:9000
		  site front a.example at 443 to http://app:3000 default
		  site front www.a.example at 443 to http://store:9000 default`, `conflict.default front www.a.example
		  exposure.undeclared box:443/tcp (no mend)
		  exposure.undeclared gate:443/tcp (no mend)
		  site.by-address 203.0.113.1:443 (no mend)
		  site.by-address [2001:db8:8::10]:443 (no mend)`},
		{`map box/app 8080 to 3000
		  filter in on box input otherwise drop
		  rule in pass 80,443`, `exposure.bypass box:8080/tcp
		  exposure.past-input box:8080/tcp`},
		// Names.
		{`dns a.example MX 10 mx.a.example`, `name.mail a.example (no mend)`},
		{mailServer + `dns a.example MX 10 m.a.example`, ``},
		{mailServer + `dns a.example MX 10 n.a.example`, `name.mail a.example`},
		{mailServer + `dns al.a.example CNAME m.a.example
		  intend al.a.example 25 for internet
		  dns a.example MX 10 al.a.example`, `name.mail a.example`},
		{`dns a.example MX 10 www.a.example`, `name.mail a.example (no mend)`},
		{`dns a.example MX 10 a.example`, `name.mail a.example (no mend)`},
		{`dns a.example MX 0 .`, ``},
		{`dns a.example MX 10 mx.elsewhere.test`, ``},
		{`dns a.example TXT "v=spf1 ip4:203.0.113.99 ip4:203.0.113.9 -all"
		  address gate 203.0.113.9 internet off`, `name.stale a.example`},
		{`dns a.example TXT "v=spf1 ip4:203.0.113.1 -all"`, ``},
		{`- zone a.example ttl 1h
		  zone a.example ttl 1h without wildcard
		  dns *.lab.a.example A 203.0.113.1
		  site front *.lab.a.example at 443 to http://app:3000
		  cert lab for *.lab.a.example expires 2027-03-01 on box/front by dns-01
		  - listen box/front 443 as front tls cert star
		  listen box/front 443 as front tls cert star,lab
		  intend x.lab.a.example 443 for internet reaching box/app`, `name.unsupported *.lab.a.example`},
		{`- zone a.example ttl 1h
		  zone a.example ttl 1h without apex-alias
		  - dns a.example A 203.0.113.1
		  dns b.a.example A 203.0.113.1
		  dns a.example ALIAS b.a.example
		  site front b.a.example at 443 to http://app:3000
		  intend b.a.example 443 for internet`, `name.unsupported a.example`},
		{`- address gate 203.0.113.1 internet
		  address gate 203.0.113.1 internet dynamic`, `name.pinned a.example`},
		{`dns in.a.example A 10.0.8.20 for yard
		  dns in.a.example A 10.0.8.20`, `name.private in.a.example (no mend)
		  path.no-public-address in.a.example:9000`},
		{`- dns www.a.example CNAME a.example
		  - site front www.a.example at 443 to http://store:9000
		  - intend www.a.example 80,443 for internet reaching store`, `name.no-www a.example`},
		{`dns b.a.example A 203.0.113.1
		  site front bb.a.example at 443 to http://app:3000
		  intend bb.a.example 443 for internet reaching box/app`, `intent.unmet bb.a.example:443
		  name.near-miss bb.a.example
		  name.unresolved bb.a.example
		  redirect.dead b.a.example:80
		  site.none b.a.example:443`},
		{`dns b1.a.example A 203.0.113.1
		  site front b1.a.example,b2.a.example at 443 to http://app:3000
		  dns b2.a.example A 203.0.113.1
		  intend b1.a.example 443 for internet reaching box/app
		  intend b2.a.example 443 for internet reaching box/app`, ``},
		{`dns *.b.a.example A 203.0.113.1
		  - site front a.example at 443 to http://app:3000
		  site front a.example at 443 to http://app:3000 default
		  cert b for *.b.a.example expires 2027-03-01 on box/front by dns-01
		  - listen box/front 443 as front tls cert star
		  listen box/front 443 as front tls cert star,b
		  intend *.b.a.example 443 for internet`, `name.wildcard-catches *.b.a.example (no mend)
		  site.by-address 203.0.113.1:443 (no mend)
		  site.by-address [2001:db8:8::10]:443 (no mend)
		  site.default-answers *.b.a.example:443 (no mend)`},
		{`dns store.a.example A 203.0.113.1
		  dns store.a.example A 10.0.8.20 for yard
		  listen store 443 as direct tls cert own
		  cert own for store.a.example expires 2027-03-01 on store
		  rule local pass 443 from yard
		  rule edge pass 443 from yard to store
		  site front store.a.example at 443 to http://app:3000
		  intend store.a.example 443 for internet,yard`, `name.split store.a.example (no mend)`},
		{`dns a.example AAAA 2001:db8:8::10
		  filter six on box arriving otherwise drop ipv6
		  rule six pass 80`, `intent.unmet a.example:80,443
		  intent.unmet six.a.example:443
		  intent.unmet www.a.example:80,443
		  name.family a.example (no mend)
		  name.family www.a.example (no mend)
		  path.blocked a.example:443
		  path.blocked six.a.example:443
		  path.blocked www.a.example:443
		  redirect.dead a.example:80
		  redirect.dead www.a.example:80`},
		{`zone sub.a.example
		  dns a.example NS ns.elsewhere.test`, `name.undelegated sub.a.example`},
		{`zone sub.a.example
		  dns sub.a.example NS ns.elsewhere.test`, ``},
		{`zone sub.a.example for yard`, ``},
		{`dns www.a.example TXT "t"`, `conflict.name www.a.example`},
		{`dns www.a.example A 203.0.113.1`, `conflict.name www.a.example`},
		{`dns www.a.example CNAME six.a.example`, `conflict.name www.a.example`},
		{`- dns a.example A 203.0.113.1
		  dns b.a.example A 203.0.113.1
		  dns a.example CNAME b.a.example
		  site front b.a.example at 443 to http://app:3000
		  intend b.a.example 443 for internet`, `conflict.name a.example`},
		{`dns a.example A 203.0.113.1 ttl 5m`, `conflict.name a.example`},
		{`host yard`, `conflict.name yard (no mend)`},
		{`filter edge on store output otherwise pass`, `conflict.name edge (no mend)`},
		// Addresses and networks.
		{"host spare\naddress spare 10.0.0.1 yard", `conflict.address 10.0.0.1 (no mend)`},
		{`address store,gate 10.0.8.21 perimeter`, ``},
		{`container box/x in dock=172.20.0.1`, `conflict.address 172.20.0.1 (no mend)`},
		{`network other 10.0.8.128/25
		  address gate 10.0.8.129 other`, `conflict.network other (no mend)`},
		{`network dock2 10.0.0.0/16 on box`, `conflict.network dock2 (no mend)`},
		{`network far 10.0.0.0/24
		  host hut router
		  address hut 192.0.2.9 internet
		  address hut 10.0.0.1 far`, ``},
		{`container box/own shares-host
		  map box/own 8088 to 80`, `record.without-effect map box/own 8088 to 80`},
		{`route store 10.9.0.0/16 via 10.0.0.7`, `record.without-effect route store 10.9.0.0/16 via 10.0.0.7`},
		{`route store 10.9.0.0/16 via 10.0.8.77`, ``},
		{`outbound gate from perimeter leaving dock as 203.0.113.1`, `record.without-effect outbound gate from perimeter leaving dock as 203.0.113.1`},
		{`outbound gate from perimeter leaving yard as 10.0.0.1`, ``},
		{`site front a.example at 8443 files`, `record.without-effect site front a.example at 8443 files`},
		{`dns sub.a.example NS ns.other.example
		  dns deep.sub.a.example TXT "hidden"`, `record.without-effect dns deep.sub.a.example TXT "hidden"`},
		{`dns sub.a.example NS ns.sub.a.example
		  dns ns.sub.a.example A 198.51.100.53`, ``}, // what leads to the name server
		{`dns sub.a.example DNAME other.example
		  dns deep.sub.a.example TXT "hidden"`, `record.without-effect dns deep.sub.a.example TXT "hidden"`},
		{`zone sub.a.example
		  dns sub.a.example NS ns.other.example
		  dns deep.sub.a.example TXT "here"`, ``},
		{`container box/lone alias far
		  map box/lone 8088 to 80
		  listen box/lone 80 as lone
		  rule edge pass 8088 from yard to box
		  intend box 8088 for yard`, `intent.unmet box:8088 (no mend)
		  path.no-listener box:8088 (no mend)
		  record.without-effect map box/lone 8088 to 80`},
		{`network vault 172.20.0.0/24 on store`, ``},
		{`address nobdy 10.0.8.99 perimeter`, `record.unknown-reference address nobdy 10.0.8.99 perimeter (no mend)`},
		{`rule edge pass 22 from perimter to box`, `record.unknown-reference rule edge pass 22 from perimter to box`},
		{`rule edge pass 22 from perimeter to box until 2026-11-24`, `order.unused rule edge pass 22 from perimeter to box until 2026-11-24
		  temporary.expired rule edge pass 22 from perimeter to box until 2026-11-24`},
		// What is open, and was not meant to be.
		{`map box/app 8080 to 3000
		  intend box/app 3000 for nobody`, `exposure.bypass box:8080/tcp
		  exposure.thin box:8080/tcp (no mend)
		  intent.contradicted box/app:3000`},
		{`- intend a.example 80,443 for internet reaching box/app
		  intend a.example 80,443 for internet reaching box/app guarded`, `intent.unguarded a.example:80,443 (no mend)`},
		{`- intend a.example 80,443 for internet reaching box/app
		  intend a.example 80,443 for internet reaching box/app guarded
		  - site front six.a.example at 443 to http://app:3000
		  site front six.a.example at 443 to http://app:3000 guard "sign"`, `intent.unguarded a.example:80,443`},
		{`- intend a.example 80,443 for internet reaching box/app
		  - dns www.a.example CNAME a.example
		  - site front www.a.example at 443 to http://store:9000
		  - intend www.a.example 80,443 for internet reaching store
		  - dns a.example A 203.0.113.1
		  dns a.example A 10.0.8.10 for perimeter
		  intend a.example 443 for perimeter reaching box/app`, `exposure.undeclared box:80/tcp (no mend)
		  exposure.undeclared gate:80/tcp (no mend)
		  exposure.wider box:443/tcp
		  exposure.wider gate:443/tcp
		  name.no-www a.example`},
		{`listen store 22 as ssh
		  rule edge pass 22 from internet to store
		  rule edge pass 22 from yard to store
		  forward gate 2222 to 10.0.8.20:22
		  rule local pass 22
		  intend store 22 for yard`, `exposure.admin gate:2222/tcp
		  exposure.wider gate:2222/tcp
		  exposure.wider store:22/tcp`},
		{`dns in.a.example A 10.0.8.10 for perimeter
		  site front in.a.example at 443 to http://app:3000 sources perimeter
		  intend in.a.example 443 for perimeter,dock reaching box/app`, `exposure.source-lost box:443/tcp (no mend)
		  intent.unmet in.a.example:443 (no mend)
		  site.sources in.a.example:443 (no mend)`},
		{`- site front * at 80 redirect https
		  site front * at 80 files`, `exposure.plaintext box:80/tcp (no mend)
		  exposure.plaintext gate:80/tcp (no mend)
		  intent.unmet a.example:80,443 (no mend)
		  intent.unmet www.a.example:80,443 (no mend)
		  path.wrong-place a.example:80 (no mend)
		  path.wrong-place www.a.example:80 (no mend)
		  site.by-address 203.0.113.1:80 (no mend)
		  site.by-address [2001:db8:8::10]:80 (no mend)`},
		{`site front a.example at 80 to http://app:3000`, `exposure.plaintext box:80/tcp
		  exposure.plaintext gate:80/tcp
		  redirect.missing a.example:80`},
		{`listen store 8443 as pages tls cert page
		  cert page for p.a.example expires 2027-11-20 on store by http-01 alone
		  dns p.a.example A 203.0.113.2
		  address gate 203.0.113.2 internet
		  forward gate at 1 203.0.113.2:80,443 to 10.0.8.20:80,8443
		  rule edge at 1 pass 80,8443 from internet to store
		  rule local pass 80,8443 from internet
		  intend p.a.example 443 for internet`, ``}, // port 80 is asked at while the certificate is proved
		{`- accept upstream.cleartext www.a.example:443 until 2028-01-01 note "box and store stand in one rack"`, `upstream.cleartext www.a.example:443 (no mend)`},
		{`- site front www.a.example at 443 to http://store:9000
		  site front www.a.example at 443 to https://store:9000
		  - listen store 9000 as files
		  listen store 9000 as files tls
		  - intend store 9000 for dock`, ``}, // encrypted all the way
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 unknown`, `intent.undecided a.example:80,443 (no mend)`},
		// Ways.
		{"host second router\naddress second 10.0.8.2 perimeter\naddress second 203.0.113.9 internet\nroute store default via 10.0.8.1", `intent.undecided a.example:80,443
		  intent.undecided www.a.example:80,443
		  path.tie a.example:443
		  path.tie a.example:80
		  path.tie www.a.example:443
		  path.tie www.a.example:80`},
		{"host second router\naddress second 10.0.8.2 perimeter\naddress second 10.0.0.2 yard\nlisten store 22 as ssh\nrule local pass 22 from yard\nintend store 22 for yard\nrule edge pass 22 from yard to store", `intent.undecided a.example:80,443
		  intent.undecided store:22 (no mend)
		  intent.undecided www.a.example:80,443
		  path.tie a.example:443
		  path.tie a.example:80
		  path.tie store:22 (no mend)
		  path.tie www.a.example:443
		  path.tie www.a.example:80`},
		{"filter quiet on store output otherwise drop stateless\nrule quiet pass 53/udp", `intent.unmet store:9000
		  intent.unmet www.a.example:80,443
		  path.lost-reply store:9000
		  path.lost-reply www.a.example:443
		  path.lost-reply www.a.example:80
		  redirect.dead www.a.example:80`},
		{`forward gate 203.0.113.1:9090 to 10.0.8.20:9000 inside
		  rule local pass 9000 from perimeter
		  rule edge pass 9000 from perimeter to store
		  intend store 9000 for perimeter
		  intend 203.0.113.1 9090 for perimeter`, `intent.unmet 203.0.113.1:9090
		  path.lost-reply 203.0.113.1:9090`},
		// Rules in their order.
		{`rule edge pass 80 from 198.51.100.0/24 to box`, `order.shadowed rule edge pass 80 from 198.51.100.0/24 to box`},
		{`rule edge drop 80 from 198.51.100.0/24 to box`, `order.shadowed rule edge drop 80 from 198.51.100.0/24 to box`},
		{`rule local pass 9000 from 172.20.0.0/24`, `order.unused rule local pass 9000 from 172.20.0.0/24`},
		{`rule local drop 9000 from yard`, `order.redundant rule local drop 9000 from yard`},
		{"rule local drop 9000 from yard\nrule local drop 9000 from yard", `conflict.record rule local drop 9000 from yard
		  order.redundant rule local drop 9000 from yard`},
		{"rule edge pass 22 from internet to box\nrule edge pass 22 from internet to box", `conflict.record rule edge pass 22 from internet to box
		  order.unused rule edge pass 22 from internet to box`},
		{`container box/tool in dock
		  listen box/tool 127.0.0.1:7000 as tool
		  map box/tool 10.0.8.10:7000 to 7001`, `path.map-target box:7000`},
		{`forward gate 9443 to 10.0.8.20:9001 from 198.51.100.0/25
		  listen store 9001 as tool
		  rule edge pass 9001 to store
		  rule local pass 9001 from 198.51.100.0/25`, `exposure.undeclared gate:9443/tcp (no mend)`},
		{`rule edge pass 22 from internet to box`, `order.unused rule edge pass 22 from internet to box`},
		{`rule local pass 22,25 from yard
		  listen store 22 as ssh
		  intend store 22 for yard
		  rule edge pass 22 from yard to store`, `order.unused rule local pass 22,25 from yard`},
		{`listen gate 22 as ssh
		  rule edge pass 22 from internet to gate
		  intend gate 22 for internet,perimeter,yard,dock`, `exposure.admin gate:22/tcp (no mend)
		  order.direction rule edge pass 22 from internet to gate`},
		{`map box/app 8080 to 3000
		  intend box 8080 for perimeter,dock reaching box/app
		  filter in on box input otherwise pass ipv4
		  rule in drop 8080 from perimeter`, `exposure.thin box:8080/tcp (no mend)
		  order.direction rule in drop 8080 from perimeter`},
		{`listen store 10.0.8.99:22 as ssh`, `path.listen-address store:22`},
	} {
		t.Run(strings.ReplaceAll(strings.Fields(c.want + " none")[0], ".", "-"), func(t *testing.T) {
			holdsCase(t, c.edit, c.want)
		})
	}
}

// holdsCase checks the sound estate with an edit: it finds just this, and each mend ends its finding and brings no error.
func holdsCase(t *testing.T, edit, expected string) {
	t.Helper()
	e := edited(t, sound, edit)
	before := check1(e)
	var want []string
	noMend := map[string]bool{}
	for _, line := range strings.Split(expected, "\n") {
		if line = strings.TrimSpace(line); line != "" {
			key, without := strings.CutSuffix(line, " (no mend)")
			want = append(want, key)
			noMend[key] = without
		}
	}
	slices.Sort(want)
	if got := said(before); !slices.Equal(got, want) {
		t.Errorf("edit\n%s\nsays\n  %s\nwant\n  %s", edit, strings.Join(got, "\n  "), strings.Join(want, "\n  "))
	}
	errors := before.Counts[Error]
	for _, f := range before.Findings {
		key := f.Code + " " + f.Subject
		if f.Mend.IsEmpty() != noMend[key] {
			t.Errorf("%s: mend %v, none expected: %v", key, f.Mend, noMend[key])
		}
		if f.Mend.IsEmpty() {
			continue
		}
		after := check1(mended(t, e, f.Mend))
		if slices.Contains(said(after), key) {
			t.Errorf("%s is not ended by %s", key, fmt.Sprint(f.Mend.Remove, f.Mend.Add))
		}
		if after.Counts[Error] > errors {
			t.Errorf("the mend of %s brings errors: %v\n%v", key, said(after), f.Mend)
		}
	}
}

// TestEveryMend applies each mend offered on whole estates: what it is for ends, and no error comes.
func TestEveryMend(t *testing.T) {
	for _, path := range []string{"testdata/harbour.estate", "../trace/testdata/example.estate", "../../demo/fernmoor.estate"} {
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		e := edited(t, string(text), "")
		before := check1(e)
		known := map[string]bool{}
		for _, f := range before.Findings {
			known[f.Code+" "+f.Subject] = true
		}
		offered := 0
		for _, f := range before.Findings {
			if f.Mend.IsEmpty() {
				continue
			}
			offered++
			for _, g := range check1(mended(t, e, f.Mend)).Findings {
				key := g.Code + " " + g.Subject
				if g.Code == f.Code && g.Subject == f.Subject {
					t.Errorf("%s: %s is not ended by %v", path, key, f.Mend)
				} else if g.Level == Error && !known[key] {
					t.Errorf("%s: the mend of %s %s brings %s: %s", path, f.Code, f.Subject, key, g.Why)
				}
			}
		}
		if offered == 0 {
			t.Errorf("%s: no mend is offered", path)
		}
	}
}

// TestMendsOfRandomEstates applies each mend offered on random estates with random intents: what it is for ends, and there are
// no more errors than before.
func TestMendsOfRandomEstates(t *testing.T) {
	offered := 0
	for seed := uint64(1); seed <= 30; seed++ {
		r := rand.New(rand.NewPCG(seed, 9))
		pick := func(words ...string) string { return words[r.IntN(len(words))] }
		text := synth.Crossing(r)
		for range 4 {
			q := synth.Ask(r)
			text += fmt.Sprintf("\nintend %s %d for %s", q.To, q.Port, pick("internet", "lan", "link", "far", "nobody"))
		}
		for range 2 {
			text += fmt.Sprintf("\nintend %s %d for %s", pick("box", "plain", "deep", "edge", "box/one"), 1+r.IntN(13), pick("internet", "lan", "link", "far", "nobody"))
		}
		e := edited(t, text, "")
		before := check1(e)
		// Where a range of ports is parted anew, the same is said of its parts.
		key := func(f *Finding) string {
			if strings.HasPrefix(f.Code, "exposure.") {
				host, _, _ := strings.Cut(f.Subject, ":")
				return f.Code + " " + host
			}
			return f.Code + " " + f.Subject
		}
		errors := func(list []*Finding) map[string]string {
			out := map[string]string{}
			for _, f := range list {
				if f.Level == Error {
					out[key(f)] = f.Why
				}
			}
			return out
		}
		was := errors(before.Findings)
		for _, f := range before.Findings {
			if f.Mend.IsEmpty() {
				continue
			}
			offered++
			after := check1(mended(t, e, f.Mend)).Findings
			if slices.ContainsFunc(after, func(g *Finding) bool { return g.Code == f.Code && g.Subject == f.Subject }) {
				t.Errorf("seed %d: %s %s is not ended by %v", seed, f.Code, f.Subject, f.Mend)
			}
			if is := errors(after); len(is) > len(was) {
				t.Errorf("seed %d: the mend of %s %s brings errors\n%v\nwas %v\nis  %v", seed, f.Code, f.Subject, f.Mend, was, is)
			}
		}
	}
	if offered < 200 {
		t.Errorf("only %d mends are offered", offered)
	}
	t.Logf("%d mends", offered)
}

// TestStaleTextMend changes the address that is stale, and none that only begins like it.
func TestStaleTextMend(t *testing.T) {
	e := edited(t, sound, "dns a.example TXT \"v=spf1 ip4:203.0.113.99 ip4:203.0.113.9 IP4:203.0.113.9 -all\"\naddress gate 203.0.113.9 internet off")
	for _, f := range check1(e).Findings {
		if f.Code != "name.stale" {
			continue
		}
		if want := `dns a.example TXT "v=spf1 ip4:203.0.113.99 ip4:203.0.113.1 ip4:203.0.113.1 -all"`; len(f.Mend.Add) != 1 || f.Mend.Add[0] != want {
			t.Errorf("got %v, want %s", f.Mend.Add, want)
		}
		return
	}
	t.Error("nothing is stale")
}

// TestDeterministic looks an estate over many times: the same estate gives the same bytes.
func TestDeterministic(t *testing.T) {
	text, err := os.ReadFile("../../demo/fernmoor.estate")
	if err != nil {
		t.Fatal(err)
	}
	more := string(text) + "zone a.fernmoor.example\nzone b.fernmoor.example\nzone c.a.fernmoor.example\nhost twin\naddress twin 10.40.8.10 perimeter\naddress twin 10.40.0.1 yard\nnetwork over 10.40.0.0/16\naddress twin 10.40.99.1 over\n"
	var first string
	for i := range 8 {
		bytes, err := json.Marshal(check1(edited(t, more, "")))
		if err != nil {
			t.Fatal(err)
		}
		if i == 0 {
			first = string(bytes)
		} else if string(bytes) != first {
			t.Fatalf("time %d differs:\n%s\n%s", i, bytes, first)
		}
	}
}

// TestOneSided says of replies that go another way what it does to them.
func TestOneSided(t *testing.T) {
	report := check1(edited(t, `network near 10.1.0.0/24
network far 10.2.0.0/24
host c
host r router
host s
address c 10.1.0.10 near
address r 10.1.0.1 near
address r 10.2.0.1 far
address s 10.1.0.20 near
address s 10.2.0.20 far
route s default via 10.2.0.1
listen s 80 as web
filter f on r through otherwise drop
rule f pass 80
intend 10.2.0.20 80 for c`, ""))
	if got := said(report); !slices.Contains(got, "path.one-sided 10.2.0.20:80") {
		t.Errorf("it is said: %q", got)
	}
}
