package server

import (
	"context"
	"fmt"
	"slices"

	"steady-compass/core/effect"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/mend"
	"steady-compass/core/trace"
	"steady-compass/store"
)

// MendQuestion is a mend, and what it is for: a finding, a way, or both.
type MendQuestion struct {
	Remove  []string `json:"remove" nullable:"false"`
	Add     []string `json:"add" nullable:"false"`
	Code    string   `json:"code,omitempty" maxLength:"100" doc:"Of the finding or the break that it is to end"`
	Subject string   `json:"subject,omitempty" maxLength:"2048"`
	Target  string   `json:"target,omitempty" maxLength:"2048" doc:"Where a trace shows it"`
	From    string   `json:"from,omitempty" maxLength:"300"`
	Port    uint16   `json:"port,omitempty" doc:"Of the way in question, where the target gives none"`
	UDP     bool     `json:"udp,omitempty"`
}

// MendAnswer is what making a mend comes to.
type MendAnswer struct {
	Holds   bool          `json:"holds" doc:"It may be offered"`
	Against []string      `json:"against" nullable:"false" doc:"What speaks against it, in sentences"`
	Opens   []string      `json:"opens" nullable:"false" doc:"What stands open to others at the very listener or site that it writes down"`
	With    int           `json:"with" doc:"How many more breaks are left on its way, whose mends it was tried with"`
	Effect  effect.Effect `json:"effect"`

	Declaring *flow.Mend `json:"declaring,omitempty" doc:"The mend that holds once it is declared that the way is meant to be open, with the line that declares it"`
}

func (s *Server) postMend(ctx context.Context, in *body[MendQuestion]) (*body[MendAnswer], error) {
	q := in.Body
	c, err := (&ChangeQuestion{Remove: q.Remove, Add: q.Add}).change()
	if err != nil {
		return nil, err
	}
	if c.IsEmpty() {
		return nil, problem(fmt.Errorf("%w: no line goes and none comes", store.ErrNothing))
	}
	a := s.asked(ctx)
	state, err := a.state(ctx)
	if err != nil {
		return nil, problem(err)
	}
	p := q.proposal(a.Tracer)
	trial, err := state.Try(ctx, p)
	if err != nil {
		return nil, problem(err)
	}
	var declaring *flow.Mend
	if with, ok := state.Declaring(p); ok && !trial.Holds() {
		again, err := state.Try(ctx, with)
		if ctx.Err() != nil {
			return nil, problem(ctx.Err())
		}
		if err == nil && again.Holds() {
			declaring = with.Mend
		}
	}
	effect, err := s.effect(ctx, a, c)
	if err != nil {
		return nil, problem(err)
	}
	return &body[MendAnswer]{MendAnswer{
		Holds: trial.Holds(), Against: append([]string{}, trial.Against...), Opens: append([]string{}, trial.Opens...), With: len(trial.With), Effect: effect, Declaring: declaring,
	}}, nil
}

// state is the revision as trials begin at it.
func (a *analysis) state(ctx context.Context) (mend.State, error) {
	checked, err := a.Check(ctx)
	return mend.State{Tracer: a.Tracer, Checked: checked}, err
}

// proposal is what is asked about.
func (q *MendQuestion) proposal(t *trace.Tracer) mend.Proposal {
	p := mend.Proposal{Mend: &flow.Mend{Remove: q.Remove, Add: q.Add}, Code: q.Code, Subject: q.Subject}
	if findings.OfPath(q.Code) && q.Target != "" {
		p.At = &findings.Where{Target: q.atPort(t), From: q.From}
	}
	if p.Subject == "" && p.At != nil { // a break of the flow that is asked for
		p.Subject = p.At.Target
	}
	return p
}

// OtherMends are other mends that hold for the same.
type OtherMends struct {
	Others []OtherMend `json:"others" nullable:"false"`
}

// OtherMend is one of them.
type OtherMend struct {
	Mend  flow.Mend `json:"mend"`
	Ends  int       `json:"ends" doc:"How many findings end by it"`
	Opens []string  `json:"opens" nullable:"false"`
	Short string    `json:"short" doc:"What it does, in one line"`
}

// postOthers tries other readings of the mistake that a mend is for: what is asked about may have no mend, or one that does not hold.
func (s *Server) postOthers(ctx context.Context, in *body[MendQuestion]) (*body[OtherMends], error) {
	a := s.asked(ctx)
	state, err := a.state(ctx)
	if err != nil {
		return nil, problem(err)
	}
	p := in.Body.proposal(a.Tracer)
	about := &findings.Finding{Trace: p.At}
	for _, f := range state.Checked.Findings {
		if f.Code == p.Code && f.Subject == p.Subject {
			about = f
			break
		}
	}
	offers, _, err := state.Offers(ctx, p, state.Deciding(about))
	if err != nil {
		return nil, problem(err)
	}
	out := OtherMends{Others: []OtherMend{}}
	for _, o := range offers {
		if slices.Equal(o.Mend.Add, in.Body.Add) && slices.Equal(o.Mend.Remove, in.Body.Remove) {
			continue
		}
		c, err := (&ChangeQuestion{Remove: o.Mend.Remove, Add: o.Mend.Add}).change()
		if err != nil {
			return nil, err
		}
		effect, err := s.effect(ctx, a, c)
		if err != nil {
			return nil, problem(err)
		}
		out.Others = append(out.Others, OtherMend{*o.Mend, len(o.Ends), append([]string{}, o.Opens...), effect.Short})
	}
	return &body[OtherMends]{out}, nil
}

// atPort is the target with the port in question.
func (q *MendQuestion) atPort(t *trace.Tracer) string {
	tg, err := t.ParseTarget(q.Target)
	if err != nil || tg.Port != 0 || q.Port == 0 {
		return q.Target
	}
	text := fmt.Sprintf("%s:%d", q.Target, q.Port)
	if tg.Addr.Is6() {
		text = fmt.Sprintf("[%s]:%d", tg.Addr, q.Port)
	}
	if q.UDP {
		text += "/udp"
	}
	return text
}
