package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"runtime/debug"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
	"steady-compass/demo"
	demolooks "steady-compass/demo/looks"
	"steady-compass/server"
	"steady-compass/store"
)

type serveCommand struct {
	DB     string `help:"The database file; made where there is none." name:"db" default:"steady.db" placeholder:"FILE"`
	Listen string `help:"The address to listen on; loopback only." default:"127.0.0.1:7373"`
}

func (c *serveCommand) Run(ctx context.Context, s streams) error {
	return serve(ctx, s, c.DB, c.Listen, false)
}

type demoCommand struct {
	Listen string `help:"The address to listen on; loopback only." default:"127.0.0.1:7373"`
}

func (c *demoCommand) Run(ctx context.Context, s streams) error {
	dir, err := os.MkdirTemp("", "steady-compass-demo-")
	if err != nil {
		return fmt.Errorf("make a folder for the demo: %w", err)
	}
	return errors.Join(serve(ctx, s, filepath.Join(dir, "demo.db"), c.Listen, true), os.RemoveAll(dir))
}

// loopback gives the address to listen on, refusing any that others could reach: there are no accounts yet.
func loopback(listen string) (string, error) {
	host, port, err := net.SplitHostPort(listen)
	if err != nil {
		return "", wrong("--listen: %q is no address; expected one, as 127.0.0.1:7373", listen)
	}
	if host == "localhost" {
		host = "127.0.0.1"
	}
	a, err := netip.ParseAddr(host)
	if err != nil || !a.IsLoopback() {
		return "", wrong("--listen: %q can be reached from elsewhere, and there are no accounts yet; expected a loopback address, as 127.0.0.1:7373", listen)
	}
	return net.JoinHostPort(host, port), nil
}

func serve(ctx context.Context, s streams, path, listen string, withDemo bool) error {
	address, err := loopback(listen)
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return wrong("--listen: %s cannot be listened on (%v); expected a free port", address, errors.Unwrap(err))
	}
	db, err := store.Open(ctx, path)
	if err != nil {
		return errors.Join(wrong("%v", err), listener.Close())
	}
	if why := db.ReadOnly(); why != nil {
		_, _ = fmt.Fprintf(s.err, "%v\n", why)
	}
	if withDemo {
		e, faults := notation.Parse(demo.Estate)
		if len(faults) > 0 {
			return fmt.Errorf("the demo estate: %w", faults)
		}
		if _, err := db.Reset(ctx, 0, e, "demo", "the demo estate"); err != nil {
			return fmt.Errorf("the demo estate: %w", err)
		}
		now := time.Now()
		tracer := trace.New(model.Compile(e), estate.Date(now.Format(time.DateOnly)))
		if _, err := db.AddLooks(ctx, demolooks.Of(tracer, now, db.Current().Revision), store.LooksKept); err != nil {
			return fmt.Errorf("the demo's looks: %w", err)
		}
		if err := demoDraft(ctx, db); err != nil {
			return fmt.Errorf("the demo's draft: %w", err)
		}
	}
	if os.Getenv("GOGC") == "" { // of a large estate much is kept between two edits: better a little more work than twice the memory
		debug.SetGCPercent(70)
	}
	logger := slog.New(slog.NewTextHandler(s.err, nil))
	_, _ = fmt.Fprintf(s.out, "Open http://%s/\n", listener.Addr())
	err = server.New(db, logger).Serve(ctx, listener)
	return errors.Join(err, db.Close())
}

// demoDraft puts the demo's draft in the place of all that there were.
func demoDraft(ctx context.Context, db *store.Store) error {
	old, err := db.Drafts(ctx)
	if err != nil {
		return err
	}
	for _, d := range old {
		if err := db.DropDraft(ctx, d.ID); err != nil {
			return err
		}
	}
	c, faults := notation.ParseChange(demo.Move, db.Current().Estate)
	if len(faults) > 0 {
		return faults
	}
	d := store.Draft{Title: "Move to the second address", Author: "demo", Why: "the first address is given up at the end of the year", Remove: c.Remove, Add: []string{}}
	for _, p := range c.Add {
		d.Add = append(d.Add, p.Line())
	}
	_, err = db.AddDraft(ctx, d)
	return err
}

type backupCommand struct {
	File string `arg:"" help:"The file to write; it must not be there yet."`
	DB   string `help:"The database to copy." name:"db" default:"steady.db" placeholder:"FILE"`
}

func (c *backupCommand) Run(ctx context.Context, s streams) error {
	if _, err := os.Stat(c.DB); err != nil {
		return wrong("%s: no such database", c.DB)
	}
	db, err := store.Open(ctx, c.DB)
	if err != nil {
		return wrong("%v", err)
	}
	if err := errors.Join(db.Backup(ctx, c.File), db.Close()); err != nil {
		return wrong("%v", err)
	}
	return nil
}

type synthCommand struct {
	Names int    `help:"How many names." required:""`
	Seed  uint64 `help:"The seed; the same gives the same estate." default:"1"`
}

func (c *synthCommand) Run(s streams) error {
	if c.Names < 1 || c.Names > 1_000_000 {
		return wrong("--names: %d; expected 1 to 1000000", c.Names)
	}
	return synth.Write(s.out, c.Names, c.Seed)
}
