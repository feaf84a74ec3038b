package look_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/look"
	"steady-compass/core/look/looktest"
	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

// BenchmarkSuspects asks what would explain that the machines behind a name of a large estate are not there, with 300 looks; it says how
// many lines are on the ways of what is asked about.
func BenchmarkSuspects(b *testing.B) {
	for _, names := range []int{1_000, 10_000} {
		const target = "wide.l0.example"
		text := synth.String(names, 1) + "site web0 " + target + " at 443 to pool wide\ndns " + target + " A 192.0.2.1\npool wide\n"
		var backends []string
		for i := range 11 {
			text += fmt.Sprintf("member wide m0-%d:8000\n", i)
			backends = append(backends, fmt.Sprintf("listen m0-%d 8000 as app", i))
		}
		e := notationtest.Parse(b, text)
		t := trace.New(model.Compile(e), "2026-12-01")
		v, err := t.VantageNamed("internet")
		if err != nil {
			b.Fatal(err)
		}
		faulty, err := e.Apply(estate.Change{Remove: backends})
		if err != nil {
			b.Fatal(err)
		}
		real := t.After(faulty)
		looks := looktest.Seen(real, target, v.Word)
		for _, n := range t.Names() {
			if len(looks) > 300 {
				break
			}
			if !strings.HasPrefix(n.Name, "*") {
				looks = append(looks, looktest.Seen(real, n.Name, v.Word)...)
			}
		}
		b.Run(fmt.Sprintf("names=%d", names), func(b *testing.B) {
			for b.Loop() {
				got, err := look.Suspects(context.Background(), t, target, looks, []string{"internet"})
				if err != nil || len(got.Suspects) == 0 {
					b.Fatal(err, got.None)
				}
			}
			tg, err := t.ParseTarget(target)
			if err != nil {
				b.Fatal(err)
			}
			lines := map[string]bool{}
			for _, p := range t.Trace(tg, v).Paths {
				for i := range p.Steps {
					for _, line := range p.Steps[i].Records {
						lines[line] = true
					}
				}
			}
			b.ReportMetric(float64(len(lines)), "lines")
		})
	}
}
