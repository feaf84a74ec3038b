// Package rules reads a filter as an ordered list of sets of flows: what each line takes that the lines before it did not,
// which lines left nothing for it, and whether anything would change without it.
package rules

import (
	"iter"
	"net/netip"
	"slices"

	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// Line is one line of a filter, read where it stands.
type Line struct {
	Rule  *model.Rule
	Names Flows // all that it names, perhaps
	// Takes is what it decides: what it names and no line before it took. The sets share no flow.
	Takes []Flows
	// Before are the lines met earlier that took some of what it names, in the order in which they are met.
	Before []*model.Rule
	// Idle says that nothing would change without the line: it takes something, and what is met after it says the same.
	Idle bool
	// Partly says that the line overlaps so many others that Takes is not all of it.
	Partly bool

	sure Flows
}

// Shadowed says whether the lines before it left the line nothing of what it names.
func (l *Line) Shadowed() bool { return !l.Partly && len(l.Takes) == 0 && !l.Names.IsEmpty() }

// Reading is a filter as an ordered list.
type Reading struct {
	Filter *model.Filter
	Lines  []Line // in the order in which they are met: where drops win, these first
	points points
	shares shares
}

// mostParts is how many sets one line's share may fall into before the rest of it is left unread, and mostApart to how many
// single destinations lines before it may be for these to be looked at one by one.
const (
	mostParts = 1 << 12
	mostApart = 1 << 9
)

// Read reads a filter, as it stands on machines on which its rules mean the same.
func Read(m *model.Model, f *model.Filter, on []*model.Place) Reading {
	r := Reading{Filter: f, Lines: make([]Line, 0, len(f.Rules)), points: pointsSeen(m, on), shares: shares{}}
	v4, v6 := f.Record.Family != "ipv6", f.Record.Family != "ipv4"
	for _, rule := range f.Rules {
		line := Line{Rule: rule}
		from, to := r.points.ends(m, rule.From, v4, v6), r.points.ends(m, rule.To, v4, v6)
		line.Names = Flows{From: from.perhaps, To: to.perhaps, Transport: rule.Record.Ports.Transport, Ports: rule.Ports, Entering: netset.AnyOf[model.NetID](), Leaving: netset.AnyOf[model.NetID]()}
		if rule.Entering != model.NoNet {
			line.Names.Entering = netset.OnlyOf(rule.Entering)
		}
		if rule.Leaving != model.NoNet {
			line.Names.Leaving = netset.OnlyOf(rule.Leaving)
		}
		line.sure = line.Names
		line.sure.From, line.sure.To = from.sure, to.sure
		if rule.Dead || neverTakes(f.Record.Hook, rule) {
			line.Names, line.sure = Flows{}, Flows{}
		}
		r.Lines = append(r.Lines, line)
	}
	met := overlapsOf(r.Lines)
	for i := range r.Lines {
		r.share(i, met)
	}
	for i := range r.Lines {
		r.Lines[i].Idle = r.idle(i, met)
	}
	r.shares = nil
	return r
}

// neverTakes says whether a line names a network that no flow comes or goes by where the filter stands.
func neverTakes(hook string, rule *model.Rule) bool {
	return rule.Entering != model.NoNet && hook == "output" || rule.Leaving != model.NoNet && (hook == "arriving" || hook == "input")
}

// share works out what a line takes.
func (r *Reading) share(i int, met overlaps) {
	line := &r.Lines[i]
	if line.Names.IsEmpty() {
		return
	}
	line.Takes = []Flows{line.Names}
	var wide, narrow []int
	_, single := line.Names.To.Single()
	for j := range met.with(r.Lines, i, 0, i) {
		if _, one := r.Lines[j].Names.To.Single(); one && !single {
			narrow = append(narrow, j)
		} else {
			wide = append(wide, j)
		}
	}
	var took []int
	line.Takes, took = r.without(line.Takes, wide)
	took = append(took, r.shareNarrow(line, narrow)...)
	slices.Sort(took)
	for _, j := range took {
		line.Before = append(line.Before, r.Lines[j].Rule)
	}
	if len(line.Takes) > mostParts {
		line.Takes, line.Partly = nil, true
	}
}

// without is parts of a line less what earlier lines take, and which of these took something.
func (r *Reading) without(parts []Flows, earlier []int) (left []Flows, took []int) {
	for _, j := range earlier {
		if len(parts) == 0 || len(parts) > mostParts {
			break
		}
		e := &r.Lines[j]
		var rest []Flows
		some := false
		for _, part := range parts {
			some = some || !part.intersect(e.Names, r.shares).IsEmpty()
			rest = append(rest, part.subtract(e.sure, r.shares)...)
		}
		if some {
			took = append(took, j)
		}
		parts = rest
	}
	return parts, took
}

// shareNarrow takes from a line to many destinations what lines to one destination each take: apart for each of these, so
// that the work grows with their number alone.
func (r *Reading) shareNarrow(line *Line, narrow []int) (took []int) {
	if len(narrow) == 0 || len(line.Takes) == 0 {
		return nil
	}
	var order []netip.Addr
	to := map[netip.Addr][]int{}
	for _, j := range narrow {
		a, _ := r.Lines[j].Names.To.Single()
		if to[a] == nil {
			order = append(order, a)
		}
		to[a] = append(to[a], j)
	}
	all := netset.AddrsOf(order...)
	var out []Flows
	for _, part := range line.Takes {
		rest := part
		if rest.To = part.To.Subtract(all); !rest.IsEmpty() {
			out = append(out, rest)
		}
	}
	if len(out) > 0 && len(order) > mostApart {
		line.Takes, line.Partly = out, true
		return narrow
	}
	for _, part := range line.Takes {
		for _, a := range order {
			if !part.To.Contains(a) {
				continue
			}
			one := part
			one.To = r.Lines[to[a][0]].Names.To
			left, t := r.without([]Flows{one}, to[a])
			out, took = append(out, left...), append(took, t...)
		}
	}
	line.Takes = out
	slices.Sort(took)
	return slices.Compact(took)
}

// idle says whether what is met after a line says the same of all that it takes. A shadowed line that says the same counts
// as gone: of two that say the same, one is needed.
func (r *Reading) idle(i int, met overlaps) bool {
	line := &r.Lines[i]
	if line.Partly || len(line.Takes) == 0 {
		return false
	}
	action := line.Rule.Record.Action
	left := line.Takes
	for j := range met.with(r.Lines, i, i+1, len(r.Lines)) {
		later := &r.Lines[j]
		if later.Shadowed() && later.Rule.Record.Action == action {
			continue
		}
		var rest []Flows
		for _, part := range left {
			if later.Rule.Record.Action != action {
				if !part.intersect(later.Names, r.shares).IsEmpty() {
					return false
				}
				rest = append(rest, part)
				continue
			}
			rest = append(rest, part.subtract(later.sure, r.shares)...)
		}
		if left = rest; len(left) == 0 || len(left) > mostParts {
			return len(left) == 0
		}
	}
	return r.Filter.Record.Otherwise == action
}

// Containers are the names of the containers without a written address that a set holds, and the set without them.
func (r *Reading) Containers(m *model.Model, set netset.Addrs) (named []string, rest netset.Addrs) {
	rest = set
	for at, a := range r.points.at {
		if set.Contains(a) {
			named = append(named, m.Places[at.place].Name)
			rest = rest.Subtract(netset.AddrsOf(a))
		}
	}
	slices.Sort(named)
	return slices.Compact(named), rest
}

// apart says, at once, that two lines share no flow; where it says no they may.
func apart(a, b *Line) bool {
	if a.Rule.Record.Ports.Transport&b.Rule.Record.Ports.Transport == 0 || !a.Rule.Record.Ports.Any && !b.Rule.Record.Ports.Any && spansApart(a.Names.Ports, b.Names.Ports) {
		return true
	}
	return addrsApart(a.Names.To, b.Names.To) || addrsApart(a.Names.From, b.Names.From)
}

func spansApart(a, b netset.Ports) bool {
	x, y := a.Ranges(), b.Ranges()
	return len(x) == 0 || len(y) == 0 || x[len(x)-1].Hi < y[0].Lo || y[len(y)-1].Hi < x[0].Lo
}

func addrsApart(a, b netset.Addrs) bool {
	return a.IsEmpty() || b.IsEmpty() || a.Highest().Less(b.Lowest()) || b.Highest().Less(a.Lowest())
}

// overlaps finds the lines that may share a flow with one: those to the same single destination, and those to more.
type overlaps struct {
	to   map[netip.Addr][]int
	wide []int
}

func overlapsOf(lines []Line) overlaps {
	o := overlaps{to: make(map[netip.Addr][]int, len(lines))}
	for i := range lines {
		if a, one := lines[i].Names.To.Single(); one {
			o.to[a] = append(o.to[a], i)
		} else {
			o.wide = append(o.wide, i)
		}
	}
	return o
}

// with are the lines of from up to to that may share a flow with line i, rising.
func (o overlaps) with(lines []Line, i, from, to int) iter.Seq[int] {
	within := func(list []int) []int {
		lo, _ := slices.BinarySearch(list, from)
		hi, _ := slices.BinarySearch(list, to)
		return list[lo:hi]
	}
	return func(yield func(int) bool) {
		a, one := lines[i].Names.To.Single()
		if !one {
			for j := from; j < to; j++ {
				if !apart(&lines[i], &lines[j]) && !yield(j) {
					return
				}
			}
			return
		}
		same, wide := within(o.to[a]), within(o.wide)
		for len(same)+len(wide) > 0 {
			var j int
			if len(wide) == 0 || len(same) > 0 && same[0] < wide[0] {
				j, same = same[0], same[1:]
			} else {
				j, wide = wide[0], wide[1:]
			}
			if !apart(&lines[i], &lines[j]) && !yield(j) {
				return
			}
		}
	}
}
