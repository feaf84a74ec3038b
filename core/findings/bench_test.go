package findings

import (
	"fmt"
	"maps"
	"slices"
	"strings"
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

// BenchmarkEdit is one changed line to fresh findings.
func BenchmarkEdit(b *testing.B) {
	lines := map[string]string{ // "- line" goes, another comes
		"rule":    "rule edge0 at 1 drop 443 from internet", // on the way of a hundred names
		"site":    "site web0 fresh.l0.example at 443 files",
		"dns":     "dns n7.l0.example TXT \"here\"",
		"gone":    "- dns n0.l0.example A 192.0.2.1",
		"listen":  "listen m0-3 7777 as app",
		"intend":  "intend n8.l0.example 8443 for internet",
		"forward": "forward gate0 8443 to 10.0.0.130",
		"map":     "map front0/web 8080 to 80",
		"filter":  "filter more on m0-0 input otherwise pass",
		"cert":    "cert own for n0.l0.example expires 2027-06-30 on front0/web",
		"accept":  "accept order.unused f0-0 until 2027-01-01 note \"known\"",
	}
	for _, names := range []int{100, 1_000, 10_000} {
		e := made(b, names)
		before, err := Check(b.Context(), trace.New(model.Compile(e), day), day)
		if err != nil {
			b.Fatal(err)
		}
		for _, kind := range slices.Sorted(maps.Keys(lines)) {
			b.Run(fmt.Sprintf("names=%d/%s", names, kind), func(b *testing.B) {
				text, goes := strings.CutPrefix(lines[kind], "- ")
				line, _, err := notation.ParseLine(text)
				if err != nil {
					b.Fatal(err)
				}
				change := estate.Change{Add: []estate.Placed{line}}
				if goes {
					change = estate.Change{Remove: []string{text}}
				}
				for b.Loop() {
					next, err := e.Apply(change)
					if err != nil {
						b.Fatal(err)
					}
					if _, err := before.After(b.Context(), before.t.After(next)); err != nil {
						b.Fatal(err)
					}
				}
			})
		}
	}
}
