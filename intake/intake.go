// Package intake holds what the formats of others have in common: what was read from a file, what is wrong with it,
// and what taking it over would add, change, leave and take out. A package below it reads and writes one format.
// None of them opens a file or a connection.
package intake

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"github.com/miekg/dns"

	"steady-compass/core/estate"
)

// File is a file's name and text.
type File struct{ Name, Text string }

// FileFault is a place in a file that cannot be taken over.
type FileFault struct {
	File     string `json:"file"`
	Line     int    `json:"line"`   // from 1
	Column   int    `json:"column"` // from 1; 0 where only the line is known
	What     string `json:"what"`
	Expected string `json:"expected"`
}

func (f FileFault) String() string {
	return fmt.Sprintf("%s:%d:%d: %s; expected %s", f.File, f.Line, max(f.Column, 1), f.What, f.Expected)
}

// MostFaults is how many faults of a reading are listed.
const MostFaults = 1000

// AddFault adds a fault to a list that is no longer than somebody would read, and says in its place that there are more.
func AddFault(list []FileFault, f FileFault) []FileFault {
	switch {
	case len(list) < MostFaults:
		return append(list, f)
	case len(list) == MostFaults:
		return append(list, FileFault{File: f.File, Line: f.Line, Column: f.Column, What: "what is wrong from here on is not listed", Expected: "fewer faults before it"})
	}
	return list
}

// Shown is a text of somebody else's as it may be shown: a character that a terminal or a page would act upon, such as an escape or one that
// turns the direction of writing, stands as its number (Unicode Technical Report 36 §3.6).
func Shown(text string) string {
	if !strings.ContainsFunc(text, acts) {
		return text
	}
	var b strings.Builder
	for _, r := range text {
		if acts(r) {
			fmt.Fprintf(&b, "\\u%04x", r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

func acts(r rune) bool {
	return unicode.IsControl(r) && r != '\t' || unicode.Is(unicode.Bidi_Control, r)
}

// Reading is what a file says.
type Reading struct {
	Records []estate.Record
	Faults  []FileFault
	Left    []string // what was left out on purpose, a sentence each
	Instead []Swap   // recorded lines whose place another takes, where the reader knows it
	// Covers says of a recorded line whether the file is the whole of what it belongs to, so that the line is gone
	// where the file does not have it.
	Covers func(estate.Record) bool
}

// Swap is a line that takes the place of another.
type Swap struct{ Old, New estate.Record }

// Plan is what taking a reading over would do.
type Plan struct {
	Add    []estate.Record
	Change []Swap
	Leave  int // lines of the file that are recorded already
	Gone   []estate.Record
	// Displaced are lines that are gone too, and cannot stay beside what comes.
	Displaced []estate.Record
}

// Compare holds a reading against an estate. A line that is recorded already stays as it is, with its note.
func Compare(e *estate.Estate, r Reading) Plan {
	var p Plan
	kinds := map[*estate.Kind]bool{}
	for _, rec := range r.Records {
		kinds[estate.KindOf(rec)] = true
	}
	recorded := map[string]estate.Record{}
	standing := map[string]bool{} // "owner type" that a name which is followed, or a host, gives by itself
	for k := range kinds {
		for _, rec := range e.Of(k) {
			key := identity(rec)
			if old := recorded[key]; old == nil || old.Meta().Off {
				recorded[key] = rec
			}
			if d, ok := rec.(*estate.DNS); ok && !d.Off {
				switch {
				case d.Type == "ALIAS":
					standing[d.Owner+" A"+audience(d.For)], standing[d.Owner+" AAAA"+audience(d.For)] = true, true
				case d.Dynamic != "":
					standing[d.Owner+" "+d.Type+audience(d.For)] = true
				}
			}
		}
	}
	zoneTTL := estate.NotGiven // what records of the zone have that give none
	for _, rec := range r.Records {
		if z, ok := rec.(*estate.Zone); ok {
			zoneTTL = z.TTL
		}
	}
	met, swapped, come := map[estate.Record]bool{}, map[estate.Record]bool{}, map[string]bool{}
	for _, sw := range r.Instead {
		met[sw.Old], swapped[sw.Old], come[estate.Line(sw.New)] = true, true, true
		p.Change = append(p.Change, sw)
	}
	seen := map[string]bool{}
	for _, rec := range r.Records {
		key := identity(rec)
		if seen[key] {
			continue
		}
		seen[key] = true
		if d, ok := rec.(*estate.DNS); ok && d.Dynamic == "" && standing[d.Owner+" "+d.Type+audience(d.For)] {
			p.Leave++
			continue
		}
		old := recorded[key]
		switch {
		case come[estate.Line(rec)]: // something else has become it
		case old == nil || swapped[old]: // or something else has come of the one that it was
			p.Add = append(p.Add, rec)
		case estate.Line(old) == estate.Line(rec), !old.Meta().Off && same(old, rec, zoneTTL):
			met[old] = true
			p.Leave++
		default:
			met[old] = true
			p.Change = append(p.Change, Swap{old, keepingNotes(old, rec)})
		}
	}
	if r.Covers == nil {
		return p
	}
	for _, rec := range e.All() {
		if met[rec] || rec.Meta().Off || !r.Covers(rec) {
			continue
		}
		if d, ok := rec.(*estate.DNS); ok && (d.Dynamic != "" || d.Type == "ALIAS") && !seen[identity(rec)] && givesAny(d, r.Records) {
			continue
		}
		p.Gone = append(p.Gone, rec)
	}
	p.pair()
	return p
}

// pair makes a change of what goes and what comes for one name and type: another value in the old one's place. An
// alias takes the place of whatever the name had, and gives it up to whatever it gets, since it stands alone
// (RFC 1034 §3.6.2).
func (p *Plan) pair() {
	coming := map[string][]int{}
	for i, r := range p.Add {
		for _, g := range places(r) {
			coming[g] = append(coming[g], i)
		}
	}
	taken := make([]bool, len(p.Add))
	var gone []estate.Record
	for _, old := range p.Gone {
		found := -1
		for _, g := range places(old) {
			for _, i := range coming[g] {
				if !taken[i] && found < 0 {
					found = i
				}
			}
		}
		if found < 0 {
			if aliasMeets(old, p.Add) {
				p.Displaced = append(p.Displaced, old)
			} else {
				gone = append(gone, old)
			}
			continue
		}
		taken[found] = true
		p.Change = append(p.Change, Swap{old, keepingNotes(old, p.Add[found])})
	}
	p.Gone = gone
	var add []estate.Record
	for i, r := range p.Add {
		if !taken[i] {
			add = append(add, r)
		}
	}
	p.Add = add
}

// places are what a record may take the place of: of a name, what has its type; of an alias, an address too.
func places(r estate.Record) []string {
	switch r := r.(type) {
	case *estate.DNS:
		at := "dns " + r.Owner + audience(r.For) + " "
		if r.Type == "CNAME" || r.Type == "A" {
			return []string{at + r.Type, at + "alone"}
		}
		return []string{at + r.Type}
	case *estate.HostsEntry:
		return []string{fmt.Sprintf("name %s %s %v", r.Hostname, r.Place, r.Addr.Is6())}
	case *estate.Address:
		return []string{fmt.Sprintf("address %s %s %v", strings.Join(r.Hosts, ","), r.Network, r.Held.Addr.Is6())}
	case *estate.Route:
		return []string{fmt.Sprintf("route %s %s %v", r.Host, r.To, r.Via.Is6())}
	case *estate.Map:
		return []string{fmt.Sprintf("map %s %s %s", r.Container, r.To.List(), r.Bind.Transport)}
	case *estate.Listen:
		return []string{fmt.Sprintf("listen %s %s %s", r.Place, r.Service, r.Bind.Transport)}
	}
	return nil
}

// aliasMeets says whether a record and one that comes cannot stand at one name, since either is an alias.
func aliasMeets(old estate.Record, coming []estate.Record) bool {
	d, ok := old.(*estate.DNS)
	return ok && slices.ContainsFunc(coming, func(r estate.Record) bool {
		c, ok := r.(*estate.DNS)
		return ok && c.Owner == d.Owner && audience(c.For) == audience(d.For) && (c.Type == "CNAME" || d.Type == "CNAME")
	})
}

// givesAny says whether a file has addresses that a followed name stands for.
func givesAny(d *estate.DNS, records []estate.Record) bool {
	return slices.ContainsFunc(records, func(r estate.Record) bool {
		other, ok := r.(*estate.DNS)
		return ok && other.Owner == d.Owner && (other.Type == d.Type || d.Type == "ALIAS" && (other.Type == "A" || other.Type == "AAAA"))
	})
}

// With is a plan together with another that follows it.
func (p Plan) With(o Plan) Plan {
	return Plan{
		Add: append(p.Add, o.Add...), Change: append(p.Change, o.Change...), Leave: p.Leave + o.Leave, Gone: append(p.Gone, o.Gone...),
		Displaced: append(p.Displaced, o.Displaced...),
	}
}

// Lines are the lines that the plan takes and brings, a change's two beside each other.
func (p Plan) Lines() []string {
	var out []string
	for _, s := range p.Change {
		out = append(out, "- "+estate.Line(s.Old), "+ "+estate.Line(s.New))
	}
	for _, r := range p.Displaced {
		out = append(out, "- "+estate.Line(r))
	}
	for _, r := range p.Add {
		out = append(out, "+ "+estate.Line(r))
	}
	return out
}

// Edit is the plan as a change; with what is gone taken out where asked.
func (p Plan) Edit(takeOut bool) estate.Change {
	var c estate.Change
	for _, s := range p.Change {
		c.Remove = append(c.Remove, estate.Line(s.Old))
		c.Add = append(c.Add, estate.Placed{Record: s.New})
	}
	for _, r := range p.Displaced {
		c.Remove = append(c.Remove, estate.Line(r))
	}
	if takeOut {
		for _, r := range p.Gone {
			c.Remove = append(c.Remove, estate.Line(r))
		}
	}
	for _, r := range p.Add {
		c.Add = append(c.Add, estate.Placed{Record: r})
	}
	return c
}

// identity is what makes two lines one record that may differ in the rest.
func identity(r estate.Record) string {
	switch r := r.(type) {
	case *estate.DNS:
		value := "dynamic " + r.Dynamic
		if r.Dynamic == "" {
			value = RData(r)
		}
		if r.Type == "SOA" {
			value = "" // a zone has one
		}
		return "dns " + r.Owner + " " + r.Type + " " + value + audience(r.For)
	case *estate.Name:
		return "estate" // there is one
	case *estate.Zone:
		return "zone " + r.Name + audience(r.For)
	case *estate.HostsEntry:
		return "name " + r.Hostname + " " + r.Addr.String() + " " + r.Place
	}
	return estate.Line(r)
}

func audience(list []estate.Selector) string {
	words := make([]string, len(list))
	for i, s := range list {
		words[i] = s.String()
	}
	slices.Sort(words)
	return " for " + strings.Join(words, ",")
}

// Value is the value of a resource record as a zone file has it, its names in full.
func Value(rr dns.RR) string {
	if unknown, ok := rr.(*dns.RFC3597); ok {
		return fmt.Sprintf(`\# %d %s`, len(unknown.Rdata)/2, unknown.Rdata) // RFC 3597 §5
	}
	return strings.TrimPrefix(rr.String(), rr.Header().String())
}

// RData is a record's value in one form, so that two are the same where their wire forms are: names lower-case and
// with their last dot (RFC 4343).
func RData(d *estate.DNS) string {
	switch d.Type {
	case "A", "AAAA":
		return d.Value
	case "CNAME", "ALIAS", "NS", "DNAME", "PTR":
		return strings.ToLower(strings.TrimSuffix(d.Value, ".")) + "."
	}
	rr, err := dns.NewRR(". 0 IN " + d.Type + " " + d.Value)
	if err != nil || rr == nil {
		return d.Value
	}
	text := Value(rr)
	switch d.Type {
	case "MX", "SRV", "SOA", "NAPTR", "RP", "AFSDB", "KX":
		return strings.ToLower(text)
	}
	return text
}

// same says whether a line that a file brings says no more than the recorded one.
func same(old, brought estate.Record, zoneTTL estate.Seconds) bool {
	switch b := brought.(type) {
	case *estate.DNS:
		o := old.(*estate.DNS)
		return (o.TTL == b.TTL || b.TTL == estate.NotGiven && o.TTL == zoneTTL) && (b.Type != "SOA" || RData(o) == RData(b))
	case *estate.Name:
		return old.(*estate.Name).Text == b.Text
	case *estate.Zone:
		return b.TTL == estate.NotGiven || old.(*estate.Zone).TTL == b.TTL
	}
	return true
}

// keepingNotes is the brought record with what a person added to the old one.
func keepingNotes(old, brought estate.Record) estate.Record {
	meta := *old.Meta()
	note := func(m *estate.Common) { m.Note, m.Until, m.Comments = meta.Note, meta.Until, meta.Comments }
	switch b := brought.(type) {
	case *estate.DNS:
		return estate.With(b, func(d *estate.DNS) { note(&d.Common); d.Every = old.(*estate.DNS).Every })
	case *estate.Zone:
		o := old.(*estate.Zone)
		return estate.With(b, func(z *estate.Zone) { note(&z.Common); z.Without = o.Without })
	case *estate.HostsEntry:
		return estate.With(b, func(h *estate.HostsEntry) { note(&h.Common) })
	case *estate.Address:
		return estate.With(b, func(a *estate.Address) { note(&a.Common) })
	case *estate.Route:
		return estate.With(b, func(r *estate.Route) { note(&r.Common) })
	case *estate.Map:
		return estate.With(b, func(m *estate.Map) { note(&m.Common) })
	case *estate.Listen: // what it speaks, and with which certificates, no listing says
		return estate.With(old.(*estate.Listen), func(l *estate.Listen) { l.Bind, l.Shared, l.Off = b.Bind, b.Shared, false })
	}
	return brought
}
