package findings

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"unique"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/parallel"
	"steady-compass/core/trace"
)

// Checked is an estate looked over, with what that came to part by part: after an edit only those parts are done again that it
// may have changed. It is immutable, and many may go on from it at once.
type Checked struct {
	Report
	survey
	records *recordParts
	names   *kept[nameKey, *namePart]
	clashes [][]model.Clash // by place
	filters *kept[*estate.Filter, *filterPart]
	behind  *listening
	open    *exposed
}

// survey is what all parts of a check share: whom they ask, and what was walked before them.
type survey struct {
	ctx   context.Context
	t     *trace.Tracer
	m     *model.Model
	day   estate.Date
	walks *walks // nil where no flow is followed
}

// check is one part of a check, and what it finds.
type check struct {
	survey
	found []*Finding
}

// add notes a finding.
func (c *check) add(f Finding) { c.found = append(c.found, f.made()) }

// made is a finding with its level.
func (f Finding) made() *Finding {
	f.Level, f.id = LevelOf(f.Code), unique.Make([2]string{f.Code, f.Subject})
	if f.Records == nil {
		f.Records = []string{}
	}
	return &f
}

// Check looks the whole estate over, on a day. Its error is the context's, where that ends first.
func Check(ctx context.Context, t *trace.Tracer, day estate.Date) (*Checked, error) {
	return checked(ctx, t, day, nil)
}

// After looks over an estate whose tracer went on from that of the estate looked over already. It finds what Check does.
func (x *Checked) After(ctx context.Context, t *trace.Tracer) (*Checked, error) {
	return checked(ctx, t, x.day, x)
}

func checked(ctx context.Context, t *trace.Tracer, day estate.Date, before *Checked) (*Checked, error) {
	next := &Checked{survey: survey{ctx: ctx, t: t, m: t.Model(), day: day}}
	e := edit{touch: trace.Anything()}
	if before == nil {
		before = &Checked{}
	} else {
		e = edit{before.t.Touched(t), before.m}
	}
	var w *walks
	parallel.Do(ctx,
		func() { w = next.walk(before.walks, e) },
		func() { next.records = next.lookAtRecords(before.records, e) },
		func() { next.behind = next.listeners(before.behind, e) },
		func() { t.LandsAnew() }, // asked for below
	)
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	next.walks = w
	found := newMerging(len(before.Findings) + len(before.Accepted))
	var missing map[string]bool // the names that are said not to resolve
	parallel.Do(ctx,
		func() { next.open = next.expose(before.open, e) },
		func() { next.filters = next.lookAtFilters(before.filters, e, next.behind, next.records) },
		func() {
			found.take(next.records.found()...)
			found.take(next.walks.found()...)
			found.take(next.needed(next.records.expired())...)
			missing = unresolved(found.all)
			found.take(next.nearMisses(missing)...)
			found.take(next.ofPorts(before, e)...)
		},
		func() { next.names = next.lookAtNames(before.names, e) },
	)
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	found.take(withoutWWW(next.names.values, missing)...)
	for _, f := range next.filters.values {
		found.take(f.found...)
	}
	found.take(next.open.found()...)
	next.Report = next.reportOf(found, before.Report)
	next.ctx = context.Background() // it outlives the request
	return next, nil
}

// CheckRecords looks at the records by themselves and beside one another, without following any flow.
func CheckRecords(t *trace.Tracer, day estate.Date) Report {
	s := survey{ctx: context.Background(), t: t, m: t.Model(), day: day}
	records := s.lookAtRecords(nil, edit{touch: trace.Anything()})
	x := Checked{survey: s}
	found := newMerging(0)
	found.take(slices.Concat(records.found(), records.expired(), x.ofPorts(&Checked{}, edit{}))...)
	return s.reportOf(found, Report{})
}

// edit is what parts of a check that were done before are held against.
type edit struct {
	touch  *trace.Touch
	before *model.Model
}

// reportOf is what was found, in order. Those that a report before has too are in order as they stand there.
func (s *survey) reportOf(found *merging, before Report) Report {
	r := Report{Accepted: []*Finding{}, Counts: map[Level]int{Error: 0, Warning: 0, Note: 0}}
	accepted := map[[2]string]bool{}
	for _, rec := range s.m.Estate.Of(estate.KindNamed("accept")) {
		a := rec.(*estate.Acceptance)
		if !a.Off && s.day <= a.Until {
			accepted[[2]string{a.Code, a.Subject}] = true
		}
	}
	all, at := found.all, found.at
	placed := make([]bool, len(all))
	place := func(i int, to *[]*Finding) {
		placed[i] = true
		*to = append(*to, all[i])
	}
	if len(accepted) > 0 {
		for i := range all {
			if accepted[all[i].id.Value()] {
				place(i, &r.Accepted)
			}
		}
	}
	var come []*Finding
	known := make([]*Finding, 0, len(all))
	for _, f := range before.Findings {
		if n, stays := at[f.id]; stays && !placed[n] {
			place(n, &known)
		}
	}
	for i := range all {
		if !placed[i] {
			place(i, &come)
		}
	}
	slices.SortFunc(come, compareFindings)
	slices.SortFunc(r.Accepted, compareFindings)
	r.Findings = make([]*Finding, 0, len(all))
	for _, f := range come {
		at, _ := slices.BinarySearchFunc(known, f, compareFindings)
		r.Findings = append(append(r.Findings, known[:at]...), f)
		known = known[at:]
	}
	r.Findings = append(r.Findings, known...)
	for _, f := range r.Findings {
		r.Counts[f.Level]++
	}
	return r
}

// compareFindings puts the worst first, then subjects and codes in order.
func compareFindings(a, b *Finding) int {
	return cmp.Or(cmp.Compare(a.Level.Rank(), b.Level.Rank()), strings.Compare(a.Subject, b.Subject), strings.Compare(a.Code, b.Code))
}

// merging brings together what is found, one finding a code and subject: the first of these takes in the records and mends of the
// others.
type merging struct {
	all []*Finding
	at  map[findingID]int
	own map[int]bool // of all, those that took in others, and are not those of a part any more
}

// newMerging has room for about so many.
func newMerging(about int) *merging {
	return &merging{make([]*Finding, 0, about), make(map[findingID]int, about), map[int]bool{}}
}

func (m *merging) take(found ...*Finding) {
	for _, f := range found {
		i, known := m.at[f.id]
		if !known {
			m.at[f.id] = len(m.all)
			m.all = append(m.all, f)
			continue
		}
		if !m.own[i] {
			first := *m.all[i]
			first.Records = slices.Clip(first.Records)
			m.own[i], m.all[i] = true, &first
		}
		m.all[i].takeIn(f)
	}
}

// takeIn is the same found again.
func (f *Finding) takeIn(again *Finding) {
	for _, r := range again.Records {
		if !slices.Contains(f.Records, r) {
			f.Records = append(f.Records, r)
		}
	}
	switch {
	case f.Mend.IsEmpty() || again.Mend.IsEmpty(): // a part of it is not known how to end
		f.Mend = nil
	default:
		f.Mend = joinMends(f.Mend, again.Mend)
	}
}

// Ended are the findings of a report that another has not.
func Ended(before, after Report) []*Finding {
	there := make(map[findingID]bool, len(after.Findings))
	for _, f := range after.Findings {
		there[f.id] = true
	}
	var out []*Finding
	for _, f := range before.Findings {
		if !there[f.id] {
			out = append(out, f)
		}
	}
	return out
}
