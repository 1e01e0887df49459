package run

import (
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"lumtra/core/history"
	"lumtra/core/object"
	"lumtra/core/report"
	"lumtra/core/transfer"
	"lumtra/tui/kit"
	"lumtra/tui/look"
)

// facts are a run's, whether it goes on or is over.
type facts struct {
	began, ended             time.Time
	objects, bytes, failed   int64
	retries, settled         int64
	before, planned, ofBytes int64
	samples                  []transfer.Sample
	problems                 []transfer.Problem
	course                   transfer.Course
	active                   *kit.Active
	end                      history.End
	plan                     int
	note                     string
	unverified               int64
	notes                    []string
}

func (s *Screen) facts(j *kit.JobState) *facts {
	if a := j.Active; a != nil {
		f := &facts{began: a.Began, ended: s.State.At, objects: a.Objects, bytes: a.Bytes, failed: a.Failed,
			retries: a.Retries, settled: a.SeenTo, unverified: a.Unverified, notes: a.Notes, before: a.Before,
			planned: a.Planned.Count, ofBytes: a.Planned.Bytes - a.BeforeBytes, samples: a.Samples,
			problems: a.Problems, course: a.Course, active: a, end: history.Running}
		f.plan = a.Plan
		return f
	}
	r := j.Last()
	if r == nil {
		return nil
	}
	return &facts{began: r.Began, ended: r.Ended, objects: r.Objects, bytes: r.Bytes, failed: r.Failed,
		retries: r.Retries, settled: r.SeenTo, unverified: r.Unverified, notes: r.Notes, before: r.Before,
		planned: r.PlannedObjects, ofBytes: r.PlannedBytes, samples: r.Samples, problems: r.Problems, end: r.End,
		course: r.Course, plan: r.Plan, note: r.Note}
}

// Render draws rate, flights and problems.
func (s *Screen) Render(width, height int) string {
	j := s.Current()
	if j == nil {
		return kit.Lines([]string{"", "  " + s.NoJob("run")}, width, height)
	}
	t := s.Theme
	if err := s.err[j.Job.Name]; err != nil && j.Active == nil {
		lines := []string{""}
		for _, part := range strings.Split(ansi.Wordwrap("The run did not start: "+kit.Reason(err), width-4, " "),
			"\n") {
			lines = append(lines, "  "+t.Flare.Render(part))
		}
		return kit.Lines(lines, width, height)
	}
	f := s.facts(j)
	if f == nil || s.starting[j.Job.Name] && j.Active == nil {
		text := "This job has not run yet." + t.Ash.Render("  4 shows its plan; approving it lets it run.")
		if s.starting[j.Job.Name] {
			text = t.Lamp.Render("▸ starting")
		}
		return kit.Lines([]string{"", "  " + text}, width, height)
	}
	lines := s.head(f, width)
	if s.Asks() {
		return kit.Lines(append(lines, s.exportMenu()...), width, height)
	}
	chart := min(max(height/4, 3), 9)
	lines = append(lines, s.chart(f, width, chart)...)
	if f.active != nil && height-len(lines) > 6 {
		lines = append(append(lines, s.stageMeter(j.Job.Name, f.active, width)...), "")
	}
	if ending := s.endLines(f, width); len(ending) > 0 {
		lines = append(append(lines, ending...), "")
	}
	rest := height - len(lines)
	if len(f.problems) == 0 || rest < 1 {
		return kit.Lines(append(lines, s.below(f, j, width, rest)...), width, height)
	}
	if width < 110 {
		half := rest / 2
		if s.side.keys || f.active == nil {
			half = 0
		}
		if half > 0 {
			lines = append(lines, kit.Lines(s.below(f, j, width, half), width, half))
		}
		return kit.Lines(append(lines, s.problemLines(f, width, rest-half)...), width, height)
	}
	left := width * 3 / 5
	if s.side.open != "" && s.side.job == j.Job.Name {
		left = width * 2 / 5
	}
	both := kit.Beside(t, kit.Lines(s.below(f, j, left, rest), left, rest),
		kit.Lines(s.problemLines(f, width-left-3, rest), width-left-3, rest))
	return kit.Stack(kit.Lines(lines, width, len(lines)), both)
}

// exportMenu offers the forms a run can be written in.
func (s *Screen) exportMenu() []string {
	t := s.Theme
	lines := []string{"  " + t.Strong.Render("Write this run into the folder Lumtra was started in, as"), ""}
	words := map[report.Format]string{report.CSV: "the curve as a table (CSV)",
		report.JSONLines: "everything, for programs (JSON)", report.SVG: "a drawing (SVG)",
		report.PDF: "a report to print (PDF)"}
	for i, f := range report.Formats {
		lines = append(lines, fmt.Sprintf("  %s  %s", t.Lamp.Render(fmt.Sprint(i+1)), t.Paper.Render(words[f])))
	}
	return append(lines, "", "  "+t.Ash.Render("any other key writes nothing"))
}

// head tells how far, how fast, until when.
func (s *Screen) head(f *facts, width int) []string {
	t := s.Theme
	glyph, style := t.End(f.end)
	took := f.ended.Sub(f.began)
	title := "  " + style.Render(glyph+" "+string(f.end)) + t.Ash.Render(fmt.Sprintf(" · plan %d · began %s · %s",
		f.plan, f.began.Local().Format("15:04:05"), kit.Span(took)))
	if a := f.active; a != nil {
		title += s.steering(a)
	}
	if f.note != "" {
		title += t.Flare.Render("  " + object.Display(f.note))
	}
	num := func(n string, of string) string {
		return t.Strong.Render(n) + t.Ash.Render(" of "+of)
	}
	parts := []string{num(kit.Count(f.before+f.objects), kit.Count(f.planned)+" objects"),
		num(kit.Size(f.bytes), kit.Size(f.ofBytes))}
	say := func(part string) { parts = append(parts, part) }
	if took > 0 {
		say(t.Ash.Render("average ") + t.Strong.Render(kit.Rate(float64(f.bytes)/took.Seconds(), s.Bits)))
	}
	if a := f.active; a != nil {
		now := t.Ash.Render("now ") + t.Lamp.Render(kit.Rate(a.Lately(), s.Bits))
		if in := a.ReadLately(); in > a.Lately()*1.05+1e4 { // more is read than arrives
			now += t.Ash.Render(" of ") + t.Lamp.Render(kit.Rate(in, s.Bits)) + t.Ash.Render(" read")
		}
		say(now)
		if soon, late, ok := a.Expect(s.State.At); ok {
			ends := "ends about " + soon.Local().Format("15:04:05")
			if late.Sub(soon) > time.Second {
				ends += " to " + late.Local().Format("15:04:05")
			}
			say(t.Dusk.Render(ends))
		}
	}
	if f.failed > 0 {
		say(t.Flare.Render("▲ " + kit.Count(f.failed) + " failed"))
	}
	if f.retries > 0 {
		say(t.Ash.Render(kit.Count(f.retries) + " tried again"))
	}
	if f.before > 0 {
		say(t.Ash.Render(kit.Count(f.before) + " were done before"))
	}
	if f.settled > 0 {
		say(t.Dusk.Render(kit.Count(f.settled) + " handled at the source"))
	}
	if f.unverified > 0 {
		say(t.Dusk.Render("◆ " + kit.Count(f.unverified) + " unverified"))
	}
	lines := []string{"", kit.Fit(title, width)}
	for _, l := range kit.Flow(parts, width-2) {
		lines = append(lines, "  "+l)
	}
	if a := f.active; a != nil {
		lines = append(lines, kit.Fit("  "+s.limits(a), width))
	}
	if n := len(f.notes); n > 0 { // the newest, and how many more there are
		text := "◆ " + object.Display(f.notes[n-1])
		if n > 1 {
			text += fmt.Sprintf(" (and %d more, in the log)", n-1)
		}
		lines = append(lines, kit.Fit("  "+t.Dusk.Render(text), width))
	}
	return append(lines, "")
}

// steering tells what a person, or the hours, made of the run.
func (s *Screen) steering(a *kit.Active) string {
	t := s.Theme
	text := ""
	switch x := a.Steering; {
	case x.Finishing:
		text = t.Flare.Render("  ending when what is under way has arrived")
	case x.Paused:
		text = t.Flare.Render("  paused; p goes on")
	case x.Quiet:
		text = t.Dusk.Render("  quiet hours" + untilText(a.Until))
	case a.Phase != transfer.Carrying:
		text = t.Lamp.Render("  " + a.Phase.String())
		if a.Phase == transfer.SeeingTo {
			text += t.Ash.Render(fmt.Sprintf(" %s of %s", kit.Count(a.SeenTo), kit.Count(a.Afterwards.Count)))
		}
	}
	if a.Far {
		text += t.Tide.Render("  in the background service")
	}
	return text
}

// limits are what the run may use.
func (s *Screen) limits(a *kit.Active) string {
	t := s.Theme
	streams := fmt.Sprintf("%d", a.Steering.Streams)
	how := "set by hand or by the job"
	if a.Steering.Automatic {
		how = "as many as help"
	}
	if c := a.Steering.Ceiling; c > 0 && c < a.Steering.Streams {
		streams, how = fmt.Sprintf("%d", c), "its share of the endpoint's"
	}
	limit, whose := "none", ""
	switch {
	case a.Limit.Quiet:
		limit, whose = "quiet", " ("+a.Limiter+untilText(a.Until)+")"
	case a.Limit.Rate > 0:
		limit, whose = kit.Rate(a.Limit.Rate, s.Bits), " ("+object.Display(a.Limiter)+untilText(a.Until)+")"
	}
	return t.Ash.Render("streams ") + t.Paper.Render(streams) + t.Ash.Render(" ("+how+
		")   bandwidth ") + t.Dusk.Render(limit) + t.Ash.Render(whose+"   priority "+string(a.Priority))
}

func untilText(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return ", until " + t.Local().Format("15:04")
}

// flight is one object on its way, with a strip of its parts.
func flight(t *look.Theme, x *transfer.Flight, now time.Time, width int) string {
	name := max(width*2/5, 20)
	strip := max(width-name-30, 8)
	text := "  " + kit.Fit(t.Paper.Render(kit.Name(x.Key, name-1)), name)
	text += kit.Fit(partStrip(t, x, strip), strip) + t.Paper.Render(kit.FitLeft(kit.Size(x.Sent),
		10)) + t.Ash.Render(" of "+kit.Fit(kit.Size(x.Size), 9))
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
