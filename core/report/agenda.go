package report

import (
	"fmt"
	"io"
	"slices"
	"time"

	"gonum.org/v1/plot/vg"

	"lumtra/core/forecast"
	"lumtra/core/object"
	"lumtra/core/starts"
)

// AgendaOf is what a drawing of jobs over time shows.
type AgendaOf struct {
	Title         string
	From, Now, To time.Time
	Jobs          []forecast.Job
	Coming        []forecast.Coming
	Collisions    []forecast.Collision
	// Kept are starts as they went; those that were missed are marked.
	Kept []starts.Row
}

// drawnLanes is how many jobs a drawing shows.
const drawnLanes = 60

// Agenda draws jobs over time to w: past runs filled, the darker the faster they were; coming ones
// hollow, as long as past ones took, with a line to the longest; those that want one endpoint at the
// same time in red.
func Agenda(w io.Writer, a *AgendaOf, f Format) error {
	if f != SVG && f != PDF {
		return fmt.Errorf("jobs over time are drawn as %s or %s", SVG, PDF)
	}
	const width, lane, top, left = 842, 20, 96, 200
	jobs := a.Jobs[:min(len(a.Jobs), drawnLanes)]
	height := vg.Length(top + lane*len(jobs) + 60)
	s := newSheet(f, width, height)
	s.box(0, 0, width, height, rgb(0xfbf9f4))
	s.say(40, 40, 15, object.Display(a.Title)+": jobs over time")
	const form = "Mon 2006-01-02 15:04 MST"
	s.say(40, 58, 8.5, a.From.Format(form)+" to "+a.To.Format(form))
	span := a.To.Sub(a.From)
	at := func(t time.Time) vg.Length {
		return left + vg.Length(float64(width-left-40)*float64(t.Sub(a.From))/float64(span))
	}
	bottom := vg.Length(top + lane*len(jobs))
	for _, t := range ticks(a.From, a.To) {
		s.box(at(t), top-8, 0.5, bottom-top+8, rgb(0xd8d3c8))
		s.say(at(t)+2, top-2, 7, t.Format(tickForm(span)))
	}
	s.box(at(a.Now), top-12, 1.2, bottom-top+12, rgb(0xb8741a))
	rows := map[string]vg.Length{}
	fastest := 1.0
	for i := range jobs {
		rows[jobs[i].Name] = vg.Length(top + lane*i)
		for _, p := range jobs[i].Past {
			fastest = max(fastest, speed(p))
		}
	}
	for i := range jobs {
		y := rows[jobs[i].Name]
		name := []rune(object.Display(jobs[i].Name))
		s.say(40, y+13, 8.5, string(name[:min(len(name), 30)]))
		s.box(left, y+lane-1, width-left-40, 0.4, rgb(0xe6e1d6))
		for _, p := range jobs[i].Past {
			if p.Ended.Before(a.From) || p.Began.After(a.Now) {
				continue
			}
			x := max(at(p.Began), left)
			shade := uint32(0xb9d8d2)
			switch v := speed(p) / fastest; {
			case v > 0.66:
				shade = 0x2f8f83
			case v > 0.33:
				shade = 0x6fb5ab
			}
			s.box(x, y+4, max(at(p.Ended)-x, 1), lane-8, rgb(shade))
		}
	}
	a.drawComing(s, rows, at, width-40)
	for i := range a.Kept {
		y, ok := rows[a.Kept[i].Job]
		if ok && a.Kept[i].State == starts.Missed && a.Kept[i].Slot.After(a.From) {
			s.box(at(a.Kept[i].Slot)-1, y+2, 2, lane-4, rgb(0xc2350f))
		}
	}
	s.say(40, bottom+24, 7.5,
		fmt.Sprintf("%s in the drawing, %s with another. Filled: past runs. Hollow: coming ones, by what past "+
			"ones took.", object.Count(len(a.Coming), "coming start"), object.Count(len(a.Collisions), "collision")))
	if n := len(a.Jobs) - len(jobs); n > 0 {
		s.say(40, bottom+36, 7.5, fmt.Sprintf("%s more are not drawn.", object.Count(n, "job")))
	}
	s.say(40, height-10, 7, "Drawn by Lumtra.")
	return s.writeTo(w)
}

func speed(p forecast.Past) float64 {
	if d := p.Ended.Sub(p.Began).Seconds(); d > 0 {
		return float64(p.Bytes) / d
	}
	return 0
}

// drawComing draws coming starts as frames.
func (a *AgendaOf) drawComing(s *sheet, rows map[string]vg.Length, at func(time.Time) vg.Length, right vg.Length) {
	collides := map[int]bool{}
	for _, x := range a.Collisions {
		collides[x.First], collides[x.Second] = true, true
	}
	for i := range a.Coming {
		c := &a.Coming[i]
		y, ok := rows[c.Job]
		if !ok || c.At.After(a.To) {
			continue
		}
		color := rgb(0x6246b0)
		if collides[i] {
			color = rgb(0xc2350f)
		}
		x, end := at(c.At), min(at(c.End()), right)
		length := max(end-x, 2)
		s.box(x, y+4, length, 0.8, color)
		s.box(x, y+15.2, length, 0.8, color)
		s.box(x, y+4, 0.8, 12, color)
		s.box(x+length-0.8, y+4, 0.8, 12, color)
		if long := min(at(c.At.Add(c.Longest)), right); long > x+length {
			s.box(x+length, y+9.6, long-x-length, 0.8, color)
		}
	}
}

// steps are the distances that ticks may have.
var steps = []time.Duration{time.Hour, 3 * time.Hour, 6 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour,
	28 * 24 * time.Hour}

// ticks are the moments that are named on the axis: at most twelve.
func ticks(from, to time.Time) (all []time.Time) {
	i := slices.IndexFunc(steps, func(d time.Duration) bool { return to.Sub(from)/d <= 12 })
	if i < 0 {
		i = len(steps) - 1
	}
	day := time.Date(from.Year(), from.Month(), from.Day(), 0, 0, 0, 0, from.Location())
	for t := day; t.Before(to); t = t.Add(steps[i]) {
		if t.After(from) {
			all = append(all, t)
		}
	}
	return all
}

func tickForm(span time.Duration) string {
	if span <= 60*time.Hour {
		return "Mon 15:04"
	}
	return "Mon 2 Jan"
}
