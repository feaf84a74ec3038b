package look

import (
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/trace"
)

// Kept is a look that was kept, held against the records as they are now.
type Kept struct {
	Look
	Old bool `json:"old" doc:"It was made before the last change of what it hangs on"`
}

// Fresh are the looks of a list that speak of the records as they are: what was seen before these changed speaks of what was then.
func Fresh(kept []Kept) []Look {
	var out []Look
	for i := range kept {
		if !kept[i].Old {
			out = append(out, kept[i].Look)
		}
	}
	return out
}

// Told is what a look that differs is about: the lines that what was predicted hangs on, the nearest first, and the change of these by which the
// records say what was seen; none where that is not for the records to say, or only the world can tell which line is not so.
type Told struct {
	Records     []string
	Remove, Add []string
}

// Tell says what a look that differs is about.
func Tell(t *trace.Tracer, l *Look) Told {
	v, err := t.VantageNamed(l.From)
	if err != nil {
		return Told{}
	}
	if l.Did == Resolve {
		return tellAnswer(t, v, l)
	}
	var out Told
	a, _ := netip.ParseAddr(l.Address)
	for _, p := range (&bench{t: t}).follow(l.Target, v) {
		if p.Addr() != a {
			continue
		}
		if c := certificateOf(t, &p); c != nil && l.Did == TLS {
			return tellCertificate(c, l)
		}
		if site := p.Site(); site != nil && l.Did == HTTP {
			return tellSite(site, l)
		}
		steps := passed(l, &p)
		if len(p.Breaks) > 0 && !slices.Contains(taken, p.Outcome) {
			steps = steps[:min(p.Breaks[0].Step+1, len(steps))]
		}
		for i := len(steps) - 1; i >= 0; i-- {
			if len(steps[i].Records) > 0 {
				out.Records = append(out.Records, steps[i].Records...)
				break
			}
		}
	}
	slices.Sort(out.Records)
	out.Records = slices.Compact(out.Records)
	return out
}

func swapped(was, is estate.Record) Told {
	line := estate.Line(was)
	out := Told{Records: []string{line}}
	if next := estate.Line(is); next != line {
		out.Remove, out.Add = []string{line}, []string{next}
	}
	return out
}

// tellAnswer brings a name's one record of a type to the one value that was seen; where there are more, or an alias is on the way, it cannot be
// told which of them is not so.
func tellAnswer(t *trace.Tracer, v flow.Vantage, l *Look) Told {
	name, typ, _ := strings.Cut(l.Target, " ")
	var lines []*estate.DNS
	for _, link := range t.Answer(name, typ, v).Links {
		if r, ok := link.Record.(*estate.DNS); ok {
			lines = append(lines, r)
		}
	}
	var out Told
	for _, r := range lines {
		out.Records = append(out.Records, estate.Line(r))
	}
	if len(lines) != 1 || len(l.Answers) != 1 || lines[0].Type != typ || lines[0].Dynamic != "" {
		return out
	}
	return swapped(lines[0], estate.With(lines[0], func(n *estate.DNS) { n.Value = l.Answers[0] }))
}

// tellCertificate brings a certificate to the last day that was seen of it.
func tellCertificate(c *estate.Cert, l *Look) Told {
	if l.Expires == "" || c.Expires == "" || certificateFault(l) != "" {
		return Told{Records: []string{estate.Line(c)}}
	}
	return swapped(c, estate.With(c, func(n *estate.Cert) { n.Expires = estate.Date(l.Expires) }))
}

// tellSite brings a site that sends on to where it was seen to.
func tellSite(s *estate.Site, l *Look) Told {
	if l.Finding == SeenRedirect && !s.Redirect.HTTPS {
		if to, err := estate.ParseURL(estate.Word{Text: l.Location}, 0, l.Location); err == nil && (to.Scheme == "http" || to.Scheme == "https") {
			return swapped(s, estate.With(s, func(n *estate.Site) { n.Redirect.URL = to }))
		}
	}
	return Told{Records: []string{estate.Line(s)}}
}
