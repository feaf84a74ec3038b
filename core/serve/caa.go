package serve

import (
	"slices"
	"strings"

	"github.com/miekg/dns"

	"steady-compass/core/estate"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/names"
)

// Authorized is what the records of a name say of who may issue certificates for it (RFC 8659).
type Authorized struct {
	At      string          // the nearest name upwards that has any; "" where none does: then everybody may
	Records []estate.Record // the set
	Nobody  bool            // it lets nobody issue
}

// AuthorizedFor finds the set of CAA records that counts for a name: its own, by its alias too, else those of the nearest name above (RFC
// 8659 §3). Who it is that issues is not recorded, so all that can be told is whether anybody may.
func (t *Engine) AuthorizedFor(name string, reads *memo.Reads) Authorized {
	base, wild := strings.CutPrefix(name, "*.")
	asker := t.Model.AskerAt(model.Nowhere, model.Internet)
	for at, ok := base, true; ok; at, ok = names.Parent(at) {
		a := t.Model.Names.Ask(at, "CAA", asker)
		reads.Asked(at)
		reads.Asked(a.Chain...)
		if len(a.Values) == 0 || at != base && len(a.Chain) > 1 {
			continue
		}
		out := Authorized{At: at}
		var issue, issueWild []string
		for _, link := range a.Links {
			d, is := link.Record.(*estate.DNS)
			if !is || d.Type != "CAA" {
				continue
			}
			out.Records = append(out.Records, d)
			rr, err := dns.NewRR(". 0 IN CAA " + d.Value)
			if err != nil {
				continue // it is said where it is written
			}
			switch caa := rr.(*dns.CAA); strings.ToLower(caa.Tag) {
			case "issue":
				issue = append(issue, caa.Value)
			case "issuewild":
				issueWild = append(issueWild, caa.Value)
			}
		}
		if wild && len(issueWild) > 0 {
			issue = issueWild
		}
		out.Nobody = len(issue) > 0 && !slices.ContainsFunc(issue, namesSomebody)
		return out
	}
	return Authorized{}
}

// namesSomebody says whether the value of an issue property names an authority: what stands before its parameters (RFC 8659 §4.2).
func namesSomebody(value string) bool {
	authority, _, _ := strings.Cut(value, ";")
	return strings.TrimSpace(authority) != ""
}
