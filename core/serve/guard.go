package serve

import (
	"cmp"
	"fmt"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/say"
)

// guard asks the sign-in of a site before the request is handed on: a service of ours has to take a flow from the front; one that is a
// text is taken to be there.
func (s *serving) guard(f *Served, place *model.Place, rec *estate.Site) {
	if rec.Guard == (estate.Guard{}) {
		return
	}
	f.Guarded = true
	who := cmp.Or(rec.Guard.Service, rec.Guard.Text)
	step := flow.Step{Stage: flow.StageSite, At: place.Name, Verdict: flow.Assumed, Ground: flow.Internal, Records: say.Lines(rec), Why: fmt.Sprintf("Visitors sign in first, by %s.", who)}
	if rec.Guard.Service == "" || s.probing {
		f.Add(step)
		return
	}
	service := s.t.Model.Services[rec.Guard.Service]
	f.Reads.Service(rec.Guard.Service)
	first := came{outcome: flow.Refused}
	listens := 0
	if service != nil {
		for _, l := range service.Listens {
			at := s.t.Model.PlaceNamed(l.Place)
			if at == nil {
				continue
			}
			got := s.knock(f, place, at, l)
			if got.ok {
				step.Verdict, step.Records = flow.Pass, say.Lines(rec, l)
				f.Add(step)
				return
			}
			if listens++; listens == 1 {
				first = got
			}
		}
	}
	b := flow.Break{Code: "upstream.guard", At: place.Name, Subject: s.goal.Subject, Short: "sign-in cut off", Records: say.Lines(rec)}
	b.Why = fmt.Sprintf("Visitors sign in by %s first, and it is not reached from %s: that ends %s.", who, place.Name, outcomeWords(first.outcome))
	if listens == 0 {
		b.Why = fmt.Sprintf("Visitors sign in by %s first, and nothing listens as it.", who)
		for _, off := range s.t.Model.Off {
			if l, ok := off.(*estate.Listen); ok && l.Service == rec.Guard.Service {
				b.Mend = flow.Revive(off)
				break
			}
		}
	} else if first.brk != nil {
		b.Mend, b.Key = first.brk.Mend, first.cause
		b.Why += " " + first.brk.Why
	}
	step.Verdict, step.Why = flow.Broken, b.Why
	f.Add(step)
	if f.Stopped == "" {
		f.Inner = first.outcome
	}
	f.Stop(flow.GatewayError, b)
}

// knock tries whether a listener takes a flow from a place.
func (s *serving) knock(f *Served, from, at *model.Place, l *estate.Listen) came {
	f.Reads.Place(at.ID)
	f.Reads.Place(at.Host)
	port := uint16(0)
	if r := l.Bind.Set().Ranges(); len(r) > 0 {
		port = r[0].Lo
	}
	u, ok := s.t.urlFrom(from, at, port)
	if !ok {
		for _, a := range at.Attachments { // nothing leads there: say so of its first address
			if len(a.Addrs) > 0 {
				u.Addr = a.Addrs[0]
				break
			}
		}
	}
	if l.Bind.Addr.IsValid() && !l.Bind.Addr.IsUnspecified() && !l.Bind.Addr.IsLoopback() && !at.IsContainer() {
		u.Host, u.Addr = "", l.Bind.Addr
	}
	if u.Host == "" && !u.Addr.IsValid() {
		return came{outcome: flow.Unroutable}
	}
	u.Scheme = "tcp"
	if l.Bind.Transport&netset.TCP == 0 {
		u.Scheme = "udp"
	}
	got := s.t.probe(from, u, false, s.goal.Subject, f.Reads, checkingOf(&f.Part))
	got.ok = got.ok && (got.took == nil || got.took.Record.Service == l.Service)
	return got
}
