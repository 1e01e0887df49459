package schedule

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/testkit"
)

// drawn is a rule as it was drawn: its text, and what a person would say of each minute.
type drawn struct {
	text string
	// even tells that it goes by what clocks show, through changes of them too; else each time of
	// a day starts once.
	even bool
	// fits tells of a wall time whether the rule names it.
	fits func(w time.Time) bool
	// every is the minutes from one to the next, by elapsed time; 0 for others.
	every int
}

var shortDays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// someMinutes draws times of the day, often in the hours in which clocks change.
func someMinutes(t *rapid.T) []int {
	hour := rapid.OneOf(rapid.IntRange(0, 3), rapid.IntRange(0, 23))
	n := rapid.IntRange(1, 4).Draw(t, "times")
	var all []int
	for range n {
		all = append(all, hour.Draw(t, "hour")*60+rapid.IntRange(0, 59).Draw(t, "minute"))
	}
	return all
}

func clocks(minutes []int) string {
	var all []string
	for _, m := range minutes {
		all = append(all, fmt.Sprintf("%02d:%02d", m/60, m%60))
	}
	return strings.Join(all, ", ")
}

func drawRule(t *rapid.T) drawn {
	minuteOf := func(w time.Time) int { return w.Hour()*60 + w.Minute() }
	switch rapid.IntRange(0, 6).Draw(t, "kind") {
	case 0:
		n := rapid.IntRange(7, 3000).Draw(t, "every")
		return drawn{text: fmt.Sprintf("every %d minutes", n), every: n}
	case 1:
		times := someMinutes(t)
		return drawn{text: "daily at " + clocks(times),
			fits: func(w time.Time) bool { return slices.Contains(times, minuteOf(w)) }}
	case 2:
		from, to := rapid.IntRange(0, 6).Draw(t, "from"), rapid.IntRange(0, 6).Draw(t, "to")
		times := someMinutes(t)
		return drawn{text: shortDays[from] + "-" + shortDays[to] + " at " + clocks(times),
			fits: func(w time.Time) bool {
				day := int(w.Weekday())
				in := day >= from && day <= to
				if from > to {
					in = day >= from || day <= to
				}
				return in && slices.Contains(times, minuteOf(w))
			}}
	case 3:
		nth := rapid.SampledFrom([]string{"first", "second", "third", "fourth", "last"}).Draw(t, "nth")
		day := rapid.IntRange(0, 6).Draw(t, "day")
		times := someMinutes(t)
		return drawn{text: nth + " " + weekdayNames[day] + " at " + clocks(times), fits: func(w time.Time) bool {
			before := 0 // such days before it in its month, and whether one comes after
			for d := w.AddDate(0, 0, -7); d.Month() == w.Month(); d = d.AddDate(0, 0, -7) {
				before++
			}
			is := before == map[string]int{"first": 0, "second": 1, "third": 2, "fourth": 3}[nth]
			if nth == "last" {
				is = w.AddDate(0, 0, 7).Month() != w.Month()
			}
			return int(w.Weekday()) == day && is && slices.Contains(times, minuteOf(w))
		}}
	case 4:
		day := rapid.IntRange(1, 31).Draw(t, "day")
		times := someMinutes(t)
		return drawn{text: fmt.Sprintf("day %d at %s", day, clocks(times)),
			fits: func(w time.Time) bool { return w.Day() == day && slices.Contains(times, minuteOf(w)) }}
	case 5:
		return drawCron(t)
	}
	every := rapid.IntRange(1, 3).Draw(t, "weeks")
	day := rapid.IntRange(0, 6).Draw(t, "day")
	times := someMinutes(t)[:1]
	return drawn{text: fmt.Sprintf("rrule DTSTART:20240101T000000 "+
		"RRULE:FREQ=WEEKLY;INTERVAL=%d;BYDAY=%s;BYHOUR=%d;BYMINUTE=%d",
		every, []string{"SU", "MO", "TU", "WE", "TH", "FR", "SA"}[day], times[0]/60, times[0]%60),
		fits: func(w time.Time) bool {
			// The first of January 2024 was a Monday, which weeks begin with.
			week := int(date(w).Sub(time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)).Hours()) / 24 / 7
			return int(w.Weekday()) == day && week%every == 0 && minuteOf(w) == times[0]
		}}
}

func drawCron(t *rapid.T) drawn {
	step := rapid.SampledFrom([]int{5, 7, 15, 20, 30}).Draw(t, "step")
	hour := rapid.SampledFrom([]int{-1, 0, 1, 2, 3, 12}).Draw(t, "hour")
	dom, dow := rapid.SampledFrom([]int{-1, 1, 13, 28}).Draw(t, "dom"), rapid.SampledFrom([]int{-1, 0, 5}).Draw(t,
		"dow")
	month := rapid.SampledFrom([]int{-1, 3, 10}).Draw(t, "month")
	field := func(n int) string {
		if n < 0 {
			return "*"
		}
		return fmt.Sprint(n)
	}
	return drawn{text: fmt.Sprintf("cron */%d %s %s %s %s", step, field(hour), field(dom), field(month), field(dow)),
		even: hour < 0, fits: func(w time.Time) bool {
			byDay := (dom < 0 || w.Day() == dom) && (dow < 0 || int(w.Weekday()) == dow)
			if dom >= 0 && dow >= 0 {
				byDay = w.Day() == dom || int(w.Weekday()) == dow
			}
			return w.Minute()%step == 0 && (hour < 0 || w.Hour() == hour) && byDay && (month < 0 ||
				int(w.Month()) == month)
		}}
}

// naive goes through a time minute by minute and notes what starts.
func naive(r drawn, zone *time.Location, from, to time.Time) []time.Time {
	var all []time.Time
	year2000 := time.Date(2000, 1, 1, 0, 0, 0, 0, zone)
	shown := map[int64]bool{} // what clocks have shown lately
	before := wall(from.Add(-time.Minute), zone)
	for at := from.Add(-4 * time.Hour); at.Before(to); at = at.Add(time.Minute) {
		w := wall(at, zone)
		starts := false
		switch {
		case r.every > 0:
			starts = int64(at.Sub(year2000)/time.Minute)%int64(r.every) == 0
		case r.even:
			starts = r.fits(w)
		default:
			starts = r.fits(w) && !shown[w.Unix()]
			if at.After(from.Add(-4*time.Hour)) && w.Sub(before) > time.Minute { // clocks went forward
				for m := before.Add(time.Minute); m.Before(w); m = m.Add(time.Minute) {
					starts = starts || r.fits(m)
				}
			}
		}
		if before = w; shown[w.Unix()] == false {
			shown[w.Unix()] = true
		}
		delete(shown, w.Add(-5*time.Hour).Unix())
		if starts && !at.Before(from) {
			all = append(all, at)
		}
	}
	return all
}

// A year in three zones, and in some whose clocks change oddly: the starts of a drawn rule are those
// that somebody who looks at the clock on the wall each minute would note, none twice, none missing.
func TestYear(t *testing.T) {
	zones := []string{"Europe/Lisbon", "America/New_York", "Australia/Lord_Howe", // half an hour
		"America/Santiago", // at midnight
		"Africa/Casablanca", "UTC"}
	testkit.Checks(t, testkit.Draws(25), func(t *rapid.T) {
		r := drawRule(t)
		zone, err := time.LoadLocation(rapid.SampledFrom(zones).Draw(t, "zone"))
		require.NoError(t, err)
		x, err := New(&Settings{Start: r.text, Zone: zone.String()}, nil)
		require.NoError(t, err, r.text)
		from := time.Date(rapid.IntRange(2024, 2027).Draw(t, "year"), 1, 1, 0, 0, 0, 0, zone).UTC()
		to := from.AddDate(1, 0, 0)
		var starts []time.Time
		for at := from.Add(-1); ; {
			s, some := x.Next(at)
			if !some || !s.At.Before(to) {
				break
			}
			require.True(t, s.At.After(at), "it goes on")
			at = s.At
			starts = append(starts, s.At.UTC())
		}
		want := naive(r, zone, from, to)
		require.Equal(t, len(want), len(starts), r.text)
		for i := range want {
			require.True(t, want[i].Equal(starts[i]), "%s: %s, not %s", r.text, want[i], starts[i])
		}
	})
}

// From wherever one asks, the next start is the first of all that come later.
func TestNextFromAnywhere(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	testkit.Check(t, func(t *rapid.T) {
		r := drawRule(t)
		x, err := New(&Settings{Start: r.text, Zone: "Europe/Lisbon", Except: []string{"2026-03-10 to 2026-03-12"},
			Window: []string{"22:00-06:00", "12:00-13:00 sat,sun"}}, nil)
		if err != nil { // it is never in the window
			require.ErrorContains(t, err, "never comes")
			return
		}
		from := time.Date(2026, 3, 1, 0, 0, 0, 0, zone).UTC()
		var want []time.Time
		for _, at := range naive(r, zone, from, from.AddDate(0, 1, 15)) {
			w := wall(at, zone)
			night := w.Hour() >= 22 || w.Hour() < 6 || w.Hour() == 12 && (w.Weekday() == 0 || w.Weekday() == 6)
			if out := w.Month() == 3 && w.Day() >= 10 && w.Day() <= 12; night && !out {
				want = append(want, at)
			}
		}
		asked := from.Add(time.Duration(rapid.Int64Range(0, int64(30*24*time.Hour)).Draw(t, "asked")))
		i := slices.IndexFunc(want, func(at time.Time) bool { return at.After(asked) })
		s, some := x.Next(asked)
		if i < 0 {
			require.True(t, !some || s.At.After(from.AddDate(0, 1, 15)) || !s.At.Before(from.AddDate(0, 1, 14)), r.text)
			return
		}
		require.True(t, some)
		require.True(t, want[i].Equal(s.At), "%s after %s: %s, not %s", r.text, asked, want[i], s.At)
	})
}
