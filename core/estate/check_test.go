package estate_test

import (
	"fmt"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
)

// TestLineRules: what a line must hold beyond the form of its fields, and what is said of one that does not.
func TestLineRules(t *testing.T) {
	for _, c := range []struct{ line, fault string }{
		{"network lan 10.0.0.0/24 routed", "only a container network is routed or filtered; expected on HOST"},
		{"network lan 10.0.0.0/24 filtered", "only a container network is routed or filtered; expected on HOST"},
		{"network dock 172.20.0.0/24 on box routed filtered", ""},
		{"route box 10.0.0.0/8 via 2001:db8::1", "10.0.0.0/8 and 2001:db8::1 are of different families; expected an address of the destination's family"},
		{"route box 2001:db8::/32 via 10.0.0.1", "2001:db8::/32 and 10.0.0.1 are of different families"},
		{"route box default via 2001:db8::1", ""},
		{"route box 2001:db8::/32 via nowhere", ""},
		{"route box default via nowhere", "what has no closer way goes nowhere without a line"},
		{"dns a.example A", "the line ends here; expected the record's value, as in a zone file, or dynamic and a host"},
		{"dns a.example A 203.0.113.1 dynamic box", "\"203.0.113.1 dynamic box\" is none; expected an IPv4 address"},
		{"dns a.example A 203.0.113.1 every 5m", "is none; expected an IPv4 address"},
		{"dns . CNAME a.example", "the root cannot be an alias; expected another owner"},
		{"dns . DNAME a.example", "the root cannot be an alias"},
		{"dns . NS ns.a.example", ""},
		{"forward gate 203.0.113.1:443 to [2001:db8::5]:443", "203.0.113.1 and 2001:db8::5 are of different families; expected a target of the same family"},
		{"forward gate 443 to [2001:db8::5]:443", ""},
		{"forward gate 80,443 to 10.0.0.5:8000-8002", "2 ports cannot be translated to 3; expected one port, or 2, after to"},
		{"forward gate 8000-8009 to 10.0.0.5:80", ""},
		{"map box/app 80 to any", "'any' stands after 'to' only where it stands before it; expected the ports as they are inside"},
		{"map box/app any to 80", ""},
		{"map box/app 80-82 to 8080,8081,9000", ""},
		{"container box/app shares-host alias db", "a container that shares its host has no aliases; expected in NETWORK, or no alias"},
		{"site front a.example at 443", "the site does nothing; expected to URL, to pool NAME, redirect https, redirect URL, files or unknown"},
		{"site front a.example at 443 to http://app:3000 speaking https", "speaking goes with a pool; expected to pool NAME speaking https"},
		{"site front a.example at 443 files asking b.example", "asking goes with to; expected to URL or to pool NAME"},
		{"site front a.example at 443 files verified", "verified goes with to; expected to URL or to pool NAME"},
		{"site front a.example at 443 redirect https through hill", "through goes with to; expected to URL or to pool NAME"},
		{"site front a.example at 443 to pool desk speaking https asking b.example verified", ""},
		{"pool desk in-turn path /ready", "path goes with check; expected check PORT"},
		{"pool desk in-turn every 10s", "every goes with check; expected check PORT"},
		{"pool desk in-turn up-after 3", "up-after goes with check; expected check PORT"},
		{"pool desk in-turn check 8080 path /ready every 10s up-after 3 down-after 2 within 2s", ""},
		{"accept order.unused box note \"no day\"", "a finding is accepted until a day; expected until DATE"},
		{"accept order.unused box until 2027-01-01", "a finding is accepted for a reason; expected note \"…\""},
	} {
		_, _, err := notation.ParseLine(c.line)
		said := ""
		if err != nil {
			said = err.Error()
		}
		if (c.fault == "") != (err == nil) || !strings.Contains(said, c.fault) {
			t.Errorf("%s\nsays %q, want %q", c.line, said, c.fault)
		}
	}
}

// TestTranslate lays outer ports on inner ones, port by port.
func TestTranslate(t *testing.T) {
	ports := func(text string) estate.Ports {
		if text == "" {
			return estate.Ports{}
		}
		p, _, err := notation.ParseLine("rule f pass " + text)
		if err != nil {
			t.Fatal(err)
		}
		return p.Record.(*estate.Rule).Ports
	}
	for _, c := range []struct{ outer, inner, want string }{
		{"80", "", "80>80"},
		{"80", "8080", "80>8080"},
		{"80,443", "8080,8443", "80>8080 443>8443"},
		{"80,443", "8080-8081", "80>8080 443>8081"},
		{"100-103", "200-201,300-301", "100>200 101>201 102>300 103>301"},
		{"100-101,110-111", "200-203", "100>200 101>201 110>202 111>203"},
		{"100-103", "9", "100>9 101>9 102>9 103>9"},
		{"5,3", "50,30", "5>50 3>30"},
	} {
		var got []string
		for _, pair := range estate.Translate(ports(c.outer), ports(c.inner)) {
			for port := int(pair.From.Lo); port <= int(pair.From.Hi); port++ {
				got = append(got, fmt.Sprintf("%d>%d", port, pair.Inner(uint16(port))))
			}
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s to %s: %q, want %s", c.outer, c.inner, got, c.want)
		}
	}
	all := estate.Translate(estate.Ports{Any: true}, estate.Ports{})
	if len(all) != 1 || all[0].From != (netset.PortRange{Lo: 1, Hi: netset.MaxPort}) || all[0].Inner(4711) != 4711 {
		t.Errorf("any port stays what it is: %+v", all)
	}
}

// TestChangedBetween: the records between the same at both ends, by kind.
func TestChangedBetween(t *testing.T) {
	base, faults := notation.Parse("host a\nhost b\nhost c\nnetwork lan 10.0.0.0/24\nfilter f on a input otherwise drop\nrule f pass 80\nrule f pass 443\nrule f pass 22")
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	for _, c := range []struct{ remove, add, kind, gone, come string }{
		{"", "host d", "host", "", "host d"},
		{"host b", "", "host", "host b", ""},
		{"host b", "host b router", "host", "host b", "host b router"},
		{"", "rule f at 2 drop 25", "rule", "", "rule f drop 25"},
		{"rule f pass 80", "rule f at 3 pass 80", "rule", "rule f pass 80; rule f pass 443; rule f pass 22", "rule f pass 443; rule f pass 22; rule f pass 80"},
		{"host b", "host d", "network", "", ""},
	} {
		next := swapped(t, base, c.remove, c.add)
		say := func(list []estate.Record) string {
			var words []string
			for _, r := range list {
				words = append(words, estate.Line(r))
			}
			return strings.Join(words, "; ")
		}
		gone, come := estate.Changed(base, next, estate.KindNamed(c.kind))
		if say(gone) != c.gone || say(come) != c.come {
			t.Errorf("- %s + %s: of %s go %q, come %q; want %q and %q", c.remove, c.add, c.kind, say(gone), say(come), c.gone, c.come)
		}
		if same := estate.Same(base, next, c.kind); same != (c.gone+c.come == "") {
			t.Errorf("- %s + %s: %s are the same: %v", c.remove, c.add, c.kind, same)
		}
		if !estate.Same(base, next, "zone", "dns") || !estate.Same(next, next, c.kind) {
			t.Error("what no line speaks of is not the same")
		}
	}
}

// TestOneOf: a small set and a large one tell the same.
func TestOneOf(t *testing.T) {
	for _, size := range []int{0, 1, 8, 9, 100} {
		set := map[string]bool{}
		for i := range size {
			set[fmt.Sprint("w", i)] = true
		}
		is := estate.OneOf(set)
		for i := range 120 {
			if word := fmt.Sprint("w", i); is(word) != set[word] {
				t.Errorf("of %d words, %s: %v", size, word, is(word))
			}
		}
	}
}

// TestMadeRules: the rules of records that code builds, which no line can break.
func TestMadeRules(t *testing.T) {
	for want, r := range map[string]estate.Record{
		"the record has no value":                        &estate.DNS{Owner: "a.example", Type: "A", TTL: estate.NotGiven, Every: estate.NotGiven},
		"a record has a value or is dynamic, not both":   &estate.DNS{Owner: "a.example", Type: "A", Value: "203.0.113.1", Dynamic: "box", TTL: estate.NotGiven, Every: estate.NotGiven},
		"every goes with dynamic":                        &estate.DNS{Owner: "a.example", Type: "A", Value: "203.0.113.1", TTL: estate.NotGiven, Every: 300},
		"a finding is accepted until a day":              &estate.Acceptance{Code: "order.unused", Subject: "box"},
		"only a container network is routed or filtered": &estate.Network{Name: "lan", Routed: true},
	} {
		if err := estate.Complete(r); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %s", err, want)
		}
	}
}
