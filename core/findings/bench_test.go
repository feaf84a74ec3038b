package findings

import (
	"fmt"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

func made(b *testing.B, names int) *estate.Estate {
	b.Helper()
	e, faults := notation.Parse(synth.String(names, 1))
	if len(faults) > 0 {
		b.Fatal(faults)
	}
	return e
}

// BenchmarkWhole is a whole analysis: compiled, every name traced, exposure, findings.
func BenchmarkWhole(b *testing.B) {
	for _, names := range []int{100, 1_000, 10_000, 100_000} {
		b.Run(fmt.Sprintf("names=%d", names), func(b *testing.B) {
			e := made(b, names)
			b.ReportMetric(float64(e.Count()), "records")
			b.ReportAllocs()
			for b.Loop() {
				if _, err := Check(b.Context(), trace.New(model.Compile(e), day), day); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(names)/1e3, "µs/name")
		})
	}
}

// BenchmarkOneLine is one changed line to the fresh verdict of the names it touches: here a site's.
func BenchmarkOneLine(b *testing.B) {
	for _, names := range []int{100, 1_000, 10_000} {
		b.Run(fmt.Sprintf("names=%d", names), func(b *testing.B) {
			e := made(b, names)
			before := trace.New(model.Compile(e), day)
			line, _, err := notation.ParseLine("site web0 fresh.l0.example at 443 files")
			if err != nil {
				b.Fatal(err)
			}
			for b.Loop() {
				next, err := e.Apply(estate.Change{Add: []estate.Placed{line}})
				if err != nil {
					b.Fatal(err)
				}
				t := before.After(next)
				v, _ := t.VantageNamed("internet")
				target, _ := t.ParseTarget("fresh.l0.example:443")
				t.Trace(target, v)
			}
		})
	}
}
