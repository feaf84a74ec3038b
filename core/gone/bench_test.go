package gone

import (
	"testing"

	"steady-compass/core/notation"
	"steady-compass/core/survey"
	"steady-compass/core/synth"
)

// BenchmarkStandsOn is what a name stands on alone, in an estate of 10,000 names.
func BenchmarkStandsOn(b *testing.B) {
	e, faults := notation.Parse(synth.String(10_000, 1))
	if len(faults) > 0 {
		b.Fatal(faults)
	}
	s := survey.New(e, day)
	for b.Loop() {
		if _, err := StandsOn(b.Context(), s, "n0.l0.example:443", "internet"); err != nil {
			b.Fatal(err)
		}
	}
}
