package schedule

import (
	"fmt"
	"hash/fnv"
	"io"
	"time"

	"lumtra/core/pace"
)

// Settings are how a schedule is written: the table [when] of a job file.
type Settings struct {
	// Start is the rule, as [Parse] reads it; "" for a job that never starts by itself.
	Start string `toml:"start,omitempty"`
	// Zone is a name of the IANA time zone database; "" is the machine's zone.
	Zone string `toml:"zone,omitempty"`
	// Except are dates on which nothing starts: "2026-12-24", "2026-12-24 to 2027-01-02", or
	// the name of an iCalendar file (RFC 5545) in the workspace.
	Except []string `toml:"except,omitempty"`
	// Window are the hours in which starts are, as "20:00-06:00 mon-fri"; none is all hours.
	Window []string `toml:"window,omitempty"`
	// WindowEnd is what becomes of a run at its window's end.
	WindowEnd WindowEnd `toml:"window-end,omitempty"`
	// Missed is "run", "skip", or an age such as "6h": run if less late than that. Overlap is
	// what becomes of a start that comes while the job is at work.
	Missed  string  `toml:"missed,omitempty"`
	Overlap Overlap `toml:"overlap,omitempty"`
	// Spread is the most that a start is put off, such as "5m": by how much follows from the
	// job's name and the time, so that many jobs of one rule do not all start at once.
	Spread string `toml:"spread,omitempty"`
}

// WindowEnd is what becomes of a run when its window ends.
type WindowEnd string

// The ends: it goes on, waits for the next window, or ends when what is under way has arrived.
const (
	GoesOn WindowEnd = "go-on"
	Pauses WindowEnd = "pause"
	Stops  WindowEnd = "stop"
)

// Clock is what a change of the clocks did to a start.
type Clock string

// What it did. Moved: its time is missing that day, and it starts when the gap ends. Doubled: its
// time is there twice, and it starts at the first.
const (
	Steady  Clock = ""
	Moved   Clock = "moved"
	Doubled Clock = "doubled"
)

func (f fit) clock() Clock { return [...]Clock{Steady, Moved, Doubled}[f] }

// Start is a time at which a rule starts something.
type Start struct {
	// At is the moment, and names the start: a rule has one at a moment.
	At time.Time
	// Wall is the time of the zone that the rule names, with its fields, in UTC.
	Wall  time.Time
	Clock Clock
}

// rule is what has times.
type rule interface {
	// next is its first start after a moment; false where none comes within [horizon].
	next(after time.Time, zone *time.Location) (Start, bool)
}

// Schedule is when a job starts. It does not change.
type Schedule struct {
	// After is the job upon whose good end it starts, "" for none; Arrival that it starts when
	// something has arrived at its source.
	After   string
	Arrival bool

	text      string
	rule      rule // nil where no time starts it
	zone      *time.Location
	except    exceptions
	window    *pace.Hours // nil is all hours
	windowEnd WindowEnd
	missed    missedPolicy
	overlap   Overlap
	spread    time.Duration
}

// Wrong is what is wrong with a setting, and what would be right.
type Wrong struct {
	// Setting is its name below [when], At the byte of its text at which it goes wrong.
	Setting string
	At      int
	What    string
}

// Error says it.
func (w *Wrong) Error() string { return w.What }

// New makes a schedule of settings. Open opens an iCalendar file that Except names; nil opens
// none. Whatever is wrong is a [*Wrong].
func New(s *Settings, open func(name string) (io.ReadCloser, error)) (*Schedule, error) {
	x := &Schedule{text: s.Start, zone: time.Local, windowEnd: s.WindowEnd, overlap: s.Overlap}
	var err error
	if s.Zone != "" {
		if x.zone, err = pace.Zone(s.Zone); err != nil {
			return nil, &Wrong{"zone", 0, fmt.Sprintf("zone is %q; it is a time zone's name such as "+
				"\"Europe/Lisbon\"", s.Zone)}
		}
	}
	if err := x.parse(s.Start); err != nil {
		return nil, err
	}
	if err := x.except.read(s.Except, open); err != nil {
		return nil, err
	}
	if err := x.limits(s); err != nil {
		return nil, err
	}
	if x.rule != nil {
		if _, some := x.Next(epoch); !some {
			return nil, &Wrong{"start", 0, x.never()}
		}
	}
	return x, nil
}

// limits reads what bounds the times and what becomes of those that do not fit.
func (x *Schedule) limits(s *Settings) (err error) {
	if len(s.Window) > 0 {
		lines := []string{"quiet"}
		for _, w := range s.Window {
			lines = append(lines, "free "+w)
		}
		if x.window, err = pace.ParseHours(lines, s.Zone); err != nil {
			return &Wrong{"window", 0, fmt.Sprintf("window is %q; its lines read like \"20:00-06:00 mon-fri\"",
				s.Window)}
		}
	}
	switch s.WindowEnd {
	case "":
		x.windowEnd = GoesOn
	case GoesOn, Pauses, Stops:
	default:
		return &Wrong{"window-end", 0, fmt.Sprintf("window-end is %q; it is \"go-on\", \"pause\" or \"stop\"",
			s.WindowEnd)}
	}
	if x.missed, err = parseMissed(s.Missed); err != nil {
		return err
	}
	switch s.Overlap {
	case "":
		x.overlap = SkipIt
	case SkipIt, QueueOne, QueueAll:
	default:
		return &Wrong{"overlap", 0, fmt.Sprintf("overlap is %q; it is \"skip\", \"queue-one\" or \"queue-all\"",
			s.Overlap)}
	}
	if s.Spread != "" {
		if x.spread, err = time.ParseDuration(s.Spread); err != nil || x.spread < 0 || x.spread > 24*time.Hour {
			return &Wrong{"spread", 0, fmt.Sprintf("spread is %q; it is a time such as \"5m\", a day at the most",
				s.Spread)}
		}
	}
	return nil
}

// never says why no time comes.
func (x *Schedule) never() string {
	if _, some := x.rule.next(epoch, x.zone); !some {
		return fmt.Sprintf("%q never comes: no day of the calendar is like that", x.text)
	}
	return fmt.Sprintf("%q never comes: all its times are outside the window or on dates that are left out", x.text)
}

// Timed tells that times start it.
func (x *Schedule) Timed() bool { return x != nil && x.rule != nil }

// ByItself tells that something starts it without a person.
func (x *Schedule) ByItself() bool { return x != nil && (x.rule != nil || x.Arrival || x.After != "") }

// Zone is the zone its times are of.
func (x *Schedule) Zone() *time.Location { return x.zone }

// mostOutside is how many times of a rule may lie outside the window in a row, from one opening of it
// to the next, before none is taken to come. Windows are the same each week; the rarest rules have
// 41 times within the horizon, those of a time of the day are inside within a week or never, and an odd
// interval finds a short window within some years.
const mostOutside = 1000

// Next is the first start after a moment: inside the window, and on no date that is left out. False
// where none comes in the next decades.
func (x *Schedule) Next(after time.Time) (Start, bool) {
	if !x.Timed() {
		return Start{}, false
	}
	outside := 0
	for until := after.Add(horizon); after.Before(until) && outside < mostOutside; {
		s, some := x.rule.next(after, x.zone)
		if !some {
			return Start{}, false
		}
		if free, ok := x.except.freeAfter(s.Wall); ok {
			// The first moment of the first day that is not left out, but for one instant.
			if at, _ := moment(free, x.zone); at.Add(-1).After(after) {
				after = at.Add(-1)
				continue
			}
			after = s.At
			continue
		}
		if x.window != nil && x.window.At(s.At).Quiet {
			outside++
			opens := x.window.Until(s.At)
			if opens.IsZero() {
				return Start{}, false
			}
			after = opens.Add(-1)
			continue
		}
		return s, true
	}
	return Start{}, false
}

// Coming are the next starts after a moment, at most n.
func (x *Schedule) Coming(after time.Time, n int) []Start {
	var all []Start
	for len(all) < n {
		s, some := x.Next(after)
		if !some {
			break
		}
		all = append(all, s)
		after = s.At
	}
	return all
}

// Delay is by how much the start of a job at a moment is put off: from nothing to the spread,
// always the same for the same job and moment.
func (x *Schedule) Delay(job string, at time.Time) time.Duration {
	if x.spread <= 0 {
		return 0
	}
	h := fnv.New64a()
	fmt.Fprintf(h, "%s\x00%d", job, at.Unix())
	return time.Duration(h.Sum64()%uint64(x.spread/time.Second+1)) * time.Second
}

// Open tells whether a moment is inside the window, and when that changes next; the zero time
// where it does not.
func (x *Schedule) Open(at time.Time) (open bool, until time.Time) {
	if x == nil || x.window == nil {
		return true, time.Time{}
	}
	return !x.window.At(at).Quiet, x.window.Until(at)
}

// Windowed tells that it has a window.
func (x *Schedule) Windowed() bool { return x != nil && x.window != nil }

// AtWindowEnd is what becomes of a run when the window ends.
func (x *Schedule) AtWindowEnd() WindowEnd { return x.windowEnd }
