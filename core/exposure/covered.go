package exposure

import (
	"strings"

	"steady-compass/core/netset"
)

// Doors are what stands open, to be asked whether somebody gets in by another of them.
type Doors struct{ by map[doorKey][]*Open }

type doorKey struct{ place, transport, site string }

// DoorsOf are those of some lists.
func DoorsOf(lists ...[]*OpenAt) Doors {
	d := Doors{map[doorKey][]*Open{}}
	for _, list := range lists {
		for _, o := range OpenOf(list) {
			d.by[o.door()] = append(d.by[o.door()], o)
		}
	}
	return d
}

func (o *Open) door() doorKey {
	site := ""
	if o.Site != nil {
		site = *o.Site
	}
	return doorKey{o.Place, o.Transport, site}
}

// Cover says whether whoever gets in by a door gets to the same by one of these, by whatever address: to the place, port and site. Some addresses
// do not count.
func (d Doors) Cover(o *Open, but netset.Addrs) bool {
	left := o.From().Subtract(but)
	if left.IsEmpty() && !but.IsEmpty() {
		return true
	}
	for _, other := range d.by[o.door()] {
		if within(o.Inner(), other.Inner()) {
			if left = left.Subtract(other.From()); left.IsEmpty() {
				return true
			}
		}
	}
	return false
}

func within(a, b netset.PortRange) bool { return b.Lo <= a.Lo && a.Hi <= b.Hi }

// Bracketed is an address as it stands before a port: one of IPv6 in brackets (RFC 3986 §3.2.2).
func Bracketed(address string) string {
	if strings.Contains(address, ":") {
		return "[" + address + "]"
	}
	return address
}
