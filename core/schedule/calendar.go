package schedule

import (
	"slices"
	"time"
)

// horizon is how far a time that a rule names may lie ahead: a rule that names none within it
// never comes. The 29th of February on one weekday is 40 years away at the most (1896 to 1936,
// and 2096 to 2136).
const horizon = 41 * 366 * 24 * time.Hour

// days says on which days of the calendar something is. The zero value is every day; what is set
// has to fit all at once, but for month days and weekdays of cron expressions, see either.
type days struct {
	months    [13]bool // by time.Month; none is all
	monthDays [32]bool // none is all
	last      bool     // the last day of the month, beside monthDays
	weekdays  [7]bool  // none is all
	// nth has the weekdays count in their month: 1 to 4 from its beginning, -1 its last; 0 all.
	nth int
	// either has a day fit that fits one of month days and weekdays, as cron expressions with
	// both have it.
	either bool
	// every is the count of days from one to the next, from the first of January 2000; 0 or 1
	// is each.
	every int
}

var epoch = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

// fits tells whether a day, as a wall time at its midnight, is one of them.
func (d *days) fits(day time.Time) bool {
	if slices.Contains(d.months[:], true) && !d.months[day.Month()] {
		return false
	}
	if d.every > 1 && int(day.Sub(epoch)/(24*time.Hour))%d.every != 0 {
		return false
	}
	byMonth := d.monthDays[day.Day()] || d.last && day.Day() == daysIn(day)
	byWeek := d.weekdays[day.Weekday()] && d.nthFits(day)
	anyMonth := !slices.Contains(d.monthDays[:], true) && !d.last
	anyWeek := !slices.Contains(d.weekdays[:], true)
	if d.either { // both are named
		return byMonth || byWeek
	}
	return (anyMonth || byMonth) && (anyWeek || byWeek)
}

func (d *days) nthFits(day time.Time) bool {
	switch {
	case d.nth > 0:
		return (day.Day()-1)/7+1 == d.nth
	case d.nth < 0:
		return day.Day()+7 > daysIn(day)
	}
	return true
}

// calendar is some days at some times of the day, in minutes since midnight, in order.
type calendar struct {
	days  days
	times []int
}

// next is the first start after a moment.
func (c *calendar) next(after time.Time, zone *time.Location) (Start, bool) {
	// A gap may move a time of yesterday to today.
	for day := date(wall(after, zone)).AddDate(0, 0, -1); day.Sub(after) < horizon; day = day.AddDate(0, 0, 1) {
		if !c.days.fits(day) {
			continue
		}
		for _, minute := range c.times {
			w := day.Add(time.Duration(minute) * time.Minute)
			at, how := moment(w, zone)
			if at.After(after) {
				return Start{At: at, Wall: w, Clock: how.clock()}, true
			}
		}
	}
	return Start{}, false
}

// even is some days at some minutes of every hour, evenly through clock changes: what a cron
// expression with "*" for the hour means.
type even struct {
	days    days
	minutes [60]bool
}

func (e *even) next(after time.Time, zone *time.Location) (Start, bool) {
	at := after.Truncate(time.Minute).Add(time.Minute)
	for at.Sub(after) < horizon {
		w := wall(at, zone)
		if day := date(w); !e.days.fits(day) {
			at, _ = moment(day.AddDate(0, 0, 1), zone)
			continue
		}
		if w.Second() == 0 && e.minutes[w.Minute()] {
			return Start{At: at, Wall: w}, true
		}
		// Offsets of old zones have seconds; the next full minute there.
		at = at.Add(time.Minute - time.Duration(w.Second())*time.Second)
	}
	return Start{}, false
}

// interval is every so often, by elapsed time, from midnight of the first of January 2000 in the
// zone.
type interval struct{ every time.Duration }

func (i *interval) next(after time.Time, zone *time.Location) (Start, bool) {
	from, _ := moment(epoch, zone)
	n := after.Sub(from) / i.every
	if after.Before(from) {
		n--
	}
	at := from.Add((n + 1) * i.every)
	return Start{At: at, Wall: wall(at, zone)}, true
}

// single is one moment, once.
type single struct{ wall time.Time }

func (s *single) next(after time.Time, zone *time.Location) (Start, bool) {
	at, how := moment(s.wall, zone)
	return Start{At: at, Wall: s.wall, Clock: how.clock()}, at.After(after)
}
