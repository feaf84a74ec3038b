package main

import (
	"context"
	"errors"
	"strings"

	"steady-compass/core/change"
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
	sentence := []string{"publish", c.Name, "to", c.Place, "for", strings.Join(c.For, ",")}
	for _, more := range [][2]string{{"guarded", c.Guarded}, {"through", c.Through}, {"at", c.At}} {
		if more[1] != "" {
			sentence = append(sentence, more[0], more[1])
		}
	}
	st, day, err := c.looked(ctx, s)
	if err != nil {
		return err
	}
	got, err := change.Said(ctx, st, strings.Join(sentence, " "))
	var unclear *change.Unclear
	if errors.As(err, &unclear) {
		return wrong("%v", err)
	}
	if err != nil {
		return err
	}
	return c.answer(ctx, s, st.Tracer.Model.Estate, day, got)
}
