package change

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/exposure"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
)

// Passage is how a name fares through the steps.
type Passage struct {
	Target  string         `json:"target"`
	From    string         `json:"from"`
	After   []flow.Outcome `json:"after" nullable:"false" doc:"Before the first step, and after each"`
	Old     []bool         `json:"old" nullable:"false" doc:"Whether somebody may still have the old answer, after each step"`
	Changes bool           `json:"changes" doc:"It does not end as it began, or not all the way"`
}

// DoorPassage is what stands open to the internet through the steps.
type DoorPassage struct {
	Address string           `json:"address"`
	Ports   string           `json:"ports"`
	Place   string           `json:"place"`
	Intent  exposure.Covered `json:"intent"`
	Open    []bool           `json:"open" nullable:"false" doc:"Before the first step, and after each"`
}

// mostPassages is how many names are followed through the steps, and how many doors.
const mostPassages = 14

// pass follows names and doors through the steps: those that change first.
func (o *order) pass(ctx context.Context, s *Steps, points []*point) error {
	seen := map[findings.Where]bool{}
	old := o.oldThrough(s, points)
	for _, at := range slices.Concat(o.looked(s), findings.Anew(o.first.Checked, o.last.Checked)) {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if len(seen) == mostSeen {
			break
		}
		name, _, _ := strings.Cut(at.Target, ":")
		if _, err := netip.ParseAddr(name); err == nil || seen[at] || strings.HasPrefix(at.Target, "*") || !strings.Contains(name, ".") {
			continue
		}
		seen[at] = true
		p := Passage{Target: at.Target, From: at.From, After: []flow.Outcome{}, Old: []bool{}}
		for i, q := range points {
			p.After = append(p.After, verdict(q, at))
			p.Changes = p.Changes || p.After[i] != p.After[0]
			p.Old = append(p.Old, slices.Contains(old[i], name))
		}
		if p.Changes || p.After[0].Good() { // what stops all the way through says nothing of the steps
			s.Passages = append(s.Passages, p)
		}
	}
	rank := func(p Passage) int {
		switch {
		case p.Changes:
			return 0
		case slices.Contains(p.Old, true):
			return 1
		}
		return 2
	}
	slices.SortStableFunc(s.Passages, func(a, b Passage) int { return cmp.Compare(rank(a), rank(b)) })
	s.Passages = s.Passages[:min(len(s.Passages), mostPassages)]
	o.passDoors(s, points)
	return nil
}

// looked are the names that the steps say to look at.
func (o *order) looked(s *Steps) []findings.Where {
	var out []findings.Where
	for _, st := range s.Steps {
		for _, l := range st.Look {
			out = append(out, findings.Where{Target: l.Target, From: l.From})
		}
	}
	return out
}

// verdict is how a target ends at a point; unresolved where the name is not there.
func verdict(p *point, at findings.Where) flow.Outcome {
	tg, err := p.Tracer.ParseTarget(at.Target)
	v, err2 := p.Tracer.VantageNamed(at.From)
	if err != nil || err2 != nil {
		return flow.Unresolved
	}
	return cmp.Or(p.Tracer.Trace(tg, v).Verdict, flow.Unresolved)
}

// oldThrough are the names, for each point, of which somebody may still have an old answer: since the last wait one of their links changed.
func (o *order) oldThrough(s *Steps, points []*point) [][]string {
	out := make([][]string, len(points))
	var kept []string
	for i, st := range s.Steps {
		if st.Kind == Wait {
			kept = nil
			continue
		}
		for _, a := range oldAnswers(points[i].Tracer, points[i+1].Tracer) {
			kept = append(kept, a.Name)
		}
		v, err := points[i+1].Tracer.VantageNamed("internet")
		if err != nil {
			continue
		}
		for _, n := range points[i+1].Tracer.Names() {
			a := points[i+1].Tracer.Answer(n.Name, "A", v)
			if len(kept) > 0 && slices.ContainsFunc(a.Chain, func(c string) bool { return slices.Contains(kept, c) }) {
				out[i+1] = append(out[i+1], n.Name)
			}
		}
	}
	return out
}

// passDoors are the doors to the internet that are not open all the way.
func (o *order) passDoors(s *Steps, points []*point) {
	type key struct{ address, ports, place string }
	at := map[key]int{}
	for _, p := range points {
		was, is := exposure.Unlike(o.first.doors("internet"), p.doors("internet"))
		for _, d := range exposure.OpenOf(slices.Concat(was, is)) {
			k := key{d.Address, d.Ports, d.Place}
			if _, known := at[k]; !known {
				at[k] = len(s.Doors)
				s.Doors = append(s.Doors, DoorPassage{d.Address, d.Ports, d.Place, d.Intent, make([]bool, len(points))})
			}
		}
	}
	for i, p := range points {
		for _, d := range exposure.OpenOf(p.doors("internet")) {
			n, known := at[key{d.Address, d.Ports, d.Place}]
			if !known {
				continue
			}
			door := &s.Doors[n]
			switch {
			case !door.Open[i]: // as it is where it is open last
				door.Open[i], door.Intent = true, d.Intent
			case door.Intent != d.Intent: // of several sites one is covered, another not
				door.Intent = exposure.Partial
			}
		}
	}
	s.Doors = slices.DeleteFunc(s.Doors, func(d DoorPassage) bool { return !slices.Contains(d.Open, !d.Open[0]) })
	s.Doors = s.Doors[:min(len(s.Doors), mostPassages)]
}
