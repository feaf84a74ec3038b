package server

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"time"

	"steady-compass/core/change"
	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/store"
)

// DraftRow is a draft in the list of them.
type DraftRow struct {
	store.Draft
	Lines  int    `json:"lines"`
	Short  string `json:"short" doc:"What it would do, in one line; empty where the estate is large"`
	Next   string `json:"next,omitempty" doc:"The place of its next step, or what it waits for"`
	Cannot string `json:"cannot,omitempty" doc:"Why it cannot be made as the records are now"`
}

// DraftSeen is a draft with what it would do, in the safe order.
type DraftSeen struct {
	DraftRow
	Undo    int            `json:"undo" doc:"How often what was written into it can be taken back"`
	Clashes []Meanwhile    `json:"clashes" nullable:"false"`
	Effect  *effect.Effect `json:"effect,omitempty"`
	Worse   bool           `json:"worse"`
	Order   *change.Steps  `json:"order,omitempty"`

	Until     *time.Time `json:"until,omitempty" doc:"When the wait is over that is the next step"`
	Unordered string     `json:"unordered,omitempty" doc:"Why it is not put in order"`
}

// Meanwhile is a line of a draft that others have changed since: as it was, is now, and is wanted. What the draft would be comes with it.
type Meanwhile struct {
	store.Clash
	Leave change.Lines `json:"leave" doc:"The draft's lines where the line is left as it is now"`
	Want  change.Lines `json:"want" doc:"And where what is wanted comes in its place"`
}

// meanwhile is what became of lines of a draft, with what can be done.
func meanwhile(c estate.Change, clashes []store.Clash) []Meanwhile {
	lines := func(remove func(line string) (string, bool), add func(line string) bool) change.Lines {
		out := change.Lines{Remove: []string{}, Add: []string{}}
		for _, line := range c.Remove {
			if line, stays := remove(line); stays {
				out.Remove = append(out.Remove, line)
			}
		}
		for _, p := range c.Add {
			if add(estate.Line(p.Record)) {
				out.Add = append(out.Add, p.Line())
			}
		}
		return out
	}
	out := []Meanwhile{}
	for _, clash := range clashes {
		out = append(out, Meanwhile{
			Clash: clash,
			Leave: lines(func(line string) (string, bool) { return line, line != clash.Line }, func(line string) bool { return line != clash.Mine }),
			Want: lines(func(line string) (string, bool) {
				if line == clash.Line {
					return clash.Theirs, clash.Theirs != ""
				}
				return line, true
			}, func(string) bool { return true }),
		})
	}
	return out
}

type draftQuery struct {
	ID int64 `path:"id" minimum:"1"`
}

// NewDraft is a change to be kept and not made.
type NewDraft struct {
	Title  string   `json:"title" minLength:"1" maxLength:"200"`
	Why    string   `json:"why,omitempty" maxLength:"1000"`
	Remove []string `json:"remove" nullable:"false"`
	Add    []string `json:"add" nullable:"false"`
}

// StepDone is a step of a draft that somebody has made.
type StepDone struct {
	Base   int64    `json:"base" doc:"The revision that it is made on"`
	Place  string   `json:"place" maxLength:"300"`
	Remove []string `json:"remove" nullable:"false"`
	Add    []string `json:"add" nullable:"false"`
}

type doneQuestion struct {
	ID   int64 `path:"id" minimum:"1"`
	Body StepDone
}

func noDraft(err error) error {
	if errors.Is(err, store.ErrNoDraft) {
		return &Problem{Title: "There is no such draft", Status: http.StatusNotFound, Detail: err.Error()}
	}
	return problem(err)
}

// changeOf are the lines of a draft, read; its error is a problem.
func changeOf(d *store.Draft) (estate.Change, error) {
	q := ChangeQuestion{Remove: d.Remove, Add: d.Add}
	return q.change()
}

// drafted is the estate with a draft made; its error is a problem.
func drafted(e *estate.Estate, d *store.Draft) (*estate.Estate, error) {
	c, err := changeOf(d)
	if err != nil {
		return nil, err
	}
	next, err := e.Apply(c)
	if err != nil {
		return nil, problem(err)
	}
	return next, nil
}

func (s *Server) getDrafts(ctx context.Context, _ *struct{}) (*body[[]DraftRow], error) {
	all, err := s.db.Drafts(ctx)
	if err != nil {
		return nil, problem(err)
	}
	out := []DraftRow{}
	for _, d := range all {
		l, err := s.lens(ctx, d.ID)
		if errors.Is(err, store.ErrNoDraft) { // it is dropped this moment
			continue
		}
		if err != nil {
			return nil, problem(err)
		}
		row := l.row()
		if l.made != nil && !l.on.Estate.Large() {
			what, err := l.effect(ctx)
			if err != nil {
				return nil, problem(err)
			}
			row.Short = what.Short
			steps, err := s.ordered(ctx, l)
			if err != nil && !errors.Is(err, change.ErrTooMany) {
				return nil, problem(err)
			}
			if err == nil && len(steps.Steps.Steps) > 0 {
				row.Next = nextOf(&steps.Steps.Steps[0])
			}
		}
		out = append(out, row)
	}
	return &body[[]DraftRow]{out}, nil
}

// nextOf is a step in a word.
func nextOf(s *change.WorkStep) string {
	if s.Kind == change.Wait {
		return "wait " + s.Seconds.String()
	}
	return s.At
}

func (s *Server) getDraft(ctx context.Context, in *draftQuery) (*body[DraftSeen], error) {
	l, err := s.lens(ctx, in.ID)
	if err != nil {
		return nil, noDraft(err)
	}
	out := DraftSeen{DraftRow: l.row()}
	if _, out.Undo, err = s.db.Amended(ctx, in.ID, ""); err != nil {
		return nil, problem(err)
	}
	c, err := changeOf(&l.draft)
	if err != nil {
		return nil, err
	}
	clashes, err := s.db.Meanwhile(ctx, l.draft, c)
	if err != nil {
		return nil, problem(err)
	}
	out.Clashes = meanwhile(c, clashes)
	if l.made == nil {
		return &body[DraftSeen]{out}, nil
	}
	what, err := l.effect(ctx)
	if err != nil {
		return nil, problem(err)
	}
	out.Effect, out.Short, out.Worse = what, what.Short, what.Worse()
	steps, err := s.ordered(ctx, l)
	switch {
	case errors.Is(err, change.ErrTooMany):
		out.Unordered = err.Error()
	case err != nil:
		return nil, problem(err)
	default:
		out.Order, out.Until = &steps.Steps, steps.next()
	}
	return &body[DraftSeen]{out}, nil
}

// Amendment is a draft as it is to be, of the edition that its maker has seen.
type Amendment struct {
	Edition int64 `json:"edition"`
	NewDraft
}

type amendQuestion struct {
	ID   int64 `path:"id" minimum:"1"`
	Body Amendment
}

// postAmend writes a draft anew. Its lines need not fit what is in force: it may be of lines that went meanwhile.
func (s *Server) postAmend(ctx context.Context, in *amendQuestion) (*body[store.Draft], error) {
	d, err := s.db.Draft(ctx, in.ID)
	if err != nil {
		return nil, noDraft(err)
	}
	d.Edition, d.Title, d.Why, d.Remove, d.Add = in.Body.Edition, in.Body.Title, in.Body.Why, in.Body.Remove, in.Body.Add
	c, err := changeOf(&d)
	if err != nil {
		return nil, err
	}
	if c.IsEmpty() {
		return nil, errNothingInIt
	}
	if d, err = s.db.Amend(ctx, d, ""); err != nil {
		return nil, noDraft(err)
	}
	s.watch.tell(s.db.Current().Revision)
	return &body[store.Draft]{d}, nil
}

var errNothingInIt = &Problem{Title: "There is nothing in it", Status: http.StatusUnprocessableEntity, Detail: "a draft without a line; expected lines that go or come"}

func (s *Server) postDraft(ctx context.Context, in *body[NewDraft]) (*body[store.Draft], error) {
	kept := store.Draft{Title: in.Body.Title, Author: whoOf(ctx), Why: in.Body.Why, Remove: in.Body.Remove, Add: in.Body.Add}
	c, err := changeOf(&kept)
	if err != nil {
		return nil, err
	}
	if c.IsEmpty() {
		return nil, errNothingInIt
	}
	if _, err := s.now().Estate.Apply(c); err != nil {
		return nil, problem(err)
	}
	d, err := s.db.AddDraft(ctx, kept)
	if err != nil {
		return nil, problem(err)
	}
	s.watch.tell(s.db.Current().Revision)
	return &body[store.Draft]{d}, nil
}

func (s *Server) postApply(ctx context.Context, in *draftQuery) (*body[Changed], error) {
	d, err := s.db.Draft(ctx, in.ID)
	if err != nil {
		return nil, noDraft(err)
	}
	c, err := changeOf(&d)
	if err != nil {
		return nil, err
	}
	out, err := s.change(ctx, func() (store.Committed, error) {
		return s.db.Commit(ctx, store.Edit{Base: s.db.Current().Revision, Who: whoOf(ctx), Why: d.Title, Change: c})
	})
	if err != nil {
		return nil, err
	}
	return out, noDraft(s.db.DropDraft(ctx, d.ID))
}

// postDone makes a step of a draft, and leaves in the draft what is left of it.
func (s *Server) postDone(ctx context.Context, in *doneQuestion) (*body[Changed], error) {
	d, err := s.db.Draft(ctx, in.ID)
	if err != nil {
		return nil, noDraft(err)
	}
	target, err := drafted(s.now().Estate, &d)
	if err != nil {
		return nil, err
	}
	q := ChangeQuestion{Remove: in.Body.Remove, Add: in.Body.Add}
	c, err := q.change()
	if err != nil {
		return nil, err
	}
	if c.IsEmpty() && in.Body.Place == waited {
		return s.waitOver(ctx, d)
	}
	var after *estate.Estate
	out, err := s.change(ctx, func() (store.Committed, error) {
		done, err := s.db.Commit(ctx, store.Edit{Base: in.Body.Base, Who: whoOf(ctx), Why: d.Title + ": " + in.Body.Place, Change: c})
		after = done.After.Estate
		return done, err
	})
	if err != nil {
		return nil, err
	}
	left := change.Left(after, target)
	if len(left.Remove)+len(left.Add) == 0 {
		return out, noDraft(s.db.DropDraft(ctx, d.ID))
	}
	d.Remove, d.Add = left.Remove, left.Add
	return out, noDraft(s.db.Advance(ctx, d, store.Done{Place: in.Body.Place, Who: whoOf(ctx), At: time.Now(), Revision: out.Body.Revision}))
}

// waitOver notes that nobody has an old answer any more: what is changed so far is seen by all.
func (s *Server) waitOver(ctx context.Context, d store.Draft) (*body[Changed], error) {
	revision := s.db.Current().Revision
	if err := s.db.Advance(ctx, d, store.Done{Place: waited, Who: whoOf(ctx), At: time.Now(), Revision: revision}); err != nil {
		return nil, noDraft(err)
	}
	s.watch.tell(revision)
	return &body[Changed]{Changed{Revision: revision}}, nil
}

// postAhead lowers for how long answers are kept, so that a later step is waited for less long; the draft goes on from there.
func (s *Server) postAhead(ctx context.Context, in *doneQuestion) (*body[Changed], error) {
	d, err := s.db.Draft(ctx, in.ID)
	if err != nil {
		return nil, noDraft(err)
	}
	q := ChangeQuestion{Remove: in.Body.Remove, Add: in.Body.Add}
	c, err := q.change()
	if err != nil {
		return nil, err
	}
	if len(q.Remove) != len(q.Add) || c.IsEmpty() {
		return nil, &Problem{Title: "These are not the lines", Status: http.StatusUnprocessableEntity, Detail: "expected each line with the one that comes in its place, in turn"}
	}
	out, err := s.change(ctx, func() (store.Committed, error) {
		return s.db.Commit(ctx, store.Edit{Base: in.Body.Base, Who: whoOf(ctx), Why: d.Title + ": " + in.Body.Place, Change: c})
	})
	if err != nil {
		return nil, err
	}
	for i, line := range q.Remove {
		if at := slices.Index(d.Remove, line); at >= 0 {
			d.Remove[at] = q.Add[i]
		}
	}
	return out, noDraft(s.db.Advance(ctx, d, store.Done{Place: in.Body.Place, Who: whoOf(ctx), At: time.Now(), Revision: out.Body.Revision}))
}

func (s *Server) postDrop(ctx context.Context, in *draftQuery) (*none, error) {
	if err := s.db.DropDraft(ctx, in.ID); err != nil {
		return nil, noDraft(err)
	}
	s.watch.tell(s.db.Current().Revision)
	return &none{}, nil
}

// Wanted is what is to be published or retired, in a sentence.
type Wanted struct {
	Sentence string `json:"sentence" maxLength:"2000" doc:"publish NAME[:PORTS] to PLACE[:PORT] for AUDIENCE,…; or retire WORD"`
}

func (s *Server) postPlans(ctx context.Context, in *body[Wanted]) (*body[change.Proposals], error) {
	a := s.asked(ctx)
	st, err := a.state(ctx)
	if err != nil {
		return nil, problem(err)
	}
	plans, err := change.Said(ctx, st, in.Body.Sentence)
	var unclear *change.Unclear
	if errors.As(err, &unclear) {
		return nil, &Problem{Title: "That is not understood", Status: http.StatusUnprocessableEntity, Detail: unclear.What}
	}
	if err != nil {
		return nil, problem(err)
	}
	return s.withEffects(ctx, a, plans)
}

// withEffects says of each plan what it does.
func (s *Server) withEffects(ctx context.Context, a *analysis, plans change.Proposals) (*body[change.Proposals], error) {
	for i := range plans.Plans {
		p := &plans.Plans[i]
		next, err := drafted(a.Estate, &store.Draft{Remove: p.Remove, Add: p.Add})
		if err != nil {
			return nil, err
		}
		what, err := effect.Of(ctx, a.Survey, a.Draft(next))
		if err != nil {
			return nil, problem(err)
		}
		p.Effect = &what
	}
	return &body[change.Proposals]{plans}, nil
}
