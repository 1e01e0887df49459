package now

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/forecast"
	"lumtra/core/job"
	"lumtra/core/schedule"
	"lumtra/core/starts"
	"lumtra/service/agenda"
	"lumtra/tui/kit"
)

// moving is a job's time being moved by hand.
type moving struct {
	job     string
	by      int // minutes
	start   string
	outlook *agenda.Outlook // as it would be; nil where it cannot be so
	wrong   string
}

// outlook is what comes, with what is being moved where it would be.
func (s *Screen) outlook() *agenda.Outlook {
	if s.moving != nil && s.moving.outlook != nil {
		return s.moving.outlook
	}
	return s.State.Agenda
}

// coming draws a job's coming starts over a lane: hollow, as long as past runs took, with the range in
// which their end lies; those that collide in the colour of warnings. What was missed or skipped is
// marked where it would have been.
func (s *Screen) coming(j *kit.JobState, sc scale, cells []string) {
	t, o := s.Theme, s.outlook()
	if o == nil {
		return
	}
	for i := range o.Kept {
		r := &o.Kept[i]
		c := sc.cell(r.Slot)
		if r.Job != j.Job.Name || c < 0 || c >= sc.width {
			continue
		}
		switch r.State {
		case starts.Missed:
			cells[c] = t.Flare.Render("×")
		case starts.Skipped:
			cells[c] = t.Ash.Render("×")
		case starts.Waiting:
			cells[c] = t.Lamp.Render("▲")
		}
	}
	collides := map[int]bool{}
	for _, x := range o.Collisions {
		collides[x.First], collides[x.Second] = true, true
	}
	for i := range o.Coming {
		c := &o.Coming[i]
		first := sc.cell(c.At)
		if c.Job != j.Job.Name || first >= sc.width {
			continue
		}
		style := t.Dusk
		if collides[i] {
			style = t.Flare
		}
		for at := first + 1; at <= min(sc.cell(c.At.Add(c.Longest)), sc.width-1); at++ {
			glyph := "╌" // by then at the latest
			if at <= sc.cell(c.End()) {
				glyph = "─"
			}
			if at >= 0 {
				cells[at] = style.Render(glyph)
			}
		}
		if first >= 0 {
			cells[first] = style.Render("◇")
		}
	}
}

// windowed tells whether a cell lies in the hours in which a job starts; never for one without such
// hours.
func windowed(x *schedule.Schedule, sc scale, cell int) bool {
	if !x.Windowed() || sc.step > 2*time.Hour { // hours cannot be told apart
		return false
	}
	open, _ := x.Open(sc.time(cell).Add(sc.step / 2))
	return open
}

// times are the lines about when the chosen job starts.
func (s *Screen) times(j *kit.JobState, width int) []string {
	t, o := s.Theme, s.outlook()
	x := j.Job.Schedule
	if !x.ByItself() {
		return nil
	}
	text := t.Ash.Render("starts ") + t.Paper.Render(x.String())
	if next := o.Next(j.Job.Name); next != nil {
		text += t.Ash.Render(" · next ") + t.Strong.Render(next.At.Local().Format("Mon 2 Jan 15:04")) +
			t.Ash.Render(", in "+kit.Span(next.At.Sub(s.State.At)))
		if next.Usual > 0 {
			text += t.Ash.Render(fmt.Sprintf(", takes %s (%s to %s)", kit.Span(next.Usual), kit.Span(next.Short),
				kit.Span(next.Longest)))
		}
	}
	lines := []string{"  " + kit.Fit(text, width-2)}
	if s.Service.Linked() == nil {
		lines = append(lines, "  "+t.Flare.Render("▲ nothing starts it: B begins the background service"))
	}
	if next := o.Next(j.Job.Name); next != nil {
		if _, ends := x.Open(next.At); !ends.IsZero() && next.End().After(ends) {
			does := map[schedule.WindowEnd]string{schedule.GoesOn: "goes on all the same",
				schedule.Pauses: "pauses then",
				schedule.Stops:  "is stopped then, and goes on in the next"}[x.AtWindowEnd()]
			lines = append(lines,
				"  "+t.Flare.Render(kit.Name(fmt.Sprintf("▲ its hours end at %s, before it will: it %s",
					ends.In(x.Zone()).Format("Mon 15:04"), does), width-2)))
		}
	}
	all, others := o.CollisionsOf(j.Job.Name)
	if len(all) > 0 {
		at := all[0].Endpoint
		if at == "" {
			at = "this machine"
		}
		what := fmt.Sprintf("▲ %s: %s is at %s then, too: both take up to %s longer",
			all[0].From.Local().Format("Mon 2 Jan 15:04"), others[0], at, kit.Span(all[0].Longer()))
		if n := len(all); n > 1 {
			what += fmt.Sprintf("; %d more such times", n-1)
		}
		lines = append(lines, "  "+t.Flare.Render(kit.Name(what, width-2)))
	}
	return lines
}

// nextWords tell when a job starts next, for its lane.
func (s *Screen) nextWords(j *kit.JobState) string {
	if next := s.State.Agenda.Next(j.Job.Name); next != nil {
		return " · next " + next.At.Local().Format("Mon 15:04")
	}
	return ""
}

// needTimed refuses to move what has no time of the day.
func needTimed(s *Screen) string {
	if why := needJob(s); why != "" {
		return why
	}
	j := s.State.Jobs[s.cursor.At].Job
	if _, ok := schedule.Shift(j.When.Start, 0); !ok {
		return "this job's start names no time of the day that could be moved"
	}
	return ""
}

// move begins to move the time of the job under the cursor.
func (s *Screen) move() tea.Cmd {
	j := s.State.Jobs[s.cursor.At].Job
	s.moving = &moving{job: j.Name, start: j.When.Start}
	return nil
}

// moveKeys are those while a time is being moved.
var moveKeys = []kit.Key{{Press: "enter", Does: "write it"}, {Press: "esc", Does: "leave it as it was"},
	{Press: "right", Does: "5 minutes later"}, {Press: "left", Does: "5 minutes earlier"},
	{Press: "up", Does: "an hour later"}, {Press: "down", Does: "an hour earlier"}}

// moveKey moves the time, keeps it or leaves it.
func (s *Screen) moveKey(key string) tea.Cmd {
	m := s.moving
	steps := map[string]int{"right": 5, "l": 5, "left": -5, "h": -5, "up": 60, "k": 60, "down": -60, "j": -60}
	switch {
	case key == "esc":
		s.moving = nil
		return kit.Cmd(kit.Say{Text: "Left as it was."})
	case key == "enter":
		s.moving = nil
		if m.by == 0 {
			return kit.Cmd(kit.Say{Text: "Left as it was."})
		}
		return s.writeStart(m)
	case steps[key] == 0:
		return nil
	}
	j := s.State.JobNamed(m.job)
	if j == nil || s.State.Agenda == nil {
		return nil
	}
	start, ok := schedule.Shift(j.Job.When.Start, m.by+steps[key])
	if !ok {
		return kit.Cmd(kit.Say{Text: "It would leave its day: change the days in Jobs."})
	}
	settings := j.Job.When.Settings
	settings.Start = start
	x, err := schedule.New(&settings, nil)
	m.by, m.start, m.wrong, m.outlook = m.by+steps[key], start, "", nil
	if err != nil {
		m.wrong = kit.Reason(err)
		return nil
	}
	m.outlook = s.State.Agenda.With(m.job, x, s.State.At.Add(kit.LookAhead))
	return nil
}

// writeStart writes a moved start into the job's file.
func (s *Screen) writeStart(m *moving) tea.Cmd {
	if m.wrong != "" {
		return kit.Cmd(kit.Say{Text: "Not written: " + m.wrong, Bad: true})
	}
	return func() tea.Msg {
		text, err := s.Service.Workspace().Text(m.job)
		if err == nil {
			text, err = job.Set(text, m.start, "when", "start")
		}
		if err == nil {
			err = s.Service.SaveJob(m.job, m.job, text)
		}
		if err != nil {
			return kit.Say{Text: "Not written: " + kit.Reason(err), Bad: true}
		}
		return kit.Refresh{Then: kit.Cmd(kit.Say{Text: m.job + " starts " + m.start + " now."})}
	}
}

// moveLine tells what is being moved, and to when.
func (s *Screen) moveLine() string {
	t, m := s.Theme, s.moving
	text := t.Lamp.Render("  Moving "+m.job+": ") + t.Strong.Render(m.start)
	if m.wrong != "" {
		return text + t.Flare.Render("  ▲ "+m.wrong)
	}
	before, _ := s.State.Agenda.CollisionsOf(m.job)
	now, _ := s.outlook().CollisionsOf(m.job)
	switch {
	case len(now) > 0:
		text += t.Flare.Render(fmt.Sprintf("  ▲ collides %d times", len(now)))
	case len(before) > 0:
		text += t.Tide.Render("  no collision any more")
	default:
		text += t.Tide.Render("  no collision")
	}
	return text
}

// pastWeeksShown is over how many weeks what was is a mean.
const pastWeeksShown = 4

// weekLines draw how busy endpoints are by the hours of the week: what past runs moved, and what
// coming ones will; those of the chosen job first, as many as there is room for.
func (s *Screen) weekLines(width, height int) []string {
	t, o := s.Theme, s.outlook()
	if o == nil {
		return []string{"  " + t.Ash.Render("looking …")}
	}
	names := s.endpoints(o)
	if len(names) == 0 {
		return []string{"  " + t.Ash.Render("No job names an endpoint yet.")}
	}
	s.endpoint = min(s.endpoint, len(names)-1)
	var lines []string
	for i := range names {
		block := s.weekOf(o, names[(s.endpoint+i)%len(names)], width)
		if i > 0 && len(lines)+len(block)+1 > height {
			lines = append(lines, "  "+t.Ash.Render(fmt.Sprintf("%d more: tab goes on", len(names)-i)))
			break
		}
		lines = append(lines, append(block, "")...)
	}
	return lines[:min(len(lines), height)]
}

// weekOf draws one endpoint's weeks, side by side where there is room.
func (s *Screen) weekOf(o *agenda.Outlook, name string, width int) []string {
	t := s.Theme
	shown := name
	if shown == "" {
		shown = "this machine"
	}
	week := 7 * 24 * time.Hour
	past := forecast.Load(o.Jobs, name, o.At.Add(-pastWeeksShown*week), o.At, time.Local)
	next := forecast.Expected(o.Jobs, within(o.Coming, o.At.Add(week)), name, 1, time.Local)
	top := max(past.Most(), next.Most(), 1)
	lines := []string{"  " + t.Strong.Render(kit.Name(shown, 40)) +
		t.Ash.Render("  the brightest hour moves "+kit.Rate(top, s.Bits))}
	if width < 110 {
		lines = append(lines, "  "+s.roomWords(next))
	} else {
		lines[0] += t.Ash.Render(" · ") + s.roomWords(next)
	}
	titles := [2]string{fmt.Sprintf("past, a mean of %d weeks", pastWeeksShown), "expected, the coming week"}
	if cell := min((width-14)/48, 5); cell >= 2 {
		left, right := s.grid(titles[0], past, top, cell), s.grid(titles[1], next, top, cell)
		for i := range left {
			lines = append(lines, kit.Fit(left[i], 8+24*cell)+right[i])
		}
		return lines
	}
	cell := max(min((width-8)/24, 5), 1)
	return append(append(lines, s.grid(titles[0], past, top, cell)...), s.grid(titles[1], next, top, cell)...)
}

// within are the starts before a moment.
func within(all []forecast.Coming, until time.Time) []forecast.Coming {
	for i := range all {
		if !all[i].At.Before(until) {
			return all[:i]
		}
	}
	return all
}

// grid is a week, a row a day from Monday and a column an hour.
func (s *Screen) grid(title string, w *forecast.Week, top float64, cell int) []string {
	t := s.Theme
	hours := ""
	for h := range 24 {
		if text := fmt.Sprint(h); h%6 == 0 && cell > 1 || cell >= 3 && h%3 == 0 {
			hours += kit.Fit(text, cell)
		} else {
			hours += strings.Repeat(" ", cell)
		}
	}
	lines := []string{"  " + t.Ash.Render(kit.Fit(title, 24*cell)), "  " + t.Ash.Render("    "+hours)}
	for i := range 7 {
		day := (i + 1) % 7
		row := "  " + t.Ash.Render(kit.Fit(time.Weekday(day).String()[:3], 4))
		for h := range 24 {
			v := w[day][h]
			if v == 0 {
				row += t.Rule.Render("·") + strings.Repeat(" ", cell-1)
				continue
			}
			row += strings.Repeat(t.Past(v/top), max(cell-1, 1)) + strings.Repeat(" ", min(cell-1, 1))
		}
		lines = append(lines, row)
	}
	return lines
}

// roomWords tell the longest time of the week in which nothing is expected.
func (s *Screen) roomWords(w *forecast.Week) string {
	best, from, run := 0, 0, 0
	for i := range 2 * 7 * 24 { // twice, since a week goes on into the next
		h := (i + 24) % (7 * 24) // from Monday
		if w[h/24][h%24] > 0 {
			run = 0
			continue
		}
		if run++; run > best && run <= 7*24 {
			best, from = run, i-run+1
		}
	}
	if best == 0 {
		return s.Theme.Flare.Render("No hour of the week is free.")
	}
	if best >= 7*24 {
		return s.Theme.Tide.Render("Nothing is expected in the coming week.")
	}
	at := (from + 24) % (7 * 24)
	return s.Theme.Tide.Render(fmt.Sprintf("Most room: %d hours from %s %02d:00.", best, time.Weekday(at/24), at%24))
}

// endpoints are those that jobs name, those of the chosen job first.
func (s *Screen) endpoints(o *agenda.Outlook) (names []string) {
	seen := map[string]bool{}
	add := func(all []string) {
		for _, n := range all {
			if !seen[n] {
				seen[n] = true
				names = append(names, n)
			}
		}
	}
	for i := range o.Jobs {
		if o.Jobs[i].Name == s.under() {
			add(o.Jobs[i].Endpoints)
		}
	}
	for i := range o.Jobs {
		add(o.Jobs[i].Endpoints)
	}
	return names
}
