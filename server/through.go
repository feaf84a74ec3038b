package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"steady-compass/core/change"
	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/core/parallel"
	"steady-compass/store"
)

// Looking through a draft: a question that names one is answered as if it were made, and what is written with it goes into the draft.
// Nothing of that is in force.

// throughWord is the word of a question by which it names a draft; 0, as none, is the estate as it is in force.
const throughWord = "draft"

var throughParam = &huma.Param{
	Name: throughWord, In: "query", Schema: &huma.Schema{Type: huma.TypeInteger, Format: "int64"},
	Description: "The draft that is looked through: what is asked is answered as if it were made, what is written goes into it; 0, or none, for what is in force. Less than 0, an earlier revision: what is asked is answered as it was then, and nothing is written",
}

// lens is a draft that is looked through, and the estate with it made.
type lens struct {
	draft  store.Draft
	on     *analysis // what is in force
	made   *analysis // nil where it cannot be made, for the reason in cannot
	cannot error

	working parallel.Turn // of who works out what follows
	does    atomic.Pointer[effect.Effect]
	steps   atomic.Pointer[stepsAt]
}

// stepsAt are steps as they were put in order at a time. Where old answers have a say in them, they hold until one of these ends.
type stepsAt struct {
	change.Steps
	at, until time.Time
}

// next is when the wait is over that is the first of the steps; nil where it is none.
func (s *stepsAt) next() *time.Time {
	if len(s.Steps.Steps) == 0 || s.Steps.Steps[0].Kind != change.Wait {
		return nil
	}
	end := s.at.Add(time.Duration(s.Steps.Steps[0].Seconds) * time.Second)
	return &end
}

// effect is what the draft would do, worked out once.
func (l *lens) effect(ctx context.Context) (*effect.Effect, error) {
	return onceEach(ctx, l.working, &l.does, func() (effect.Effect, error) { return effect.Of(ctx, l.on.Survey, l.made.Survey) })
}

// waited is the place of work of a wait.
const waited = "wait"

// ordered is the safe order of the steps that a draft still has, worked out once for as long as it holds: what is made already may be in
// somebody's cache as it was.
func (s *Server) ordered(ctx context.Context, l *lens) (*stepsAt, error) {
	state, err := l.on.state(ctx)
	if err != nil {
		return nil, err
	}
	return onceEach(ctx, l.working, &l.steps, func() (out stepsAt, err error) {
		over := int64(0)
		for _, d := range l.draft.Done {
			if d.Place == waited {
				over = d.Revision
			}
		}
		out.at = time.Now()
		var past change.Past
		if past, out.until, err = s.kept.past(ctx, s.db, out.at, over); err != nil {
			return out, err
		}
		if len(l.draft.Done) > 0 {
			if past.Begun, err = s.db.At(ctx, l.draft.Done[0].Revision-1); err != nil {
				return out, err
			}
		}
		out.Steps, err = change.Order(ctx, state, l.made.Estate, past)
		return out, err
	})
}

// stale says whether an old answer has ended since the steps were put in order.
func (l *lens) stale() bool {
	steps := l.steps.Load()
	return steps != nil && !steps.until.IsZero() && time.Now().After(steps.until)
}

// onceEach gives what is known, or works it out in its turn.
func onceEach[T any](ctx context.Context, turn parallel.Turn, known *atomic.Pointer[T], work func() (T, error)) (*T, error) {
	if err := turn.Take(ctx); err != nil {
		return nil, err
	}
	defer turn.Leave()
	if got := known.Load(); got != nil {
		return got, nil
	}
	got, err := work()
	if err != nil {
		return nil, err
	}
	known.Store(&got)
	return &got, nil
}

func (l *lens) row() DraftRow {
	out := DraftRow{Draft: l.draft, Lines: len(l.draft.Remove) + len(l.draft.Add)}
	if l.cannot != nil {
		out.Cannot = l.cannot.Error()
	}
	return out
}

// lenses are those that are at hand, by draft.
type lenses struct {
	mu sync.Mutex
	of map[int64]*lens
}

// at is the one of a draft, or of an earlier revision; nil where there is none at hand.
func (all *lenses) at(id int64) *lens {
	all.mu.Lock()
	defer all.mu.Unlock()
	return all.of[id]
}

// mostLenses is how many are kept.
const mostLenses = 16

type lensKey struct{}

// asked is the estate that a question is of: as it is in force, or as the draft that it names would make it.
func (s *Server) asked(ctx context.Context) *analysis {
	if l := lensOf(ctx); l != nil && l.made != nil {
		return l.made
	}
	return s.now()
}

// lensOf is the draft that a question is asked through; nil where there is none.
func lensOf(ctx context.Context) *lens {
	l, _ := ctx.Value(lensKey{}).(*lens)
	return l
}

// through gives a question the draft that it names.
func (s *Server) through(ctx context.Context, word string) (context.Context, error) {
	if word == "" || word == "0" {
		return ctx, nil
	}
	id, err := strconv.ParseInt(word, 10, 64)
	if err != nil {
		return ctx, &Problem{Title: "There is no such draft", Status: http.StatusUnprocessableEntity, Detail: clip(word) + " is no number of a draft; expected one, or 0 for what is in force"}
	}
	l, err := s.lens(ctx, id)
	if err != nil {
		return ctx, noDraft(err)
	}
	return context.WithValue(ctx, lensKey{}, l), nil
}

// lens is a draft made of the estate as it is in force now. It goes on from how it was looked through last.
func (s *Server) lens(ctx context.Context, id int64) (*lens, error) {
	on := s.now()
	if l := s.lenses.at(id); id < 0 && l != nil && l.on == on { // what has been stays, and is long to go back to
		return l, nil
	}
	var d store.Draft
	var past *estate.Estate
	var err error
	if id < 0 {
		d, past, err = s.asOf(ctx, -id)
	} else {
		d, err = s.db.Draft(ctx, id)
	}
	if err != nil {
		return nil, err
	}
	s.lenses.mu.Lock()
	defer s.lenses.mu.Unlock()
	last := s.lenses.of[id]
	if last != nil && last.on == on && last.draft.Edition == d.Edition && !last.stale() {
		return last, nil
	}
	l := &lens{draft: d, on: on, working: parallel.NewTurn()}
	next := past
	if past == nil {
		next, err = drafted(on.Estate, &d)
	} else {
		c := estate.Difference(on.Estate, past)
		l.draft.Remove = c.Remove
		for _, p := range c.Add {
			l.draft.Add = append(l.draft.Add, p.Line())
		}
	}
	switch {
	case err != nil:
		l.cannot = err
	case last != nil && last.on == on && last.made != nil:
		l.made = last.made.after(store.Snapshot{Estate: next, Revision: on.Revision})
	default:
		l.made = analysisOf(store.Snapshot{Estate: next, Revision: on.Revision}, on.Draft(next))
	}
	for other := range s.lenses.of {
		if len(s.lenses.of) >= mostLenses {
			delete(s.lenses.of, other)
		}
	}
	s.lenses.of[id] = l
	return l, nil
}

// clear refuses a question that is of a draft which cannot be made.
func (l *lens) clear() error {
	if l == nil || l.made != nil {
		return nil
	}
	return &Problem{Title: "This draft cannot be looked through", Status: http.StatusConflict, Detail: l.cannot.Error()}
}

// inForceOnly refuses what a draft has not.
func inForceOnly(ctx context.Context, what string) error {
	if lensOf(ctx) == nil {
		return nil
	}
	return &Problem{Title: "A draft is looked through", Status: http.StatusConflict, Detail: what + " is of what is in force; leave the draft first"}
}

// Through is the draft that is looked through.
type Through struct {
	ID      int64  `json:"id" doc:"Less than 0 of an earlier revision"`
	Title   string `json:"title"`
	At      string `json:"at,omitempty" doc:"When an earlier revision was made"`
	Lines   int    `json:"lines" doc:"of it that are not in force"`
	Edition int64  `json:"edition"`
	Undo    int    `json:"undo" doc:"How often what was written into it can be taken back"`
	Cannot  string `json:"cannot,omitempty" doc:"Why it cannot be made as the records are now"`
}

func (s *Server) throughOf(ctx context.Context) (*Through, error) {
	l := lensOf(ctx)
	if l == nil {
		return nil, nil
	}
	_, undo, err := s.db.Amended(ctx, l.draft.ID, "")
	if err != nil {
		return nil, err
	}
	out := &Through{ID: l.draft.ID, Title: l.draft.Title, Lines: len(l.draft.Remove) + len(l.draft.Add), Edition: l.draft.Edition, Undo: undo}
	if l.cannot != nil {
		out.Cannot = l.cannot.Error()
	}
	if l.draft.ID < 0 && !l.draft.At.IsZero() {
		out.At = l.draft.At.Format(time.RFC3339)
	}
	return out, nil
}

// amend writes into the draft that is looked through, whatever else is written into it meanwhile: the change is made of it as it is by
// then. The estate itself stays as it is.
func (s *Server) amend(ctx context.Context, key string, write func(*lens) (*estate.Estate, error)) (*body[Changed], error) {
	id := lensOf(ctx).draft.ID
	if id < 0 {
		return nil, errPast
	}
	if err := s.keeping.Take(ctx); err != nil {
		return nil, problem(err)
	}
	defer s.keeping.Leave()
	known, _, err := s.db.Amended(ctx, id, key)
	if err != nil {
		return nil, problem(err)
	}
	if known {
		return &body[Changed]{Changed{Revision: s.now().Revision}}, nil
	}
	for {
		l, err := s.lens(ctx, id)
		if err != nil {
			return nil, noDraft(err)
		}
		if err := l.clear(); err != nil {
			return nil, err
		}
		next, err := write(l)
		if err != nil {
			return nil, err
		}
		d := l.draft
		c := estate.Difference(l.on.Estate, next)
		d.Remove, d.Add = amended(l, c)
		if slices.Equal(d.Remove, l.draft.Remove) && slices.Equal(d.Add, l.draft.Add) {
			return nil, problem(fmt.Errorf("%w: the draft says so already", store.ErrNothing))
		}
		_, err = s.db.Amend(ctx, d, key)
		if errors.Is(err, store.ErrDraftMoved) { // by another program
			continue
		}
		if err != nil {
			return nil, noDraft(err)
		}
		return s.amendedTo(ctx, l)
	}
}

// unamend takes back what was written into a draft last.
func (s *Server) unamend(ctx context.Context, was *lens) (*body[Changed], error) {
	if was.draft.ID < 0 {
		return nil, errPast
	}
	if err := s.db.Unamend(ctx, was.draft.ID); err != nil {
		return nil, noDraft(err)
	}
	return s.amendedTo(ctx, was)
}

func (s *Server) postUnamend(ctx context.Context, in *draftQuery) (*body[Changed], error) {
	l, err := s.lens(ctx, in.ID)
	if err != nil {
		return nil, noDraft(err)
	}
	return s.unamend(ctx, l)
}

// amendedTo answers what writing into a draft did, of how it was.
func (s *Server) amendedTo(ctx context.Context, was *lens) (*body[Changed], error) {
	s.watch.tell(s.db.Current().Revision)
	out := Changed{Revision: was.on.Revision}
	l, err := s.lens(ctx, was.draft.ID)
	if err != nil || l.made == nil || was.made == nil {
		return &body[Changed]{out}, noDraft(err)
	}
	what, err := effect.Soon(ctx, was.made.Survey, l.made.Survey)
	if err != nil {
		return nil, problem(err)
	}
	out.Effect = &what
	return &body[Changed]{out}, nil
}

// amended are the lines of a draft that makes a difference: those that it had in the order in which they were written, then what is new.
func amended(l *lens, c estate.Change) (remove, add []string) {
	come := make([]string, len(c.Add))
	for i, p := range c.Add {
		come[i] = p.Line()
	}
	inOrder := func(had, has []string) []string {
		out := []string{}
		left := slices.Clone(has)
		take := func(line string) {
			if i := slices.Index(left, line); i >= 0 {
				out, left = append(out, line), slices.Delete(left, i, i+1)
			}
		}
		for _, line := range had {
			take(line)
		}
		return append(out, left...)
	}
	remove, add = inOrder(l.draft.Remove, c.Remove), inOrder(l.draft.Add, come)
	// The places of lines are counted as they come: another order may mean another estate.
	if again, err := drafted(l.on.Estate, &store.Draft{Remove: remove, Add: add}); err != nil || !sameEstate(again, l.on.Estate, c) {
		return c.Remove, come
	}
	return remove, add
}

// sameEstate says whether an estate is what a change makes of another.
func sameEstate(e, from *estate.Estate, c estate.Change) bool {
	next, err := from.Apply(c)
	return err == nil && estate.Difference(e, next).IsEmpty()
}
