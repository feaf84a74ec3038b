package main

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"steady-compass/core/flow"
	"steady-compass/core/gone"
	"steady-compass/core/survey"
)

type withoutCommand struct {
	Word string `arg:"" help:"What is down: a host, container, network, IP, service, certificate or zone. Or a name, with its port or not: what it stands on alone."`
	Kind string `help:"What the word is, where it may be several." enum:",host,container,network,address,service,certificate,zone,name" default:""`
	From string `help:"For a name: the vantage." default:"internet"`
	question
}

func (c *withoutCommand) Run(ctx context.Context, s streams) error {
	t, day, err := c.load(ctx, s)
	if err != nil {
		return err
	}
	before := survey.New(t.Model.Estate, day)
	part, missing := gone.Find(t.Model.Estate, c.Word, gone.Kind(c.Kind))
	if c.Kind == "name" {
		return c.standing(ctx, s, before, nil)
	}
	if missing != nil && c.Kind == "" {
		return c.standing(ctx, s, before, missing)
	}
	if missing != nil {
		return wrong("%v", missing)
	}
	got, err := part.Of(ctx, before)
	if err != nil {
		return err
	}
	if c.JSON {
		return printJSON(s.out, got)
	}
	printWithout(newPaper(s.out), got)
	return nil
}

// standing says of a name what it stands on alone; missing is why the word is no part of the estate.
func (c *withoutCommand) standing(ctx context.Context, s streams, before *survey.Survey, missing error) error {
	if _, err := vantage(before.Tracer, c.From); err != nil {
		return err
	}
	if target, err := before.Tracer.ParseTarget(c.Word); err != nil || c.Kind == "" && target.Name != "" && !strings.Contains(target.Name, ".") {
		return wrong("%v", cmp.Or(missing, err))
	}
	got, err := gone.StandsOn(ctx, before, c.Word, c.From)
	if err != nil {
		return err
	}
	if c.JSON {
		return printJSON(s.out, got)
	}
	p := newPaper(s.out)
	switch {
	case !got.Verdict.Good() && got.Verdict != flow.Partly:
		p.line("%s from %s does not arrive as it is: %s", got.Name, got.From, words(got.Verdict))
		return nil
	case len(got.Alone) == 0:
		p.line("%s from %s stands on nothing alone.", got.Name, got.From)
	default:
		p.line("%s from %s stands on each of these alone:", got.Name, got.From)
	}
	p.table(stands(got.Alone))
	if len(got.Spared) > 0 {
		p.line("\nIt goes by these as well, and arrives without any one of them:")
		p.table(stands(got.Spared))
	}
	return nil
}

func stands(list []gone.Stand) [][]string {
	var rows [][]string
	for _, s := range list {
		rows = append(rows, []string{"  " + string(s.Kind), s.Word, "without it: " + words(s.After)})
	}
	return rows
}

func printWithout(p *paper, w gone.Without) {
	p.line("Without %s %s (%s taken as off)", w.Kind, w.Word, counted(len(w.Lines), "line"))
	names := func(title string, list []gone.Affected) {
		if len(list) == 0 {
			return
		}
		p.line("\n%s: %d", title, len(list))
		var rows [][]string
		for _, n := range list {
			target := fmt.Sprintf("%s:%d", n.Name, n.Port)
			if n.Transport == "udp" {
				target += "/udp"
			}
			rows = append(rows, []string{"  " + target, "from " + n.From, words(n.After), strings.Join(n.Through, "; ")})
		}
		p.table(rows)
	}
	names("Stop", w.Stops)
	names("Arrive by fewer ways", w.Fewer)
	names("Go on by another way", w.GoOn)
	if len(w.Unmet) > 0 {
		p.line("\nMeant besides, and not so any more: %d", len(w.Unmet))
		for _, u := range w.Unmet {
			p.line("  %s  %s", u.Subject, u.Why)
		}
	}
	if len(w.Shut) > 0 {
		p.line("\nFail shut: %d", len(w.Shut))
		for _, f := range w.Shut {
			p.line("  %s", f.Why)
		}
	}
	if len(w.Stops)+len(w.Fewer)+len(w.GoOn)+len(w.Unmet)+len(w.Shut) == 0 {
		p.line("Nothing that is recorded changes.")
	}
}
