package findings

import (
	"fmt"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/trace"
)

// aim is what became of an intent: the walks from those it is for.
type aim struct {
	intent *estate.Intent
	broken []broken
	bare   []broken // where nobody signs in, though it is to be guarded
	unsure []broken // where it cannot be told
}

// broken is a path that does not do what an intent says, and the walk that found it.
type broken struct {
	path *trace.Path
	from string
	port string
}

// hold notes whether paths do what an intent says.
func (c *check) hold(a *aim, key flow.PortKey, from flow.Vantage, paths []trace.Path) {
	for i := range paths {
		p := &paths[i]
		wrong := slices.ContainsFunc(p.Breaks, func(b flow.Break) bool { return b.Code == "path.wrong-place" })
		switch {
		case p.Outcome == flow.Undecided:
			a.unsure = append(a.unsure, broken{p, from.Word, keyWord(key)})
		case !p.Outcome.Good() && (p.Outcome != flow.Outside || c.isOurs(a.intent.Reaching)) || wrong:
			a.broken = append(a.broken, broken{p, from.Word, keyWord(key)})
		case a.intent.Guarded && p.Outcome == flow.Arrives && !p.Guarded():
			a.bare = append(a.bare, broken{p, from.Word, keyWord(key)})
		}
	}
}

// isOurs says whether an intent is to reach a place of ours.
func (c *check) isOurs(reaching estate.Endpoint) bool {
	p := c.m.PlaceNamed(reaching.Host)
	return p != nil && !p.Outside
}

// aim says of an intent whether those it is for get there, and by a guard where it says so.
func (c *check) aim(a *aim) {
	subject := a.intent.Target + ":" + a.intent.Ports.String()
	if len(a.broken) > 0 {
		b := a.broken[0]
		f := Finding{
			Code: "intent.unmet", Subject: subject, Records: lines(a.intent), Trace: &Where{a.intent.Target + ":" + b.port, b.from},
			Why: fmt.Sprintf("Meant for %s, and not so: %s.", selectorsOf(a.intent.For), waysOf(a.broken, true)), keys: keysOf(a.broken),
			lands: landings(a.intent.Target, a.broken),
		}
		f.Mend = unmetMend(a.broken)
		c.add(f)
	}
	if len(a.unsure) > 0 && len(a.broken) == 0 {
		b := a.unsure[0]
		why, records := notKnown(b.path)
		c.add(Finding{
			Code: "intent.undecided", Subject: subject, Records: append(lines(a.intent), records...), Trace: &Where{a.intent.Target + ":" + b.port, b.from},
			Why:  fmt.Sprintf("Meant for %s, and whether it is so cannot be told: %s", selectorsOf(a.intent.For), why),
			Mend: unmetMend(a.unsure),
		})
	}
	if len(a.bare) > 0 {
		b := a.bare[0]
		f := Finding{
			Code: "intent.unguarded", Subject: subject, Records: lines(a.intent), Trace: &Where{a.intent.Target + ":" + b.port, b.from},
			Why: fmt.Sprintf("Meant to be guarded, and nobody signs in: who comes by %s arrives without.", waysOf(a.bare, false)),
		}
		f.Mend = c.guarding(a.bare)
		c.add(f)
	}
}

// notKnown is what is not written down, for which it cannot be told how a path ends, and the records that stand there.
func notKnown(p *trace.Path) (string, []string) {
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Verdict == flow.Unsettled {
			return s.Why, s.Records
		}
	}
	return "something on the way is not written down.", nil
}

func selectorsOf(list []estate.Selector) string {
	words := make([]string, len(list))
	for i, s := range list {
		words[i] = s.String()
	}
	return joined(words)
}

// waysOf says by which ports, and from where; with how each ends, where that is asked for.
func waysOf(list []broken, ends bool) string {
	var words []string
	for _, b := range list {
		w := fmt.Sprintf("port %s from %s", b.port, b.from)
		switch {
		case ends && b.path.Outcome == flow.Outside:
			w += " leads to somebody else's"
		case ends && b.path.Outcome.Good():
			w += " ends elsewhere than at " + *b.path.Intended
		case ends:
			w += fmt.Sprintf(" ends %s", strings.ReplaceAll(string(b.path.Outcome), "-", " "))
		}
		if !slices.Contains(words, w) {
			words = append(words, w)
		}
	}
	if len(words) > 3 {
		words = append(words[:3:3], fmt.Sprintf("%d more ways", len(words)-3))
	}
	return joined(words)
}

// unmetMend is all that stops the paths of an intent, mended at once; nil where one of them is not known how.
func unmetMend(list []broken) *flow.Mend {
	var out *flow.Mend
	for _, b := range list {
		if len(b.path.Breaks) == 0 {
			return nil
		}
		for _, brk := range b.path.Breaks {
			if brk.Mend.IsEmpty() {
				if brk.Code == "redirect.dead" { // what its target has is the mend
					continue
				}
				return nil
			}
			if out == nil {
				out = &flow.Mend{Remove: slices.Clone(brk.Mend.Remove), Add: slices.Clone(brk.Mend.Add)}
			} else {
				out = joinMends(out, brk.Mend)
			}
		}
	}
	return out
}

// guarding gives the sites that let anybody in the guard that another site of their service has.
func (c *check) guarding(list []broken) *flow.Mend {
	mend := &flow.Mend{Remove: []string{}, Add: []string{}}
	for _, b := range list {
		site := b.path.Site()
		if site == nil {
			return nil
		}
		guard := guardOf(c.m.Service(site.Service))
		if guard == (estate.Guard{}) {
			return nil
		}
		if line := estate.Line(site); !slices.Contains(mend.Remove, line) {
			mend.Remove = append(mend.Remove, line)
			mend.Add = append(mend.Add, estate.Line(estate.With(site, func(n *estate.Site) { n.Guard = guard })))
		}
	}
	return mend
}

func guardOf(s *model.Service) estate.Guard {
	for _, site := range s.Sites {
		if site.Record.Guard != (estate.Guard{}) {
			return site.Record.Guard
		}
	}
	return estate.Guard{}
}

// landings are the listeners to which the ways of an intent come first, or would if nothing before stopped them: what these hand on to is
// not what the intent opens.
func landings(target string, list []broken) []landing {
	out := []landing{{target: target}}
	for _, b := range list {
		for i := range b.path.Steps {
			if s := &b.path.Steps[i]; s.Stage == flow.StageSocket {
				out = union(out, []landing{{s.At, portIn(s.Flow.To), target}})
				break
			}
		}
	}
	return out
}
