package schedule

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// from is a Monday, in winter time.
var from = time.Date(2026, 3, 23, 10, 7, 0, 0, time.UTC)

const shown = "Mon 2006-01-02 15:04 -07:00"

// coming are the next starts as text, in Lisbon, where clocks go forward on the 29th of March 2026
// from 01:00 to 02:00 and back on the 25th of October from 02:00 to 01:00.
func coming(t *testing.T, s Settings, after time.Time, n int) []string {
	t.Helper()
	if s.Zone == "" {
		s.Zone = "Europe/Lisbon"
	}
	x, err := New(&s, nil)
	require.NoError(t, err)
	var all []string
	for _, c := range x.Coming(after, n) {
		text := c.At.In(x.Zone()).Format(shown)
		if c.Clock != Steady {
			text += " " + string(c.Clock)
		}
		all = append(all, text)
	}
	return all
}

// What each form means, in plain words and in times.
func TestForms(t *testing.T) {
	for text, c := range map[string]struct {
		words string
		first []string
	}{
		"every 15 minutes": {"every 15 minutes", []string{"Mon 2026-03-23 10:15 +00:00",
			"Mon 2026-03-23 10:30 +00:00"}},
		"every hour": {"every hour", []string{"Mon 2026-03-23 11:00 +00:00"}},
		"every 90 minutes": {"every 1 hour 30 minutes", []string{"Mon 2026-03-23 10:30 +00:00",
			"Mon 2026-03-23 12:00 +00:00"}},
		"daily at 23:30": {"every day at 23:30", []string{"Mon 2026-03-23 23:30 +00:00",
			"Tue 2026-03-24 23:30 +00:00"}},
		"every day at 7:05": {"every day at 07:05", []string{"Tue 2026-03-24 07:05 +00:00"}},
		"Weekdays at 19:00, 07:00": {"Monday to Friday at 07:00 and 19:00",
			[]string{"Mon 2026-03-23 19:00 +00:00", "Tue 2026-03-24 07:00 +00:00"}},
		"weekends at 12:00": {"Saturday and Sunday at 12:00", []string{"Sat 2026-03-28 12:00 +00:00",
			"Sun 2026-03-29 12:00 +01:00"}},
		"mon, wed and friday at 06:00": {"Monday, Wednesday and Friday at 06:00",
			[]string{"Wed 2026-03-25 06:00 +00:00"}},
		"fri-mon at 06:00": {"Monday, Friday, Saturday and Sunday at 06:00",
			[]string{"Fri 2026-03-27 06:00 +00:00"}},
		"daily at 19:00 and 07:00": {"every day at 07:00 and 19:00", []string{"Mon 2026-03-23 19:00 +00:00",
			"Tue 2026-03-24 07:00 +00:00"}},
		"every tuesday at 06:00": {"Tuesday at 06:00", []string{"Tue 2026-03-24 06:00 +00:00"}},
		"last friday at 20:00": {"the last Friday of the month at 20:00",
			[]string{"Fri 2026-03-27 20:00 +00:00", "Fri 2026-04-24 20:00 +01:00"}},
		"first monday at 01:30": {"the first Monday of the month at 01:30",
			[]string{"Mon 2026-04-06 01:30 +01:00"}},
		"day 1, 15 at 03:00": {"day 1 and 15 of the month at 03:00", []string{"Wed 2026-04-01 03:00 +01:00",
			"Wed 2026-04-15 03:00 +01:00"}},
		"day 31 at 03:00": {"day 31 of the month at 03:00", []string{"Tue 2026-03-31 03:00 +01:00",
			"Sun 2026-05-31 03:00 +01:00"}},
		"last day at 03:00": {"the last day of the month at 03:00", []string{"Tue 2026-03-31 03:00 +01:00",
			"Thu 2026-04-30 03:00 +01:00"}},
		"every 3 days at 05:00": {"every 3 days at 05:00", []string{"Tue 2026-03-24 05:00 +00:00",
			"Fri 2026-03-27 05:00 +00:00"}},
		"once 2026-12-24 18:00": {"once, on Thursday, 24 December 2026 at 18:00",
			[]string{"Thu 2026-12-24 18:00 +00:00"}},
		"cron 30 23 * * mon-fri": {"Monday to Friday at 23:30", []string{"Mon 2026-03-23 23:30 +00:00"}},
		"cron */20 * * * *":      {"every 20 minutes", []string{"Mon 2026-03-23 10:20 +00:00"}},
		"cron 5 * * 4 *": {"every hour at :05, every day in April",
			[]string{"Wed 2026-04-01 00:05 +01:00"}},
		"cron 0 4 13 * fri": {"day 13 of the month, and each Friday at 04:00",
			[]string{"Fri 2026-03-27 04:00 +00:00", "Fri 2026-04-03 04:00 +01:00"}},
		"cron @daily": {"every day at 00:00", []string{"Tue 2026-03-24 00:00 +00:00"}},
		"cron 0 0 29 2 *": {"day 29 of the month in February at 00:00",
			[]string{"Tue 2028-02-29 00:00 +00:00"}},
		"rrule FREQ=WEEKLY;BYDAY=TU,TH": {"every week on Tuesday and Thursday at 00:00",
			[]string{"Tue 2026-03-24 00:00 +00:00", "Thu 2026-03-26 00:00 +00:00"}},
		"rrule FREQ=MONTHLY;BYDAY=-1FR;BYHOUR=20": {"every month on Friday 1 from the end at 20:00",
			[]string{"Fri 2026-03-27 20:00 +00:00", "Fri 2026-04-24 20:00 +01:00"}},
		"rrule DTSTART:20260323T103000 RRULE:FREQ=DAILY;COUNT=2": {"every day at 10:30, until 2026-03-24 10:30",
			[]string{"Mon 2026-03-23 10:30 +00:00", "Tue 2026-03-24 10:30 +00:00"}},
		"rrule DTSTART:20260323T103059 RRULE:FREQ=DAILY": {"every day at 10:30",
			[]string{"Mon 2026-03-23 10:30 +00:00"}},
		"rrule DTSTART;TZID=America/New_York:20260323T103000 RRULE:FREQ=DAILY": {"every day at 14:30",
			[]string{"Mon 2026-03-23 14:30 +00:00"}},
		"cron 0 4 */31 * *": {"day 1 of the month at 04:00", []string{"Wed 2026-04-01 04:00 +01:00"}},
		"rrule FREQ=HOURLY;INTERVAL=5;BYMINUTE=10,40;BYDAY=MO": {"every 5 hours on Monday",
			[]string{"Mon 2026-03-23 13:10 +00:00", "Mon 2026-03-23 13:40 +00:00", "Mon 2026-03-23 18:10 +00:00"}},
		"rrule FREQ=MINUTELY;INTERVAL=10;BYMINUTE=20,50": {"every 10 minutes", []string{"Mon 2026-03-23 10:20 +00:00",
			"Mon 2026-03-23 10:50 +00:00", "Mon 2026-03-23 11:20 +00:00"}},
		"rrule FREQ=HOURLY;BYHOUR=3,5": {"every hour", []string{"Tue 2026-03-24 03:00 +00:00",
			"Tue 2026-03-24 05:00 +00:00", "Wed 2026-03-25 03:00 +00:00"}},
		"day 1 and 15 at 03:00": {"day 1 and 15 of the month at 03:00", []string{"Wed 2026-04-01 03:00 +01:00",
			"Wed 2026-04-15 03:00 +01:00"}},
		"rrule FREQ=MINUTELY;INTERVAL=1440;BYHOUR=0": {"every 1,440 minutes", []string{"Tue 2026-03-24 00:00 +00:00"}},
		"after masters": {"after masters has ended well", nil},
		"on arrival":    {"when something arrives at the source", nil},
		"":              {"never by itself", nil},
		"never":         {"never by itself", nil},
	} {
		t.Run(text, func(t *testing.T) {
			x, err := New(&Settings{Start: text, Zone: "Europe/Lisbon"}, nil)
			require.NoError(t, err)
			want := c.words
			if x.Timed() {
				want += ", Europe/Lisbon time"
			}
			assert.Equal(t, want, x.String())
			if len(c.first) > 0 {
				assert.Equal(t, c.first, coming(t, Settings{Start: text}, from, len(c.first)))
			}
			_, comes := x.Next(from)
			assert.Equal(t, len(c.first) > 0, comes)
			assert.Equal(t, comes, x.Timed())
		})
	}
}

// Days of the month and months hold for rules by the hour, too.
func TestHoursOfSomeDays(t *testing.T) {
	after := time.Date(2026, 4, 20, 12, 0, 0, 0, time.UTC)
	assert.Equal(t, []string{"Fri 2026-05-01 00:00 +01:00", "Fri 2026-05-01 12:00 +01:00",
		"Sun 2026-05-31 00:00 +01:00",
		"Sun 2026-05-31 12:00 +01:00", "Thu 2026-10-01 00:00 +01:00"},
		coming(t, Settings{Start: "rrule FREQ=HOURLY;INTERVAL=12;BYMONTH=5,10;BYMONTHDAY=1,-1"}, after, 5))
}

// Clocks that were put back over midnight, as those of St. John's were at 00:01 until 2011, begin a day
// twice: what is left out of the day before is left out, and the search goes on.
func TestBackOverMidnight(t *testing.T) {
	x, err := New(&Settings{Start: "cron */30 * * * *", Zone: "America/St_Johns", Except: []string{"2010-11-06"}}, nil)
	require.NoError(t, err)
	s, some := x.Next(time.Date(2010, 11, 7, 2, 30, 30, 0, time.UTC)) // after the first midnight
	require.True(t, some)
	assert.Equal(t, "2010-11-07 00:00 -0330", s.At.In(x.zone).Format("2006-01-02 15:04 -0700"))
}

// The most that a recurrence rule may say, and one more.
func TestMostOfRules(t *testing.T) {
	for rule, most := range map[string]int{"FREQ=DAILY;COUNT=%d": mostCount, "FREQ=DAILY;INTERVAL=%d": 100_000} {
		_, err := New(&Settings{Start: "rrule " + fmt.Sprintf(rule, most)}, nil)
		assert.NoError(t, err, rule)
		_, err = New(&Settings{Start: "rrule " + fmt.Sprintf(rule, most+1)}, nil)
		assert.ErrorContains(t, err, fmt.Sprintf("it is %d at the most", most), rule)
	}
}

// What clock changes do is told of each start that they touch.
func TestClockChanges(t *testing.T) {
	forward, back := time.Date(2026, 3, 28, 0, 0, 0, 0, time.UTC), time.Date(2026, 10, 24, 0, 0, 0, 0, time.UTC)
	assert.Equal(t, []string{"Sat 2026-03-28 01:30 +00:00", "Sun 2026-03-29 02:00 +01:00 moved",
		"Mon 2026-03-30 01:30 +01:00"},
		coming(t, Settings{Start: "daily at 01:30"}, forward, 3))
	assert.Equal(t, []string{"Sat 2026-10-24 01:30 +01:00", "Sun 2026-10-25 01:30 +01:00 doubled",
		"Mon 2026-10-26 01:30 +00:00"},
		coming(t, Settings{Start: "daily at 01:30"}, back, 3))
	assert.Equal(t, []string{"Sun 2026-03-29 02:00 +01:00 moved", "Sun 2026-03-29 02:10 +01:00"},
		coming(t, Settings{Start: "rrule FREQ=DAILY;BYHOUR=1,2;BYMINUTE=10"}, forward.Add(24*time.Hour), 2))
	assert.Equal(t, []string{"Sun 2026-10-25 01:30 +01:00", "Sun 2026-10-25 01:30 +00:00",
		"Sun 2026-10-25 02:30 +00:00"},
		coming(t, Settings{Start: "cron 30 * * * *"}, back.Add(24*time.Hour), 3), "by the clock, each hour")
	apia, err := time.LoadLocation("Pacific/Apia")
	require.NoError(t, err)
	at, how := moment(time.Date(2011, 12, 30, 12, 0, 0, 0, time.UTC), apia)
	assert.Equal(t, missing, how, "a day that was left out")
	assert.Equal(t, "2011-12-31 00:00", at.In(apia).Format("2006-01-02 15:04"))
}

// twoGaps is a zone whose clocks go forward by an hour at two moments, as the system's files have it (RFC 9636).
func twoGaps(t *testing.T, first, second time.Time) *time.Location {
	raw := []byte("TZif\x00" + strings.Repeat("\x00", 15))
	for _, n := range []uint32{0, 0, 0, 2, 3, 4} { // times and kinds of time, and the letters of their name
		raw = binary.BigEndian.AppendUint32(raw, n)
	}
	raw = binary.BigEndian.AppendUint32(raw, uint32(first.Unix()))
	raw = binary.BigEndian.AppendUint32(raw, uint32(second.Unix()))
	raw = append(raw, 1, 2)
	for hours := range uint32(3) {
		raw = append(binary.BigEndian.AppendUint32(raw, hours*3600), 0, 0)
	}
	zone, err := time.LoadLocationFromTZData("two gaps", append(raw, "GAP\x00"...))
	require.NoError(t, err)
	return zone
}

// Where clocks have changed twice within days, a time that is missing is that of its own change.
func TestTwoChangesWithinDays(t *testing.T) {
	first := time.Date(2026, 3, 1, 1, 0, 0, 0, time.UTC)
	second := first.Add(24*time.Hour - time.Hour) // at 01:00 by the clocks of then
	zone := twoGaps(t, first, second)
	for wall, want := range map[time.Time]time.Time{
		time.Date(2026, 3, 1, 1, 30, 0, 0, time.UTC): first,
		time.Date(2026, 3, 2, 1, 30, 0, 0, time.UTC): second,
	} {
		at, how := moment(wall, zone)
		assert.Equal(t, missing, how)
		assert.True(t, want.Equal(at), "%s", at)
	}
}

// A mistake is told at its place, with what would be right.
func TestMistakes(t *testing.T) {
	for text, c := range map[string]struct {
		at   int
		says string
	}{
		"every 0 minutes":                            {6, "between 1 and 100000"},
		"every 100001 minutes":                       {6, "between 1 and 100000"},
		"rrule FREQ=DAILY;BYHOUR=25":                 {6, "RFC 5545"},
		"every 15 fortnights":                        {9, `"fortnights" is none of "minutes"`},
		"every 15":                                   {8, "followed by"},
		"daily":                                      {5, "at what time?"},
		"daily at 25:00":                             {9, `"25:00" is no time of the day`},
		"daily at":                                   {8, "followed by times"},
		"dayly at 3:00":                              {0, "did you mean"},
		"last at 3:00":                               {12, "weekday"},
		"last friday at 3:00 sharp":                  {20, `"sharp"`},
		"day 32 at 03:00":                            {4, "between 1 and 31"},
		"day 31, 0 at 03:00":                         {8, "between 1 and 31"},
		"cron 30 25 * * *":                           {8, "the hour (0-23)"},
		"cron 30 23 * *":                             {14, "five fields"},
		"cron 30 23 * * mon extra":                   {19, "five fields"},
		"cron @every 5m":                             {5, "every 15 minutes"},
		"cron TZ=Europe/Lisbon 1 1 * * *":            {5, "set zone"},
		"cron 0 0 30 2 *":                            {0, "never comes"},
		"day 30 at 03:00 february":                   {16, "no time of the day"},
		"rrule FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30":   {0, "never comes"},
		"rrule FREQ=NEVERLY":                         {6, "RFC 5545"},
		"rrule FREQ=SECONDLY":                        {6, "by the second"},
		"rrule FREQ=MINUTELY;INTERVAL=1440;BYHOUR=3": {0, "never comes"},
		"rrule FREQ=DAILY;COUNT=99999999":            {6, "COUNT"},
		"rrule FREQ=DAILY;BYSECOND=5":                {6, "by the second"},
		"rrule FREQ=DAILY;BYSECOND=0,5":              {6, "by the second"},
		"rrule FREQ=HOURLY;BYMINUTE=0;BYSETPOS=1":    {6, "by the day and longer"},
		"rrule FREQ=HOURLY;BYWEEKNO=3":               {6, "by the day and longer"},
		"rrule FREQ=MINUTELY;BYYEARDAY=3":            {6, "by the day and longer"},
		"once 2026-02-30 10:00":                      {5, "reads like"},
		"once 1969-02-20 10:00":                      {5, "before the year 2000"},
		"after":                                      {5, "one job's name"},
		"after a b":                                  {6, "one job's name"},
		"on tuesday":                                 {3, "on arrival"},
		"never again":                                {6, "nothing follows"},
	} {
		_, err := New(&Settings{Start: text}, nil)
		var w *Wrong
		if assert.ErrorAs(t, err, &w, text) {
			assert.Contains(t, w.What, c.says, text)
			assert.Equal(t, c.at, w.At, text)
			assert.Equal(t, "start", w.Setting)
		}
	}
	for _, missed := range []string{"sometimes", "0s", "-1h"} {
		_, err := New(&Settings{Missed: missed}, nil)
		assert.Error(t, err, missed)
	}
	for setting, s := range map[string]Settings{
		"zone":       {Zone: "Mars/Olympus"},
		"except":     {Except: []string{"2026-02-30"}},
		"window":     {Window: []string{"always"}},
		"window-end": {WindowEnd: "explode"},
		"missed":     {Missed: "-5m"},
		"overlap":    {Overlap: "both"},
		"spread":     {Spread: "-5m"},
		"start":      {Start: "daily at 03:00", Window: []string{"04:00-05:00"}},
	} {
		_, err := New(&s, nil)
		var w *Wrong
		if assert.ErrorAs(t, err, &w, setting) {
			assert.Equal(t, setting, w.Setting)
		}
	}
}

// Dates are left out, those of a calendar file too, with what comes again each year.
func TestExcept(t *testing.T) {
	open := func(name string) (io.ReadCloser, error) {
		if name != "days.ics" {
			return nil, os.ErrNotExist
		}
		return io.NopCloser(strings.NewReader("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//made up//EN\r\n" +
			"BEGIN:VEVENT\r\nUID:1\r\nDTSTAMP:20200101T000000Z\r\nSUMMARY:Spring " +
			"tide\r\nDTSTART;VALUE=DATE:20260324\r\n" +
			"DTEND;VALUE=DATE:20260326\r\nEND:VEVENT\r\n" +
			"BEGIN:VEVENT\r\nUID:2\r\nDTSTAMP:20200101T000000Z\r\nSUMMARY:Founding " +
			"day\r\nDTSTART;VALUE=DATE:20200327\r\n" +
			"RRULE:FREQ=YEARLY\r\nEXDATE;VALUE=DATE:20270327\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n")), nil
	}
	x, err := New(&Settings{Start: "daily at 12:00", Zone: "UTC", Except: []string{"days.ics",
		"2026-03-28 to 2026-04-01"}}, open)
	require.NoError(t, err)
	var days []string
	for _, s := range x.Coming(from, 3) {
		days = append(days, s.At.UTC().Format("01-02"))
	}
	assert.Equal(t, []string{"03-23", "03-26", "04-02"}, days)
	s, _ := x.Next(time.Date(2027, 3, 26, 13, 0, 0, 0, time.UTC))
	assert.Equal(t, "2027-03-27", s.At.UTC().Format(time.DateOnly), "a date that the calendar takes back")
	s, _ = x.Next(time.Date(2028, 3, 26, 13, 0, 0, 0, time.UTC))
	assert.Equal(t, "2028-03-28", s.At.UTC().Format(time.DateOnly))
	_, err = New(&Settings{Start: "daily at 12:00", Except: []string{"other.ics"}}, open)
	assert.ErrorContains(t, err, "the calendar other.ics")
	for _, rule := range []string{"FREQ=HOURLY", "FREQ=NEVERLY"} {
		_, err = New(&Settings{Start: "daily at 12:00", Except: []string{"x.ics"}}, func(string) (io.ReadCloser,
			error) {
			return io.NopCloser(strings.NewReader("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\n" +
				"BEGIN:VEVENT\r\nUID:1\r\nDTSTART;VALUE=DATE:20260324\r\nRRULE:" + rule +
				"\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n")), nil
		})
		assert.ErrorContains(t, err, "cannot be read", rule)
	}
	_, err = New(&Settings{Start: "daily at 12:00", Except: []string{"x.ics"}},
		func(string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("no calendar")), nil })
	assert.Error(t, err)
}

// Dates that are left out twice, within longer spans or at their borders, are left out once.
func TestExceptOverlapping(t *testing.T) {
	for _, except := range [][]string{
		{"2026-03-23 to 2026-03-30", "2026-03-25"},
		{"2026-03-25", "2026-03-23 to 2026-03-30", "2026-03-24 to 2026-03-26"},
		{"2026-03-27 to 2026-03-30", "2026-03-23 to 2026-03-26"},
		{"2026-03-26 to 2026-03-30", "2026-03-23 to 2026-03-28"},
		{"2026-03-23", "2026-03-24", "2026-03-25 to 2026-03-30", "2026-03-23"},
	} {
		x, err := New(&Settings{Start: "daily at 12:00", Zone: "UTC", Except: except}, nil)
		require.NoError(t, err)
		for day := range 8 {
			s, _ := x.Next(from.AddDate(0, 0, day))
			assert.Equal(t, "03-31", s.At.UTC().Format("01-02"), "%v after %d days", except, day)
		}
	}
}

// An event of a calendar leaves out each day that it touches; one that ends at midnight does not touch the next.
func TestExceptByTheHour(t *testing.T) {
	for span, first := range map[string]string{
		"DTSTART:20260323T090000\r\nDTEND:20260323T100000":         "03-24",
		"DTSTART:20260323T090000\r\nDTEND:20260325T000000":         "03-25",
		"DTSTART:20260323T090000\r\nDTEND:20260325T080000":         "03-26",
		"DTSTART:20260323T090000\r\nDTEND:20260323T080000":         "03-24", // ends before it begins
		"DTSTART:20260323T090000\r\nDTEND:20260322T080000":         "03-24", // and a day before
		"DTSTART:20260323T000000\r\nDTEND:20260323T000001":         "03-24",
		"DTSTART:20260323T090000":                                  "03-24",
		"DTSTART;VALUE=DATE:20260323\r\nDTEND;VALUE=DATE:20260324": "03-24",
		"DTSTART;VALUE=DATE:20260323\r\nDTEND;VALUE=DATE:20260326": "03-26",
	} {
		x, err := New(&Settings{Start: "daily at 12:00", Zone: "UTC", Except: []string{"x.ics"}},
			func(string) (io.ReadCloser, error) {
				return io.NopCloser(strings.NewReader("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\n" +
					"BEGIN:VEVENT\r\nUID:1\r\n" + span + "\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n")), nil
			})
		require.NoError(t, err)
		s, _ := x.Next(from)
		assert.Equal(t, first, s.At.UTC().Format("01-02"), span)
	}
}

// Of missed starts the last runs, once, if it is not too late; others are skipped, and told.
func TestMissed(t *testing.T) {
	now := from
	starts := []Start{{At: now.Add(-5 * time.Hour)}, {At: now.Add(-2 * time.Hour)}, {At: now.Add(-time.Hour)}}
	for policy, c := range map[string]struct {
		run     int // -1 for none
		skipped int
	}{"": {2, 2}, "run": {2, 2}, "skip": {-1, 3}, "3h": {2, 2}, "30m": {-1, 3}, "1h": {-1, 3}} {
		x, err := New(&Settings{Missed: policy}, nil)
		require.NoError(t, err)
		run, skipped := x.Missed(starts, now)
		assert.Len(t, skipped, c.skipped, policy)
		if c.run < 0 {
			assert.Nil(t, run, policy)
		} else if assert.NotNil(t, run, policy) {
			assert.Equal(t, starts[c.run], *run, policy)
		}
	}
}

func TestOverlapping(t *testing.T) {
	for overlap, want := range map[Overlap][4]Verdict{ // free; at work; at work and one waits; free and one waits
		"":       {Begin, Skip, Skip, Skip},
		SkipIt:   {Begin, Skip, Skip, Skip},
		QueueOne: {Begin, Queue, Skip, Skip},
		QueueAll: {Begin, Queue, Queue, Queue},
	} {
		x, err := New(&Settings{Overlap: overlap}, nil)
		require.NoError(t, err)
		assert.Equal(t, want, [4]Verdict{x.Overlapping(false, 0), x.Overlapping(true, 0), x.Overlapping(true, 1),
			x.Overlapping(false, 1)}, overlap)
	}
}

// Starts are spread, each job's the same each time one asks, and no two jobs' alike.
func TestDelay(t *testing.T) {
	x, err := New(&Settings{Start: "daily at 02:00", Spread: "10m"}, nil)
	require.NoError(t, err)
	seen := map[time.Duration]bool{}
	for _, job := range []string{"masters", "field", "press", "maps", "tapes"} {
		d := x.Delay(job, from)
		assert.Equal(t, d, x.Delay(job, from))
		assert.True(t, d >= 0 && d <= 10*time.Minute)
		seen[d] = true
	}
	assert.Greater(t, len(seen), 3)
	x, err = New(&Settings{Start: "daily at 02:00"}, nil)
	require.NoError(t, err)
	assert.Zero(t, x.Delay("masters", from))
}

// Windows open and close.
func TestWindow(t *testing.T) {
	x, err := New(&Settings{Zone: "UTC", Window: []string{"20:00-06:00 mon-fri"}, WindowEnd: Pauses}, nil)
	require.NoError(t, err)
	open, until := x.Open(from)
	assert.False(t, open)
	assert.Equal(t, "03-23 20:00", until.UTC().Format("01-02 15:04"))
	open, until = x.Open(until)
	assert.True(t, open)
	assert.Equal(t, "03-24 06:00", until.UTC().Format("01-02 15:04"))
	assert.Equal(t, Pauses, x.AtWindowEnd())
	var none *Schedule
	open, _ = none.Open(from)
	assert.True(t, open)
	assert.False(t, none.ByItself())
}

// Whatever is typed is read, or told as a mistake at a place within the text; nothing takes long.
func FuzzStart(f *testing.F) {
	for _, s := range []string{"daily at 23:30", "last friday at 20:00", "cron */5 1-3 * * mon",
		"rrule FREQ=MINUTELY;INTERVAL=7",
		"rrule DTSTART:20260105T090000 RRULE:FREQ=YEARLY;BYDAY=20MO", "every 3 days at 1:00, 2:00",
		"once 2026-12-24 18:00", "after x"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		x, err := New(&Settings{Start: text, Zone: "Europe/Lisbon"}, nil)
		if err != nil {
			var w *Wrong
			if !errors.As(err, &w) || w.At < 0 || w.At > len(text) {
				t.Fatalf("%q: %v", text, err)
			}
			return
		}
		_ = x.String()
		at := from
		for _, s := range x.Coming(from, 3) {
			if !s.At.After(at) {
				t.Fatalf("%q: %s is not after %s", text, s.At, at)
			}
			at = s.At
		}
	})
}

// Far years, which a zone knows by a rule alone, have their clock changes too, and an end.
func TestFarYears(t *testing.T) {
	for year := 2036; year < 2060; year++ {
		assert.Len(t, coming(t, Settings{Start: "daily at 01:30"}, time.Date(year, 12, 29, 12, 0, 0, 0, time.UTC), 5),
			5)
	}
	assert.Equal(t, []string{"Sun 2045-03-26 02:00 +01:00 moved"},
		coming(t, Settings{Start: "daily at 01:30"}, time.Date(2045, 3, 25, 12, 0, 0, 0, time.UTC), 1))
}

// Times of the day are moved, within their day, whatever form names them.
func TestShift(t *testing.T) {
	for text, c := range map[string]struct {
		by   int
		want string // "" for not
	}{
		"daily at 23:30":            {-45, "daily at 22:45"},
		"daily at 23:30 ":           {45, ""},
		"weekdays at 7:00, 19:00":   {5, "weekdays at 07:05, 19:05"},
		"last friday at 20:00":      {60, "last friday at 21:00"},
		"cron 30 23 * * mon-fri":    {-31, "cron 59 22 * * mon-fri"},
		"cron 30 0 * * *":           {-31, ""},
		"cron */5 23 * * *":         {5, ""},
		"once 2026-12-24 18:00":     {-60, "once 2026-12-24 17:00"},
		"every 15 minutes":          {5, ""},
		"rrule FREQ=DAILY;BYHOUR=3": {5, ""},
		"":                          {5, ""},
	} {
		got, ok := Shift(text, c.by)
		assert.Equal(t, c.want != "", ok, text)
		if ok {
			assert.Equal(t, c.want, got)
			_, err := New(&Settings{Start: got}, nil)
			assert.NoError(t, err)
		}
	}
}
