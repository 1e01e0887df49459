package run

import (
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"lumtra/core/history"
	"lumtra/core/object"
	"lumtra/core/transfer"
	"lumtra/tui/kit"
)

// endText is how a run ended, in a sentence.
var endText = map[history.End]string{
	history.Clean:    "Everything the plan named is at the target; each write was verified by its receiver.",
	history.Failures: "Not everything could be done; what failed is told with the problems, the rest is done.",
	history.Stopped:  "Stopped before its end. What was done stays done; approving the plan again goes on.",
	history.Broken:   "Broken off. What was done stays done.",
	history.Interrupted: "Its process ended without a word. What was done stays done; approving the plan again " +
		"goes on.",
}

// endLines is that sentence.
func (s *Screen) endLines(f *facts, width int) []string {
	if f.active != nil {
		return nil
	}
	var lines []string
	for _, part := range strings.Split(ansi.Wordwrap(endText[f.end], max(width-4, 10), " "), "\n") {
		lines = append(lines, "  "+s.Theme.Paper.Render(part))
	}
	return lines
}

// below is what is in flight, both sides, what has just arrived and what took longest; of a run
// that is over the last three.
func (s *Screen) below(f *facts, j *kit.JobState, width, height int) []string {
	t := s.Theme
	var lines []string
	if f.active != nil {
		flights := f.active.Flights
		room := max(height-2, 0)
		if height > 14 { // the rest of the room has more to tell
			room = max(height/2, 8)
		}
		lines = append(lines, "  "+t.Strong.Render("In flight")+t.Ash.Render("  "+object.Count(len(flights), "object")))
		for _, x := range flights[:min(len(flights), room)] {
			lines = append(lines, flight(t, &x, s.State.At, width))
		}
	}
	if height-len(lines) < 4 {
		return lines
	}
	if len(lines) > 0 {
		lines = append(lines, "")
	}
	lines = append(append(lines, s.sides(f, j, width)...), "")
	room := height - len(lines)
	if room < 3 || len(f.course.Arrived) == 0 {
		return lines
	}
	if width < 100 {
		return append(lines, s.arrivals("Slowest", f.course.Slowest, f, width, room)...)
	}
	half := (width - 3) / 2
	newest := s.arrivals("Arrived last", f.course.Arrived, f, half, room)
	slowest := s.arrivals("Slowest", f.course.Slowest, f, half, room)
	return append(lines, strings.Split(kit.Beside(t, kit.Lines(newest, half, room),
		kit.Lines(slowest, width-half-3, room)), "\n")...)
}

// sides are a line for each place: its rate, and how it answers.
func (s *Screen) sides(f *facts, j *kit.JobState, width int) []string {
	t := s.Theme
	took := max(f.ended.Sub(f.began).Seconds(), 0.001)
	in, out := float64(f.bytes)/took, float64(f.bytes)/took
	if n := len(f.samples); n > 0 && f.samples[n-1].Read > 0 {
		in = float64(f.samples[n-1].Read) / took
	}
	when := " on average"
	if f.active != nil {
		in, out, when = f.active.ReadLately(), f.active.Lately(), " now"
	}
	name := min(max(len([]rune(j.Job.Source)), len([]rune(j.Job.Lands())))+2, max(width/2-8, 12))
	row := func(word, place, facts string) string {
		return kit.Fit("  "+t.Ash.Render(kit.Fit(word, 6))+t.Paper.Render(kit.Fit(kit.Name(place, name-1), name))+
			t.Ash.Render(facts), width)
	}
	answers := ""
	if n := f.objects; n > 0 {
		answers = fmt.Sprintf(" · answers after %s", kit.Span(f.course.Stages[transfer.Answering]/time.Duration(n)))
	}
	if n := f.course.Throttles; n > 0 {
		answers += fmt.Sprintf(" · asked %s to slow down", object.Count(n, "time"))
	}
	return []string{row("from", j.Job.Source, "gives "+kit.Rate(in, s.Bits)+when),
		row("to", j.Job.Lands(), "takes "+kit.Rate(out, s.Bits)+when+answers)}
}

// arrivals is a list of objects with their sizes and how long they took.
func (s *Screen) arrivals(title string, list []transfer.Arrival, f *facts, width, height int) []string {
	t := s.Theme
	lines := []string{"  " + t.Strong.Render(title)}
	for _, a := range list[:min(len(list), max(height-1, 0))] {
		lines = append(lines, "  "+t.Paper.Render(kit.Fit(kit.Name(a.Key, width-24), width-24))+
			t.Ash.Render(kit.FitLeft(kit.Size(a.Size), 10)+kit.FitLeft(kit.Span(a.Took), 11)))
	}
	return lines
}
