package jobs

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/service/workroom"
	"lumtra/tui/kit"
)

// Render draws the sentence and, below it, the choices beside the effect.
func (s *Screen) Render(width, height int) string {
	t, d := s.Theme, s.draft()
	if s.form != nil {
		lines := []string{""}
		for _, l := range s.form.Lines(t, min(width-6, 96)) {
			lines = append(lines, "   "+l)
		}
		return kit.Lines(lines, width, height)
	}
	if d == nil {
		return kit.Lines([]string{"", "  " +
			t.Paper.Render("No jobs "+
				"yet.") + t.Ash.Render("  n begins one: a sentence that says what to take, where to bring it, and "+
			"how.")}, width, height)
	}
	lines := append([]string{s.strip(width), ""}, s.sentence(d, width, height < 28)...)
	lines = append(lines, kit.RuleLine(t, width))
	below := height - len(lines)
	if width < 110 {
		all := s.effect(d, width-2, below < 8)
		if s.edit != nil || s.toml {
			all = append(append(s.panel(d, width-2), ""), all...)
		}
		return kit.Lines(append(lines, indent(all)...), width, height)
	}
	if below < 3 {
		return kit.Lines(lines, width, height)
	}
	half := width * 42 / 100
	left := kit.Lines(indent(s.panel(d, half-3)), half, below)
	right := kit.Lines(s.effect(d, width-half-3, false), width-half-3, below)
	return kit.Stack(kit.Lines(lines, width, len(lines)), kit.Beside(t, left, right))
}

func indent(lines []string) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = "  " + l
	}
	return out
}

// strip names all jobs, with the one shown lit, those near it if there are
// more than fit.
func (s *Screen) strip(width int) string {
	t := s.Theme
	cell := func(name string) string {
		d := s.drafts[name]
		text, style := d.title(), t.Ash
		switch {
		case name == s.at:
			style = t.Strong.Underline(true)
		case d.wrong != nil:
			style = t.Flare
		}
		if d.wrong != nil {
			text = "▲ " + text
		}
		if d.job.Template {
			text = "◇ " + text
		}
		return style.Render(object.Display(text))
	}
	at := 0
	for i, n := range s.names {
		if n == s.at {
			at = i
		}
	}
	line, lo, hi := cell(s.names[at]), at, at
	for grew := true; grew; {
		grew = false
		if hi+1 < len(s.names) {
			if next := line + "   " + cell(s.names[hi+1]); ansi.StringWidth(next) < width-8 {
				line, hi, grew = next, hi+1, true
			}
		}
		if lo > 0 {
			if next := cell(s.names[lo-1]) + "   " + line; ansi.StringWidth(next) < width-8 {
				line, lo, grew = next, lo-1, true
			}
		}
	}
	if lo > 0 {
		line = t.Ash.Render("‹ ") + line
	}
	if hi < len(s.names)-1 {
		line += t.Ash.Render(" ›")
	}
	return "  " + line
}

// sentence draws the job as one reads it.
func (s *Screen) sentence(d *draft, width int, short bool) []string {
	var out []string
	lines := sentence(d.job)
	for i, line := range lines {
		// Where there is little room, guards and limits wait until one comes to them.
		if short && i >= len(lines)-2 &&
			!slices.ContainsFunc(line, func(x segment) bool { return x.phrase == s.under() }) {
			continue
		}
		out = append(out, s.line(d, line, width-4)...)
	}
	if d.wrong != nil && s.edit == nil {
		out = append(out, "")
		for _, l := range kit.Wrap("▲ "+object.Display(d.wrong.What), width-6) {
			out = append(out, "    "+s.Theme.Flare.Render(l))
		}
	}
	return append(out, "")
}

// line wraps one line of the sentence at words.
func (s *Screen) line(d *draft, segments []segment, width int) []string {
	var lines []string
	text, used := "    ", 4
	put := func(word string, style lipgloss.Style, glue bool) {
		n := ansi.StringWidth(word)
		space := 1
		if glue || used <= 4 {
			space = 0
		}
		if used+space+n > width && used > 6 {
			lines = append(lines, text)
			text, used, space = "      ", 6, 0
		}
		text += strings.Repeat(" ", space) + style.Render(word)
		used += space + n
	}
	for _, x := range segments {
		if x.phrase == nil {
			for _, w := range strings.Fields(x.plain) {
				put(w, s.Theme.Ash, w == "," || w == ";")
			}
			continue
		}
		style, said := s.phraseStyle(d, x.phrase), object.Display(x.phrase.words(d.job))
		if x.phrase == s.under() {
			said = "‹" + said + "›"
		}
		for _, w := range strings.Fields(said) {
			if ansi.StringWidth(w) > width/2 {
				w = kit.Name(w, width/2)
			}
			put(w, style, false)
		}
	}
	return append(lines, text)
}

func (s *Screen) phraseStyle(d *draft, p *phrase) lipgloss.Style {
	t := s.Theme
	switch {
	case d.wrong != nil && d.wrong.Setting != "" && d.wrong.Setting == p.setting():
		return t.Flare.Underline(true)
	case p == s.under():
		return t.Lamp.Bold(true)
	case p == anotherRule && !d.job.Select.Empty(), p.how != byPlace && p.value(d.job) == "":
		return t.Paper
	case s.idle(d, p):
		return t.Flare
	}
	return t.Strong
}

// under is the phrase under the cursor, or the one that is being changed.
func (s *Screen) under() *phrase {
	if s.edit != nil {
		return s.edit.p
	}
	return s.on
}

// idle tells that a rule of the selection matches nothing.
func (s *Screen) idle(d *draft, p *phrase) bool {
	name, ok := strings.CutPrefix(p.setting(), "select.")
	if !ok || d.effect == nil || d.of != d.text {
		return false
	}
	for _, x := range d.effect.Tallies {
		if x.Idle != "" &&
			(strings.HasPrefix(x.Rule, name+" ") || strings.HasPrefix(x.Rule, strings.ReplaceAll(name, "-", " ")+" ")) {
			return true
		}
	}
	return false
}

// panel is what is at the left: the choices of a phrase, or the text.
func (s *Screen) panel(d *draft, width int) []string {
	t := s.Theme
	if s.toml {
		lines := []string{t.Ash.Render(kit.Name(s.Service.Workspace().Path(d.name), width)), ""}
		for n, l := range strings.Split(strings.TrimRight(d.text, "\n"), "\n") {
			style := t.Paper
			if strings.HasPrefix(strings.TrimSpace(l), "#") {
				style = t.Ash
			}
			if d.wrong != nil && d.wrong.Line == n+1 {
				style = t.Flare
			}
			lines = append(lines, t.Ash.Render(fmt.Sprintf("%3d ", n+1))+style.Render(object.Display(l)))
		}
		return lines
	}
	p := s.under()
	lines := []string{t.Strong.Render(p.title)}
	if s.edit == nil {
		lines = append(lines,
			t.Ash.Render(map[bool]string{true: p.setting(),
				false: "the rules about what is taken"}[p.setting() != ""]), "")
		for _, c := range p.choices {
			lines = append(lines, s.option(c, c.value == p.value(d.job), width)...)
		}
		if len(p.choices) == 0 && p.hint != "" {
			for _, l := range kit.Wrap(p.hint, width) {
				lines = append(lines, t.Ash.Render(l))
			}
		}
		return append(lines, s.reading(d, width)...)
	}
	return append(lines, s.editLines(d, width)...)
}

// option is one choice with what follows from it.
func (s *Screen) option(c choice, here bool, width int) []string {
	t := s.Theme
	mark, style := "  ", t.Paper
	if here {
		mark, style = t.Lamp.Render("▌ "), t.Lamp
	}
	lines := []string{mark + style.Render(c.words)}
	for _, l := range kit.Wrap(c.meaning, width-4) {
		lines = append(lines, "    "+t.Ash.Render(l))
	}
	return lines
}

func (s *Screen) editLines(d *draft, width int) []string {
	t, e := s.Theme, s.edit
	lines := []string{""}
	switch e.p.how {
	case byChoice:
		for i, c := range e.p.choices {
			lines = append(lines, s.option(c, i == e.cursor.At, width)...)
		}
		return append(lines, s.reading(d, width)...)
	case byRule:
		for i, r := range s.addable() {
			mark, style := "  ", t.Paper
			if i == e.cursor.At {
				mark, style = t.Lamp.Render("▌ "), t.Lamp
			}
			lines = append(lines,
				mark+style.Render(kit.Fit(r.setting()[len("select."):], 15))+t.Ash.Render(kit.Name(r.title+": "+
					r.hint, width-18)))
		}
		return lines
	}
	e.input.SetWidth(max(width-4, 8))
	field := kit.SafeView(e.input.View())
	lines = append(lines, t.Lamp.Render("▌ ")+field)
	if line, ok := s.pointer(d); ok {
		lines = append(lines, line)
	}
	for _, l := range kit.Wrap(e.p.hint, width-2) {
		lines = append(lines, "  "+t.Ash.Render(l))
	}
	if d.wrong != nil && d.wrong.Setting == e.p.setting() {
		for _, l := range kit.Wrap("▲ "+object.Display(d.wrong.What), width-2) {
			lines = append(lines, "  "+t.Flare.Render(l))
		}
	}
	if e.p.how != byPlace {
		return append(lines, s.reading(d, width)...)
	}
	lines = append(lines, "")
	switch {
	case e.kidsErr != nil:
		for _, l := range kit.Wrap("cannot look there: "+object.Display(e.kidsErr.Error())+"; it can still be typed",
			width-2) {
			lines = append(lines, "  "+t.Flare.Render(l))
		}
	case e.kids == nil:
		lines = append(lines, "  "+t.Ash.Render("looking …"))
	case len(e.kids) == 0:
		lines = append(lines, "  "+t.Ash.Render("nothing lies below"))
	}
	first, last := e.cursor.Window(len(e.kids), 12)
	for i := first; i < last; i++ {
		mark, style := "  ", t.Paper
		if e.chosen && i == e.cursor.At {
			mark, style = t.Lamp.Render("▌ "), t.Lamp
		}
		lines = append(lines, mark+style.Render(kit.Name(e.kids[i], width-4)))
	}
	if last < len(e.kids) {
		lines = append(lines, t.Ash.Render(fmt.Sprintf("  … and %d more", len(e.kids)-last)))
	}
	return lines
}

// effect is what the job would do, as far as is known.
func (s *Screen) effect(d *draft, width int, short bool) []string {
	t := s.Theme
	head := t.Strong.Render("What it would do")
	wrapped := func(style lipgloss.Style, text string) (lines []string) {
		for _, l := range kit.Wrap(object.Display(text), width) {
			lines = append(lines, style.Render(l))
		}
		return lines
	}
	switch {
	case d.survey != nil:
		stage, began := d.survey.Stage()
		took := ""
		if !began.IsZero() {
			took = kit.Span(s.Now().Sub(began))
		}
		return []string{head, "", t.Lamp.Render("▸ "+stage) + t.Ash.Render("  "+took),
			t.Paper.Render(fmt.Sprintf("objects: %s at the source, %s at the target",
				kit.Count(d.survey.Source.Objects.Load()), kit.Count(d.survey.Target.Objects.Load())))}
	case d.surveyErr != nil:
		return append([]string{head, ""}, wrapped(t.Flare, kit.Reason(d.surveyErr))...)
	case d.wrong != nil && d.effect == nil:
		return []string{head, "", t.Ash.Render("Once nothing is missing or wrong in the sentence, this tells.")}
	case errors.Is(d.effectErr, workroom.ErrNotSurveyed):
		return append([]string{head, ""},
			append(wrapped(t.Paper, "Not known. Not surveyed yet: "+
				strings.TrimPrefix(d.effectErr.Error(), workroom.ErrNotSurveyed.Error()+
					": ")+"."),
				t.Lamp.Render("s")+t.Ash.Render(" surveys both sides; nothing is copied by that"))...)
	case d.effectErr != nil:
		return append([]string{head, ""}, wrapped(t.Flare, kit.Reason(d.effectErr))...)
	}
	e, note := d.effect, ""
	if p := d.partial.Load(); d.working && p != nil {
		e, note = p, fmt.Sprintf("so far, from %.0f %% of the surveys", 100*p.Share)
	} else if d.working {
		note = "working it out …"
	} else if d.wrong != nil {
		note = "as it was before what is wrong"
	}
	if e == nil {
		return []string{head, "", t.Ash.Render(note)}
	}
	if note != "" {
		note = t.Lamp.Render("  " + note)
	}
	if short { // what goes and what comes, before all else
		return append(kit.Flow(append([]string{head + note}, s.effectParts(e)...), width), s.sendsAndDeletes(e)...)
	}
	lines := []string{head + note,
		t.Ash.Render(fmt.Sprintf("by surveys of %s and %s", s.ago(e.Source.Began), s.ago(e.Target.Began))), ""}
	lines = append(lines, s.figures(e, width)...)
	lines = append(lines, s.examples(d, e, width)...)
	lines = append(lines, s.tallies(e, width)...)
	for _, u := range append(e.Unasked, e.Notes...) {
		lines = append(lines, wrapped(t.Dusk, "· "+u)...)
	}
	for _, h := range e.Held {
		lines = append(lines, wrapped(t.Flare, "▲ a safety limit would hold it back: "+h)...)
	}
	return lines
}

func (s *Screen) ago(at time.Time) string {
	if now := s.Now(); now.Sub(at) < 20*time.Hour {
		return at.Local().Format("15:04") + ", " + kit.Ago(at, now)
	}
	return at.Local().Format("2006-01-02 15:04")
}

// figures are objects, bytes, removals, time, requests and money.
func (s *Screen) figures(e *workroom.Effect, width int) []string {
	t := s.Theme
	work := e.Totals.Work()
	lines := []string{kit.EffectBar(t, &e.Totals, true, max(e.Totals.All().Count, 1), width)}
	lines = append(lines, kit.Flow(s.effectParts(e), width)...)
	lines = append(append(lines, ""), s.sendsAndDeletes(e)...)
	if n := e.Afterwards; n.Count > 0 {
		lines = append(lines,
			s.figure("then", t.Dusk, fmt.Sprintf("%s · %s, once proven: %s", object.Count(n.Count, "object"),
				kit.Size(n.Bytes), e.Rules.Afterwards.Becomes())))
	}
	if n := e.Totals[plan.Conflict].Count; n > 0 {
		lines = append(lines, s.figure("asks", t.Flare, kit.Count(n)+" conflicts to decide"))
	}
	if e.Share < 1 || e.Estimate.Expect == 0 && work.Count == 0 {
		return append(lines, "")
	}
	return append(append(lines, kit.EstimateLines(t, &e.Estimate, width)...), "")
}

// effectParts are how many objects each effect has.
func (s *Screen) effectParts(e *workroom.Effect) []string {
	t := s.Theme
	var parts []string
	for _, k := range plan.Kinds {
		if x := e.Totals[k]; x.Count > 0 {
			glyph, style := t.Effect(k)
			parts = append(parts, style.Render(glyph)+" "+t.Paper.Render(fmt.Sprintf("%s %s",
				k.Words(e.Rules.TargetOnly), kit.Count(x.Count))))
		}
	}
	return parts
}

// figure is one line of the effect: a name and what is to be said.
func (s *Screen) figure(name string, style lipgloss.Style, text string) string {
	return s.Theme.Ash.Render(kit.Fit(name, 10)) + style.Render(text)
}

// sendsAndDeletes are the two lines that matter most.
func (s *Screen) sendsAndDeletes(e *workroom.Effect) []string {
	t := s.Theme
	gone, style := e.Totals[plan.Remove].Count, t.Paper
	name, what := "deletes", "nothing"
	if gone > 0 {
		style, what = t.Flare, fmt.Sprintf("%s · %s", object.Count(gone, "object"),
			kit.Size(e.Totals[plan.Remove].Bytes))
		if e.Rules.TargetOnly == rule.MoveToTrash {
			name, what = "trash", what+" moved to it"
		}
	}
	return []string{
		s.figure("sends", t.Strong,
			fmt.Sprintf("%s · %s", object.Count(e.Totals[plan.Add].Count+e.Totals[plan.Change].Count, "object"),
				kit.Size(e.Totals.Work().Bytes))),
		s.figure(name, style, what)}
}

func (s *Screen) examples(d *draft, e *workroom.Effect, width int) []string {
	t := s.Theme
	all := append(append([]plan.Example(nil), e.Examples...), e.Alike...)
	if len(all) == 0 {
		return nil
	}
	lines := []string{t.Ash.Render("for example")}
	for i, x := range all {
		if i == 3 {
			break
		}
		to, from := e.Lands, strings.TrimRight(d.job.Source, "/")
		if x.Back {
			to, from = from, to
		}
		lines = append(lines, t.Ash.Render(kit.Name(from+"/", width/3))+t.Paper.Render(kit.Name(x.Key, width*2/3-2)),
			t.Lamp.Render("  → ")+t.Ash.Render(kit.Name(to+"/", width/3))+t.Paper.Render(kit.Name(x.Key, width*2/3-6)))
	}
	return append(lines, "")
}

func (s *Screen) tallies(e *workroom.Effect, width int) []string {
	t := s.Theme
	if len(e.Tallies) == 0 {
		return nil
	}
	lines := []string{t.Ash.Render(fmt.Sprintf("rules, of %s; %s are taken", object.Count(e.Source.Objects, "object"),
		kit.Count(e.Selected.Count)))}
	for _, x := range e.Tallies {
		counts := ""
		if x.Takes > 0 || x.Drops == 0 {
			counts += "takes " + kit.Count(x.Takes) + "  "
		}
		if x.Drops > 0 || x.Takes == 0 {
			counts += "drops " + kit.Count(x.Drops)
		}
		style := t.Paper
		if x.Idle != "" {
			style = t.Flare
		}
		lines = append(lines, style.Render(kit.Fit(kit.Name(x.Rule, width/2-2), width/2))+t.Ash.Render(counts))
		if x.Idle != "" {
			lines = append(lines, "  "+t.Flare.Render(kit.Name("▲ "+x.Idle, width-2)))
		}
	}
	return append(lines, "")
}
