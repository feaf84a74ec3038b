package mend

import (
	"testing"

	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/notation"
	"steady-compass/demo"
)

// TestDemoMended mends the demo's planted faults one after another, each by what is offered first for it: at the end no error is left but
// what only the world can end, and no name is not known.
func TestDemoMended(t *testing.T) {
	s := looked(t, demo.Estate)
	var stuck map[string]bool
	for step := 0; ; step++ {
		if step > 60 {
			t.Fatal("mending never ends")
		}
		stuck = map[string]bool{}
		causes, _ := s.Checked.Causes()
		var next *flow.Mend
		with := []*flow.Mend{}
		for _, c := range causes {
			f := s.Checked.Findings[c.Head]
			if f.Level != findings.Error {
				continue
			}
			offers, own, err := s.Offers(t.Context(), For(f), s.Deciding(f))
			if err != nil {
				t.Fatal(err)
			}
			switch {
			case own != nil && own.Holds():
				next, with = own.Mend, own.With
			case len(offers) > 0:
				next, with = offers[0].Mend, offers[0].With
			default:
				stuck[f.Code+" "+f.Subject] = true
				continue
			}
			t.Logf("%s %s: %v", f.Code, f.Subject, next)
			break
		}
		if next == nil {
			break
		}
		e := s.Tracer.Model.Estate
		for _, m := range append([]*flow.Mend{next}, with...) {
			var err error
			if e, err = attempt(e, m); err != nil {
				t.Fatal(err)
			}
		}
		s = looked(t, notation.Print(e))
	}
	for what := range stuck {
		t.Errorf("no mend holds for %s", what)
	}
}
