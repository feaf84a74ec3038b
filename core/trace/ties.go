package trace

import (
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
)

// maxTies is how many ties behind one another are followed by every branch.
const maxTies = 4

// tie is a flow that several routers lead on, where no route says which: a branch by each, all of them undecided. Where
// one of them gets through and breaks nowhere else, a route by it is the mend.
func (r *run) tie(at *model.Place, where string, w way, hop model.Hop) {
	b := Break{Code: "path.tie", Short: "several ways", Why: sentence("%s lead from %s to %s, and no route says which.", r.t.leaderNames(hop.Ties), where, r.destWord(w))}
	if !r.goal.repair || strings.Count(w.via, ",") >= maxTies-1 { // undecided many times over: more branches would not tell more
		w.walk(Step{Stage: StageRoute, At: where, Verdict: Unsettled, Ground: Shallows, Records: lines(hop.Records...), Why: b.Why})
		r.undecided(w)
		return
	}
	var noted []*Break
	var mend *Mend
	for _, by := range hop.Ties {
		p := r.place(by.Place)
		v := w
		v.via = strings.TrimPrefix(v.via+", "+p.Name, ", ")
		v.walk(Step{Stage: StageRoute, At: where, Verdict: Unsettled, Ground: Shallows, Records: lines(hop.Records...), Why: sentence("%s This branch: by %s.", b.Why, p.Name)})
		before := v.trail
		v.stop(Undecided, Break{Code: b.Code, At: where, Short: b.Short, Why: b.Why, Records: lines(hop.Records...), Subject: r.goal.subject})
		if v.trail != before && v.trail.brk != nil {
			noted = append(noted, v.trail.brk)
		}
		marked, first := v.trail, len(r.out)
		r.arrive(p, by.Net, v)
		if mend == nil && at != nil && len(r.out) > first && !slices.ContainsFunc(r.out[first:], func(l landing) bool { return l.sock == nil || l.breaksSince(marked) }) {
			mend = r.t.routeBy(at, w.dst.addr, by)
		}
	}
	for _, brk := range noted {
		brk.Mend = mend
	}
}

// breaksSince says whether a branch has a break after a point of its trail.
func (w *way) breaksSince(mark *trail) bool {
	for t := w.trail; t != nil && t != mark; t = t.prev {
		if t.brk != nil {
			return true
		}
	}
	return false
}

func (t *Tracer) leaderNames(ties []model.Leader) string {
	words := make([]string, len(ties))
	for i, l := range ties {
		words[i] = t.m.Places[l.Place].Name
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

// routeBy is the route that leads a machine's flows to an address by one of its routers; nil where that has no address of
// the family there.
func (t *Tracer) routeBy(at *model.Place, to netip.Addr, by model.Leader) *Mend {
	via, ok := t.m.Places[by.Place].Addr(by.Net, to.Is6())
	if !ok || at.IsContainer() {
		return nil
	}
	route := &estate.Route{Host: at.Name, To: "default", Via: via}
	for _, n := range t.m.Networks[1:] {
		if !n.Container() && n.Set.Contains(to) {
			route.To = t.prefixOf(n.ID, to).String()
			break
		}
	}
	return addLine(route)
}

// prefixOf is the prefix of a network that an address is in; the address itself where it is in none.
func (t *Tracer) prefixOf(net model.NetID, a netip.Addr) netip.Prefix {
	for _, p := range t.m.Networks[net].Prefixes {
		if p.Contains(a) {
			return p
		}
	}
	return netip.PrefixFrom(a, a.BitLen())
}

// tiedReply is a reply that several routers lead back, where no route says which.
func (t *Tracer) tiedReply(l *landing, back wayBack) {
	why := sentence("%s lead the reply to %s on from %s, and no route says which.", t.leaderNames(back.tie.Ties), t.replyWord(l), back.tiedAt.Name)
	l.walk(Step{Stage: StageRoute, At: back.tiedAt.Name, Verdict: Unsettled, Ground: Land, Records: lines(back.tie.Records...), Why: why})
	b := Break{Code: "path.tie", At: back.tiedAt.Name, Why: why, Short: "reply has several ways", Records: lines(back.tie.Records...)}
	for _, by := range back.tie.Ties { // back by where it came from
		if l.via == "" && back.met(by.Place) {
			b.Mend = t.routeBy(back.tiedAt, back.to.set.Of(l.six).Lowest(), by)
			break
		}
	}
	l.stop(Undecided, b)
}

// replyBy leads the reply of a flow back by a machine that knows of it: by looping back what a forward sent inside with its
// source kept, else by a route of the machine that answers, where the asker is in a recorded network.
func (t *Tracer) replyBy(l *landing, stack *model.Place, knows model.PlaceID) *Mend {
	if l.forward != nil && l.forward.Record.Inside {
		return replace(l.forward.Record, func(f *estate.Forward) { f.Inside, f.Hairpin = false, true })
	}
	to := l.src.set.Of(l.six).Lowest()
	if !to.IsValid() || stack.IsContainer() || !t.m.InRecordedNetwork(to) {
		return nil
	}
	if slices.ContainsFunc(stack.Legs, func(leg model.Leg) bool { return t.m.Networks[leg.Net].Set.Contains(to) }) {
		return nil // it is beside the asker: no route comes before that
	}
	for _, leg := range stack.Legs {
		if t.m.Places[knows].Leg(leg.Net) != nil {
			return t.routeBy(stack, to, model.Leader{Net: leg.Net, Place: knows})
		}
	}
	return nil
}

// passReply is the lines that let a reply pass by every stateless filter that does not; nil where one cannot be written.
func (t *Tracer) passReply(back wayBack) *Mend {
	mend := &Mend{Remove: []string{}, Add: []string{}}
	for _, s := range back.stops {
		line, ok := t.replyLine(back, s)
		if !ok {
			return nil
		}
		if !slices.Contains(mend.Add, line) {
			mend.Add = append(mend.Add, line)
		}
	}
	return mend
}

// replyLine is the line of one of them.
func (t *Tracer) replyLine(back wayBack, s replyStop) (string, bool) {
	rec, src, to := s.filter.Record, s.src, s.to
	if !src.addr.IsValid() || to.float != model.Nowhere || rec.DropWins {
		return "", false
	}
	rule := &estate.Rule{
		Filter: rec.Name, Action: "pass", Ports: estate.Ports{Ranges: back.ports.Ranges(), Transport: back.l.proto},
		From: []estate.Selector{{Prefix: netip.PrefixFrom(src.addr, src.addr.BitLen())}},
	}
	word := back.l.src.word
	a, one := to.set.Single()
	switch {
	case one:
		rule.To = []estate.Selector{{Prefix: netip.PrefixFrom(a, a.BitLen())}}
	case word == "internet":
		rule.To = []estate.Selector{{Word: word}}
	case t.m.NetNamed(word) != nil:
		rule.To = []estate.Selector{{Name: word}}
	default:
		return "", false
	}
	if estate.Complete(rule) != nil {
		return "", false
	}
	return estate.LineAt(rule, 1), true
}
