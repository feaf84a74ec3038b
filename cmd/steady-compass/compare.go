package main

import (
	"cmp"
	"context"
	"fmt"

	"steady-compass/core/compare"
	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
	"steady-compass/core/trace"
)

type compareCommand struct {
	Target    string `arg:"" help:"A name, name:port, IP:port, PLACE:port or URL; /udp may stand behind a port."`
	Other     string `arg:"" optional:"" help:"What to hold it against; the same target where not given."`
	From      string `help:"The vantage." default:"internet"`
	OtherFrom string `help:"The vantage of the other; the same where not given." placeholder:"VANTAGE"`
	Revision  int64  `help:"Hold it against what was recorded at this revision of the database." placeholder:"N"`
	question
}

func (c *compareCommand) Run(ctx context.Context, s streams) error {
	if c.Other == "" && c.OtherFrom == "" && c.Revision == 0 && c.With == "" {
		return wrong("nothing to compare with; expected another target, --other-from VANTAGE, --revision N or --with FILE")
	}
	if c.Revision != 0 && (c.DB == "" || c.With != "") {
		return wrong("--revision: a revision is one of a database, as it was kept; expected --db FILE, and no --with")
	}
	day, err := c.day()
	if err != nil {
		return err
	}
	here, there, err := c.estates(ctx, s)
	if err != nil {
		return err
	}
	tracer := trace.New(model.Compile(here), day)
	left, err := traced(tracer, c.Target, c.From)
	if err != nil {
		return err
	}
	other := tracer
	if there != here {
		other = trace.New(model.Compile(there), day)
	}
	if _, err := other.VantageNamed(cmp.Or(c.OtherFrom, c.From)); err != nil && c.OtherFrom != "" {
		return wrong("--other-from: %v", err)
	}
	right, err := traced(other, cmp.Or(c.Other, c.Target), cmp.Or(c.OtherFrom, c.From))
	if err != nil {
		return err
	}
	got := compare.Of(left, right)
	if c.JSON {
		return printJSON(s.out, got)
	}
	printComparison(newPaper(s.out), got, c.sideWords())
	return nil
}

// estates are the one that is asked, and the one that it is held against: the same, one with a change made, or an older revision.
func (c *compareCommand) estates(ctx context.Context, s streams) (here, there *estate.Estate, err error) {
	if c.Revision == 0 {
		if here, err = c.recorded(ctx, s); err != nil || c.With == "" {
			return here, here, err
		}
		there, err = c.changed(here, s)
		return here, there, err
	}
	db, err := openThere(ctx, c.DB)
	if err != nil {
		return nil, nil, err
	}
	here = db.Current().Estate
	if there, err = db.At(ctx, c.Revision); err != nil {
		err = wrong("--revision: %v", err)
	}
	return here, there, cmp.Or(err, db.Close())
}

// sideWords are what the two sides are called.
func (c *compareCommand) sideWords() (sides [2]string) {
	sides[0] = fmt.Sprintf("%s from %s", c.Target, c.From)
	sides[1] = fmt.Sprintf("%s from %s", cmp.Or(c.Other, c.Target), cmp.Or(c.OtherFrom, c.From))
	switch {
	case c.Revision > 0:
		sides[1] += fmt.Sprintf(", at revision %d", c.Revision)
	case c.With != "":
		sides[1] += ", with the change made"
	}
	return sides
}

// printComparison prints what both ways have once, and what only one has behind its sign: - for the first, + for the other.
func printComparison(p *paper, c compare.Comparison, sides [2]string) {
	p.line("- %s: %s", sides[0], words(c.Left.Verdict))
	p.line("+ %s: %s", sides[1], words(c.Right.Verdict))
	for _, w := range c.Ways {
		var left, right *trace.Path
		if w.Left != nil {
			left = &c.Left.Paths[*w.Left]
		}
		if w.Right != nil {
			right = &c.Right.Paths[*w.Right]
		}
		p.line("")
		switch {
		case w.Same:
			p.line("%s  %s, both alike", wayWords(left), words(left.Outcome))
			continue
		case left == nil:
			p.line("+ %s  %s", wayWords(right), words(right.Outcome))
		case right == nil:
			p.line("- %s  %s", wayWords(left), words(left.Outcome))
		default:
			p.line("- %s  %s\n+ %s  %s", wayWords(left), words(left.Outcome), wayWords(right), words(right.Outcome))
		}
		for _, s := range w.Segments {
			if s.Joined {
				printSteps(p, " ", left, s.Left)
				continue
			}
			printSteps(p, "-", left, s.Left)
			printSteps(p, "+", right, s.Right)
		}
	}
}

func wayWords(path *trace.Path) string {
	return fmt.Sprintf("%d/%s  %s%s%s", path.Port, path.Transport, cmp.Or(path.Address, "no address"), pathWord(path.URLPath), sourcesWord(path.Sources))
}

func printSteps(p *paper, sign string, path *trace.Path, steps []int) {
	for _, i := range steps {
		step := path.Steps[i]
		text := fmt.Sprintf("  %s %-18s %s", sign, step.At, step.Why)
		switch {
		case step.Verdict == flow.Broken:
			text = p.look(text)
		case step.Ghost:
			text = p.faint(text)
		}
		p.line("%s", text)
	}
}
