// Package hostsfile reads and writes a machine's own hosts file: an address and the names it stands for, a line each
// (the table of RFC 952 as systems keep it today).
package hostsfile

import (
	"fmt"
	"net/netip"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/intake"
)

// systemNames are the names that systems give their own loopback addresses by themselves.
var systemNames = map[string]bool{
	"localhost": true, "localhost.localdomain": true, "localhost4": true, "localhost4.localdomain4": true, "localhost6": true, "localhost6.localdomain6": true,
	"ip6-localhost": true, "ip6-loopback": true, "ip6-localnet": true, "ip6-mcastprefix": true, "0.0.0.0": true,
}

// Read reads the hosts file of a place. What every system writes there for itself (its own loopback names, multicast addresses) is
// left out; a name that somebody leads to loopback is not.
func Read(file, text, place string) intake.Reading {
	r := intake.Reading{Covers: func(rec estate.Record) bool {
		h, ok := rec.(*estate.HostsEntry)
		return ok && h.Place == place
	}}
	own := 0
	for i, line := range strings.Split(text, "\n") {
		line, _, _ = strings.Cut(strings.TrimSuffix(line, "\r"), "#")
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		fault := func(word, what, expected string) {
			r.Faults = intake.AddFault(r.Faults, intake.FileFault{File: file, Line: i + 1, Column: strings.Index(line, word) + 1, What: what, Expected: expected})
		}
		addr, err := netip.ParseAddr(words[0])
		switch {
		case err != nil:
			fault(words[0], fmt.Sprintf("%q is no address", words[0]), "an IPv4 or IPv6 address")
			continue
		case addr.Zone() != "" || addr.IsMulticast() || addr.IsLinkLocalUnicast():
			own++
			continue
		case len(words) == 1:
			fault(words[0], "no name stands behind the address", "a name")
			continue
		}
		for _, word := range words[1:] {
			name, ok := estate.CleanHostname(word)
			if _, err := netip.ParseAddr(name); !ok || err == nil && !systemNames[name] {
				fault(word, fmt.Sprintf("%q is no host name", word), "a host name")
				continue
			}
			if addr.IsLoopback() && (systemNames[name] || name == place) || addr.IsUnspecified() && systemNames[name] || name == "broadcasthost" {
				own++
				continue
			}
			h := &estate.HostsEntry{Hostname: name, Addr: addr.Unmap(), Place: place}
			if err := estate.Complete(h); err != nil {
				fault(word, err.Error(), "a host name")
				continue
			}
			r.Records = append(r.Records, h)
		}
	}
	if own > 0 {
		r.Left = append(r.Left, fmt.Sprintf("%d names of the machine's own loopback and multicast addresses are left out.", own))
	}
	return r
}

// Write gives the hosts file of a place: the names of an address on one line, in the order in which they are written.
func Write(e *estate.Estate, place string) string {
	var order []netip.Addr
	at := map[netip.Addr][]string{}
	for _, r := range e.Of(estate.KindNamed("name")) {
		h := r.(*estate.HostsEntry)
		if h.Off || h.Place != place {
			continue
		}
		if at[h.Addr] == nil {
			order = append(order, h.Addr)
		}
		at[h.Addr] = append(at[h.Addr], h.Hostname)
	}
	var out strings.Builder
	for _, a := range order {
		fmt.Fprintf(&out, "%s\t%s\n", a, strings.Join(at[a], " "))
	}
	return out.String()
}
