package serve

import (
	"cmp"
	"fmt"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/say"
)

// through is where the flow to a site's backend is made: at the front itself; or, through a tunnel, at the place that dials it, once its
// control way is found to reach the front.
func (s *serving) through(f *Served, place *model.Place, rec *estate.Site) *model.Place {
	if rec.Through == "" {
		return place
	}
	b, inner, outcome := s.t.Dialled(rec.Through, place, f.Reads, checkingOf(&f.Part))
	records := []estate.Record{rec}
	tunnel := s.t.Model.Tunnels[rec.Through]
	if tunnel != nil {
		records = append(records, tunnel)
	}
	step := flow.Step{Stage: flow.StageUpstream, At: place.Name, Verdict: flow.Pass, Ground: flow.Internal, Records: say.Lines(records...)}
	if b == nil {
		step.Why = fmt.Sprintf("Through tunnel %s, which %s dials to %s: the flow is made at %s.", rec.Through, inner.Name, tunnel.To, inner.Name)
		f.Add(step)
		return inner
	}
	b.At, b.Records = place.Name, say.Lines(records...)
	step.Verdict, step.Why = flow.Broken, b.Why
	f.Add(step)
	if f.Stopped == "" {
		f.Inner = outcome
	}
	f.Stop(flow.GatewayError, *b)
	if inner == nil {
		return place
	}
	return inner
}

// Dialled says whether a tunnel's control way, from the place that dials it, arrives at a listener of a front's own place or machine;
// else the break that ends it, and what came of the control flow. inner is the place that dials; nil where that is not recorded.
func (t *Engine) Dialled(name string, front *model.Place, reads *memo.Reads, within *checking) (b *flow.Break, inner *model.Place, outcome flow.Outcome) {
	if tunnel := t.Model.Tunnels[name]; tunnel != nil {
		return t.dialled(tunnel, front, reads, within)
	}
	for _, off := range t.Model.Off {
		tunnel, ok := off.(*estate.Tunnel)
		if !ok || tunnel.Name != name {
			continue
		}
		b, inner, outcome = t.dialled(tunnel, front, reads, within)
		if b == nil {
			b, outcome = closed(name, ""), flow.Refused
			b.Mend = flow.Revive(off)
		} else {
			b.Mend = nil // in force it would be closed as well
		}
		b.Why, b.Key = strings.TrimSpace(fmt.Sprintf("Tunnel %s is recorded, and off. %s", name, b.Why)), flow.RecordCause(estate.Line(off))
		return b, inner, outcome
	}
	return closed(name, "Tunnel %s is not recorded.", name), nil, flow.Refused
}

func closed(name, why string, words ...any) *flow.Break {
	return &flow.Break{Code: "tunnel.closed", Subject: name, Short: "tunnel closed", Records: []string{}, Why: fmt.Sprintf(why, words...)}
}

func (t *Engine) dialled(tunnel *estate.Tunnel, front *model.Place, reads *memo.Reads, within *checking) (b *flow.Break, inner *model.Place, outcome flow.Outcome) {
	name := tunnel.Name
	if inner = t.Model.PlaceNamed(tunnel.From); inner == nil {
		return closed(name, "%s, which dials tunnel %s, is not recorded.", tunnel.From, name), nil, flow.Unroutable
	}
	scheme := "tcp"
	if tunnel.To.UDP {
		scheme = "udp"
	}
	got := t.probe(inner, estate.URL{Scheme: scheme, Endpoint: tunnel.To}, false, name, reads, within)
	switch {
	case got.ok && got.took != nil:
		at := t.Model.Places[got.took.Place]
		if at.ID == front.ID || at.Host == front.Host {
			return nil, inner, ""
		}
		b, outcome = closed(name, "Tunnel %s is dialled to %s, which is %s, and %s hands on through it.", name, tunnel.To, at.Name, front.Name), flow.Refused
	case got.ok:
		b, outcome = closed(name, "Tunnel %s is dialled to %s, which is not ours.", name, tunnel.To), flow.Outside
	default:
		b, outcome = closed(name, "Tunnel %s is not dialled: from %s its control port, %s, ends %s.", name, inner.Name, tunnel.To, outcomeWords(got.outcome)), got.outcome
		if got.brk != nil {
			b.Mend, b.Key = got.brk.Mend, got.cause
			b.Why += " " + got.brk.Why
		}
	}
	b.Key = cmp.Or(b.Key, flow.RecordCause(estate.Line(tunnel)))
	return b, inner, outcome
}
