package mend

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

var judgedEstates = flag.Uint64("mends.estates", 25, "on how many random estates the mends are judged")

// TestRandomMends tries the mends of random estates with random intents, and judges each that holds by a check made anew, on the
// estate as it is once the mends are made: the finding is gone, every intent that was met still is, and no error has come.
func TestRandomMends(t *testing.T) {
	tried, held := 0, 0
	reasons := map[string]int{}
	for seed := uint64(1); seed <= *judgedEstates; seed++ {
		r := rand.New(rand.NewPCG(seed, 21))
		pick := func(words ...string) string { return words[r.IntN(len(words))] }
		text := synth.Crossing(r)
		for range 4 {
			q := synth.Ask(r)
			text += fmt.Sprintf("\nintend %s %d for %s", q.To, q.Port, pick("internet", "lan", "link", "far", "nobody"))
		}
		for range 2 {
			text += fmt.Sprintf("\nintend %s %d for %s", pick("box", "plain", "deep", "edge", "box/one"), 1+r.IntN(13), pick("internet", "lan", "link", "far", "nobody"))
		}
		s := looked(t, text)
		before := anew(t, s.Tracer.Model.Estate)
		for _, f := range s.Checked.Findings {
			if f.Mend.IsEmpty() {
				continue
			}
			tried++
			got, err := s.Try(t.Context(), For(f))
			if err != nil {
				continue // it cannot be made, and is not offered
			}
			if !got.Holds() {
				reasons[strings.Join(strings.Fields(got.Against[0])[:2], " ")]++
				continue
			}
			held++
			s.judge(t, fmt.Sprintf("seed %d", seed), f, &got, before)
		}
	}
	t.Logf("%d of %d hold; against the others: %v", held, tried, reasons)
	if tried < 100 || held < 50 {
		t.Errorf("only %d of %d hold", held, tried)
	}
}

// judge holds a mend that is offered for a finding against a check made anew of the estate with it: the finding is gone, and no error has come.
func (s State) judge(t *testing.T, where string, f *findings.Finding, offer *Trial, before *findings.Checked) {
	t.Helper()
	e, err := s.Tracer.Model.Estate, error(nil)
	for _, m := range append([]*flow.Mend{offer.Mend}, offer.With...) {
		if e, err = attempt(e, m); err != nil {
			t.Fatalf("%s: %v: %v", where, m, err)
		}
	}
	after := anew(t, Issued(e, s.Tracer.Model.Estate))
	if after.Has(f.Code, f.Subject) {
		t.Errorf("%s: %s %s is still there after %v", where, f.Code, f.Subject, *offer.Mend)
	}
	for _, b := range findings.Ended(after.Report, before.Report) {
		if b.Level == findings.Error && !offer.entails(b) && !comes(b, For(f), false) {
			t.Errorf("%s: the mend of %s %s %v brings %s %s: %s", where, f.Code, f.Subject, *offer.Mend, b.Code, b.Subject, b.Why)
		}
	}
}

// anew is an estate read from its text and looked over from the beginning.
func anew(t *testing.T, e *estate.Estate) *findings.Checked {
	t.Helper()
	again, faults := notation.Parse(notation.Print(e))
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	x, err := findings.Check(context.Background(), trace.New(model.Compile(again), day), day)
	if err != nil {
		t.Fatal(err)
	}
	return x
}
