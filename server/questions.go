package server

import (
	"context"
	"errors"
	"net/http"
	"time"

	"steady-compass/store"
)

func (s *Server) getQuestions(ctx context.Context, _ *none) (*body[[]store.Question], error) {
	list, err := s.db.Questions(ctx)
	if err != nil {
		return nil, problem(err)
	}
	return &body[[]store.Question]{list}, nil
}

// QuestionKept is a question to be kept under a name.
type QuestionKept struct {
	Name    string `json:"name" maxLength:"400"`
	Address string `json:"address" maxLength:"8000" doc:"Of a view, with all that it is set to, as /?show=stops"`
}

func (s *Server) postQuestion(ctx context.Context, in *body[QuestionKept]) (*body[store.Question], error) {
	q := store.Question{Name: in.Body.Name, Address: in.Body.Address, Who: whoOf(ctx), At: time.Now().UTC().Truncate(time.Second)}
	if err := s.db.KeepQuestion(ctx, q); errors.Is(err, store.ErrQuestion) {
		return nil, &Problem{Title: "This cannot be kept", Status: http.StatusUnprocessableEntity, Detail: err.Error()}
	} else if err != nil {
		return nil, problem(err)
	}
	return &body[store.Question]{q}, nil
}

// QuestionNamed is a question by its name.
type QuestionNamed struct {
	Name string `json:"name" maxLength:"400"`
}

func (s *Server) postDropQuestion(ctx context.Context, in *body[QuestionNamed]) (*none, error) {
	there, err := s.db.DropQuestion(ctx, in.Body.Name)
	if err == nil && !there {
		return nil, &Problem{Title: "There is no such question", Status: http.StatusNotFound, Detail: "No question is kept under this name; somebody else may have taken it away."}
	}
	return nil, problem(err)
}
