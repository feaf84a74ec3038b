package people

import (
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// Tries limits how often somebody may try to get in: so often at once, and then one each while.
type Tries struct {
	mu    sync.Mutex
	of    map[string]*limit
	burst int
	every time.Duration
}

type limit struct {
	*rate.Limiter
	last time.Time
}

// mostLimits is how many who try are told apart; beyond, those are forgotten whose limit is over.
const mostLimits = 10_000

// NewTries allows some tries at once, and then one each while, to each who tries.
func NewTries(burst int, every time.Duration) *Tries {
	return &Tries{of: map[string]*limit{}, burst: burst, every: every}
}

// Take takes a try, before it is known whether it is in vain: so many at once are limited too. Where none is left, it says how long to wait.
func (t *Tries) Take(who string, now time.Time) (wait time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	l := t.of[who]
	if l == nil {
		if len(t.of) >= mostLimits {
			t.forget(now)
		}
		l = &limit{Limiter: rate.NewLimiter(rate.Every(t.every), t.burst)}
		t.of[who] = l
	}
	l.last = now
	if l.AllowN(now, 1) {
		return 0
	}
	return max(time.Second, time.Duration((1-l.TokensAt(now))*float64(t.every)))
}

// Done forgets the tries of somebody who got in.
func (t *Tries) Done(who string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.of, who)
}

func (t *Tries) forget(now time.Time) {
	for who, l := range t.of {
		if now.Sub(l.last) > t.every*time.Duration(t.burst) {
			delete(t.of, who)
		}
	}
	for who := range t.of { // more who try at once than can be told apart: any of them
		if len(t.of) < mostLimits {
			break
		}
		delete(t.of, who)
	}
}
