package flow

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/say"
)

// maxTies is how many ties behind one another are followed by every branch.
const maxTies = 4

// tie is a flow that several routers lead on, where no route says which: a branch by each, all of them undecided. Where
// one of them gets through and breaks nowhere else, a route by it is the mend.
func (r *run) tie(at *model.Place, where string, w Part, hop model.Hop) {
	b := Break{Code: "path.tie", Short: "several ways", Why: fmt.Sprintf("%s lead from %s to %s, and no route says which.", r.t.leaderNames(hop.Ties), where, r.destWord(w))}
	if !r.goal.Diagnose || strings.Count(w.Via, ",") >= maxTies-1 { // undecided many times over: more branches would not tell more
		w.Add(Step{Stage: StageRoute, At: where, Verdict: Unsettled, Ground: Edge, Records: say.Lines(hop.Records...), Why: b.Why})
		r.undecided(w)
		return
	}
	var noted []*Break
	var mend *Mend
	for _, by := range hop.Ties {
		p := r.place(by.Place)
		v := w
		v.Via = strings.TrimPrefix(v.Via+", "+p.Name, ", ")
		v.Add(Step{Stage: StageRoute, At: where, Verdict: Unsettled, Ground: Edge, Records: say.Lines(hop.Records...), Why: fmt.Sprintf("%s This branch: by %s.", b.Why, p.Name)})
		before := v.Trail
		v.Stop(Undecided, Break{Code: b.Code, At: where, Short: b.Short, Why: b.Why, Records: say.Lines(hop.Records...), Subject: r.goal.Subject})
		if v.Trail != before && v.Trail.Break != nil {
			noted = append(noted, v.Trail.Break)
		}
		marked, first := v.Trail, len(r.out)
		r.arrive(p, by.Net, v)
		if mend == nil && at != nil && len(r.out) > first && !slices.ContainsFunc(r.out[first:], func(l Landing) bool { return l.Socket == nil || l.breaksSince(marked) }) {
			mend = r.t.routeBy(at, w.Dst.Addr, by)
		}
	}
	for _, brk := range noted {
		brk.Mend = mend
	}
}

// breaksSince says whether a branch has a break after a point of its trail.
func (w *Part) breaksSince(mark *trail) bool {
	for t := w.Trail; t != nil && t != mark; t = t.prev {
		if t.Break != nil {
			return true
		}
	}
	return false
}

func (t *Engine) leaderNames(ties []model.Leader) string {
	words := make([]string, len(ties))
	for i, l := range ties {
		words[i] = t.Model.Places[l.Place].Name
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

// routeBy is the route that leads a machine's flows to an address by one of its routers; nil where that has no address of
// the family there.
func (t *Engine) routeBy(at *model.Place, to netip.Addr, by model.Leader) *Mend {
	via, ok := t.Model.Places[by.Place].Addr(by.Net, to.Is6())
	if !ok || at.IsContainer() {
		return nil
	}
	route := &estate.Route{Host: at.Name, To: "default", Via: via}
	for _, n := range t.Model.Networks[1:] {
		if !n.Container() && n.Set.Contains(to) {
			route.To = t.PrefixOf(n.ID, to).String()
			break
		}
	}
	return AddLine(route)
}

// PrefixOf is the prefix of a network that an address is in; the address itself where it is in none.
func (t *Engine) PrefixOf(net model.NetID, a netip.Addr) netip.Prefix {
	for _, p := range t.Model.Networks[net].Prefixes {
		if p.Contains(a) {
			return p
		}
	}
	return netip.PrefixFrom(a, a.BitLen())
}

// tiedReply is a reply that several routers lead back, where no route says which.
func (t *Engine) tiedReply(l *Landing, back wayBack) {
	why := fmt.Sprintf("%s lead the reply to %s on from %s, and no route says which.", t.leaderNames(back.tie.Ties), t.replyWord(l), back.tiedAt.Name)
	l.Add(Step{Stage: StageRoute, At: back.tiedAt.Name, Verdict: Unsettled, Ground: Internal, Records: say.Lines(back.tie.Records...), Why: why})
	b := Break{Code: "path.tie", At: back.tiedAt.Name, Why: why, Short: "reply has several ways", Records: say.Lines(back.tie.Records...)}
	for _, by := range back.tie.Ties { // back by where it came from
		if l.Via == "" && back.met(by.Place) {
			b.Mend = t.routeBy(back.tiedAt, back.to.Set.Of(l.IPv6).Lowest(), by)
			break
		}
	}
	l.Stop(Undecided, b)
}

// replyBy leads the reply of a flow back by a machine that knows of it: by looping back what a forward sent inside with its
// source kept, else by a route of the machine that answers, where the asker is in a recorded network.
func (t *Engine) replyBy(l *Landing, namespace *model.Place, knows model.PlaceID) *Mend {
	if l.Forward != nil && l.Forward.Record.Inside {
		return Replace(l.Forward.Record, func(f *estate.Forward) { f.Inside, f.Hairpin = false, true })
	}
	to := l.Src.Set.Of(l.IPv6).Lowest()
	if !to.IsValid() || namespace.IsContainer() || !t.Model.InRecordedNetwork(to) {
		return nil
	}
	if slices.ContainsFunc(namespace.Attachments, func(attachment model.Attachment) bool { return t.Model.Networks[attachment.Net].Set.Contains(to) }) {
		return nil // it is beside the asker: no route comes before that
	}
	for _, attachment := range namespace.Attachments {
		if t.Model.Places[knows].Attachment(attachment.Net) != nil {
			return t.routeBy(namespace, to, model.Leader{Net: attachment.Net, Place: knows})
		}
	}
	return nil
}

// passReply is the lines that let a reply pass by every stateless filter that does not; nil where one cannot be written.
func (t *Engine) passReply(back wayBack) *Mend {
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
func (t *Engine) replyLine(back wayBack, s replyStop) (string, bool) {
	rec, src, to := s.filter.Record, s.src, s.to
	if !src.Addr.IsValid() || to.Float != model.Nowhere || rec.DropWins {
		return "", false
	}
	rule := &estate.Rule{
		Filter: rec.Name, Action: "pass", Ports: estate.Ports{Ranges: back.ports.Ranges(), Transport: back.l.Transport},
		From: []estate.Selector{{Prefix: netip.PrefixFrom(src.Addr, src.Addr.BitLen())}},
	}
	word := back.l.Src.word
	a, one := to.Set.Single()
	switch {
	case one:
		rule.To = []estate.Selector{{Prefix: netip.PrefixFrom(a, a.BitLen())}}
	case word == "internet":
		rule.To = []estate.Selector{{Word: word}}
	case t.Model.NetNamed(word) != nil:
		rule.To = []estate.Selector{{Name: word}}
	default:
		return "", false
	}
	if estate.Complete(rule) != nil {
		return "", false
	}
	return estate.LineAt(rule, 1), true
}
