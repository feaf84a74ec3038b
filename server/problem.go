package server

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/trace"
	"steady-compass/store"
)

// Problem is what went wrong (RFC 9457), with what a person needs to set it right.
type Problem struct {
	Title   string              `json:"title"`
	Status  int                 `json:"status"`
	Detail  string              `json:"detail,omitempty"`
	Faults  []*estate.Fault     `json:"faults,omitempty"`  // what is wrong with a text, by line and column
	Clashes []store.Clash       `json:"clashes,omitempty"` // the lines that somebody else has changed meanwhile, both sides of each
	Errors  []*huma.ErrorDetail `json:"errors,omitempty"`
}

func (p *Problem) Error() string  { return p.Title + ": " + p.Detail }
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is that of problem details.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

func init() {
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		p := &Problem{Title: http.StatusText(status), Status: status, Detail: message}
		for _, err := range errs {
			var detail huma.ErrorDetailer
			if errors.As(err, &detail) {
				p.Errors = append(p.Errors, detail.ErrorDetail())
			} else if err != nil {
				p.Errors = append(p.Errors, &huma.ErrorDetail{Message: err.Error()})
			}
		}
		return p
	}
}

// problem makes a Problem of an error.
func problem(err error) error {
	var conflict *store.Conflict
	var said *Problem
	switch {
	case err == nil:
		return nil
	case errors.As(err, &said):
		return said
	case errors.As(err, &conflict):
		return &Problem{Title: "Somebody has changed the same line", Status: http.StatusConflict, Detail: conflict.Error(), Clashes: conflict.Clashes}
	case errors.Is(err, store.ErrReadOnly):
		return &Problem{Title: "This database may only be read", Status: http.StatusForbidden, Detail: err.Error()}
	case errors.Is(err, store.ErrBusy):
		return &Problem{Title: "Another program has the database", Status: http.StatusServiceUnavailable, Detail: err.Error()}
	case errors.Is(err, store.ErrLost):
		return &Problem{Title: "The database file is gone", Status: http.StatusServiceUnavailable, Detail: err.Error()}
	case errors.Is(err, store.ErrMoved):
		return &Problem{Title: "The estate has moved", Status: http.StatusConflict, Detail: err.Error()}
	case errors.Is(err, store.ErrDraftMoved):
		return &Problem{Title: "The draft has moved", Status: http.StatusConflict, Detail: err.Error()}
	case errors.Is(err, store.ErrNothing):
		return &Problem{Title: "There is nothing to do", Status: http.StatusConflict, Detail: err.Error()}
	case errors.Is(err, flow.ErrNoVantage), errors.Is(err, trace.ErrNoTarget):
		return &Problem{Title: "The question cannot be answered", Status: http.StatusUnprocessableEntity, Detail: err.Error()}
	case errors.Is(err, estate.ErrNotThere):
		return &Problem{Title: "The line is not there", Status: http.StatusConflict, Detail: err.Error()}
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled):
		return &Problem{Title: "It took too long", Status: http.StatusServiceUnavailable, Detail: "the answer was not there in time; nothing was changed"}
	}
	return &Problem{Title: "It did not work", Status: http.StatusInternalServerError, Detail: err.Error()}
}

func faultsProblem(faults []*estate.Fault) error {
	return &Problem{Title: "The text has errors, and nothing was changed", Status: http.StatusUnprocessableEntity, Detail: faults[0].Error(), Faults: faults}
}

func problemJSON(c *echo.Context, status int, title, detail string) error {
	body, err := json.Marshal(&Problem{Title: title, Status: status, Detail: detail})
	if err != nil {
		return err
	}
	return c.Blob(status, "application/problem+json", body)
}
