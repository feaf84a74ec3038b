package findings

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
)

// parts are how many parts of a check are not those of the check before.
type parts struct{ visits, filters, doorways, openings, names int }

func renewedBetween(before, after *Checked) parts {
	var p parts
	p.visits = notIn(slices.Collect(before.walks.all()), slices.Collect(after.walks.all()))
	p.filters = notIn(before.filters.values, after.filters.values)
	p.doorways = notIn(before.open.doorways.values, after.open.doorways.values)
	p.names = notIn(before.names.values, after.names.values)
	for key, o := range after.open.openings.All() {
		if before.open.openings.Of(key) != o {
			p.openings++
		}
	}
	return p
}

func notIn[V comparable](before, after []V) int {
	known := map[V]bool{}
	for _, v := range before {
		known[v] = true
	}
	n := 0
	for _, v := range after {
		if !known[v] {
			n++
		}
	}
	return n
}

// TestPartsRenewed: a line makes the check do again what it touches, and not much besides.
func TestPartsRenewed(t *testing.T) {
	e := reread(t, synth.String(400, 1)) // four locations
	before := looked(t, e)
	all := parts{len(slices.Collect(before.walks.all())), len(before.filters.values), len(before.open.doorways.values), len(maps.Collect(before.open.openings.All())), len(before.names.values)}
	for _, c := range []struct {
		line string
		most parts
		some parts // at least
	}{
		{line: "dns n7.l0.example TXT \"here\"", most: parts{visits: 3, names: 1}, some: parts{visits: 1}},
		{line: "dns n700.l0.example A 192.0.2.1", most: parts{visits: 2, filters: 4, doorways: 12, openings: 12, names: 1}, some: parts{visits: 1}},
		{line: "rule edge0 at 1 drop 443 from internet", most: parts{visits: 160, filters: 2, doorways: 6, openings: 4, names: 1}, some: parts{visits: 90, filters: 1}},
		{line: "rule edge0 pass 5999 from lan0", most: parts{visits: 160, filters: 2, doorways: 6, openings: 4, names: 1}, some: parts{filters: 1}},
		{line: "rule f2-5 at 1 drop 22", most: parts{visits: 20, filters: 1, doorways: 6, openings: 6, names: 1}, some: parts{filters: 1}},
		{line: "listen m3-4 7777 as thing", most: parts{visits: 20, filters: 3, doorways: 6, openings: 6, names: 1}, some: parts{filters: 1}},
		{line: "intend n8.l0.example 8443 for internet", most: parts{visits: 4, filters: 4, doorways: 12, openings: 12, names: 1}, some: parts{visits: 1}},
		{line: "cert spare for spare.l1.example expires 2027-01-01 on front1", most: parts{visits: 160, filters: 3, doorways: 60, openings: 60, names: 1}},
		{line: "accept order.unused rule until 2027-01-01 note \"for a while\"", most: parts{}},
		{line: "estate \"Another\" off", most: parts{}},
	} {
		p, _, err := notation.ParseLine(c.line)
		if err != nil {
			t.Fatalf("%s: %v", c.line, err)
		}
		next, err := e.Apply(estate.Change{Add: []estate.Placed{p}})
		if err != nil {
			if strings.HasPrefix(c.line, "estate") {
				continue // it may stand once only
			}
			t.Fatal(err)
		}
		got := renewedBetween(before, goneOn(t, before, next))
		if got.visits > c.most.visits || got.filters > c.most.filters || got.doorways > c.most.doorways || got.openings > c.most.openings || got.names > c.most.names {
			t.Errorf("%s\nmakes anew %+v of %+v, at most %+v", c.line, got, all, c.most)
		}
		if got.visits < c.some.visits || got.filters < c.some.filters {
			t.Errorf("%s\nmakes anew %+v only, at least %+v", c.line, got, c.some)
		}
	}
}

// TestPartsOfStructure: a line that changes how machines hang together makes everything anew.
func TestPartsOfStructure(t *testing.T) {
	e := reread(t, synth.String(60, 1))
	before := looked(t, e)
	for _, line := range []string{"host fresh", "network far 10.200.0.0/24", "address m0-3 10.0.0.99 dmz0", "route m0-3 default via 10.0.0.129", "group few m0-1,m0-2"} {
		p, _, err := notation.ParseLine(line)
		if err != nil {
			t.Fatal(err)
		}
		next, err := e.Apply(estate.Change{Add: []estate.Placed{p}})
		if err != nil {
			t.Fatal(err)
		}
		after := goneOn(t, before, next)
		visits := len(slices.Collect(after.walks.all()))
		if got := renewedBetween(before, after); got.visits != visits || got.filters != len(after.filters.values) {
			t.Errorf("%s: of %d visits %d are made anew, of %d filters %d", line, visits, got.visits, len(after.filters.values), got.filters)
		}
	}
}

// TestDefinitions holds what names stand for after an edit against what they stand for in the whole.
func TestDefinitions(t *testing.T) {
	base := reread(t, sound)
	old := estate.DefinedIn(base)
	for _, c := range []struct {
		edit   string // "- line" goes, another comes
		turned string
	}{
		{"listen box 9999 as other", "service other"},
		{"cert spare for spare.a.example expires 2027-01-01 on box", "cert spare"},
		{"filter more on box input otherwise pass", "filter more"},
		{"pool few in-turn check 8080", "pool few"},
		{"- " + lineOf(t, base, "cert"), "cert " + nameOf(lineOf(t, base, "cert"))},
		{"zone b.example", "zone b.example"},
	} {
		next := edited(t, sound, c.edit)
		var changed [][2][]estate.Record
		for _, k := range estate.Kinds {
			gone, come := lost(base, next, k), lost(next, base, k)
			changed = append(changed, [2][]estate.Record{gone, come})
		}
		now, turned := old.After(changed)
		var said []string
		for ref := range turned {
			said = append(said, fmt.Sprintf("%s %s", ref.Kind, ref.Name))
		}
		if slices.Sort(said); strings.Join(said, ",") != c.turned {
			t.Errorf("%s turns %q, want %s", c.edit, said, c.turned)
		}
		anew := estate.DefinedIn(next)
		for kind := range estate.RefKind(1<<16 - 1).Each() {
			for name, n := range anew[kind] {
				if now[kind][name] != n {
					t.Errorf("%s: %s %s is brought in %d times, want %d", c.edit, kind, name, now[kind][name], n)
				}
			}
			for name, n := range now[kind] {
				if anew[kind][name] != n {
					t.Errorf("%s: %s %s is brought in %d times, want %d", c.edit, kind, name, n, anew[kind][name])
				}
			}
		}
		if before := estate.DefinedIn(base); !slices.EqualFunc([]estate.Definitions{old}, []estate.Definitions{before}, func(a, b estate.Definitions) bool { return fmt.Sprint(a) == fmt.Sprint(b) }) {
			t.Fatalf("%s changed what stood before", c.edit)
		}
	}
}

// lost are the records of a kind whose lines another estate has not.
func lost(from, to *estate.Estate, k *estate.Kind) []estate.Record {
	there := map[string]bool{}
	for _, r := range to.Of(k) {
		there[estate.Line(r)] = true
	}
	var out []estate.Record
	for _, r := range from.Of(k) {
		if !there[estate.Line(r)] {
			out = append(out, r)
		}
	}
	return out
}

func lineOf(t *testing.T, e *estate.Estate, kind string) string {
	t.Helper()
	list := e.Of(estate.KindNamed(kind))
	if len(list) == 0 {
		t.Fatalf("no %s", kind)
	}
	return estate.Line(list[0])
}

func nameOf(line string) string { return strings.Fields(line)[1] }

// TestEnded: findings that came and went between two reports, in the order of the reports.
func TestEnded(t *testing.T) {
	before := check1(edited(t, sound, "listen box 80 as other\nzone a.example"))
	after := check1(edited(t, sound, "listen box 443 as other\nhost box"))
	codes := func(list []*Finding) []string {
		var out []string
		for _, f := range list {
			out = append(out, f.Code+" "+f.Subject)
		}
		return out
	}
	was, is := said(before), said(after)
	for _, f := range codes(Ended(before, after)) {
		if !slices.Contains(was, f) || slices.Contains(is, f) {
			t.Errorf("%s ended, it says", f)
		}
	}
	for _, f := range codes(Ended(after, before)) {
		if slices.Contains(was, f) || !slices.Contains(is, f) {
			t.Errorf("%s came, it says", f)
		}
	}
	if n := len(Ended(before, after)) + len(Ended(after, before)); n == 0 || len(Ended(before, before)) > 0 {
		t.Errorf("%d differences; between a report and itself %d", n, len(Ended(before, before)))
	}
}
