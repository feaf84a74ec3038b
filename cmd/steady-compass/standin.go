package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"time"

	"steady-compass/core/estate"
	"steady-compass/lab/authority"
	"steady-compass/lab/engine"
	"steady-compass/lab/gateway"
)

type standInCommand struct {
	Authority standInAuthority `cmd:"" help:"A certificate authority (RFC 8555) on loopback, whose challenges meet what the records say becomes of them: ask it for a certificate as the machine that keeps it would."`
	Engine    standInEngine    `cmd:"" help:"A container engine: answers its listing and inspection calls at a Unix socket, and runs nothing."`
	Router    standInRouter    `cmd:"" help:"A home router that speaks the open port-mapping protocol: lists the doors that programs asked for, with the quirks that such routers have, and opens none."`
}

type standInAuthority struct {
	question
	Cert   string `arg:"" help:"The certificate that whoever asks keeps; where it is kept, and how it is renewed, decides which challenges come to it."`
	Listen string `help:"The address to answer at; loopback only." default:"127.0.0.1:7375"`
	HTTP   string `name:"http" help:"Where whoever asks answers challenges by http-01; loopback only." default:"127.0.0.1:5080"`
	TLS    string `name:"tls" help:"Where it answers those by tls-alpn-01; loopback only." default:"127.0.0.1:5443"`
}

func (c *standInAuthority) Run(ctx context.Context, s streams) error {
	t, _, err := c.load(ctx, s)
	if err != nil {
		return err
	}
	o := authority.Options{Log: s.out}
	for flag, at := range map[string]*netip.AddrPort{"--http": &o.HTTP, "--tls": &o.TLS} {
		said := c.HTTP
		if flag == "--tls" {
			said = c.TLS
		}
		if *at, err = netip.ParseAddrPort(said); err != nil || !at.Addr().IsLoopback() {
			return wrong("%s: %q; expected an address of loopback with a port, as 127.0.0.1:5080", flag, said)
		}
	}
	if o.Cert = t.Model.Certs[c.Cert]; o.Cert == nil {
		return wrong("no certificate is called %q; expected %s", c.Cert, cmp.Or(estate.Nearest(c.Cert, slices.Sorted(maps.Keys(t.Model.Certs))), "one that is recorded"))
	}
	a, err := authority.Start(ctx, t, c.Listen, o)
	if err != nil {
		return wrong("--listen: %v", err)
	}
	defer func() { _ = a.Close() }()
	_, _ = fmt.Fprintf(s.out, "A stand-in for a certificate authority has its directory at %s, and takes the answers to dns-01 as updates (RFC 2136) over TCP at %s. Ctrl-C ends it.\n", a.Directory, a.Names)
	<-ctx.Done()
	return nil
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
