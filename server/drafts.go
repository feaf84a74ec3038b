package server

import (
	"context"
	"errors"
	"net/http"
	"time"

	"steady-compass/core/change"
	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/core/mend"
	"steady-compass/store"
)

// DraftRow is a draft in the list of them.
type DraftRow struct {
	store.Draft
	Lines  int    `json:"lines"`
	Short  string `json:"short" doc:"What it would do, in one line; empty where the estate is large"`
	Cannot string `json:"cannot,omitempty" doc:"Why it cannot be made as the records are now"`
}

// DraftSeen is a draft with what it would do, in the safe order.
type DraftSeen struct {
	DraftRow
	Missing []string       `json:"missing" nullable:"false" doc:"Lines that it takes out and that are not there any more"`
	Effect  *effect.Effect `json:"effect,omitempty"`
	Worse   bool           `json:"worse"`
	Order   *change.Steps  `json:"order,omitempty"`

	Unordered string `json:"unordered,omitempty" doc:"Why it is not put in order"`
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

// drafted is the estate with a draft made; its error is a problem.
func drafted(e *estate.Estate, d *store.Draft) (*estate.Estate, error) {
	q := ChangeQuestion{Remove: d.Remove, Add: d.Add}
	c, err := q.change()
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
	a := s.now()
	out := []DraftRow{}
	for _, d := range all {
		row := DraftRow{Draft: d, Lines: len(d.Remove) + len(d.Add)}
		next, err := drafted(a.Estate, &d)
		switch {
		case err != nil:
			row.Cannot = err.Error()
		case !a.Estate.Large():
			what, err := effect.Of(ctx, a.Survey, a.Draft(next))
			if err != nil {
				return nil, problem(err)
			}
			row.Short = what.Short
		}
		out = append(out, row)
	}
	return &body[[]DraftRow]{out}, nil
}

func (s *Server) getDraft(ctx context.Context, in *draftQuery) (*body[DraftSeen], error) {
	d, err := s.db.Draft(ctx, in.ID)
	if err != nil {
		return nil, noDraft(err)
	}
	a := s.now()
	out := DraftSeen{DraftRow: DraftRow{Draft: d, Lines: len(d.Remove) + len(d.Add)}, Missing: []string{}}
	for _, line := range d.Remove {
		if !a.Estate.Has(line) {
			out.Missing = append(out.Missing, line)
		}
	}
	next, err := drafted(a.Estate, &d)
	if err != nil {
		out.Cannot = err.Error()
		return &body[DraftSeen]{out}, nil
	}
	what, err := effect.Of(ctx, a.Survey, a.Draft(next))
	if err != nil {
		return nil, problem(err)
	}
	out.Effect, out.Short, out.Worse = &what, what.Short, what.Worse()
	st, err := s.state(ctx, a)
	if err != nil {
		return nil, problem(err)
	}
	steps, err := change.Order(ctx, st, next)
	switch {
	case errors.Is(err, change.ErrTooMany):
		out.Unordered = err.Error()
	case err != nil:
		return nil, problem(err)
	default:
		out.Order = &steps
	}
	return &body[DraftSeen]{out}, nil
}

// state is an analysis as a trial begins at it.
func (s *Server) state(ctx context.Context, a *analysis) (mend.State, error) {
	checked, err := a.Check(ctx)
	return mend.State{Tracer: a.Tracer, Checked: checked}, err
}

func (s *Server) postDraft(ctx context.Context, in *body[NewDraft]) (*body[store.Draft], error) {
	q := ChangeQuestion{Remove: in.Body.Remove, Add: in.Body.Add}
	c, err := q.change()
	if err != nil {
		return nil, err
	}
	if c.IsEmpty() {
		return nil, &Problem{Title: "There is nothing in it", Status: http.StatusUnprocessableEntity, Detail: "a draft without a line; expected lines that go or come"}
	}
	if _, err := s.now().Estate.Apply(c); err != nil {
		return nil, problem(err)
	}
	d, err := s.db.AddDraft(ctx, store.Draft{Title: in.Body.Title, Author: who, Why: in.Body.Why, Remove: in.Body.Remove, Add: in.Body.Add})
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
	q := ChangeQuestion{Remove: d.Remove, Add: d.Add}
	c, err := q.change()
	if err != nil {
		return nil, err
	}
	out, err := s.change(ctx, func() (store.Committed, error) {
		return s.db.Commit(ctx, store.Edit{Base: s.db.Current().Revision, Who: who, Why: d.Title, Change: c})
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
	var after *estate.Estate
	out, err := s.change(ctx, func() (store.Committed, error) {
		done, err := s.db.Commit(ctx, store.Edit{Base: in.Body.Base, Who: who, Why: d.Title + ": " + in.Body.Place, Change: c})
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
	return out, noDraft(s.db.SetDraft(ctx, d, store.Done{Place: in.Body.Place, Who: who, At: time.Now(), Revision: out.Body.Revision}))
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
	a := s.now()
	st, err := s.state(ctx, a)
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
