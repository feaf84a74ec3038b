package change

import (
	"fmt"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
)

// BenchmarkPublish is a name published in an estate of 10,000; BenchmarkRetire is one retired, and BenchmarkSteps 40 lines put in order.
func BenchmarkPublish(b *testing.B) {
	e := notationtest.Parse(b, synth.String(10000, 1))
	first := looked(b, e)
	for b.Loop() {
		got, err := Publish(b.Context(), first, Wish{Name: "new.l0.example", Place: "m0-7", Port: 8000, Audience: []string{"internet"}})
		if err != nil || len(got.Plans) == 0 {
			b.Fatal(err, got)
		}
	}
}

func BenchmarkRetire(b *testing.B) {
	e := notationtest.Parse(b, synth.String(10000, 1))
	first := looked(b, e)
	for b.Loop() {
		got, err := Retire(b.Context(), first, "n0.l0.example")
		if err != nil || len(got.Plans) == 0 {
			b.Fatal(err, got)
		}
	}
}

func BenchmarkSteps(b *testing.B) {
	e := notationtest.Parse(b, synth.String(10000, 1))
	first := looked(b, e)
	var text strings.Builder
	lines := 0
	for _, d := range of[*estate.DNS](e) {
		if d.Type != "A" || d.Value != "192.0.2.1" || lines == 36 {
			continue
		}
		fmt.Fprintf(&text, "- %s\n+ %s\n", estate.Line(d), estate.Line(estate.With(d, func(n *estate.DNS) { n.Value = "192.0.2.200" })))
		lines += 2
	}
	text.WriteString("+ address gate0 192.0.2.200 internet\n- address gate0 192.0.2.1 internet\n")
	after := changed(b, e, text.String())
	for b.Loop() {
		got, err := Order(b.Context(), first, after, Past{})
		if err != nil || len(got.Steps) == 0 {
			b.Fatal(err, got)
		}
	}
}
