package people

import (
	"sync"
	"time"
)

// Tries limits how often somebody may try to get in: so often at once, and then one each while (a token bucket each).
type Tries struct {
	mu    sync.Mutex
	of    map[string]bucket
	burst float64
	every time.Duration
}

type bucket struct {
	left float64
	at   time.Time
}

// mostBuckets is how many who try are told apart; beyond, those are forgotten that are full again.
const mostBuckets = 10_000

// NewTries allows some tries at once, and then one each while, to each who tries.
func NewTries(burst int, every time.Duration) *Tries {
	return &Tries{of: map[string]bucket{}, burst: float64(burst), every: every}
}

// left is how many tries somebody has at a moment.
func (t *Tries) left(who string, now time.Time) float64 {
	b, known := t.of[who]
	if !known {
		return t.burst
	}
	return min(t.burst, b.left+float64(now.Sub(b.at))/float64(t.every))
}

// Take takes a try, before it is known whether it is in vain: so many at once are limited too. Where none is left, it says how long to wait.
func (t *Tries) Take(who string, now time.Time) (wait time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	left := t.left(who, now)
	if left < 1 {
		return max(time.Second, time.Duration((1-left)*float64(t.every)))
	}
	if len(t.of) >= mostBuckets {
		t.forget(now)
	}
	t.of[who] = bucket{left - 1, now}
	return 0
}

// Back gives a try back that was not in vain: many who share an address get in, one after the other.
func (t *Tries) Back(who string, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.of[who] = bucket{min(t.burst, t.left(who, now)+1), now}
}

// Done forgets the tries of somebody who got in.
func (t *Tries) Done(who string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.of, who)
}

func (t *Tries) forget(now time.Time) {
	for who := range t.of {
		if t.left(who, now) >= t.burst {
			delete(t.of, who)
		}
	}
	for who := range t.of { // more who try at once than can be told apart: half of them, whichever
		if len(t.of) < mostBuckets/2 {
			break
		}
		delete(t.of, who)
	}
}
