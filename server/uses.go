package server

import (
	"context"
	"fmt"
	"net/http"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
	"steady-compass/core/uses"
)

type usesQuery struct {
	Of string `query:"of" required:"true" maxLength:"300" doc:"An address, a name or a machine"`
}

// Use is a record that uses what is asked for.
type Use struct {
	Record string   `json:"record"`
	How    uses.How `json:"how"`
	Via    string   `json:"via,omitempty"`
}

// UsesAnswer is where something is used.
type UsesAnswer struct {
	Of   string    `json:"of"`
	Kind uses.Kind `json:"kind"`
	Uses []Use     `json:"uses" nullable:"false"`
}

func noWord(word string) error {
	return &Problem{Title: "That is nothing to look for", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("%q is no address, no name, no machine and no port of one", word)}
}

func (s *Server) getUses(ctx context.Context, in *usesQuery) (*body[UsesAnswer], error) {
	x := s.asked(ctx).Uses()
	kind, word, ok := x.KindOf(in.Of)
	if !ok {
		return nil, noWord(in.Of)
	}
	out := UsesAnswer{word, kind, []Use{}}
	for _, u := range x.Find(word) {
		out.Uses = append(out.Uses, Use{estate.Line(u.Record), u.How, u.Via})
	}
	return &body[UsesAnswer]{out}, nil
}

type leadsQuery struct {
	To   string `query:"to" required:"true" maxLength:"300" doc:"A host or container, with a port or not"`
	From string `query:"from" default:"internet" maxLength:"300" doc:"The vantage"`
}

// LeadsAnswer is every way in from a vantage that ends at a place.
type LeadsAnswer struct {
	To   string       `json:"to"`
	From string       `json:"from"`
	Ways []trace.Lead `json:"ways" nullable:"false"`
}

func (s *Server) getLeads(ctx context.Context, in *leadsQuery) (*body[LeadsAnswer], error) {
	t := s.asked(ctx).Tracer
	place, port, err := t.ParseEnd(in.To)
	if err != nil {
		return nil, &Problem{Title: "Nothing can end there", Status: http.StatusUnprocessableEntity, Detail: err.Error()}
	}
	v, err := t.VantageNamed(in.From)
	if err != nil {
		return nil, problem(err)
	}
	ways, err := t.LeadsFrom(ctx, v, place, port)
	if err != nil {
		return nil, problem(err)
	}
	return &body[LeadsAnswer]{LeadsAnswer{in.To, v.Word, ways}}, nil
}

// MoveQuestion is what is to stand where something else does.
type MoveQuestion struct {
	From string   `json:"from" maxLength:"300"`
	To   string   `json:"to" maxLength:"300"`
	With []string `json:"with" nullable:"false" maxItems:"200" doc:"Lines that come with it, as far as they can be read"`
}

// Swap is a line and what it would be.
type Swap struct {
	Remove string   `json:"remove"`
	Add    string   `json:"add"`
	How    uses.How `json:"how"`
	Keep   bool     `json:"keep" doc:"By itself it stays as it is"`
	Wrong  string   `json:"wrong,omitempty" doc:"Why the new line cannot stand"`
}

func (s *Server) postMove(ctx context.Context, in *body[MoveQuestion]) (*body[[]Swap], error) {
	x := s.asked(ctx).Uses()
	kind, _, ok := x.KindOf(in.Body.From)
	if !ok {
		return nil, noWord(in.Body.From)
	}
	if !x.CanTake(kind, in.Body.To) {
		return nil, &Problem{Title: "That cannot stand in its place", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("%q cannot stand where %s does; expected another %s", in.Body.To, in.Body.From, kind)}
	}
	var with []estate.Record
	for _, line := range in.Body.With {
		if p, _, err := notation.ParseLine(line); err == nil && p.Record != nil {
			with = append(with, p.Record)
		}
	}
	out := []Swap{}
	for _, sw := range x.Move(in.Body.From, in.Body.To, with...) {
		out = append(out, Swap{estate.Line(sw.Record), sw.New, sw.How, sw.Keep, sw.Wrong})
	}
	return &body[[]Swap]{out}, nil
}
