package netset

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
)

func addrsIn(t *testing.T, text string) Addrs {
	t.Helper()
	var sets []Addrs
	for _, word := range strings.Fields(text) {
		if from, to, ok := strings.Cut(word, "-"); ok {
			set, ok := AddrRange(from, to)
			if !ok {
				t.Fatalf("%s is no range", word)
			}
			sets = append(sets, set)
			continue
		}
		if !strings.Contains(word, "/") {
			sets = append(sets, AddrsOf(netip.MustParseAddr(word)))
			continue
		}
		sets = append(sets, PrefixesOf(netip.MustParsePrefix(word)))
	}
	return Union(sets...)
}

// TestAddrsInWords: sets as people write them, in their plainest form.
func TestAddrsInWords(t *testing.T) {
	for _, c := range []struct{ set, plain, lowest, highest string }{
		{"10.0.0.0/25 10.0.0.128/25", "10.0.0.0/24", "10.0.0.0", "10.0.0.255"},
		{"10.0.0.0-10.0.0.2", "10.0.0.0/31 10.0.0.2/32", "10.0.0.0", "10.0.0.2"},
		{"10.0.0.7 10.0.0.7", "10.0.0.7/32", "10.0.0.7", "10.0.0.7"},
		{"2001:db8::/33 10.0.0.1 2001:db8:8000::/33", "10.0.0.1/32 2001:db8::/32", "10.0.0.1", "2001:db8:ffff:ffff:ffff:ffff:ffff:ffff"},
		{"255.255.255.254-255.255.255.255", "255.255.255.254/31", "255.255.255.254", "255.255.255.255"},
		{"::/0", "::/0", "::", "ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff"},
	} {
		s := addrsIn(t, c.set)
		if got := strings.Join(s.Strings(), " "); got != c.plain || s.Lowest().String() != c.lowest || s.Highest().String() != c.highest {
			t.Errorf("%s: %s from %s to %s, want %s from %s to %s", c.set, got, s.Lowest(), s.Highest(), c.plain, c.lowest, c.highest)
		}
	}
	var none Addrs
	if len(none.Strings()) != 0 || none.Lowest().IsValid() || none.Highest().IsValid() || !none.IsEmpty() || none.Contains(netip.MustParseAddr("::")) {
		t.Error("the empty set is not empty")
	}
	for _, c := range [][2]string{{"10.0.0.9", "10.0.0.1"}, {"10.0.0.1", "::1"}, {"ten", "10.0.0.1"}, {"", ""}} {
		if s, ok := AddrRange(c[0], c[1]); ok {
			t.Errorf("%q to %q is the range %v", c[0], c[1], s.Strings())
		}
	}
}

// TestAddrsListed: the addresses of a set one by one, where they are few.
func TestAddrsListed(t *testing.T) {
	for _, c := range []struct {
		set  string
		most int
		want string
		ok   bool
	}{
		{"10.0.0.0/30", 4, "10.0.0.0 10.0.0.1 10.0.0.2 10.0.0.3", true},
		{"10.0.0.0/30", 3, "", false},
		{"10.0.0.9 2001:db8::1", 2, "10.0.0.9 2001:db8::1", true},
		{"255.255.255.255", 5, "255.255.255.255", true},
		{"ffff:ffff:ffff:ffff:ffff:ffff:ffff:fffe/127", 5, "ffff:ffff:ffff:ffff:ffff:ffff:ffff:fffe ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff", true},
		{"::/0", 100, "", false},
		{"", 0, "", true},
	} {
		list, ok := addrsIn(t, c.set).Addrs(c.most)
		var words []string
		for _, a := range list {
			words = append(words, a.String())
		}
		if got := strings.Join(words, " "); got != c.want || ok != c.ok {
			t.Errorf("%s, at most %d: %q %v, want %q %v", c.set, c.most, got, ok, c.want, c.ok)
		}
	}
	if a, ok := addrsIn(t, "10.0.0.4/32").Single(); !ok || a.String() != "10.0.0.4" {
		t.Errorf("the one address: %v %v", a, ok)
	}
	for _, set := range []string{"", "10.0.0.0/31", "10.0.0.1 10.0.0.3", "10.0.0.1 ::1"} {
		if a, ok := addrsIn(t, set).Single(); ok {
			t.Errorf("the one address of %q: %s", set, a)
		}
	}
}

// TestSameSets: sets are one value, hold the same, or neither.
func TestSameSets(t *testing.T) {
	a, b := addrsIn(t, "10.0.0.0/24 2001:db8::/64"), addrsIn(t, "10.0.0.0/25 10.0.0.128/25 2001:db8::/64")
	if a.Same(b) || !a.Equal(b) || !a.Same(a) || !a.Of(false).Same(a.Of(false)) || a.Equal(a.Of(true)) {
		t.Error("what is the same and what is equal are not told apart")
	}
	if !a.Families(true, true).Same(a) || !a.Families(true, false).Equal(addrsIn(t, "10.0.0.0/24")) || !a.Families(false, true).Equal(addrsIn(t, "2001:db8::/64")) || !a.Families(false, false).IsEmpty() {
		t.Error("families")
	}
	if !a.Intersect(b).Same(a) || !a.Intersect(a.Of(true)).Same(a.Of(true)) || !a.Subtract(a).IsEmpty() || !a.Subtract(Addrs{}).Same(a) {
		t.Error("what makes no new set gives another")
	}
	if !Everything().Covers(a) || a.Covers(Everything()) || !IPv4().Equal(Everything().Of(false)) || !IPv6().Equal(Everything().Of(true)) || IPv4().Overlaps(IPv6()) {
		t.Error("everything is not everything")
	}
	var none Addrs
	if !none.Equal(Addrs{}) || none.Equal(a) || a.Equal(none) || !a.Covers(none) || none.Overlaps(a) || !none.Of(true).IsEmpty() || !Union().IsEmpty() || !Union(none, a).Same(a) {
		t.Error("nothing is something")
	}
}

// TestPortsInWords: sets of ports as notation writes them.
func TestPortsInWords(t *testing.T) {
	r := func(lo, hi uint16) PortRange { return PortRange{lo, hi} }
	for _, c := range []struct {
		ranges []PortRange
		want   string
		count  int
	}{
		{nil, "", 0},
		{[]PortRange{OnePort(80)}, "80", 1},
		{[]PortRange{r(443, 443), r(80, 80)}, "80,443", 2},
		{[]PortRange{r(80, 81), r(82, 90)}, "80-90", 11},
		{[]PortRange{r(5, 9), r(1, 20), r(7, 8)}, "1-20", 20},
		{[]PortRange{r(MaxPort, MaxPort), r(1, 1)}, "1,65535", 2},
		{[]PortRange{r(1, MaxPort)}, "1-65535", MaxPort},
	} {
		s := PortsOf(c.ranges...)
		if s.String() != c.want || s.Count() != c.count || s.IsEmpty() != (c.count == 0) {
			t.Errorf("%v: %s, %d ports; want %s, %d", c.ranges, s, s.Count(), c.want, c.count)
		}
	}
	all := AllPorts()
	if all.Count() != MaxPort || all.Contains(0) || !all.Contains(1) || !all.Contains(MaxPort) {
		t.Error("all ports are 1 to 65535")
	}
	some := PortsOf(r(10, 20), r(30, 40))
	for other, want := range map[string]bool{"9": false, "10": true, "20-30": true, "21-29": false, "40": true, "41": false} {
		lo, hi, _ := strings.Cut(other, "-")
		p := PortsOf(rangeOf(lo, hi))
		if some.Overlaps(p) != want || p.Overlaps(some) != want || some.Intersect(p).IsEmpty() == want {
			t.Errorf("%s and %s overlap: %v", some, other, some.Overlaps(p))
		}
	}
	if !some.Union(Ports{}).Equal(some) || !(Ports{}).Union(some).Equal(some) || !some.Union(some).Equal(some) || !slices.Equal(some.Subtract(PortsOf(r(15, 35))).Ranges(), []PortRange{r(10, 14), r(36, 40)}) {
		t.Error("unions and what is left")
	}
}

func rangeOf(lo, hi string) PortRange {
	number := func(text string) uint16 {
		n := 0
		for _, c := range text {
			n = n*10 + int(c-'0')
		}
		return uint16(n)
	}
	if hi == "" {
		hi = lo
	}
	return PortRange{number(lo), number(hi)}
}
