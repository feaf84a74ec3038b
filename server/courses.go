package server

import (
	"context"
	"net/http"

	"steady-compass/core/courses"
)

type coursesQuery struct {
	From    string   `query:"from" default:"internet" maxLength:"300" doc:"The vantage"`
	Fold    string   `query:"fold" enum:"nothing,zone,edge,machine" doc:"What names are drawn together by; whatever reads well where not given"`
	Through []string `query:"through,explode" maxItems:"16" maxLength:"600" doc:"COLUMN:KEY, of what the courses go by; each of several"`
	Like    string   `query:"like" maxLength:"300" doc:"What the names, or anything on their way, have in them"`
}

// getCourses is names drawn through their addresses, edges, machines and fronts to their backends.
func (s *Server) getCourses(ctx context.Context, in *coursesQuery) (*body[courses.Chart], error) {
	a := s.asked(ctx)
	rows, err := a.Names(ctx, in.From)
	if err != nil {
		return nil, problem(err)
	}
	x, err := a.Exposure(in.From)
	if err != nil {
		return nil, problem(err)
	}
	chart, err := courses.Of(rows, x.Open, courses.Question{Fold: courses.Fold(in.Fold), Through: in.Through, Like: in.Like})
	if err != nil {
		return nil, &Problem{Title: "No course goes by that", Status: http.StatusUnprocessableEntity, Detail: err.Error()}
	}
	return &body[courses.Chart]{*chart}, nil
}
