package netset

import (
	"math/rand/v2"
	"net/netip"
	"testing"
)

// bitmap is the obvious set of ports, against which the ranges are held.
type bitmap [MaxPort + 1]bool

func (b *bitmap) add(r PortRange) {
	for p := int(r.Lo); p <= int(r.Hi); p++ {
		b[p] = true
	}
}

func randomPorts(r *rand.Rand) (Ports, *bitmap) {
	var ranges []PortRange
	var b bitmap
	for range r.IntN(8) {
		lo := uint16(1 + r.IntN(400))
		if r.IntN(4) == 0 {
			lo = uint16(MaxPort - r.IntN(40))
		}
		hi := uint16(min(MaxPort, int(lo)+r.IntN(30)))
		ranges = append(ranges, PortRange{lo, hi})
		b.add(PortRange{lo, hi})
	}
	return PortsOf(ranges...), &b
}

func TestPortsAgainstBitmap(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 400 {
		s, sb := randomPorts(r)
		u, ub := randomPorts(r)
		both, less, either := s.Intersect(u), s.Subtract(u), s.Union(u)
		count := 0
		for p := 1; p <= MaxPort; p++ {
			q := uint16(p)
			if s.Contains(q) != sb[p] || both.Contains(q) != (sb[p] && ub[p]) ||
				less.Contains(q) != (sb[p] && !ub[p]) || either.Contains(q) != (sb[p] || ub[p]) {
				t.Fatalf("port %d: s=%s u=%s and=%s less=%s or=%s", p, s, u, both, less, either)
			}
			if either.Contains(q) {
				count++
			}
		}
		if either.Count() != count {
			t.Fatalf("count of %s: %d, want %d", either, either.Count(), count)
		}
		for i, x := range either.Ranges() {
			if i > 0 && int(either.Ranges()[i-1].Hi)+1 >= int(x.Lo) {
				t.Fatalf("ranges touch: %s", either)
			}
		}
	}
}

func TestAddrsAgainstMembership(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	pick := func() netip.Addr {
		switch r.IntN(8) {
		case 0:
			return netip.AddrFrom4([4]byte{255, 255, 255, byte(r.IntN(256))}) // to the end of the family
		case 1:
			return netip.AddrFrom16([16]byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, byte(r.IntN(256))})
		case 2, 3, 4:
			return netip.AddrFrom4([4]byte{10, 0, byte(r.IntN(2)), byte(r.IntN(256))})
		}
		return netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, 15: byte(r.IntN(256))})
	}
	set := func() Addrs {
		var parts []netip.Prefix
		for range r.IntN(5) {
			a := pick()
			parts = append(parts, netip.PrefixFrom(a, a.BitLen()-r.IntN(8)).Masked())
		}
		return PrefixesOf(parts...)
	}
	for range 2000 {
		a, b := set(), set()
		both, less, either := a.Intersect(b), a.Subtract(b), Union(a, b)
		for range 60 {
			x := pick()
			inA, inB := a.Contains(x), b.Contains(x)
			if both.Contains(x) != (inA && inB) || less.Contains(x) != (inA && !inB) || either.Contains(x) != (inA || inB) {
				t.Fatalf("%s: a=%v b=%v and=%v less=%v or=%v", x, a.Strings(), b.Strings(), both.Strings(), less.Strings(), either.Strings())
			}
		}
		if !Union(both, less).Equal(a) || a.Overlaps(b) == both.IsEmpty() || a.Covers(b) != b.Subtract(a).IsEmpty() {
			t.Fatalf("parts of %v do not make it up again", a.Strings())
		}
		if !Union(a.Of(false), a.Of(true)).Equal(a) || a.Of(false).Overlaps(a.Of(true)) {
			t.Fatalf("the families of %v do not make it up again", a.Strings())
		}
		for _, s := range []Addrs{both, less, either} { // equal sets have equal ranges: they neither overlap nor touch
			if !PrefixesOf(s.Prefixes()...).Equal(s) {
				t.Fatalf("%v is not in its plainest form", s.Strings())
			}
		}
	}
}

func TestGloballyReachable(t *testing.T) {
	for text, want := range map[string]bool{
		"203.0.113.20": true, "198.51.100.7": true, "2001:db8::1": true, "8.8.8.8": true, "2620:0:2d0::1": true,
		"10.1.2.3": false, "172.20.0.1": false, "192.168.0.1": false, "100.64.0.1": false, "127.0.0.1": false,
		"169.254.1.1": false, "224.0.0.1": false, "255.255.255.255": false, "fd00::1": false, "fe80::1": false,
		"::1": false, "ff02::1": false, "192.0.0.9": true, "192.0.0.8": false, "198.18.0.1": false,
	} {
		if got := GloballyReachable().Contains(netip.MustParseAddr(text)); got != want {
			t.Errorf("%s: reachable %v, want %v", text, got, want)
		}
	}
}

func TestShare(t *testing.T) {
	for text, want := range map[string]float64{"0.0.0.0/0": 1, "10.0.0.0/8": 1.0 / 256, "2001:db8::/32": 1.0 / (1 << 32)} {
		if got := PrefixesOf(netip.MustParsePrefix(text)).Share(); got != want {
			t.Errorf("%s: %v, want %v", text, got, want)
		}
	}
	if got := Everything().Share(); got != 2 {
		t.Errorf("everything of both families: %v", got)
	}
	if got := (Addrs{}).Share(); got != 0 {
		t.Errorf("nothing: %v", got)
	}
}
