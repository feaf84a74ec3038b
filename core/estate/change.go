package estate

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"steady-compass/core/carry"
)

// Placed is a record to be added. At is its place from 1 among those it is ordered among;
// where it is 0, the record takes the place of a line of its group that goes, else the last.
// Index, where it is not 0, is its exact place from 1 in the list of its kind.
type Placed struct {
	Record Record
	At     int
	Index  int
}

// Line is the record's line with its place, where it has one.
func (p Placed) Line() string {
	if p.At > 0 && p.Record.kind().Placed {
		return LineAt(p.Record, p.At)
	}
	return Line(p.Record)
}

// Change is an edit: canonical lines that go, records that come.
type Change struct {
	Remove []string
	Add    []Placed
}

// IsEmpty says whether the change changes nothing.
func (c Change) IsEmpty() bool { return len(c.Remove) == 0 && len(c.Add) == 0 }

// ErrNotThere is wrapped by the error for a line that a change would remove and that is not there.
var ErrNotThere = errors.New("no such line")

// Apply makes the change. A line that comes in place of one that goes (the same kind and
// group, in turn) takes its place and, where it brings none, its comments. Where the same line
// stands twice, the last goes. The estate itself stays as it is.
func (e *Estate) Apply(c Change) (*Estate, error) {
	next := &Estate{lists: slices.Clone(e.lists), Tail: e.Tail}
	edits := map[*Kind]*edited{}
	of := func(k *Kind) *edited {
		if edits[k] == nil {
			list := append(make([]Record, 0, len(next.lists[k.index])+len(c.Add)), next.lists[k.index]...)
			edits[k] = &edited{list: list, gaps: map[string][]int{}, commented: map[string]Record{}}
		}
		return edits[k]
	}
	counts := map[string]int{}
	for _, line := range c.Remove {
		word, _, _ := strings.Cut(line, " ")
		counts[word]++
	}
	for _, line := range c.Remove {
		word, _, _ := strings.Cut(line, " ")
		k := KindNamed(word)
		if k == nil || !of(k).remove(line, counts[word]) {
			return nil, fmt.Errorf("%w: %s", ErrNotThere, line)
		}
	}
	var later []Placed
	for _, p := range c.Add {
		ed := of(p.Record.kind()) // which is a list of its own, not the estate's
		if p.At > 0 || p.Index > 0 || !ed.fill(p.Record) {
			later = append(later, p)
		}
	}
	for k, ed := range edits {
		next.lists[k.index] = slices.DeleteFunc(ed.list, func(r Record) bool { return r == nil })
	}
	loose := map[*Kind]bool{filterKind: edits[filterKind] != nil, listenKind: edits[listenKind] != nil && next.listenersOfSites(c)}
	behind := map[*Kind][]Record{} // those that come next, each behind the last of its group
	settle := func(k *Kind) {
		if len(behind[k]) == 0 {
			return
		}
		list, alone := putBehind(next.lists[k.index], behind[k])
		next.lists[k.index], loose[k] = list, loose[k] || alone
		delete(behind, k)
	}
	for _, p := range later {
		k := p.Record.kind()
		list := &next.lists[k.index]
		if k.Single && len(*list) > 0 {
			return nil, fmt.Errorf("there is one %s line already: %s", k.Word, Line((*list)[0]))
		}
		r := p.Record
		if from := of(k).commented[Line(r)]; from != nil && p.Index == 0 {
			r = withComments(r, from) // a line that only moved keeps its comments
		}
		if k.Placed && p.Index == 0 && p.At == 0 {
			behind[k] = append(behind[k], r)
			continue
		}
		settle(k)
		where := len(*list)
		switch {
		case p.Index > 0:
			where = min(p.Index-1, where)
		case p.At > 0:
			where = placeOf(*list, r, p.At)
		}
		*list = slices.Insert(*list, where, r)
		loose[k] = loose[k] || !besideItsOwn(*list, where)
	}
	for k := range behind {
		settle(k)
	}
	next.arrange(func(k *Kind) bool { return loose[k] })
	edit := map[*Kind]since{}
	for i, k := range Kinds {
		if !sameList(e.lists[i], next.lists[i]) {
			start, end := Shared(e, next, k)
			edit[k] = since{e.lists[i], start, end}
		}
	}
	next.since = edit
	return next, nil
}

// listenersOfSites says whether a change speaks of a listener whose service has sites: these are in the order of listeners.
func (e *Estate) listenersOfSites(c Change) bool {
	services := map[string]bool{}
	for _, line := range c.Remove {
		words := strings.Fields(line)
		for i, word := range words[1:] {
			if words[0] == listenKind.Word && word == "as" && i+2 < len(words) {
				services[words[i+2]] = true // or a word of a note: one too many does no harm
			}
		}
	}
	for _, p := range c.Add {
		if l, ok := p.Record.(*Listen); ok {
			services[l.Service] = true
		}
	}
	has := OneOf(services)
	return slices.ContainsFunc(e.lists[siteKind.index], func(r Record) bool { return has(r.(*Site).Service) })
}

// edited is the list of a kind while a change is made. A line that goes leaves a gap, nil, for one that comes.
type edited struct {
	list      []Record
	gaps      map[string][]int  // by group, in the order in which they were left
	left      map[int]Record    // what stood in a gap
	commented map[string]Record // lines that went, with comments
	where     map[string][]int  // the places of each line, once many go
}

// remove takes out the last of a line; of says how many are to go in all.
func (ed *edited) remove(line string, of int) bool {
	at := -1
	if of > 8 {
		if ed.where == nil {
			ed.where = make(map[string][]int, len(ed.list))
			for i, r := range ed.list {
				ed.where[Line(r)] = append(ed.where[Line(r)], i)
			}
		}
		if places := ed.where[line]; len(places) > 0 {
			at = places[len(places)-1]
			ed.where[line] = places[:len(places)-1]
		}
	} else {
		for i := len(ed.list) - 1; i >= 0 && at < 0; i-- {
			if ed.list[i] != nil && Line(ed.list[i]) == line {
				at = i
			}
		}
	}
	if at < 0 {
		return false
	}
	r := ed.list[at]
	group := GroupOf(r)
	ed.gaps[group] = append(ed.gaps[group], at)
	if ed.left == nil {
		ed.left = map[int]Record{}
	}
	ed.left[at], ed.list[at] = r, nil
	if len(r.Meta().Comments) > 0 {
		ed.commented[line] = r
	}
	return true
}

// fill puts a record into the first gap of its group.
func (ed *edited) fill(r Record) bool {
	group := GroupOf(r)
	gaps := ed.gaps[group]
	if len(gaps) == 0 {
		return false
	}
	at := gaps[0]
	ed.gaps[group] = gaps[1:]
	from := ed.left[at]
	delete(ed.commented, Line(from))
	ed.list[at] = withComments(r, from)
	return true
}

// besideItsOwn says whether a record stands next to another of its group.
func besideItsOwn(list []Record, i int) bool {
	group := GroupOf(list[i])
	return i > 0 && GroupOf(list[i-1]) == group || i+1 < len(list) && GroupOf(list[i+1]) == group
}

// placeOf is where in a list a record has a place within its group: behind the group's last where it is beyond the end.
func placeOf(list []Record, r Record, at int) int {
	where, n := len(list), 0
	group := GroupOf(r)
	for i, other := range list {
		if GroupOf(other) != group {
			continue
		}
		if n++; n == at {
			return i
		}
		where = i + 1
	}
	return where
}

// putBehind puts records into a list, each behind the last of its group; those of a group that has none there come last, one group after the other,
// and it says whether there are such.
func putBehind(list, come []Record) (out []Record, alone bool) {
	of := map[string][]Record{}
	var groups []string
	for _, r := range come {
		group := GroupOf(r)
		if of[group] == nil {
			groups = append(groups, group)
		}
		of[group] = append(of[group], r)
	}
	at := make(map[int][]Record, len(groups)) // by the index that they come behind
	for i := len(list) - 1; i >= 0 && len(at) < len(groups); i-- {
		if group := GroupOf(list[i]); of[group] != nil {
			at[i], of[group] = of[group], nil
		}
	}
	out = make([]Record, 0, len(list)+len(come))
	for i, r := range list {
		out = append(append(out, r), at[i]...)
	}
	for _, group := range groups {
		alone = alone || of[group] != nil
		out = append(out, of[group]...)
	}
	return out, alone
}

func withComments(r, from Record) Record {
	if len(r.Meta().Comments) > 0 || len(from.Meta().Comments) == 0 {
		return r
	}
	c := r.kind().clone(r)
	c.Meta().Comments = from.Meta().Comments
	return c
}

// Difference is the change that makes to out of from: the fewest lines, each with its place
// where it is ordered.
func Difference(from, to *Estate) Change {
	var c Change
	for i, k := range Kinds {
		a, b := from.lists[i], to.lists[i]
		if sameRecords(a, b) {
			continue
		}
		start, end := Shared(from, to, k)
		if !differ(&c, k, a, b, start, end) {
			differ(&c, k, a, b, 0, 0)
		}
	}
	return c
}

// Changed are the records of a kind that one estate has and the other has not, and those around them whose order may be
// another: what is left of both lists without the records at their start and end that are the same.
func Changed(from, to *Estate, k *Kind) (gone, come []Record) {
	a, b := from.lists[k.index], to.lists[k.index]
	start, end := Shared(from, to, k)
	return a[start : len(a)-end], b[start : len(b)-end]
}

// GroupsChanged are the records that an estate has in the groups of a kind of which one came or went since the other, and of
// those beside them. It is for kinds whose groups stand together: rules and sites.
func GroupsChanged(from, to *Estate, k *Kind) []Record {
	list := to.lists[k.index]
	start, end := Shared(from, to, k)
	first, last := start, len(list)-end
	for start > 0 && GroupOf(list[start-1]) == GroupOf(list[first-1]) {
		start--
	}
	for end > 0 && GroupOf(list[len(list)-end]) == GroupOf(list[last]) {
		end--
	}
	return list[start : len(list)-end]
}

// Shared is how many records of a kind two estates have in common at the start, and of the rest at the end.
func Shared(from, to *Estate, k *Kind) (start, end int) {
	a, b := from.lists[k.index], to.lists[k.index]
	if sameList(a, b) {
		return len(a), 0
	}
	if e, known := to.since[k]; known && sameList(e.list, a) {
		return e.start, e.end
	}
	return carry.Ends(a, b, func(a, b Record) bool { return a == b })
}

func sameList(a, b []Record) bool { return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0]) }

// since is a list as it was before the edit that an estate came of, and how much of it is as it was.
type since struct {
	list       []Record
	start, end int
}

// Same says whether two estates have the same records of some kinds, in the same order.
func Same(from, to *Estate, kinds ...string) bool {
	for _, word := range kinds {
		if gone, come := Changed(from, to, KindNamed(word)); len(gone)+len(come) > 0 {
			return false
		}
	}
	return true
}

func sameRecords(a, b []Record) bool {
	return sameList(a, b) || slices.EqualFunc(a, b, sameText)
}

func sameText(a, b Record) bool {
	return a == b || Line(a) == Line(b) && slices.Equal(a.Meta().Comments, b.Meta().Comments)
}

// differ adds what changed in one kind, apart from so many records at the start and at the end; false, where a line goes that
// stands among those too. The records that stay are a common subsequence of both; where order counts, one that moved goes and
// comes.
func differ(c *Change, k *Kind, a, b []Record, start, end int) bool {
	key := func(r Record) string {
		return strings.Join(r.Meta().Comments, "\n") + "\n" + Line(r)
	}
	was, is := a[start:len(a)-end], b[start:len(b)-end]
	// Where a record stands in a, each used once.
	at := map[string][]int{}
	for i, r := range was {
		at[key(r)] = append(at[key(r)], i)
	}
	match := make([]int, len(is)) // the record of a that each of b is; -1 where it is new
	for j, r := range is {
		match[j] = -1
		if list := at[key(r)]; len(list) > 0 {
			match[j] = list[0]
			at[key(r)] = list[1:]
		}
	}
	keep := longestRise(match)
	kept := map[int]bool{}
	for j, ok := range keep {
		if ok {
			kept[match[j]] = true
		}
	}
	// A line goes by its text: where one of several that are the same goes, all go, and those that stay come anew.
	goes := map[string]bool{}
	for i, r := range was {
		if !kept[i] {
			goes[Line(r)] = true
		}
	}
	leaves := OneOf(goes)
	alike := func(r Record) bool { return leaves(Line(r)) }
	if len(goes) > 0 && (slices.ContainsFunc(a[:start], alike) || slices.ContainsFunc(a[len(a)-end:], alike)) {
		return false
	}
	for j := range is {
		keep[j] = keep[j] && !alike(is[j])
	}
	for _, r := range was {
		if alike(r) {
			c.Remove = append(c.Remove, Line(r))
		}
	}
	n := map[string]int{} // by group, so far
	for j, r := range is {
		if !keep[j] {
			n[GroupOf(r)] = 0
		}
	}
	for _, r := range b[:start] {
		if group := GroupOf(r); k.Placed && len(n) > 0 {
			if _, wanted := n[group]; wanted {
				n[group]++
			}
		}
	}
	for j, r := range is {
		n[GroupOf(r)]++
		if keep[j] {
			continue
		}
		p := Placed{Record: r, Index: start + j + 1}
		if k.Placed {
			p.At = n[GroupOf(r)]
		}
		c.Add = append(c.Add, p)
	}
	return true
}

// longestRise marks a longest rising subsequence of the values that are not negative.
func longestRise(values []int) []bool {
	var tails []int // index of the last value of the best run of each length
	before := make([]int, len(values))
	for i, v := range values {
		before[i] = -1
		if v < 0 {
			continue
		}
		n, _ := slices.BinarySearchFunc(tails, v, func(t, v int) int { return values[t] - v })
		if n > 0 {
			before[i] = tails[n-1]
		}
		if n == len(tails) {
			tails = append(tails, i)
		} else {
			tails[n] = i
		}
	}
	keep := make([]bool, len(values))
	if len(tails) > 0 {
		for i := tails[len(tails)-1]; i >= 0; i = before[i] {
			keep[i] = true
		}
	}
	return keep
}
