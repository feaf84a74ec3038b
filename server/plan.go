package server

import (
	"context"
	"fmt"
	"net/http"

	"steady-compass/core/estate"
	"steady-compass/core/plan"
)

// PlannedLine is a line that is off and takes ports, with what it would collide with.
type PlannedLine struct {
	Record   string   `json:"record"`
	InForce  string   `json:"inForce" doc:"The line once it is switched on"`
	Machine  string   `json:"machine"`
	Collides []string `json:"collides" nullable:"false"`
}

func plannedLines(list []plan.Line) []PlannedLine {
	out := []PlannedLine{}
	for _, l := range list {
		out = append(out, PlannedLine{estate.Line(l.Record), estate.Line(estate.InForce(l.Record)), l.Machine, l.Collides})
	}
	return out
}

func (s *Server) getPlan(ctx context.Context, _ *none) (*body[[]PlannedLine], error) {
	return &body[[]PlannedLine]{plannedLines(plan.Of(s.asked(ctx).Estate, nil))}, nil
}

// PlanQuestion is rows of a plan, a service a row: OUTSIDE INSIDE and what it is.
type PlanQuestion struct {
	Gateway string `json:"gateway" maxLength:"300" doc:"The router or container host whose ports they are"`
	Rows    string `json:"rows" maxLength:"100000"`
}

// PlanFault is a row that cannot be written as a line.
type PlanFault struct {
	Row      int    `json:"row"`
	What     string `json:"what"`
	Expected string `json:"expected"`
}

// PlanAnswer is a plan as lines that are off, held against what is there, what is planned already, and itself.
type PlanAnswer struct {
	Lines  []PlannedLine `json:"lines" nullable:"false"`
	Faults []PlanFault   `json:"faults" nullable:"false"`
}

func (s *Server) postPlan(ctx context.Context, in *body[PlanQuestion]) (*body[PlanAnswer], error) {
	a := s.asked(ctx)
	records, faults := plan.Write(a.Tracer.Model, in.Body.Gateway, in.Body.Rows)
	out := PlanAnswer{Lines: []PlannedLine{}, Faults: []PlanFault{}}
	for _, f := range faults {
		out.Faults = append(out.Faults, PlanFault{f.Row, f.What, f.Expected})
	}
	if len(records) == 0 {
		return &body[PlanAnswer]{out}, nil
	}
	var c estate.Change
	fresh := map[string]bool{}
	for _, r := range records {
		c.Add = append(c.Add, estate.Placed{Record: r})
		fresh[estate.Line(r)] = true
	}
	next, err := a.Estate.Apply(c)
	if err != nil {
		return nil, problem(err)
	}
	for _, l := range plan.Of(next, nil) {
		if line := estate.Line(l.Record); fresh[line] {
			delete(fresh, line)
			out.Lines = append(out.Lines, plannedLines([]plan.Line{l})...)
		}
	}
	return &body[PlanAnswer]{out}, nil
}

// SwitchQuestion is the planned lines that are to come into force.
type SwitchQuestion struct {
	Lines []string `json:"lines" minItems:"1" nullable:"false"`
}

// SwitchAnswer is the change that switches lines on, and what it does.
type SwitchAnswer struct {
	Remove []string      `json:"remove" nullable:"false"`
	Add    []string      `json:"add" nullable:"false"`
	Lines  []PlannedLine `json:"lines" nullable:"false" doc:"Each with what it collides with if just these are on"`
}

func (s *Server) postSwitch(ctx context.Context, in *body[SwitchQuestion]) (*body[SwitchAnswer], error) {
	chosen := map[string]bool{}
	for _, l := range in.Body.Lines {
		chosen[l] = true
	}
	list := plan.Of(s.asked(ctx).Estate, func(r estate.Record) bool { return chosen[estate.Line(r)] })
	out := SwitchAnswer{Remove: []string{}, Add: []string{}, Lines: plannedLines(list)}
	var records []estate.Record
	for _, l := range list {
		delete(chosen, estate.Line(l.Record))
		records = append(records, l.Record)
	}
	for line := range chosen {
		return nil, &Problem{Title: "That is not planned", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("no planned line is %q; it may have been switched on or taken out meanwhile", line)}
	}
	c := plan.SwitchOn(records)
	out.Remove = append(out.Remove, c.Remove...)
	for _, p := range c.Add {
		out.Add = append(out.Add, p.Line())
	}
	return &body[SwitchAnswer]{out}, nil
}
