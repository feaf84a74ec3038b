package flow

import (
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/netset"
)

// Delivery is a client's flow on its way to whatever takes it, worked out once for all requests that make it: from one origin to
// one address and port, for one goal.
type Delivery struct {
	Landings []Landing
	Reads    memo.Reads
}

// deliveryKey says which flow it is. The subject of its goal is askedFor.
type deliveryKey struct {
	place model.PlaceID // of the origin
	net   model.NetID
	word  string
	to    Dest
	port  PortKey
	goal  Goal
}

// askedFor is what a finding of a delivery is about: what was asked for, which its steps and breaks learn when they are collected.
const askedFor = "?"

// delivered is a delivery's trail, as one request meets it.
type delivered struct {
	trail   *trail
	name    string // the name asked
	subject string // what findings are about
}

// Delivery follows a flow that nothing came before.
func (t *Engine) Delivery(o Origin, to Dest, port PortKey, g Goal) *Delivery {
	g.Subject = askedFor
	key := deliveryKey{o.Place, o.Net, o.word, to, port, g}
	if known, ok := t.deliveries.Load(key); ok {
		return known.(*Delivery)
	}
	d := &Delivery{}
	w := o.Start(port.Transport, netset.PortsOf(netset.OnePort(port.Port)))
	w.Dst, w.Reads = to, &d.Reads
	d.Landings = t.Deliver(o, w, g)
	if t.delivered.Add(1) <= mostDeliveries {
		t.deliveries.Store(key, d)
	}
	return d
}

// mostDeliveries is how many are kept: more than the names of a large estate make, and fewer than whoever asks for every port could.
const mostDeliveries = 1 << 15

// PortKey is a port of one transport.
type PortKey struct {
	Port      uint16
	Transport netset.Transport
}

// Of are the landings of a delivery as those of one request that makes the flow: with what came before it, and in its own words.
func (d *Delivery) Of(w *Part, subject string) []Landing {
	w.Reads.And(&d.Reads)
	out := make([]Landing, len(d.Landings))
	for i, l := range d.Landings {
		n := 0
		if w.Trail != nil {
			n = w.Trail.n
		}
		if l.Trail != nil {
			l.Trail = &trail{prev: w.Trail, n: n + l.Trail.n, Shared: &delivered{l.Trail, w.Name, subject}}
		} else {
			l.Trail = w.Trail
		}
		cells := *l.Cells
		cells.Answers = w.Cells.Answers
		l.Cells, l.Name, l.Reads = &cells, w.Name, w.Reads
		l.Part.AskedWord, l.Part.AskedAddr, l.AskedIPv6 = w.AskedWord, w.AskedAddr, w.AskedIPv6
		out[i] = l
	}
	return out
}

// IsBegun says whether something came before: a name was resolved, or another flow led here.
func (w *Part) IsBegun() bool { return w.Trail != nil }
