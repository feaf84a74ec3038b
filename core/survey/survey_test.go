package survey

import (
	"context"
	"errors"
	"testing"
	"time"

	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
)

// TestAskedTooShort: nobody who asks has time for the estate to be looked over. It is all the same, in the end; what is tried and may never be kept
// is not.
func TestAskedTooShort(t *testing.T) {
	e := notationtest.Parse(t, synth.String(300, 1))
	s := New(e, day)
	draft := s.Draft(notationtest.Edit(t, e, "host one-more"))
	gone, leave := context.WithCancel(t.Context())
	leave()
	if _, err := draft.Check(gone); !errors.Is(err, context.Canceled) || draft.Checked() != nil {
		t.Errorf("a draft that nobody waits for: %v", err)
	}
	rows := func(ctx context.Context) error { _, err := s.Names(ctx, "internet"); return err }
	check := func(ctx context.Context) error { _, err := s.Check(ctx); return err }
	for _, ask := range []func(context.Context) error{rows, check} {
		short := func() error {
			ctx, end := context.WithTimeout(t.Context(), time.Millisecond)
			defer end()
			return ask(ctx)
		}
		for err := short(); err != nil; err = short() {
			if !errors.Is(err, context.DeadlineExceeded) {
				t.Fatal(err)
			}
		}
	}
}
