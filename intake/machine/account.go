// Package machine lays what a machine says of itself beside what is recorded of it: its addresses and networks, routes,
// listeners, containers, mappings and hosts file. Names, notes and services that people gave stay; only what the
// machine contradicts changes. Where the account comes from (the machine itself, or the listings that somebody sent) is
// not its matter.
package machine

import (
	"bufio"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
	"steady-compass/intake"
)

// Aspect is a side of a machine that an account tells of.
type Aspect string

// The aspects, by the kinds of the records that they come as.
const (
	Addresses  Aspect = "address"
	Routes     Aspect = "route"
	Names      Aspect = "name" // the hosts file
	TCP        Aspect = "listen/tcp"
	UDP        Aspect = "listen/udp"
	Containers Aspect = "container" // of a machine, with their maps; of a container, its maps
)

var aspects = []Aspect{Addresses, Routes, Names, TCP, UDP, Containers}

// Whole says that an account has all there is of an aspect of a place, so that what it does not have is gone.
type Whole struct {
	Aspect Aspect
	Place  string
}

// Account is what a machine says of itself. A name that nobody gave is the machine's own, or its program's.
type Account struct {
	Host    string // the machine
	Records []estate.Record
	Whole   []Whole
	Left    []string // what could not be seen, or has no meaning here, a sentence each
	Faults  []intake.FileFault
}

// IsWhole says whether all there is of an aspect of a place is in the account.
func (a *Account) IsWhole(aspect Aspect, place string) bool {
	return slices.Contains(a.Whole, Whole{aspect, place})
}

// WholeMaps says that the account has all maps of its containers, though there may be other containers.
func (a *Account) WholeMaps() {
	for _, c := range all[*estate.Container](a.Records) {
		a.Whole = append(a.Whole, Whole{Containers, c.Name})
	}
}

// Add puts in a record of whose form the caller is sure, and gives it back complete.
func Add[R any, P interface {
	*R
	estate.Record
}](a *Account, r P) P {
	done := estate.With(r, func(P) {})
	a.Records = append(a.Records, done)
	return done
}

// Join adds another account of the same machine.
func (a *Account) Join(b Account) {
	if a.Host == "" {
		a.Host = b.Host
	}
	for _, r := range b.Records {
		if h, ok := r.(*estate.Host); ok {
			if i := slices.IndexFunc(a.Records, func(x estate.Record) bool { o, ok := x.(*estate.Host); return ok && o.Name == h.Name }); i >= 0 {
				if h.Router {
					a.Records[i] = h
				}
				continue
			}
		}
		a.Records = append(a.Records, r)
	}
	a.Whole, a.Left, a.Faults = append(a.Whole, b.Whole...), append(a.Left, b.Left...), append(a.Faults, b.Faults...)
}

// header begins the text of an account, and wholly the line that says of what it is the whole.
const (
	header = "# The account of "
	wholly = "# whole: "
	unsaid = "# note: "
)

// IsText says whether a text is an account that Text wrote.
func IsText(text string) bool { return strings.HasPrefix(text, header) }

// Text is the account as notation, with what it is the whole of and what was not seen in comments before it.
func (a *Account) Text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s%s\n", header, a.Host)
	for _, place := range a.places() {
		var words []string
		for _, aspect := range aspects {
			if a.IsWhole(aspect, place) {
				words = append(words, string(aspect))
			}
		}
		fmt.Fprintf(&b, "%s%s %s\n", wholly, place, strings.Join(words, " "))
	}
	for _, l := range a.Left {
		fmt.Fprintf(&b, "%s%s\n", unsaid, l)
	}
	b.WriteString(notation.Print(estate.New(a.Records, nil)))
	return b.String()
}

// places are those of which something is whole, in their order.
func (a *Account) places() []string {
	var out []string
	for _, w := range a.Whole {
		if !slices.Contains(out, w.Place) {
			out = append(out, w.Place)
		}
	}
	return out
}

// ReadText reads an account that Text wrote.
func ReadText(file, text string) Account {
	var a Account
	lines := bufio.NewScanner(strings.NewReader(text))
	lines.Buffer(nil, len(text)+1)
	head := 0
	for lines.Scan() {
		line := lines.Text()
		if host, ok := strings.CutPrefix(line, header); ok {
			a.Host = strings.TrimSpace(host)
		} else if rest, ok := strings.CutPrefix(line, wholly); ok {
			words := strings.Fields(rest)
			for _, w := range words[min(1, len(words)):] {
				a.Whole = append(a.Whole, Whole{Aspect(w), words[0]})
			}
		} else if rest, ok := strings.CutPrefix(line, unsaid); ok {
			a.Left = append(a.Left, rest)
		} else {
			break
		}
		head++
	}
	located, _, faults := notation.ParseLines(strings.Repeat("\n", head) + strings.Join(strings.Split(text, "\n")[head:], "\n"))
	for _, f := range faults {
		a.Faults = append(a.Faults, intake.FileFault{File: file, Line: f.Line, Column: f.Column, What: f.What, Expected: f.Expected})
	}
	for _, l := range located {
		a.Records = append(a.Records, l.Record)
	}
	return a
}

// FirstEphemeral is the first of the ports from which a system gives one to a program that asks for any (the usual
// ip_local_port_range of Linux). UDP sockets from there on are what programs ask from, and are not told.
const FirstEphemeral = 32768

// Observed is a socket that a program holds, as a system tells of it.
type Observed struct {
	Addr      netip.Addr // unspecified: every address of its family; not valid: of both
	Port      uint16
	Transport netset.Transport // one
	Program   string           // "" where it could not be seen
	Hidden    bool             // since only root may see it
	Place     string           // the machine or container that it is in
	Stack     string           // whose addresses it is on: the place itself, or the machine of a container that shares its host
}

// engineResolver is where an engine answers names inside each container, on another port after each start.
var engineResolver = netip.AddrFrom4([4]byte{127, 0, 0, 11})

// Hold adds the sockets that programs hold, as listen lines, but for those that are nobody's to reach: what programs ask
// from, what is on a link-local address, and what an engine answers its containers at.
func (a *Account) Hold(sockets []Observed) {
	var told []Observed
	asking, local, resolving := 0, 0, 0
	for _, s := range sockets {
		switch {
		case s.Addr.IsLinkLocalUnicast():
			local++
		case s.Addr == engineResolver && strings.Contains(s.Stack, "/"):
			resolving++
		case s.Transport == netset.UDP && s.Port >= FirstEphemeral:
			asking++
		default:
			told = append(told, s)
		}
	}
	a.Records = append(a.Records, Listeners(told)...)
	unnamed, hidden := 0, 0
	for _, s := range told {
		switch {
		case s.Hidden:
			hidden++
		case estate.CleanName(s.Program) == "":
			unnamed++
		}
	}
	a.Leave(hidden, "The program of 1 socket is another user's, and seen by root only: it is called by its port.", "The programs of %d sockets are other users', and seen by root only: they are called by their ports.")
	a.Leave(unnamed, "1 socket has no program's name, and is called by its port.", "%d sockets have no program's name, and are called by their ports.")
	a.Leave(asking, "1 UDP socket on a port from which programs ask is left out.", "%d UDP sockets on ports from which programs ask are left out.")
	a.Leave(resolving, "1 socket at which an engine answers names inside a container is left out.", "%d sockets at which engines answer names inside containers are left out.")
	a.Leave(local, "1 socket on a link-local address is left out.", "%d sockets on link-local addresses are left out.")
}

// Listeners are the listen lines of the sockets that programs hold: one line for each program, address and transport.
// Sockets of different programs that meet share their ports on purpose, else the system would not have both.
func Listeners(sockets []Observed) []estate.Record {
	type of struct{ place, service string }
	groups := map[of][]claim{}
	var order []of
	var all []claim
	owner := map[claim][]of{}
	for _, s := range sockets {
		service := estate.CleanName(s.Program)
		if service == "" {
			service = fmt.Sprintf("port-%d", s.Port)
		}
		at := of{s.Place, service}
		if groups[at] == nil {
			order = append(order, at)
		}
		for _, c := range claimsOf(s.Stack, s.Addr, s.Transport, s.Port, s.Port) {
			if !slices.Contains(owner[c], at) {
				owner[c] = append(owner[c], at)
				groups[at] = append(groups[at], c)
				all = append(all, c)
			}
		}
	}
	met := meetings(all, func(c claim) []of { return owner[c] })
	var out []estate.Record
	for _, at := range order {
		var alone, together []claim
		for _, c := range groups[at] {
			if met[c] {
				together = append(together, c)
			} else {
				alone = append(alone, c)
			}
		}
		for i, claims := range [][]claim{alone, together} {
			for _, b := range bindings(claims) {
				out = append(out, estate.With(&estate.Listen{Place: at.place, Bind: b.Bind, Service: at.service, Shared: i == 1}, func(*estate.Listen) {}))
			}
		}
	}
	return out
}

// Mapping is one port of a machine that leads into a container.
type Mapping struct {
	Addr         netip.Addr // not valid: every address
	Transport    netset.Transport
	Outer, Inner uint16
}

// Maps are the map lines of a container.
func Maps(container string, list []Mapping) []estate.Record {
	var claims []claim
	for _, m := range list {
		claims = append(claims, claimsOf(container, m.Addr, m.Transport, m.Outer, m.Inner)...)
	}
	var out []estate.Record
	for _, b := range bindings(claims) {
		out = append(out, estate.With(&estate.Map{Container: container, Bind: b.Bind, To: b.to}, func(*estate.Map) {}))
	}
	return out
}
