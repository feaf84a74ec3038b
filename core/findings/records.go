package findings

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/parallel"
)

// byKey is what was found about the lines of some kinds that have a key in common, looked at together, by that key; none where
// nothing was. What is found under one key shares no code and subject with what is found under another.
type byKey map[string][]*Finding

// recordParts are what the records say by themselves and beside one another.
type recordParts struct {
	defined    *definitions
	references byKey
	same       byKey
	dated      byKey
	sets       byKey // of the records of a name
	values     byKey
	rivals     byKey
	whole      []wholePart
	respelt    map[string]bool // lines that refer to what is not recorded, and did not before; or the other way
}

// wholePart is found all at once.
type wholePart struct {
	kinds []string // the kinds of lines that it comes of, besides those that say how machines hang together; none: of any
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
		{look: (*check).ownSake},
	}
}

// found is all that the parts found, in an order that is always the same for one code and subject.
func (x *recordParts) found() []*Finding {
	var out []*Finding
	for _, part := range []byKey{x.references, x.same} {
		for _, found := range part {
			out = append(out, found...)
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
	for _, found := range x.dated {
		out = append(out, found...)
	}
	return out
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
	each := func(look func(*check, estate.Record)) func(*check, []estate.Record) {
		return func(c *check, list []estate.Record) {
			for _, r := range list {
				look(c, r)
			}
		}
	}
	owner := func(r estate.Record) string { return r.(*estate.DNS).Owner }
	service := func(r estate.Record) string { return r.(*estate.Site).Service }
	kinds := func(words ...string) []*estate.Kind {
		var out []*estate.Kind
		for _, w := range words {
			out = append(out, estate.KindNamed(w))
		}
		return out
	}
	parts := []func(){
		func() {
			next.defined, next.references = s.lookAtReferences(old, e)
			next.respelt = differ(old.references, next.references)
		},
		func() {
			next.same = s.lookByKey(old.same, e, estate.Kinds, estate.Line, (*check).sameLine)
		},
		func() {
			next.dated = s.lookByKey(old.dated, e, estate.Kinds, estate.Line, each((*check).dated))
		},
		func() {
			sets := old.sets
			if !same("zone") {
				sets = nil
			}
			next.sets = s.lookByKey(sets, e, kinds("dns"), owner, (*check).recordSets)
		},
		func() {
			values := old.values
			if !same("zone", "name") {
				values = nil
			}
			probe := check{survey: *s}
			changing, held := probe.addressesChanging()
			next.values = s.lookByKey(values, e, kinds("dns"), owner, func(c *check, all []estate.Record) { c.values(all, changing, held) })
		},
		func() {
			rivals := old.rivals
			if !same("listen") {
				rivals = nil
			}
			next.rivals = s.lookByKey(rivals, e, kinds("site"), service, (*check).rivals)
		},
	}
	for i := range next.whole {
		if of := next.whole[i].kinds; len(of) == 0 || !same(of...) {
			parts = append(parts, func() {
				c := check{survey: *s}
				next.whole[i].look(&c)
				next.whole[i].found = c.found
			})
		}
	}
	parallel.Map(s.ctx, len(parts), func(i int) struct{} {
		parts[i]()
		return struct{}{}
	})
	return next
}

// lookByKey looks at the lines of some kinds, those with the same key together: at all of them, or at those with a key of a line
// that came or went.
func (s *survey) lookByKey(before byKey, e edit, kinds []*estate.Kind, key func(estate.Record) string, look func(*check, []estate.Record)) byKey {
	next := byKey{}
	if before != nil {
		next = maps.Clone(before)
	}
	for _, k := range kinds {
		wanted := func(string) bool { return true }
		if before != nil {
			gone, come := estate.Changed(e.before.Estate, s.m.Estate, k)
			if len(gone)+len(come) == 0 {
				continue
			}
			wanted = among(slices.Concat(gone, come), key)
			maps.DeleteFunc(next, func(at string, _ []*Finding) bool { return wanted(at) })
		}
		groups := map[string][]estate.Record{}
		for _, r := range s.m.Estate.Of(k) {
			if at := key(r); wanted(at) {
				groups[at] = append(groups[at], r)
			}
		}
		for at, list := range groups {
			c := check{survey: *s}
			if look(&c, list); len(c.found) > 0 {
				next[at] = c.found
			}
		}
	}
	return next
}

// differ are the keys under which something is found in one and nothing in the other.
func differ(a, b byKey) map[string]bool {
	out := map[string]bool{}
	for _, both := range [][2]byKey{{a, b}, {b, a}} {
		for key := range both[0] {
			if _, there := both[1][key]; !there {
				out[key] = true
			}
		}
	}
	return out
}

// among says of a key whether some records have it: quickly, where they are few.
func among(list []estate.Record, key func(estate.Record) string) func(string) bool {
	keys := map[string]bool{}
	for _, r := range list {
		keys[key(r)] = true
	}
	if few := slices.Collect(maps.Keys(keys)); len(few) <= 8 {
		return func(at string) bool { return slices.Contains(few, at) }
	}
	return func(at string) bool { return keys[at] }
}

// definitions are the names that lines may refer to.
type definitions struct {
	known map[estate.RefKind]map[string]bool
	all   map[estate.RefKind][]string // in the order written
}

// definedIn are the names that records bring in.
func definedIn(e *estate.Estate) *definitions {
	d := &definitions{map[estate.RefKind]map[string]bool{}, map[estate.RefKind][]string{}}
	note := func(kind estate.RefKind, name string) {
		if d.known[kind] == nil {
			d.known[kind] = map[string]bool{}
		}
		if !d.known[kind][name] {
			d.known[kind][name] = true
			d.all[kind] = append(d.all[kind], name)
		}
	}
	for _, k := range estate.Kinds {
		if k.Defines == 0 {
			continue
		}
		for _, r := range e.Of(k) {
			note(k.Defines, k.Fields[0].Values(r)[0])
		}
	}
	for _, r := range e.Of(estate.KindNamed("listen")) {
		note(estate.RefService, r.(*estate.Listen).Service)
	}
	return d
}

// has says whether a name stands for something of the kinds that a reference is to.
func (d *definitions) has(ref estate.Ref) bool {
	for kind := estate.RefKind(1); kind <= estate.RefZone; kind <<= 1 {
		if ref.Kind&kind != 0 && d.known[kind][ref.Name] {
			return true
		}
	}
	return false
}

// nearest is the name of those kinds that is spelt most like a reference; "" where none is near.
func (d *definitions) nearest(ref estate.Ref) string {
	var candidates []string
	for kind := estate.RefKind(1); kind <= estate.RefZone; kind <<= 1 {
		if ref.Kind&kind != 0 {
			candidates = append(candidates, d.all[kind]...)
		}
	}
	return estate.Nearest(ref.Name, candidates)
}

// changedIn are the kinds of names of which some came or went.
func (d *definitions) changedIn(after *definitions) estate.RefKind {
	var out estate.RefKind
	for kind := estate.RefKind(1); kind <= estate.RefZone; kind <<= 1 {
		if !maps.Equal(d.known[kind], after.known[kind]) || !slices.Equal(d.all[kind], after.all[kind]) {
			out |= kind
		}
	}
	return out
}

// lookAtReferences finds names that stand for nothing recorded: among lines that came and, where names came or went of a kind,
// among all lines that may refer to these.
func (s *survey) lookAtReferences(before *recordParts, e edit) (*definitions, byKey) {
	anew := estate.RefKind(0)
	defined, old := before.defined, before.references
	if defined == nil || !estate.Same(e.before.Estate, s.m.Estate, defining...) {
		defined = definedIn(s.m.Estate)
		if before.defined != nil {
			anew = before.defined.changedIn(defined)
		}
	}
	look := func(c *check, list []estate.Record) {
		for _, r := range list {
			c.references(r, defined)
		}
	}
	var stay, again []*estate.Kind
	for _, k := range estate.Kinds {
		if slices.ContainsFunc(k.Fields, func(f estate.Field) bool { return f.Wants&anew != 0 }) {
			again = append(again, k)
		} else {
			stay = append(stay, k)
		}
	}
	if old == nil {
		stay, again = estate.Kinds, nil
	}
	found := s.lookByKey(old, e, stay, estate.Line, look)
	for _, k := range again {
		maps.DeleteFunc(found, func(line string, _ []*Finding) bool { return kindOfLine(line) == k })
	}
	maps.Copy(found, s.lookByKey(nil, e, again, estate.Line, look))
	return defined, found
}

// defining are the kinds of lines that bring names in.
var defining = func() []string {
	words := []string{"listen"}
	for _, k := range estate.Kinds {
		if k.Defines != 0 {
			words = append(words, k.Word)
		}
	}
	return words
}()

func kindOfLine(line string) *estate.Kind {
	word, _, _ := strings.Cut(line, " ")
	return estate.KindNamed(word)
}

// references finds what a line refers to and nothing recorded is named.
func (c *check) references(r estate.Record, defined *definitions) {
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
