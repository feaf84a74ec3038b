package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
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
	"steady-compass/people"
	"steady-compass/server"
	"steady-compass/store"
)

type serveCommand struct {
	DB     string `help:"The database file; made where there is none." name:"db" default:"steady.db" placeholder:"FILE"`
	Listen string `help:"The address to listen on; off loopback with TLS only." default:"127.0.0.1:7373"`
	accessFlags
}

func (c *serveCommand) Run(ctx context.Context, s streams) error {
	return serve(ctx, s, c.DB, c.Listen, &c.accessFlags, false)
}

type demoCommand struct {
	Listen string `help:"The address to listen on; loopback only." default:"127.0.0.1:7373"`
}

func (c *demoCommand) Run(ctx context.Context, s streams) error {
	dir, err := os.MkdirTemp("", "steady-compass-demo-")
	if err != nil {
		return fmt.Errorf("make a folder for the demo: %w", err)
	}
	return errors.Join(serve(ctx, s, filepath.Join(dir, "demo.db"), c.Listen, &accessFlags{Alone: true}, true), os.RemoveAll(dir))
}

func serve(ctx context.Context, s streams, path, listen string, flags *accessFlags, withDemo bool) error {
	logger := slog.New(slog.NewTextHandler(s.err, nil))
	access, err := flags.access()
	if err != nil {
		return err
	}
	address, err := flags.listenAddress(listen)
	if err != nil {
		return err
	}
	var pair *keyPair
	if flags.Cert != "" {
		if pair, err = newKeyPair(flags.Cert, flags.Key, logger); err != nil {
			return err
		}
	}
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return wrong("--listen: %s cannot be listened on (%v); expected a free port", address, errors.Unwrap(err))
	}
	db, err := store.Open(ctx, path)
	if err != nil {
		return errors.Join(wrong("%v", err), listener.Close())
	}
	if err := db.Intact(ctx); err != nil {
		return errors.Join(wrong("%v", err), db.Close(), listener.Close())
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
		debug.SetGCPercent(45)
	}
	if pair != nil {
		listener = pair.secured(listener)
	}
	err = serveTo(ctx, s, db, logger, listener, access)
	return errors.Join(err, db.Close())
}

// serveTo says where to go, and with what where nobody has an account yet, and serves.
func serveTo(ctx context.Context, s streams, db *store.Store, logger *slog.Logger, listener net.Listener, access server.Access) error {
	n, err := db.AccountCount(ctx)
	if err != nil {
		return err
	}
	first := !access.Alone && n == 0
	if first {
		access.FirstCode = people.NewCode()
	}
	if a, is := listener.Addr().(*net.TCPAddr); is {
		access.Port = a.Port
	}
	app, err := server.New(db, logger, access)
	if err != nil {
		return err
	}
	open := "http://" + listener.Addr().String() + "/"
	if access.Origin != nil {
		open = access.Origin.JoinPath("/").String()
	}
	_, _ = fmt.Fprintf(s.out, "Open %s\n", open)
	if first {
		_, _ = fmt.Fprintf(s.out, "Nobody has an account yet. Make the first with the one-time code %s\n(To work on this machine alone without signing in, start it with --alone.)\n", access.FirstCode)
	}
	return app.Serve(ctx, listener)
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
