package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"os"
	"time"

	"steady-compass/lab/engine"
	"steady-compass/lab/gateway"
)

type standInCommand struct {
	Engine standInEngine `cmd:"" help:"A container engine: answers its listing and inspection calls at a Unix socket, and runs nothing."`
	Router standInRouter `cmd:"" help:"A home router that speaks the open port-mapping protocol: lists the doors that programs asked for, with the quirks that such routers have, and opens none."`
}

type standInRouter struct {
	Listen  string `help:"The address to answer at; loopback only." default:"127.0.0.1:7374"`
	Fixture string `help:"What it has, as JSON: {\"external\": \"IP\", \"mappings\": [{\"external\": PORT, \"protocol\": \"TCP\", \"client\": \"IP\", \"internal\": PORT, …}]}; that of the demo's ridge where not given." placeholder:"FILE"`
	gateway.Quirks
}

func (c *standInRouter) Run(ctx context.Context, s streams) error {
	text := gateway.Demo
	if c.Fixture != "" {
		var err error
		if text, err = os.ReadFile(c.Fixture); err != nil {
			return wrong("%v", err)
		}
	}
	handler, err := gateway.New(text, c.Quirks)
	if err != nil {
		return wrong("%v", err)
	}
	at, err := netip.ParseAddrPort(c.Listen)
	if err != nil || !at.Addr().IsLoopback() {
		return wrong("--listen: %q; expected an address of loopback with a port, as 127.0.0.1:7374", c.Listen)
	}
	var lc net.ListenConfig
	listener, err := lc.Listen(ctx, "tcp", c.Listen)
	if err != nil {
		return wrong("%v", err)
	}
	_, _ = fmt.Fprintf(s.out, "A stand-in for a router describes itself at http://%s/rootDesc.xml. Ctrl-C ends it.\n", listener.Addr())
	return serveUntilDone(ctx, listener, handler)
}

// serveUntilDone answers until the context ends.
func serveUntilDone(ctx context.Context, listener net.Listener, handler http.Handler) error {
	srv := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}
	done := context.AfterFunc(ctx, func() { _ = srv.Close() })
	defer done()
	if err := srv.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
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
	return serveUntilDone(ctx, listener, handler)
}
