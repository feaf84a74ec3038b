package main

import (
	"context"
	"fmt"
	"io"
	"time"

	"steady-compass/core/dates"
	"steady-compass/core/survey"
	"steady-compass/server"
)

type datesCommand struct {
	ICS bool `help:"Print a calendar to take into another program (iCalendar, RFC 5545)." name:"ics" xor:"form"`
	question
}

func (c *datesCommand) Run(ctx context.Context, s streams) error {
	if c.ICS && c.JSON {
		return wrong("--ics and --json: two forms of one answer; expected one of them")
	}
	t, day, err := c.load(ctx, s)
	if err != nil {
		return err
	}
	known, err := c.known(ctx)
	if err != nil {
		return err
	}
	calendar, err := dates.Of(ctx, survey.New(t.Model.Estate, day), known)
	if err != nil {
		return err
	}
	switch {
	case c.ICS:
		_, err := io.WriteString(s.out, calendar.Feed(t.Model.Estate.Name(), time.Now()))
		return err
	case c.JSON:
		return printJSON(s.out, calendar)
	}
	printDates(newPaper(s.out), calendar)
	return nil
}

// known is what a database knows beside its records; a file has none. It hangs on the clock, and so is left out where a day is said.
func (c *datesCommand) known(ctx context.Context) (dates.Known, error) {
	if c.DB == "" || c.Day != "" {
		return dates.Known{}, nil
	}
	db, err := openThere(ctx, c.DB)
	if err != nil {
		return dates.Known{}, err
	}
	defer func() { _ = db.Close() }()
	return server.KnownOf(ctx, db, time.Now())
}

func printDates(p *paper, c dates.Calendar) {
	if len(c.Dates) == 0 {
		p.line("Nothing comes due: no certificate, no line until a day, no registration.")
		return
	}
	for i := range c.Dates {
		d := &c.Dates[i]
		when := whenWord(d)
		if d.Concern {
			when = p.look(when)
		}
		p.line("%s  %s  %s", when, d.Name, p.faint(string(d.Kind)))
		p.line("    %s", d.Means)
		if w := d.Window; w != nil && w.From <= c.Day {
			p.line("    Tried since %s: %d tries left.", w.From, w.Tries)
		}
		if d.Record != "" {
			p.line("      %s", p.faint(d.Record))
		}
	}
}

// whenWord is the day of what comes due, and how far off that is.
func whenWord(d *dates.Due) string {
	if at, err := time.Parse(time.RFC3339, d.At); err == nil {
		return at.Local().Format("2006-01-02 15:04")
	}
	switch {
	case d.Days == 0:
		return d.Date + ", today"
	case d.Days < 0:
		return fmt.Sprintf("%s, %s ago", d.Date, days(-d.Days))
	}
	return fmt.Sprintf("%s, in %s", d.Date, days(d.Days))
}

func days(n int) string {
	if n == 1 {
		return "1 day"
	}
	return fmt.Sprintf("%d days", n)
}
