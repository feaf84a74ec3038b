package change

import (
	"fmt"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/trace"
)

// asker is something of ours that asks for a name by itself: a front for a backend, a balancer for a member, a tunnel for its far end. Some ask
// once, when they start, and keep the answer until they are started anew: no record says which.
type asker struct {
	what   string
	name   string
	places []string // from where it asks
}

// askers are those of an estate.
func askers(e *estate.Estate) (out []asker) {
	places := map[string][]string{}
	for _, l := range of[*estate.Listen](e) {
		if !l.Off && !slices.Contains(places[l.Service], l.Place) {
			places[l.Service] = append(places[l.Service], l.Place)
		}
	}
	add := func(what, name string, off bool, from []string) {
		if !off && strings.Contains(name, ".") && !slices.ContainsFunc(out, func(a asker) bool { return a.what == what && a.name == name }) {
			out = append(out, asker{what, name, from})
		}
	}
	pooled := map[string][]string{} // the places of those who hand to a pool
	for _, s := range of[*estate.Site](e) {
		add(s.Service, s.To.Host, s.Off, places[s.Service])
		if s.Pool != "" && !s.Off {
			pooled[s.Pool] = append(pooled[s.Pool], places[s.Service]...)
		}
	}
	for _, m := range of[*estate.Member](e) {
		add("pool "+m.Pool, m.At.Host, m.Off, pooled[m.Pool])
	}
	for _, t := range of[*estate.Tunnel](e) {
		add("tunnel "+t.Name, t.To.Host, t.Off, []string{t.From})
	}
	return out
}

// owners are the names by whose records it is answered.
func (a *asker) owners(t *trace.Tracer) (out []string) {
	for _, place := range a.places {
		v, err := t.VantageNamed(place)
		if err != nil {
			continue
		}
		for _, typ := range []string{"A", "AAAA"} {
			for _, link := range t.Answer(a.name, typ, v).Links {
				if !slices.Contains(out, link.Owner) {
					out = append(out, link.Owner)
				}
			}
		}
	}
	return out
}

// askedBy are the owners for which something of ours asks, before or after, with who does.
func (x *ends) askedBy() map[string][]string {
	out := map[string][]string{}
	for _, p := range []*point{x.first, x.last} {
		for _, a := range askers(p.estate) {
			says := fmt.Sprintf("%s asks for %s", a.what, a.name)
			for _, owner := range a.owners(p.Tracer) {
				if !slices.Contains(out[owner], says) {
					out[owner] = append(out[owner], says)
				}
			}
		}
	}
	return out
}

// keepers are those who ask for what some edits change.
func (o *order) keepers(edits []int) []string {
	out := []string{}
	for _, i := range edits {
		d, is := o.edits[i].record().(*estate.DNS)
		if !is {
			continue
		}
		for _, says := range o.asked[d.Owner] {
			if !slices.Contains(out, says) {
				out = append(out, says)
			}
		}
	}
	return out
}
