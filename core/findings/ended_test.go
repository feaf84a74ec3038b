package findings

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"

	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
	"steady-compass/demo"
)

// ending is a context that ends once it was asked so many times whether it has.
type ending struct {
	context.Context
	left atomic.Int64
}

func (e *ending) Err() error {
	if e.left.Add(-1) < 0 {
		return context.Canceled
	}
	return nil
}

// TestEndedAnywhere ends a check at every point at which it asks whether it is over: it says so, and nothing goes wrong; let go on, it is whole.
func TestEndedAnywhere(t *testing.T) {
	for _, text := range []string{demo.Estate, synth.String(40, 3)} {
		e := notationtest.Parse(t, text)
		whole := looked(t, e)
		ended := 0
		for asked, step := int64(0), int64(1); ; asked, step = asked+step, step+asked/40 {
			ctx := &ending{Context: context.Background()}
			ctx.left.Store(asked)
			got, err := Check(ctx, trace.New(model.Compile(e), day), day)
			if err == nil {
				if len(got.Findings) != len(whole.Findings) {
					t.Errorf("%d findings of %d", len(got.Findings), len(whole.Findings))
				}
				break
			}
			if ended++; !errors.Is(err, context.Canceled) {
				t.Fatal(err)
			}
		}
		if ended < 20 {
			t.Errorf("ended only %d times", ended)
		}
	}
}
