package trace

import (
	"slices"
	"strings"
	"testing"

	"steady-compass/core/flow"
	"steady-compass/core/notation/notationtest"
)

// TestUnknown: what a line of a filter does is not recorded. Its flows end undecided, and stand apart in what is open; those
// that another line takes first do not.
func TestUnknown(t *testing.T) {
	tr := compiled(t, notationtest.Parse(t, `
network yard 10.0.0.0/24
host box
address box 10.0.0.10 yard
listen box 80,443,8080 as web
filter in on box input otherwise pass
rule in pass 443
rule in unknown 80,443 from 10.0.0.0/25 note "so many a second"
rule in drop 8080
`))
	v, err := tr.VantageNamed("yard")
	if err != nil {
		t.Fatal(err)
	}
	x := tr.Exposure(v)
	var open, dark []string
	for _, o := range x.Open {
		open = append(open, o.Ports+" "+strings.Join(o.Sources.Only, ","))
	}
	for _, d := range x.Undecided {
		dark = append(dark, d.Ports+" "+d.Why)
	}
	if !slices.Equal(open, []string{"80 10.0.0.128/25", "443 "}) {
		t.Errorf("open %v", open)
	}
	if !slices.Equal(dark, []string{"80 What filter in does with 80 to box is not recorded, line 2 of 3."}) {
		t.Errorf("not known %v", dark)
	}
	for from, want := range map[string]flow.Outcome{"10.0.0.5": flow.Undecided, "10.0.0.200": flow.Arrives} {
		v, err := tr.VantageNamed(from)
		if err != nil {
			t.Fatal(err)
		}
		tg, err := tr.ParseTarget("10.0.0.10:80")
		if err != nil {
			t.Fatal(err)
		}
		if r := tr.Trace(tg, v); r.Verdict != want {
			t.Errorf("from %s: %s, want %s", from, r.Verdict, want)
		}
	}
}
