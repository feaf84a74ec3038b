package main

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"steady-compass/core/change"
	"steady-compass/server"
)

type stepsCommand struct {
	question
}

func (c *stepsCommand) Run(ctx context.Context, s streams) error {
	if c.With == "" {
		return wrong("no change to order; expected --with FILE")
	}
	with := c.With
	c.With = ""
	st, _, err := c.looked(ctx, s)
	if err != nil {
		return err
	}
	c.With = with
	after, err := c.changed(st.Tracer.Model.Estate, s)
	if err != nil {
		return err
	}
	past, err := c.past(ctx)
	if err != nil {
		return err
	}
	got, err := change.Order(ctx, st, after, past)
	if errors.Is(err, change.ErrTooMany) {
		return wrong("--with: %v", err)
	}
	if err != nil {
		return err
	}
	if c.JSON {
		err = printJSON(s.out, got)
	} else {
		printOrder(newPaper(s.out), got)
	}
	if err == nil && len(got.Gaps) > 0 {
		return doesNotHold
	}
	return err
}

// past are the answers that caches may still have as they were, where a database knows of changes.
func (c *stepsCommand) past(ctx context.Context) (change.Past, error) {
	if c.DB == "" || c.Day != "" {
		return change.Past{}, nil
	}
	db, err := openThere(ctx, c.DB)
	if err != nil {
		return change.Past{}, err
	}
	defer func() { _ = db.Close() }()
	return server.PastOf(ctx, db, time.Now())
}

func printOrder(p *paper, got change.Steps) {
	if len(got.Steps) == 0 {
		p.line("There is nothing to do.")
		return
	}
	for i, s := range got.Steps {
		if s.Kind == change.Wait {
			p.line("%2d  wait %s", i+1, s.Why)
			if a := s.Ahead; a != nil {
				p.line("      only %s, where these are made %s ahead:", a.Wait, a.Seconds)
				for _, l := range a.Add {
					p.line("      ~ %s", l)
				}
			}
			continue
		}
		p.line("%2d  %s", i+1, s.At)
		for _, l := range s.Remove {
			p.line("      - %s", l)
		}
		for _, l := range s.Add {
			if slices.Contains(s.Passing, l) {
				l += "   (for a while)"
			}
			p.line("      + %s", l)
		}
		for _, who := range s.Keepers {
			p.line("      %s: where it does so only when it starts, start it anew", who)
		}
		if s.Seen > 0 {
			p.line("      everybody sees it within %s", s.Seen)
		}
		for _, l := range s.Look {
			p.line("      look: %s from %s %s", l.Target, l.From, words(l.Verdict))
		}
	}
	for _, g := range got.Gaps {
		between := make([]string, len(g.Between))
		for i, n := range g.Between {
			between[i] = fmt.Sprint(n)
		}
		p.line("%s", p.look(fmt.Sprintf("gap between %s: %s", strings.Join(between, " and "), g.Why)))
		for _, l := range g.Because {
			p.line("      %s", l)
		}
	}
}
