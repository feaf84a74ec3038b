// Package dates says what comes due in an estate, and when: certificates, what is meant to be temporary, findings that were taken on,
// registrations of zones, and old answers that caches may still give.
package dates

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"steady-compass/core/certs"
	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/survey"
)

// Kind is what sort of thing comes due.
type Kind string

const (
	Certificate  Kind = "certificate"
	Temporary    Kind = "temporary"    // a line that is meant to be in force until then
	Accepted     Kind = "taken-on"     // a finding known and taken on until then
	Registration Kind = "registration" // of a zone
	OldAnswer    Kind = "old-answer"   // that caches may give until then
	Looked       Kind = "looked"       // what was seen from a vantage, until it is too old to prove much
)

// Kinds are all of them.
var Kinds = []Kind{Certificate, Temporary, Accepted, Registration, OldAnswer, Looked}

// Due is something that comes due.
type Due struct {
	Kind    Kind    `json:"kind"`
	Date    string  `json:"date" doc:"The last day on which it is so"`
	At      string  `json:"at,omitempty" doc:"The moment, where it is known to that (RFC 3339)"`
	Days    int     `json:"days" doc:"How many days after the day asked about; less than none once it is over"`
	Late    bool    `json:"late" doc:"It is over, and nothing was done about it"`
	Concern bool    `json:"concern" doc:"It is late, or will be, as things stand: nothing recorded sees to it, or that does not work"`
	Name    string  `json:"name" doc:"What it is about, in short"`
	Record  string  `json:"record,omitempty"`
	Means   string  `json:"means" doc:"What it means that it comes due"`
	Code    string  `json:"code,omitempty" doc:"Of the finding that stands for it, where there is one"`
	Subject string  `json:"subject,omitempty" doc:"The same"`
	Window  *Window `json:"window,omitempty" doc:"Of a certificate: the days on which it is renewed"`
}

// Window is the days on which a certificate's renewal is tried.
type Window struct {
	From  string `json:"from"`
	Until string `json:"until"`
	Tries int    `json:"tries" doc:"How many are left until the end of its last day"`
}

// Calendar is what comes due, the earliest first.
type Calendar struct {
	Day   string `json:"day" doc:"The day asked about"`
	Dates []Due  `json:"dates" nullable:"false"`
}

// Kept is an answer that was changed, and how long caches may give it as it was.
type Kept struct {
	Name, Type string
	Missing    bool // what they may give is that it was not there
	Until      time.Time
}

// LooksLast is how long what was seen speaks of how things are.
const LooksLast = 30 * 24 * time.Hour

// Known is what is known beside the records: old answers that caches may still give, and when each vantage was looked from last.
type Known struct {
	Old    []Kept
	Looked map[string]time.Time
}

// Of is what comes due in an estate. It stops where its context does, and then returns what that says.
func Of(ctx context.Context, s *survey.Survey, known Known) (Calendar, error) {
	sheet, err := certs.Of(ctx, s)
	if err != nil {
		return Calendar{}, err
	}
	checked, err := s.Check(ctx)
	if err != nil {
		return Calendar{}, err
	}
	x := &calendar{day: s.Day, e: s.Tracer.Model.Estate, found: map[string]*findings.Finding{}}
	for _, f := range checked.Findings {
		x.found[f.Code+" "+f.Subject] = f
	}
	for i := range sheet.Certificates {
		x.certificate(&sheet.Certificates[i])
	}
	for _, r := range x.e.All() {
		x.record(r)
	}
	for _, k := range known.Old {
		x.kept(k)
	}
	for from, at := range known.Looked {
		x.looked(from, at)
	}
	slices.SortStableFunc(x.out, func(a, b Due) int {
		return cmp.Or(cmp.Compare(a.Date, b.Date), cmp.Compare(a.At, b.At), cmp.Compare(a.Name, b.Name))
	})
	return Calendar{string(s.Day), append([]Due{}, x.out...)}, ctx.Err()
}

type calendar struct {
	day   estate.Date
	e     *estate.Estate
	found map[string]*findings.Finding // by code and subject
	out   []Due
}

func (x *calendar) add(on estate.Date, d Due) {
	d.Date, d.Days = string(on), int(on.Time().Sub(x.day.Time())/(24*time.Hour))
	x.out = append(x.out, d)
}

// record is what comes due by a line's own words.
func (x *calendar) record(r estate.Record) {
	meta := r.Meta()
	if meta.Off {
		return
	}
	line := estate.Line(r)
	if z, ok := r.(*estate.Zone); ok && z.Expires != "" {
		late := z.Expires < x.day
		means := fmt.Sprintf("Until then the registration of %s lasts, and with it %s.", z.Name, count(x.names(z.Name), "name"))
		if late {
			means = fmt.Sprintf("The registration of %s is over by its record: %s with it, and somebody else may take it.", z.Name, count(x.names(z.Name), "name"))
		}
		x.add(z.Expires, Due{Kind: Registration, Late: late, Concern: late || z.Expires.Time().Sub(x.day.Time()) < registrationSoon, Name: z.Name, Record: line, Means: means})
	}
	if meta.Until == "" {
		return
	}
	late := meta.Until < x.day
	if a, ok := r.(*estate.Acceptance); ok {
		f := x.found[a.Code+" "+a.Subject]
		means := fmt.Sprintf("%s is taken on until then, and comes back after it.", a.Code)
		switch {
		case late && f != nil:
			means = fmt.Sprintf("%s is back: %s", a.Code, f.Why)
		case late:
			means = fmt.Sprintf("Nothing of %s is found any more: the line can go.", a.Code)
		}
		x.add(meta.Until, found(Due{Kind: Accepted, Late: late, Concern: late && f != nil, Name: a.Subject, Record: line, Means: means}, f))
		return
	}
	means := "It is meant to be in force until then."
	f := x.found["temporary.expired "+line]
	if f != nil {
		means = f.Why
	} else if late { // of what is taken on
		means = fmt.Sprintf("Meant to be over by %s, and in force still.", meta.Until)
	}
	x.add(meta.Until, found(Due{Kind: Temporary, Late: late, Concern: late, Name: x.nameOf(r), Record: line, Means: means}, f))
}

// found names the finding that stands for what comes due; nil where there is none.
func found(d Due, f *findings.Finding) Due {
	if f != nil {
		d.Code, d.Subject = f.Code, f.Subject
	}
	return d
}

// registrationSoon is how long before its end a registration is a concern: a transfer or a lost mail takes weeks to put right.
const registrationSoon = 30 * 24 * time.Hour

// names is how many names a zone has.
func (x *calendar) names(zone string) int {
	seen := map[string]bool{}
	for _, r := range x.e.Of(estate.KindNamed("dns")) {
		if owner := r.(*estate.DNS).Owner; owner == zone || strings.HasSuffix(owner, "."+zone) {
			seen[owner] = true
		}
	}
	return len(seen)
}

// nameOf is a line in short: a rule by its place in its filter, another by the words that it begins with.
func (x *calendar) nameOf(r estate.Record) string {
	if rule, ok := r.(*estate.Rule); ok {
		n := 0
		for _, other := range x.e.Of(estate.KindNamed("rule")) {
			if other.(*estate.Rule).Filter == rule.Filter {
				if n++; other == r {
					return fmt.Sprintf("%s, line %d", rule.Filter, n)
				}
			}
		}
	}
	words := strings.Fields(estate.Line(r))
	return strings.Join(words[:min(len(words), 2)], " ")
}

func (x *calendar) certificate(c *certs.Certificate) {
	if c.Expires == "" {
		return
	}
	d := Due{Kind: Certificate, Late: c.State == certs.Expired, Name: c.Name, Record: c.Record}
	r := c.Renewal
	switch {
	case c.State == certs.Expired:
		d.Concern, d.Means = true, fmt.Sprintf("It is over, for %s.", listed(c.For))
	case r.By == "hand":
		d.Concern, d.Means = r.Due <= string(x.day), fmt.Sprintf("Renewed by hand, for %s.", listed(c.For))
	case r.By == "":
		d.Concern, d.Means = r.Due <= string(x.day), fmt.Sprintf("Nothing recorded renews it, for %s.", listed(c.For))
	case !r.Works:
		d.Concern = true
		d.Means = fmt.Sprintf("Its renewal by %s does not work as things stand, for %s.", r.By, listed(c.For))
	default:
		d.Means = fmt.Sprintf("Renewed by %s from %s, for %s.", r.By, r.Due, listed(c.For))
	}
	if c.Asked > 0 {
		d.Means += fmt.Sprintf(" Shown to %s.", count(c.Asked, "way"))
	}
	if r.By != "" && r.By != "hand" && c.State != certs.Expired {
		d.Window = &Window{From: r.Due, Until: c.Expires, Tries: r.Tries}
	}
	for _, code := range []string{"cert.expired", "cert.renewal", "cert.expiring"} {
		if f := x.found[code+" "+c.Name]; f != nil {
			d = found(d, f)
			break
		}
	}
	x.add(estate.Date(c.Expires), d)
}

func (x *calendar) kept(k Kept) {
	means := fmt.Sprintf("Until then some still have the answer of before, for %s.", k.Type)
	if k.Missing {
		means = fmt.Sprintf("Until then some still have it that there is no %s.", k.Type)
	}
	x.add(estate.Date(k.Until.UTC().Format(time.DateOnly)), Due{Kind: OldAnswer, At: k.Until.UTC().Format(time.RFC3339), Name: k.Name, Means: means})
}

func (x *calendar) looked(from string, at time.Time) {
	on := estate.Date(at.UTC().Add(LooksLast).Format(time.DateOnly))
	late := on < x.day
	means := fmt.Sprintf("The last look from %s was on %s; by then it is a month old.", from, at.UTC().Format(time.DateOnly))
	if late {
		means = fmt.Sprintf("The last look from %s was on %s: what was seen proves little of today.", from, at.UTC().Format(time.DateOnly))
	}
	x.add(on, Due{Kind: Looked, Late: late, Concern: late, Name: "looks from " + from, Means: means})
}

func listed(names []string) string {
	if len(names) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:2], ", "), len(names)-2)
	}
	return strings.Join(names, ", ")
}

func count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}
