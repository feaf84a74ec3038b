package findings

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"steady-compass/core/carry"
	"steady-compass/core/codes"
	"steady-compass/core/estate"
)

// section is what part of a check found something. Of what is found more than once, the first section has the word.
type section uint8

const (
	ofRenewals section = iota // of certificates that end soon, what is worse than they say themselves
	ofRecords
	ofVisits
	ofExpired
	ofNearMisses
	ofBackends
	ofPorts
	ofNames
	ofFilters
	ofOpenings
	unlessSaid // it counts where nothing else says so
)

// contribution is what one part of a check found.
type contribution struct {
	section
	*Finding
	nth int // of what the part found
}

// compare puts contributions in an order that hangs on nothing but what they say.
func (c contribution) compare(o contribution) int {
	mend, other := orNone(c.Mend), orNone(o.Mend)
	at, elsewhere := orNone(c.Trace), orNone(o.Trace)
	return cmp.Or(
		cmp.Compare(c.section, o.section), strings.Compare(c.Why, o.Why), slices.Compare(c.Records, o.Records), cmp.Compare(c.nth, o.nth),
		slices.Compare(mend.Remove, other.Remove), slices.Compare(mend.Add, other.Add),
		strings.Compare(at.Target, elsewhere.Target), strings.Compare(at.From, elsewhere.From),
	)
}

// orNone is what a pointer points to; the zero value where it points to nothing.
func orNone[T any](p *T) T {
	if p == nil {
		p = new(T)
	}
	return *p
}

// turn is what parts of a check found before an edit and find no more, and what they find now.
type turn struct{ gone, come []contribution }

func (t *turn) part(s section, gone, come []*Finding) {
	for i, f := range gone {
		t.gone = append(t.gone, contribution{s, f, i})
	}
	for i, f := range come {
		t.come = append(t.come, contribution{s, f, i})
	}
}

// tally is all that the parts of a check found, by code and subject.
type tally struct {
	carry.Map[findingID, []contribution]
}

// after is the tally once parts found other things, and the findings that are other ones now: nil for those that are no more.
func (t tally) after(turns ...turn) (tally, map[findingID]*Finding) {
	lists := map[findingID][]contribution{}
	of := func(id findingID) []contribution {
		list, known := lists[id]
		if !known {
			list = slices.Clone(t.Of(id))
		}
		return list
	}
	for _, x := range turns {
		for _, c := range x.gone {
			list := of(c.id)
			if i := slices.Index(list, c); i >= 0 {
				list = slices.Delete(list, i, i+1)
			}
			lists[c.id] = list
		}
	}
	for _, x := range turns {
		for _, c := range x.come {
			lists[c.id] = append(of(c.id), c)
		}
	}
	var gone []findingID
	changed := make(map[findingID]*Finding, len(lists))
	for id, list := range lists {
		if len(list) == 0 {
			gone = append(gone, id)
			changed[id] = nil
			delete(lists, id)
			continue
		}
		slices.SortFunc(list, contribution.compare)
		changed[id] = merged(list)
	}
	return tally{t.After(gone, lists)}, changed
}

// merged is what was found once or more, as one finding: the first takes in the records and mends of the others.
func merged(list []contribution) *Finding {
	if first := slices.IndexFunc(list, func(c contribution) bool { return c.section == unlessSaid }); first > 0 {
		list = list[:first]
	}
	if len(list) == 1 {
		return list[0].Finding
	}
	all := *list[0].Finding
	all.Records = slices.Clip(all.Records)
	for _, c := range list[1:] {
		all.takeIn(c.Finding)
	}
	return &all
}

// takeIn is the same found again.
func (f *Finding) takeIn(again *Finding) {
	for _, r := range again.Records {
		if !slices.Contains(f.Records, r) {
			f.Records = append(f.Records, r)
		}
	}
	f.keys = union(f.keys, again.keys)
	switch {
	case f.Mend.IsEmpty() || again.Mend.IsEmpty(): // a part of it is not known how to end
		f.Mend = nil
	default:
		f.Mend = joinMends(f.Mend, again.Mend)
	}
}

// unresolvedAfter are the names that are said not to resolve, once some findings are other ones.
func unresolvedAfter(before map[string]bool, changed map[findingID]*Finding) map[string]bool {
	next := before
	for id, f := range changed {
		name := id.Value()[1]
		if id.Value()[0] != "name.unresolved" || before[name] == (f != nil) {
			continue
		}
		if next = maps.Clone(next); next == nil {
			next = map[string]bool{}
		}
		if before = next; f != nil {
			next[name] = true
		} else {
			delete(next, name)
		}
	}
	return next
}

// reportAfter is a report once some findings are other ones, and perhaps others are taken on.
func (s *survey) reportAfter(before Report, changed map[findingID]*Finding, sameAccepted bool) Report {
	if len(changed) == 0 && sameAccepted && before.Counts != nil {
		return before
	}
	stays := func(f *Finding) bool {
		_, other := changed[f.id]
		return !other
	}
	come := make([]*Finding, 0, len(changed))
	for _, f := range changed {
		if f != nil {
			come = append(come, f)
		}
	}
	if !sameAccepted { // all are placed anew
		for _, f := range slices.Concat(before.Findings, before.Accepted) {
			if stays(f) {
				come = append(come, f)
			}
		}
		before = Report{}
	}
	slices.SortFunc(come, compareFindings)
	accepted := s.accepted()
	var taken, open []*Finding
	for _, f := range come {
		if len(accepted) > 0 && accepted[f.id.Value()] {
			taken = append(taken, f)
		} else {
			open = append(open, f)
		}
	}
	r := Report{Findings: inPlace(before.Findings, stays, open), Accepted: inPlace(before.Accepted, stays, taken), Counts: map[Level]int{}}
	left := r.Findings
	for _, level := range codes.Levels { // the worst are first
		n, _ := slices.BinarySearchFunc(left, level.Rank()+1, func(f *Finding, rank int) int { return f.Level.Rank() - rank })
		r.Counts[level], left = n, left[n:]
	}
	return r
}

// accepted are the codes and subjects that are known and taken on.
func (s *survey) accepted() map[[2]string]bool {
	out := map[[2]string]bool{}
	for _, rec := range s.m.Estate.Of(estate.KindNamed("accept")) {
		if a := rec.(*estate.Acceptance); !a.Off && s.day <= a.Until {
			out[[2]string{a.Code, a.Subject}] = true
		}
	}
	return out
}

// inPlace is a list in order without those that do not stay, and with others in order.
func inPlace(list []*Finding, stays func(*Finding) bool, come []*Finding) []*Finding {
	left := make([]*Finding, 0, len(list))
	for _, f := range list {
		if stays(f) {
			left = append(left, f)
		}
	}
	out := make([]*Finding, 0, len(left)+len(come))
	for _, f := range come {
		at, _ := slices.BinarySearchFunc(left, f, compareFindings)
		out = append(append(out, left[:at]...), f)
		left = left[at:]
	}
	return append(out, left...)
}

// compareFindings puts the worst first, then subjects and codes in order.
func compareFindings(a, b *Finding) int {
	return cmp.Or(cmp.Compare(a.Level.Rank(), b.Level.Rank()), strings.Compare(a.Subject, b.Subject), strings.Compare(a.Code, b.Code))
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

// Has says whether a report has a finding of a code and subject, taken on or not.
func (r *Report) Has(code, subject string) bool {
	is := func(f *Finding) bool { return f.Code == code && f.Subject == subject }
	return slices.ContainsFunc(r.Findings, is) || slices.ContainsFunc(r.Accepted, is)
}
