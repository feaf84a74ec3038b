package server

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"testing"
	"time"

	"steady-compass/core/look"
	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

// BenchmarkSeen gives the marks of what was seen of every name of an estate: again with nothing changed, and after an edit that none of them hangs
// on.
func BenchmarkSeen(b *testing.B) {
	for _, names := range []int{1_000, 10_000} {
		text := synth.String(names, 1)
		h := served(b, text)
		t := trace.New(model.Compile(notationtest.Parse(b, text)), day)
		v, err := t.VantageNamed("internet")
		if err != nil {
			b.Fatal(err)
		}
		var lines bytes.Buffer
		n := 0
		for i, name := range t.Names() {
			tg, err := t.ParseTarget(name.Name)
			if err != nil {
				continue
			}
			for _, l := range look.Foresee(t, tg, v) {
				l.At, l.Revision = time.Now().Add(-time.Duration(i)*time.Second), 1
				if err := json.NewEncoder(&lines).Encode(l); err != nil {
					b.Fatal(err)
				}
				n++
			}
		}
		if w := call(b, h, "POST", "/api/looks", LooksTaken{Name: "x", Text: lines.String()}); w.Code != http.StatusOK {
			b.Fatal(w.Body)
		}
		seen := func() {
			if w := call(b, h, "GET", "/api/seen?from=internet", nil, "Accept-Encoding", "gzip"); w.Code != http.StatusOK {
				b.Fatal(w.Body)
			}
		}
		seen()
		b.Run(fmt.Sprintf("names=%d/again", names), func(b *testing.B) {
			for b.Loop() {
				seen()
			}
			b.ReportMetric(float64(n), "looks")
		})
		b.Run(fmt.Sprintf("names=%d/findings", names), func(b *testing.B) {
			for b.Loop() {
				if w := call(b, h, "GET", "/api/findings", nil, "Accept-Encoding", "gzip"); w.Code != http.StatusOK {
					b.Fatal(w.Body)
				}
			}
		})
		b.Run(fmt.Sprintf("names=%d/counts", names), func(b *testing.B) {
			for b.Loop() {
				if w := call(b, h, "GET", "/api/counts", nil); w.Code != http.StatusOK {
					b.Fatal(w.Body)
				}
			}
		})
		base := 1
		b.Run(fmt.Sprintf("names=%d/edited", names), func(b *testing.B) {
			for b.Loop() {
				b.StopTimer()
				change := map[string]any{"base": base, "add": []string{fmt.Sprintf("dns bench%d.example A 192.0.2.1", base)}, "remove": []string{}}
				if w := call(b, h, "POST", "/api/change", change); w.Code != http.StatusOK {
					b.Fatal(w.Body)
				}
				base++
				b.StartTimer()
				seen()
			}
		})
	}
}
