package server

import (
	"cmp"
	"context"
	"net/http"
	"strings"

	"steady-compass/core/gone"
)

type withoutQuery struct {
	Of   string `query:"of" required:"true" maxLength:"300" doc:"A host, container, network, IP, service, certificate or zone; or a name, with its port or not"`
	Kind string `query:"kind" enum:"host,container,network,address,service,certificate,zone,name" doc:"What the word is, where it may be several"`
	From string `query:"from" default:"internet" maxLength:"300" doc:"For a name: the vantage"`
}

// WithoutAnswer is what becomes of the estate without a part of it; or, of a name, what it stands on alone.
type WithoutAnswer struct {
	Of    string         `json:"of"`
	Kinds []gone.Kind    `json:"kinds" nullable:"false" doc:"All that the word is"`
	Part  *gone.Without  `json:"part,omitempty"`
	Name  *gone.Standing `json:"name,omitempty"`
}

func (s *Server) getWithout(ctx context.Context, in *withoutQuery) (*body[WithoutAnswer], error) {
	a := s.asked(ctx)
	out := WithoutAnswer{Of: strings.ToLower(in.Of), Kinds: []gone.Kind{}}
	for _, k := range gone.Kinds {
		if _, err := gone.Find(a.Estate, in.Of, k); err == nil {
			out.Kinds = append(out.Kinds, k)
		}
	}
	part, missing := gone.Find(a.Estate, in.Of, gone.Kind(in.Kind))
	switch {
	case in.Kind == "name" || missing != nil && in.Kind == "":
		target, err := a.Tracer.ParseTarget(in.Of)
		if err != nil || in.Kind == "" && target.Name != "" && !strings.Contains(target.Name, ".") {
			if in.Kind == "name" {
				missing = nil // what is wrong with it as a name
			}
			return nil, noPart(cmp.Or(missing, err))
		}
		if _, err := a.Tracer.VantageNamed(in.From); err != nil {
			return nil, problem(err)
		}
		standing, err := gone.StandsOn(ctx, a.Survey, in.Of, in.From)
		if err != nil {
			return nil, problem(err)
		}
		out.Name = &standing
	case missing != nil:
		return nil, noPart(missing)
	default:
		without, err := part.Of(ctx, a.Survey)
		if err != nil {
			return nil, problem(err)
		}
		out.Part = &without
	}
	return &body[WithoutAnswer]{out}, nil
}

func noPart(err error) error {
	return &Problem{Title: "That cannot be down", Status: http.StatusUnprocessableEntity, Detail: err.Error()}
}
