package jobs

import (
	"errors"
	"fmt"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/schedule"
	"lumtra/tui/kit"
)

// whenText makes a phrase of a text below [when].
func whenText(name, title, hint, otherwise string, value func(*job.When) string, words string) *phrase {
	return &phrase{path: []string{"when", name}, how: byText, title: title, hint: hint,
		value: func(j *job.Job) string { return value(&j.When) },
		words: func(j *job.Job) string {
			if v := value(&j.When); v != "" {
				return fmt.Sprintf(words, v)
			}
			return otherwise
		}}
}

func whenList(name, title, hint, otherwise string, value func(*job.When) []string) *phrase {
	return &phrase{path: []string{"when", name}, how: byList, title: title, hint: hint,
		value: func(j *job.Job) string { return listText(value(&j.When)) },
		words: func(j *job.Job) string {
			if v := value(&j.When); len(v) > 0 {
				return strings.Join(v, ", ")
			}
			return otherwise
		}}
}

// presets are starts that one comes to by ↓.
var presets = []string{"every 15 minutes", "every hour", "daily at 23:30", "weekdays at 07:00, 19:00",
	"last friday at 20:00", "day 1 at 03:00", "cron 30 23 * * mon-fri",
	"rrule FREQ=WEEKLY;INTERVAL=2;BYDAY=MO;BYHOUR=6",
	"on arrival"}

// The phrases about when a job starts.
var (
	starts = &phrase{path: []string{"when", "start"}, how: byText, title: "When it starts by itself",
		hint: "daily at 23:30; every 15 minutes; last friday at 20:00; cron …; rrule …; after JOB; on arrival; " +
			"nothing for never",
		presets: presets,
		value:   func(j *job.Job) string { return j.When.Start },
		words: func(j *job.Job) string {
			if j.Schedule == nil && j.When.Start != "" { // it cannot be read
				return j.When.Start
			}
			text, _, _ := strings.Cut(j.Schedule.String(), ", but for ")
			return strings.TrimSuffix(text, ", "+j.When.Zone+" time")
		}}
	whenZone = whenText("zone", "The time zone of its times", "Europe/Lisbon; nothing for this machine's", "local time",
		func(w *job.When) string { return w.Zone }, "%s time")
	except = whenList("except", "Dates on which it does not start",
		`"2026-12-24" "2026-12-24 to 2027-01-02" holidays.ics; nothing for none`, "no dates",
		func(w *job.When) []string { return w.Except })
	window = whenList("window", "The hours in which it starts",
		`"20:00-06:00 mon-fri" "08:00-18:00 sat,sun"; nothing for all`,
		"all hours", func(w *job.When) []string { return w.Window })
	windowEnd = choose("when.window-end", "What becomes of a run when those hours end",
		func(j *job.Job) string { return string(j.When.WindowEnd) },
		choice{"", "go on", "A run that began in time goes on to its end."},
		choice{"pause", "pause until they begin again", "It pauses, and goes on when they begin again."},
		choice{"stop", "stop, and go on then",
			"It ends when what is under way has arrived, and a new run goes on then."})
	missed = &phrase{path: []string{"when", "missed"}, how: byText,
		title: "A start whose time passed with nobody to start it",
		hint:  "run: once, when it is found; skip; or how late it may be: 6h", presets: []string{"run", "skip", "6h"},
		value: func(j *job.Job) string { return j.When.Missed },
		words: func(j *job.Job) string {
			switch v := j.When.Missed; v {
			case "", "run":
				return "run once when found"
			case "skip":
				return "skip"
			default:
				return "run if less than " + v + " late"
			}
		}}
	overlap = choose("when.overlap", "A start that comes while the job is still at work",
		func(j *job.Job) string { return string(j.When.Overlap) },
		choice{"", "skip", "It is skipped, and told."},
		choice{"queue-one", "queue one", "One waits until the job is free; others are skipped."},
		choice{"queue-all", "queue all", "Each waits for its turn."})
	spread = whenText("spread", "By how much starts are put off, so that not all are at once",
		"5m: each job by its own part of that; nothing for none", "on the dot",
		func(w *job.When) string { return w.Spread }, "put off by up to %s")
	unattended = choose("when.unattended", "What its plan may do while nobody looks",
		func(j *job.Job) string { return string(j.When.Unattended) },
		choice{"", "runs within the safety limits",
			"It runs by itself. What a safety limit or a check holds back waits for a person."},
		choice{"wait", "waits for a person", "Each plan waits until a person runs it."})
	approveWithin = whenText("approve-within", "How long a plan waits for a person",
		"12h, 2d; nothing for as long as it takes",
		"as long as it takes", func(w *job.When) string { return w.ApproveWithin }, "%s")
	proveRuns = choose("when.prove", "A proof of each run",
		func(j *job.Job) string { return map[bool]string{true: "true", false: ""}[j.When.Prove] },
		choice{"", "no proof", "Nothing beside what a run checks as it goes."},
		choice{"true", "a proof", "Both sides are surveyed anew and compared after each run."})
	priority = choose("when.priority", "Among runs that share a limit, and starts that wait",
		func(j *job.Job) string { return j.When.Priority },
		choice{"", "usual", "As most."}, choice{"high", "high", "Gets four times as much, and starts first."},
		choice{"low", "low", "Gets a quarter, and starts last."})
	settleTime = &phrase{path: []string{"when", "arrival", "settle"}, how: byText,
		title: "How long size and time of what came stand still", hint: "10s; nothing for " + job.UsualSettle.String(),
		value: func(j *job.Job) string { return j.When.Arrival.Settle },
		words: func(j *job.Job) string { return j.When.Arrival.SettleTime().String() }}
	arrivalEvery = &phrase{path: []string{"when", "arrival", "every"}, how: byText, title: "How often it is looked for",
		hint:  "5m; a folder's system tells at once, and is looked through for what it missed",
		value: func(j *job.Job) string { return j.When.Arrival.Every },
		words: func(j *job.Job) string { return j.When.Arrival.EveryTime().String() }}
	notYet = &phrase{path: []string{"when", "arrival", "not-yet"}, how: byList,
		title: "Names that have not arrived yet",
		hint:  "*.part *.tmp; nothing for none",
		value: func(j *job.Job) string { return listText(j.When.Arrival.NotYet) },
		words: func(j *job.Job) string {
			if v := j.When.Arrival.NotYet; len(v) > 0 {
				return strings.Join(v, ", ")
			}
			return "none"
		}}
	marker = &phrase{path: []string{"when", "arrival", "marker"}, how: byText,
		title: "A file whose appearance says that all in its folder has arrived", hint: "READY; nothing for none",
		value: func(j *job.Job) string { return j.When.Arrival.Marker },
		words: func(j *job.Job) string {
			if v := j.When.Arrival.Marker; v != "" {
				return v
			}
			return "none"
		}}
)

// when is the sentence's part about times; one phrase for a job that never starts by itself.
func when(j *job.Job) [][]segment {
	first := []segment{plain("start "), say(starts)}
	if j.When.Start == "" {
		return [][]segment{first}
	}
	x := j.Schedule
	if x.Timed() {
		first = append(first, plain(" , in "), say(whenZone), plain(" , but for "), say(except), plain(" ; "),
			say(spread))
	}
	if x != nil && x.Arrival {
		first = append(first, plain(" , settled for "), say(settleTime), plain(" , looked for every "),
			say(arrivalEvery),
			plain(" ; not yet: "), say(notYet), plain(" ; marker: "), say(marker))
	}
	first = append(first, plain(" ; hours: "), say(window))
	if len(j.When.Window) > 0 {
		first = append(first, plain(" , at their end "), say(windowEnd))
	}
	second := []segment{plain("missed: "), say(missed), plain(" ; while at work: "), say(overlap),
		plain(" ; its plan "),
		say(unattended), plain(" , kept waiting "), say(approveWithin), plain(" ; then "), say(proveRuns),
		plain(" ; priority "), say(priority)}
	return [][]segment{first, second}
}

// comingShown is how many of the next starts are told while times are typed.
const comingShown = 5

// reading tells what is said about times: in plain words, and as the next dates.
func (s *Screen) reading(d *draft, width int) []string {
	t, x := s.Theme, d.job.Schedule
	if x == nil || s.under().path == nil || s.under().path[0] != "when" || d.wrong != nil &&
		strings.HasPrefix(d.wrong.Setting, "when.") {
		return nil
	}
	lines := []string{""}
	for _, l := range kit.Wrap("Starts "+x.String()+".", width-2) {
		lines = append(lines, "  "+t.Paper.Render(l))
	}
	var offset string
	for i, c := range x.Coming(s.Now(), comingShown) {
		at := c.At.In(x.Zone())
		text := at.Format("Mon 2006-01-02 15:04 -07:00")
		mark := ""
		switch now := at.Format("-07:00"); {
		case c.Clock == schedule.Moved:
			mark = "clocks go forward over " + c.Wall.Format("15:04")
		case c.Clock == schedule.Doubled:
			mark = c.Wall.Format("15:04") + " is there twice: at the first"
		case i > 0 && now != offset:
			mark = "clocks have changed"
		}
		offset = at.Format("-07:00")
		line := "  " + t.Strong.Render(text)
		if mark != "" {
			line += "  " + t.Lamp.Render(kit.Name("◂ "+mark, max(width-ansi.StringWidth(text)-4, 4)))
		}
		lines = append(lines, line)
	}
	if x.ByItself() && s.Service.Linked() == nil {
		for _, l := range kit.Wrap("The background service starts it, and is not running: B in Now begins it.",
			width-2) {
			lines = append(lines, "  "+t.Ash.Render(l))
		}
	}
	return lines
}

// pointer is a line below the field that points to the character at which a typed start goes wrong.
func (s *Screen) pointer(d *draft) (string, bool) {
	e := s.edit
	if e.p != starts || d.wrong == nil || d.wrong.Setting != "when.start" {
		return "", false
	}
	settings := d.job.When.Settings
	settings.Start = e.input.Value()
	_, err := schedule.New(&settings, nil)
	var w *schedule.Wrong
	if !errors.As(err, &w) || w.Setting != "start" || w.At == 0 || w.At > len(settings.Start) {
		return "", false
	}
	at := ansi.StringWidth(object.Display(settings.Start[:w.At]))
	return "  " + strings.Repeat(" ", at) + s.Theme.Flare.Render("▲"), at < e.input.Width()
}
