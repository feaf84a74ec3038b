package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"time"

	"steady-compass/lab/engine"
)

type standInCommand struct {
	Engine standInEngine `cmd:"" help:"A container engine: answers its listing and inspection calls at a Unix socket, and runs nothing."`
}

type standInEngine struct {
	Socket  string `arg:"" help:"The Unix socket to answer at; made here, and taken away at the end."`
	Fixture string `help:"What it has, as JSON: {\"containers\": […], \"networks\": […]}, as inspection gives them; the demo's where not given." placeholder:"FILE"`
}

func (c *standInEngine) Run(ctx context.Context, s streams) error {
	text := engine.Demo
	if c.Fixture != "" {
		var err error
		if text, err = os.ReadFile(c.Fixture); err != nil {
			return wrong("%v", err)
		}
	}
	handler, err := engine.New(text)
	if err != nil {
		return wrong("%v", err)
	}
	var lc net.ListenConfig
	listener, err := lc.Listen(ctx, "unix", c.Socket)
	if err != nil {
		return wrong("%v", err)
	}
	_, _ = fmt.Fprintf(s.out, "A stand-in for a container engine answers at %s. Ctrl-C ends it.\n", c.Socket)
	srv := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}
	done := context.AfterFunc(ctx, func() { _ = srv.Close() })
	defer done()
	if err := srv.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
