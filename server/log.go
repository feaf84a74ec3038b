package server

import (
	"context"
	"fmt"
	"net/http"

	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/store"
)

type logQuery struct {
	Before int64  `query:"before" doc:"Only changes before this revision"`
	Limit  int    `query:"limit" default:"100" minimum:"1" maximum:"500"`
	Who    string `query:"who" maxLength:"200" doc:"Only changes of whom this is part of the name"`
	Kind   string `query:"kind" maxLength:"40" doc:"Only changes with a line of this kind"`
	Word   string `query:"word" maxLength:"300" doc:"Only changes with a line, or a reason, that this is part of"`
}

func (s *Server) getLog(ctx context.Context, in *logQuery) (*body[[]store.Entry], error) {
	entries, err := s.db.LogOf(ctx, store.LogQuestion{Before: in.Before, Limit: in.Limit, Who: in.Who, Kind: in.Kind, Word: in.Word})
	if err != nil {
		return nil, problem(err)
	}
	return &body[[]store.Entry]{entries}, nil
}

// Between is what an estate came to from one revision to another.
type Between struct {
	From   int64          `json:"from"`
	To     int64          `json:"to"`
	Remove []string       `json:"remove" nullable:"false"`
	Add    []string       `json:"add" nullable:"false" doc:"With their places, where they are ordered"`
	Lines  int            `json:"lines" doc:"How many there are in all"`
	Effect *effect.Effect `json:"effect,omitempty"`
}

// shownBetween is how many lines of a difference are shown that went, and that came.
const shownBetween = 400

type betweenQuery struct {
	From int64 `query:"from" minimum:"0" doc:"The earlier revision; 0 is the empty estate"`
	To   int64 `query:"to" minimum:"0" doc:"The later one; 0 for the one that is in force"`
}

func (s *Server) getBetween(ctx context.Context, in *betweenQuery) (*body[Between], error) {
	now := s.now()
	if in.To == 0 {
		in.To = now.Revision
	}
	if in.From > in.To {
		in.From, in.To = in.To, in.From
	}
	before, err := s.db.At(ctx, in.From)
	if err != nil {
		return nil, noRevision(err)
	}
	after, err := s.db.At(ctx, in.To)
	if err != nil {
		return nil, noRevision(err)
	}
	c := estate.Difference(before, after)
	out := Between{From: in.From, To: in.To, Remove: append([]string{}, c.Remove...), Add: []string{}, Lines: len(c.Remove) + len(c.Add)}
	for _, p := range c.Add {
		out.Add = append(out.Add, p.Line())
	}
	out.Remove, out.Add = out.Remove[:min(len(out.Remove), shownBetween)], out.Add[:min(len(out.Add), shownBetween)]
	last := now.Survey
	if in.To != now.Revision {
		last = now.Draft(after)
	}
	does, err := effect.Soon(ctx, last.Draft(before), last)
	if err != nil {
		return nil, problem(err)
	}
	out.Effect = &does
	return &body[Between]{out}, nil
}

// noRevision is a problem where there is no revision of a number.
func noRevision(err error) error {
	return &Problem{Title: "There is no such revision", Status: http.StatusNotFound, Detail: err.Error()}
}

// asOf is the estate as it was at a revision, looked at as a draft is looked through: it is what the estate would be again.
func (s *Server) asOf(ctx context.Context, revision int64) (store.Draft, *estate.Estate, error) {
	d := store.Draft{ID: -revision, Title: fmt.Sprintf("revision %d", revision), Revision: revision, Edition: 1}
	e, err := s.db.At(ctx, revision)
	if err != nil {
		return d, nil, noRevision(err)
	}
	entries, err := s.db.Log(ctx, revision+1, 1)
	if err == nil && len(entries) > 0 {
		d.At, d.Author, d.Why = entries[0].At, entries[0].Who, entries[0].Why
	}
	return d, e, err
}

// errPast is what is said to who writes into what has been.
var errPast = &Problem{Title: "This is as it was", Status: http.StatusConflict, Detail: "an earlier revision is looked at, and nothing is written into what has been; leave it first"}
