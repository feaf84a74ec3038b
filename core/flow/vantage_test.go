package flow

import (
	"errors"
	"strings"
	"testing"

	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation/notationtest"
)

// TestVantages: what a word stands for as a place to ask from, and what is said of one that is none.
func TestVantages(t *testing.T) {
	tr := New(model.Compile(notationtest.Parse(t, touching+`
network dock 172.20.0.0/24 on web
container web/app in dock
group staff 10.0.0.64/28,db,lan
group outer staff,198.51.100.7
group ring outer,ring
group empty nowhere
`)))
	for _, c := range []struct {
		word    string
		origins string // the place, or the network, of each
		whole   string // the sources; of places none, which hang on their way out
	}{
		{"internet", "internet", "…"},
		{"", "internet", "…"},
		{"INTERNET", "internet", "…"},
		{"lan", "lan", "…"},
		{"web", "web", ""},
		{"Web/App", "web/app", ""},
		{"dock", "dock", "…"},
		{"10.0.0.77", "lan", "10.0.0.77/32"},
		{"10.0.0.64/28", "lan", "10.0.0.64/28"},
		{"10.0.0.70/28", "lan", "10.0.0.64/28"},
		{"10.0.0.6", "db", "10.0.0.6/32"},
		{"203.0.113.1", "gate", "203.0.113.1/32"},
		{"198.51.100.7", "internet", "198.51.100.7/32"},
		{"::ffff:198.51.100.7", "internet", "198.51.100.7/32"},
		{"2001:db8::7", "internet", "2001:db8::7/128"},
		{"staff", "lan db lan", "…"},
		{"outer", "lan db lan internet", "…"},
		{"ring", "lan db lan internet", "…"},
	} {
		v, err := tr.VantageNamed(c.word)
		if err != nil {
			t.Errorf("%q: %v", c.word, err)
			continue
		}
		var origins []string
		for _, o := range v.Origins {
			if o.Place != model.Nowhere {
				origins = append(origins, tr.Model.Places[o.Place].Name)
			} else {
				origins = append(origins, tr.Model.Networks[o.Net].Name)
			}
		}
		whole := strings.Join(v.Whole.Strings(), " ")
		if strings.Join(origins, " ") != c.origins || c.whole != "…" && whole != c.whole || c.whole == "…" && whole == "" {
			t.Errorf("%q is asked from %q, by %s; want %s, %s", c.word, origins, whole, c.origins, c.whole)
		}
	}
	for word, want := range map[string]string{
		"moon": `no such vantage: "moon"; expected internet, a network, group, host, container or address that is recorded`, "empty": "group empty has no member to ask from",
		"192.168.7.7": "is in no recorded network and not on the internet", "fe80::1%eth0": "no such vantage", "10.0.0.0/33": "no such vantage",
	} {
		if _, err := tr.VantageNamed(word); !errors.Is(err, ErrNoVantage) || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %s", word, err, want)
		}
	}
}

// TestSaidSources: sources in terms of a vantage, by whichever of "only" and "except" is shorter.
func TestSaidSources(t *testing.T) {
	tr := New(model.Compile(notationtest.Parse(t, touching)))
	v, err := tr.VantageNamed("10.0.0.64/28")
	if err != nil {
		t.Fatal(err)
	}
	set := func(words ...string) netset.Addrs {
		var sets []netset.Addrs
		for _, w := range words {
			from, to, ok := strings.Cut(w, "-")
			if !ok {
				to = from
			}
			s, ok := netset.AddrRange(from, to)
			if !ok {
				t.Fatal(w)
			}
			sets = append(sets, s)
		}
		return netset.Union(sets...)
	}
	for _, c := range []struct {
		set    netset.Addrs
		only   string
		except string
	}{
		{set(), "", ""},
		{set("10.0.0.64-10.0.0.79"), "", ""},
		{set("10.0.0.70"), "10.0.0.70/32", ""},
		{set("10.0.0.64-10.0.0.71"), "10.0.0.64/29", ""},
		{set("10.0.0.64-10.0.0.69", "10.0.0.71-10.0.0.79"), "", "10.0.0.70/32"},
		{set("10.0.0.65-10.0.0.79"), "", "10.0.0.64/32"},
	} {
		s, _ := v.Say(c.set, false)
		if s.Of != "10.0.0.64/28" || strings.Join(s.Only, " ") != c.only || strings.Join(s.Except, " ") != c.except {
			t.Errorf("%v is said as %+v, want only %q, except %q", c.set.Strings(), s, c.only, c.except)
		}
	}
	if s, _ := v.Say(set("10.0.0.70"), true); len(s.Only)+len(s.Except) > 0 {
		t.Errorf("of a family that the vantage has not: %+v", s)
	}
}
