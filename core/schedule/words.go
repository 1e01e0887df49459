package schedule

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/teambition/rrule-go"

	"lumtra/core/object"
)

// String is the schedule in plain words: "every day at 23:30, Europe/Lisbon time".
func (x *Schedule) String() string {
	switch {
	case x == nil:
		return "never by itself"
	case x.Arrival:
		return "when something arrives at the source"
	case x.After != "":
		return "after " + x.After + " has ended well"
	case x.rule == nil:
		return "never by itself"
	}
	text := words(x.rule)
	if x.zone != time.Local {
		text += ", " + x.zone.String() + " time"
	}
	if len(x.except) > 0 {
		n := 0
		for _, s := range x.except {
			n += int(s.to.Sub(s.from) / (24 * time.Hour))
		}
		text += fmt.Sprintf(", but for %s", object.Count(int64(n), "day"))
	}
	return text
}

// words are a rule in plain words.
func words(r rule) string {
	switch r := r.(type) {
	case *interval:
		return "every " + ago(r.every)
	case *single:
		return "once, on " + r.wall.Format("Monday, 2 January 2006 at 15:04")
	case *calendar:
		return r.days.words() + " at " + timesWords(r.times)
	case *even:
		var minutes []string
		for m, set := range r.minutes {
			if set {
				minutes = append(minutes, fmt.Sprintf(":%02d", m))
			}
		}
		every := "every minute"
		if n := len(minutes); n < 60 {
			every = "every hour at " + listed(minutes)
			if step := 60 / n; 60%n == 0 && n > 2 && r.minutes[0] && r.minutes[step] {
				every = fmt.Sprintf("every %d minutes", step)
			}
		}
		if d := r.days.words(); d != "every day" {
			every += ", " + d
		}
		return every
	case *recurrence:
		return r.words()
	}
	return ""
}

// ago writes a time of whole minutes: "15 minutes", "hour", "1 hour 30 minutes".
func ago(d time.Duration) string {
	hours, minutes := int64(d/time.Hour), int64(d%time.Hour/time.Minute)
	switch {
	case hours == 1 && minutes == 0:
		return "hour"
	case hours == 0 && minutes == 1:
		return "minute"
	case minutes == 0:
		return object.Count(hours, "hour")
	case hours == 0:
		return object.Count(minutes, "minute")
	}
	return object.Count(hours, "hour") + " " + object.Count(minutes, "minute")
}

func timesWords(times []int) string {
	if len(times) > 12 {
		return fmt.Sprintf("%d times between %s and %s", len(times), clockWords(times[0]),
			clockWords(times[len(times)-1]))
	}
	var all []string
	for _, t := range times {
		all = append(all, clockWords(t))
	}
	return listed(all)
}

func clockWords(minute int) string { return fmt.Sprintf("%02d:%02d", minute/60, minute%60) }

// listed joins with commas, and "and" before the last.
func listed(all []string) string {
	if len(all) < 2 {
		return strings.Join(all, "")
	}
	return strings.Join(all[:len(all)-1], ", ") + " and " + all[len(all)-1]
}

// words are the days in plain words: "every day", "Monday to Friday", "the last Friday of the month".
func (d *days) words() string {
	week, month := d.weekWords(), d.monthWords()
	text := week
	switch {
	case week == "" && month == "":
		text = "every day"
	case d.either && week != "" && month != "":
		text = month + ", and each " + week
	case week == "":
		text = month
	case month != "":
		text = week + " if it is " + month
	}
	if d.every > 1 {
		text = fmt.Sprintf("every %d days", d.every)
	}
	var months []string
	for m := time.January; m <= time.December; m++ {
		if d.months[m] {
			months = append(months, m.String())
		}
	}
	if len(months) > 0 {
		text += " in " + listed(months)
	}
	return text
}

func (d *days) weekWords() string {
	var names []string
	for i := range 7 {
		if day := (i + 1) % 7; d.weekdays[day] {
			names = append(names, time.Weekday(day).String())
		}
	}
	w := d.weekdays
	switch {
	case d.nth != 0:
		nth := map[int]string{1: "first", 2: "second", 3: "third", 4: "fourth", -1: "last"}[d.nth]
		return "the " + nth + " " + listed(names) + " of the month"
	case w == [7]bool{false, true, true, true, true, true, false}:
		return "Monday to Friday"
	case len(names) == 7:
		return "every day"
	}
	return listed(names)
}

func (d *days) monthWords() string {
	var names []string
	for day := range d.monthDays {
		if d.monthDays[day] {
			names = append(names, fmt.Sprint(day))
		}
	}
	switch {
	case d.last:
		return "the last day of the month"
	case len(names) == 0:
		return ""
	case len(names) > 8:
		return fmt.Sprintf("%d days of the month", len(names))
	}
	return "day " + listed(names) + " of the month"
}

// words are the rule in plain words, as far as there are any for it.
func (r *recurrence) words() string {
	o := fixed(r.opts)
	unit := [...]string{"year", "month", "week", "day", "hour", "minute", "second"}[o.Freq]
	text := "every " + unit
	if o.Interval > 1 {
		text = "every " + object.Count(int64(o.Interval), unit)
	}
	var days []string
	for _, d := range o.Byweekday {
		name := weekdayNames[(d.Day()+1)%7]
		name = strings.ToUpper(name[:1]) + name[1:]
		if n := d.N(); n != 0 {
			from := ""
			if n < 0 {
				from = " from the end"
			}
			name = fmt.Sprintf("%s %d%s", name, max(n, -n), from)
		}
		days = append(days, name)
	}
	if len(days) > 0 {
		text += " on " + listed(days)
	} else if o.Freq == rrule.WEEKLY {
		text += " on " + o.Dtstart.Weekday().String()
	}
	if len(o.Bymonthday) > 0 {
		text += " on day " + listed(numbers(o.Bymonthday))
	} else if o.Freq <= rrule.MONTHLY && len(days) == 0 && len(o.Byyearday) == 0 && len(o.Byweekno) == 0 {
		text += fmt.Sprintf(" on day %d", o.Dtstart.Day())
	}
	var months []string
	for _, m := range slices.Sorted(slices.Values(o.Bymonth)) {
		months = append(months, time.Month(m).String())
	}
	if len(months) > 0 {
		text += " in " + listed(months)
	}
	for _, more := range []struct {
		name string
		of   []int
	}{{"day of the year", o.Byyearday}, {"week", o.Byweekno}, {"of those number", o.Bysetpos}} {
		if len(more.of) > 0 {
			text += ", " + more.name + " " + listed(numbers(more.of))
		}
	}
	if o.Freq <= rrule.DAILY {
		var times []int
		for _, h := range o.Byhour {
			for _, m := range o.Byminute {
				times = append(times, h*60+m)
			}
		}
		slices.Sort(times)
		text += " at " + timesWords(times)
	}
	if !o.Until.IsZero() {
		text += ", until " + o.Until.Format("2006-01-02 15:04")
	}
	return text
}

func numbers(all []int) []string {
	var texts []string
	for _, n := range all {
		texts = append(texts, fmt.Sprint(n))
	}
	return texts
}
