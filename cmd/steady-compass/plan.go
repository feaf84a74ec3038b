package main

import (
	"context"
	"fmt"
	"io"
	"os"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/plan"
)

type planCommand struct {
	At   string `help:"The router or container host whose ports the rows are." placeholder:"GATEWAY"`
	Rows string `help:"Rows of a plan, or - for standard input: OUTSIDE INSIDE and what it is, a service a row. They are printed as lines that are off." placeholder:"FILE"`
	question
}

// planned is a planned line as JSON.
type planned struct {
	Record   string   `json:"record"`
	Machine  string   `json:"machine"`
	Collides []string `json:"collides"`
}

// Run exits with 1 where a planned line collides.
func (c *planCommand) Run(ctx context.Context, s streams) error {
	e, err := c.question.read(ctx, s)
	if err != nil {
		return err
	}
	fresh := map[string]bool{}
	if c.Rows != "" {
		if e, err = c.write(s, e, fresh); err != nil {
			return err
		}
	}
	list := []planned{}
	collides := false
	for _, l := range plan.Of(e, nil) {
		line := estate.Line(l.Record)
		if c.Rows != "" && !fresh[line] {
			continue
		}
		collides = collides || len(l.Collides) > 0
		list = append(list, planned{line, l.Machine, l.Collides})
	}
	if c.JSON {
		err = printJSON(s.out, map[string]any{"planned": list})
	} else {
		p := newPaper(s.out)
		for _, l := range list {
			p.line("%s", l.Record)
			for _, why := range l.Collides {
				p.line("%s", p.faint("# "+why))
			}
		}
	}
	if err == nil && collides {
		return doesNotHold
	}
	return err
}

// write adds the rows to the estate, and notes their lines.
func (c *planCommand) write(s streams, e *estate.Estate, fresh map[string]bool) (*estate.Estate, error) {
	if c.At == "" {
		return nil, wrong("whose ports the rows are is not said; expected --at GATEWAY")
	}
	var text []byte
	var err error
	if c.Rows == "-" {
		text, err = io.ReadAll(s.in)
	} else {
		text, err = os.ReadFile(c.Rows)
	}
	if err != nil {
		return nil, wrong("%v", err)
	}
	records, faults := plan.Write(model.Compile(e), c.At, string(text))
	if len(faults) > 0 {
		var lines []string
		for _, f := range faults {
			lines = append(lines, fmt.Sprintf("%s:%d:1: %s; expected %s", c.Rows, f.Row, f.What, f.Expected))
		}
		return nil, &failed{2, lines}
	}
	var change estate.Change
	for _, r := range records {
		change.Add = append(change.Add, estate.Placed{Record: r})
		fresh[estate.Line(r)] = true
	}
	return e.Apply(change)
}
