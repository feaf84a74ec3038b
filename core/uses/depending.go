package uses

import (
	"fmt"
	"slices"
	"strings"

	"steady-compass/core/estate"
)

// Dependent is a line that speaks of what goes.
type Dependent struct {
	Record  estate.Record
	Becomes estate.Record // what it is without that; nil where it goes
	Of      []string      // the names that go, as it says them
}

// Depending are the records that speak of names which are there no more once some lines are gone, and those that speak of theirs: what is only
// one of a list is taken out of it, else the line goes too. The lines themselves are not among them. The error wraps estate.ErrNotThere.
func (x *Index) Depending(lines []string) ([]Dependent, error) {
	e := x.tracer.Model.Estate
	leaving, err := takenOut(e, lines)
	if err != nil {
		return nil, err
	}
	d := depending{defined: estate.DefinedIn(e), goes: map[estate.Record]bool{}, of: map[estate.Record][]string{}, becomes: map[estate.Record]estate.Record{}}
	for len(leaving) > 0 {
		var turned map[estate.Ref]bool
		d.defined, turned = d.defined.After([][2][]estate.Record{{leaving, nil}})
		for _, r := range leaving {
			d.goes[r] = true
		}
		leaving = nil
		for _, r := range x.all {
			if !d.goes[r] && d.leans(r, turned) {
				leaving = append(leaving, r)
			}
		}
		for ref := range turned { // a machine may be said where a name may stand too
			if ref.Kind&estate.RefPlace == 0 {
				continue
			}
			for _, u := range x.Find(ref.Name) {
				if u.How == Direct && !d.goes[u.Record] && !slices.Contains(leaving, u.Record) && addresses(u.Record, ref.Name) {
					d.of[u.Record] = append(d.of[u.Record], ref.Name)
					leaving = append(leaving, u.Record)
				}
			}
		}
	}
	var out []Dependent
	for _, r := range x.all {
		if names := d.of[r]; names != nil {
			slices.Sort(names)
			out = append(out, Dependent{r, d.becomes[r], slices.Compact(names)})
			if d.goes[r] {
				out[len(out)-1].Becomes = nil
			}
		}
	}
	return out, nil
}

// takenOut are the records that stand as some lines; of lines that stand twice, the last.
func takenOut(e *estate.Estate, lines []string) ([]estate.Record, error) {
	wanted := map[string]int{}
	for _, line := range lines {
		wanted[line]++
	}
	var out []estate.Record
	for _, k := range estate.Kinds {
		for _, r := range slices.Backward(e.Of(k)) {
			if line := estate.Line(r); wanted[line] > 0 {
				wanted[line]--
				out = append(out, r)
			}
		}
	}
	for line, left := range wanted {
		if left > 0 {
			return nil, fmt.Errorf("%w: %s", estate.ErrNotThere, line)
		}
	}
	return out, nil
}

// depending finds what hangs on what goes, one round after the other.
type depending struct {
	defined estate.Definitions
	goes    map[estate.Record]bool
	of      map[estate.Record][]string
	becomes map[estate.Record]estate.Record
}

// leans notes that a record speaks of names which have turned out to be gone; it says whether the record goes with them.
func (d *depending) leans(r estate.Record, turned map[estate.Ref]bool) bool {
	k := estate.KindOf(r)
	gone := func(refs []estate.Ref) (names []string) {
		for _, ref := range refs {
			for kind := range ref.Kind.Each() {
				if turned[estate.Ref{Kind: kind, Name: ref.Name}] && !d.defined.Has(ref) {
					names = append(names, ref.Name)
					break
				}
			}
		}
		return names
	}
	for i := range k.Fields {
		f := &k.Fields[i]
		names := gone(f.Refs(r))
		if len(names) == 0 {
			continue
		}
		d.of[r] = append(d.of[r], names...)
		from := r
		if d.becomes[r] != nil {
			from = d.becomes[r]
		}
		if d.becomes[r] = without(f, from, func(refs []estate.Ref) bool { return len(gone(refs)) > 0 }); d.becomes[r] == nil {
			return true
		}
	}
	return false
}

// without is a record without the elements of a field that refer to what is gone; nil where it would not be the same without them: a rule
// from a network that is no more is no rule from everywhere.
func without(f *estate.Field, r estate.Record, gone func([]estate.Ref) bool) estate.Record {
	next := estate.Clone(r)
	var left []string
	if f.List {
		for _, value := range f.Values(r) {
			one := estate.KindOf(r).New()
			if err := f.Load(one, []string{value}); err != nil || !gone(f.Refs(one)) {
				left = append(left, value)
			}
		}
	}
	switch {
	case len(left) > 0:
		if f.Load(next, left) != nil {
			return nil
		}
	case f.Spare:
		f.Reset(next)
	default:
		return nil
	}
	if estate.Complete(next) != nil {
		return nil
	}
	return next
}

// addresses says whether a record leads to a machine by its name, where a host name may stand too.
func addresses(r estate.Record, machine string) bool {
	switch r := r.(type) {
	case *estate.Member:
		return r.At.Host == machine
	case *estate.Site:
		return r.To.Host == machine
	case *estate.Intent:
		return r.Target == machine
	case *estate.Acceptance:
		at, _, _ := strings.Cut(r.Subject, ":")
		return at == machine
	}
	return false
}
