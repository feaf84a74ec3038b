// Package findings looks an estate over and says what is wrong with it: each fault with its code,
// subject, a sentence, the records behind it and, where known, the lines that mend it.
package findings

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/parallel"
	"steady-compass/core/trace"
)

// Level is how much a finding matters.
type Level string

const (
	Error   Level = "error"
	Warning Level = "warning"
	Note    Level = "note"
)

// Rank orders levels, the worst first.
func (l Level) Rank() int { return slices.Index(levels, l) }

var levels = []Level{Error, Warning, Note}

// Finding is one thing wrong with an estate.
type Finding struct {
	Code    string      `json:"code"`
	Level   Level       `json:"level"`
	Subject string      `json:"subject"`
	Why     string      `json:"why"`
	Records []string    `json:"records" nullable:"false"`
	Mend    *trace.Mend `json:"mend,omitempty"`
	Trace   *Where      `json:"trace,omitempty"` // the trace that shows it
}

// Where is a trace that shows a finding.
type Where struct {
	Target string `json:"target"`
	From   string `json:"from"`
}

// Report is the answer to a check.
type Report struct {
	Findings []Finding     `json:"findings" nullable:"false"`
	Counts   map[Level]int `json:"counts"`
	Accepted []Finding     `json:"accepted" nullable:"false"` // known and taken on

	// Needs are what is meant to get through by a line of a filter, as it is asked for, by the line; none where only the
	// records were looked at.
	Needs map[string][]string `json:"-"`
}

var families = map[string]Level{
	"conflict": Error, "path": Error, "upstream": Error, "cert": Error, "intent": Error,
	"site": Warning, "pool": Warning, "tunnel": Warning, "redirect": Warning, "exposure": Warning,
	"name": Warning, "order": Warning, "temporary": Warning, "record": Warning,
}

var exceptions = map[string]Level{
	"conflict.record": Note, "path.tie": Warning,
	"site.none": Error, "site.unknown-service": Error, "site.speech": Error,
	"upstream.cleartext": Warning, "pool.empty": Error, "pool.down": Error, "tunnel.closed": Error,
	"cert.expiring": Warning, "cert.trial": Warning, "redirect.dead": Error, "redirect.loop": Error,
	"exposure.wider": Error, "exposure.bypass": Error, "exposure.admin": Error,
	"name.unresolved": Error, "name.broken-alias": Error, "name.alias-loop": Error, "name.dangling": Error,
	"name.stale": Error, "name.mail": Error, "name.unsupported": Error, "name.undelegated": Error,
	"order.redundant": Note, "order.unused": Note, "name.no-www": Note, "name.near-miss": Note,
	"redirect.missing": Note, "tunnel.unused": Note, "record.without-effect": Note,
}

// LevelOf is the level of a code.
func LevelOf(code string) Level {
	if l, ok := exceptions[code]; ok {
		return l
	}
	family, _, _ := strings.Cut(code, ".")
	return families[family]
}

// check gathers findings, one a code and subject.
type check struct {
	ctx context.Context
	t   *trace.Tracer
	m   *model.Model
	day estate.Date
	at  map[[2]string]*Finding
	out []*Finding

	needs   map[string][]string            // what gets through by a line of a filter
	used    map[string]string              // the lines that let meant flows on, and the target of the first of these
	behind  map[string]map[uint16]*backend // what stands before the ports of a place
	reach   map[landing][]string           // the vantages that reach each landing
	walked  map[string][]walked            // what became of each name
	passed  map[string][]uint16            // the ports of meant flows that a line of a filter passes
	blocked map[string][]uint16            // and of those that it stops
	known   []trace.Name
}

// Check looks the whole estate over, on a day. Its error is the context's, where that ends first.
func Check(ctx context.Context, t *trace.Tracer, day estate.Date) (Report, error) {
	c := newCheck(ctx, t, day)
	c.records()
	c.intents()
	c.names()
	c.namePaths()
	c.conflicts()
	c.temporary()
	c.order()
	c.exposure()
	return c.report(), ctx.Err()
}

// CheckRecords looks at the records by themselves and beside one another, without following any flow: what is
// said at once, however large the estate.
func CheckRecords(t *trace.Tracer, day estate.Date) Report {
	c := newCheck(context.Background(), t, day)
	c.records()
	c.conflicts()
	c.temporary()
	return c.report()
}

func newCheck(ctx context.Context, t *trace.Tracer, day estate.Date) *check {
	return &check{ctx: ctx, t: t, m: t.Model(), day: day, at: map[[2]string]*Finding{}, needs: map[string][]string{}, used: map[string]string{}, behind: map[string]map[uint16]*backend{}, reach: map[landing][]string{}, walked: map[string][]walked{}, passed: map[string][]uint16{}, blocked: map[string][]uint16{}}
}

// records looks at the records beside one another: each part by itself, and all at once.
func (c *check) records() {
	parts := []func(*check){(*check).references, (*check).duplicates, (*check).nameRecords, (*check).sites, (*check).rivals, (*check).ownSake}
	for _, found := range parallel.Map(c.ctx, len(parts), func(i int) []*Finding {
		part := newCheck(c.ctx, c.t, c.day)
		parts[i](part)
		return part.out
	}) {
		for _, f := range found {
			c.add(*f)
		}
	}
}

// add notes a finding; one of the same code and subject takes in its records and mend.
func (c *check) add(f Finding) {
	key := [2]string{f.Code, f.Subject}
	old := c.at[key]
	if old == nil {
		f.Level = LevelOf(f.Code)
		if f.Records == nil {
			f.Records = []string{}
		}
		c.at[key] = &f
		c.out = append(c.out, &f)
		return
	}
	for _, r := range f.Records {
		if !slices.Contains(old.Records, r) {
			old.Records = append(old.Records, r)
		}
	}
	switch {
	case f.Mend.IsEmpty() || old.Mend.IsEmpty(): // a part of it is not known how to end
		old.Mend = nil
	default:
		old.Mend = joinMends(old.Mend, f.Mend)
	}
}

// joinMends brings two mends together; where both change the same line, the first holds.
func joinMends(a, b *trace.Mend) *trace.Mend {
	for _, line := range b.Remove {
		if slices.Contains(a.Remove, line) {
			return a
		}
	}
	out := &trace.Mend{Remove: slices.Concat(a.Remove, b.Remove), Add: slices.Clone(a.Add)}
	for _, line := range b.Add {
		if !slices.Contains(out.Add, line) {
			out.Add = append(out.Add, line)
		}
	}
	return out
}

func (c *check) report() Report {
	r := Report{Needs: c.needs, Findings: []Finding{}, Accepted: []Finding{}, Counts: map[Level]int{Error: 0, Warning: 0, Note: 0}}
	accepted := map[[2]string]bool{}
	for _, rec := range c.m.Estate.Of(estate.KindNamed("accept")) {
		a := rec.(*estate.Acceptance)
		if !a.Off && c.day <= a.Until {
			accepted[[2]string{a.Code, a.Subject}] = true
		}
	}
	for _, f := range c.out {
		if accepted[[2]string{f.Code, f.Subject}] {
			r.Accepted = append(r.Accepted, *f)
			continue
		}
		r.Findings = append(r.Findings, *f)
		r.Counts[f.Level]++
	}
	order := func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.Level.Rank(), b.Level.Rank()), strings.Compare(a.Subject, b.Subject), strings.Compare(a.Code, b.Code))
	}
	slices.SortFunc(r.Findings, order)
	slices.SortFunc(r.Accepted, order)
	return r
}
