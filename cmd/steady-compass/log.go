package main

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"steady-compass/core/estate"
	"steady-compass/store"
)

type logCommand struct {
	DB    string `help:"The database." name:"db" placeholder:"FILE" required:""`
	Who   string `help:"Only changes of whom this is part of the name." placeholder:"NAME"`
	Kind  string `help:"Only changes with a line of this kind." placeholder:"KIND"`
	Word  string `help:"Only changes with a line, or a reason, that this is part of." placeholder:"WORD"`
	Limit int    `help:"How many, the newest first." default:"20"`
	JSON  bool   `help:"Print JSON." name:"json"`
}

func (c *logCommand) Run(ctx context.Context, s streams) error {
	db, err := openThere(ctx, c.DB)
	if err != nil {
		return err
	}
	entries, err := db.LogOf(ctx, store.LogQuestion{Limit: c.Limit, Who: c.Who, Kind: c.Kind, Word: c.Word})
	if err := errors.Join(err, db.Close()); err != nil {
		return wrong("%v", err)
	}
	if c.JSON {
		return printJSON(s.out, map[string]any{"changes": entries})
	}
	p := newPaper(s.out)
	for i, e := range entries {
		if i > 0 {
			p.line("")
		}
		title := e.Why
		if e.Act == "undo" || e.Act == "redo" {
			title = fmt.Sprintf("%s of revision %d", e.Act, e.Of)
		}
		p.line("revision %d, %s, %s", e.Revision, e.At.Local().Format(time.DateTime), strings.TrimSuffix(e.Who+": "+title, ": "))
		for _, line := range e.Removed {
			p.line("- %s", line)
		}
		for _, line := range e.Added {
			p.line("+ %s", line)
		}
		if more := e.RemovedCount + e.AddedCount - len(e.Removed) - len(e.Added); more > 0 {
			p.line("and %d lines more", more)
		}
		if e.Effect != "" {
			p.line("%s", p.faint(e.Effect))
		}
	}
	return nil
}

type diffCommand struct {
	Before string `arg:"" help:"An estate file, - for standard input; with --db a revision's number, a day or a moment."`
	After  string `arg:"" optional:"" help:"Another; with --db now, where it is left out."`
	DB     string `help:"The database whose past they are of." name:"db" placeholder:"FILE"`
}

// Run prints the text of the change that makes the one of the other, which every question takes with --with.
func (c *diffCommand) Run(ctx context.Context, s streams) error {
	before, after, err := c.both(ctx, s)
	if err != nil {
		return err
	}
	change := estate.Difference(before, after)
	for _, line := range change.Remove {
		_, _ = fmt.Fprintln(s.out, "- "+line)
	}
	for _, p := range change.Add {
		if _, err := fmt.Fprintln(s.out, "+ "+p.Line()); err != nil {
			return err
		}
	}
	return nil
}

func (c *diffCommand) both(ctx context.Context, s streams) (before, after *estate.Estate, err error) {
	if c.DB != "" {
		db, err := openThere(ctx, c.DB)
		if err != nil {
			return nil, nil, err
		}
		defer func() { _ = db.Close() }()
		if before, err = asOf(ctx, db, c.Before); err != nil {
			return nil, nil, err
		}
		after, err = asOf(ctx, db, c.After)
		return before, after, err
	}
	if c.After == "" || c.Before == "-" && c.After == "-" {
		return nil, nil, wrong("expected two estate files, one of which may be -, or --db FILE and a revision")
	}
	if before, err = readEstate(c.Before, s.in); err != nil {
		return nil, nil, err
	}
	after, err = readEstate(c.After, s.in)
	return before, after, err
}
