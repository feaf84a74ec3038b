package netset

import (
	"slices"
	"strconv"
	"strings"
)

// MaxPort is the highest port; the lowest is 1, since port 0 is never on the wire.
const MaxPort = 65535

// PortRange is the ports Lo to Hi, both included.
type PortRange struct{ Lo, Hi uint16 }

// OnePort is the range of one port.
func OnePort(p uint16) PortRange { return PortRange{p, p} }

// Len is how many ports the range holds.
func (r PortRange) Len() int { return int(r.Hi) - int(r.Lo) + 1 }

// Contains says whether p is in the range.
func (r PortRange) Contains(p uint16) bool { return r.Lo <= p && p <= r.Hi }

func (r PortRange) String() string {
	if r.Lo == r.Hi {
		return strconv.Itoa(int(r.Lo))
	}
	return strconv.Itoa(int(r.Lo)) + "-" + strconv.Itoa(int(r.Hi))
}

// Ports is an immutable set of ports: sorted ranges that neither overlap nor touch.
// The zero value is empty.
type Ports struct{ r []PortRange }

// AllPorts is 1 to 65535.
func AllPorts() Ports { return Ports{[]PortRange{{1, MaxPort}}} }

// PortsOf is the union of the ranges, in any order, overlapping or not.
func PortsOf(ranges ...PortRange) Ports {
	if len(ranges) == 0 {
		return Ports{}
	}
	if len(ranges) == 1 {
		return Ports{[]PortRange{ranges[0]}}
	}
	sorted := slices.Clone(ranges)
	slices.SortFunc(sorted, func(a, b PortRange) int { return int(a.Lo) - int(b.Lo) })
	out := sorted[:1]
	for _, r := range sorted[1:] {
		last := &out[len(out)-1]
		if int(r.Lo) <= int(last.Hi)+1 {
			last.Hi = max(last.Hi, r.Hi)
		} else {
			out = append(out, r)
		}
	}
	return Ports{out}
}

// Ranges are the set's ranges in rising order; not to be changed.
func (s Ports) Ranges() []PortRange { return s.r }

// IsEmpty says whether the set holds no port.
func (s Ports) IsEmpty() bool { return len(s.r) == 0 }

// Contains says whether p is in the set.
func (s Ports) Contains(p uint16) bool {
	i, found := slices.BinarySearchFunc(s.r, p, func(r PortRange, p uint16) int { return int(r.Lo) - int(p) })
	return found || i > 0 && s.r[i-1].Contains(p)
}

// Equal says whether both hold the same ports.
func (s Ports) Equal(t Ports) bool { return slices.Equal(s.r, t.r) }

// Intersect is the ports in both.
func (s Ports) Intersect(t Ports) Ports {
	var out []PortRange
	for i, j := 0, 0; i < len(s.r) && j < len(t.r); {
		lo, hi := max(s.r[i].Lo, t.r[j].Lo), min(s.r[i].Hi, t.r[j].Hi)
		if lo <= hi {
			out = append(out, PortRange{lo, hi})
		}
		if s.r[i].Hi < t.r[j].Hi {
			i++
		} else {
			j++
		}
	}
	return Ports{out}
}

// Overlaps says whether a port is in both.
func (s Ports) Overlaps(t Ports) bool {
	for i, j := 0, 0; i < len(s.r) && j < len(t.r); {
		if s.r[i].Lo <= t.r[j].Hi && t.r[j].Lo <= s.r[i].Hi {
			return true
		}
		if s.r[i].Hi < t.r[j].Hi {
			i++
		} else {
			j++
		}
	}
	return false
}

// Subtract is the ports of s that are not in t.
func (s Ports) Subtract(t Ports) Ports {
	var out []PortRange
	j := 0
	for _, r := range s.r {
		lo := int(r.Lo)
		for j < len(t.r) && t.r[j].Hi < r.Lo {
			j++
		}
		for k := j; k < len(t.r) && t.r[k].Lo <= r.Hi; k++ {
			if lo < int(t.r[k].Lo) {
				out = append(out, PortRange{uint16(lo), t.r[k].Lo - 1})
			}
			lo = max(lo, int(t.r[k].Hi)+1)
		}
		if lo <= int(r.Hi) {
			out = append(out, PortRange{uint16(lo), r.Hi})
		}
	}
	return Ports{out}
}

// Union is the ports in either.
func (s Ports) Union(t Ports) Ports {
	switch {
	case len(s.r) == 0:
		return t
	case len(t.r) == 0 || s.Equal(t):
		return s
	}
	return PortsOf(append(slices.Clone(s.r), t.r...)...)
}

// Count is how many ports the set holds.
func (s Ports) Count() int {
	n := 0
	for _, r := range s.r {
		n += r.Len()
	}
	return n
}

// String is the ranges as notation writes them: "80,443,8000-8010".
func (s Ports) String() string {
	words := make([]string, len(s.r))
	for i, r := range s.r {
		words[i] = r.String()
	}
	return strings.Join(words, ",")
}
