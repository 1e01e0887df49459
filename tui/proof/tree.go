package proof

import (
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"lumtra/core/proof"
	"lumtra/service"
	"lumtra/tui/kit"
)

// node is a line of the tree of differences.
type node struct {
	proof.Node
	prefix  string // key up to and with the name
	depth   int
	open    bool
	loading bool
	loaded  bool
	below   []*node
}

// load reads a folder of the tree outside Update; nil is the top.
func (s *Screen) load(job string, number int, dir string, under *node) tea.Cmd {
	prefix := ""
	if under != nil {
		prefix, under.loading = under.prefix, true
	}
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
	nodes := make([]*node, len(msg.nodes))
	for i, n := range msg.nodes {
		nodes[i] = &node{Node: n, prefix: n.Name}
		if msg.under != nil {
			nodes[i].prefix, nodes[i].depth = msg.under.prefix+n.Name, msg.under.depth+1
		}
	}
	if sh.err = msg.err; msg.under == nil {
		sh.loading, sh.number, sh.roots, sh.only = false, msg.number, nodes, 0
		s.cursor = kit.Cursor{}
	} else {
		msg.under.loading, msg.under.loaded, msg.under.below = false, msg.err == nil, nodes
	}
	sh.lay()
}

// lay makes the visible lines anew.
func (sh *shown) lay() {
	sh.rows = sh.rows[:0]
	var walk func([]*node)
	walk = func(nodes []*node) {
		for _, n := range nodes {
			if sh.only > 0 && n.Tally.Objects[sh.only] == 0 {
				continue
			}
			sh.rows = append(sh.rows, n)
			if n.open {
				walk(n.below)
			}
		}
	}
	walk(sh.roots)
}

// filter shows the next verdict that there is alone, and after the last all.
func (sh *shown) filter(p *service.Proof) {
	for p != nil {
		sh.only = (sh.only + 1) % len(proof.Verdicts)
		if sh.only == 0 || p.Objects[proof.Verdicts[sh.only]] > 0 {
			break
		}
	}
	sh.lay()
}

func (s *Screen) toggle(key, job string, sh *shown) tea.Cmd {
	if s.cursor.At >= len(sh.rows) {
		return nil
	}
	n, back := sh.rows[s.cursor.At], key == "left" || key == "h"
	if back && !n.open || n.Line != nil {
		for i := s.cursor.At; back && i >= 0; i-- { // up to the folder it lies in
			if sh.rows[i].depth < n.depth {
				s.cursor.At = i
				break
			}
		}
		return nil
	}
	n.open = !back && (!n.open || key != "enter" && key != "space")
	sh.lay()
	if n.open && !n.loaded && !n.loading && n.Name != "…" {
		return s.load(job, sh.number, sh.dir, n)
	}
	return nil
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
	}
	return "+", t.Ash
}

const countCells = 12

// tree draws what differs by folder, a column for each verdict there is, and
// below it why the object under the cursor does.
func (s *Screen) tree(sh *shown, width, height int) []string {
	t := s.Theme
	if len(sh.roots) == 0 || height < 4 {
		return nil
	}
	var columns []int // of the verdicts there are
	var scale int64
	for i := 1; i < len(proof.Verdicts); i++ {
		for _, n := range sh.roots {
			if n.Tally.Objects[i] > 0 {
				columns = append(columns, i)
				break
			}
		}
	}
	for _, n := range sh.roots {
		all, _ := n.Tally.All()
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
		title = "  " + t.Lamp.Render(kit.Fit("only "+string(proof.Verdicts[sh.only]), name)) + t.Ash.Render(head[name:]+kit.FitLeft("bytes", countCells))
	}
	why := s.why(sh, width)
	s.page = max(height-1-len(why), 1)
	lines := []string{title}
	first, last := s.cursor.Window(len(sh.rows), s.page)
	for i := first; i < last; i++ {
		n := sh.rows[i]
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
	if n.Line == nil {
		sign, style = "▸ ", t.Strong
		if n.open {
			sign = "▾ "
		}
	}
	indent := strings.Repeat("  ", min(n.depth, 12))
	text := kit.Fit(indent+t.Ash.Render(sign)+style.Render(kit.Name(n.Name, name-len(indent)-3)), name)
	used := 0
	for _, i := range columns {
		cells := min(int(float64(bar-1)*float64(n.Tally.Objects[i])/float64(max(scale, 1))), bar-1-used)
		if n.Tally.Objects[i] > 0 && cells < 1 && used < bar-1 {
			cells = 1
		}
		if n.Line != nil { // it is what it is, whatever its share
			cells = min(cells, 1)
		}
		glyph, style := s.glyph(proof.Verdicts[i])
		text += style.Render(strings.Repeat(glyph, max(cells, 0)))
		used += max(cells, 0)
	}
	text += strings.Repeat(" ", max(bar-used, 0))
	for _, i := range columns {
		count := ""
		if c := n.Tally.Objects[i]; c > 0 {
			count = kit.Count(c)
		}
		_, style := s.glyph(proof.Verdicts[i])
		text += style.Render(kit.FitLeft(count, countCells))
	}
	_, bytes := n.Tally.All()
	return text + t.Paper.Render(kit.FitLeft(kit.Size(bytes), countCells))
}

// why tells of the line under the cursor what was found.
func (s *Screen) why(sh *shown, width int) []string {
	t := s.Theme
	if s.cursor.At >= len(sh.rows) {
		return nil
	}
	n := sh.rows[s.cursor.At]
	lines := []string{kit.RuleLine(t, width), "  " + t.Strong.Render(kit.Name(n.prefix, width-4))}
	if l := n.Line; l != nil {
		_, style := s.glyph(l.Verdict)
		return append(lines, "  "+style.Render(string(l.Verdict))+t.Paper.Render(kit.Name(": "+l.Why, width-16)))
	}
	var parts []string
	for i, v := range proof.Verdicts {
		if c := n.Tally.Objects[i]; c > 0 {
			parts = append(parts, kit.Count(c)+" "+string(v)+" ("+kit.Size(n.Tally.Bytes[i])+")")
		}
	}
	return append(lines, "  "+t.Paper.Render(strings.Join(parts, ", ")))
}
