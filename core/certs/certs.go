// Package certs looks at the certificates of an estate: where each lies and until when it is good, which listeners show it to whom, when it is
// due to be renewed, how many tries are left, and whether its challenge gets in.
package certs

import (
	"context"
	"slices"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/memo"
	"steady-compass/core/parallel"
	"steady-compass/core/serve"
	"steady-compass/core/survey"
)

// Condition is how a certificate stands on a day.
type Condition string

const (
	Valid   Condition = "valid"
	Due     Condition = "due"     // to be renewed by now
	Expired Condition = "expired" // its last day is over
	Wanted  Condition = "wanted"  // not issued yet
	Trial   Condition = "trial"   // of an authority that nobody trusts
)

// Conditions are all of them.
var Conditions = []Condition{Valid, Due, Expired, Wanted, Trial}

// Sheet is all that certificates are for, and what is shown none.
type Sheet struct {
	Certificates []Certificate  `json:"certificates" nullable:"false"`
	Untrusted    []findings.Way `json:"untrusted" nullable:"false" doc:"What is asked for in TLS and shown no certificate that is for it and good"`
}

// Certificate is one of them.
type Certificate struct {
	Name    string         `json:"name"`
	Record  string         `json:"record"`
	For     []string       `json:"for" nullable:"false"`
	On      []string       `json:"on" nullable:"false"`
	State   Condition      `json:"state"`
	Expires string         `json:"expires" doc:"Its last day; nothing while it is wanted"`
	Days    int            `json:"days" doc:"How many days it is good for after this one; less than none once it is over"`
	Renewal Renewal        `json:"renewal"`
	Shown   []Listener     `json:"shown" nullable:"false" doc:"The listeners that may show it, and are to read it anew once it is renewed"`
	Asked   int            `json:"asked" doc:"How many ways are shown it"`
	Serves  []findings.Way `json:"serves" nullable:"false" doc:"The first of these"`
}

// Listener is one that ends TLS.
type Listener struct {
	Place   string `json:"place"`
	Ports   string `json:"ports"`
	Service string `json:"service"`
}

// Renewal is how a certificate is renewed.
type Renewal struct {
	By    string  `json:"by" doc:"Its method; hand; or nothing, where nothing recorded renews it"`
	Due   string  `json:"due" doc:"The first day on which it is tried"`
	Every string  `json:"every"`
	Tries int     `json:"tries" doc:"How many are left until the end of its last day"`
	Works bool    `json:"works" doc:"Each of its names can be proven as things stand"`
	Names []Proof `json:"names" nullable:"false"`
}

// Proof is whether a name of a certificate can be proven to an authority.
type Proof struct {
	Name  string   `json:"name"`
	Works bool     `json:"works"`
	Why   string   `json:"why" doc:"Why it does not work, or not by IPv6"`
	CAA   []string `json:"caa" nullable:"false" doc:"The records that say who may issue for it (RFC 8659); none: everybody"`
}

const (
	day        = 24 * time.Hour
	mostServed = 200 // ways that are listed
)

// Of looks at all certificates in force, in the order in which they are written.
func Of(ctx context.Context, s *survey.Survey) (Sheet, error) {
	out := Sheet{Certificates: []Certificate{}, Untrusted: []findings.Way{}}
	checked, err := s.Check(ctx)
	if err != nil {
		return out, err
	}
	shown, untrusted := checked.ByCertificate()
	out.Untrusted = append(out.Untrusted, untrusted...)
	list := s.Tracer.Model.CertList
	out.Certificates = append(out.Certificates, parallel.Map(ctx, len(list), func(i int) Certificate {
		c := list[i]
		line := estate.Line(c)
		x := Certificate{
			Name: c.Name, Record: line, For: c.For, On: c.On, State: conditionOf(c, s.Day), Expires: string(c.Expires),
			Renewal: renewalOf(s, c), Shown: listeners(s, c), Asked: len(shown[line]), Serves: append([]findings.Way{}, shown[line][:min(len(shown[line]), mostServed)]...),
		}
		if c.Expires != "" {
			x.Days = int(c.Expires.Time().Sub(s.Day.Time()) / day)
		}
		return x
	})...)
	return out, ctx.Err()
}

func conditionOf(c *estate.Cert, on estate.Date) Condition {
	switch {
	case c.Expires == "":
		return Wanted
	case c.Expires < on:
		return Expired
	case c.Trial:
		return Trial
	case dueOn(c) <= on:
		return Due
	}
	return Valid
}

// dueOn is the first day on which a certificate is renewed.
func dueOn(c *estate.Cert) estate.Date {
	before := findings.RenewBefore
	if c.Renew != estate.NotGiven {
		before = time.Duration(c.Renew) * time.Second
	}
	return estate.Date(c.Expires.Time().Add(-before).Format(time.DateOnly))
}

func renewalOf(s *survey.Survey, c *estate.Cert) Renewal {
	r := Renewal{By: c.By, Names: []Proof{}}
	every := day
	if c.Every != estate.NotGiven {
		every = time.Duration(c.Every) * time.Second
	}
	r.Every = estate.Seconds(every / time.Second).String()
	if c.Expires != "" {
		r.Due = string(dueOn(c))
		if left := c.Expires.Time().Add(day).Sub(s.Day.Time()); left > 0 && every > 0 {
			r.Tries = int(left / every)
		}
	}
	if c.By == "" || c.By == "hand" {
		return r
	}
	r.Works = true
	for _, name := range c.For {
		p := Proof{Name: name, CAA: []string{}}
		for _, r := range s.Tracer.AuthorizedFor(name, &memo.Reads{}).Records {
			p.CAA = append(p.CAA, estate.Line(r))
		}
		switch {
		case !serve.Provable(c.By, name):
			p.Why = "The method cannot prove it."
		default:
			got := s.Tracer.Challenge(c, name, &memo.Reads{})
			if p.Works, p.Why = got.Works, got.Why; got.Only4 {
				p.Why = "By IPv4 only: by IPv6, which is tried first, nobody is met."
			}
		}
		r.Works = r.Works && p.Works
		r.Names = append(r.Names, p)
	}
	return r
}

// listeners are those that show a certificate: it is theirs or a site's of theirs, or lies beside one that names none.
func listeners(s *survey.Survey, c *estate.Cert) []Listener {
	out := []Listener{}
	m := s.Tracer.Model
	for _, r := range m.Estate.Of(estate.KindNamed("listen")) {
		l := r.(*estate.Listen)
		if l.Off || !l.TLS {
			continue
		}
		shows := slices.Contains(l.Certs, c.Name) || len(l.Certs) == 0 && slices.Contains(c.On, l.Place)
		if service := m.Services[l.Service]; !shows && service != nil {
			for _, site := range service.Sites {
				shows = shows || site.Record.Cert == c.Name
			}
		}
		if shows {
			out = append(out, Listener{l.Place, l.Bind.String(), l.Service})
		}
	}
	return out
}
