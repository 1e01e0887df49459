package pace

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Limit is what may be used at a moment.
type Limit struct {
	// Rate is in bytes a second; 0 means as fast as it goes.
	Rate float64
	// Quiet tells that nothing may move at all.
	Quiet bool
}

// String reads like what [ParseHours] takes: "80 MB/s", "quiet", "free".
func (l Limit) String() string {
	switch {
	case l.Quiet:
		return "quiet"
	case l.Rate == 0:
		return "free"
	}
	return Rate(l.Rate)
}

// Rate writes bytes a second with a decimal unit, exactly: "1.5 MB/s".
func Rate(r float64) string {
	for _, u := range []struct {
		name string
		size float64
	}{{"GB/s", 1e9}, {"MB/s", 1e6}, {"kB/s", 1e3}} {
		if r >= u.size {
			return strconv.FormatFloat(math.Round(r/u.size*1000)/1000, 'f', -1, 64) + " " + u.name
		}
	}
	return strconv.FormatFloat(r, 'f', -1, 64) + " B/s"
}

// Hours say which limit holds when. The zero value, and nil, is no limit ever.
type Hours struct {
	spans []span
	zone  *time.Location
}

// span is a limit for some hours of some days.
type span struct {
	limit Limit
	// from and to are minutes since midnight; to is before from for a span that
	// goes on into the next day, and both are equal for whole days.
	from, to int
	days     [7]bool // by time.Weekday, of the day it begins
}

var (
	spanForm = regexp.MustCompile(`^(.*?)(?:\s+(\d\d?):(\d\d)-(\d\d?):(\d\d))?(?:\s+((?:mon|tue|wed|thu|fri|sat|` +
		`sun)[a-z,-]*))?$`)
	rateForm = regexp.MustCompile(`^(\d+(?:\.\d+)?)\s*(B|kB|MB|GB|KiB|MiB|GiB|kbit|Mbit|Gbit)/s$`)
	units    = map[string]float64{"B": 1, "kB": 1e3, "MB": 1e6, "GB": 1e9, "KiB": 1 << 10, "MiB": 1 << 20,
		"GiB": 1 << 30, "kbit": 1e3 / 8, "Mbit": 1e6 / 8, "Gbit": 1e9 / 8}
	dayNames = [...]string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}
)

// Form is how a line of hours reads, for messages.
const Form = `it reads like "80 MB/s", "20 MB/s 08:00-18:00 mon-fri", "free 22:00-06:00" or "quiet 12:00-13:00 sat,sun"`

// HoursSetting is the one of the settings bandwidth and zone that an error of [ParseHours]
// is about.
func HoursSetting(zone string, err error) string {
	if zone != "" && strings.HasPrefix(err.Error(), "zone") {
		return "zone"
	}
	return "bandwidth"
}

// ParseHours reads lines of a limit, hours and days, such as "20 MB/s
// 08:00-18:00 mon-fri". Where several fit a moment the last one counts; hours and
// days left out mean always. The limit is a rate in B, kB, MB, GB, KiB, MiB,
// GiB, kbit, Mbit or Gbit a second, "free" or "quiet". Zone is a name of the
// IANA time zone database; "" means the machine's own zone.
func ParseHours(lines []string, zone string) (*Hours, error) {
	h := &Hours{zone: time.Local}
	if zone != "" {
		z, err := Zone(zone)
		if err != nil {
			return nil, fmt.Errorf("zone is %q; it is a time zone's name such as \"Europe/Lisbon\"", zone)
		}
		h.zone = z
	}
	for _, line := range lines {
		s, ok := parseSpan(line)
		if !ok {
			return nil, fmt.Errorf("%q is no bandwidth; %s", line, Form)
		}
		h.spans = append(h.spans, s)
	}
	return h, nil
}

func parseSpan(line string) (s span, ok bool) {
	m := spanForm.FindStringSubmatch(strings.TrimSpace(line))
	if m == nil {
		return s, false
	}
	if s.limit, ok = parseLimit(m[1]); !ok {
		return s, false
	}
	if m[2] != "" {
		var n [4]int
		for i := range n {
			n[i], _ = strconv.Atoi(m[2+i]) // digits, by the form
		}
		if n[0] > 23 || n[1] > 59 || n[2] > 24 || n[3] > 59 || n[2] == 24 && n[3] > 0 {
			return s, false
		}
		s.from, s.to = n[0]*60+n[1], (n[2]*60+n[3])%(24*60)
	}
	s.days, ok = parseDays(m[6])
	return s, ok
}

func parseLimit(text string) (l Limit, ok bool) {
	switch text {
	case "quiet":
		return Limit{Quiet: true}, true
	case "free":
		return Limit{}, true
	}
	m := rateForm.FindStringSubmatch(text)
	if m == nil {
		return l, false
	}
	n, err := strconv.ParseFloat(m[1], 64)
	l.Rate = n * units[m[2]]
	return l, err == nil && l.Rate >= 1
}

// ParseRate reads a single rate such as "80 MB/s"; "free" is 0.
func ParseRate(text string) (float64, error) {
	if l, ok := parseLimit(strings.TrimSpace(text)); ok && !l.Quiet {
		return l.Rate, nil
	}
	return 0, fmt.Errorf("%q is no rate; it reads like \"80 MB/s\", \"200 Mbit/s\" or \"free\"", text)
}

// parseDays reads "mon-fri,sun"; "" is every day.
func parseDays(text string) (days [7]bool, ok bool) {
	if text == "" {
		return [7]bool{true, true, true, true, true, true, true}, true
	}
	for _, part := range strings.Split(text, ",") {
		first, last, many := strings.Cut(part, "-")
		from, to := dayOf(first), dayOf(last)
		if !many {
			to = from
		}
		if from < 0 || to < 0 {
			return days, false
		}
		for d := from; ; d = (d + 1) % 7 {
			if days[d] = true; d == to {
				break
			}
		}
	}
	return days, true
}

func dayOf(name string) int {
	for i, d := range dayNames {
		if d == name {
			return i
		}
	}
	return -1
}

// covers tells whether the span holds at a time of its zone.
func (s *span) covers(t time.Time) bool {
	minute, today := t.Hour()*60+t.Minute(), t.Weekday()
	switch {
	case s.from == s.to:
		return s.days[today]
	case s.from < s.to:
		return s.days[today] && minute >= s.from && minute < s.to
	case minute >= s.from:
		return s.days[today]
	}
	return minute < s.to && s.days[(today+6)%7]
}

// At is the limit at a moment.
func (h *Hours) At(t time.Time) (l Limit) {
	if h == nil {
		return l
	}
	t = t.In(h.zone)
	for i := range h.spans {
		if h.spans[i].covers(t) {
			l = h.spans[i].limit
		}
	}
	return l
}

// Until is when the limit of a moment gives way to another: the full minute, or
// the zero time when none within a week does.
func (h *Hours) Until(t time.Time) time.Time {
	if h == nil || len(h.spans) == 0 {
		return time.Time{}
	}
	now := h.At(t)
	// A change can only be where a span begins or ends; the least of those
	// moments that differs is it.
	local := t.In(h.zone)
	var best time.Time
	for day := range 9 {
		for i := range h.spans {
			for _, minute := range []int{h.spans[i].from, h.spans[i].to} {
				at := time.Date(local.Year(), local.Month(), local.Day()+day, 0, minute, 0, 0, h.zone)
				if at.After(t) && (best.IsZero() || at.Before(best)) && h.At(at) != now {
					best = at
				}
			}
		}
		midnight := time.Date(local.Year(), local.Month(), local.Day()+day+1, 0, 0, 0, 0, h.zone)
		if midnight.After(t) && (best.IsZero() || midnight.Before(best)) && h.At(midnight) != now { // other days
			best = midnight
		}
		if !best.IsZero() {
			break
		}
	}
	return best
}

// Through is how long it takes from a moment on to move so many bytes at the
// given rate, or less where the hours allow less. Bytes that a quiet without end
// keeps back take a year.
func (h *Hours) Through(from time.Time, bytes, rate float64) time.Duration {
	const forEver = 365 * 24 * time.Hour
	for at := from; at.Sub(from) < forEver; {
		l, until := h.At(at), h.Until(at)
		r := rate
		switch {
		case l.Quiet:
			r = 0
		case l.Rate > 0:
			r = min(r, l.Rate)
		}
		need := forEver
		if seconds := bytes / r; r > 0 && seconds < forEver.Seconds() {
			need = time.Duration(seconds * float64(time.Second))
		}
		if until.IsZero() || !at.Add(need).After(until) {
			return min(at.Add(need).Sub(from), forEver)
		}
		bytes -= r * until.Sub(at).Seconds()
		at = until
	}
	return forEver
}
