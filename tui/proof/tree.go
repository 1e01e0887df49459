package proof

import (
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"lumtra/core/proof"
	"lumtra/service/workroom"
	"lumtra/tui/kit"
)

type node = kit.Node[proof.Node]

// load reads a folder of the tree outside Update; nil is the top.
func (s *Screen) load(job string, number int, dir string, under *node) tea.Cmd {
	prefix := kit.Reading(under)
	return func() tea.Msg {
		nodes, err := proof.Folder(s.ctx, dir, prefix)
		return folderMsg{job, number, under, nodes, err}
	}
}

func (s *Screen) folder(msg folderMsg) {
	j := s.State.JobNamed(msg.job)
	if j == nil {
		return
	}
	sh := s.shown(j)
	sh.tree.Take(msg.under, msg.nodes, func(n *proof.Node) string { return n.Name }, msg.err)
	if sh.err = msg.err; msg.under == nil {
		sh.loading, sh.number, sh.only = false, msg.number, 0
		s.cursor = kit.Cursor{}
	}
	sh.lay()
}

// lay makes the visible lines anew.
func (sh *shown) lay() {
	sh.tree.Lay(func(n *node) bool { return sh.only == 0 || n.Is.Tally.Objects[sh.only] > 0 })
}

// filter shows the next verdict that there is alone, and after the last all.
func (sh *shown) filter(p *workroom.Proof) {
	for p != nil {
		sh.only = (sh.only + 1) % len(proof.Verdicts)
		if sh.only == 0 || p.Objects[proof.Verdicts[sh.only]] > 0 {
			break
		}
	}
	sh.lay()
}

func (s *Screen) toggle(key, job string, sh *shown) tea.Cmd {
	read := sh.tree.Toggle(key, &s.cursor, func(n *node) bool { return n.Is.Line != nil || n.Is.Name == "…" })
	sh.lay()
	if read == nil {
		return nil
	}
	return s.load(job, sh.number, sh.dir, read)
}

// glyph is how a verdict looks: full for what holds, hollow for what is not
// there.
func (s *Screen) glyph(v proof.Verdict) (string, lipgloss.Style) {
	t := s.Theme
	switch v {
	case proof.Same:
		return "▬", t.Tide
	case proof.Missing:
		return "○", t.Flare
	case proof.Different:
		return "≠", t.Flare
	case proof.Unproven:
		return "?", t.Lamp
	case proof.Since:
		return "›", t.Ash
	}
	return "+", t.Ash
}

const countCells = 14

// tree draws what differs by folder, a column for each verdict there is, and
// below it why the object under the cursor does.
func (s *Screen) tree(sh *shown, width, height int) []string {
	t := s.Theme
	if len(sh.tree.Roots) == 0 || height < 4 {
		return nil
	}
	var columns []int // of the verdicts there are
	var scale int64
	for i := 1; i < len(proof.Verdicts); i++ {
		for _, n := range sh.tree.Roots {
			if n.Is.Tally.Objects[i] > 0 {
				columns = append(columns, i)
				break
			}
		}
	}
	for _, n := range sh.tree.Roots {
		all, _ := n.Is.Tally.All()
		scale = max(scale, all)
	}
	figures := countCells * (len(columns) + 1)
	name := max(min(max(width*2/5, 24), 64, width-figures-4), 12)
	bar := max(width-name-figures-4, 0)
	head := kit.Fit("what differs", name) + kit.Fit("", bar)
	for _, i := range columns {
		head += kit.FitLeft(string(proof.Verdicts[i]), countCells)
	}
	title := "  " + t.Ash.Render(head+kit.FitLeft("bytes", countCells))
	if sh.only > 0 {
		title = "  " + t.Lamp.Render(kit.Fit("only "+string(proof.Verdicts[sh.only]),
			name)) + t.Ash.Render(head[name:]+kit.FitLeft("bytes", countCells))
	}
	why := s.why(sh, width)
	s.page = max(height-1-len(why), 1)
	lines := []string{title}
	first, last := s.cursor.Window(len(sh.tree.Rows), s.page)
	for i := first; i < last; i++ {
		n := sh.tree.Rows[i]
		lines = append(lines, kit.Row(t, s.line(n, columns, name, bar, scale), width, i == s.cursor.At))
	}
	for len(lines) < height-len(why) {
		lines = append(lines, "")
	}
	return append(lines, why...)
}

// line is one row of the tree.
func (s *Screen) line(n *node, columns []int, name, bar int, scale int64) string {
	t := s.Theme
	sign, style := "  ", t.Paper
	if n.Is.Line == nil {
		sign, style = "▸ ", t.Strong
		if n.Open {
			sign = "▾ "
		}
	}
	indent := strings.Repeat("  ", min(n.Depth, 12))
	text := kit.Fit(indent+t.Ash.Render(sign)+style.Render(kit.Name(n.Is.Name, name-len(indent)-3)), name)
	used := 0
	for _, i := range columns {
		cells := min(int(float64(bar-1)*float64(n.Is.Tally.Objects[i])/float64(max(scale, 1))), bar-1-used)
		if n.Is.Tally.Objects[i] > 0 && cells < 1 && used < bar-1 {
			cells = 1
		}
		if n.Is.Line != nil { // it is what it is, whatever its share
			cells = min(cells, 1)
		}
		glyph, style := s.glyph(proof.Verdicts[i])
		text += style.Render(strings.Repeat(glyph, max(cells, 0)))
		used += max(cells, 0)
	}
	text += strings.Repeat(" ", max(bar-used, 0))
	for _, i := range columns {
		count := ""
		if c := n.Is.Tally.Objects[i]; c > 0 {
			count = kit.Count(c)
		}
		_, style := s.glyph(proof.Verdicts[i])
		text += style.Render(kit.FitLeft(count, countCells))
	}
	_, bytes := n.Is.Tally.All()
	return text + t.Paper.Render(kit.FitLeft(kit.Size(bytes), countCells))
}

// why tells of the line under the cursor what was found.
func (s *Screen) why(sh *shown, width int) []string {
	t := s.Theme
	if s.cursor.At >= len(sh.tree.Rows) {
		return nil
	}
	n := sh.tree.Rows[s.cursor.At]
	lines := []string{kit.RuleLine(t, width), "  " + t.Strong.Render(kit.Name(n.Prefix, width-4))}
	if l := n.Is.Line; l != nil {
		_, style := s.glyph(l.Verdict)
		return append(lines, "  "+style.Render(string(l.Verdict))+t.Paper.Render(kit.Name(": "+l.Why, width-16)))
	}
	var parts []string
	for i, v := range proof.Verdicts {
		if c := n.Is.Tally.Objects[i]; c > 0 {
			parts = append(parts, kit.Count(c)+" "+string(v)+" ("+kit.Size(n.Is.Tally.Bytes[i])+")")
		}
	}
	return append(lines, "  "+t.Paper.Render(strings.Join(parts, ", ")))
}
