// Package run is the view of what moves now: the rate over time, what is in
// flight, and problems by cause. Of a run that is over it shows what history
// kept.
package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"lumtra/core/history"
	"lumtra/core/object"
	"lumtra/core/transfer"
	"lumtra/service"
	"lumtra/tui/kit"
	"lumtra/tui/look"
)

// Screen is the view.
type Screen struct {
	*kit.Shared
	starting map[string]bool
	err      map[string]error
}

// New makes the view.
func New(shared *kit.Shared) *Screen {
	return &Screen{Shared: shared, starting: map[string]bool{}, err: map[string]error{}}
}

type startedMsg struct {
	job string
	err error
}

// Crumbs name the job.
func (s *Screen) Crumbs() []string {
	if j := s.Current(); j != nil {
		return []string{j.Job.Name}
	}
	return nil
}

// Typing is never so here.
func (s *Screen) Typing() bool { return false }

// Keys of the view.
func (s *Screen) Keys() []kit.Key {
	j := s.Current()
	switch {
	case j == nil:
		return nil
	case j.Active != nil:
		return []kit.Key{{Press: "x", Does: "stop: what is done stays done"}, {Press: "u", Does: "bytes or bits"}}
	}
	return []kit.Key{{Press: "v", Does: "verify: prove what is there"}, {Press: "p", Does: "plan anew: survey both sides"}, {Press: "u", Does: "bytes or bits"}}
}

// Update takes keys, and runs to start.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case kit.Start:
		if s.starting[msg.Job] {
			return nil
		}
		s.starting[msg.Job] = true
		delete(s.err, msg.Job)
		return func() tea.Msg {
			// A person has looked at the plan and let it go.
			_, err := s.Service.StartRun(context.Background(), msg.Job, service.RunOptions{Number: msg.Number})
			return startedMsg{msg.Job, err}
		}
	case startedMsg:
		delete(s.starting, msg.job)
		if msg.err != nil && !errors.Is(msg.err, service.ErrNothingToDo) {
			s.err[msg.job] = msg.err
		}
	case tea.KeyPressMsg:
		return s.key(msg.String())
	}
	return nil
}

func (s *Screen) key(key string) tea.Cmd {
	j := s.Current()
	if j == nil {
		return nil
	}
	switch key {
	case "x":
		if r := s.Service.Active(j.Job.Name); r != nil {
			r.Stop()
			return kit.Cmd(kit.Say{Text: "Stopping; what is done stays done, and the plan can be gone on with."})
		}
	case "v":
		return tea.Sequence(kit.Cmd(kit.Open{View: kit.Proof, Job: j.Job.Name}), kit.Cmd(kit.Prove{Job: j.Job.Name}))
	case "p":
		return tea.Sequence(kit.Cmd(kit.Open{View: kit.Plan, Job: j.Job.Name}), kit.Cmd(kit.PlanAnew{Job: j.Job.Name}))
	}
	return nil
}

// facts are a run's, whether it goes on or is over.
type facts struct {
	began, ended             time.Time
	objects, bytes, failed   int64
	retries                  int64
	before, planned, ofBytes int64
	samples                  []transfer.Sample
	problems                 []transfer.Problem
	active                   *kit.Active
	end                      history.End
	plan                     int
	note                     string
}

func (s *Screen) facts(j *kit.JobState) *facts {
	if a := j.Active; a != nil {
		f := &facts{began: a.Began, ended: s.State.At, objects: a.Objects, bytes: a.Bytes, failed: a.Failed, retries: a.Retries, before: a.Before,
			planned: a.Planned.Count, ofBytes: a.Planned.Bytes - a.BeforeBytes, samples: a.Samples, problems: a.Problems, active: a, end: history.Running}
		f.plan = a.Plan
		return f
	}
	r := j.Last()
	if r == nil {
		return nil
	}
	return &facts{began: r.Began, ended: r.Ended, objects: r.Objects, bytes: r.Bytes, failed: r.Failed, retries: r.Retries, before: r.Before,
		planned: r.PlannedObjects, ofBytes: r.PlannedBytes, samples: r.Samples, problems: r.Problems, end: r.End, plan: r.Plan, note: r.Note}
}

// Render draws rate, flights and problems.
func (s *Screen) Render(width, height int) string {
	j := s.Current()
	if j == nil {
		return kit.Lines([]string{"", "  No job to run."}, width, height)
	}
	t := s.Theme
	if err := s.err[j.Job.Name]; err != nil && j.Active == nil {
		lines := []string{""}
		for _, part := range strings.Split(ansi.Wordwrap("The run did not start: "+err.Error(), width-4, " "), "\n") {
			lines = append(lines, "  "+t.Flare.Render(part))
		}
		return kit.Lines(lines, width, height)
	}
	f := s.facts(j)
	if f == nil || s.starting[j.Job.Name] && j.Active == nil {
		text := "This job has not run yet." + t.Ash.Render("  3 shows its plan; approving it lets it run.")
		if s.starting[j.Job.Name] {
			text = t.Lamp.Render("▸ starting")
		}
		return kit.Lines([]string{"", "  " + text}, width, height)
	}
	lines := s.head(f, width)
	chart := min(max(height/4, 3), 9)
	lines = append(lines, s.chart(f, width, chart)...)
	rest := height - len(lines)
	if len(f.problems) == 0 || rest < 1 {
		return kit.Lines(append(lines, s.below(f, width, rest)...), width, height)
	}
	if width < 110 {
		half := rest / 2
		lines = append(lines, s.below(f, width, half)...)
		return kit.Lines(append(lines, problems(t, f, width, rest-half)...), width, height)
	}
	left := width * 3 / 5
	both := kit.Beside(t, kit.Lines(s.below(f, left, rest), left, rest), kit.Lines(problems(t, f, width-left-3, rest), width-left-3, rest))
	return kit.Lines(lines, width, len(lines)) + "\n" + both
}

// head tells how far, how fast, until when.
func (s *Screen) head(f *facts, width int) []string {
	t := s.Theme
	glyph, style := t.End(f.end)
	took := f.ended.Sub(f.began)
	title := "  " + style.Render(glyph+" "+string(f.end)) + t.Ash.Render(fmt.Sprintf(" · plan %d · began %s · %s", f.plan, f.began.Local().Format("15:04:05"), kit.Span(took)))
	if f.note != "" {
		title += t.Flare.Render("  " + object.Display(f.note))
	}
	num := func(n string, of string) string {
		return t.Strong.Render(n) + t.Ash.Render(" of "+of)
	}
	line := "  " + num(kit.Count(f.before+f.objects), kit.Count(f.planned)+" objects") + "   " + num(kit.Size(f.bytes), kit.Size(f.ofBytes))
	if took > 0 {
		line += "   " + t.Ash.Render("average ") + t.Strong.Render(kit.Rate(float64(f.bytes)/took.Seconds(), s.Bits))
	}
	if a := f.active; a != nil {
		line += "   " + t.Ash.Render("now ") + t.Lamp.Render(kit.Rate(lately(a.Samples), s.Bits))
		if soon, late, ok := a.Expect(s.State.At); ok {
			ends := "ends about " + soon.Local().Format("15:04:05")
			if late.Sub(soon) > time.Second {
				ends += " to " + late.Local().Format("15:04:05")
			}
			line += "   " + t.Dusk.Render(ends)
		}
	}
	if f.failed > 0 {
		line += "   " + t.Flare.Render("▲ "+kit.Count(f.failed)+" failed")
	}
	if f.retries > 0 {
		line += "   " + t.Ash.Render(kit.Count(f.retries)+" tried again")
	}
	if f.before > 0 {
		line += "   " + t.Ash.Render(kit.Count(f.before)+" were done before")
	}
	return []string{"", title, line, ""}
}

// lately is the rate over the last second or so, in bytes a second.
func lately(samples []transfer.Sample) float64 {
	n := len(samples)
	if n < 2 {
		return 0
	}
	a, b := samples[max(0, n-6)], samples[n-1]
	return float64(b.Bytes-a.Bytes) / max((b.At-a.At).Seconds(), 0.001)
}

const axisWidth = 13

// chart draws the rate over the whole run.
func (s *Screen) chart(f *facts, width, height int) []string {
	t := s.Theme
	cells := width - axisWidth - 2
	values := rates(f.samples, cells)
	top := 1.0
	if len(values) > 0 {
		top = max(slices.Max(values), 1)
	}
	lines := kit.AreaChart(t, values, top, cells, height)
	for i, l := range lines {
		label := ""
		switch i {
		case 0:
			label = kit.Rate(top, s.Bits)
		case height - 1:
			label = "0"
		}
		lines[i] = t.Ash.Render(kit.FitLeft(label, axisWidth-1)) + t.Rule.Render(" ▏") + l
	}
	span := ""
	if n := len(f.samples); n > 0 {
		span = kit.Span(f.samples[n-1].At)
	}
	used := min(len(values), cells)
	return append(lines, strings.Repeat(" ", axisWidth+1)+t.Ash.Render("0"+kit.FitLeft(span, max(used-1, len(span)+1))), "")
}

// rates turns totals into at most n rates, each over at least the second
// before it: what was only handed to the network's buffers would else look
// like a burst.
func rates(samples []transfer.Sample, n int) []float64 {
	if len(samples) < 2 || n < 1 {
		return nil
	}
	each := (len(samples) - 1 + n - 1) / n
	var values []float64
	from := 0
	for i := each; ; i += each {
		i = min(i, len(samples)-1)
		for from < i-each && samples[i].At-samples[from+1].At >= time.Second {
			from++
		}
		a, b := samples[from], samples[i]
		values = append(values, float64(b.Bytes-a.Bytes)/max((b.At-a.At).Seconds(), min(samples[len(samples)-1].At.Seconds(), 1)))
		if i == len(samples)-1 {
			return values
		}
	}
}

// below is what is in flight, or how the run ended.
func (s *Screen) below(f *facts, width, height int) []string {
	t := s.Theme
	if f.active == nil {
		text := map[history.End]string{
			history.Clean:    "Everything the plan named is at the target; each write was verified by its receiver.",
			history.Failures: "Not everything could be done; what failed is told below, the rest is done.",
			history.Stopped:  "Stopped before its end. What was done stays done; approving the plan again goes on.",
			history.Broken:   "Broken off. What was done stays done.",
		}[f.end]
		var lines []string
		for _, part := range strings.Split(ansi.Wordwrap(text, max(width-4, 10), " "), "\n") {
			lines = append(lines, "  "+t.Paper.Render(part))
		}
		return lines
	}
	lines := []string{"  " + t.Strong.Render("In flight") + t.Ash.Render(fmt.Sprintf("  %d objects", len(f.active.Flights)))}
	for _, x := range f.active.Flights[:min(len(f.active.Flights), max(height-2, 0))] {
		lines = append(lines, flight(t, &x, s.State.At, width))
	}
	return lines
}

// flight is one object on its way, with a strip of its parts.
func flight(t *look.Theme, x *transfer.Flight, now time.Time, width int) string {
	name := max(width*2/5, 20)
	strip := max(width-name-30, 8)
	text := "  " + kit.Fit(t.Paper.Render(kit.Name(x.Key, name-1)), name)
	text += kit.Fit(partStrip(t, x, strip), strip) + t.Paper.Render(kit.FitLeft(kit.Size(x.Sent), 10)) + t.Ash.Render(" of "+kit.Fit(kit.Size(x.Size), 9))
	if x.Tries > 1 {
		text += t.Flare.Render(fmt.Sprintf(" ×%d", x.Tries))
	}
	return text
}

// partStrip shows parts done, moving, moving again, waiting; of an object sent
// whole how much has gone.
func partStrip(t *look.Theme, x *transfer.Flight, width int) string {
	var b strings.Builder
	if x.Parts == nil {
		n := 0
		if x.Size > 0 {
			n = int(int64(width) * min(x.Sent, x.Size) / x.Size)
		}
		b.WriteString(t.Lamp.Render(strings.Repeat("▬", n)) + t.Rule.Render(strings.Repeat("·", width-n)))
		return b.String()
	}
	cells := min(width, len(x.Parts))
	each := min(max(width/cells, 1), 6) // cells a part
	for c := range cells {
		// Of the parts that share a cell, the one that has most to tell.
		state := transfer.Done
		for _, p := range x.Parts[c*len(x.Parts)/cells : max((c+1)*len(x.Parts)/cells, c*len(x.Parts)/cells+1)] {
			switch {
			case p == transfer.Again || state == transfer.Again:
				state = transfer.Again
			case p == transfer.Moving || state == transfer.Moving:
				state = transfer.Moving
			case p == transfer.Waiting:
				state = transfer.Waiting
			}
		}
		glyph, style := "·", t.Ash
		switch state {
		case transfer.Done:
			glyph, style = "█", t.Tide
		case transfer.Moving:
			glyph, style = "▒", t.Lamp
		case transfer.Again:
			glyph, style = "!", t.Flare
		}
		gap := min(each/3, 1) // parts stand apart where there is room
		b.WriteString(style.Render(strings.Repeat(glyph, each-gap)) + strings.Repeat(" ", gap))
	}
	return b.String()
}

// problems are listed by cause, each with what to do.
func problems(t *look.Theme, f *facts, width, height int) []string {
	lines := []string{" " + t.Flare.Render("Problems")}
	for _, p := range f.problems {
		lines = append(lines, " "+t.Flare.Render(kit.Count(p.Count)+" × ")+t.Strong.Render(kit.Name(p.Cause, width-10)))
		if p.Advice != "" {
			for _, part := range strings.Split(ansi.Wordwrap(p.Advice, max(width-4, 10), " "), "\n") {
				lines = append(lines, "   "+t.Paper.Render(part))
			}
		}
		for _, key := range p.Keys[:min(len(p.Keys), 4)] {
			lines = append(lines, "   "+t.Ash.Render(kit.Name(key, width-4)))
		}
	}
	return lines[:min(len(lines), height)]
}
