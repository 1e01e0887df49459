package plan

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"lumtra/core/estimate"
	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/service/workroom"
	"lumtra/tui/kit"
)

// side is what is known of a plan before its first byte.
type side struct {
	number   int
	estimate *estimate.Estimate
	checks   []workroom.Check
	err      error
	done     bool
}

type sideMsg struct {
	job  string
	side *side
}

// lookBefore estimates and checks a plan in the background.
func (s *Screen) lookBefore(j *kit.JobState) tea.Cmd {
	name, info, job := j.Job.Name, *j.Plan, j.Job
	return func() tea.Msg {
		e := s.Service.Estimate(s.ctx, job, &info)
		x := &side{number: info.Number, estimate: &e, done: true}
		x.checks, x.err = s.Service.Checks(s.ctx, name, info.Number)
		return sideMsg{name, x}
	}
}

// blockers are the names of the checks that would keep the plan from being run.
func (sh *shown) blockers() (names []string) {
	if sh.side == nil {
		return nil
	}
	for _, c := range sh.side.checks {
		if c.Blocks && !slices.Contains(names, c.Name) {
			names = append(names, c.Name)
		}
	}
	return names
}

// mend does what a check offers.
func (s *Screen) mend(j *kit.JobState, sh *shown) tea.Cmd {
	m := &menu{title: "Mend"}
	var fixes []workroom.Fix
	if sh.side != nil {
		for _, c := range sh.side.checks {
			if c.Fix != workroom.NoFix {
				m.lines, fixes = append(m.lines, string(c.Fix)+": "+object.Display(c.Found)), append(fixes, c.Fix)
			}
		}
	}
	if len(fixes) == 0 {
		return kit.Cmd(kit.Say{Text: "There is nothing that can be mended from here."})
	}
	name, number := j.Job.Name, j.Plan.Number
	m.do = func(i int) tea.Cmd {
		sh.mending = fixes[i]
		return func() tea.Msg {
			say, err := s.Service.Mend(s.ctx, name, number, fixes[i])
			return mendedMsg{name, say, number, err}
		}
	}
	sh.menu = m
	return nil
}

func (s *Screen) mended(msg mendedMsg) tea.Cmd {
	sh := s.shown(msg.job)
	sh.mending = workroom.NoFix
	say := kit.Say{Text: msg.say}
	if msg.err != nil {
		say = kit.Say{Text: oneLine(msg.err), Bad: true}
	}
	j := s.State.JobNamed(msg.job)
	if j == nil || j.Plan == nil {
		return kit.Cmd(say)
	}
	return tea.Batch(kit.Cmd(say), s.lookBefore(j))
}

// briefly is the one line of what is known before the first byte, where there is no room for
// more: what keeps the plan from running comes first.
func (s *Screen) briefly(sh *shown, width int) string {
	t, x := s.Theme, sh.side
	if x == nil || !x.done {
		return "  " + t.Ash.Render("before it runs: looking …")
	}
	var parts []string
	for _, w := range []struct {
		weight workroom.Weight
		style  lipgloss.Style
		mark   string
		one    string
	}{{workroom.Stop, t.Flare, "▲", "blocker"}, {workroom.Look, t.Dusk, "◆", "warning"}} {
		n := 0
		for _, c := range x.checks {
			if c.Weigh == w.weight {
				n++
			}
		}
		if n > 0 {
			parts = append(parts, w.style.Render(w.mark)+" "+t.Paper.Render(object.Count(int64(n), w.one)))
		}
	}
	if x.err != nil {
		parts = append(parts, t.Flare.Render("▲ could not be checked"))
	}
	parts = append(parts, t.Paper.Render("takes "+kit.EstimateText(x.estimate)))
	more := "   " + t.Lamp.Render("tab") + t.Ash.Render(" all of it")
	return kit.Fit("  "+strings.Join(parts, t.Ash.Render(" · ")), max(width-lipgloss.Width(more), 10)) + more
}

// before draws what is known before the first byte.
func (s *Screen) before(sh *shown, width int) []string {
	t := s.Theme
	lines := []string{t.Strong.Render("Before it runs")}
	x := sh.side
	switch {
	case sh.mending != workroom.NoFix:
		lines = append(lines, t.Lamp.Render("▸ "+string(sh.mending)+" …"))
	case x == nil || !x.done:
		lines = append(lines, t.Ash.Render("looking …"))
	}
	if x == nil || !x.done {
		return lines
	}
	lines = append(lines, kit.EstimateLines(t, x.estimate, width)...)
	lines = append(lines, "")
	if x.err != nil {
		for _, l := range kit.Wrap(oneLine(x.err), width) {
			lines = append(lines, t.Flare.Render(l))
		}
	}
	// What matters most comes first, so that it is seen where room is short.
	for _, weight := range []workroom.Weight{workroom.Stop, workroom.Look, workroom.Fine} {
		for _, c := range x.checks {
			if c.Weigh == weight {
				lines = append(lines, s.check(c, width)...)
			}
		}
	}
	return lines
}

func (s *Screen) check(c workroom.Check, width int) []string {
	t := s.Theme
	mark, style := "✓", t.Tide
	text := t.Ash
	switch c.Weigh {
	case workroom.Stop:
		mark, style, text = "▲", t.Flare, t.Paper
	case workroom.Look:
		mark, style, text = "◆", t.Dusk, t.Paper
	}
	wrapped := func(s lipgloss.Style, words string) (lines []string) {
		for _, l := range kit.Wrap(object.Display(words), width-4) {
			lines = append(lines, s.Render(l))
		}
		return lines
	}
	found := wrapped(text, c.Name+": "+c.Found)
	lines := []string{style.Render(mark) + " " + found[0]}
	for _, l := range found[1:] {
		lines = append(lines, "  "+l)
	}
	if c.Mend != "" {
		mend := c.Mend
		if c.Fix != workroom.NoFix {
			mend += " (m)"
		}
		for _, l := range wrapped(t.Ash, "→ "+mend) {
			lines = append(lines, "  "+l)
		}
	}
	return lines
}

// changesLines draw how the plan differs from an earlier one.
func (s *Screen) changesLines(sh *shown, width, height int) []string {
	t, c := s.Theme, sh.changes
	lines := []string{"", "  " +
		t.Strong.Render(fmt.Sprintf("Plan %d beside plan %d", c.Is.Number,
			c.Was.Number)) + t.Ash.Render(fmt.Sprintf("  made %s and %s",
		c.Is.Made.Local().Format("2006-01-02 15:04"), c.Was.Made.Local().Format("2006-01-02 15:04"))), ""}
	for _, k := range plan.Kinds {
		a, b := c.Was.Totals[k], c.Is.Totals[k]
		if a.Count+b.Count == 0 {
			continue
		}
		glyph, style := t.Effect(k)
		more := ""
		if d := b.Count - a.Count; d != 0 {
			more = fmt.Sprintf("%+d", d)
		}
		lines = append(lines, "  "+
			style.Render(kit.Fit(glyph+" "+k.String(), 12))+t.Ash.Render(kit.FitLeft(kit.Count(a.Count), 12)+" · "+
			kit.Fit(kit.Size(a.Bytes), 10)+" → ")+t.Paper.Render(kit.FitLeft(kit.Count(b.Count), 12)+" · "+
			kit.Fit(kit.Size(b.Bytes), 10))+t.Strong.Render(kit.FitLeft(more, 10)))
	}
	lines = append(lines, "", "  "+t.Ash.Render(fmt.Sprintf("%s keys whose effect is another", kit.Count(c.Count))))
	first, last := s.changesCursor.Window(len(c.Lines), max(height-len(lines)-1, 1))
	word := func(e *plan.Effect) string {
		if e == nil {
			return t.Ash.Render(kit.Fit("nothing", 10))
		}
		_, style := t.Effect(e.Kind)
		return style.Render(kit.Fit(e.Kind.String(), 10))
	}
	for i := first; i < last; i++ {
		d := c.Lines[i]
		lines = append(lines,
			kit.Row(t, word(d.Was)+t.Ash.Render("→ ")+word(d.Is)+t.Paper.Render(kit.Name(d.Key, width-28)), width,
				i == s.changesCursor.At))
	}
	return lines
}

// menuLines draw what can be chosen.
func (s *Screen) menuLines(m *menu, width int) []string {
	t := s.Theme
	lines := []string{"  " + t.Strong.Render(kit.Name(m.title, width-4))}
	for i, l := range m.lines {
		style := t.Paper
		mark := "    "
		if i == m.cursor.At {
			style, mark = t.Lamp, "  "+t.Lamp.Render("▌ ")
		}
		lines = append(lines, mark+style.Render(kit.Name(strings.TrimRight(l, " "), width-6)))
	}
	return append(lines, "")
}
