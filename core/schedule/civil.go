package schedule

import "time"

// A wall time is what a clock on the wall of a zone shows, kept as a time in UTC with those fields.
// Arithmetic on it knows no clock changes.

// wall is what a clock in a zone shows at a moment.
func wall(at time.Time, zone *time.Location) time.Time {
	t := at.In(zone)
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
}

// How a wall time stands to the moments of a zone.
type fit int

const (
	once fit = iota
	// missing: clocks went forward over it.
	missing
	// twice: clocks went back over it.
	twice
)

// far is more than any two offsets from UTC that a zone has had lie apart, whole days that were
// left out included.
const far = 49 * time.Hour

// moment is when a clock in a zone shows a wall time: the end of the gap for one that is missing,
// the first for one that is there twice.
func moment(w time.Time, zone *time.Location) (time.Time, fit) {
	var first time.Time
	how := missing
	// Each offset that is in force around then gives a moment; those count at which it is so.
	for at := w.Add(-far).In(zone); ; {
		_, offset := at.Zone()
		if c := w.Add(-time.Duration(offset) * time.Second); wall(c, zone).Equal(w) && !c.Equal(first) {
			if how == missing {
				first, how = c, once
			} else {
				how = twice
			}
		}
		end, more := change(at)
		if !more || end.After(w.Add(far)) {
			break
		}
		at = end
	}
	if how != missing {
		return first, how
	}
	for at := w.Add(-far).In(zone); ; {
		end, more := change(at)
		if !more || end.After(w.Add(far)) {
			return w, missing // no zone is like that
		}
		if !wall(end, zone).Before(w) && wall(end.Add(-1), zone).Before(w) {
			return end, missing
		}
		at = end
	}
}

// change is when clocks of a time's zone change next, or a little later than that time: for years
// that a zone knows by a rule alone the library gives bounds that do not lie ahead, on the last
// day of leap years.
func change(at time.Time) (next time.Time, more bool) {
	_, end := at.ZoneBounds()
	if !end.IsZero() && !end.After(at) {
		end = at.Add(time.Hour)
	}
	return end, !end.IsZero()
}

// date is a day of the calendar, as a wall time at its midnight.
func date(w time.Time) time.Time {
	return time.Date(w.Year(), w.Month(), w.Day(), 0, 0, 0, 0, time.UTC)
}

// daysIn is how many days a day's month has.
func daysIn(d time.Time) int { return time.Date(d.Year(), d.Month()+1, 0, 0, 0, 0, 0, time.UTC).Day() }
