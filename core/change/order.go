package change

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"steady-compass/core/estate"
)

// mostTrials is how many states are tried before the least bad order is taken.
const mostTrials = 400

// move is one thing done on the way: some edits that are made as one, or a wait until no cache has an old answer any more.
type move struct {
	edits []int
	wait  estate.Seconds // 0 for an edit
	old   []string       // the names whose old answers are waited for
	wrong []wrong        // that is wrong from here on
	point *point         // what stands after it
	done  []bool
}

// order is the search for an order in which nothing that works stops and nothing opens in between.
type order struct {
	*ends
	start *node
	left  int             // trials
	dead  map[string]bool // the states from which no order goes on
	path  []move

	borne map[wrong]bool // what is let be wrong on the way, where no order is without
	met   [][]wrong      // what was met that spoke against some edits: each set once
}

// node is where a search stands.
type node struct {
	*point
	done []bool
	kept []int // the edits since the last wait that changed an answer which may still be kept
	past *past // what was kept when the order began, and still is
	at   string
}

func (n *node) key() string {
	out := make([]byte, len(n.done)+1, len(n.done)+1+len(n.kept))
	for i, d := range n.done {
		if d {
			out[i] = 1
		}
	}
	if n.past != nil {
		out[len(n.done)] = 1
	}
	kept := slices.Sorted(slices.Values(n.kept))
	for _, i := range kept {
		out = append(out, byte(i), byte(i>>8))
	}
	return string(out)
}

// rest says whether edits are left that are somebody's work.
func (o *order) rest(done []bool) bool {
	for i, e := range o.edits {
		if !done[i] && e.phase != onPaper {
			return true
		}
	}
	return false
}

// candidates are what may be done next, the most natural first: by phase, then where the work was last; a zone's edits as one before each alone,
// and what a system takes in as one behind what stands for itself.
func (o *order) candidates(n *node) [][]int {
	var left []int
	for i, e := range o.edits {
		if !n.done[i] && e.phase != onPaper {
			left = append(left, i)
		}
	}
	slices.SortStableFunc(left, func(a, b int) int {
		x, y := &o.edits[a], &o.edits[b]
		near := func(e *edit) int {
			if e.at == n.at {
				return 0
			}
			return 1
		}
		return cmp.Or(cmp.Compare(x.phase, y.phase), cmp.Compare(near(x), near(y)), cmp.Compare(x.rank, y.rank))
	})
	var out [][]int
	together := map[string][]int{}
	for _, i := range left {
		together[o.edits[i].at] = append(together[o.edits[i].at], i)
	}
	zones := map[string]bool{}
	for _, i := range left {
		e := &o.edits[i]
		if group := o.ofNames(together[e.at]); e.phase == naming && len(group) > 1 && slices.Contains(group, i) && !zones[e.at] {
			zones[e.at] = true
			out = append(out, group)
		}
		out = append(out, []int{i})
	}
	seen := map[string]bool{}
	for _, i := range left {
		e := &o.edits[i]
		group := together[e.at]
		if seen[e.at] || len(group) < 2 || e.phase == naming || !asOne(e.record()) {
			continue
		}
		seen[e.at] = true
		out = append(out, group)
	}
	for _, i := range left { // the old line and the new one of one owner or socket
		for _, j := range left {
			if o.edits[i].at == o.edits[j].at && o.edits[i].in == nil && o.edits[j].out == nil && asOne(o.edits[i].record()) && o.edits[i].key == o.edits[j].key {
				out = append(out, []int{i, j})
			}
		}
	}
	return out
}

// ofNames are the edits of a zone's own records.
func (o *order) ofNames(list []int) []int {
	return slices.DeleteFunc(slices.Clone(list), func(i int) bool {
		_, is := o.edits[i].record().(*estate.Cert)
		return is || o.edits[i].phase != naming
	})
}

// asOne says whether the system of a record takes several edits in as one: a filter, a zone, a router's forwards and what it rewrites.
func asOne(r estate.Record) bool {
	switch r.(type) {
	case *estate.Filter, *estate.Rule, *estate.DNS, *estate.Zone, *estate.Forward, *estate.Outbound:
		return true
	}
	return false
}

// step tries what comes of some edits.
func (o *order) step(ctx context.Context, n *node, edits []int) (*node, []wrong, error) {
	o.left--
	next := &node{done: slices.Clone(n.done), kept: slices.Clone(n.kept), past: n.past, at: o.edits[edits[0]].at}
	for _, i := range edits {
		next.done[i] = true
	}
	if slices.Contains(next.done, false) {
		e, err := o.made(n.estate, n.done, next.done)
		if err != nil {
			return nil, nil, err
		}
		if next.point, err = n.after(ctx, e); err != nil {
			return nil, nil, err
		}
	} else {
		next.point = o.last
	}
	found, err := o.between(ctx, next.point, next.done, edits)
	if err != nil {
		return nil, nil, err
	}
	if len(oldAnswers(n.Tracer, next.Tracer)) > 0 {
		next.kept = append(next.kept, edits...)
	}
	if len(found) > 0 {
		return next, found, nil
	}
	found, err = o.keptAnswers(ctx, next, edits)
	return next, found, err
}

// mostOwners is how many names' old answers are told apart in every way.
const mostOwners = 3

// keptAnswers says what is wrong for those who still have old answers: each name's may be the old one or the new.
func (o *order) keptAnswers(ctx context.Context, n *node, last []int) ([]wrong, error) {
	if !n.keeps() {
		return nil, nil
	}
	var out []wrong
	for _, i := range last {
		if a, is := o.edits[i].out.(*estate.Address); is && o.edits[i].in == nil && a.Network == "internet" {
			out = append(out, wrong{trouble: stillAsked, what: a.Held.String(), from: "internet"})
		}
	}
	if n.past != nil {
		found, err := o.byPast(ctx, n.past, n.point, n.point.view(), n.done)
		if out = append(out, found...); err != nil || len(out) > 0 {
			return out, err
		}
	}
	if len(n.kept) == 0 {
		return out, nil
	}
	for _, back := range o.views(n.kept) {
		were := slices.Clone(n.done)
		for _, i := range back {
			were[i] = false
		}
		e, err := o.made(n.estate, n.done, were)
		if err != nil {
			return nil, err
		}
		v, err := n.point.seen(ctx, e)
		if err != nil {
			return nil, err
		}
		found, err := o.stopped(ctx, n.point, v, were)
		if err != nil {
			return nil, err
		}
		if n.past != nil && len(found) == 0 {
			found, err = o.byPast(ctx, n.past, n.point, v, were)
			if err != nil {
				return nil, err
			}
		}
		if out = append(out, found...); len(out) > 0 {
			break
		}
	}
	return out, nil
}

// keeps says whether somebody may have an old answer.
func (n *node) keeps() bool { return len(n.kept) > 0 || n.past != nil }

// byPast is what stops at a state for those who have the answers from before the order began.
func (o *order) byPast(ctx context.Context, p *past, at *point, now view, done []bool) ([]wrong, error) {
	seen, err := o.seenBy(ctx, p, at, now)
	if err != nil {
		return nil, err
	}
	found, err := o.stopped(ctx, at, seen, done)
	return slices.DeleteFunc(found, func(w wrong) bool { return p.given[w.loss] }), err
}

// views are the sets of edits that somebody with old answers has not seen yet.
func (o *order) views(kept []int) [][]int {
	var owners []string
	of := map[string][]int{}
	for _, i := range kept {
		k := o.edits[i].key
		if of[k] == nil {
			owners = append(owners, k)
		}
		of[k] = append(of[k], i)
	}
	out := [][]int{slices.Clone(kept)}
	if len(owners) < 2 {
		return out
	}
	if !o.chained(kept) { // each has all of its own answer, old or new; but who asks may be another than whom he is handed on by
		var ours, visitors []int
		for _, i := range kept {
			if d, is := o.edits[i].record().(*estate.DNS); is && len(o.asked[d.Owner]) > 0 {
				ours = append(ours, i)
			} else {
				visitors = append(visitors, i)
			}
		}
		if len(ours) > 0 && len(visitors) > 0 {
			out = append(out, ours, visitors)
		}
		return out
	}
	if len(owners) <= mostOwners {
		for set := 1; set < 1<<len(owners)-1; set++ {
			var back []int
			for b, k := range owners {
				if set&(1<<b) != 0 {
					back = append(back, of[k]...)
				}
			}
			out = append(out, back)
		}
		return out
	}
	for _, k := range owners {
		out = append(out, of[k])
	}
	return out
}

// chained says whether one of some edits is of an alias of another's owner: then an old link may lead to a new one.
func (o *order) chained(kept []int) bool {
	owners := map[string]bool{}
	for _, i := range kept {
		if d, is := o.edits[i].record().(*estate.DNS); is {
			owners[d.Owner] = true
		}
	}
	for _, i := range kept {
		for _, r := range []estate.Record{o.edits[i].in, o.edits[i].out} {
			if d, is := r.(*estate.DNS); is && (d.Type == "CNAME" || d.Type == "ALIAS" || d.Type == "DNAME") && owners[strings.TrimSuffix(d.Value, ".")] {
				return true
			}
		}
	}
	return false
}

// waited is the same state when no cache has an old answer any more.
func waited(n *node) *node {
	return &node{point: n.point, done: n.done}
}

// from searches on: false where no order holds from here, or no trial is left.
func (o *order) from(ctx context.Context, n *node) (bool, error) {
	if !o.rest(n.done) {
		return true, nil
	}
	if o.dead[n.key()] {
		return false, nil
	}
	for _, edits := range o.candidates(n) {
		if o.left <= 0 {
			return false, nil
		}
		next, found, err := o.step(ctx, n, edits)
		if err != nil {
			return false, err
		}
		if !o.bears(found) {
			continue
		}
		o.path = append(o.path, move{edits: edits, wrong: found, point: next.point, done: next.done})
		if ok, err := o.from(ctx, next); ok || err != nil {
			return ok, err
		}
		o.path = o.path[:len(o.path)-1]
	}
	if n.keeps() {
		o.path = append(o.path, o.wait(n))
		if ok, err := o.from(ctx, waited(n)); ok || err != nil {
			return ok, err
		}
		o.path = o.path[:len(o.path)-1]
	}
	o.dead[n.key()] = true
	return false, nil
}

// wait is until nobody has an old answer: as long as the one that lasts longest.
func (o *order) wait(n *node) move {
	m := move{point: n.point, done: n.done}
	if n.past != nil {
		for name, left := range n.past.left {
			m.wait, m.old = max(m.wait, left), append(m.old, name)
		}
		slices.Sort(m.old)
	}
	were := slices.Clone(n.done)
	for _, i := range n.kept {
		were[i] = false
	}
	e, err := o.made(n.estate, n.done, were)
	if err != nil {
		return m
	}
	for _, a := range oldAnswers(n.Tracer.After(e), n.Tracer) {
		m.wait = max(m.wait, a.Seconds)
		if !slices.Contains(m.old, a.Name) {
			m.old = append(m.old, a.Name)
		}
	}
	return m
}

// bears says whether what is wrong may be let be; what is not is noted.
func (o *order) bears(found []wrong) bool {
	if !slices.ContainsFunc(found, func(w wrong) bool { return !o.borne[w.whatever()] }) {
		return true
	}
	if !slices.ContainsFunc(o.met, func(m []wrong) bool { return slices.Equal(m, found) }) {
		o.met = append(o.met, found)
	}
	return false
}

// whatever is what is wrong, whatever it ends as.
func (w wrong) whatever() wrong {
	w.now, w.loss.Now = "", ""
	return w
}

// mostBorne is how many sets of what is wrong are let be, one after the other.
const mostBorne = 12

// leastWrong is an order where none is safe: with the least that some edits met wrong on the way, and nothing else wrong; else step by step the
// least. Nothing that is shut opens but in the last resort.
func (o *order) leastWrong(ctx context.Context) error {
	met := slices.DeleteFunc(o.met, func(m []wrong) bool { return costOf(m) >= openCost })
	slices.SortStableFunc(met, func(a, b []wrong) int { return cmp.Compare(costOf(a), costOf(b)) })
	for _, set := range met[:min(len(met), mostBorne)] {
		o.path, o.dead, o.left, o.borne = nil, map[string]bool{}, mostTrials/4, map[wrong]bool{}
		for _, w := range set {
			o.borne[w.whatever()] = true
		}
		if ok, err := o.from(ctx, o.start); ok || err != nil {
			return err
		}
	}
	o.borne = nil
	return o.leastBad(ctx)
}

// leastBad is an order where none is safe: each time what is least wrong.
func (o *order) leastBad(ctx context.Context) error {
	n := o.start
	o.path = nil
	for o.rest(n.done) {
		var best *node
		var bestEdits []int
		var least []wrong
		cost := 0
		for _, edits := range o.candidates(n) {
			next, found, err := o.step(ctx, n, edits)
			if err != nil {
				return err
			}
			if c := costOf(found); best == nil || c < cost {
				best, bestEdits, least, cost = next, edits, found, c
			}
			if cost == 0 {
				break
			}
		}
		if cost > 0 && n.keeps() {
			o.path = append(o.path, o.wait(n))
			n = waited(n)
			continue
		}
		o.path = append(o.path, move{edits: bestEdits, wrong: least, point: best.point, done: best.done})
		n = best
	}
	return nil
}

// openCost is what it weighs that something opens.
const openCost = 1000

// costOf weighs what is wrong: that something opens weighs more than anything that stops.
func costOf(list []wrong) int {
	n := 0
	for _, w := range list {
		if w.trouble == opens {
			n += openCost
		} else {
			n++
		}
	}
	return n
}
