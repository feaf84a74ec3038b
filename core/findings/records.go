package findings

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"steady-compass/core/carry"
	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/parallel"
)

// byKey is what was found about the lines of some kinds that have a key in common, looked at together, by that key; none where
// nothing was. What is found under one key shares no code and subject with what is found under another.
type byKey struct {
	carry.Map[string, []*Finding]
}

// recordParts are what the records say by themselves and beside one another.
type recordParts struct {
	defined estate.Definitions
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
	said  section  // ofRecords, where it is not unlessSaid
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
		{kinds: []string{"cert", "listen"}, said: unlessSaid, look: (*check).certificates},
		{kinds: []string{"forward", "map", "listen", "cert"}, lands: true, look: (*check).ownSake},
		{kinds: []string{"map"}, look: (*check).idleMaps},
		{kinds: []string{"route"}, look: (*check).idleRoutes},
		{kinds: []string{"outbound"}, look: (*check).idleOutbounds},
		{kinds: []string{"site", "listen"}, look: (*check).idleSites},
		{kinds: []string{"dns", "zone"}, look: (*check).idleDNS},
	}
}

// expired is what was meant to be over by now.
func (x *recordParts) expired() []*Finding {
	var out []*Finding
	for _, found := range x.lines.All() {
		for _, f := range found {
			if f.Code == expiredCode {
				out = append(out, f)
			}
		}
	}
	slices.SortFunc(out, compareFindings)
	return out
}

// expiredCode is of what is said only once it is known what gets through by a line.
const expiredCode = "temporary.expired"

func butExpired(found []*Finding) []*Finding {
	if !slices.ContainsFunc(found, func(f *Finding) bool { return f.Code == expiredCode }) {
		return found
	}
	return slices.DeleteFunc(slices.Clone(found), func(f *Finding) bool { return f.Code == expiredCode })
}

// renew gives some keys what was found under them now, and notes that in the turn.
func (x byKey) renew(keys []string, found map[string][]*Finding, t *turn) byKey {
	for _, key := range keys {
		t.part(ofRecords, butExpired(x.Of(key)), nil)
	}
	for _, list := range found {
		t.part(ofRecords, nil, butExpired(list))
	}
	return byKey{x.After(keys, found)}
}

// misspelt says whether a line refers to what is not recorded.
func (x *recordParts) misspelt(line string) bool {
	return slices.ContainsFunc(x.lines.Of(line), func(f *Finding) bool { return f.Code == "record.unknown-reference" })
}

// lookAtRecords looks at the records: those of before again that the edit touches.
func (s *survey) lookAtRecords(before *recordParts, e edit) (*recordParts, turn) {
	same := func(kinds ...string) bool { return before != nil && estate.Same(e.before.Estate, s.m.Estate, kinds...) }
	old := before
	if old == nil {
		old = &recordParts{whole: wholeParts()}
	}
	next := &recordParts{whole: slices.Clone(old.whole)}
	owner := func(r estate.Record) string { return r.(*estate.DNS).Owner }
	service := func(r estate.Record) string { return r.(*estate.Site).Service }
	turns := make([]turn, 4+len(next.whole))
	parts := []func(){
		func() { turns[0] = s.lookAtLines(next, before, e) },
		func() {
			next.sets, turns[1] = s.lookByKey(old.sets, same("zone"), e, "dns", owner, (*check).recordSets)
		},
		func() {
			probe := check{survey: *s}
			changing, held := probe.addressesChanging()
			next.values, turns[2] = s.lookByKey(old.values, same("zone", "name"), e, "dns", owner, func(c *check, all []estate.Record) { c.values(all, changing, held) })
		},
		func() {
			next.rivals, turns[3] = s.lookByKey(old.rivals, before != nil, e, "site", service, (*check).rivals, servicesChanged(e.before, s.m)...)
		},
	}
	for i := range next.whole {
		if x := &next.whole[i]; !same(x.kinds...) || x.lands && len(s.t.LandsAnew()) > 0 {
			parts = append(parts, func() {
				c := check{survey: *s}
				x.look(&c)
				x.found = c.found
				turns[4+i].part(cmp.Or(x.said, ofRecords), old.whole[i].found, x.found)
			})
		}
	}
	parallel.Do(s.ctx, parts...)
	var all turn
	for _, t := range turns {
		all.gone, all.come = append(all.gone, t.gone...), append(all.come, t.come...)
	}
	return next, all
}

// lookAtLines looks at the lines that came or went, and at those that refer to a name that did.
func (s *survey) lookAtLines(next, before *recordParts, e edit) (t turn) {
	next.respelt = map[string]bool{}
	found := map[string][]*Finding{}
	if before == nil {
		next.defined = estate.DefinedIn(s.m.Estate)
		for _, k := range estate.Kinds {
			s.lookAtGroups(found, s.m.Estate.Of(k), estate.Line, func(string) bool { return true }, next.line)
		}
		next.lines = next.lines.renew(nil, found, &t)
		return t
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
	if next.defined, turned = before.defined.After(changed); len(turned) > 0 {
		for line := range before.lines.All() {
			if before.misspelt(line) { // another name may be near now
				want(kindOfLine(line), line)
			}
		}
		s.referring(turned, want)
	}
	for _, list := range among {
		s.lookAtGroups(found, list, estate.Line, estate.OneOf(wanted), next.line)
	}
	next.lines = before.lines.renew(slices.Collect(maps.Keys(wanted)), found, &t)
	for line := range wanted {
		if before.misspelt(line) != next.misspelt(line) {
			next.respelt[line] = true
		}
	}
	return t
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
	var names []string
	for ref := range to {
		wants, names = wants|ref.Kind, append(names, ref.Name)
	}
	says := func(r estate.Record) bool { // at a glance
		return len(names) > 8 || slices.ContainsFunc(names, func(name string) bool { return strings.Contains(estate.Line(r), name) })
	}
	for _, k := range estate.Kinds {
		for i := range k.Fields {
			f := &k.Fields[i]
			if f.Refers&wants == 0 {
				continue
			}
			for _, r := range s.m.Estate.Of(k) {
				if !says(r) {
					continue
				}
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

// lookByKey looks at the lines of a kind, those with the same key together: at all of them, or, where what was found stands, at
// those with a key of a line that came or went, or one of some others.
func (s *survey) lookByKey(before byKey, stands bool, e edit, kind string, key func(estate.Record) string, look func(*check, []estate.Record), also ...string) (byKey, turn) {
	k := estate.KindNamed(kind)
	found := map[string][]*Finding{}
	var t turn
	if !stands {
		s.lookAtGroups(found, s.m.Estate.Of(k), key, func(string) bool { return true }, look)
		var keys []string
		for key := range before.All() {
			keys = append(keys, key)
		}
		return before.renew(keys, found, &t), t
	}
	gone, come := estate.Changed(e.before.Estate, s.m.Estate, k)
	if len(gone)+len(come)+len(also) == 0 {
		return before, t
	}
	wanted := map[string]bool{}
	for _, r := range slices.Concat(gone, come) {
		wanted[key(r)] = true
	}
	for _, at := range also {
		wanted[at] = true
	}
	s.lookAtGroups(found, s.m.Estate.Of(k), key, estate.OneOf(wanted), look)
	return before.renew(slices.Collect(maps.Keys(wanted)), found, &t), t
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
func (s *survey) lookAtGroups(found map[string][]*Finding, all []estate.Record, key func(estate.Record) string, wanted func(string) bool, look func(*check, []estate.Record)) {
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

func kindOfLine(line string) *estate.Kind {
	word, _, _ := strings.Cut(line, " ")
	return estate.KindNamed(word)
}

// references finds what a line refers to and nothing recorded is named.
func (c *check) references(r estate.Record, defined estate.Definitions) {
	if r.Meta().Off {
		return
	}
	k := estate.KindOf(r)
	for i := range k.Fields {
		for _, ref := range k.Fields[i].Refs(r) {
			if k.Word == "site" && ref.Kind == estate.RefService && k.Fields[i].Column == "service" {
				continue // site.unknown-service
			}
			if defined.Has(ref) {
				continue
			}
			near := defined.Nearest(ref)
			why := ""
			if near != "" {
				why = fmt.Sprintf("; %s is", near)
			}
			c.add(Finding{
				Code: "record.unknown-reference", Subject: estate.Line(r), Records: []string{estate.Line(r)},
				Why: fmt.Sprintf("No %s is recorded under the name %s%s.", ref.Kind, ref.Name, why), Mend: Respelt(r, ref, near),
				keys: []string{unknownCause(ref.Name)}, unknown: ref,
			})
		}
	}
}

// unknownCause is the cause of whatever refers to a name that nothing recorded has.
func unknownCause(name string) string { return "missing: record " + name }
