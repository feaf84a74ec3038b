package main

import (
	"context"
	"net/netip"
	"strconv"
	"strings"

	"steady-compass/core/change"
	"steady-compass/core/findings"
	"steady-compass/core/mend"
)

type publishCommand struct {
	Name    string   `arg:"" help:"The name to publish, with ports or not: sky.fernmoor.example:443."`
	ToWord  string   `arg:"" name:"to" help:"The word to." enum:"to"`
	Place   string   `arg:"" help:"Where it is to end: a machine or a container, with a port or not."`
	ForWord string   `arg:"" name:"for" help:"The word for." enum:"for"`
	For     []string `arg:"" name:"audience" help:"For whom: internet, networks, machines or groups."`
	Guarded string   `help:"The service that signs visitors in first." placeholder:"SERVICE"`
	Through string   `help:"The front by which it goes." placeholder:"SERVICE"`
	At      string   `help:"The address at which it is entered." placeholder:"IP"`
	planning
}

func (c *publishCommand) Run(ctx context.Context, s streams) error {
	w := change.Wish{Guard: c.Guarded, Front: c.Through}
	w.Name, w.Ports, _ = strings.Cut(c.Name, ":")
	place, port, is := strings.Cut(c.Place, ":")
	if w.Place = place; is {
		n, err := strconv.ParseUint(port, 10, 16)
		if err != nil || n == 0 {
			return wrong("%q is no port; expected 1 to 65535", port)
		}
		w.Port = uint16(n)
	}
	for _, word := range c.For {
		for a := range strings.SplitSeq(word, ",") {
			if a != "" {
				w.Audience = append(w.Audience, a)
			}
		}
	}
	if c.At != "" {
		var err error
		if w.At, err = netip.ParseAddr(c.At); err != nil {
			return wrong("--at: %q is no address; expected one, as 203.0.113.20", c.At)
		}
	}
	t, day, err := c.load(ctx, s)
	if err != nil {
		return err
	}
	checked, err := findings.Check(ctx, t, day)
	if err != nil {
		return err
	}
	got, err := change.Publish(ctx, mend.State{Tracer: t, Checked: checked}, w)
	if err != nil {
		return err
	}
	return c.answer(ctx, s, t.Model.Estate, day, got)
}
