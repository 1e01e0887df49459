package now

import (
	"slices"
	"strings"
	"time"

	"lumtra/core/history"
	"lumtra/core/object"
	"lumtra/core/transfer"
	"lumtra/tui/kit"
)

const labelWidth = 26

// Render draws lanes over needs.
func (s *Screen) Render(width, height int) string {
	t := s.Theme
	jobs, needs := s.State.Jobs, s.State.Needs
	if len(jobs) == 0 {
		lines := []string{"", "  " + t.Strong.Render("No jobs yet."), "",
			"  " + t.Paper.Render("A job is a file in "+object.Display(s.Service.Workspace().Dir)+"/jobs, such as"), "",
			"  " + t.Tide.Render(`  source = "studio/masters"`), "  " +
				t.Tide.Render(`  target = "north-store/archive/masters"`)}
		if s.State.At.IsZero() {
			lines = []string{"", "  " + t.Ash.Render("looking …")}
		}
		for _, n := range needs {
			lines = append(lines, "", "  "+t.Flare.Render("▲ ")+object.Display(n.What))
		}
		return kit.Lines(lines, width, height)
	}
	s.cursor.Move(0, len(jobs)+len(needs))
	needRows := min(len(needs), max(height/4, 2)) + 1
	laneRows := height - needRows - 2 // the axis, a rule
	each := min(max(laneRows/len(jobs), 2), 4)
	fit := max(laneRows/each, 1)
	s.page = fit
	first := 0
	if at := min(s.cursor.At, len(jobs)-1); at >= fit {
		first = at - fit + 1
	}
	if s.week {
		return kit.Lines(append([]string{""}, s.weekLines(width, height-1)...), width, height)
	}
	scale := s.scale(width - labelWidth - 2)
	lines := []string{strings.Repeat(" ", labelWidth+2) + scale.axis(t)}
	for i := first; i < min(first+fit, len(jobs)); i++ {
		lines = append(lines, s.lane(&jobs[i], scale, width, each, i == s.cursor.At)...)
	}
	lines = append(lines, kit.RuleLine(t, width))
	if s.moving != nil {
		lines = append(lines, s.moveLine())
		needRows--
	}
	lines = append(lines, s.needs(width, needRows)...)
	if left := height - len(lines); left >= 4 {
		lines = append(lines, kit.RuleLine(t, width))
		lines = append(lines, s.past(width, left-1)...)
	}
	return kit.Lines(lines, width, height)
}

// past tells of the chosen job's latest runs, each with its rate over time.
func (s *Screen) past(width, rows int) []string {
	t := s.Theme
	j := &s.State.Jobs[min(s.cursor.At, len(s.State.Jobs)-1)]
	lines := []string{"  " + t.Strong.Render(kit.Name(j.Job.Name, 40)) + t.Ash.Render("  "+kit.Name(j.Job.Source, 40)+
		" to "+kit.Name(j.Job.Target, 40))}
	lines = append(lines, s.times(j, width)...)
	if len(j.Runs) == 0 {
		return append(lines, "  "+t.Ash.Render("no run in the last month"))
	}
	rows = max(rows-len(lines)+1, 1)
	strip := min(max(width-96, 0), 60)
	for _, r := range j.Runs[:min(len(j.Runs), rows-1)] {
		if a := j.Active; a != nil && r.End == history.Running { // fresher than the history
			r.Objects, r.Bytes, r.Failed, r.Samples = a.Objects, a.Bytes, a.Failed, a.Samples
		}
		glyph, style := t.End(r.End)
		ended := r.Ended
		if r.End == history.Running {
			ended = s.State.At
		}
		took := ended.Sub(r.Began)
		text := "  " + t.Ash.Render(r.Began.Local().Format("2006-01-02 15:04:05")) + "  " +
			style.Render(kit.Fit(glyph+" "+string(r.End), 22)) +
			t.Paper.Render(kit.FitLeft(kit.Count(r.Objects), 11)+" objects"+
				kit.FitLeft(kit.Size(r.Bytes), 12)) + t.Ash.Render(kit.FitLeft(kit.Span(took), 14)+"  ")
		rates := rateStrip(r.Samples, strip)
		top := slices.Max(append([]float64{1}, rates...))
		for _, v := range rates {
			text += t.Past(v / top)
		}
		if r.Failed > 0 {
			text += t.Flare.Render("  " + kit.Count(r.Failed) + " failed")
		}
		lines = append(lines, text)
	}
	return lines
}

// rateStrip is a run's rate in n spans of equal length.
func rateStrip(samples []transfer.Sample, n int) []float64 {
	if len(samples) < 2 {
		return nil
	}
	n = min(n, len(samples)-1)
	step := samples[len(samples)-1].At / time.Duration(max(n, 1))
	values := make([]float64, n)
	for i := range values {
		a := step * time.Duration(i)
		values[i] = (bytesAt(samples, a+step) - bytesAt(samples, a)) / max(step.Seconds(), 1e-6)
	}
	return values
}

// lane draws one job: its label, its runs over time, its facts.
func (s *Screen) lane(j *kit.JobState, sc scale, width, rows int, chosen bool) []string {
	t := s.Theme
	mark := "  "
	if chosen {
		mark = t.Lamp.Render("▌ ")
	}
	summary, notable := s.summary(j)
	style := t.Ash
	if notable {
		style = t.Lamp
		if j.Active == nil {
			style = t.Flare
		}
	}
	name := t.Paper
	if chosen {
		name = t.Strong
	}
	bar := s.bar(j, sc)
	facts := sc.within(t, t.Ash.Render(s.facts(j)), width-labelWidth-2)
	lines := []string{mark + kit.Fit(name.Render(kit.Name(j.Job.Name, labelWidth-2)), labelWidth) + bar}
	if rows >= 4 {
		lines = append(lines, mark+kit.Fit(style.Render(summary), labelWidth)+bar)
		lines = append(lines, mark+kit.Fit("", labelWidth)+facts)
	} else {
		lines = append(lines, mark+kit.Fit(style.Render(summary), labelWidth)+facts)
	}
	for len(lines) < rows {
		lines = append(lines, strings.Repeat(" ", labelWidth+2)+sc.blank(t))
	}
	return lines
}

func (s *Screen) needs(width, rows int) []string {
	t := s.Theme
	needs := s.State.Needs
	title := t.Tide.Render("  Nothing needs you.")
	if len(needs) > 0 {
		title = t.Flare.Render("  Needs you")
	}
	lines := []string{title}
	var c kit.Cursor
	c.At = s.cursor.At - len(s.State.Jobs)
	first, last := c.Window(len(needs), max(rows-1, 0))
	for i := first; i < last; i++ {
		n := needs[i]
		text := t.Flare.Render("▲ ") + t.Strong.Render(kit.Fit(kit.Name(n.Job, 22), 22)) + " " +
			t.Paper.Render(object.Display(n.What))
		if n.Key != "" {
			text += t.Ash.Render("   enter: " + string(n.View))
		}
		lines = append(lines, kit.Row(t, text, width, i+len(s.State.Jobs) == s.cursor.At))
	}
	return lines
}

// bar draws a job's runs along the scale.
func (s *Screen) bar(j *kit.JobState, sc scale) string {
	t := s.Theme
	cells := make([]string, sc.width)
	for i := range cells {
		cells[i] = sc.ground(t, i)
		if i != sc.line && windowed(j.Job.Schedule, sc, i) {
			cells[i] = t.Rule.Render("░")
		}
	}
	top := s.topRate(sc)
	for i := len(j.Runs) - 1; i >= 0; i-- {
		r := &j.Runs[i]
		if r.End == history.Running {
			continue
		}
		first, last := sc.cell(r.Began), sc.cell(r.Ended)
		for c := max(first, 0); c <= min(last, sc.width-1); c++ {
			cells[c] = t.Past(rateIn(r.Samples, r.Began, sc.time(c), sc.time(c+1), false) / top)
		}
		if last >= 0 && last < sc.width {
			glyph, style := t.End(r.End)
			cells[last] = style.Render(glyph)
		}
	}
	if a := j.Active; a != nil && !a.Began.IsZero() {
		here := sc.cell(s.State.At)
		for c := max(sc.cell(a.Began), 0); c <= min(here, sc.width-1); c++ {
			cells[c] = t.Glow(max(rateIn(a.Samples, a.Began, sc.time(c), sc.time(c+1), true)/top, 0.2))
		}
		if soon, late, ok := a.Expect(s.State.At); ok {
			for c := max(here+1, 0); c <= min(sc.cell(late), sc.width-1); c++ {
				glyph := "╌" // the range in which the end lies
				if c <= sc.cell(soon) {
					glyph = "┅"
				}
				cells[c] = t.Dusk.Render(glyph)
			}
		}
	}
	s.coming(j, sc, cells)
	return strings.Join(cells, "")
}

// topRate is the highest rate on show, which is full brightness in every lane.
func (s *Screen) topRate(sc scale) float64 {
	top := 1.0
	see := func(samples []transfer.Sample, began time.Time, running bool) {
		for c := max(sc.cell(began), 0); c < sc.width && len(samples) > 0; c++ {
			if sc.time(c).After(began.Add(samples[len(samples)-1].At)) {
				break
			}
			top = max(top, rateIn(samples, began, sc.time(c), sc.time(c+1), running))
		}
	}
	for i := range s.State.Jobs {
		j := &s.State.Jobs[i]
		for k := range j.Runs {
			see(j.Runs[k].Samples, j.Runs[k].Began, false)
		}
		if j.Active != nil {
			see(j.Active.Samples, j.Active.Began, true)
		}
	}
	return top
}

// rateIn is a run's rate over a span of time, in bytes a second: over all of
// it, also where the run filled only a part, so that a short burst does not
// outshine hours of work. The last span of a run that goes on is not over yet.
func rateIn(samples []transfer.Sample, began, from, to time.Time, running bool) float64 {
	a, b := max(from.Sub(began), 0), to.Sub(began)
	n := len(samples)
	if n == 0 || b <= a {
		return 0
	}
	span := to.Sub(from)
	if last := samples[n-1].At; b > last && running {
		span = max(last-a, span/4)
	}
	return (bytesAt(samples, b) - bytesAt(samples, a)) / span.Seconds()
}

func bytesAt(samples []transfer.Sample, at time.Duration) float64 {
	for i := 1; i < len(samples); i++ {
		if samples[i].At >= at {
			p, q := samples[i-1], samples[i]
			share := 1.0
			if q.At > p.At {
				share = float64(at-p.At) / float64(q.At-p.At)
			}
			return float64(p.Bytes) + share*float64(q.Bytes-p.Bytes)
		}
	}
	if n := len(samples); n > 0 {
		return float64(samples[n-1].Bytes)
	}
	return 0
}
