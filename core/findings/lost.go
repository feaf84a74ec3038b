package findings

import (
	"context"
	"slices"
	"sync"

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

// Walked is an estate of which the names and what is meant were followed, and nothing else looked at: enough to tell what gets where it is
// meant to.
type Walked struct {
	survey
	visits func() map[*visit]bool
}

func walked(s survey) *Walked {
	return &Walked{s, sync.OnceValue(func() map[*visit]bool {
		out := map[*visit]bool{}
		for v := range s.walks.all() {
			out[v] = true
		}
		return out
	})}
}

// Walked is that part of a check.
func (x *Checked) Walked() *Walked { return walked(x.survey) }

// After walks an estate whose tracer went on from that of the one walked already.
func (x *Walked) After(ctx context.Context, t *trace.Tracer) (*Walked, error) {
	next := survey{ctx: ctx, t: t, m: t.Model, day: x.day}
	before, e := x.walks, edit{t.Since(x.t.Model), x.m}
	if !t.Model.HangsTogetherAs(x.m) {
		before, e = nil, edit{touch: memo.Anything()}
	}
	next.walks, _ = next.walk(before, e)
	next.ctx = context.Background() // it outlives the request
	return walked(next), ctx.Err()
}

// Lost are the walks that ended as they are meant to before an edit, and after it no longer do: branch by branch, each asked
// again in the speech that it had. What an edit does not touch is not walked again.
func Lost(before, after *Walked) []Loss {
	anew := map[Where]*walk{}
	for v := range after.visits() {
		if before.visits()[v] {
			continue
		}
		for i := range v.walks {
			anew[v.walks[i].where()] = &v.walks[i]
		}
	}
	var out []Loss
	for v := range before.walks.all() {
		if after.visits()[v] {
			continue
		}
		for i := range v.walks {
			w := &v.walks[i]
			out = append(out, after.lost(w, anew[w.where()])...)
		}
	}
	return out
}

func (w *walk) where() Where { return Where{w.label, w.from.Word} }

// Ends are the services at which walks end, of each branch that ends at one.
type Ends map[Where]map[branch][]string

// Ends are those of all walks.
func (x *Walked) Ends() Ends {
	out := Ends{}
	for v := range x.walks.all() {
		for i := range v.walks {
			out[v.walks[i].where()] = v.walks[i].ends()
		}
	}
	return out
}

func (w *walk) ends() map[branch][]string {
	out := map[branch][]string{}
	for i := range w.paths {
		p := &w.paths[i]
		if b := branchOf(p); p.Service != nil && p.Outcome == flow.Arrives && !slices.Contains(out[b], *p.Service) {
			out[b] = append(out[b], *p.Service)
		}
	}
	return out
}

// Astray are the branches that come to a service on the way from one estate to another to which they come in neither: first is where the way
// begins, with the services at which its walks end and those at which they end when all is done.
func Astray(first, now *Walked, begin, end Ends) []Loss {
	var out []Loss
	for v := range now.walks.all() {
		if first.visits()[v] {
			continue
		}
		for i := range v.walks {
			at := v.walks[i].where()
			for b, services := range v.walks[i].ends() {
				known := slices.Concat(begin[at][b], end[at][b])
				if len(begin[at][b]) > 0 && slices.ContainsFunc(services, func(s string) bool { return !slices.Contains(known, s) }) {
					out = append(out, Loss{Where: at, Family: b.family, URLPath: b.urlPath, Now: flow.Arrives})
				}
			}
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
			out = append(out, v.walks[i].where())
		}
	}
	return out
}

// lost are the branches of a walk that are lost; anew is the same walk after the edit, where there is one.
func (x *survey) lost(was, anew *walk) []Loss {
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
	if anew != nil && anew.key == was.key && !slices.ContainsFunc(anew.paths, func(p trace.Path) bool { return p.SpokeTLS() != first.SpokeTLS() }) {
		now = anew.paths
	} else if target, err := x.t.ParseTarget(was.label); err == nil {
		now = x.t.TraceReading(target.AsSpokenBy(first), was.key, from, &memo.Reads{})
	}
	var out []Loss
	for _, b := range kept {
		loss := Loss{Where: was.where(), Family: b.family, URLPath: b.urlPath, Now: flow.Unresolved}
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
