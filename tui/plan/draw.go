package plan

import (
	"fmt"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/tui/kit"
)

// Render draws the sentence, the totals, the tree and the reason.
func (s *Screen) Render(width, height int) string {
	j := s.Current()
	if j == nil {
		return kit.Lines([]string{"", "  " + s.NoJob("plan")}, width, height)
	}
	t, sh := s.Theme, s.shown(j.Job.Name)
	lines := s.sentence(j, width)
	switch {
	case sh.planning != nil:
		return kit.Lines(append(lines, s.progress(sh)...), width, height)
	case sh.err != nil:
		lines = append(lines, "")
		for _, part := range strings.Split(ansi.Wordwrap(kit.Reason(sh.err), width-4, " "), "\n") {
			lines = append(lines, "  "+t.Flare.Render(part))
		}
		return kit.Lines(append(lines, "", "  "+t.Ash.Render("p tries again")), width, height)
	case j.Plan == nil:
		return kit.Lines(append(lines, "", "  "+
			t.Paper.Render("No plan "+
				"yet.")+t.Ash.Render("  p surveys both sides and makes one; nothing is copied by that.")), width,
			height)
	}
	if sh.changes != nil {
		return kit.Lines(s.changesLines(sh, width, height), width, height)
	}
	lines = append(lines, s.totals(j, sh, width)...)
	for _, warning := range j.Plan.Warnings {
		for _, part := range kit.Wrap(object.Display(warning), width-4) {
			lines = append(lines, "  "+t.Flare.Render(part))
		}
	}
	for _, note := range j.Plan.Notes {
		lines = append(lines, kit.Fit("  "+t.Dusk.Render("· "+object.Display(note)), width))
	}
	switch {
	case sh.form != nil:
		for _, l := range sh.form.Lines(t, min(width-6, 100)) {
			lines = append(lines, "   "+l)
		}
		lines = append(lines, "")
	case sh.menu != nil:
		lines = append(lines, s.menuLines(sh.menu, width)...)
	case len(sh.only) > 0:
		var names []string
		for _, k := range plan.Kinds {
			if sh.only[k] {
				names = append(names, k.String())
			}
		}
		lines = append(lines, "  "+
			t.Lamp.Render("only "+strings.Join(names, ", "))+t.Ash.Render("  esc shows everything"), "")
	case sh.finding || sh.find != "":
		lines = append(lines, "  "+
			t.Lamp.Render("/")+t.Paper.Render(object.Display(sh.find))+t.Ash.Render("  in what is open"), "")
	}
	if sh.facts != nil {
		text := s.before(sh, width-4)
		for i := range text {
			text[i] = "  " + text[i]
		}
		return kit.Stack(kit.Lines(lines, width, len(lines)), sh.facts.Lines(t, text, width, max(height-len(lines), 1)))
	}
	reason := s.reason(j, sh, width)
	s.page = max(height-len(lines)-len(reason)-1, 1)
	if width < 118 {
		lines = append(lines, s.briefly(sh, width))
		s.page = max(s.page-1, 1)
		lines = append(lines, s.tree(j, sh, width, s.page)...)
		for len(lines) < height-len(reason) {
			lines = append(lines, "")
		}
		return kit.Lines(append(lines[:min(len(lines), height-len(reason))], reason...), width, height)
	}
	middle := height - len(lines) - len(reason)
	if middle < 3 {
		return kit.Lines(lines, width, height)
	}
	aside := min(width*36/100, 62)
	s.page = middle - 1
	left := kit.Lines(s.tree(j, sh, width-aside-3, middle), width-aside-3, middle)
	facts := s.before(sh, aside)
	if len(facts) > middle {
		facts = append(facts[:max(middle-1, 0)], t.Lamp.Render("tab")+t.Ash.Render(" all of it"))
	}
	right := kit.Lines(facts, aside, middle)
	return kit.Stack(kit.Lines(lines, width, len(lines)), kit.Beside(t, left, right),
		kit.Lines(reason, width, len(reason)))
}

// sentence is the job as one reads it.
func (s *Screen) sentence(j *kit.JobState, width int) []string {
	t := s.Theme
	r := &j.Job.Rules
	say := func(words, choice string) string { return t.Ash.Render(words+" ") + t.Strong.Render(choice) }
	text := "  "
	if r.Direction == rule.TwoWay {
		text += say("Sync both ways:", kit.Name(j.Job.Source, 60)) + say(" and",
			kit.Name(j.Job.Lands(), 60)) + say(" , compared by", judged[r.CompareBy])
	} else {
		verb := "Copy"
		if r.Afterwards == rule.DeleteSource {
			verb = "Move"
		}
		text += say(verb, kit.Name(j.Job.Source, 60)) + say(" to",
			kit.Name(j.Job.Lands(), 60)) + say(" , what is new or changed by", judged[r.CompareBy]) +
			say(" ; when the target differs:", different[r.WhenDifferent]) + say(" ; target-only objects:",
			targetOnly[r.TargetOnly])
	}
	if !r.Select.Empty() {
		text += say(" ; of the source", fmt.Sprintf("%s rules", kit.Count(int64(rulesIn(&r.Select)))))
	}
	text = strings.ReplaceAll(strings.ReplaceAll(text, " , ", ", "), " ; ", "; ")
	return append([]string{""}, strings.Split(ansi.Wordwrap(text, width-2, " "), "\n")...)
}

var (
	judged = map[rule.CompareBy]string{rule.BySizeAndTime: "size and time", rule.BySize: "size",
		rule.ByContent: "content", rule.SendAll: "nothing: all is sent"}
	different = map[rule.WhenDifferent]string{rule.Replace: "replace", rule.Skip: "skip",
		rule.IfNewer: "replace if newer", rule.KeepBoth: "keep both"}
	targetOnly = map[rule.TargetOnly]string{rule.KeepThere: "keep", rule.MoveToTrash: "move to trash",
		rule.DeleteThere: "delete"}
)

func rulesIn(s *rule.Selection) int {
	n := len(s.Include) + len(s.Exclude)
	for _, set := range []bool{s.Prefix != "", s.Suffix != "", s.OlderThan != "", s.NewerThan != "", s.From != "",
		s.Until != "", s.Smallest != "", s.Largest != "", len(s.Classes) > 0, len(s.Tags) > 0} {
		if set {
			n++
		}
	}
	return n
}

// progress tells how far planning has come.
func (s *Screen) progress(sh *shown) []string {
	t, a := s.Theme, sh.planning
	stage, began := a.Stage()
	line := func(name string, objects, bytes int64) string {
		return "    " + t.Ash.Render(kit.Fit(name, 9)) + t.Paper.Render(kit.FitLeft(kit.Count(objects), 14)+
			" objects  "+kit.FitLeft(kit.Size(bytes), 10))
	}
	took := ""
	if !began.IsZero() {
		took = kit.Span(s.Now().Sub(began))
	}
	lines := []string{"", "  " + t.Lamp.Render("▸ "+stage) + "  " + t.Ash.Render(took), "",
		line("source", a.Source.Objects.Load(), a.Source.Bytes.Load()),
		line("target", a.Target.Objects.Load(), a.Target.Bytes.Load())}
	if j := s.Current(); j != nil {
		for i, side := range []struct {
			place string
			done  bool
		}{{j.Job.Source, a.Source.Done.Load()}, {j.Job.Target, a.Target.Done.Load()}} {
			wait := kit.WaitingFor(side.place, sh.quiet[i].Since(), s.Now(), "esc stops planning")
			if wait != "" && !side.done {
				lines = append(lines, "    "+t.Dusk.Render(wait))
			}
		}
	}
	return lines
}

// totals is a line per effect there is, with its glyph as legend.
func (s *Screen) totals(j *kit.JobState, sh *shown, width int) []string {
	t, p := s.Theme, j.Plan
	state := t.Lamp.Render("waits to be approved")
	switch {
	case sh.choosing:
		state = t.Lamp.Render("working the choice in …")
	case j.Active != nil:
		state = t.Lamp.Render("▸ running")
	case j.Done:
		state = t.Tide.Render("has been run")
	case len(p.Held) > 0 && !j.Approved:
		state = t.Flare.Render(kit.Name("▲ held back: "+p.Held[0], max(width-44, 20)))
	case p.NothingToDo() && p.Totals[plan.Conflict].Count > 0:
		state = t.Flare.Render("▲ conflicts to decide")
	case p.NothingToDo():
		state = t.Tide.Render("nothing to do")
	case j.Last() != nil && j.Last().Plan == p.Number:
		state = t.Flare.Render("was begun and stopped; approving it goes on")
	}
	lines := []string{"", "  " + t.Strong.Render(fmt.Sprintf("Plan %d", p.Number)) + t.Ash.Render(" · made "+
		p.Made.Local().Format("2006-01-02 15:04:05")+" · ") + state}
	if missed := p.Source.Missed + p.Target.Missed; missed > 0 {
		lines = append(lines, "  "+
			t.Flare.Render(fmt.Sprintf("▲ %s could not be listed, so this is not the whole", kit.Count(missed)))+
			t.Ash.Render("  "+strings.Join(append(p.Source.Problems, p.Target.Problems...), "; ")))
	}
	if n := p.Afterwards; n.Count > 0 {
		lines = append(lines, "  "+
			t.Dusk.Render(fmt.Sprintf("then, once proven: %s · %s %s", object.Count(n.Count, "object"),
				kit.Size(n.Bytes), p.Rules.Afterwards.Becomes())))
	}
	if n := p.Later; n > 0 {
		lines = append(lines, "  "+
			t.Dusk.Render(kit.Count(n)+" count as the same by size and a later time alone")+
			t.Ash.Render("  C compares their contents"))
	}
	lines = append(lines, "")
	var cells []string
	for _, k := range plan.Kinds {
		if x := p.Totals[k]; x.Count > 0 {
			glyph, style := t.Effect(k)
			cells = append(cells,
				style.Render(strings.Repeat(glyph, 2)+" "+
					""+k.Words(p.Rules.TargetOnly))+t.Paper.Render(fmt.Sprintf(" %s · %s",
					kit.Count(x.Count), kit.Size(x.Bytes))))
		}
	}
	line := " "
	for _, c := range cells {
		if ansi.StringWidth(line)+ansi.StringWidth(c)+3 > width {
			lines, line = append(lines, line), " "
		}
		line += " " + c + "  "
	}
	return append(lines, line, "")
}

const figures = 32 // cells of count and bytes at the right

func (s *Screen) tree(j *kit.JobState, sh *shown, width, height int) []string {
	t := s.Theme
	switch {
	case sh.number != j.Plan.Number:
		return []string{"  " + t.Ash.Render("reading the plan …")}
	case len(sh.tree.Rows) == 0 && (len(sh.only) > 0 || sh.find != ""):
		return []string{"  " +
			t.Paper.Render("Nothing here is of that kind or name.") + t.Ash.Render("  esc shows everything again.")}
	case len(sh.tree.Rows) == 0:
		return []string{"  " + t.Tide.Render("Everything is the same at both sides.") + t.Ash.Render("  s shows it.")}
	}
	scale := int64(1)
	for _, n := range sh.tree.Roots {
		if !sh.shows(n) {
			continue
		}
		scale = max(scale, s.weight(n, sh))
	}
	name := min(max(width*2/5, 24), 64)
	bar := width - name - figures - 4
	unit := "bars by bytes"
	if sh.byCount {
		unit = "bars by count"
	}
	lines := []string{"  " +
		t.Ash.Render(kit.Fit("what the target will be", name)+kit.Fit(unit, bar)+kit.FitLeft("objects",
			12)+kit.FitLeft("bytes", 14))}
	first, last := s.cursor.Window(len(sh.tree.Rows), height-1)
	for i := first; i < last; i++ {
		n := sh.tree.Rows[i]
		sign, style := "  ", t.Paper
		if n.Is.Effect == nil {
			sign, style = "▸ ", t.Strong
			if n.Open {
				sign = "▾ "
			}
		}
		indent := strings.Repeat("  ", min(n.Depth, 12))
		if n.Is.struck {
			style = t.Ash.Strikethrough(true)
			if n.Is.Effect == nil {
				sign = "⨯ "
			}
		}
		label := indent + t.Ash.Render(sign) + style.Render(kit.Name(n.Is.Name, name-len(indent)-3))
		all := n.Is.Totals.All()
		text := kit.Fit(label, name) + kit.EffectBar(t, &n.Is.Totals, sh.byCount, scale, bar) +
			t.Paper.Render(kit.FitLeft(kit.Count(all.Count), 12)+kit.FitLeft(kit.Size(all.Bytes), 14))
		if n.Is.Effect != nil {
			_, style := t.Effect(n.Is.Effect.Kind)
			text = kit.Fit(label, name) + kit.EffectBar(t, &n.Is.Totals, sh.byCount, scale, bar) +
				style.Render(kit.FitLeft(n.Is.Effect.Kind.String(),
					12)) + t.Paper.Render(kit.FitLeft(kit.Size(all.Bytes), 14))
		}
		lines = append(lines, kit.Row(t, text, width, i == s.cursor.At))
	}
	return lines
}

func (s *Screen) weight(n *node, sh *shown) int64 {
	if sh.byCount {
		return n.Is.Totals.All().Count
	}
	return n.Is.Totals.All().Bytes
}

// reason tells of the line under the cursor why it is so.
func (s *Screen) reason(j *kit.JobState, sh *shown, width int) []string {
	t := s.Theme
	if s.cursor.At >= len(sh.tree.Rows) || sh.number != j.Plan.Number {
		return nil
	}
	n := sh.tree.Rows[s.cursor.At]
	lines := []string{kit.RuleLine(t, width), "  " + t.Strong.Render(kit.Name(n.Prefix, width-4))}
	if e := n.Is.Effect; e != nil {
		_, style := t.Effect(e.Kind)
		lines = append(lines, "  "+style.Render(e.Kind.Words(j.Plan.Rules.TargetOnly))+t.Paper.Render(" because "+
			""+e.Why()))
		return lines
	}
	var parts []string
	for _, k := range plan.Kinds {
		if x := n.Is.Totals[k]; x.Count > 0 {
			parts = append(parts, fmt.Sprintf("%s %s (%s)", kit.Count(x.Count), k.Words(j.Plan.Rules.TargetOnly),
				kit.Size(x.Bytes)))
		}
	}
	return append(lines, "  "+t.Paper.Render(strings.Join(parts, ", ")))
}
