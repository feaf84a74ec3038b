package server

import (
	"cmp"
	"context"
	"fmt"
	"net/http"

	"steady-compass/core/compare"
	"steady-compass/core/model"
	"steady-compass/core/trace"
)

type compareQuery struct {
	Target    string `query:"target" required:"true" maxLength:"2048"`
	From      string `query:"from" default:"internet" maxLength:"300" doc:"The vantage"`
	Other     string `query:"other" maxLength:"2048" doc:"What it is held against; the same target where not given"`
	OtherFrom string `query:"otherfrom" maxLength:"300" doc:"The vantage of the other; the same where not given"`
	Revision  int64  `query:"revision" minimum:"0" doc:"The other as it was recorded at this revision; as it is now where 0 or not given"`
	With      int64  `query:"with" minimum:"0" doc:"The other as this draft would make it"`
}

// getCompare is two traces side by side: from two vantages, of two targets, or as the records are and as they were.
func (s *Server) getCompare(ctx context.Context, in *compareQuery) (*body[compare.Comparison], error) {
	a := s.asked(ctx)
	left, err := traced(a.Tracer, in.Target, in.From)
	if err != nil {
		return nil, problem(err)
	}
	other := a.Tracer
	if in.Revision > 0 {
		e, err := s.db.At(ctx, in.Revision)
		if err != nil {
			return nil, &Problem{Title: "That revision is not there", Status: http.StatusUnprocessableEntity, Detail: err.Error()}
		}
		other = trace.New(model.Compile(e), a.Day)
	}
	if in.With > 0 {
		l, err := s.lens(ctx, in.With)
		if err != nil {
			return nil, noDraft(err)
		}
		if err := l.clear(); err != nil {
			return nil, err
		}
		other = l.made.Tracer
	}
	right, err := traced(other, cmp.Or(in.Other, in.Target), cmp.Or(in.OtherFrom, in.From))
	switch {
	case err != nil && in.Revision > 0:
		return nil, &Problem{Title: "Nothing to compare with", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("at revision %d: %v", in.Revision, err)}
	case err != nil:
		return nil, problem(err)
	}
	return &body[compare.Comparison]{compare.Of(left, right)}, nil
}
