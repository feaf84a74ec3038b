package dates

import (
	"crypto/sha256"
	"fmt"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"

	"steady-compass/core/estate"
)

// summaries are what an entry of a calendar says first, of each kind.
var summaries = map[Kind]string{
	Certificate:  "Certificate %s ends",
	Temporary:    "%s was meant until today",
	Accepted:     "Taken on until today: %s",
	Registration: "Registration of %s ends",
	OldAnswer:    "Old answers of %s are over",
	Looked:       "A month old: %s",
}

// Feed is the calendar as iCalendar (RFC 5545): an event a date, all day, or at the moment where that is known. An event keeps its UID
// while its date moves (§3.8.4.7), so that whoever subscribes sees it move. Stamp is when it was made.
func (c Calendar) Feed(name string, stamp time.Time) string {
	cal := ics.NewCalendarFor("Steady Compass")
	cal.SetMethod(ics.MethodPublish)
	cal.SetXWRCalName(name)
	for i := range c.Dates {
		d := &c.Dates[i]
		e := cal.AddEvent(d.uid())
		e.SetDtStampTime(stamp.UTC())
		e.SetSummary(fmt.Sprintf(summaries[d.Kind], d.Name))
		e.SetDescription(strings.TrimSpace(d.Means + "\n" + d.Record))
		e.AddCategory(string(d.Kind))
		e.SetTimeTransparency(ics.TransparencyTransparent) // nobody is busy by it (§3.8.2.7)
		if at, err := time.Parse(time.RFC3339, d.At); err == nil {
			e.SetStartAt(at)
			e.SetEndAt(at)
			continue
		}
		day := estate.Date(d.Date).Time()
		e.SetAllDayStartAt(day)
		e.SetAllDayEndAt(day.AddDate(0, 0, 1)) // the day after (§3.6.1)
	}
	return cal.Serialize(ics.WithNewLineWindows)
}

// uid is the same for what comes due whenever it does.
func (d *Due) uid() string {
	about := d.Name
	if d.Kind == Temporary || d.Kind == Accepted {
		about = strings.Replace(d.Record, " until "+d.Date, "", 1)
	}
	return fmt.Sprintf("%x@steady-compass", sha256.Sum256([]byte(string(d.Kind)+" "+about)))
}
