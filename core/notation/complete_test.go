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
