package notation_test

import (
	"testing"

	"steady-compass/core/notation"
	"steady-compass/core/synth"
)

// The benchmarks report bytes a second over a made-up estate of about a megabyte.

func BenchmarkParse(b *testing.B) {
	text := synth.String(3_000, 1)
	b.SetBytes(int64(len(text)))
	b.ReportAllocs()
	for b.Loop() {
		if _, faults := notation.Parse(text); len(faults) > 0 {
			b.Fatal(faults)
		}
	}
}

func BenchmarkPrint(b *testing.B) {
	text := synth.String(3_000, 1)
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		b.Fatal(faults)
	}
	b.SetBytes(int64(len(text)))
	b.ReportAllocs()
	for b.Loop() {
		notation.Print(e)
	}
}
