package effect

import (
	"cmp"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/trace"
)

// OldAnswer is how long an answer that changed may still be seen as it was.
type OldAnswer struct {
	Name    string         `json:"name"`
	Type    string         `json:"type"`
	Seconds estate.Seconds `json:"seconds"`
	Missing bool           `json:"missing" doc:"What may be seen is that the name, or the type, was not there"`
}

// OldAnswers are the answers that differ between two estates, with how long caches may go on giving the old one: the
// TTL of the record that goes; for one that comes where nothing was, how long that may be remembered (RFC 2308 §5), and
// where a wildcard answered, its TTL.
func OldAnswers(before, after *trace.Tracer) []OldAnswer {
	type key struct{ name, typ string }
	m := before.Model
	internet, err := before.VantageNamed("internet")
	if err != nil {
		return []OldAnswer{}
	}
	gone, come := estate.Changed(m.Estate, after.Model.Estate, estate.KindNamed("dns"))
	was, is := map[string]bool{}, map[string]bool{}
	for _, r := range gone {
		was[estate.Line(r)] = true
	}
	for _, r := range come {
		is[estate.Line(r)] = true
	}
	found := map[key]OldAnswer{}
	note := func(o OldAnswer) {
		if old, ok := found[key{o.Name, o.Type}]; o.Seconds > 0 && (!ok || o.Seconds > old.Seconds) {
			found[key{o.Name, o.Type}] = o
		}
	}
	goes := func(d *estate.DNS) {
		link := names.Link{Owner: d.Owner, Record: d, TTL: d.TTL}
		if zone := m.Names.ZoneOf(d.Owner, m.AskerAt(model.Nowhere, model.Internet)); link.TTL == estate.NotGiven && zone != nil {
			link.TTL = zone.TTL
		}
		if age, known := link.Age(); known {
			note(OldAnswer{d.Owner, d.Type, age, false})
		}
	}
	for _, r := range gone {
		if d := r.(*estate.DNS); !is[estate.Line(r)] && !d.Off {
			goes(d)
		}
	}
	if !estate.Same(m.Estate, after.Model.Estate, "address") { // a record that follows a machine stays as it is, and answers otherwise
		for _, r := range m.Estate.Of(estate.KindNamed("dns")) {
			if d := r.(*estate.DNS); d.Dynamic != "" && !d.Off && (!was[estate.Line(r)] || is[estate.Line(r)]) {
				old, now := before.Answer(d.Owner, d.Type, internet), after.Answer(d.Owner, d.Type, internet)
				if len(old.Values) > 0 && !slices.Equal(slices.Sorted(slices.Values(old.Values)), slices.Sorted(slices.Values(now.Values))) {
					goes(d)
				}
			}
		}
	}
	for _, r := range come {
		d := r.(*estate.DNS)
		if was[estate.Line(r)] || d.Off || strings.HasPrefix(d.Owner, "*.") {
			continue
		}
		a := before.Answer(d.Owner, d.Type, internet)
		switch age, known := a.Age(); {
		case a.Code == names.Outside:
		case len(a.Values) == 0 && a.NegativeKnown:
			note(OldAnswer{d.Owner, d.Type, a.Negative, true})
		case a.Wildcard && known: // until now a wildcard answered
			note(OldAnswer{d.Owner, d.Type, age, false})
		}
	}
	out := []OldAnswer{}
	for _, o := range found {
		out = append(out, o)
	}
	slices.SortFunc(out, func(a, b OldAnswer) int {
		return cmp.Or(-cmp.Compare(a.Seconds, b.Seconds), strings.Compare(a.Name, b.Name), strings.Compare(a.Type, b.Type))
	})
	return out
}
