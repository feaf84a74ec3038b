// Package change is the work on an estate: the safe order of a change's edits, what retiring something takes with it, and the lines that
// publish a service. All of it is candidates, trials in the one engine and an order of preference; nothing here judges by itself, and no
// clock is read.
package change

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/mend"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
)

// StepKind is what is done in a step.
type StepKind string

const (
	Edit StepKind = "edit"
	Wait StepKind = "wait"
)

// StepKinds are all of them.
var StepKinds = []StepKind{Edit, Wait}

// Lines are lines that go and come, as a person would write them.
type Lines struct {
	Remove []string `json:"remove" nullable:"false"`
	Add    []string `json:"add" nullable:"false"`
}

// LookAt is what to look at after a step, from where, and what must be seen.
type LookAt struct {
	Target  string       `json:"target"`
	From    string       `json:"from"`
	Verdict flow.Outcome `json:"verdict"`
}

// WorkStep is a run of edits at one place of work, or a wait.
type WorkStep struct {
	At   string   `json:"at" doc:"The place of work; of a wait, the zone of the answer that is waited for longest"`
	Kind StepKind `json:"kind"`
	Lines
	Passing []string       `json:"passing" nullable:"false" doc:"Those of the lines that come which a later step takes out again"`
	Keepers []string       `json:"keepers" nullable:"false" doc:"Who of ours asks for what is changed here: who asks only when it starts is to be started anew"`
	Look    []LookAt       `json:"look" nullable:"false"`
	Undo    Lines          `json:"undo"`
	Seconds estate.Seconds `json:"seconds,omitempty" doc:"Of a wait"`
	Ahead   *Ahead         `json:"ahead,omitempty" doc:"What would make a wait shorter"`
	Seen    estate.Seconds `json:"seen,omitempty" doc:"How long it takes until everybody sees the new answers"`
	Why     string         `json:"why,omitempty"`
}

// Ahead are lines by which answers are kept for less long: made as long ahead as they are kept now, the wait is shorter.
type Ahead struct {
	Lines
	Seconds estate.Seconds `json:"seconds" doc:"How long before the answers change"`
	Wait    estate.Seconds `json:"wait" doc:"How long the wait is then"`
}

// Gap is something that does not work between two steps, though it works before and after all of them; or that stands open.
type Gap struct {
	What    string       `json:"what"`
	From    string       `json:"from"`
	Now     flow.Outcome `json:"now,omitempty" doc:"How it ends in between"`
	Opens   bool         `json:"opens,omitempty" doc:"It stands open in between, and neither before nor after"`
	Between []int        `json:"between" nullable:"false" doc:"The numbers of the step with which it begins and of that which ends it, counted from 1"`
	Because []string     `json:"because" nullable:"false" doc:"The lines that exclude each other"`
	Why     string       `json:"why"`
}

// Steps are a change in the safe order.
type Steps struct {
	Steps    []WorkStep    `json:"steps" nullable:"false"`
	Gaps     []Gap         `json:"gaps" nullable:"false"`
	Passages []Passage     `json:"passages" nullable:"false" doc:"How names fare through the steps: those that change, and some on the same way"`
	Doors    []DoorPassage `json:"doors" nullable:"false" doc:"What opens or closes to the internet, through the steps"`
}

// mostEdits is how many edits are put in order.
const mostEdits = 300

// ErrTooMany is wrapped by the error for a change that is too large to be put in order.
var ErrTooMany = errors.New("too many lines")

// Order puts a change into an order in which, after each edit, what worked before and works after still works, by every answer that may be
// kept; nothing can be reached that can be reached neither before nor after; and nothing that is asked for is missing. Where no order holds, it is
// the least bad one, with its gaps. It goes on from a state that is looked over, and from what was changed before and may still be kept.
func Order(ctx context.Context, s mend.State, after *estate.Estate, past Past) (Steps, error) {
	first, err := begin(ctx, s, past)
	if err != nil {
		return Steps{}, err
	}
	before := first.estate
	d := apart(before, after)
	if len(d.edits) > mostEdits {
		return Steps{}, fmt.Errorf("%w: %d edits, and at most %d are put in order; make it in parts", ErrTooMany, len(d.edits), mostEdits)
	}
	best, safe, err := ordered(ctx, d, first, past, mostTrials)
	if err != nil {
		return Steps{}, err
	}
	if safe {
		return best.steps(ctx)
	}
	for _, d := range append(passing(before, after), detours(before, after, first.Tracer.Model, best.last.Tracer.Model)...) {
		other, safe, err := ordered(ctx, d, first, past, mostTrials/4)
		if err != nil {
			return Steps{}, err
		}
		if safe {
			return other.steps(ctx)
		}
	}
	if err := best.leastWrong(ctx); err != nil {
		return Steps{}, err
	}
	return best.steps(ctx)
}

// Left are the lines by which one estate comes to another; none where they differ only in an order that decides nothing.
func Left(before, after *estate.Estate) Lines {
	d := apart(before, after)
	var edits []int
	for i := range d.edits {
		if d.edits[i].record() != nil {
			edits = append(edits, i)
		}
	}
	lines, _ := d.written(edits, make([]bool, len(d.edits)))
	return lines
}

// ordered searches an order, in so many trials; whether it is safe.
func ordered(ctx context.Context, d *draft, first *point, past Past, trials int) (o *order, safe bool, err error) {
	x, err := newEnds(ctx, d, first)
	if err != nil {
		return nil, false, err
	}
	kept, err := x.pastOf(ctx, past)
	if err != nil {
		return nil, false, err
	}
	o = &order{ends: x, left: trials, dead: map[string]bool{}, start: &node{point: first, done: make([]bool, len(d.edits)), past: kept}}
	safe, err = o.from(ctx, o.start)
	return o, safe, err
}

// passing are other ways to the same end, with lines that are put in at one step and taken out at a later one: a certificate that goes to another
// machine lies on both for a while.
func passing(before, after *estate.Estate) []*draft {
	d := apart(before, after)
	found := false
	for i, e := range slices.Clone(d.edits) {
		was, is := e.out.(*estate.Cert)
		will, also := e.in.(*estate.Cert)
		if !is || !also || slices.Equal(was.On, will.On) || was.Expires == "" {
			continue
		}
		on := slices.Clone(was.On)
		for _, place := range will.On {
			if !slices.Contains(on, place) {
				on = append(on, place)
			}
		}
		between := estate.With(was, func(c *estate.Cert) { c.On, c.By, c.Through, c.Alone = on, "hand", "", false })
		if estate.Line(between) == estate.Line(was) || estate.Line(between) == estate.Line(will) {
			continue
		}
		found = true
		// The old line gives way to the passing one, and that to the new one.
		now := len(d.edits)
		d.edits = append(d.edits, edit{out: was, in: between})
		d.edits[i].out = between
		list := d.lists[estate.KindOf(was)]
		for n := range list {
			switch {
			case list[n].out == i:
				list[n].out = now
			case list[n].in == i:
				list = slices.Insert(list, n, slot{between, now, i})
				d.lists[estate.KindOf(was)] = list
			default:
				continue
			}
		}
	}
	if !found {
		return nil
	}
	d.settle()
	for i := range d.edits {
		if c, is := d.edits[i].in.(*estate.Cert); is && c.By == "hand" && d.edits[i].out != nil {
			d.edits[i].phase = putIn
		}
	}
	return []*draft{d}
}

// steps are the moves as a person makes them.
func (o *order) steps(ctx context.Context) (Steps, error) {
	out := Steps{Steps: []WorkStep{}, Gaps: []Gap{}, Passages: []Passage{}, Doors: []DoorPassage{}}
	points := []*point{o.first}
	var of []int // the step of each move
	done := make([]bool, len(o.edits))
	at := o.first
	for i := 0; i < len(o.path); {
		m := o.path[i]
		if len(m.edits) == 0 && len(m.old) == 0 { // what changed has come back to what it was: there is nothing to wait for
			of = append(of, len(out.Steps))
			i++
			continue
		}
		if len(m.edits) == 0 {
			out.Steps = append(out.Steps, WorkStep{At: o.zoneOf(m.old[0]), Kind: Wait, Lines: Lines{[]string{}, []string{}}, Undo: Lines{[]string{}, []string{}}, Passing: []string{}, Keepers: []string{}, Look: []LookAt{}, Seconds: m.wait, Why: waitsFor(m), Ahead: o.ahead(o.path[:i], m)})
			of = append(of, len(out.Steps))
			points = append(points, at)
			i++
			continue
		}
		j := i
		place := o.edits[m.edits[0]].at
		var edits []int
		for ; j < len(o.path) && len(o.path[j].edits) > 0 && o.edits[o.path[j].edits[0]].at == place && !o.turns(edits, o.path[j].edits); j++ {
			edits = append(edits, slices.SortedFunc(slices.Values(o.path[j].edits), func(a, b int) int { return cmp.Compare(o.placeIn(a), o.placeIn(b)) })...)
		}
		last := o.path[j-1]
		for range j - i {
			of = append(of, len(out.Steps)+1)
		}
		if j == len(o.path) { // what nobody has to do is written with the last
			paper := slices.Clone(last.done)
			for n, e := range o.edits {
				if e.phase == onPaper && e.record() != nil {
					edits, paper[n] = append(edits, n), true
				}
			}
			last.done, last.point = paper, o.last
		}
		s, err := o.run(ctx, place, edits, at, last, done)
		if err != nil {
			return out, err
		}
		out.Steps = append(out.Steps, s)
		done, at = last.done, last.point
		points = append(points, at)
		i = j
	}
	all := make([]int, 0, len(o.edits))
	end := make([]bool, len(o.edits))
	for i, e := range o.edits {
		if end[i] = true; e.record() != nil {
			all = append(all, i)
		}
	}
	if len(o.path) == 0 && len(all) > 0 { // nothing is anybody's work
		s, err := o.run(ctx, "the records", all, o.first, move{point: o.last, done: end}, done)
		if err != nil {
			return out, err
		}
		out.Steps = append(out.Steps, s)
		points = append(points, o.last)
	}
	out.Gaps = o.gaps(of)
	err := o.pass(ctx, &out, points)
	return out, err
}

// turns says whether a run of edits would take something out after it put something in, though their system does not take them in as one:
// who goes by the lines of a step takes out first.
func (o *order) turns(run, next []int) bool {
	put := slices.ContainsFunc(run, func(i int) bool { return o.edits[i].in != nil && !asOne(o.edits[i].in) })
	return put && slices.ContainsFunc(next, func(i int) bool { return o.edits[i].out != nil && !asOne(o.edits[i].out) })
}

// lowTTL is the ttl that is offered for answers that are to change.
const lowTTL estate.Seconds = 300

// ahead are the lines that would make a wait shorter, which comes behind some moves; nil where none would.
func (o *order) ahead(moves []move, wait move) *Ahead {
	out := &Ahead{Lines: Lines{[]string{}, []string{}}, Seconds: wait.wait}
	var c estate.Change
	for i := len(moves) - 1; i >= 0 && len(moves[i].edits) > 0; i-- { // since the wait before
		for _, n := range moves[i].edits {
			d, is := o.edits[n].out.(*estate.DNS)
			if !is || d.TTL != estate.NotGiven && d.TTL <= lowTTL || !o.before.Has(estate.Line(d)) {
				continue
			}
			lower := estate.Placed{Record: estate.With(d, func(n *estate.DNS) { n.TTL = lowTTL })}
			c.Remove, c.Add = append(c.Remove, estate.Line(d)), append(c.Add, lower)
			out.Remove, out.Add = append(out.Remove, estate.Line(d)), append(out.Add, lower.Line())
		}
	}
	e, err := o.before.Apply(c)
	if err != nil || c.IsEmpty() {
		return nil
	}
	for _, a := range oldAnswers(o.first.Tracer.After(e), o.last.Tracer) {
		if slices.Contains(wait.old, a.Name) {
			out.Wait = max(out.Wait, a.Seconds)
		}
	}
	if out.Wait == 0 || out.Wait >= wait.wait {
		return nil
	}
	return out
}

func waitsFor(m move) string {
	who := m.old[0]
	if n := len(m.old) - 1; n > 0 {
		who = fmt.Sprintf("%s and %d more", who, n)
	}
	return fmt.Sprintf("%s: until no cache has the old answer of %s", m.wait, who)
}

// run is one run of edits at a place of work.
func (o *order) run(ctx context.Context, place string, edits []int, from *point, to move, were []bool) (WorkStep, error) {
	s := WorkStep{At: place, Kind: Edit, Passing: []string{}, Keepers: o.keepers(edits)}
	s.Lines, s.Undo = o.written(edits, were)
	lines := slices.Clone(s.Remove) // as a trace says them: without their places
	for _, line := range s.Add {
		p, _, err := notation.ParseLine(line)
		if err != nil || p.Record == nil {
			continue
		}
		if lines = append(lines, estate.Line(p.Record)); !o.after.Has(estate.Line(p.Record)) {
			s.Passing = append(s.Passing, line)
		}
	}
	for _, a := range effect.OldAnswers(from.Tracer, to.point.Tracer) {
		s.Seen = max(s.Seen, a.Seconds)
	}
	var err error
	s.Look, err = o.lookAt(ctx, from, to.point, lines)
	return s, err
}

// placeIn is where an edit's line stands in the lists, so that lines read as they are written.
func (o *order) placeIn(i int) int {
	n := 0
	for _, k := range estate.Kinds {
		for _, s := range o.lists[k] {
			if s.in == i || s.out == i {
				return n
			}
			n++
		}
	}
	return n
}

// mostLooks is how many looks a step is given, of mostSeen that are weighed.
const (
	mostLooks = 4
	mostSeen  = 64
)

// lookAt is what to look at when a step is made: names that end otherwise than before it, doors that it opens, and names that go by its
// lines; what gets somewhere first.
func (o *order) lookAt(ctx context.Context, from, to *point, lines []string) ([]LookAt, error) {
	var better, same, worse []LookAt
	seen := map[findings.Where]bool{}
	for _, at := range findings.Anew(from.Checked, to.Checked) {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if len(better) == mostLooks || len(seen) == mostSeen {
			break
		}
		if seen[at] {
			continue
		}
		seen[at] = true
		tg, err := to.Tracer.ParseTarget(at.Target)
		is, err2 := to.Tracer.VantageNamed(at.From)
		if err != nil || err2 != nil || strings.HasPrefix(at.Target, "*") {
			continue
		}
		now := to.Tracer.Trace(tg, is)
		l := LookAt{at.Target, at.From, now.Verdict}
		was, err := from.Tracer.VantageNamed(at.From)
		changed := err != nil || from.Tracer.Trace(tg, was).Verdict != l.Verdict
		switch {
		case changed && l.Verdict.Good():
			better = append(better, l)
		case changed:
			worse = append(worse, l)
		case l.Verdict.Good() && goesBy(now.Paths, lines):
			same = append(same, l)
		}
	}
	opened, err := o.opened(from, to)
	out := []LookAt{}
	for _, list := range [][]LookAt{better, opened, same, worse} {
		out = append(out, list[:min(len(list), mostLooks-len(out))]...)
	}
	return out, err
}

// opened are the doors to the internet that a step opens at addresses.
func (o *order) opened(from, to *point) ([]LookAt, error) {
	v, err := to.Tracer.VantageNamed("internet")
	if err != nil {
		return nil, err
	}
	type at struct{ address, ports, transport string }
	was, is := exposure.Unlike(from.doors("internet"), to.doors("internet"))
	there := map[at]bool{}
	for _, d := range exposure.OpenOf(was) {
		there[at{d.Address, d.Ports, d.Transport}] = true
	}
	var out []LookAt
	for _, d := range exposure.OpenOf(is) {
		if !exposure.IsIP(d.Address) || there[at{d.Address, d.Ports, d.Transport}] {
			continue
		}
		if tg, err := to.Tracer.ParseTarget(address(d)); err == nil {
			if l := (LookAt{tg.Text, "internet", to.Tracer.Trace(tg, v).Verdict}); !slices.Contains(out, l) {
				out = append(out, l)
			}
		}
	}
	return out, nil
}

// goesBy says whether a path came by one of some lines.
func goesBy(paths []trace.Path, lines []string) bool {
	for i := range paths {
		for _, s := range paths[i].Steps {
			for _, r := range s.Records {
				if slices.Contains(lines, r) {
					return true
				}
			}
		}
	}
	return false
}

// gaps are what is wrong on the way, from where it begins to where it ends.
func (o *order) gaps(of []int) []Gap {
	out := []Gap{}
	for i, m := range o.path {
		for _, w := range m.wrong {
			if i > 0 && has(o.path[i-1].wrong, w) {
				continue
			}
			end := i + 1
			for end < len(o.path) && has(o.path[end].wrong, w) {
				end++
			}
			until := len(o.path)
			if end < until {
				until = end
			}
			g := Gap{What: w.what, From: w.from, Now: w.now, Opens: w.trouble == opens, Between: []int{of[i], of[min(until, len(of)-1)]}, Because: []string{}, Why: w.says()}
			g.Because = o.because(m, o.path[min(until, len(o.path)-1)])
			if !slices.ContainsFunc(out, func(x Gap) bool { return x.What == g.What && x.From == g.From && x.Opens == g.Opens }) {
				out = append(out, g)
			}
		}
	}
	return out
}

func has(list []wrong, w wrong) bool {
	return slices.ContainsFunc(list, func(x wrong) bool { return x.trouble == w.trouble && x.what == w.what && x.from == w.from })
}

// because are the lines of the move that begins a gap, and of that which ends it.
func (o *order) because(begins, ends move) []string {
	out := []string{}
	for _, m := range []move{begins, ends} {
		for _, i := range m.edits {
			e := o.edits[i]
			for _, r := range []estate.Record{e.out, e.in} {
				if r != nil && !slices.Contains(out, estate.Line(r)) {
					out = append(out, estate.Line(r))
				}
			}
		}
	}
	return out
}

func (w wrong) says() string {
	ends := strings.ReplaceAll(string(w.now), "-", " ")
	switch w.trouble {
	case stops:
		return fmt.Sprintf("%s from %s ends %s in between.", w.what, w.from, ends)
	case astray:
		return fmt.Sprintf("%s from %s comes to another service in between.", w.what, w.from)
	case opens:
		return fmt.Sprintf("%s stands open to %s in between, and neither before nor after.", w.what, w.from)
	case lost:
		return fmt.Sprintf("%s, by which the machine is administered, is not reached from %s in between.", w.what, w.from)
	case taken:
		return fmt.Sprintf("%s is another's in between (%s).", w.what, w.branch)
	case unproven:
		return fmt.Sprintf("The challenge for %s does not get in when %s is asked for.", w.what, w.branch)
	}
	return fmt.Sprintf("Old answers may still lead to %s, which is given up.", w.what)
}

// address is where something stands open, as a target.
func address(o *exposure.Open) string {
	text := fmt.Sprintf("%s:%d", exposure.Bracketed(o.Address), o.Range.Lo)
	if o.Transport == "udp" {
		text += "/udp"
	}
	return text
}
