package findings

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"unique"

	"steady-compass/core/estate"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/parallel"
	"steady-compass/core/trace"
)

// Checked is an estate looked over, with what that came to part by part: after an edit only those parts are done again that it
// may have changed. It is immutable, and many may go on from it at once.
type Checked struct {
	Report
	survey
	records  *recordParts
	names    *kept[nameKey, *namePart]
	clashes  [][]model.Clash // by place
	forwards [][]*Finding    // of forwards that take from others, by place
	filters  *kept[*estate.Filter, *filterPart]
	behind   *listening
	open     *exposed
	backends *kept[backKey, *backPart]

	all        tally
	unresolved map[string]bool        // the names that are said not to resolve
	whole      map[section][]*Finding // of sections that are looked at as a whole each time
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

// made is a finding with its level: that of its code, where it has none of its own.
func (f Finding) made() *Finding {
	f.Level, f.id = cmp.Or(f.Level, LevelOf(f.Code)), unique.Make([2]string{f.Code, f.Subject})
	if f.Records == nil {
		f.Records = []string{}
	}
	if f.Mend != nil && len(f.Mend.Add) > 0 && slices.Equal(f.Mend.Remove, f.Mend.Add) { // it would change nothing
		f.Mend = nil
	}
	f.keyed()
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
	next := &Checked{survey: survey{ctx: ctx, t: t, m: t.Model, day: day}, whole: map[section][]*Finding{}}
	e := edit{touch: memo.Anything()}
	if before == nil || !t.Model.HangsTogetherAs(before.m) {
		before = &Checked{}
	} else {
		e = edit{t.Since(before.t.Model), before.m}
	}
	var w *walks
	var behind, renewals []*Finding
	var ofWalks, ofLines, ofOpen, ofFilters turn
	parallel.Do(ctx,
		func() { w, ofWalks = next.walk(before.walks, e) },
		func() { next.records, ofLines = next.lookAtRecords(before.records, e) },
		func() { next.behind = next.listeners(before.behind, e) },
		func() { t.LandsAnew() }, // asked for below
		func() { next.backends, behind, renewals = next.lookBehind(before.backends, e) },
	)
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	next.walks = w
	var known map[findingID]*Finding
	parallel.Do(ctx,
		func() { next.open, ofOpen = next.expose(before.open, e) },
		func() {
			next.filters, ofFilters = next.lookAtFilters(before.filters, e, next.behind, next.records)
		},
		func() {
			expired := next.anew(ofExpired, before, next.needed(next.records.expired()))
			ports := next.anew(ofPorts, before, next.ofPorts(before, e))
			next.all, known = before.all.after(ofWalks, ofLines, expired, ports)
			next.unresolved = unresolvedAfter(before.unresolved, known)
		},
		func() { next.names = next.lookAtNames(before.names, e) },
	)
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	all, changed := next.all.after(
		next.anew(ofNearMisses, before, next.nearMisses(next.unresolved)),
		next.anew(ofNames, before, withoutWWW(next.names.values, next.unresolved)),
		ofFilters, ofOpen, next.anew(ofBackends, before, behind), next.anew(ofRenewals, before, renewals),
	)
	maps.Copy(known, changed)
	next.all = all
	next.Report = next.reportAfter(before.Report, known, before.m != nil && estate.Same(before.m.Estate, next.m.Estate, "accept"))
	next.ctx = context.Background() // it outlives the request
	return next, nil
}

// anew is the turn of a section that is looked at as a whole each time.
func (x *Checked) anew(s section, before *Checked, found []*Finding) turn {
	var t turn
	x.whole[s] = found
	if !slices.Equal(before.whole[s], found) {
		t.part(s, before.whole[s], found)
	}
	return t
}

// CheckRecords looks at the records by themselves and beside one another, without following any flow.
func CheckRecords(t *trace.Tracer, day estate.Date) Report {
	x := Checked{survey: survey{ctx: context.Background(), t: t, m: t.Model, day: day}, whole: map[section][]*Finding{}}
	records, found := x.lookAtRecords(nil, edit{touch: memo.Anything()})
	_, all := tally{}.after(found, x.anew(ofExpired, &Checked{}, records.expired()), x.anew(ofPorts, &Checked{}, x.ofPorts(&Checked{}, edit{})))
	return x.reportAfter(Report{}, all, false)
}

// edit is what parts of a check that were done before are held against.
type edit struct {
	touch  *memo.Touch
	before *model.Model
}
