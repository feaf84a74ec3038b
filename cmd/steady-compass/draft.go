package main

import (
	"context"
	"errors"
	"fmt"

	"steady-compass/core/change"
	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/core/survey"
	"steady-compass/people"
	"steady-compass/store"
)

type draftCommand struct {
	List  draftList  `cmd:"" help:"List the drafts: changes that are not in force."`
	Show  draftShow  `cmd:"" help:"Print a draft as the text of a change, with what it would do."`
	New   draftNew   `cmd:"" help:"Keep the text of a change as a draft."`
	Apply draftApply `cmd:"" help:"Make a draft, as one change."`
	Drop  draftDrop  `cmd:"" help:"Take a draft away."`
}

// inDatabase is what every command on drafts, and on accounts, has in common.
type inDatabase struct {
	DB string `help:"Database that keeps them." name:"db" placeholder:"FILE" required:""`
}

// on opens the database, and closes it after something is done.
func (c *inDatabase) on(ctx context.Context, do func(*store.Store) error) error {
	db, err := openThere(ctx, c.DB)
	if err != nil {
		return err
	}
	err = do(db)
	if closed := db.Close(); err == nil {
		err = closed
	}
	switch {
	case errors.Is(err, store.ErrNoDraft):
		return wrong("%v; draft list names those that there are", err)
	case errors.Is(err, store.ErrNoAccount):
		return wrong("%v; people list names those that there are", err)
	case errors.Is(err, store.ErrTakenName), errors.Is(err, store.ErrLastKeeper), errors.Is(err, store.ErrReadOnly), errors.Is(err, people.ErrName):
		return wrong("%v", err)
	}
	return err
}

type draftList struct {
	inDatabase
	JSON bool `help:"Print JSON." name:"json"`
}

func (c *draftList) Run(ctx context.Context, s streams) error {
	return c.on(ctx, func(db *store.Store) error {
		all, err := db.Drafts(ctx)
		if err != nil {
			return wrong("%v", err)
		}
		if c.JSON {
			return printJSON(s.out, map[string]any{"drafts": all})
		}
		p := newPaper(s.out)
		if len(all) == 0 {
			p.line("There are no drafts.")
		}
		var rows [][]string
		for _, d := range all {
			rows = append(rows, []string{fmt.Sprint(d.ID), d.Title, d.Author, fmt.Sprintf("begun at revision %d", d.Revision), fmt.Sprintf("%d lines", len(d.Remove)+len(d.Add))})
		}
		p.table(rows)
		return nil
	})
}

type draftNumber struct {
	N int64 `arg:"" help:"Its number."`
}

type draftShow struct {
	draftNumber
	inDatabase
	Day  string `help:"The day to ask for; today where not given." placeholder:"DATE"`
	JSON bool   `help:"Print JSON." name:"json"`
}

func (c *draftShow) Run(ctx context.Context, s streams) error {
	day, err := (&question{Day: c.Day}).day()
	if err != nil {
		return err
	}
	return c.on(ctx, func(db *store.Store) error {
		d, err := db.Draft(ctx, c.N)
		if err != nil {
			return err
		}
		e := db.Current().Estate
		next, err := e.Apply(changeOf(&d))
		if err != nil {
			return wrong("draft %d cannot be made as the records are now: %v", d.ID, err)
		}
		before := survey.New(e, day)
		what, err := effect.Of(ctx, before, before.After(next))
		if err != nil {
			return err
		}
		if c.JSON {
			return printJSON(s.out, map[string]any{"draft": d, "effect": what, "worse": what.Worse()})
		}
		p := newPaper(s.out)
		p.line("# %s (%s, begun at revision %d)", d.Title, d.Author, d.Revision)
		p.line("%s", textOf(&change.Proposal{Lines: change.Lines{Remove: d.Remove, Add: d.Add}}))
		printEffect(p, effectAnswer{what, what.Worse()})
		return nil
	})
}

// changeOf is a draft as a change; its lines were read when it was kept.
func changeOf(d *store.Draft) estate.Change {
	c := estate.Change{Remove: d.Remove}
	for _, line := range d.Add {
		if p, _, err := notation.ParseLine(line); err == nil {
			c.Add = append(c.Add, p)
		}
	}
	return c
}

type draftNew struct {
	Title string `arg:"" help:"What it is called."`
	With  string `help:"Text of a change, or - for standard input." placeholder:"FILE" required:""`
	Why   string `help:"The reason."`
	inDatabase
}

func (c *draftNew) Run(ctx context.Context, s streams) error {
	return c.on(ctx, func(db *store.Store) error {
		text, err := readText(c.With, s.in)
		if err != nil {
			return wrong("%s: cannot be read (%v); expected the text of a change", c.With, errors.Unwrap(err))
		}
		ch, faults := notation.ParseChange(text, db.Current().Estate)
		if len(faults) > 0 {
			return faulty(c.With, faults)
		}
		return keepDraft(ctx, s, db, store.Draft{Title: c.Title, Why: c.Why}, ch)
	})
}

// keepDraft keeps a change as a draft, and says under which number.
func keepDraft(ctx context.Context, s streams, db *store.Store, d store.Draft, ch estate.Change) error {
	if ch.IsEmpty() {
		return wrong("a draft without a line; expected lines that go or come")
	}
	d.Author, d.Remove, d.Add = atConsole(), append([]string{}, ch.Remove...), []string{}
	for _, p := range ch.Add {
		d.Add = append(d.Add, p.Line())
	}
	d, err := db.AddDraft(ctx, d)
	if err != nil {
		return wrong("%v", err)
	}
	newPaper(s.out).line("Draft %d: %s.", d.ID, d.Title)
	return nil
}

type draftApply struct {
	draftNumber
	inDatabase
}

func (c *draftApply) Run(ctx context.Context, _ streams) error {
	return c.on(ctx, func(db *store.Store) error {
		d, err := db.Draft(ctx, c.N)
		if err != nil {
			return err
		}
		if _, err := db.Commit(ctx, store.Edit{Base: db.Current().Revision, Who: atConsole(), Why: d.Title, Change: changeOf(&d)}); err != nil {
			return keptIn(err)
		}
		return db.DropDraft(ctx, c.N)
	})
}

type draftDrop struct {
	draftNumber
	inDatabase
}

func (c *draftDrop) Run(ctx context.Context, _ streams) error {
	return c.on(ctx, func(db *store.Store) error { return db.DropDraft(ctx, c.N) })
}
