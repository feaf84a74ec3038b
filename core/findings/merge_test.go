package findings

import (
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/codes"
	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/serve"
)

func mend(remove, add string) *flow.Mend {
	return &flow.Mend{Remove: strings.Fields(remove), Add: strings.Fields(add)}
}

// TestMerged: what is found more than once is one finding: the first says why, and takes in the records and mends of the others.
func TestMerged(t *testing.T) {
	f := func(code, subject, records string, m *flow.Mend) *Finding {
		return Finding{Code: code, Subject: subject, Why: records, Records: strings.Fields(records), Mend: m}.made()
	}
	for _, c := range []struct {
		name    string
		found   []*Finding
		records []string // of each finding in turn
		mends   []string // remove>add
	}{
		{"nothing", nil, nil, nil},
		{"one without a record", []*Finding{f("path.blocked", "a", "", nil)}, []string{""}, []string{""}},
		{"two subjects", []*Finding{f("path.blocked", "a", "r1", nil), f("path.blocked", "b", "r1", nil)}, []string{"r1", "r1"}, []string{"", ""}},
		{"two those", []*Finding{f("path.blocked", "a", "r1", nil), f("path.loopback", "a", "r1", nil)}, []string{"r1", "r1"}, []string{"", ""}},
		{"the same again", []*Finding{f("path.blocked", "a", "r1 r2", mend("r1", "n1")), f("path.blocked", "a", "r2 r3", mend("r1", "n1"))}, []string{"r1 r2 r3"}, []string{"r1>n1"}},
		{"mends of two parts", []*Finding{f("path.blocked", "a", "r1", mend("r1", "n1")), f("path.blocked", "a", "r2", mend("r2", "n1 n2"))}, []string{"r1 r2"}, []string{"r1 r2>n1 n2"}},
		{"mends of the same line", []*Finding{f("path.blocked", "a", "r1", mend("r1", "n1")), f("path.blocked", "a", "r1", mend("r1 r2", "n3"))}, []string{"r1"}, []string{"r1>n1"}},
		{"a part that is not known how to end", []*Finding{f("path.blocked", "a", "r1", mend("r1", "n1")), f("path.blocked", "a", "r2", nil), f("path.blocked", "a", "r3", mend("r3", ""))}, []string{"r1 r2 r3"}, []string{""}},
		{"a mend without a line", []*Finding{f("path.blocked", "a", "r1", mend("", "")), f("path.blocked", "a", "r2", mend("r2", ""))}, []string{"r1 r2"}, []string{""}},
	} {
		var before []string
		for _, x := range c.found {
			before = append(before, strings.Join(x.Records, " "))
		}
		var records, mends []string
		for _, list := range bySubject(c.found) {
			x := merged(list)
			if x.Level != Error || x.Records == nil || x.Why != list[0].Why {
				t.Errorf("%s: %+v", c.name, x)
			}
			records = append(records, strings.Join(x.Records, " "))
			word := ""
			if x.Mend != nil {
				word = strings.Join(x.Mend.Remove, " ") + ">" + strings.Join(x.Mend.Add, " ")
			}
			mends = append(mends, word)
		}
		if c.name == "a mend without a line" {
			mends = []string{""} // empty or none
		}
		if !slices.Equal(records, c.records) || !slices.Equal(mends, c.mends) {
			t.Errorf("%s: records %q, mends %q; want %q, %q", c.name, records, mends, c.records, c.mends)
		}
		for i, x := range c.found {
			if strings.Join(x.Records, " ") != before[i] {
				t.Errorf("%s: what a part found has changed: %q", c.name, x.Records)
			}
		}
	}
}

// bySubject are findings of the records, those of one code and subject together.
func bySubject(found []*Finding) [][]contribution {
	var out [][]contribution
	for _, f := range found {
		c := contribution{ofRecords, f, 0}
		if i := slices.IndexFunc(out, func(list []contribution) bool { return list[0].id == f.id }); i >= 0 {
			out[i] = append(out[i], c)
		} else {
			out = append(out, []contribution{c})
		}
	}
	return out
}

// TestUnlessSaid: what counts where nothing else says so does not take part where something does.
func TestUnlessSaid(t *testing.T) {
	one := Finding{Code: "name.unresolved", Subject: "a", Why: "used", Records: []string{"r1"}}.made()
	other := Finding{Code: "name.unresolved", Subject: "a", Why: "asked for", Records: []string{"r2"}}.made()
	var x turn
	x.part(unlessSaid, nil, []*Finding{one})
	all, changed := tally{}.after(x)
	if changed[one.id] != one {
		t.Errorf("alone: %v", changed)
	}
	var more turn
	more.part(ofVisits, nil, []*Finding{other})
	all, changed = all.after(more)
	if changed[one.id] != other {
		t.Errorf("beside another: %v", changed)
	}
	if names := unresolvedAfter(nil, changed); !names["a"] || len(names) != 1 {
		t.Errorf("%v do not resolve", names)
	}
	x.part(ofVisits, []*Finding{other}, nil)
	x.come = nil
	all, changed = all.after(x)
	if changed[one.id] != one {
		t.Errorf("alone again: %v", changed)
	}
	var last turn
	last.part(unlessSaid, []*Finding{one}, nil)
	if _, changed = all.after(last); changed[one.id] != nil || len(changed) != 1 {
		t.Errorf("none any more: %v", changed)
	}
	if names := unresolvedAfter(map[string]bool{"a": true, "b": true}, changed); names["a"] || !names["b"] {
		t.Errorf("%v do not resolve", names)
	}
}

// TestReportOrder: a report that goes on from another says what one that is made anew does, in the same order, whatever parts
// found, find no more or find beside one another, and whatever is taken on.
func TestReportOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 1))
	those := []string{"path.blocked", "order.unused", "order.redundant", "name.private", "conflict.map", "exposure.undeclared"}
	plain := looked(t, edited(t, sound, "")).survey
	taking := looked(t, edited(t, sound, `accept order.unused a until 2027-01-01 note "for now"`)).survey
	var report Report
	var all tally
	found := map[section][]*Finding{}
	s := plain
	for range 300 {
		before := s
		if r.IntN(5) == 0 {
			s = []survey{plain, taking}[r.IntN(2)]
		}
		var turns []turn
		for _, of := range []section{ofRecords, ofVisits, ofFilters, unlessSaid} {
			if r.IntN(3) == 0 {
				continue
			}
			next := slices.DeleteFunc(slices.Clone(found[of]), func(*Finding) bool { return r.IntN(4) == 0 })
			for range r.IntN(8) {
				f := Finding{Code: those[r.IntN(len(those))], Subject: string(rune('a' + r.IntN(12))), Records: []string{}}
				f.Why, f.Records = string(rune('p'+r.IntN(5))), []string{string(rune('q' + r.IntN(5)))}
				next = append(next, f.made())
			}
			var x turn
			x.part(of, found[of], next)
			turns, found[of] = append(turns, x), next
		}
		var changed map[findingID]*Finding
		all, changed = all.after(turns...)
		report = s.reportAfter(report, changed, s.t == before.t && report.Counts != nil)

		var whole turn
		for of, list := range found {
			whole.part(of, nil, list)
		}
		_, every := tally{}.after(whole)
		anew := s.reportAfter(Report{}, every, false)
		same := func(a, b *Finding) bool {
			return a.id == b.id && a.Level == b.Level && a.Why == b.Why && slices.Equal(a.Records, b.Records)
		}
		if !slices.EqualFunc(anew.Findings, report.Findings, same) || !slices.EqualFunc(anew.Accepted, report.Accepted, same) || !maps.Equal(anew.Counts, report.Counts) {
			t.Fatalf("gone on: %v\nanew: %v", report, anew)
		}
		if !slices.IsSortedFunc(report.Findings, compareFindings) {
			t.Fatalf("in no order: %v", report.Findings)
		}
		n := 0
		for _, level := range codes.Levels {
			n += report.Counts[level]
		}
		taken := slices.ContainsFunc(report.Findings, func(f *Finding) bool { return f.Code == "order.unused" && f.Subject == "a" })
		if n != len(report.Findings) || taken && s.t == taking.t || len(report.Accepted) > 0 && s.t == plain.t {
			t.Fatalf("%d are counted of %d: %v", n, len(report.Findings), report)
		}
	}
}

// TestHandedBy: which front stands for several does not hang on the order in which they are met.
func TestHandedBy(t *testing.T) {
	site := func(name string, guard string) *estate.Site {
		return estate.Made(&estate.Site{Service: "front", Names: []string{name}, Files: estate.Files{Served: true}, Guard: estate.Guard{Text: guard}})
	}
	fronts := []*serve.Front{
		{Place: "edge", Port: 443, TLS: true, Site: site("b.example", "")},
		{Place: "edge", Port: 443, TLS: true, Site: site("a.example", "")},
		{Place: "away", Port: 80, Site: site("c.example", "")},
		{Place: "edge", Port: 443, TLS: true, Site: site("z.example", "the door")},
		{Place: "away", Port: 80, Site: site("y.example", "the door")},
	}
	meet := func(list []*serve.Front) backend {
		var b backend
		for _, f := range list {
			b.handedBy(f, f.Site.Guard != (estate.Guard{}), f.Place)
		}
		return b
	}
	r := rand.New(rand.NewPCG(1, 6))
	for range 50 {
		list := slices.Clone(fronts)
		r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
		if b := meet(list); b.front.Site.Names[0] != "y.example" || !b.guarded || !slices.Equal(b.fronts, []string{"away", "edge"}) {
			t.Fatalf("%s of %q stands for all, guarded %v", b.front.Site.Names[0], b.fronts, b.guarded)
		}
		open := slices.DeleteFunc(list, func(f *serve.Front) bool { return f.Site.Guard != (estate.Guard{}) })
		if b := meet(open); b.front.Site.Names[0] != "c.example" || b.guarded {
			t.Fatalf("%s stands for those that ask nobody in, guarded %v", b.front.Site.Names[0], b.guarded)
		}
	}
	if b := meet(nil); b.front != nil || b.guarded || b.fronts != nil {
		t.Errorf("nothing stands before it: %+v", b)
	}
}
