package trace

import (
	"net/netip"

	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// replies judges whether the reply of a landed flow finds its way: it must pass, in reverse, every
// machine that translated the flow or filters it with state, and nobody on its way may give it
// another source.
func (t *Tracer) replies(l *landing, o origin) {
	if l.sock == nil || l.held == nil || l.local || l.imagined {
		return
	}
	for h := l.held; h != nil; h = h.prev {
		if h.stateless {
			l.walk(Step{Stage: StageRoute, At: t.m.Places[h.place].Name, Verdict: Unsettled, Ground: Shallows, Records: []string{}, Why: "A stateless filter must let the reply pass too: not judged yet."})
			if l.stopped == "" {
				l.stopped = Undecided
			}
			return
		}
	}
	src := l.src.set.Lowest()
	if l.src.float != model.Nowhere || !src.IsValid() || l.src.set.Of(l.six).IsEmpty() {
		return
	}
	src = l.src.set.Of(l.six).Lowest()
	stack := t.m.Places[l.stack]
	back := t.wayBack(stack, src, t.sender(o, l), l)
	if back.tie {
		l.walk(Step{Stage: StageRoute, At: stack.Name, Verdict: Unsettled, Ground: Land, Records: []string{}, Why: "The reply may take several ways, and no route says which: not judged yet."})
		if l.stopped == "" {
			l.stopped = Undecided
		}
		return
	}
	for h := l.held; h != nil; h = h.prev {
		if h.knows && !back.passed[h.place] {
			t.lose(l, stack, sentence("The reply to %s does not come back by %s, which knows of the flow.", t.replyWord(l), t.m.Places[h.place].Name))
			return
		}
	}
	if back.astray != nil {
		t.lose(l, stack, sentence("The reply goes out by %s, which did not see the flow and gives it another source.", back.astray.Name))
	}
}

func (t *Tracer) replyWord(l *landing) string {
	if l.src.word != "" {
		return l.src.word
	}
	return l.src.set.Lowest().String()
}

func (t *Tracer) lose(l *landing, stack *model.Place, why string) {
	l.walk(Step{Stage: StageRoute, At: stack.Name, Verdict: Broken, Ground: Land, Records: lines(stack.Record), Why: why})
	l.stop(LostReply, Break{Code: "path.lost-reply", At: stack.Name, Why: why, Short: "reply goes astray", Records: lines(stack.Record)})
}

// sender is the machine that a flow was made at, as its receiver sees it: the vantage's own,
// while nobody has rewritten the source.
func (t *Tracer) sender(o origin, l *landing) model.PlaceID {
	if o.place == model.Nowhere {
		return model.Nowhere
	}
	return t.m.Places[o.place].Host
}

// wayBack is how a reply goes.
type wayBack struct {
	passed map[model.PlaceID]bool
	astray *model.Place // a machine that did not see the flow, and sends its reply out over internet as its own
	tie    bool         // several ways, and nothing says which
}

// wayBack follows a reply from where a flow ended: each machine that rewrote the flow's source gives the reply the old
// one, and sends it on to there.
func (t *Tracer) wayBack(stack *model.Place, to netip.Addr, sender model.PlaceID, l *landing) wayBack {
	b := wayBack{passed: map[model.PlaceID]bool{stack.ID: true}}
	met := map[model.PlaceID]bool{}
	for h := l.held; h != nil; h = h.prev {
		met[h.place] = true
	}
	at := stack
	if at.IsContainer() {
		host := at.Host
		for i := range at.Legs {
			if t.m.Networks[at.Legs[i].Net].Set.Contains(to) && !t.m.Places[host].Owns(to) {
				b.passed[host] = true // its bridge is the machine's
				return b
			}
		}
		at = t.m.Places[host]
		b.passed[at.ID] = true
	}
	left := l.held // the rewritings that are still to be undone
	for range maxHops {
		for h := left; h != nil; h = h.prev {
			if h.place != at.ID || h.gave != to {
				continue
			}
			left = h.prev
			if h.was.float != model.Nowhere {
				b.passed[h.was.float] = true
				return b // a container of the machine
			}
			to = h.was.set.Of(to.Is6()).Lowest()
			break
		}
		if !to.IsValid() || at.Owns(to) {
			return b
		}
		hop := t.m.NextHop(at, to)
		private := l.dst.addr.IsValid() && !netset.GloballyReachable().Contains(l.dst.addr)
		if !met[at.ID] && at.ID != stack.ID && at.Router && hop.Net == model.Internet && private {
			b.astray = at
		}
		switch hop.Kind {
		case model.OnLink:
			at = t.m.Places[hop.Place]
			b.passed[at.ID], b.passed[at.Host] = true, true
			if left == nil || at.IsContainer() {
				return b
			}
		case model.Via:
			at = t.m.Places[hop.Place]
			b.passed[at.ID] = true
		case model.Tie:
			b.tie = true
			return b
		default:
			if sender != model.Nowhere {
				b.passed[sender] = true
			}
			return b
		}
	}
	return b
}
