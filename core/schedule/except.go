package schedule

import (
	"fmt"
	"io"
	"sort"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/teambition/rrule-go"
)

// span is some days in a row, as wall times at midnight; to is the first that is no longer of them.
type span struct{ from, to time.Time }

// exceptions are days on which nothing starts, in order.
type exceptions []span

// exceptUntil is how far events of a calendar that come again and again are followed.
var exceptUntil = time.Date(2100, 1, 1, 0, 0, 0, 0, time.UTC)

// Limits on a calendar file, which comes from outside.
const (
	mostCalendar = 4 << 20 // bytes
	mostEvents   = 20_000
)

// read reads dates, and iCalendar files that are opened by open.
func (x *exceptions) read(lines []string, open func(name string) (io.ReadCloser, error)) error {
	for _, line := range lines {
		if strings.HasSuffix(strings.ToLower(line), ".ics") {
			if open == nil {
				continue
			}
			if err := x.readFile(line, open); err != nil {
				return &Wrong{"except", 0, fmt.Sprintf("the calendar %s: %s", line, err)}
			}
			continue
		}
		first, last, many := strings.Cut(line, " to ")
		from, err := time.Parse(time.DateOnly, strings.TrimSpace(first))
		to := from
		if err == nil && many {
			to, err = time.Parse(time.DateOnly, strings.TrimSpace(last))
		}
		if err != nil || to.Before(from) {
			return &Wrong{"except", 0, fmt.Sprintf("%q is no date that is left out; it reads like \"2026-12-24\", "+
				"\"2026-12-24 to 2027-01-02\" or \"holidays.ics\"", line)}
		}
		*x = append(*x, span{from, to.AddDate(0, 0, 1)})
	}
	x.join()
	return nil
}

// join puts the spans in order and makes those one that touch.
func (x *exceptions) join() {
	all := *x
	sort.Slice(all, func(i, j int) bool { return all[i].from.Before(all[j].from) })
	joined := all[:0]
	for _, s := range all {
		if n := len(joined); n > 0 && !s.from.After(joined[n-1].to) {
			if s.to.After(joined[n-1].to) {
				joined[n-1].to = s.to
			}
			continue
		}
		joined = append(joined, s)
	}
	*x = joined
}

// readFile takes the days of all events of an iCalendar file (RFC 5545, 3.6.1), whole or in part,
// with those that come again (RRULE, without EXDATE).
func (x *exceptions) readFile(name string, open func(name string) (io.ReadCloser, error)) error {
	f, err := open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	cal, err := ics.ParseCalendar(io.LimitReader(f, mostCalendar))
	if err != nil {
		return fmt.Errorf("cannot be read: %w", err)
	}
	if len(cal.Events()) == 0 {
		return fmt.Errorf("has no events")
	}
	for _, e := range cal.Events() {
		if err := x.event(e); err != nil {
			return err
		}
		if len(*x) > mostEvents {
			return fmt.Errorf("has more than %d days", mostEvents)
		}
	}
	return nil
}

// event takes the days of one event.
func (x *exceptions) event(e *ics.VEvent) error {
	value := func(p ics.ComponentProperty) string {
		if v := e.GetProperty(p); v != nil {
			return v.Value
		}
		return ""
	}
	from, whole, err := eventTime(value(ics.ComponentPropertyDtStart))
	if err != nil {
		return fmt.Errorf("event %q: %w", value(ics.ComponentPropertySummary), err)
	}
	to := date(from).AddDate(0, 0, 1)
	if end, _, err := eventTime(value(ics.ComponentPropertyDtEnd)); err == nil && end.After(from) {
		if to = date(end); !whole && end.After(to) || !to.After(date(from)) {
			to = to.AddDate(0, 0, 1)
		}
	}
	days := to.Sub(date(from))
	*x = append(*x, span{date(from), to})
	if rule := value(ics.ComponentPropertyRrule); rule != "" {
		opts, err := rrule.StrToROptionInLocation(rule, time.UTC)
		if err != nil || opts.Freq > rrule.DAILY {
			return fmt.Errorf("event %q: its rule %q cannot be read", value(ics.ComponentPropertySummary), rule)
		}
		opts.Dtstart = from
		if opts.Until.IsZero() || opts.Until.After(exceptUntil) {
			opts.Until = exceptUntil
		}
		again, err := rrule.NewRRule(*opts)
		if err != nil {
			return fmt.Errorf("event %q: %w", value(ics.ComponentPropertySummary), err)
		}
		left := map[time.Time]bool{}
		for _, p := range e.GetProperties(ics.ComponentPropertyExdate) {
			for _, v := range strings.Split(p.Value, ",") {
				if t, _, err := eventTime(v); err == nil {
					left[date(t)] = true
				}
			}
		}
		next := again.Iterator()
		for range mostEvents {
			at, some := next()
			if !some {
				break
			}
			if !left[date(at)] {
				*x = append(*x, span{date(at), date(at).Add(days)})
			}
		}
	}
	return nil
}

// eventTime reads the time of an event as the clock at its place shows it; whole for a date.
func eventTime(text string) (t time.Time, whole bool, err error) {
	for _, form := range []string{"20060102T150405Z", "20060102T150405"} {
		if t, err := time.Parse(form, text); err == nil {
			return t, false, nil
		}
	}
	t, err = time.Parse("20060102", text)
	if err != nil {
		err = fmt.Errorf("its time %q cannot be read", text)
	}
	return t, true, err
}

// freeAfter tells whether a wall time is on a day that is left out, and the first day after it that
// is not.
func (x exceptions) freeAfter(w time.Time) (free time.Time, out bool) {
	i := sort.Search(len(x), func(i int) bool { return x[i].to.After(w) })
	if i == len(x) || w.Before(x[i].from) {
		return time.Time{}, false
	}
	return x[i].to, true
}
