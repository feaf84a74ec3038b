package parallel

import "context"

// Turn is a piece of work that one does after the other, since two at once would only take each other's time.
type Turn chan struct{}

// NewTurn is one that nobody has.
func NewTurn() Turn { return NewTurns(1) }

// NewTurns are so many that may be had at once.
func NewTurns(n int) Turn { return make(Turn, n) }

// Take waits until it is one's turn, as long as the context lasts.
func (t Turn) Take(ctx context.Context) error {
	select {
	case t <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Leave lets the next one on.
func (t Turn) Leave() { <-t }

// ToItsEnd does work that others will want as well: who asked waits for it as long as the context lasts, and it goes on where that ends first. A
// panic in it is the caller's, where that still waits.
func ToItsEnd[T any](ctx context.Context, work func(context.Context) (T, error)) (T, error) {
	type end struct {
		is    T
		err   error
		panic any
	}
	ends := make(chan end, 1)
	go func() {
		var e end
		defer func() {
			if p := recover(); p != nil {
				e.panic = caught(p)
			}
			ends <- e
		}()
		e.is, e.err = work(context.WithoutCancel(ctx))
	}()
	select {
	case e := <-ends:
		if e.panic != nil {
			panic(e.panic)
		}
		return e.is, e.err
	case <-ctx.Done():
		var none T
		return none, ctx.Err()
	}
}
