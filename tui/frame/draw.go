package frame

import (
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"lumtra/core/object"
	"lumtra/tui/kit"
)

// Least size at which the views are drawn.
const (
	leastWidth  = 60
	leastHeight = 12
)

// View draws the whole window.
func (m *model) View() (v tea.View) {
	defer func() {
		if p := recover(); p != nil {
			m.broke("drawing", p)
			v = tea.NewView("")
			v.AltScreen = true
		}
	}()
	v = tea.NewView(m.draw())
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "Lumtra · " + object.Display(m.shared.Service.Workspace().Title)
	return v
}

func (m *model) draw() string {
	t := m.shared.Theme
	if m.width < leastWidth || m.height < leastHeight {
		return kit.Lines([]string{t.Lamp.Render("Lumtra") + " needs 60×12 or more"}, m.width, m.height)
	}
	body := m.height - 4
	var middle string
	switch {
	case m.finder != nil:
		middle = m.finder.render(t, m.width, body)
	case m.help:
		middle = m.drawHelp(body)
	default:
		middle = m.screens[m.view].Render(m.width, body)
	}
	return strings.Join([]string{m.header(), kit.RuleLine(t, m.width), middle, m.pulse(), m.keyLine()}, "\n")
}

// header says where one is; at the right, what becomes of runs, and the time.
func (m *model) header() string {
	t := m.shared.Theme
	crumbs := append([]string{m.shared.Service.Workspace().Title, m.view.String()}, m.screens[m.view].Crumbs()...)
	for i, c := range crumbs {
		crumbs[i] = t.Paper.Render(object.Display(c))
	}
	left := t.Lamp.Bold(true).Render("Lumtra") + t.Ash.Render(" · ") + strings.Join(crumbs, t.Ash.Render(" › "))
	right := t.Ash.Render(m.shared.Now().Format("15:04:05 MST"))
	if m.width >= 100 {
		what := t.Ash.Render("runs end with this window   ")
		if m.shared.Service.Linked() != nil {
			what = t.Tide.Render("runs go on without this window   ")
		}
		right = what + right
	}
	w := ansi.StringWidth(right)
	return kit.Fit(left, m.width-w-2) + "  " + right
}

// pulse is the line that is always there: the last minutes of throughput as a
// strip of brightness, what runs, what needs a person. Something said takes
// its place for a while.
func (m *model) pulse() string {
	t, st := m.shared.Theme, m.shared.State
	if m.said.Text != "" && m.shared.Now().Sub(m.saidAt) < 8*time.Second {
		style := t.Tide
		if m.said.Bad {
			style = t.Flare
		}
		return kit.Fit(style.Render(m.said.Text), m.width)
	}
	running := 0
	for _, j := range st.Jobs {
		if j.Active != nil {
			running++
		}
	}
	text := t.Ash.Render("nothing running")
	if running > 0 {
		rate := 0.0
		if n := len(st.Pulse); n > 0 {
			rate = st.Pulse[n-1]
		}
		text = t.Lamp.Render("▸ "+count(running, "run")) + t.Paper.Render(" "+kit.Rate(rate, m.shared.Bits))
	}
	if n := len(st.Needs); n > 0 {
		text += t.Flare.Render("  ▲ " + count(n, "thing") + " for you")
	}
	if st.Err != nil {
		text = t.Flare.Render(object.Display(st.Err.Error()))
	}
	width := max(m.width-ansi.StringWidth(text)-3, 0)
	values := st.Pulse[max(0, len(st.Pulse)-width):]
	top := slices.Max(append([]float64{1}, values...))
	var strip strings.Builder
	strip.WriteString(t.Rule.Render(strings.Repeat("·", width-len(values))))
	for _, v := range values {
		strip.WriteString(t.Glow(v / top))
	}
	return kit.Fit(strip.String()+"   "+text, m.width)
}

func count(n int, what string) string {
	if n != 1 {
		what += "s"
	}
	return kit.Count(int64(n)) + " " + what
}

// keyLine names the keys that matter here and now.
func (m *model) keyLine() string {
	t := m.shared.Theme
	part := func(k kit.Key) string {
		short, _, _ := strings.Cut(k.Does, ":")
		return t.Lamp.Render(k.Press) + " " + t.Ash.Render(short)
	}
	tail := ""
	if !m.screens[m.view].Asks() { // the way out is never pushed out
		for _, k := range []kit.Key{{Press: "1-6", Does: "views"}, {Press: "?", Does: "keys"}, {Press: "q", Does: "leave"}} {
			tail += "   " + part(k)
		}
	}
	line := ""
	for _, k := range m.screens[m.view].Keys() {
		if k.Off != "" {
			continue
		}
		next := part(k)
		if line != "" {
			next = line + "   " + next
		}
		if ansi.StringWidth(next)+ansi.StringWidth(tail) <= m.width {
			line = next
		}
	}
	return kit.Fit(line+tail, m.width)
}

// drawHelp lists the keys: the view's, and beside or below them those that work
// everywhere.
func (m *model) drawHelp(height int) string {
	t := m.shared.Theme
	list := func(title string, keys []kit.Key) []string {
		lines := []string{"", t.Strong.Render("  " + title), ""}
		for _, k := range keys {
			if k.Off != "" {
				lines = append(lines, "  "+t.Ash.Render(kit.FitLeft(k.Press, 7)+"  "+k.Does+" – "+k.Off))
				continue
			}
			lines = append(lines, "  "+t.Lamp.Render(kit.FitLeft(k.Press, 7))+"  "+t.Paper.Render(k.Does))
		}
		return lines
	}
	here := list("Keys in "+m.view.String(), m.screens[m.view].Keys())
	all := list("Keys everywhere", append([]kit.Key{{Press: "↑ ↓ j k", Does: "move; g and G to the ends"}, {Press: "esc", Does: "back"}}, ownKeys...))
	all = append(all, "", t.Ash.Render("  any key closes this"))
	if m.width < 120 {
		return kit.Lines(append(all, here...), m.width, height)
	}
	left := m.width*6/10 - 3
	return kit.Beside(t, kit.Lines(here, left, height), kit.Lines(all, m.width-left-3, height))
}
