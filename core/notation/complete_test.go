package notation

import (
	"slices"
	"testing"
)

func TestComplete(t *testing.T) {
	e := parse(t, example)
	for _, c := range []struct {
		line string
		want string // a word that must be among them
		not  string // one that must not
	}{
		{"", "forward", ""},
		{"fo", "forward", "host"},
		{"forward ", "meridian", "yard"},
		{"forward me", "meridian", "azimuth"},
		{"forward meridian 80 ", "to", "from"},
		{"forward meridian 80 to 10.0.0.1 ", "hairpin", "to"},
		{"forward meridian 80 to 10.0.0.1 hairpin ", "from", "inside"},
		{"rule edge ", "pass", "meridian"},
		{"rule edge pass 80 from yard,", "perimeter", "front"},
		{"rule edge pass 80 from yard,p", "perimeter", "dock"},
		{"rule edge pass 80 from yard to az", "azimuth", "yard"},
		{"listen azimuth/front 443 as x tls cert ", "star", "front"},
		{"site ", "allsky", "azimuth"},
		{"map azimuth/", "azimuth/front", "azimuth"},
		{"site front sky", "sky.fernmoor.example", "front"},
		{"filter f on azimuth ", "input", "drop"},
		{"dns new.fernmoor.example A ", "203.0.113.20", ""},
		{"forward meridian 443 to ", "10.40.8.10", "203.0.113.20"},
		{"address meridian ", "10.40.0.2", "10.40.0.1"},
		{"address meridian 10.40.0.2 ", "internet", ""},
		{"map azimuth/allsky ", "3000", "8080"},
		{"map azimuth/allsky 9000 to ", "3000", "443"},
		{"site front a.example to ", "http://allsky:3000", "http://azimuth:3000"},
		{"rule edge pass 80 from ", "internet", "nobody"},
		{"rule edge pass 80 from ", "any", ""},
		{"intend a.example 443 for ", "internet", "any"},
		{"intend a.example 443 for internet reaching ", "azimuth/allsky:3000", ""},
		{"member p ", "azimuth/allsky:3000", ""},
		{"route azimuth default via ", "10.40.8.1", "10.40.8.10"},
		{"accept path.blo", "path.blocked", ""},
		{"rule edge pass 80 from perimetr", "perimeter", ""}, // a slip
		{"listen azimuth/frnot", "azimuth/front", ""},
	} {
		got := Complete(c.line, len(c.line), e)
		has := func(text string) bool {
			return slices.ContainsFunc(got.Words, func(s Suggestion) bool { return s.Text == text })
		}
		if !has(c.want) || c.not != "" && has(c.not) {
			t.Errorf("%q: %+v; want %q, not %q", c.line, got, c.want, c.not)
		}
	}
}
