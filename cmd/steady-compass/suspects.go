package main

import (
	"context"
	"strings"

	"steady-compass/core/look"
	"steady-compass/core/trace"
	"steady-compass/fetch"
	"steady-compass/intake"
)

type suspectsCommand struct {
	Target string `arg:"" help:"What was seen otherwise: as for trace."`
	From   string `help:"The vantage that this machine is, and of looks that name none." placeholder:"VANTAGE"`
	looksQuestion
}

func (c *suspectsCommand) Run(ctx context.Context, s streams) error {
	t, day, err := c.load(ctx, s)
	if err != nil {
		return err
	}
	if _, err := t.ParseTarget(c.Target); err != nil {
		return wrong("%v", err)
	}
	if c.Looks == "" && c.DB == "" {
		return wrong("there are no looks; expected --db FILE, which keeps them, or --looks FILE")
	}
	kept, err := c.kept(ctx, s, t, day, c.From)
	if err != nil {
		return err
	}
	seen := look.Fresh(kept)
	atHand, err := atHand(t, seen, c.From)
	if err != nil {
		return wrong("%v", err)
	}
	got, err := look.Suspects(ctx, t, c.Target, seen, atHand)
	if err != nil {
		return err
	}
	if c.JSON {
		if err := printJSON(s.out, got); err != nil {
			return err
		}
	} else {
		printSuspects(newPaper(s.out), got)
	}
	if len(got.Suspects) > 0 {
		return doesNotHold
	}
	return nil
}

// atHand are the vantages from which one can look: this machine's, and those that looks came from.
func atHand(t *trace.Tracer, seen []look.Look, said string) ([]string, error) {
	self, err := fetch.Myself()
	if err != nil {
		return nil, err
	}
	return look.AtHand(t, self, said, seen)
}

func printSuspects(p *paper, got look.Inquiry) {
	if got.None != "" {
		p.line("No suspect: %s.", got.None)
		return
	}
	for i, s := range got.Suspects {
		p.line("%d. %s", i+1, p.look(s.Why))
		for _, r := range s.Records {
			p.line("      %s", p.faint(r))
		}
		p.line("   %d of %d looks are as they would be then.", s.Explains, s.Of)
		if len(s.Against) > 0 {
			p.line("   Against it: %s", strings.Join(s.Against[:min(len(s.Against), 3)], "; "))
		}
		if len(s.Same) > 0 {
			p.line("   No look at hand parts it from: %s", strings.Join(s.Same[:min(len(s.Same), 4)], "; "))
		}
		p.line("   %s", s.Check)
	}
	if got.Next != nil {
		p.line("Look next at %s from %s. %s", got.Next.Target, got.Next.From, got.Next.Why)
	}
	if got.Elsewhere != nil {
		p.line("From %s one would tell more: %s. Take looks there with look --targets, and import them.", got.Elsewhere.From, got.Elsewhere.Target)
	}
}

func faultLines(faults []intake.FileFault) []string {
	out := make([]string, len(faults))
	for i := range faults {
		out[i] = faults[i].String()
	}
	return out
}
