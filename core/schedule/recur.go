package schedule

import (
	"regexp"
	"slices"
	"strings"
	"time"

	"lumtra/core/pace"

	"github.com/teambition/rrule-go"
)

var wordForm2 = regexp.MustCompile(`\S+`)

// recurrence is a rule of RFC 5545, section 3.3.10, of wall times. Rules by the hour or the minute
// are stepped through here, as each step is cheap to decide; the others are the library's.
type recurrence struct {
	opts rrule.ROption // in wall times; Count is none
	text string
}

// rruleBegins is when rules begin that do not say it.
var rruleBegins = time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC)

// mostCount is the highest COUNT of a rule.
const mostCount = 10_000

// parseRecurrence reads "FREQ=…", "RRULE:FREQ=…", or "DTSTART:20260105T090000 RRULE:FREQ=…". A
// DTSTART with a TZID, or in UTC, is taken over into the zone of the schedule.
func parseRecurrence(text string, from int, zone *time.Location) (rule, error) {
	begins := rruleBegins
	body := text
	if rest, ok := strings.CutPrefix(text, "DTSTART"); ok {
		head, tail, _ := strings.Cut(rest, " ")
		at, err := parseDTSTART(head, zone)
		if err != nil {
			return nil, wrongStart(from, "%s", err)
		}
		begins, body = at, strings.TrimSpace(tail)
	}
	body = strings.TrimPrefix(body, "RRULE:")
	at := from + strings.Index(text, body)
	opts, err := rrule.StrToROptionInLocation(body, time.UTC)
	if err == nil {
		_, err = rrule.NewRRule(*opts)
	}
	if err != nil {
		return nil, wrongStart(at, "the recurrence rule cannot be read (RFC 5545, 3.3.10): %s", err)
	}
	if opts.Dtstart.IsZero() {
		opts.Dtstart = begins
	}
	switch sub := opts.Freq >= rrule.HOURLY; {
	case opts.Freq == rrule.SECONDLY || len(opts.Bysecond) > 1 || len(opts.Bysecond) == 1 && opts.Bysecond[0] != 0:
		return nil, wrongStart(at, "nothing starts by the second here; FREQ=MINUTELY is the shortest")
	case sub && (len(opts.Bysetpos) > 0 || len(opts.Byweekno) > 0 || len(opts.Byyearday) > 0 || len(opts.Byeaster) > 0):
		return nil, wrongStart(at, "BYSETPOS, BYWEEKNO and BYYEARDAY are for rules by the day and longer")
	case opts.Count > mostCount:
		return nil, wrongStart(at, "COUNT is %d; it is %d at the most", opts.Count, mostCount)
	case opts.Interval > 100_000:
		return nil, wrongStart(at, "INTERVAL is %d; it is 100000 at the most", opts.Interval)
	}
	opts.Dtstart = opts.Dtstart.Truncate(time.Minute)
	if strings.Contains(strings.ToUpper(body), "UNTIL=") && untilUTC.MatchString(strings.ToUpper(body)) {
		opts.Until = wall(opts.Until, zone)
	}
	r := &recurrence{opts: *opts, text: body}
	r.count()
	return r, nil
}

var untilUTC = regexp.MustCompile(`UNTIL=\d{8}T\d{6}Z`)

// parseDTSTART reads what follows the name: ":20260105T090000", ";TZID=Europe/Lisbon:20260105T090000".
func parseDTSTART(text string, zone *time.Location) (time.Time, error) {
	params, value, _ := strings.Cut(text, ":")
	of := zone
	if _, name, ok := strings.Cut(params, "TZID="); ok {
		z, err := pace.Zone(name)
		if err != nil {
			return time.Time{}, err
		}
		of = z
	}
	if t, err := time.Parse("20060102T150405Z", value); err == nil {
		return wall(t, zone), nil
	}
	for _, form := range []string{"20060102T150405", "20060102"} {
		if t, err := time.Parse(form, value); err == nil {
			at, _ := moment(t, of)
			return wall(at, zone), nil
		}
	}
	return time.Time{}, wrongStart(0, "DTSTART reads like DTSTART:20260105T090000")
}

// count turns COUNT into UNTIL, which is quicker to go by.
func (r *recurrence) count() {
	n := r.opts.Count
	r.opts.Count = 0
	if n == 0 {
		return
	}
	last := r.opts.Dtstart.Add(-1)
	for range n {
		w, some := r.nextWall(last, last.Add(horizon))
		if !some {
			break
		}
		last = w
	}
	r.opts.Until = last
}

func (r *recurrence) next(after time.Time, zone *time.Location) (Start, bool) {
	// A gap may move a time of before to after.
	w := wall(after, zone).Add(-far)
	until := w.Add(horizon)
	for {
		var some bool
		if w, some = r.nextWall(w, until); !some {
			return Start{}, false
		}
		if at, how := moment(w, zone); at.After(after) {
			return Start{At: at, Wall: w, Clock: how.clock()}, true
		}
	}
}

// nextWall is the first wall time after one, none behind until.
func (r *recurrence) nextWall(after, until time.Time) (time.Time, bool) {
	if !r.opts.Until.IsZero() && r.opts.Until.Before(until) {
		until = r.opts.Until
	}
	if after.Before(r.opts.Dtstart) {
		after = r.opts.Dtstart.Add(-1)
	}
	if r.opts.Freq >= rrule.HOURLY {
		return r.step(after, until)
	}
	opts := r.opts
	opts.Until = until
	// Days and weeks can be counted ahead; months and years are few.
	if every := map[rrule.Frequency]int{rrule.DAILY: 1, rrule.WEEKLY: 7}[opts.Freq] * max(opts.Interval, 1); every > 0 {
		span := time.Duration(every) * 24 * time.Hour
		if n := after.Sub(opts.Dtstart)/span - 1; n > 0 {
			opts = fixed(opts)
			opts.Dtstart = opts.Dtstart.Add(n * span)
		}
	}
	rule, err := rrule.NewRRule(opts)
	if err != nil { // it was read before
		return time.Time{}, false
	}
	next := rule.After(after, false)
	return next, !next.IsZero() && !next.After(until)
}

// fixed names what a rule takes from its beginning, so that another beginning changes nothing.
func fixed(o rrule.ROption) rrule.ROption {
	if len(o.Byhour) == 0 {
		o.Byhour = []int{o.Dtstart.Hour()}
	}
	if len(o.Byminute) == 0 {
		o.Byminute = []int{o.Dtstart.Minute()}
	}
	return o
}

// step goes through a rule by the hour or the minute.
func (r *recurrence) step(after, until time.Time) (time.Time, bool) {
	o := &r.opts
	unit, minutes := time.Minute, []int(nil)
	if o.Freq == rrule.HOURLY {
		unit, minutes = time.Hour, slices.Sorted(slices.Values(o.Byminute))
	}
	span := time.Duration(max(o.Interval, 1)) * unit
	// from is the first step at a time or after it.
	from := func(t time.Time) time.Time {
		n := (t.Sub(o.Dtstart) + span - 1) / span
		return o.Dtstart.Add(max(n, 0) * span)
	}
	for t := from(after.Add(1 - time.Hour)); !t.After(until); {
		switch {
		case !r.dayFits(t):
			t = from(date(t).AddDate(0, 0, 1))
			continue
		case len(o.Byhour) > 0 && !slices.Contains(o.Byhour, t.Hour()):
			t = from(t.Truncate(time.Hour).Add(time.Hour))
			continue
		case unit == time.Minute && len(o.Byminute) > 0 && !slices.Contains(o.Byminute, t.Minute()):
			t = t.Add(span)
			continue
		}
		starts := []time.Time{t}
		if len(minutes) > 0 {
			starts = starts[:0]
			for _, m := range minutes {
				starts = append(starts, t.Truncate(time.Hour).Add(time.Duration(m)*time.Minute))
			}
		}
		for _, at := range starts {
			if at.After(after) && !at.Before(o.Dtstart) {
				return at, !at.After(until)
			}
		}
		t = t.Add(span)
	}
	return time.Time{}, false
}

// dayFits tells whether a day is one that a rule by the hour or the minute names.
func (r *recurrence) dayFits(t time.Time) bool {
	o := &r.opts
	if len(o.Bymonth) > 0 && !slices.Contains(o.Bymonth, int(t.Month())) {
		return false
	}
	if len(o.Bymonthday) > 0 && !slices.Contains(o.Bymonthday, t.Day()) &&
		!slices.Contains(o.Bymonthday, t.Day()-daysIn(t)-1) {
		return false
	}
	return len(o.Byweekday) == 0 || slices.ContainsFunc(o.Byweekday, func(w rrule.Weekday) bool {
		return (w.Day()+1)%7 == int(t.Weekday())
	})
}
