package parallel

import "context"

// Turn is a piece of work that one does after the other, since two at once would only take each other's time.
type Turn chan struct{}

// NewTurn is one that nobody has.
func NewTurn() Turn { return make(Turn, 1) }

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
