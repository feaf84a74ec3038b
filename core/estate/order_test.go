package estate_test

import (
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
)

// TestOrderAfterEdits: sites stand in the order in which their services first listen and rules in that of their filters, whatever
// was edited; so what is printed is read back the same.
func TestOrderAfterEdits(t *testing.T) {
	const base = `
host as
host b
filter f on b input otherwise drop
filter g on as input otherwise drop
rule f pass 1
rule f pass 2
rule g pass 3
listen b 1 as two
listen as 2 as one note "known as three"
listen b 3 as four
site two a.example files
site two b.example files
site one c.example files
site three d.example files
`
	for _, c := range []struct{ remove, add, sites, rules string }{
		{"", "listen b 9 as five", "a b c d", "1 2 3"},
		{"", "listen b 9 as three", "a b c d", "1 2 3"},
		{"listen b 1 as two", "", "c a b d", "1 2 3"},
		{"listen as 2 as one note \"known as three\"", "", "a b c d", "1 2 3"},
		{"listen as 2 as one note \"known as three\"", "listen as 2 as three", "a b d c", "1 2 3"},
		{"listen b 1 as two", "listen b 1 as one", "c a b d", "1 2 3"},
		{"listen b 3 as four", "", "a b c d", "1 2 3"},
		{"", "site one e.example files", "a b c e d", "1 2 3"},
		{"", "site four e.example files", "a b c e d", "1 2 3"},
		{"site two a.example files", "", "b c d", "1 2 3"},
		{"", "rule f pass 4", "a b c d", "1 2 4 3"},
		{"", "rule g at 1 pass 4", "a b c d", "1 2 4 3"},
		{"filter f on b input otherwise drop", "", "a b c d", "3 1 2"},
		{"filter f on b input otherwise drop", "filter f on b input otherwise pass", "a b c d", "1 2 3"},
	} {
		e, faults := notation.Parse(base)
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		next := swapped(t, e, c.remove, c.add)
		var sites, rules []string
		for _, r := range next.Of(estate.KindNamed("site")) {
			sites = append(sites, strings.TrimSuffix(r.(*estate.Site).Names[0], ".example"))
		}
		for _, r := range next.Of(estate.KindNamed("rule")) {
			rules = append(rules, r.(*estate.Rule).Ports.String())
		}
		if strings.Join(sites, " ") != c.sites || strings.Join(rules, " ") != c.rules {
			t.Errorf("- %s + %s: sites %q, rules %q; want %s, %s", c.remove, c.add, sites, rules, c.sites, c.rules)
		}
		text := notation.Print(next)
		again, faults := notation.Parse(text)
		if len(faults) > 0 || notation.Print(again) != text {
			t.Errorf("- %s + %s: read back otherwise\n%s", c.remove, c.add, text)
		}
	}
}
