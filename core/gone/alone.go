package gone

import (
	"context"
	"slices"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/survey"
	"steady-compass/core/trace"
)

// Standing is what a name stands on, seen from a vantage.
type Standing struct {
	Name    string       `json:"name"`
	From    string       `json:"from"`
	Verdict flow.Outcome `json:"verdict"`
	Alone   []Stand      `json:"alone" nullable:"false" doc:"Without one of these it does not arrive by any way"`
	Spared  []Stand      `json:"spared" nullable:"false" doc:"It goes by these as well, and arrives without any one of them"`
}

// Stand is a part of the estate that a name goes by, and how the name ends without it.
type Stand struct {
	Word  string       `json:"word"`
	Kind  Kind         `json:"kind"`
	After flow.Outcome `json:"after"`
}

// mostTried is how many parts of the estate are taken away, one after the other.
const mostTried = 48

// StandsOn works out what a name stands on alone: one address, one front, one machine, one live member, one network. A name that does not
// arrive stands on nothing.
func StandsOn(ctx context.Context, s *survey.Survey, word, from string) (Standing, error) {
	t := s.Tracer
	out := Standing{Name: word, From: from, Alone: []Stand{}, Spared: []Stand{}}
	target, err := t.ParseTarget(word)
	if err != nil {
		return out, err
	}
	v, err := t.VantageNamed(from)
	if err != nil {
		return out, err
	}
	was := t.Trace(target, v)
	out.From, out.Verdict = v.Word, was.Verdict
	if !arrives(was.Paths) {
		return out, nil
	}
	for _, p := range goneBy(s, was.Paths) {
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		if p.Word == v.Word {
			continue // nobody asks from there
		}
		e, err := t.Model.Estate.Apply(p.change)
		if err != nil {
			continue
		}
		without := t.After(e)
		stand := Stand{Word: p.Word, Kind: p.Kind, After: flow.Unresolved}
		held := false
		if again, err := without.ParseTarget(word); err == nil {
			w, err := without.VantageNamed(from)
			if err != nil {
				continue
			}
			r := without.Trace(again.AsSpokenBy(firstGood(was.Paths)), w)
			stand.After, held = downed(r.Verdict), arrives(r.Paths)
		}
		if held {
			out.Spared = append(out.Spared, stand)
		} else {
			out.Alone = append(out.Alone, stand)
		}
	}
	return out, nil
}

func arrives(paths []trace.Path) bool {
	return slices.ContainsFunc(paths, func(p trace.Path) bool { return p.Outcome.Good() })
}

func firstGood(paths []trace.Path) *trace.Path {
	i := slices.IndexFunc(paths, func(p trace.Path) bool { return p.Outcome.Good() })
	return &paths[i]
}

// goneBy are the parts of an estate that paths which arrive go by: the machines and what is on them in the order in which they are met, then
// addresses, services, certificates and zones.
func goneBy(s *survey.Survey, paths []trace.Path) []*Part {
	m := s.Tracer.Model
	var out []*Part
	seen := map[string]bool{}
	add := func(kind Kind, word string) {
		key := string(kind) + " " + word
		if seen[key] || len(out) >= mostTried {
			return
		}
		seen[key] = true
		if p := find(m.Estate, word, kind); p != nil {
			out = append(out, p)
		}
	}
	decided := map[string]bool{}
	machines := map[model.NetID][]string{} // of those on the way, who is on each network
	for i := range paths {
		p := &paths[i]
		if !p.Outcome.Good() {
			continue
		}
		for j := range p.Steps {
			for _, line := range p.Steps[j].Records {
				decided[line] = true
			}
			place := m.PlaceNamed(p.Steps[j].At)
			if place == nil {
				continue
			}
			host := m.Places[place.Host]
			add(Host, host.Name)
			if place.IsContainer() {
				add(Container, place.Name)
			}
			for k := range host.Attachments {
				net := m.Networks[host.Attachments[k].Net]
				if net.ID == model.Internet || net.Container() || slices.Contains(machines[net.ID], host.Name) {
					continue
				}
				if machines[net.ID] = append(machines[net.ID], host.Name); len(machines[net.ID]) > 1 { // they meet there
					add(Network, net.Name)
				}
			}
		}
	}
	for i := range paths {
		if paths[i].Outcome.Good() {
			add(Address, paths[i].Address)
		}
	}
	zones := map[string]bool{}
	for _, r := range m.Estate.Of(estate.KindNamed("zone")) {
		zones[r.(*estate.Zone).Name] = !r.Meta().Off
	}
	for _, kind := range []string{"listen", "cert", "dns"} {
		for _, r := range m.Estate.Of(estate.KindNamed(kind)) {
			if !decided[estate.Line(r)] {
				continue
			}
			switch r := r.(type) {
			case *estate.Listen:
				add(Service, r.Service)
			case *estate.Cert:
				add(Certificate, r.Name)
			case *estate.DNS:
				add(Zone, zoneOf(r.Owner, zones))
			}
		}
	}
	return out
}
