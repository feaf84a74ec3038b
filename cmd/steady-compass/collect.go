package main

import (
	"context"
	"io"

	"steady-compass/collect"
)

type collectCommand struct {
	Host    string `help:"What the machine is called; by its host name where not given." placeholder:"NAME"`
	Engine  string `help:"The container engine's Unix socket; the first of the usual ones where not given; none: no engine." placeholder:"FILE"`
	NoPaths bool   `help:"Leave the paths of URLs out of what web servers are configured to do."`
	Script  bool   `help:"Print a script for machines where nothing may be installed; what it prints there, import account takes over."`
}

func (c *collectCommand) Run(ctx context.Context, s streams) error {
	script := collect.Script
	if c.NoPaths {
		script = collect.WithoutPaths()
	}
	if c.Script {
		_, err := io.WriteString(s.out, script)
		return err
	}
	a, err := collect.Machine(ctx, collect.Options{Host: c.Host, Engine: c.Engine})
	if err != nil {
		return wrong("%v", err)
	}
	text, err := collect.Whole(ctx, a, script)
	if err != nil {
		return wrong("%v", err)
	}
	_, err = io.WriteString(s.out, text)
	return err
}
