package findings

import (
	"slices"

	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/trace"
)

// Loss is a branch of a walk that ended as it is meant to, and no longer does.
type Loss struct {
	Where
	Family, URLPath string
	Now             flow.Outcome
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
			out = append(out, after.lost(&v.walks[i])...)
		}
	}
	return out
}

// Anew are the targets that were walked anew after an edit, each with whence.
func Anew(before, after *Checked) []Where {
	stood := map[*visit]bool{}
	for v := range before.walks.all() {
		stood[v] = true
	}
	var out []Where
	for v := range after.walks.all() {
		if stood[v] {
			continue
		}
		for i := range v.walks {
			out = append(out, Where{v.walks[i].label, v.walks[i].from.Word})
		}
	}
	return out
}

func (x *Checked) lost(was *walk) []Loss {
	var kept []branch // those of which some path was as meant
	var first *trace.Path
	for i := range was.paths {
		p := &was.paths[i]
		if !asMeant(p) {
			continue
		}
		if b := branchOf(p); !slices.Contains(kept, b) {
			kept = append(kept, b)
		}
		if first == nil {
			first = p
		}
	}
	if first == nil {
		return nil
	}
	from, err := x.t.VantageNamed(was.from.Word)
	if err != nil {
		return nil // whoever looked from there is no more
	}
	var now []trace.Path
	if target, err := x.t.ParseTarget(was.label); err == nil {
		now = x.t.TraceReading(target.AsSpokenBy(first), was.key, from, &memo.Reads{})
	}
	var out []Loss
	for _, b := range kept {
		loss := Loss{Where: Where{was.label, was.from.Word}, Family: b.family, URLPath: b.urlPath, Now: flow.Unresolved}
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
			out = append(out, loss)
		}
	}
	return out
}

// branch tells the paths of one walk apart.
type branch struct{ family, urlPath string }

func branchOf(p *trace.Path) branch { return branch{p.Family, p.URLPath} }

// asMeant says whether a path gets where it is meant to.
func asMeant(p *trace.Path) bool {
	return p.Outcome.Good() && !slices.ContainsFunc(p.Breaks, func(b flow.Break) bool { return b.Code == "path.wrong-place" })
}
