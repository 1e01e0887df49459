package schedule

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"lumtra/core/nearest"
)

// Form is how a rule reads, for messages.
const Form = `a start reads like "every 15 minutes", "daily at 23:30", "weekdays at 07:00, 19:00", ` +
	`"last friday at 20:00", "day 1, 15 at 03:00", "once 2026-12-24 18:00", "cron 30 23 * * mon-fri", ` +
	`"rrule FREQ=WEEKLY;BYDAY=MO", "after masters" or "on arrival"`

// word is a word of a rule, in lower case, and where it begins.
type word struct {
	text string
	at   int // and end: in bytes of the text
	end  int
}

var wordForm = regexp.MustCompile(`[^\s,]+`)

func wordsOf(text string) []word {
	var all []word
	for _, m := range wordForm.FindAllStringIndex(text, -1) {
		all = append(all, word{strings.ToLower(text[m[0]:m[1]]), m[0], m[1]})
	}
	return all
}

func wrongStart(at int, format string, args ...any) error {
	return &Wrong{"start", at, fmt.Sprintf(format, args...)}
}

// parse reads the rule.
func (x *Schedule) parse(text string) (err error) {
	words := wordsOf(text)
	if len(words) == 0 {
		return nil
	}
	first, rest := words[0], words[1:]
	after := strings.TrimLeft(text[first.end:], " \t\n")
	at := len(text) - len(after)
	switch first.text {
	case "cron":
		x.rule, err = parseCron(after, at)
	case "rrule":
		x.rule, err = parseRecurrence(after, at, x.zone)
	case "once":
		x.rule, err = parseOnce(rest, len(text))
	case "after":
		if len(rest) != 1 {
			return wrongStart(at, "\"after\" is followed by one job's name, such as \"after masters\"")
		}
		x.After = rest[0].text
	case "on":
		if len(rest) != 1 || rest[0].text != "arrival" {
			return wrongStart(at, "it reads \"on arrival\"")
		}
		x.Arrival = true
	case "never":
		if len(rest) > 0 {
			return wrongStart(rest[0].at, "nothing follows \"never\"")
		}
	case "every":
		if len(rest) > 0 {
			if n, err := strconv.Atoi(rest[0].text); err == nil {
				return x.parseEvery(n, false, rest, len(text))
			} else if unitOf(rest[0].text) != 0 {
				return x.parseEvery(1, true, rest, len(text))
			}
		}
		x.rule, err = parseCalendar(rest, len(text))
	default:
		x.rule, err = parseCalendar(words, len(text))
	}
	return err
}

// unitOf is what "minutes", "hours" and "days" are; 0 for another word.
func unitOf(word string) time.Duration {
	switch strings.TrimSuffix(word, "s") {
	case "minute", "min":
		return time.Minute
	case "hour":
		return time.Hour
	case "day":
		return 24 * time.Hour
	}
	return 0
}

// parseEvery reads what follows "every": "15 minutes", "hour", "2 days at 05:00".
func (x *Schedule) parseEvery(n int, one bool, words []word, end int) error {
	if n <= 0 || n > 100_000 {
		return wrongStart(words[0].at, "%d of what? it is between 1 and 100000", n)
	}
	if !one {
		words = words[1:]
	}
	if len(words) == 0 {
		return wrongStart(end, "a number is followed by \"minutes\", \"hours\" or \"days\"")
	}
	unit := unitOf(words[0].text)
	if unit == 0 {
		return wrongStart(words[0].at, "%q is none of \"minutes\", \"hours\" and \"days\"", words[0].text)
	}
	if unit < 24*time.Hour {
		if len(words) > 1 {
			return wrongStart(words[1].at, "nothing follows %q; hours of the day are a window", words[0].text)
		}
		x.rule = &interval{time.Duration(n) * unit}
		return nil
	}
	times, err := parseTimes(words[1:], end)
	if err != nil {
		return err
	}
	c := &calendar{times: times}
	if n > 1 {
		c.days.every = n
	}
	x.rule = c
	return nil
}

var (
	weekdayNames = []string{"sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday"}
	ordinals     = map[string]int{"first": 1, "second": 2, "third": 3, "fourth": 4, "last": -1}
)

// weekdayOf is the weekday a word names, in full or by three letters; -1 for none.
func weekdayOf(text string) int {
	text = strings.TrimSuffix(text, "s")
	return slices.IndexFunc(weekdayNames, func(n string) bool {
		return text == n || len(text) >= 3 && text == n[:3] ||
			text == strings.TrimSuffix(n, "s")
	})
}

// parseCalendar reads days and times of the day.
func parseCalendar(words []word, end int) (rule, error) {
	c := &calendar{}
	at := slices.IndexFunc(words, func(w word) bool { return w.text == "at" })
	if at < 0 {
		if err := c.days.parse(words, end); err != nil {
			return nil, err
		}
		return nil, wrongStart(end, "at what time? as in \"daily at 23:30\"")
	}
	if err := c.days.parse(words[:at], end); err != nil {
		return nil, err
	}
	var err error
	c.times, err = parseTimes(words[at:], end)
	return c, err
}

// parseTimes reads "at 07:00, 19:00 and 23:30".
func parseTimes(words []word, end int) ([]int, error) {
	if len(words) == 0 || words[0].text != "at" {
		return nil, wrongStart(at(words, end), "at what time? as in \"daily at 23:30\"")
	}
	var times []int
	for _, w := range words[1:] {
		if w.text == "and" {
			continue
		}
		minute, ok := parseTime(w.text)
		if !ok {
			return nil, wrongStart(w.at, "%q is no time of the day; it reads like 23:30", w.text)
		}
		times = append(times, minute)
	}
	if len(times) == 0 {
		return nil, wrongStart(end, "\"at\" is followed by times of the day such as 23:30")
	}
	slices.Sort(times)
	return slices.Compact(times), nil
}

// at is where the first of some words begins, or the end.
func at(words []word, end int) int {
	if len(words) == 0 {
		return end
	}
	return words[0].at
}

var timeForm = regexp.MustCompile(`^(\d\d?):(\d\d)$`)

func parseTime(text string) (minute int, ok bool) {
	m := timeForm.FindStringSubmatch(text)
	if m == nil {
		return 0, false
	}
	h, _ := strconv.Atoi(m[1]) // digits, by the form
	n, _ := strconv.Atoi(m[2])
	return h*60 + n, h < 24 && n < 60
}

// parse reads days: "daily", "weekdays", "mon, wed", "mon-fri", "last friday", "day 1, 15", "last
// day".
func (d *days) parse(words []word, end int) error {
	if len(words) == 0 {
		return wrongStart(end, "on which days? %s", Form)
	}
	first := words[0]
	n, ordinal := ordinals[first.text]
	switch {
	case first.text == "daily" || first.text == "day" && len(words) == 1:
		return nothingElse(words[1:])
	case first.text == "weekdays", first.text == "weekday":
		d.weekdays = [7]bool{false, true, true, true, true, true, false}
		return nothingElse(words[1:])
	case first.text == "weekends", first.text == "weekend":
		d.weekdays = [7]bool{true, false, false, false, false, false, true}
		return nothingElse(words[1:])
	case ordinal && n < 0 && len(words) > 1 && words[1].text == "day":
		d.last = true
		return nothingElse(words[2:])
	case ordinal:
		if len(words) < 2 {
			return wrongStart(end, "%q is followed by a weekday, as in \"last friday\"", first.text)
		}
		d.nth = n
		return d.parseWeekdays(words[1:])
	case first.text == "day":
		return d.parseMonthDays(words[1:])
	}
	return d.parseWeekdays(words)
}

func nothingElse(words []word) error {
	if len(words) > 0 {
		return wrongStart(words[0].at, "%q does not fit here: times follow \"at\"", words[0].text)
	}
	return nil
}

func (d *days) parseWeekdays(words []word) error {
	for _, w := range words {
		if w.text == "and" {
			continue
		}
		first, last, many := strings.Cut(w.text, "-")
		from := weekdayOf(first)
		to := from
		if many {
			to = weekdayOf(last)
		}
		if from < 0 || to < 0 {
			known := append([]string{"daily", "weekdays", "weekends", "every", "cron", "rrule", "once", "after"},
				weekdayNames...)
			if hint := nearest.Hint(w.text, known); hint != "" {
				return wrongStart(w.at, "%q is no day%s", w.text, hint)
			}
			return wrongStart(w.at, "%q is no day; %s", w.text, Form)
		}
		for day := from; ; day = (day + 1) % 7 {
			if d.weekdays[day] = true; day == to {
				break
			}
		}
	}
	return nil
}

func (d *days) parseMonthDays(words []word) error {
	for _, w := range words {
		if w.text == "and" {
			continue
		}
		n, err := strconv.Atoi(w.text)
		if err != nil || n < 1 || n > 31 {
			return wrongStart(w.at, "%q is no day of a month; it is between 1 and 31", w.text)
		}
		d.monthDays[n] = true
	}
	return nil
}

// parseOnce reads "2026-12-24 18:00".
func parseOnce(words []word, end int) (rule, error) {
	var texts []string
	for _, w := range words {
		if w.text != "at" {
			texts = append(texts, w.text)
		}
	}
	t, err := time.Parse("2006-01-02 15:04", strings.Join(texts, " "))
	if err != nil {
		return nil, wrongStart(at(words, end), "a moment reads like \"once 2026-12-24 18:00\"")
	}
	if t.Before(epoch) {
		return nil, wrongStart(at(words, end), "that was before the year 2000")
	}
	return &single{t}, nil
}
