package findings

import (
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
)

// Way is a target as a vantage asks for it, and how that ends.
type Way struct {
	Target  string       `json:"target"`
	From    string       `json:"from"`
	Outcome flow.Outcome `json:"outcome"`
	Why     string       `json:"why,omitempty" doc:"Why it is not trusted"`
}

// ByCertificate are the ways that were walked, by the line of the certificate that whoever asks is shown, past what stops them too; and those
// that are shown none that is for them and good.
func (x *Checked) ByCertificate() (shown map[string][]Way, untrusted []Way) {
	shown = map[string][]Way{}
	type told struct{ line, target, from string }
	known := map[told]bool{}
	add := func(list []Way, line string, w Way) []Way {
		if is := (told{line, w.Target, w.From}); !known[is] {
			known[is] = true
			return append(list, w)
		}
		return list
	}
	for v := range x.walks.all() {
		for i := range v.walks {
			for j := range v.walks[i].paths {
				p := &v.walks[i].paths[j]
				at := slices.IndexFunc(p.Steps, func(s flow.Step) bool { return s.Stage == flow.StageTLS })
				if at < 0 {
					continue
				}
				w := Way{Target: v.walks[i].label, From: v.walks[i].from.Word, Outcome: p.Outcome}
				switch s := &p.Steps[at]; {
				case s.Verdict == flow.Pass && len(s.Records) > 0 && x.isCert(s.Records[0]):
					shown[s.Records[0]] = add(shown[s.Records[0]], s.Records[0], w)
				case s.Verdict == flow.Broken:
					if b := slices.IndexFunc(p.Breaks, func(b flow.Break) bool { return strings.HasPrefix(b.Code, "cert.") }); b >= 0 {
						w.Why = p.Breaks[b].Why
						untrusted = add(untrusted, "", w)
					}
				}
			}
		}
	}
	return shown, untrusted
}

// isCert says whether a line is of a certificate: a listener's stands where what passes is not looked at.
func (x *Checked) isCert(line string) bool { return kindOfLine(line) == estate.KindNamed("cert") }
