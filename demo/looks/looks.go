// Package looks has made-up looks at the demo estate.
package looks

import (
	"strings"
	"time"

	"steady-compass/core/look"
	"steady-compass/core/trace"
)

// Of are made-up looks at the demo estate, taken from the internet and from the yard over the two weeks before a moment: its addresses are
// nobody's, and cannot be looked at. Most see what is recorded; a few do not, as is said beside each.
func Of(t *trace.Tracer, now time.Time, revision int64) []look.Look {
	var out []look.Look
	for i, from := range []string{"internet", "yard"} {
		v, err := t.VantageNamed(from)
		if err != nil {
			continue
		}
		for n, name := range t.Names() {
			if strings.HasPrefix(name.Name, "*") || name.Name == "old.fernmoor.example" {
				continue // nobody can ask for the one, and nobody looked at the other
			}
			tg, err := t.ParseTarget(name.Name)
			if err != nil {
				continue
			}
			at := now.Add(-time.Duration(n*13+i*5+1) * time.Hour).Truncate(time.Second)
			for k, l := range look.Foresee(t, tg, v) {
				l.At, l.Revision, l.Seconds = at.Add(time.Duration(k)*time.Second), revision, float64(n%7)/100+0.008
				if otherwise(&l); l.Came != look.NotLooked {
					out = append(out, l)
				}
			}
		}
	}
	return append(out, opened(t, now, revision)...)
}

// otherwise makes a look see what is not so by the records.
func otherwise(l *look.Look) {
	switch {
	case l.Target == "mail.fernmoor.example A" && l.From == "yard": // a resolver that still has the old answer
		l.Answers, l.Code = []string{"198.51.100.12"}, "NOERROR"
	case l.Target == "fernmoor.example:443" && l.Did == look.TLS && l.From == "internet": // the old certificate, after its renewal
		l.Expires = "2026-12-12"
	case l.Address == "192.0.2.61" && strings.HasSuffix(l.Target, "ridge.fernmoor.example:443") && l.Did == look.Connect: // recorded, and not running
		l.Came, l.Detail = look.Refused, "connection refused"
	case l.Address == "192.0.2.61" && l.Did != look.Connect && strings.Contains(l.Target, "ridge.fernmoor.example") && !strings.HasPrefix(l.Target, "http:"):
		l.Came, l.Why = look.NotLooked, "it did not connect"
	}
}

// opened is a port that answers though no line opens it: asked for by a program, at the router of the ridge.
func opened(t *trace.Tracer, now time.Time, revision int64) []look.Look {
	if t.Model.PlaceNamed("ridge-gate") == nil {
		return nil
	}
	return []look.Look{{
		At: now.Add(-26 * time.Hour).Truncate(time.Second), From: "internet", Target: "ridge.fernmoor.example:51413", Did: look.Connect, Came: look.Arrived, Seconds: 0.034,
		Address: "192.0.2.61", Revision: revision,
	}}
}
