package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"steady-compass/store"
)

type backupCommand struct {
	File string `arg:"" help:"The file to write; it must not be there yet."`
	DB   string `help:"The database to copy." name:"db" default:"steady.db" placeholder:"FILE"`
	Text bool   `help:"As a text: the estate as notation, with every change, the drafts, kept questions and looks. Accounts are not in it."`
}

func (c *backupCommand) Run(ctx context.Context, s streams) error {
	if _, err := os.Stat(c.DB); err != nil {
		return wrong("%s: no such database", c.DB)
	}
	db, err := store.Open(ctx, c.DB)
	if err != nil {
		return wrong("%v", err)
	}
	write := db.Backup
	if c.Text {
		write = func(ctx context.Context, file string) error { return writeText(ctx, db, file) }
	}
	if err := errors.Join(write(ctx, c.File), db.Close()); err != nil {
		return wrong("%v", err)
	}
	return nil
}

// writeText writes a database as a text into a file that is not there yet; where it fails, none is left.
func writeText(ctx context.Context, db *store.Store, file string) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if err := errors.Join(db.WriteHistory(ctx, f), f.Sync(), f.Close()); err != nil {
		return errors.Join(err, os.Remove(file))
	}
	return nil
}

type restoreCommand struct {
	File  string `arg:"" help:"The copy, as backup writes it; one that is a text makes a database that is not there yet."`
	DB    string `help:"The database in whose place it is put; made where there is none. It may be open." name:"db" default:"steady.db" placeholder:"FILE"`
	Check bool   `help:"Look the copy through, say what it holds, and put it nowhere."`
}

func (c *restoreCommand) Run(ctx context.Context, s streams) error {
	if text, err := store.IsHistory(c.File); err != nil {
		return wrong("%v", err)
	} else if text {
		return c.ofText(ctx, s)
	}
	if c.Check {
		holds, err := store.CheckCopy(ctx, c.File)
		if err != nil {
			return wrong("%v", err)
		}
		_, err = fmt.Fprintf(s.out, "%s is sound: %s\n", c.File, contents(holds))
		return err
	}
	holds, before, err := store.Restore(ctx, c.File, c.DB, atConsole())
	if err != nil {
		return wrong("%v", err)
	}
	_, _ = fmt.Fprintf(s.out, "%s is restored from %s: %s\n", c.DB, c.File, contents(holds))
	if before != "" {
		_, _ = fmt.Fprintf(s.out, "What was there is in %s\n", before)
	}
	return nil
}

func (c *restoreCommand) ofText(ctx context.Context, s streams) error {
	f, err := os.Open(c.File)
	if err != nil {
		return wrong("%v", err)
	}
	defer func() { _ = f.Close() }()
	holds, said := store.Contents{}, "%s is sound: %s\n"
	if c.Check {
		holds, err = store.CheckHistory(f)
	} else {
		holds, err = store.RestoreHistory(ctx, f, c.DB)
		said = c.DB + " is made of %s: %s\n"
	}
	if err != nil {
		return wrong("%v", err)
	}
	_, err = fmt.Fprintf(s.out, said, c.File, contents(holds))
	return err
}

// contents says what a database holds.
func contents(c store.Contents) string {
	out := fmt.Sprintf("revision %d, %s, %s", c.Revision, counted(c.Records, "record"), counted(c.Changes, "change"))
	if !c.Last.IsZero() {
		out += ", the last of " + c.Last.Local().Format(time.DateTime)
	}
	return out + "; " + strings.Join([]string{counted(c.Drafts, "draft"), counted(c.Looks, "look"), counted(c.Accounts, "account")}, ", ")
}
