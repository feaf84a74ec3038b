package trace

import (
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// delivery is a client's flow on its way to whatever takes it, worked out once for all requests that make it: from one origin to
// one address and port, for one goal.
type delivery struct {
	landings []landing
	reads    Reads
}

// deliveryKey says which flow it is. The subject of its goal is askedFor.
type deliveryKey struct {
	place model.PlaceID // of the origin
	net   model.NetID
	word  string
	to    dest
	port  PortKey
	goal  goal
}

// askedFor is what a finding of a delivery is about: what was asked for, which its steps and breaks learn when they are collected.
const askedFor = "?"

// delivered is a delivery's trail, as one request meets it.
type delivered struct {
	trail   *trail
	name    string // the name asked
	subject string // what findings are about
}

// delivery follows a flow that nothing came before.
func (t *Tracer) delivery(o origin, to dest, port PortKey, g goal) *delivery {
	g.subject = askedFor
	key := deliveryKey{o.place, o.net, o.word, to, port, g}
	if known, ok := t.deliveries.Load(key); ok {
		return known.(*delivery)
	}
	d := &delivery{}
	w := o.start(port.Transport, netset.PortsOf(netset.OnePort(port.Port)))
	w.dst, w.reads = to, &d.reads
	d.landings = t.deliver(o, w, g)
	if t.delivered.Add(1) <= mostDeliveries {
		t.deliveries.Store(key, d)
	}
	return d
}

// mostDeliveries is how many are kept: more than the names of a large estate make, and fewer than whoever asks for every port could.
const mostDeliveries = 1 << 15

// delivers follows a request's flow from the address that was answered: one that nothing came before goes as all such do.
func (s *serving) delivers(a *asking, w way) []landing {
	if a.base.trail != nil || w.stopped != "" {
		return s.t.deliver(a.o, w, s.goal)
	}
	d := s.t.delivery(a.o, w.dst, PortKey{a.q.port, a.proto}, s.goal)
	w.reads.And(&d.reads)
	out := make([]landing, len(d.landings))
	for i, l := range d.landings {
		n := 0
		if w.trail != nil {
			n = w.trail.n
		}
		if l.trail != nil {
			l.trail = &trail{prev: w.trail, n: n + l.trail.n, leg: &delivered{l.trail, w.name, s.goal.subject}}
		} else {
			l.trail = w.trail
		}
		cells := *l.cells
		cells.Answers = w.cells.Answers
		l.cells, l.name, l.reads = &cells, w.name, w.reads
		l.way.asked, l.way.askedAddr, l.sixAsked = w.asked, w.askedAddr, w.sixAsked
		out[i] = l
	}
	return out
}
