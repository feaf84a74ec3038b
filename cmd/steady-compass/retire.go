package main

import (
	"context"
	"os"
	"strings"

	"steady-compass/core/change"
	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/core/survey"
	"steady-compass/store"
)

// planning is a question whose answer is a change.
type planning struct {
	Write string `help:"Keep the first plan as the text of a change." placeholder:"FILE"`
	Draft string `help:"Keep the first plan as a draft of the database." placeholder:"TITLE"`
	question
}

type retireCommand struct {
	Of string `arg:"" help:"A name, a service, or a place."`
	planning
}

func (c *retireCommand) Run(ctx context.Context, s streams) error {
	st, day, err := c.looked(ctx, s)
	if err != nil {
		return err
	}
	got, err := change.Retire(ctx, st, c.Of)
	if err != nil {
		return err
	}
	return c.answer(ctx, s, st.Tracer.Model.Estate, day, got)
}

// answer says what each plan does, and keeps the first where that is asked for.
func (c *planning) answer(ctx context.Context, s streams, e *estate.Estate, day estate.Date, got change.Proposals) error {
	before := survey.New(e, day)
	for i := range got.Plans {
		after, err := withPlan(e, &got.Plans[i])
		if err != nil {
			return err
		}
		what, err := effect.Of(ctx, before, before.After(after))
		if err != nil {
			return err
		}
		got.Plans[i].Effect = &what
	}
	if c.Write != "" && len(got.Plans) > 0 {
		if err := os.WriteFile(c.Write, []byte(textOf(&got.Plans[0])), 0o600); err != nil {
			return wrong("--write: %v", err)
		}
	}
	if c.Draft != "" && len(got.Plans) > 0 {
		if err := c.draft(ctx, s, &got.Plans[0]); err != nil {
			return err
		}
	}
	if c.JSON {
		if err := printJSON(s.out, got); err != nil {
			return err
		}
	} else {
		printPlans(newPaper(s.out), got)
	}
	if got.None != nil {
		return doesNotHold
	}
	return nil
}

// draft keeps a plan as a draft of the database that is asked.
func (c *planning) draft(ctx context.Context, s streams, p *change.Proposal) error {
	if c.DB == "" {
		return wrong("--draft: an estate file keeps no drafts; expected --db FILE, or --write FILE")
	}
	db, err := openThere(ctx, c.DB)
	if err != nil {
		return err
	}
	ch, faults := notation.ParseChange(textOf(p), db.Current().Estate)
	if c.JSON { // the answer alone goes where it is read
		s.out = s.err
	}
	if len(faults) > 0 {
		err = faulty("the plan", faults)
	} else {
		err = keepDraft(ctx, s, db, store.Draft{Title: c.Draft}, ch)
	}
	if closed := db.Close(); err == nil {
		err = closed
	}
	return err
}

// textOf is the text of a change.
func textOf(p *change.Proposal) string {
	var b strings.Builder
	for _, l := range p.Remove {
		b.WriteString("- " + l + "\n")
	}
	for _, l := range p.Add {
		b.WriteString("+ " + l + "\n")
	}
	return b.String()
}

func withPlan(e *estate.Estate, p *change.Proposal) (*estate.Estate, error) {
	ch, faults := notation.ParseChange(textOf(p), e)
	if len(faults) > 0 {
		return nil, faults
	}
	return e.Apply(ch)
}

// mostNeeds is how many of those who need a line are printed.
const mostNeeds = 3

func printPlans(p *paper, got change.Proposals) {
	if got.None != nil {
		p.line("%s", *got.None)
	}
	for i := range got.Plans {
		plan := &got.Plans[i]
		if len(got.Plans) > 1 {
			p.line("%sPlan %d", map[bool]string{true: "\n"}[i > 0], i+1)
		}
		for _, l := range plan.Remove {
			p.line("  - %s", l)
		}
		for _, l := range plan.Add {
			p.line("  + %s", l)
		}
		if len(plan.Derived) > 0 {
			p.line("  derived: %s", strings.Join(plan.Derived, " · "))
		}
		if plan.Effect != nil && plan.Effect.Short != "" {
			p.line("  %s", plan.Effect.Short)
		}
	}
	if len(got.Stays) > 0 {
		p.line("\nStays:")
		for _, st := range got.Stays {
			p.line("  %s", st.Record)
			for i, who := range st.For {
				if i == mostNeeds && len(st.For) > mostNeeds+1 {
					p.line("      and %d more", len(st.For)-i)
					break
				}
				p.line("      %s", who)
			}
		}
	}
}
