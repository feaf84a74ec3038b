package dates

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	ics "github.com/arran4/golang-ical"

	"steady-compass/core/notation/notationtest"
	"steady-compass/core/survey"
)

const small = `
network lan 10.0.0.0/24
host gate router
host box
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address box 10.0.0.5 lan
zone a.example expires 2026-12-20
zone b.example expires 2026-11-20
dns a.example A 203.0.113.1
dns www.a.example CNAME a.example
forward gate 443 to 10.0.0.5
filter local on box input otherwise drop
rule local pass 443
rule local pass 8443 from lan until 2026-11-01
rule local pass 9000 from lan until 2026-12-24 note "a trial"
rule local pass 9001 from lan until 2026-11-02 off
listen box 443 as web tls cert hand
listen box 9000 as demo
listen box 8443 as old
intend a.example 443 for internet
cert hand for a.example,www.a.example expires 2026-12-09 on box by hand
cert auto for x.a.example expires 2026-12-11 on box by http-01
cert done for y.a.example expires 2026-11-28 on box by hand
cert want for z.a.example on box by http-01
accept name.no-www a.example until 2026-11-26 note "not needed"
accept exposure.undeclared gate:443/tcp until 2027-01-10 note "known"
`

func calendarOf(t *testing.T, old ...Kept) Calendar {
	t.Helper()
	c, err := Of(context.Background(), survey.New(notationtest.Parse(t, small), "2026-11-30"), Known{Old: old})
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// TestDates holds what comes due, when, what is late and what is a concern: by the records' own dates, nothing that is off or has none.
func TestDates(t *testing.T) {
	c := calendarOf(t, Kept{Name: "a.example", Type: "A", Until: time.Date(2026, 11, 30, 14, 5, 0, 0, time.UTC)})
	var got []string
	for _, d := range c.Dates {
		mark := ""
		if d.Late {
			mark += " late"
		}
		if d.Concern {
			mark += " concern"
		}
		if d.Window != nil {
			mark += fmt.Sprintf(" %s to %s, %d tries", d.Window.From, d.Window.Until, d.Window.Tries)
		}
		got = append(got, fmt.Sprintf("%s %d %s: %s%s", d.Date, d.Days, d.Kind, d.Name, mark))
	}
	want := []string{
		"2026-11-01 -29 temporary: local, line 2 late concern",
		"2026-11-20 -10 registration: b.example late concern",
		"2026-11-26 -4 taken-on: a.example late",
		"2026-11-28 -2 certificate: done late concern",
		"2026-11-30 0 old-answer: a.example",
		"2026-12-09 9 certificate: hand concern",
		"2026-12-11 11 certificate: auto concern 2026-11-11 to 2026-12-11, 12 tries",
		"2026-12-20 20 registration: a.example concern",
		"2026-12-24 24 temporary: local, line 3",
		"2027-01-10 41 taken-on: gate:443/tcp",
	}
	if !slices.Equal(got, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// TestFeed holds that the feed is read back as it was meant: a day a date, its end the day after; and that an event is the same one when its
// date has moved.
func TestFeed(t *testing.T) {
	c := calendarOf(t)
	stamp := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	feed := c.Feed("Dates", stamp)
	for _, line := range strings.Split(strings.TrimSuffix(feed, "\r\n"), "\r\n") {
		if strings.Contains(line, "\n") || len(line) > 75 {
			t.Errorf("a line of %d bytes: %q", len(line), line)
		}
	}
	cal, err := ics.ParseCalendar(strings.NewReader(feed))
	if err != nil {
		t.Fatal(err)
	}
	if len(cal.Events()) != len(c.Dates) {
		t.Fatalf("%d events of %d dates", len(cal.Events()), len(c.Dates))
	}
	ids := map[string]bool{}
	for i, e := range cal.Events() {
		from, err := e.GetAllDayStartAt()
		if err != nil {
			t.Fatal(err)
		}
		to, err := e.GetAllDayEndAt()
		if err != nil {
			t.Fatal(err)
		}
		if from.Format(time.DateOnly) != c.Dates[i].Date || to.Sub(from) != 24*time.Hour {
			t.Errorf("%s: from %v to %v", c.Dates[i].Name, from, to)
		}
		if got := ics.FromText(e.GetProperty(ics.ComponentPropertyDescription).Value); !strings.Contains(got, c.Dates[i].Record) {
			t.Errorf("%q does not have %q", got, c.Dates[i].Record)
		}
		ids[e.Id()] = true
	}
	if len(ids) != len(c.Dates) {
		t.Errorf("%d UIDs of %d dates", len(ids), len(c.Dates))
	}
	moved := c.Dates[0]
	moved.Record = strings.Replace(moved.Record, moved.Date, "2027-05-05", 1)
	moved.Date = "2027-05-05"
	if moved.uid() != c.Dates[0].uid() {
		t.Error("an event is another one once its date moves")
	}
}

// TestLooksGrowOld: what was seen from a vantage comes due a month after the last look.
func TestLooksGrowOld(t *testing.T) {
	known := Known{Looked: map[string]time.Time{"internet": time.Date(2026, 11, 20, 10, 0, 0, 0, time.UTC), "lan": time.Date(2026, 10, 1, 10, 0, 0, 0, time.UTC)}}
	c, err := Of(context.Background(), survey.New(notationtest.Parse(t, "estate \"x\"\n"), "2026-11-30"), known)
	if err != nil {
		t.Fatal(err)
	}
	if len(c.Dates) != 2 || c.Dates[0].Name != "looks from lan" || c.Dates[0].Date != "2026-10-31" || !c.Dates[0].Late || c.Dates[1].Date != "2026-12-20" || c.Dates[1].Late {
		t.Errorf("%+v", c.Dates)
	}
	if feed := c.Feed("x", time.Now()); !strings.Contains(feed, "A month old: looks from internet") {
		t.Error(feed)
	}
}
