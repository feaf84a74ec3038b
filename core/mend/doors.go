package mend

import (
	"fmt"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
)

// doors speaks against what a trial opens that no intent covers, and where a machine is administered no more. wider says that
// something opened, entailed or not.
func (s State) doors(after State, out *Trial) (wider bool, err error) {
	end := out.ends()
	for _, net := range s.Tracer.Model.Networks {
		if now := after.Tracer.Model.NetNamed(net.Name); net.Container() || now != nil && now.Container() {
			continue // who is on one of those is recorded
		}
		v, err := s.Tracer.VantageNamed(net.Name)
		if err != nil {
			return wider, err
		}
		w, err := after.Tracer.VantageNamed(net.Name)
		if err != nil {
			continue // the network goes with the mend
		}
		before, now := s.Tracer.ByAddress(v), after.Tracer.ByAddress(w)
		was, is := exposure.Unlike(before, now)
		if len(was)+len(is) == 0 {
			continue
		}
		there, here := exposure.DoorsOf(before), exposure.OpenOf(now)
		for _, o := range exposure.OpenOf(is) {
			if o.Intent == exposure.Declared || there.Cover(o, netset.Addrs{}) {
				continue
			}
			wider = true
			says := fmt.Sprintf("%s:%s on %s to %s", exposure.Bracketed(o.Address), ports(o), o.Place, o.Sources)
			if end(o) {
				out.Opens = append(out.Opens, says)
			} else {
				out.against("It would open %s, which no intent covers.", says)
			}
		}
		for _, o := range exposure.OpenOf(was) {
			if findings.Administration(o) != "" && !reached(o, here) && s.last(after, o) {
				out.against("%s on %s would not be reached any more by anybody, and it is how the machine is administered.", o.Service, o.Place)
			}
		}
	}
	return wider, nil
}

// ends says of a door whether it stands at the very end that a trial's mends write down, a listener or a site, where they let
// nothing else in: then it is open to others since nothing before it was ever recorded to stop them.
func (t *Trial) ends() func(*exposure.Open) bool {
	var ends []estate.Record
	for _, m := range append([]*flow.Mend{t.Mend}, t.With...) {
		for _, line := range m.Add {
			p, _, err := notation.ParseLine(line)
			if err != nil {
				continue
			}
			switch p.Record.(type) {
			case *estate.Listen, *estate.Site, *estate.Container:
				ends = append(ends, p.Record)
			case *estate.Rule, *estate.Forward, *estate.Map, *estate.Filter:
				return func(*exposure.Open) bool { return false }
			}
		}
	}
	return func(o *exposure.Open) bool {
		return slices.ContainsFunc(ends, func(r estate.Record) bool {
			switch r := r.(type) {
			case *estate.Listen:
				return r.Place == o.Place && r.Bind.Set().Contains(o.Port)
			case *estate.Container:
				return r.Name == o.Place
			case *estate.Site:
				return r.Service == o.Service && o.Site != nil && slices.Contains(r.Names, *o.Site)
			}
			return false
		})
	}
}

func reached(o *exposure.Open, now []*exposure.Open) bool {
	return slices.ContainsFunc(now, func(n *exposure.Open) bool { return n.Place == o.Place && n.Service == o.Service })
}

// last says that a service of a machine, which is still recorded, is reached from nowhere after a trial.
func (s State) last(after State, o *exposure.Open) bool {
	m := after.Tracer.Model
	p := m.PlaceNamed(o.Place)
	if p == nil || !slices.ContainsFunc(m.Places[p.Namespace].Sockets, func(k model.Socket) bool { return k.Record.Service == o.Service }) {
		return false
	}
	for _, net := range m.Networks {
		if v, err := after.Tracer.VantageNamed(net.Name); err == nil && reached(o, exposure.OpenOf(after.Tracer.ByAddress(v))) {
			return false
		}
	}
	return true
}

func ports(o *exposure.Open) string {
	if o.Transport == "udp" {
		return o.Ports + "/udp"
	}
	return o.Ports
}
