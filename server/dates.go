package server

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"steady-compass/core/change"
	"steady-compass/core/dates"
	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/trace"
	"steady-compass/store"
)

// How far back changes are looked at for answers that caches may still give: no resolver keeps one longer than a week (RFC 8767 §4 advises
// that as the most), and of a history that is changed all the time the newest are enough.
const (
	keptAtMost   = 7 * 24 * time.Hour
	changesAbout = 40
)

// keptAnswers knows what each change did to answers, which does not change any more.
type keptAnswers struct {
	mu sync.Mutex
	of map[int64][]effect.OldAnswer // by revision
}

// KnownOf is what a database knows beside its records: the answers that were changed of late, and that caches may still give as they were, and
// when it was looked from where.
func KnownOf(ctx context.Context, db *store.Store, now time.Time) (dates.Known, error) {
	var k keptAnswers
	return k.known(ctx, db, now)
}

// PastOf is what was changed of late in a database and may still be kept as it was.
func PastOf(ctx context.Context, db *store.Store, now time.Time) (change.Past, error) {
	var k keptAnswers
	past, _, err := k.past(ctx, db, now, 0)
	return past, err
}

func (k *keptAnswers) known(ctx context.Context, db *store.Store, now time.Time) (out dates.Known, err error) {
	if out.Old, err = k.now(ctx, db, now); err != nil {
		return out, err
	}
	out.Looked, err = db.LastLooks(ctx)
	return out, err
}

// changedAnswers is a change that names answer otherwise since.
type changedAnswers struct {
	revision int64
	at       time.Time
	old      []effect.OldAnswer
}

// over is when nobody has an old answer any more.
func (c *changedAnswers) over(o *effect.OldAnswer) time.Time {
	return c.at.Add(time.Duration(o.Seconds) * time.Second)
}

// changes are those of late, the newest first.
func (k *keptAnswers) changes(ctx context.Context, db *store.Store, now time.Time) ([]changedAnswers, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	log, err := db.Log(ctx, 0, changesAbout)
	if err != nil {
		return nil, err
	}
	known := map[int64][]effect.OldAnswer{}
	var out []changedAnswers
	for i := range log {
		entry := &log[i]
		if now.Sub(entry.At) > keptAtMost || !touchesNames(entry) {
			continue
		}
		old, there := k.of[entry.Revision]
		if !there {
			if old, err = answersChangedBy(ctx, db, entry); err != nil {
				return nil, err
			}
		}
		known[entry.Revision] = old
		out = append(out, changedAnswers{entry.Revision, entry.At, old})
	}
	k.of = known
	return out, nil
}

func (k *keptAnswers) now(ctx context.Context, db *store.Store, now time.Time) ([]dates.Kept, error) {
	changes, err := k.changes(ctx, db, now)
	if err != nil {
		return nil, err
	}
	type answer struct{ name, typ string }
	latest := map[answer]dates.Kept{}
	for _, c := range changes {
		for _, o := range c.old {
			until := c.over(&o)
			if key := (answer{o.Name, o.Type}); until.After(now) && until.After(latest[key].Until) {
				latest[key] = dates.Kept{Name: o.Name, Type: o.Type, Missing: o.Missing, Until: until}
			}
		}
	}
	out := []dates.Kept{}
	for _, kept := range latest {
		out = append(out, kept)
	}
	return out, nil
}

// past are the answers that somebody may still have as they were, but for those of changes up to a revision, which are known to be over. It
// holds until the time that is given.
func (k *keptAnswers) past(ctx context.Context, db *store.Store, now time.Time, over int64) (out change.Past, until time.Time, err error) {
	changes, err := k.changes(ctx, db, now)
	if err != nil {
		return out, until, err
	}
	out.Left = map[string]estate.Seconds{}
	oldest := int64(0)
	for _, c := range changes {
		for _, o := range c.old {
			left := c.over(&o).Sub(now)
			if o.Missing || left <= 0 || c.revision <= over {
				continue
			}
			oldest = c.revision // they come the newest first
			out.Left[o.Name] = max(out.Left[o.Name], estate.Seconds((left+time.Second-1)/time.Second))
			if end := c.over(&o); until.IsZero() || end.Before(until) {
				until = end
			}
		}
	}
	if oldest == 0 {
		return out, until, nil
	}
	out.Before, err = db.At(ctx, oldest-1)
	return out, until, err
}

// touchesNames says whether a change has lines by which names answer; one of which not all lines are shown may.
func touchesNames(entry *store.Entry) bool {
	if entry.RemovedCount > len(entry.Removed) || entry.AddedCount > len(entry.Added) {
		return true
	}
	for _, list := range [][]string{entry.Removed, entry.Added} {
		for _, line := range list {
			kind, _, _ := strings.Cut(line, " ")
			if kind == "dns" || kind == "zone" || kind == "address" && strings.Contains(line, " internet") { // records may follow an address

				return true
			}
		}
	}
	return false
}

func answersChangedBy(ctx context.Context, db *store.Store, entry *store.Entry) ([]effect.OldAnswer, error) {
	before, err := db.At(ctx, entry.Revision-1)
	if err != nil {
		return nil, fmt.Errorf("what answered before change %d: %w", entry.Revision, err)
	}
	after, err := db.At(ctx, entry.Revision)
	if err != nil {
		return nil, fmt.Errorf("what answered after change %d: %w", entry.Revision, err)
	}
	day := estate.Date(entry.At.Format(time.DateOnly))
	return effect.OldAnswers(trace.New(model.Compile(before), day), trace.New(model.Compile(after), day)), nil
}

func (s *Server) getDates(ctx context.Context, _ *struct{}) (*body[dates.Calendar], error) {
	calendar, err := s.calendar(ctx)
	if err != nil {
		return nil, err
	}
	return &body[dates.Calendar]{calendar}, nil
}

func (s *Server) calendar(ctx context.Context) (dates.Calendar, error) {
	known, err := s.kept.known(ctx, s.db, time.Now())
	if err != nil {
		return dates.Calendar{}, problem(err)
	}
	calendar, err := dates.Of(ctx, s.asked(ctx).Survey, known)
	if err != nil {
		return dates.Calendar{}, problem(err)
	}
	return calendar, nil
}

// feed is a calendar to subscribe to (RFC 5545 §8.1).
type feed struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

func (s *Server) getFeed(ctx context.Context, _ *struct{}) (*feed, error) {
	calendar, err := s.calendar(ctx)
	if err != nil {
		return nil, err
	}
	name := s.asked(ctx).Estate.Name()
	return &feed{"text/calendar; charset=utf-8", `inline; filename="dates.ics"`, []byte(calendar.Feed(name, time.Now()))}, nil
}
