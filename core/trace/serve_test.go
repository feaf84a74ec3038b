package trace

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/say"
)

// front is a machine on the internet with a web server, and a few backends.
const front = `
host web
host app
network lan 10.0.0.0/24
address web 203.0.113.1 internet
address web 10.0.0.1 lan
address app 10.0.0.2 lan
zone a.example
dns a.example A 203.0.113.1
dns *.a.example A 203.0.113.1
listen web 80 as www
listen web 443 as www tls cert star
listen app 8080 as one
listen app 8081 as two tls
cert star for a.example,*.a.example expires 2027-01-01 on web
cert inner for app.example expires 2027-01-01 on app
`

// twins hands a.example to a pool, and there is a second machine for it.
const twins = "site www a.example to pool p\nhost twin\naddress twin 10.0.0.3 lan\nlisten twin 8080 as other\n"

// TestSites ties a request to the site that takes it and to where it ends.
func TestSites(t *testing.T) {
	for _, c := range []struct{ add, target, want string }{
		// Which site: exact, the longest wildcard, *, the default, the first.
		{"site www x.a.example to http://app:8080\nsite www *.a.example files", "https://x.a.example", "arrives app:8080"},
		{"site www x.a.example to http://app:8080\nsite www *.a.example files", "https://y.a.example", "arrives web:443"},
		{"site www *.a.example files\nsite www *.b.a.example to http://app:8080", "http://x.b.a.example", "arrives app:8080"},
		{"site www *.a.example files", "http://a.example", "unanswered web:80 !site.none"},
		{"site www * files", "http://a.example", "arrives web:80"},
		{"site www * files", "http://203.0.113.1", "arrives web:80"},
		{"site www a.example files", "http://203.0.113.1", "unanswered web:80 !site.none"},
		{"site www a.example files default", "http://203.0.113.1", "arrives web:80"},
		{"site www 203.0.113.1 to http://app:8080\nsite www * files", "http://203.0.113.1", "arrives app:8080"},
		{"- listen web 80 as www\nlisten web 80 as www first-answers\nsite www b.a.example to http://app:8080\nsite www a.example files", "http://c.a.example", "arrives app:8080"},
		{"site www a.example to http://app:8080\nsite one * redirect http://app.a.example:8080\ndns app.a.example A 10.0.0.6", "http://a.example", "unroutable app:8080 !path.no-public-address !redirect.dead"}, // the visitor is sent there, not the front
		{"site www a.example at 443 files\nsite www * at 80 redirect https", "http://a.example", "redirect web:443"},
		{"site www a.example at 80 files", "https://a.example", "unanswered web:443 !site.none"},
		{"site www a.example at 10.0.0.1:80 files", "http://a.example", "unanswered web:80 !site.none"},
		{"", "http://a.example", "arrives web:80"},
		// Several names: each is a site of its own, at the place of its record.
		{"site www x.a.example, a.example to http://app:8080\nsite www a.example files", "http://a.example", "arrives app:8080"},
		{"site www x.a.example,*.b.a.example to http://app:8080\nsite www *.a.example files", "http://y.b.a.example", "arrives app:8080"},
		{"site www x.a.example,y.a.example files default", "http://z.a.example", "arrives web:80"},
		{"site www b.a.example,wwv.a.example to http://app:8080", "http://www.a.example", "unanswered web:80 !site.none"},
		// Paths by whole segments, the longest first.
		{"site www a.example files\nsite www a.example path /api to http://app:8080", "http://a.example/api/v1", "arrives app:8080"},
		{"site www a.example files\nsite www a.example path /api to http://app:8080", "http://a.example/apix", "arrives web:80"},
		{"site www a.example path /api to http://app:8080", "http://a.example/", "unanswered web:80 !site.none"},
		{"site www a.example files\nsite www a.example path /api to http://app:8080", "a.example:80", "/ arrives web:80; /api arrives app:8080"},
		// TLS and what is spoken.
		{"site www a.example files", "http://a.example:443", "mismatched web:443 !site.speech"},
		{"site www a.example files", "https://a.example:80", "mismatched web:80 !site.speech"},
		{"site www a.b.a.example files", "https://a.b.a.example", "untrusted web:443 !cert.names"},
		{"listen web 9443 as www tls cert star\nsite www a.example files", "a.example:9443", "arrives web:9443"},
		{"- cert star for a.example,*.a.example expires 2027-01-01 on web\ncert star for a.example expires 2027-01-01 on web trial\nsite www a.example files", "https://a.example", "untrusted web:443 !cert.trial"},
		// Handing on.
		{"site www a.example to http://app:8081", "http://a.example", "gateway-error(mismatched) app:8081 !upstream.scheme"},
		{"site www a.example to https://app:8081", "http://a.example", "arrives app:8081"},
		{"site www a.example to https://app:8081 verified", "http://a.example", "gateway-error(untrusted) app:8081 !cert.names"},
		{"site www a.example to https://app:8081 verified asking app.example", "http://a.example", "arrives app:8081"},
		{"site www a.example to http://localhost:8080", "http://a.example", "gateway-error(refused) web:80 !upstream.refused"},
		{"site www a.example to http://10.0.0.9:80", "http://a.example", "gateway-error(unroutable) web:80 !path.no-route"},
		{"site www a.example to http://gone.a:80", "http://a.example", "gateway-error(unresolved) web:80 !upstream.unresolved"},
		{"site www a.example to http://app:8082", "http://a.example", "gateway-error(refused) web:80 !upstream.refused"},
		{"site www a.example to http://app:8080\nsite one other.example files", "http://a.example", "gateway-error(unanswered) app:8080 !upstream.name"},
		{"site www a.example to http://app:8080 asking other.example\nsite one other.example files", "http://a.example", "arrives app:8080"},
		{"site www a.example to http://app:8080/v2\nsite one a.example path /v2 files", "http://a.example/", "arrives app:8080"},
		{"site www a.example to http://localhost:80", "http://a.example", "loop web:80 !upstream.loop"},
		{"site www a.example to http://app:8080\nsite one a.example to http://web:80", "http://a.example", "loop web:80 !upstream.loop"},
		{"filter f on app input otherwise drop\nsite www a.example to http://app:8080", "http://a.example", "gateway-error(silent) web:80 !upstream.blocked"},
		{"site www a.example to pool p\npool p", "http://a.example", "gateway-error web:80 !pool.empty"},
		// Pools: a branch a member in service.
		{twins + "pool p in-turn\nmember p app:8080\nmember p twin:8080", "http://a.example", "arrives app:8080; arrives twin:8080"},
		{twins + "pool p in-turn\nmember p app:8080\nmember p twin:8080 out", "http://a.example", "arrives app:8080"},
		{twins + "pool p in-turn\nmember p app:8080\nmember p twin:9999", "http://a.example", "arrives app:8080; gateway-error(refused) web:80 !upstream.refused"},
		{twins + "pool p in-turn check 8080\nmember p app:8080\nmember p twin:9999", "http://a.example", "arrives app:8080; gateway-error(refused) web:80 !upstream.refused"},
		{twins + "pool p in-turn check 8080\nmember p app:8080\nmember p twin:8080 spare", "http://a.example", "arrives app:8080"},
		{twins + "pool p in-turn check 8080\nmember p nowhere:8080\nmember p twin:8080 spare", "http://a.example", "arrives twin:8080"},
		{twins + "pool p in-turn check 9999\nmember p app:8080\nmember p twin:8080", "http://a.example", "gateway-error(refused) web:80 !pool.down; gateway-error(refused) web:80 !pool.down"},
		{twins + "pool p in-turn check 8080 path /ready\nmember p app:8080\nmember p twin:8080\nsite other x.example files", "http://a.example", "arrives app:8080"},
		{twins + "pool p in-turn check 8080 path /ready\nmember p app:8080\nmember p twin:8080\nsite other twin redirect https", "http://a.example", "arrives app:8080; gateway-error(unanswered) twin:8080 !upstream.name"},
		{twins + "pool p in-turn check 80 path /\nmember p web:80", "http://a.example", "gateway-error(unanswered) web:80 !pool.down !upstream.loop"},
		{"site www a.example at 80 to pool p\npool p in-turn\nmember p app:8080\nsite one a.example files", "a.example", "arrives app:8080"}, // nobody asks a member for the name by itself
		{"site www a.example to pool p speaking https\npool p in-turn check 8081 tls\nmember p app:8081", "http://a.example", "arrives app:8081"},
		{"- dns a.example A 203.0.113.1\ndns a.example A 203.0.113.9\nhost gate router\naddress gate 203.0.113.9 internet\naddress gate 10.0.0.9 lan\nforward gate 80 to pool p\npool p in-turn\nmember p app:8080\nmember p app:9999 out", "http://a.example", "arrives app:8080"},
		{"- dns a.example A 203.0.113.1\ndns a.example A 203.0.113.9\nhost gate router\naddress gate 203.0.113.9 internet\naddress gate 10.0.0.9 lan\nforward gate 80 to pool p\npool p in-turn check 9999\nmember p app:8080", "http://a.example", "refused !pool.down"},
		// A pool whose check leads back to itself; a sign-in that is cut off; a tunnel that is not dialled.
		{twins + "pool p in-turn check 9000\nmember p app:9000\nhost gate router\naddress gate 10.0.0.9 lan\nforward gate 10.0.0.9:9000 to pool p inside\nmember p 10.0.0.9:9000", "http://a.example", "gateway-error(refused) web:80 !pool.down !upstream.refused; gateway-error(refused) web:80 !pool.down !pool.down"},
		{"site www a.example to http://app:8080 guard one", "http://a.example", "arrives app:8080"},
		{"site www a.example to http://app:8080 guard none", "http://a.example", "gateway-error(refused) web:80 !upstream.guard"},
		{"site www a.example to http://app:8080 guard \"somewhere else\"", "http://a.example", "arrives app:8080"},
		{"site www a.example to http://localhost:8080 through up\ntunnel up from app to 10.0.0.1:443", "http://a.example", "arrives app:8080"},
		{"site www a.example to http://localhost:8080 through up\ntunnel up from app to 10.0.0.1:7000", "http://a.example", "gateway-error(refused) web:80 !tunnel.closed"},
		{"site www a.example to http://localhost:8080 through up\ntunnel up from app to 10.0.0.1:443 off", "http://a.example", "gateway-error(refused) web:80 !tunnel.closed"},
		// Redirects are followed; sources are held to.
		{"site www a.example redirect https://b.a.example/x\nsite www b.a.example files", "http://a.example", "redirect web:443"},
		{"site www a.example redirect https://b.a.example/x", "http://a.example", "unanswered web:443 !site.none !redirect.dead"},
		{"site www a.example redirect https://elsewhere.test/", "http://a.example", "redirect web:80"},
		{"site www a.example redirect http://b.a.example/\nsite www b.a.example redirect http://a.example/", "http://a.example", "loop web:80 !redirect.loop !redirect.dead !redirect.dead"},
		{"site www a.example files sources 198.51.100.0/24", "http://a.example", "denied web:80 except 198.51.100.0/24 !site.sources; arrives web:80 only 198.51.100.0/24"},
		// What was meant.
		{"intend a.example 80 for internet reaching app\nsite www a.example files", "http://a.example", "arrives web:80 !path.wrong-place"},
		{"intend a.example 80 for internet reaching app\nsite www b.a.example files", "http://a.example", "unanswered web:80 !site.none"},
	} {
		lines := strings.Split(front, "\n")
		for _, l := range strings.Split(c.add, "\n") {
			if gone, ok := strings.CutPrefix(l, "- "); ok {
				lines = slices.DeleteFunc(lines, func(x string) bool { return x == gone })
			} else {
				lines = append(lines, l)
			}
		}
		r := ask(t, compiled(t, notationtest.Parse(t, strings.Join(lines, "\n"))), c.target, "internet")
		var got []string
		for i, text := range said(r) {
			_, rest, _ := strings.Cut(text, " ")
			if strings.Contains(c.want, "; /") || strings.HasPrefix(c.want, "/ ") {
				rest = r.Paths[i].URLPath + " " + rest
			}
			got = append(got, rest)
		}
		if text := strings.Join(got, "; "); text != c.want {
			t.Errorf("%s, with\n  %s\ngot  %s\nwant %s", c.target, strings.ReplaceAll(c.add, "\n", "\n  "), text, c.want)
		}
	}
}

func TestTargets(t *testing.T) {
	tr := compiled(t, notationtest.Parse(t, front))
	for text, want := range map[string]string{
		"a.example": "a.example 0/tcp", "A.Example.:53/udp": "a.example 53/udp", "203.0.113.1:80": "203.0.113.1 80/tcp",
		"[2001:db8::1]:443": "2001:db8::1 443/tcp", "2001:db8::1": "2001:db8::1 0/tcp", "web:22": "place web 22/tcp",
		"https://a.example:8443/x": "a.example 8443/tcp", "http://[::ffff:203.0.113.1]/": "203.0.113.1 80/tcp",
		"": "!", "a.example:": "!", "a.example:0": "!", "a.example:70000": "!", "a.example/udp": "!", "ftp://a.example": "!",
		"nobody/here": "!", "a b": "!", "[::1": "!", "http://": "!", "a..b": "!", strings.Repeat("a", 3000): "!",
	} {
		tg, err := tr.ParseTarget(text)
		got := "!"
		if err == nil {
			got = tg.subject()
			if tg.Place != nil {
				got = "place " + got
			}
			got += " " + slashed(flow.PortKey{Port: tg.Port, Transport: tg.Proto})
		}
		if got != want {
			t.Errorf("%q is read as %s, want %s", clip(text), got, want)
		}
	}
}

func slashed(k flow.PortKey) string {
	if text := say.PortWord(k.Port, k.Transport); strings.Contains(text, "/") {
		return text
	}
	return say.PortWord(k.Port, k.Transport) + "/tcp"
}

// TestOffListenerAlone: a listener that is off, and the only one of its service, is the mend; its sites answer past it.
func TestOffListenerAlone(t *testing.T) {
	tr := New(model.Compile(notationtest.Parse(t, "host web\naddress web 203.0.113.5 internet\nlisten web 80 as shop off\nsite shop shop.example at 80 files\nintend web 80 for internet\n")), "2026-11-25")
	v, err := tr.VantageNamed("internet")
	if err != nil {
		t.Fatal(err)
	}
	paths := tr.TracePort(Target{Text: "shop.example", Addr: netip.MustParseAddr("203.0.113.5")}, flow.PortKey{Port: 80, Transport: netset.TCP}, v)
	if len(paths) != 1 || paths[0].Outcome != flow.Refused || len(paths[0].Breaks) == 0 || !slices.Equal(paths[0].Breaks[0].Mend.Add, []string{"listen web 80 as shop"}) {
		t.Fatalf("%+v", paths)
	}
	if tr.Lands("web") != true {
		t.Error("the intent lands nowhere")
	}
}

// TestContainerBesideMachines: a container in a network that is inside no machine is reached, and asks, as a machine there.
func TestContainerBesideMachines(t *testing.T) {
	tr := New(model.Compile(notationtest.Parse(t, `
network lan 10.0.0.0/24
network dmz 10.0.1.0/24
host gate router
host box
host pc
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address gate 10.0.1.1 dmz
address box 10.0.0.10 lan
address pc 10.0.1.20 dmz
container box/app in lan=10.0.0.50
container box/free in lan
listen box/app 80 as app
listen box/free 90 as free
listen pc 25 as mail
forward gate 80 to 10.0.0.50
`)), "2026-11-25")
	for _, c := range []struct{ target, from, want string }{
		{"203.0.113.1:80", "internet", "arrives box/app:80"},
		{"10.0.0.50:80", "lan", "arrives box/app:80"},
		{"10.0.0.50:80", "dmz", "arrives box/app:80"},
		{"box/app:80", "box", "arrives box/app:80"},
		{"box/app:81", "box", "refused"},
		{"box/free:90", "lan", "arrives box/free:90"},
		{"box/free:90", "box/app", "arrives box/free:90"},
		{"box/free:90", "dmz", "unroutable"},
		{"pc:25", "box/app", "arrives pc:25"},
		{"198.51.100.1:80", "box/app", "outside"},
		{"10.0.0.77:80", "box/app", "unroutable"},
	} {
		v, err := tr.VantageNamed(c.from)
		if err != nil {
			t.Fatal(err)
		}
		tg, err := tr.ParseTarget(c.target)
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		for _, p := range tr.Trace(tg, v).Paths {
			got = strings.TrimSpace(string(p.Outcome) + " " + say.OrEmpty(p.End))
		}
		if got != c.want {
			t.Errorf("%s from %s: %s, want %s", c.target, c.from, got, c.want)
		}
	}
}
