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
	passed, tie := t.wayBack(stack, src, t.sender(o, l))
	if tie {
		l.walk(Step{Stage: StageRoute, At: stack.Name, Verdict: Unsettled, Ground: Land, Records: []string{}, Why: "The reply may take several ways, and no route says which: not judged yet."})
		if l.stopped == "" {
			l.stopped = Undecided
		}
		return
	}
	met := map[model.PlaceID]bool{}
	for h := l.held; h != nil; h = h.prev {
		met[h.place] = true
	}
	for h := l.held; h != nil; h = h.prev {
		if h.knows && !passed[h.place] {
			t.lose(l, stack, sentence("The reply to %s does not come back by %s, which knows of the flow.", t.replyWord(l), t.m.Places[h.place].Name))
			return
		}
	}
	for id := range passed {
		p := t.m.Places[id]
		if !met[id] && id != stack.ID && p.Router && p.Leg(model.Internet) != nil && l.dst.addr.IsValid() && !netset.GloballyReachable().Contains(l.dst.addr) {
			t.lose(l, stack, sentence("The reply goes out by %s, which did not see the flow and gives it another source.", p.Name))
			return
		}
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

// wayBack lists the machines that a reply passes, from where the flow ended to its source.
func (t *Tracer) wayBack(stack *model.Place, src netip.Addr, sender model.PlaceID) (passed map[model.PlaceID]bool, tie bool) {
	passed = map[model.PlaceID]bool{stack.ID: true}
	at := stack
	if at.IsContainer() {
		for i := range at.Legs {
			if t.m.Networks[at.Legs[i].Net].Set.Contains(src) {
				passed[at.Host] = true // its bridge is the machine's
				return passed, false
			}
		}
		at = t.m.Places[at.Host]
		passed[at.ID] = true
	}
	for range maxHops {
		if at.Owns(src) {
			return passed, false
		}
		hop := t.m.NextHop(at, src)
		switch hop.Kind {
		case model.OnLink:
			passed[hop.Place] = true
			passed[t.m.Places[hop.Place].Host] = true
			return passed, false
		case model.Via:
			at = t.m.Places[hop.Place]
			passed[at.ID] = true
		case model.Tie:
			return passed, true
		default:
			if sender != model.Nowhere {
				passed[sender] = true
			}
			return passed, false
		}
	}
	return passed, false
}
