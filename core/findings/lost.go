package findings

import (
	"slices"

	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/trace"
)

// Loss is a walk that ended as it is meant to, and no longer does.
type Loss struct {
	Where
	Now flow.Outcome
}

// Lost are the walks that ended as they are meant to before an edit, and after it no longer do: branch by branch, each asked
// again in the speech that it had. What an edit does not touch is not walked again.
func Lost(before, after *Checked) []Loss {
	stands := map[*visit]bool{}
	for v := range after.walks.all() {
		stands[v] = true
	}
	var out []Loss
	for v := range before.walks.all() {
		if stands[v] {
			continue
		}
		for i := range v.walks {
			if l, lost := after.lost(&v.walks[i]); lost {
				out = append(out, l)
			}
		}
	}
	return out
}

func (x *Checked) lost(was *walk) (Loss, bool) {
	loss := Loss{Where: Where{was.label, was.from.Word}, Now: flow.Unresolved}
	kept := map[branch]bool{} // the branches of which some path was as meant
	var first *trace.Path
	for i := range was.paths {
		if p := &was.paths[i]; asMeant(p) {
			kept[branchOf(p)] = true
			if first == nil {
				first = p
			}
		}
	}
	if first == nil {
		return Loss{}, false
	}
	from, err := x.t.VantageNamed(was.from.Word)
	if err != nil {
		return Loss{}, false // whoever looked from there is no more
	}
	target, err := x.t.ParseTarget(was.label)
	if err != nil {
		return loss, true
	}
	now := x.t.TraceReading(target.AsSpokenBy(first), was.key, from, &memo.Reads{})
	for b := range kept {
		good, bad := 0, 0
		for i := range now {
			p := &now[i]
			switch {
			case branchOf(p) != b:
			case asMeant(p):
				good++
			default:
				bad++
				loss.Now = p.Outcome
			}
		}
		wasBad := 0
		for i := range was.paths {
			if p := &was.paths[i]; branchOf(p) == b && !asMeant(p) {
				wasBad++
			}
		}
		if good == 0 || bad > wasBad {
			return loss, true
		}
	}
	return Loss{}, false
}

// branch tells the paths of one walk apart.
type branch struct{ family, urlPath string }

func branchOf(p *trace.Path) branch { return branch{p.Family, p.URLPath} }

// asMeant says whether a path gets where it is meant to.
func asMeant(p *trace.Path) bool {
	return p.Outcome.Good() && !slices.ContainsFunc(p.Breaks, func(b flow.Break) bool { return b.Code == "path.wrong-place" })
}
