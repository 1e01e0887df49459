package forecast

import (
	"fmt"
	"io"
	"time"

	ics "github.com/arran4/golang-ical"
)

// WriteCalendar writes coming starts as an iCalendar file (RFC 5545): an event each, as long as its
// run will take, a quarter of an hour where that is not known. An event's UID names job and slot, so
// that a calendar that takes the file in again has each once.
func WriteCalendar(w io.Writer, title string, all []Coming, words func(job string) string, now time.Time) error {
	cal := ics.NewCalendarFor("Lumtra")
	cal.SetMethod(ics.MethodPublish)
	cal.SetName(title)
	for i := range all {
		c := &all[i]
		e := cal.AddEvent(fmt.Sprintf("%s-%d@lumtra", c.Job, c.Start.At.Unix()))
		e.SetDtStampTime(now)
		e.SetStartAt(c.At)
		length := c.Usual
		if length == 0 {
			length = 15 * time.Minute
		}
		e.SetEndAt(c.At.Add(length.Round(time.Second)))
		e.SetSummary(c.Job)
		text := words(c.Job)
		if c.Usual > 0 {
			text += fmt.Sprintf("\nTakes %s to %s, by past runs.", c.Short.Round(time.Second),
				c.Longest.Round(time.Second))
		}
		e.SetDescription(text)
	}
	return cal.SerializeTo(w, ics.WithNewLineWindows)
}
