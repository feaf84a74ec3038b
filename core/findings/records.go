package findings

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/parallel"
)

// byKey is what was found about the lines of some kinds that have a key in common, looked at together, by that key; none where
// nothing was. What is found under one key shares no code and subject with what is found under another.
type byKey map[string][]*Finding

// recordParts are what the records say by themselves and beside one another.
type recordParts struct {
	defined definitions
	lines   byKey // by line: each by itself, and the same line more than once
	sets    byKey // of the records of a name
	values  byKey
	rivals  byKey
	whole   []wholePart
	respelt map[string]bool // lines that refer to what is not recorded, and did not before; or the other way
}

// wholePart is found all at once.
type wholePart struct {
	kinds []string // the kinds of lines that it comes of, besides those that say how machines hang together
	lands bool     // and of where intents land
	look  func(*check)
	found []*Finding
}

func wholeParts() []wholePart {
	return []wholePart{
		{kinds: []string{"zone", "filter", "tunnel", "pool", "cert"}, look: (*check).definedTwice},
		{kinds: []string{"network"}, look: (*check).heldTwice},
		{kinds: []string{"network"}, look: (*check).overlaps},
		{kinds: []string{"zone", "dns", "listen", "site", "intend", "cert"}, look: (*check).unsupportedAnywhere},
		{kinds: []string{"zone", "dns"}, look: (*check).delegations},
		{kinds: []string{"listen", "site"}, look: (*check).sites},
		{kinds: []string{"forward", "map", "listen"}, lands: true, look: (*check).ownSake},
	}
}

// found is all that the parts found, in an order that is always the same for one code and subject.
func (x *recordParts) found() []*Finding {
	var out []*Finding
	for _, found := range x.lines {
		for _, f := range found {
			if f.Code != "temporary.expired" {
				out = append(out, f)
			}
		}
	}
	for _, part := range x.whole {
		out = append(out, part.found...)
	}
	for _, part := range []byKey{x.sets, x.values, x.rivals} {
		for _, found := range part {
			out = append(out, found...)
		}
	}
	return out
}

// expired is what was meant to be over by now.
func (x *recordParts) expired() []*Finding {
	var out []*Finding
	for _, found := range x.lines {
		for _, f := range found {
			if f.Code == "temporary.expired" {
				out = append(out, f)
			}
		}
	}
	return out
}

// misspelt says whether a line refers to what is not recorded.
func (x *recordParts) misspelt(line string) bool {
	return slices.ContainsFunc(x.lines[line], func(f *Finding) bool { return f.Code == "record.unknown-reference" })
}

// lookAtRecords looks at the records: those of before again that the edit touches.
func (s *survey) lookAtRecords(before *recordParts, e edit) *recordParts {
	if before != nil && !s.m.HangsTogetherAs(e.before) {
		before = nil
	}
	same := func(kinds ...string) bool { return before != nil && estate.Same(e.before.Estate, s.m.Estate, kinds...) }
	old := before
	if old == nil {
		old = &recordParts{whole: wholeParts()}
	}
	next := &recordParts{whole: slices.Clone(old.whole)}
	owner := func(r estate.Record) string { return r.(*estate.DNS).Owner }
	service := func(r estate.Record) string { return r.(*estate.Site).Service }
	parts := []func(){
		func() { s.lookAtLines(next, before, e) },
		func() {
			sets := old.sets
			if !same("zone") {
				sets = nil
			}
			next.sets = s.lookByKey(sets, e, "dns", owner, (*check).recordSets)
		},
		func() {
			values := old.values
			if !same("zone", "name") {
				values = nil
			}
			probe := check{survey: *s}
			changing, held := probe.addressesChanging()
			next.values = s.lookByKey(values, e, "dns", owner, func(c *check, all []estate.Record) { c.values(all, changing, held) })
		},
		func() {
			next.rivals = s.lookByKey(old.rivals, e, "site", service, (*check).rivals, servicesChanged(e.before, s.m)...)
		},
	}
	for i := range next.whole {
		if x := &next.whole[i]; !same(x.kinds...) || x.lands && len(s.t.LandsAnew()) > 0 {
			parts = append(parts, func() {
				c := check{survey: *s}
				next.whole[i].look(&c)
				next.whole[i].found = c.found
			})
		}
	}
	parallel.Do(s.ctx, parts...)
	return next
}

// lookAtLines looks at the lines that came or went, and at those that refer to a name that did.
func (s *survey) lookAtLines(next, before *recordParts, e edit) {
	next.lines, next.respelt = byKey{}, map[string]bool{}
	if before == nil {
		next.defined = definedIn(s.m.Estate)
		for _, k := range estate.Kinds {
			s.lookAtGroups(next.lines, s.m.Estate.Of(k), estate.Line, func(string) bool { return true }, next.line)
		}
		return
	}
	var changed [][2][]estate.Record
	wanted := map[string]bool{}
	among := map[*estate.Kind][]estate.Record{} // where these stand
	for _, k := range estate.Kinds {
		gone, come := estate.Changed(e.before.Estate, s.m.Estate, k)
		changed = append(changed, [2][]estate.Record{gone, come})
		for _, r := range slices.Concat(gone, come) {
			wanted[estate.Line(r)] = true
			if among[k] = s.m.Estate.Of(k); k.Word == "rule" {
				among[k] = estate.GroupsChanged(e.before.Estate, s.m.Estate, k)
			}
		}
	}
	want := func(k *estate.Kind, line string) { wanted[line], among[k] = true, s.m.Estate.Of(k) }
	var turned map[estate.Ref]bool
	if next.defined, turned = before.defined.after(changed); len(turned) > 0 {
		for line := range before.lines {
			if before.misspelt(line) { // another name may be near now
				want(kindOfLine(line), line)
			}
		}
		s.referring(turned, want)
	}
	for line, found := range before.lines {
		if !wanted[line] {
			next.lines[line] = found
		}
	}
	for _, list := range among {
		s.lookAtGroups(next.lines, list, estate.Line, estate.OneOf(wanted), next.line)
	}
	for line := range wanted {
		if before.misspelt(line) != next.misspelt(line) {
			next.respelt[line] = true
		}
	}
}

// line looks at a line by itself, as often as it stands there.
func (x *recordParts) line(c *check, same []estate.Record) {
	for _, r := range same {
		c.references(r, x.defined)
		c.dated(r)
	}
	c.sameLine(same)
}

// referring gives the lines that refer to one of some names.
func (s *survey) referring(to map[estate.Ref]bool, found func(*estate.Kind, string)) {
	var wants estate.RefKind
	for ref := range to {
		wants |= ref.Kind
	}
	for _, k := range estate.Kinds {
		for i := range k.Fields {
			f := &k.Fields[i]
			if f.Refers&wants == 0 {
				continue
			}
			for _, r := range s.m.Estate.Of(k) {
				for _, ref := range f.Refs(r) {
					for kind := range ref.Kind.Each() {
						if to[estate.Ref{Kind: kind, Name: ref.Name}] {
							found(k, estate.Line(r))
						}
					}
				}
			}
		}
	}
}

// lookByKey looks at the lines of a kind, those with the same key together: at all of them, or at those with a key of a line
// that came or went, or one of some others.
func (s *survey) lookByKey(before byKey, e edit, kind string, key func(estate.Record) string, look func(*check, []estate.Record), also ...string) byKey {
	k := estate.KindNamed(kind)
	if before == nil {
		next := byKey{}
		s.lookAtGroups(next, s.m.Estate.Of(k), key, func(string) bool { return true }, look)
		return next
	}
	gone, come := estate.Changed(e.before.Estate, s.m.Estate, k)
	if len(gone)+len(come)+len(also) == 0 {
		return before
	}
	wanted := map[string]bool{}
	for _, r := range slices.Concat(gone, come) {
		wanted[key(r)] = true
	}
	for _, at := range also {
		wanted[at] = true
	}
	next := maps.Clone(before)
	maps.DeleteFunc(next, func(at string, _ []*Finding) bool { return wanted[at] })
	s.lookAtGroups(next, s.m.Estate.Of(k), key, estate.OneOf(wanted), look)
	return next
}

// servicesChanged are the services of listeners that came or went.
func servicesChanged(before, after *model.Model) []string {
	if before == nil {
		return nil
	}
	var out []string
	gone, come := estate.Changed(before.Estate, after.Estate, estate.KindNamed("listen"))
	for _, r := range slices.Concat(gone, come) {
		if name := r.(*estate.Listen).Service; !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// lookAtGroups looks at some lines, those with the same key together.
func (s *survey) lookAtGroups(found byKey, all []estate.Record, key func(estate.Record) string, wanted func(string) bool, look func(*check, []estate.Record)) {
	groups := map[string][]estate.Record{}
	for _, r := range all {
		if at := key(r); wanted(at) {
			groups[at] = append(groups[at], r)
		}
	}
	for at, list := range groups {
		c := check{survey: *s}
		if look(&c, list); len(c.found) > 0 {
			found[at] = c.found
		}
	}
}

// definitions are how often each name is brought in that lines may refer to.
type definitions map[estate.RefKind]map[string]int

// defines gives what a line brings in.
func defines(r estate.Record) (estate.Ref, bool) {
	if l, ok := r.(*estate.Listen); ok {
		return estate.Ref{Kind: estate.RefService, Name: l.Service}, true
	}
	k := estate.KindOf(r)
	if k.Defines == 0 {
		return estate.Ref{}, false
	}
	return estate.Ref{Kind: k.Defines, Name: k.Fields[0].Values(r)[0]}, true
}

// definedIn are the names that the lines of an estate bring in.
func definedIn(e *estate.Estate) definitions {
	d := definitions{}
	for _, k := range estate.Kinds {
		for _, r := range e.Of(k) {
			ref, ok := defines(r)
			if !ok {
				break // as all of its kind
			}
			if d[ref.Kind] == nil {
				d[ref.Kind] = map[string]int{}
			}
			d[ref.Kind][ref.Name]++
		}
	}
	return d
}

// after are the definitions once lines of each kind have gone and come, and the names that are there now and were not, or the
// other way.
func (d definitions) after(changed [][2][]estate.Record) (definitions, map[estate.Ref]bool) {
	by := map[estate.Ref]int{}
	for _, kind := range changed {
		for _, r := range kind[0] {
			if ref, ok := defines(r); ok {
				by[ref]--
			}
		}
		for _, r := range kind[1] {
			if ref, ok := defines(r); ok {
				by[ref]++
			}
		}
	}
	next, turned, own := maps.Clone(d), map[estate.Ref]bool{}, map[estate.RefKind]bool{}
	for ref, n := range by {
		was := d[ref.Kind][ref.Name]
		if n == 0 {
			continue
		}
		if (was == 0) != (was+n == 0) {
			turned[ref] = true
		}
		if !own[ref.Kind] {
			own[ref.Kind], next[ref.Kind] = true, map[string]int{}
			maps.Copy(next[ref.Kind], d[ref.Kind])
		}
		next[ref.Kind][ref.Name] = was + n
	}
	return next, turned
}

// has says whether a name stands for something of the kinds that a reference is to.
func (d definitions) has(ref estate.Ref) bool {
	for kind := range ref.Kind.Each() {
		if d[kind][ref.Name] > 0 {
			return true
		}
	}
	return false
}

// nearest is the name of those kinds that is spelt most like a reference; "" where none is near.
func (d definitions) nearest(ref estate.Ref) string {
	var candidates []string
	for kind := range ref.Kind.Each() {
		for name, n := range d[kind] {
			if n > 0 {
				candidates = append(candidates, name)
			}
		}
	}
	return estate.Nearest(ref.Name, candidates)
}

func kindOfLine(line string) *estate.Kind {
	word, _, _ := strings.Cut(line, " ")
	return estate.KindNamed(word)
}

// references finds what a line refers to and nothing recorded is named.
func (c *check) references(r estate.Record, defined definitions) {
	if r.Meta().Off {
		return
	}
	k := estate.KindOf(r)
	for i := range k.Fields {
		for _, ref := range k.Fields[i].Refs(r) {
			if k.Word == "site" && ref.Kind == estate.RefService && k.Fields[i].Column == "service" {
				continue // site.unknown-service
			}
			if defined.has(ref) {
				continue
			}
			near := defined.nearest(ref)
			why := ""
			if near != "" {
				why = fmt.Sprintf("; %s is", near)
			}
			c.add(Finding{
				Code: "record.unknown-reference", Subject: estate.Line(r), Records: []string{estate.Line(r)},
				Why: fmt.Sprintf("No %s is recorded under the name %s%s.", ref.Kind, ref.Name, why), Mend: respell(r, ref, near),
			})
		}
	}
}
