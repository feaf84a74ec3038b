package main

import (
	"context"
	"io"

	"steady-compass/collect"
)

type collectCommand struct {
	Host   string `help:"What the machine is called; by its host name where not given." placeholder:"NAME"`
	Engine string `help:"The container engine's Unix socket; the first of the usual ones where not given; none: no engine." placeholder:"FILE"`
	Script bool   `help:"Print a script for machines where nothing may be installed; what it prints there, import account takes over."`
}

func (c *collectCommand) Run(ctx context.Context, s streams) error {
	if c.Script {
		_, err := io.WriteString(s.out, collect.Script)
		return err
	}
	a, err := collect.Machine(ctx, collect.Options{Host: c.Host, Engine: c.Engine})
	if err != nil {
		return wrong("%v", err)
	}
	_, err = io.WriteString(s.out, a.Text())
	return err
}
