// Package router makes records of what a router says of itself by the open port-mapping protocol of home routers (Internet Gateway Device,
// ISO/IEC 29341-8): the doors that programs asked it for, and its external address.
package router

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/intake"
)

// Mapping is a door as a router lists it (WANIPConnection:1 §2.4.14, GetGenericPortMappingEntry).
type Mapping struct {
	Remote      string // whom it is for; "" for anybody
	External    uint16 // 0: every port
	Protocol    string // TCP or UDP
	Client      string // whom it leads to
	Internal    uint16
	Enabled     bool
	Description string        // in the words of the program that asked
	Lease       time.Duration // how long it is kept; 0: until it is taken back
}

// Same says whether two entries are the same door, whatever is left of its time.
func (m Mapping) Same(o Mapping) bool {
	m.Lease, o.Lease = 0, 0
	return m == o
}

// Answer is what a router said.
type Answer struct {
	External  []string // its addresses outside
	Mappings  []Mapping
	Pinholes  bool     // it has doors for IPv6 too, which nobody can list
	Changed   bool     // the list was another when it was read again
	Cut       string   // why the list may go on; "" where it was read to its end
	Elsewhere []string // what of its description names another machine, and was not followed
}

// Read holds what a router said against the records. What no forward of it has comes as one; what is not in the list proves nothing, so nothing is
// ever taken out by it.
func Read(name, place string, a Answer, e *estate.Estate) intake.Reading {
	r := &reading{name: name, place: place, m: model.Compile(e)}
	r.router = r.m.PlaceNamed(place)
	switch {
	case r.router == nil:
		r.fault("no machine %q is recorded", "the recorded router that it is", place)
		return r.out
	case !r.router.Router:
		r.fault("%s is not recorded as a router", "the recorded router that it is", place)
		return r.out
	}
	for _, text := range a.External {
		r.external(text)
	}
	for _, m := range a.Mappings {
		r.mapping(m)
	}
	for _, what := range a.Elsewhere {
		r.left("Not followed: %s.", what)
	}
	if a.Pinholes {
		r.left("IPv6: the doors that programs asked for are not readable; the protocol has no way to list them.")
	}
	if a.Changed {
		r.left("The list changed while it was read: whatever was in it once is taken.")
	}
	if a.Cut != "" {
		r.left("The list may go on: %s.", a.Cut)
	}
	return r.out
}

type reading struct {
	name, place string
	m           *model.Model
	router      *model.Place
	out         intake.Reading
}

func (r *reading) left(format string, args ...any) {
	r.out.Left = append(r.out.Left, fmt.Sprintf(format, args...))
}

func (r *reading) fault(format, expected string, args ...any) {
	r.out.Faults = intake.AddFault(r.out.Faults, intake.FileFault{File: r.name, Line: 1, What: fmt.Sprintf(format, args...), Expected: expected})
}

// external holds the address outside against the recorded one.
func (r *reading) external(text string) {
	a, err := netip.ParseAddr(text)
	switch attachment := r.router.Attachment(model.Internet); {
	case err != nil || a.IsUnspecified():
		r.left("Its address outside is %s: it is not connected, or does not say.", intake.Shown(text))
	case r.router.Owns(a):
	case !netset.GloballyReachable().Contains(a):
		r.left("Its address outside is %s, which is none of the internet: another router translates before it, and its doors end there.", a)
	case attachment == nil:
		r.out.Records = append(r.out.Records, &estate.Address{Hosts: []string{r.place}, Held: estate.Held{Addr: a}, Network: "internet"})
	case attachment.Unknown:
		r.left("Its address outside is %s now.", a)
	default:
		r.left("Its address outside is %s, and another is recorded.", a)
	}
}

// mapping holds a door against the recorded forwards.
func (r *reading) mapping(m Mapping) {
	said := r.words(m)
	client, err := netip.ParseAddr(strings.TrimSpace(m.Client))
	proto := map[string]netset.Transport{"TCP": netset.TCP, "UDP": netset.UDP}[strings.ToUpper(m.Protocol)]
	var from []estate.Selector
	if m.Remote != "" {
		prefix, bad := prefixOf(m.Remote)
		if bad != nil {
			r.left("%s: for %s, which is no address; it is not taken.", said, intake.Shown(m.Remote))
			return
		}
		from = []estate.Selector{{Prefix: prefix}}
	}
	switch {
	case err != nil:
		r.left("%s: it leads to %q, which is no address; it is not taken.", said, intake.Shown(m.Client))
		return
	case proto == 0:
		r.left("%s: neither tcp nor udp; it is not taken.", said)
		return
	}
	if by := r.recordedBy(m, proto, client, from); by != nil {
		r.left("%s: as recorded, by %s.", said, estate.Line(by))
		return
	}
	f := &estate.Forward{Router: r.place, Bind: estate.Bind{Ports: ports(m.External, proto)}, To: estate.Target{Addr: client}, From: from}
	if m.Internal != 0 && m.Internal != m.External {
		f.To.Ports = ports(m.Internal, proto)
	}
	f.Off = !m.Enabled
	f.Note = "asked for by a program"
	if m.Description != "" {
		f.Note += ": " + clip(intake.Shown(m.Description))
	}
	r.out.Records = append(r.out.Records, f)
	r.left("%s: recorded by no line.", said)
}

func ports(port uint16, proto netset.Transport) estate.Ports {
	if port == 0 {
		return estate.Ports{Any: true, Transport: proto}
	}
	return estate.Ports{Ranges: []netset.PortRange{netset.OnePort(port)}, Transport: proto}
}

func prefixOf(text string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	return netip.ParsePrefix(text)
}

// recordedBy is the forward in force that does the same for the same; nil where none does.
func (r *reading) recordedBy(m Mapping, proto netset.Transport, client netip.Addr, from []estate.Selector) *estate.Forward {
	for _, f := range r.router.Forwards {
		if f.Record.Bind.Transport&proto == 0 || f.Record.To.Addr != client || f.Record.Inside || !m.Enabled {
			continue
		}
		if len(f.Record.From) > 0 && !slices.Equal(f.Record.From, from) {
			continue
		}
		if m.External == 0 {
			if f.Record.Bind.Any {
				return f.Record
			}
			continue
		}
		for _, p := range f.Pairs {
			if m.External >= p.From.Lo && m.External <= p.From.Hi && p.Inner(m.External) == m.Internal {
				return f.Record
			}
		}
	}
	return nil
}

// words are a mapping in words: what it opens, to whom, by whose wish and for how long.
func (r *reading) words(m Mapping) string {
	port := "every port"
	if m.External != 0 {
		port = strconv.Itoa(int(m.External))
	}
	out := fmt.Sprintf("%s/%s to %s:%d", port, strings.ToLower(intake.Shown(m.Protocol)), intake.Shown(m.Client), m.Internal)
	if m.Remote != "" {
		out += " from " + intake.Shown(m.Remote)
	}
	if m.Description != "" {
		out += fmt.Sprintf(", asked for by %q", clip(intake.Shown(m.Description)))
	}
	switch {
	case !m.Enabled:
		out += ", not in force"
	case m.Lease > 0:
		out += fmt.Sprintf(", for %s more", lasting(m.Lease))
	}
	return out
}

// lasting is a time as one says it.
func lasting(d time.Duration) string {
	for _, unit := range []struct {
		of   time.Duration
		word string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}, {time.Second, "second"}} {
		if n := d / unit.of; n == 1 {
			return "1 " + unit.word
		} else if n > 1 {
			return fmt.Sprintf("%d %ss", n, unit.word)
		}
	}
	return "no time"
}

// clip cuts a program's words to what one reads.
func clip(text string) string {
	const most = 120
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	return text
}
