package change

import (
	"slices"
	"strings"
	"testing"

	"steady-compass/core/notation/notationtest"
)

// yard is a hill on which a front calls its backend by a name of the zone.
var yard = strings.Replace(hill, "to http://azimuth:3000", "to http://app.fernmoor.example:3000", 1) + `
dns app.fernmoor.example A 10.20.8.10
`

// TestWhoAsks: a front that calls its backend by a name is told of where that changes, and keeps the old backend needed as any client does, also
// while those who come to it have the new answer of its own name already.
func TestWhoAsks(t *testing.T) {
	e := notationtest.Parse(t, yard)
	change := `
- listen azimuth 3000 as app
+ listen zenith 3000 as app
- dns app.fernmoor.example A 10.20.8.10
+ dns app.fernmoor.example A 10.20.8.11`
	for name, also := range map[string]string{"the backend moves": "", "and the front's name": strings.ReplaceAll("\n"+pieces[0], "forward meridian at", "forward meridian")} {
		got, err := Order(t.Context(), looked(t, e), changed(t, e, change+also), Past{})
		if err != nil {
			t.Fatal(err)
		}
		if len(got.Gaps) > 0 {
			t.Errorf("%s: %s", name, said(got))
		}
		at := func(line string) int {
			return slices.IndexFunc(got.Steps, func(s WorkStep) bool { return slices.Contains(s.Remove, line) || slices.Contains(s.Add, line) })
		}
		asks := at("dns app.fernmoor.example A 10.20.8.11")
		wait := slices.IndexFunc(got.Steps, func(s WorkStep) bool { return s.Kind == Wait })
		if asks < 0 || wait < asks || at("listen azimuth 3000 as app") < wait {
			t.Errorf("%s: the old backend goes before the old answer: %s", name, said(got))
		}
		if !slices.Contains(got.Steps[asks].Keepers, "front asks for app.fernmoor.example") {
			t.Errorf("%s: %v", name, got.Steps[asks].Keepers)
		}
	}

	e = notationtest.Parse(t, hill) // nothing of ours asks for its names
	got, err := Order(t.Context(), looked(t, e), changed(t, e, pieces[0]), Past{})
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range got.Steps {
		if len(s.Keepers) > 0 {
			t.Errorf("%s: %v", s.At, s.Keepers)
		}
	}
}
