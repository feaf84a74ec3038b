// Package synth makes estates of any size, seeded, in realistic proportions: locations with a router,
// machines, containers and filters, about five machines' rules a name. They are for benchmarks
// and for trying the interface on a large estate.
package synth

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
)

// perLocation is how many names a location serves; more where there would be more locations than
// public addresses in the documentation ranges.
const perLocation = 100

// machines is how many machines a location has beside its router.
const machines = 20

// publicNets are the documentation ranges (RFC 5737), from which routers have their addresses.
var publicNets = []string{"192.0.2", "198.51.100", "203.0.113"}

// maxLocations leaves the first and last address of each range.
const maxLocations = 3 * 254

// Write prints an estate with a number of names.
func Write(out io.Writer, names int, seed uint64) error {
	w := bufio.NewWriter(out)
	r := rand.New(rand.NewPCG(seed, 0x5eed))
	each := perLocation
	if (names+each-1)/each > maxLocations {
		each = (names + maxLocations - 1) / maxLocations
	}
	say(w, `estate "Made up, %d names"`, names)
	for l, left := 0, names; left > 0; l++ {
		n := min(each, left)
		left -= n
		location(w, r, l, n)
	}
	return w.Flush()
}

// String is the estate as text.
func String(names int, seed uint64) string {
	var b strings.Builder
	_ = Write(&b, names, seed) // a strings.Builder does not fail
	return b.String()
}

func say(w io.Writer, format string, args ...any) { _, _ = fmt.Fprintf(w, format+"\n", args...) }

// location is a router, its networks, machines and names.
func location(w io.Writer, r *rand.Rand, l, names int) {
	public := fmt.Sprintf("%s.%d", publicNets[l/254], 1+l%254)
	net := fmt.Sprintf("10.%d.%d", l/256, l%256)
	zone := fmt.Sprintf("l%d.example", l)
	say(w, "network lan%d %s.0/25", l, net)
	say(w, "network dmz%d %s.128/25,2001:db8:%x::/64", l, net, l+1)
	say(w, "network dock%d 172.20.0.0/24 on front%d", l, l)
	say(w, "host gate%d router", l)
	say(w, "host front%d", l)
	say(w, "address gate%d %s internet", l, public)
	say(w, "address gate%d 2001:db8:%x::/48 internet", l, l+1)
	say(w, "address gate%d %s.1 lan%d", l, net, l)
	say(w, "address gate%d %s.129 dmz%d", l, net, l)
	say(w, "address front%d %s.130 dmz%d", l, net, l)
	say(w, "address front%d 2001:db8:%x::10 dmz%d", l, l+1, l)
	say(w, "zone %s ttl 1h", zone)
	say(w, "dns %s A %s", zone, public)
	say(w, "forward gate%d 80,443 to %s.130", l, net)
	say(w, "filter edge%d on gate%d through otherwise drop", l, l)
	say(w, "rule edge%d pass any from lan%d", l, l)
	say(w, "rule edge%d pass any from dmz%d to internet", l, l)
	say(w, "rule edge%d pass 80,443 from internet to front%d", l, l)
	say(w, "filter local%d on front%d input otherwise drop", l, l)
	say(w, "rule local%d pass 22 from lan%d", l, l)
	say(w, "rule local%d pass 80,443", l)
	say(w, "container front%d/web in dock%d", l, l)
	say(w, "map front%d/web 80,443 to 80,443", l)
	say(w, "listen front%d/web 80 as web%d", l, l)
	say(w, "listen front%d/web 443 as web%d tls cert star%d", l, l, l)
	say(w, "listen front%d 22 as ssh", l)
	say(w, "cert star%d for %s,*.%s expires 2027-06-30 on front%d/web by dns-01", l, zone, zone, l)
	say(w, "site web%d * at 80 redirect https", l)
	say(w, "site web%d %s at 443 files", l, zone)
	for h := range machines - 1 {
		machine(w, r, l, h, net)
	}
	for n := range names - 1 {
		name(w, r, l, n, net, zone, public)
	}
}

// machine has a filter of its own, and a service on each of a few ports.
func machine(w io.Writer, r *rand.Rand, l, h int, net string) {
	say(w, "host m%d-%d", l, h)
	say(w, "address m%d-%d %s.%d dmz%d", l, h, net, 140+h, l)
	say(w, "filter f%d-%d on m%d-%d input otherwise drop", l, h, l, h)
	say(w, "rule f%d-%d pass 22 from lan%d", l, h, l)
	for port := range 6 {
		say(w, "rule f%d-%d pass %d from front%d", l, h, 8000+port, l)
		say(w, "listen m%d-%d %d as app", l, h, 8000+port)
	}
	say(w, "listen m%d-%d 22 as ssh", l, h)
	say(w, "listen m%d-%d 9000-9015 as desk", l, h)
	for range 17 {
		say(w, "rule f%d-%d pass %d from %s.%d", l, h, 9000+r.IntN(16), net, 2+r.IntN(120))
	}
}

// name is a record and a site; a few of them have the faults that happen.
func name(w io.Writer, r *rand.Rand, l, n int, net, zone, public string) {
	host := fmt.Sprintf("n%d.%s", n, zone)
	h, port := r.IntN(machines-1), 8000+r.IntN(6)
	switch r.IntN(40) {
	case 0: // an address that is nobody's
		say(w, "dns %s A %s.255", host, publicNets[r.IntN(len(publicNets))])
	case 1, 2, 3, 4:
		say(w, "dns %s A %s", host, public)
		say(w, "dns %s AAAA 2001:db8:%x::10", host, l+1)
	case 5, 6, 7, 8, 9, 10:
		say(w, "dns %s CNAME %s", host, zone)
	default:
		say(w, "dns %s A %s", host, public)
	}
	switch r.IntN(30) {
	case 0:
		say(w, "site web%d %s at 443 to http://localhost:%d", l, host, port)
	case 1: // no site
	case 2, 3, 4, 5:
		say(w, "container front%d/app%d in dock%d", l, n, l)
		say(w, "listen front%d/app%d 3000 as app", l, n)
		say(w, "site web%d %s at 443 to http://app%d:3000", l, host, n)
	default:
		say(w, "site web%d %s at 443 to http://%s.%d:%d", l, host, net, 140+h, port)
	}
	if r.IntN(2) == 0 {
		say(w, "intend %s 443 for internet", host)
	}
}
