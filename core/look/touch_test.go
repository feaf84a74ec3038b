package look

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/trace"
)

// office is an estate of addresses that are somebody's, so that only the rules keep them from being contacted.
const office = `
network lan 10.9.0.0/24
network far 10.9.0.0/24
network dock 172.20.0.0/24 on box
network open 172.21.0.0/24 on box routed
host gate router
host box
host edge outside
host other
host away router
address gate 198.18.7.7 internet off
address gate 9.9.9.9 internet
address gate 11.5.0.0/24 internet
address gate 10.9.0.1 lan
address box 10.9.0.5 lan
address box 2620:fe::5 internet
address edge 9.9.9.10 internet
address away 9.9.9.11 internet dynamic
address away 10.9.0.1 far
address other 10.9.0.7 far
address other 10.9.0.5 far
address other 203.0.113.7 internet
address other 169.254.3.3 internet
zone a.example
dns a.example A 9.9.9.9
dns moved.a.example A 198.51.100.44
dns elsewhere.a.example CNAME www.elsewhere.example
dns foreign.a.example A 8.8.8.8
dns edge.a.example A 9.9.9.10
dns away.a.example A dynamic away
dns block.a.example A 11.5.0.9
forward gate 80,443 to 10.9.0.5
forward gate 11.5.0.8:25 to 10.9.0.5
container box/front in dock=172.20.0.5
container box/api in open=172.21.0.5
listen box 80 as web
listen box 443 as web tls
listen box/front 8000 as app
site web a.example at 80 redirect https://www.elsewhere.example/login
site web a.example at 443 to http://172.20.0.5:8000
cert a for a.example expires 2027-01-01 on box by hand
intend a.example 80,443 for internet
intend elsewhere.a.example 443 for internet
intend foreign.a.example 443 for internet
intend edge.a.example 443 for internet
intend away.a.example 443 for internet
intend block.a.example 443 for internet
intend other any for nobody
intend box any for nobody
intend box/front 8000 for nobody
`

func planned(t *testing.T, self Self, q Question) Plan {
	t.Helper()
	p, err := PlanOf(context.Background(), trace.New(model.Compile(notationtest.Parse(t, office)), "2026-12-01"), self, q)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// contacted are the addresses that a plan would contact.
func contacted(p Plan) []string {
	var out []string
	for _, c := range p.Contacts {
		if c.Address != "" && !slices.Contains(out, c.Address) {
			out = append(out, c.Address)
		}
	}
	slices.Sort(out)
	return out
}

func self(hostname string, prefixes ...string) Self {
	s := Self{Hostname: hostname}
	for _, p := range prefixes {
		s.Prefixes = append(s.Prefixes, netip.MustParsePrefix(p))
	}
	return s
}

// TestTouched holds which addresses of an estate that tries are contacted, from where: none that no line in force says is ours, none that is
// private where nothing says for certain what it means, none of a look-alike range.
func TestTouched(t *testing.T) {
	public := []string{"11.5.0.9", "2620:fe::5", "9.9.9.9"}
	near := []string{"10.9.0.5", "11.5.0.9", "2620:fe::5", "9.9.9.9"}
	for _, c := range []struct {
		name string
		self Self
		from string
		want []string
		at   string // the vantage that is found
	}{
		{"a machine that nobody recorded", self("laptop", "192.168.7.2/24"), "", public, "internet"},
		{"in a range as one of ours", self("laptop", "10.9.0.77/24"), "", public, "internet"},
		{"with an address of ours in a friend's network", self("laptop", "10.9.0.5/24"), "", public, "internet"},
		{"with an address of ours and its name", self("BOX.lan", "10.9.0.5/24"), "", append([]string{"172.20.0.5"}, near...), "box"},
		{"with two addresses of ours", self("x", "10.9.0.5/24", "2620:fe::5/64"), "", append([]string{"172.20.0.5"}, near...), "box"},
		{"of two machines of ours with one address", self("other", "10.9.0.5/24", "10.9.0.7/24"), "", []string{"10.9.0.7", "11.5.0.9", "9.9.9.9"}, "other"},
		{"on the lan, as was said", self("laptop", "192.168.7.2/24"), "lan", []string{"10.9.0.5", "11.5.0.9", "9.9.9.9"}, "lan"},
		{"on the internet, as was said", self("laptop", "10.9.0.77/24"), "internet", public, "internet"},
		{"in a range for documentation", self("laptop", "203.0.113.200/24"), "", append([]string{"203.0.113.7"}, public...), "internet"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := planned(t, c.self, Question{From: c.from})
			slices.Sort(c.want)
			if got := contacted(p); !slices.Equal(got, c.want) || p.From != c.at {
				t.Errorf("from %s (%s) contacts %v, want %v from %s", p.From, p.Why, got, c.want, c.at)
			}
			for _, x := range p.Contacts {
				if x.Address != "" && x.Ours == "" {
					t.Errorf("%s at %s has no line that makes it ours", x.Target, x.Address)
				}
			}
		})
	}
}

// TestRefusals holds that what is not looked at is said, with its reason.
func TestRefusals(t *testing.T) {
	p := planned(t, self("laptop", "192.168.7.2/24"), Question{From: "", Targets: []string{
		"elsewhere.a.example:443", "foreign.a.example:443", "edge.a.example:443", "away.a.example:443", "9.9.9.11:443", "other:22", "box:22", "box/front:8000", "a.example:9/udp", "moved.a.example:443",
	}})
	var got []string
	for _, r := range p.Refused {
		got = append(got, fmt.Sprintf("%s at %s: %s", r.Target, r.Address, r.Why))
	}
	want := []string{
		"elsewhere.a.example:443 at elsewhere: it is not ours",
		"foreign.a.example:443 at 8.8.8.8: it is not ours",
		"edge.a.example:443 at 9.9.9.10: edge holds it, which is not ours",
		"9.9.9.11:443 at 9.9.9.11: the address of away changes by itself: who has this one now is not known",
		"203.0.113.7:22 at 203.0.113.7: it is of a range for documentation, which nobody has",
		"172.20.0.5:8000 at 172.20.0.5: it is box/front's own, which is reached from its machine alone",
		"a.example:9/udp at 9.9.9.9: over udp only name servers and clocks have a harmless question to answer",
		"moved.a.example:443 at 198.51.100.44: it is not ours",
	}
	if !slices.Equal(got, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if len(contacted(p)) > 2 {
		t.Errorf("contacts %v", contacted(p))
	}
}

// TestFollows: an address that changes by itself is the one that the own name which follows it gives now; what is recorded of others is said, so that
// it is none of these.
func TestFollows(t *testing.T) {
	p := planned(t, self("laptop", "192.168.7.2/24"), Question{Targets: []string{"away.a.example:443"}})
	var c *Contact
	for i := range p.Contacts {
		if p.Contacts[i].Did != Resolve {
			c = &p.Contacts[i]
		}
	}
	if c == nil || c.Follows != "away.a.example" || c.Zone != "a.example" || c.Address != "" || c.Ours != "address away 9.9.9.11 internet dynamic" {
		t.Fatalf("%+v", p.Contacts)
	}
	for _, want := range []string{"11.5.0.0/24", "9.9.9.9/32", "10.9.0.0/24"} {
		if !slices.Contains(p.Recorded, want) {
			t.Errorf("%s is recorded, and not said: %v", want, p.Recorded)
		}
	}
	if slices.Contains(p.Recorded, "9.9.9.11/32") {
		t.Error("the address that was recorded last is taken for another's")
	}
	tr := trace.New(model.Compile(notationtest.Parse(t, "host away router\naddress away 9.9.9.11 internet dynamic\nlisten away 443 as web\nzone a.example\ndns away.a.example A dynamic away\n")), "2026-12-01")
	at := time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		l    Look
		want Agreement
	}{
		{Look{Did: Connect, Target: "away.a.example:443", Came: Arrived, Address: "9.9.9.200", Follows: "away.a.example"}, Agrees},
		{Look{Did: Connect, Target: "away.a.example:443", Came: Refused, Address: "9.9.9.200", Follows: "away.a.example"}, Differs},
		{Look{Did: Connect, Target: "away.a.example:443", Came: Refused, Address: "9.9.9.200"}, CannotTell},
		{Look{Did: Resolve, Target: "away.a.example A", Came: Answered, Code: "NOERROR", Answers: []string{"9.9.9.11"}}, Agrees},
		{Look{Did: Resolve, Target: "away.a.example A", Came: Answered, Code: "NOERROR", Answers: []string{"9.9.9.200"}}, CannotTell},
		{Look{Did: Resolve, Target: "away.a.example A", Came: Answered, Code: "NXDOMAIN"}, Differs},
	} {
		c.l.At, c.l.From = at, "internet"
		if Judge(tr, &c.l); c.l.Agrees != c.want {
			t.Errorf("%+v: %s, want %s", c.l, c.l.Agrees, c.want)
		}
	}
}

// TestBounded holds that the last gate knows no record: whatever a list of contacts says, these are not contacted.
func TestBounded(t *testing.T) {
	for _, text := range []string{"0.0.0.0", "::", "127.0.0.1", "::1", "169.254.169.254", "fe80::1", "224.0.0.1", "ff02::1", "255.255.255.255", "203.0.113.1", "2001:db8::1", "198.18.0.1", "240.0.0.1", "10.0.0.1", "::ffff:9.9.9.9"} {
		if Bounded(netip.MustParseAddr(text), self("x", "192.168.1.2/24"), false) == "" {
			t.Errorf("%s may be contacted", text)
		}
	}
	for _, text := range []string{"9.9.9.9", "2620:fe::fe"} {
		if why := Bounded(netip.MustParseAddr(text), Self{}, false); why != "" {
			t.Errorf("%s may not be contacted: %s", text, why)
		}
	}
	if why := Bounded(netip.MustParseAddr("10.0.0.1"), Self{}, true); why != "" {
		t.Errorf("a private address may not be contacted though it was said from where: %s", why)
	}
}
