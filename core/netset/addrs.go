// Package netset holds the sets that the engine reasons over: addresses and ports.
// Both are immutable values; nothing is rounded, and equal sets print alike.
package netset

import (
	"math"
	"net/netip"
	"slices"
	"sort"
	"sync"

	"go4.org/netipx"
)

// Addrs is an immutable set of IP addresses of both families. The zero value is empty.
type Addrs struct{ *addrs }

// addrs is what an Addrs stands on: its ranges, and its two families once they are asked for.
type addrs struct {
	ranges   []netipx.IPRange // rising, apart from one another, never none
	once     sync.Once
	families [2]Addrs // IPv4, IPv6
}

// wrap makes a set of ranges that are rising and apart from one another.
func wrap(ranges []netipx.IPRange) Addrs {
	if len(ranges) == 0 {
		return Addrs{}
	}
	return Addrs{&addrs{ranges: ranges}}
}

// family is one of the set's families, worked out once.
func (s Addrs) family(v6 bool) Addrs {
	i := 0
	if v6 {
		i = 1
	}
	s.once.Do(func() {
		ranges := s.ranges
		first6 := sort.Search(len(ranges), func(i int) bool { return ranges[i].From().Is6() })
		switch first6 {
		case 0:
			s.families[1] = s
		case len(ranges):
			s.families[0] = s
		default:
			s.families[0], s.families[1] = wrap(ranges[:first6:first6]), wrap(ranges[first6:])
		}
	})
	return s.families[i]
}

// AddrsOf is the set of the given addresses.
func AddrsOf(addrs ...netip.Addr) Addrs {
	if len(addrs) == 1 {
		return wrap([]netipx.IPRange{netipx.IPRangeFrom(addrs[0], addrs[0])})
	}
	var b netipx.IPSetBuilder
	for _, a := range addrs {
		b.Add(a)
	}
	return build(&b)
}

// PrefixesOf is the union of the given prefixes.
func PrefixesOf(prefixes ...netip.Prefix) Addrs {
	var b netipx.IPSetBuilder
	for _, p := range prefixes {
		b.AddPrefix(p)
	}
	return build(&b)
}

// AddrRange is the addresses from one to another, both included; false where they are no range.
func AddrRange(from, to string) (Addrs, bool) {
	r, err := netipx.ParseIPRange(from + "-" + to)
	if err != nil || !r.IsValid() {
		return Addrs{}, false
	}
	return wrap([]netipx.IPRange{r}), true
}

// Union is the addresses in any of the sets.
func Union(sets ...Addrs) Addrs {
	var only Addrs
	filled := 0
	for _, s := range sets {
		if !s.IsEmpty() {
			only = s
			filled++
		}
	}
	if filled <= 1 {
		return only
	}
	var b netipx.IPSetBuilder
	for _, s := range sets {
		if s.addrs == nil {
			continue
		}
		for _, r := range s.ranges {
			b.AddRange(r)
		}
	}
	return build(&b)
}

func build(b *netipx.IPSetBuilder) Addrs {
	set, err := b.IPSet()
	if err != nil { // only ever an invalid address or prefix handed in
		panic("netset: " + err.Error())
	}
	return wrap(set.Ranges())
}

// IsEmpty says whether the set holds no address.
func (s Addrs) IsEmpty() bool { return s.addrs == nil }

// Contains says whether a is in the set.
func (s Addrs) Contains(a netip.Addr) bool {
	if s.addrs == nil {
		return false
	}
	i := s.from(a)
	return i < len(s.ranges) && s.ranges[i].Contains(a)
}

// from is the index of the first range that does not end before an address.
func (s Addrs) from(a netip.Addr) int {
	return sort.Search(len(s.ranges), func(i int) bool { return s.ranges[i].To().Compare(a) >= 0 })
}

// Same says whether both are one and the same value, without comparing what they hold.
func (s Addrs) Same(t Addrs) bool { return s.addrs == t.addrs }

// Equal says whether both hold the same addresses.
func (s Addrs) Equal(t Addrs) bool {
	if s.addrs == t.addrs {
		return true
	}
	return s.addrs != nil && t.addrs != nil && slices.Equal(s.ranges, t.ranges)
}

// Single gives the set's address where it holds exactly one.
func (s Addrs) Single() (netip.Addr, bool) {
	if s.addrs == nil {
		return netip.Addr{}, false
	}
	ranges := s.ranges
	if len(ranges) == 1 && ranges[0].From() == ranges[0].To() {
		return ranges[0].From(), true
	}
	return netip.Addr{}, false
}

// Addrs lists the set's addresses where they are no more than most, rising.
func (s Addrs) Addrs(most int) ([]netip.Addr, bool) {
	if s.addrs == nil {
		return nil, true
	}
	var out []netip.Addr
	for _, r := range s.ranges {
		for a := r.From(); a.IsValid() && a.Compare(r.To()) <= 0; a = a.Next() {
			if len(out) == most {
				return nil, false
			}
			out = append(out, a)
		}
	}
	return out, true
}

// Lowest is the set's lowest address; the zero address where it is empty.
func (s Addrs) Lowest() netip.Addr {
	if s.addrs == nil {
		return netip.Addr{}
	}
	return s.ranges[0].From()
}

// Highest is the set's highest address; the zero address where it is empty.
func (s Addrs) Highest() netip.Addr {
	if s.addrs == nil {
		return netip.Addr{}
	}
	return s.ranges[len(s.ranges)-1].To()
}

// Intersect is the addresses in both.
func (s Addrs) Intersect(t Addrs) Addrs {
	switch {
	case s.addrs == nil || t.addrs == nil:
		return Addrs{}
	case s.addrs == t.addrs, s.isFamilyOf(t):
		return s
	case t.isFamilyOf(s):
		return t
	}
	if a, ok := s.Single(); ok {
		if t.Contains(a) {
			return s
		}
		return Addrs{}
	}
	if a, ok := t.Single(); ok {
		if s.Contains(a) {
			return t
		}
		return Addrs{}
	}
	a, b := s.ranges, t.ranges
	var out []netipx.IPRange
	for i, j := 0, 0; i < len(a) && j < len(b); {
		if from, to := later(a[i].From(), b[j].From()), earlier(a[i].To(), b[j].To()); from.Compare(to) <= 0 {
			out = append(out, netipx.IPRangeFrom(from, to))
		}
		if a[i].To().Compare(b[j].To()) < 0 {
			i++
		} else {
			j++
		}
	}
	switch {
	case slices.Equal(out, a):
		return s
	case slices.Equal(out, b):
		return t
	}
	return wrap(out)
}

// Subtract is the addresses of s that are not in t.
func (s Addrs) Subtract(t Addrs) Addrs {
	switch {
	case s.addrs == nil || t.addrs == nil:
		return s
	case s.addrs == t.addrs, s.isFamilyOf(t):
		return Addrs{}
	}
	if !s.Overlaps(t) {
		return s
	}
	var out []netipx.IPRange
	j := t.from(s.ranges[0].From())
	for _, r := range s.ranges {
		from := r.From()
		for ; from.IsValid() && j < len(t.ranges) && t.ranges[j].From().Compare(r.To()) <= 0; j++ {
			gone := t.ranges[j]
			if from.Less(gone.From()) {
				out = append(out, netipx.IPRangeFrom(from, gone.From().Prev()))
			}
			if from = later(from, gone.To().Next()); gone.To().Compare(r.To()) >= 0 { // it may reach into the next range
				from = netip.Addr{}
				break
			}
		}
		if from.IsValid() {
			out = append(out, netipx.IPRangeFrom(from, r.To()))
		}
	}
	return wrap(out)
}

// Covers says whether every address of t is in s.
func (s Addrs) Covers(t Addrs) bool { return t.Subtract(s).IsEmpty() }

// Overlaps says whether an address is in both.
func (s Addrs) Overlaps(t Addrs) bool {
	if s.addrs == nil || t.addrs == nil {
		return false
	}
	if len(s.ranges) > len(t.ranges) {
		s, t = t, s
	}
	for _, r := range s.ranges {
		if i := t.from(r.From()); i < len(t.ranges) && t.ranges[i].Overlaps(r) {
			return true
		}
	}
	return false
}

// Of keeps one family: IPv4, or IPv6 where v6 is true.
func (s Addrs) Of(v6 bool) Addrs {
	if s.addrs == nil {
		return Addrs{}
	}
	return s.family(v6)
}

// Families is the part in the families that are asked for.
func (s Addrs) Families(v4, v6 bool) Addrs {
	switch {
	case v4 && v6:
		return s
	case v4 || v6:
		return s.Of(v6)
	}
	return Addrs{}
}

// isFamilyOf says whether s is the IPv4 or IPv6 part of t, without comparing what they hold.
func (s Addrs) isFamilyOf(t Addrs) bool {
	return t.family(false).addrs == s.addrs || t.family(true).addrs == s.addrs
}

// Share is how much of its family's addresses a set is, from 0 to 1; of a set of both families the sum.
func (s Addrs) Share() float64 {
	sum := 0.0
	for _, p := range s.Prefixes() {
		sum += math.Exp2(-float64(p.Bits()))
	}
	return sum
}

// Prefixes are the fewest CIDRs that make up the set, IPv4 first, rising.
func (s Addrs) Prefixes() []netip.Prefix {
	if s.addrs == nil {
		return nil
	}
	var out []netip.Prefix
	for _, r := range s.ranges {
		out = r.AppendPrefixes(out)
	}
	return out
}

// Strings are the set's CIDRs as text.
func (s Addrs) Strings() []string {
	prefixes := s.Prefixes()
	out := make([]string, len(prefixes))
	for i, p := range prefixes {
		out[i] = p.String()
	}
	return out
}

func later(a, b netip.Addr) netip.Addr {
	if a.Compare(b) > 0 {
		return a
	}
	return b
}

func earlier(a, b netip.Addr) netip.Addr {
	if a.Compare(b) < 0 {
		return a
	}
	return b
}

var (
	ipv4 = sync.OnceValue(func() Addrs { return PrefixesOf(netip.MustParsePrefix("0.0.0.0/0")) })
	ipv6 = sync.OnceValue(func() Addrs { return PrefixesOf(netip.MustParsePrefix("::/0")) })
)

// Everything is every address of both families.
var Everything = sync.OnceValue(func() Addrs { return Union(ipv4(), ipv6()) })

// IPv4 is every IPv4 address.
func IPv4() Addrs { return ipv4() }

// IPv6 is every IPv6 address.
func IPv6() Addrs { return ipv6() }

// GloballyReachable is every address that the internet carries traffic to, by the IANA
// special-purpose registries (RFC 6890): unicast, less what is reserved, private or
// local. The documentation ranges (RFC 5737, RFC 3849, RFC 9637) count as reachable, so that
// an estate written with them behaves like a real one.
var GloballyReachable = sync.OnceValue(func() Addrs {
	var b netipx.IPSetBuilder
	add := func(texts ...string) {
		for _, t := range texts {
			b.AddPrefix(netip.MustParsePrefix(t))
		}
	}
	remove := func(texts ...string) {
		for _, t := range texts {
			b.RemovePrefix(netip.MustParsePrefix(t))
		}
	}
	add("0.0.0.0/0")
	remove("0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16",
		"172.16.0.0/12", "192.0.0.0/24", "192.88.99.0/24", "192.168.0.0/16",
		"198.18.0.0/15", "224.0.0.0/4", "240.0.0.0/4")
	add("192.0.0.9/32", "192.0.0.10/32")
	add("2000::/3", "64:ff9b::/96")
	remove("2001::/23", "2002::/16")
	add("2001:1::1/128", "2001:1::2/128", "2001:1::3/128", "2001:3::/32",
		"2001:4:112::/48", "2001:20::/28", "2001:30::/28")
	return build(&b)
})
