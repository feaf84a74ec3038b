package main

import (
	"context"
	"fmt"
	"strings"

	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/core/exposure"
	"steady-compass/core/flow"
	"steady-compass/core/survey"
)

type effectCommand struct {
	To     string `help:"In place of --with: another estate file, as it would be." placeholder:"FILE"`
	FailOn string `help:"Fail where it makes something worse: a name stops, a port for administration is lost, or something opens that nobody declared." enum:"worse,never" default:"never"`
	question
}

// effectAnswer is what a change does.
type effectAnswer struct {
	Effect effect.Effect `json:"effect"`
	Worse  bool          `json:"worse"`
}

func (c *effectCommand) Run(ctx context.Context, s streams) error {
	if (c.With == "") == (c.To == "") {
		return wrong("no change to judge; expected --with FILE, or --to FILE, and not both")
	}
	day, err := c.day()
	if err != nil {
		return err
	}
	e, err := c.recorded(ctx, s)
	if err != nil {
		return err
	}
	next, err := c.other(e, s)
	if err != nil {
		return err
	}
	before := survey.New(e, day)
	got, err := effect.Of(ctx, before, before.After(next))
	if err != nil {
		return err
	}
	answer := effectAnswer{got, got.Worse()}
	if c.JSON {
		err = printJSON(s.out, answer)
	} else {
		printEffect(newPaper(s.out), answer)
	}
	if err == nil && answer.Worse && c.FailOn == "worse" {
		return doesNotHold
	}
	return err
}

// other is the estate as it would be.
func (c *effectCommand) other(e *estate.Estate, s streams) (*estate.Estate, error) {
	if c.With != "" {
		return c.changed(e, s)
	}
	if c.To == "-" && c.Estate == "-" {
		return nil, wrong("--to -: the estate is read from standard input already; expected a file")
	}
	to, err := readEstate(c.To, s.in)
	if err != nil {
		return nil, err
	}
	return e.Apply(estate.Difference(e, to)) // the same, with the records that stay
}

func printEffect(p *paper, a effectAnswer) {
	e := a.Effect
	of := func(o *flow.Outcome, none string) string {
		if o == nil {
			return none
		}
		return words(*o)
	}
	section := func(title string, rows [][]string) {
		if len(rows) > 0 {
			p.line("\n%s", title)
			p.table(rows)
		}
	}
	if e.Short == "" && len(e.Old)+len(e.Lost)+len(e.Names) == 0 {
		p.line("It changes nothing that anyone meets.")
		return
	}
	p.line("%s", e.Short)
	var rows [][]string
	for _, l := range e.Lost {
		who := "not from " + strings.Join(l.From, ", ")
		if l.Nobody {
			who = "nobody is left who reaches it"
		}
		rows = append(rows, []string{p.look(fmt.Sprintf("%s:%d", l.Place, l.Port)), l.Service, who})
	}
	section("Ports for administration that are lost", rows)
	rows = nil
	for _, n := range e.Names {
		before, after := of(n.Before, "was not there"), of(n.After, "is not there")
		if n.Stops() {
			after = p.look(after)
		}
		rows = append(rows, []string{fmt.Sprintf("%s:%d/%s", n.Name, n.Port, n.Transport), "from " + n.From, before, "→ " + after})
	}
	section("Names", rows)
	rows = nil
	for _, d := range e.Doors {
		what := "closes"
		if d.Opens {
			what = "opens, " + map[exposure.Covered]string{exposure.Declared: "declared", exposure.Partial: "declared in part", exposure.None: "declared by nobody"}[d.Intent]
			if d.Intent != exposure.Declared {
				what = p.look(what)
			}
		}
		rows = append(rows, []string{d.Address, d.Ports + "/" + d.Transport, "to " + d.To, d.Place, what})
	}
	section("Doors", rows)
	for _, part := range []struct {
		title string
		list  []effect.Brief
	}{{"Findings that come", e.Brought}, {"Findings that end", e.Ended}} {
		rows = nil
		for _, f := range part.list {
			rows = append(rows, []string{string(f.Level), f.Code, f.Subject, f.Why})
		}
		section(part.title, rows)
	}
	rows = nil
	for _, o := range e.Old {
		what := "the old answer may be seen for " + o.Seconds.String()
		if o.Missing {
			what = "that it was not there may be remembered for " + o.Seconds.String()
		}
		rows = append(rows, []string{o.Name, o.Type, what})
	}
	section("Old answers", rows)
}
