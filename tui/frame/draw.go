package frame

import (
	"fmt"
	"slices"
	"strconv"
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
	m.adorn(&v)
	return v
}

// tooSmall tells that the window has no room for a view: no key does anything then.
func (m *model) tooSmall() bool { return m.width < leastWidth || m.height < leastHeight }

func (m *model) draw() string {
	t := m.shared.Theme
	if m.tooSmall() {
		return kit.Lines([]string{t.Lamp.Render("Lumtra") + fmt.Sprintf(" needs %d×%d or more; this is %d×%d",
			leastWidth, leastHeight, m.width, m.height)}, m.width, m.height)
	}
	body := m.height - 4
	var middle string
	switch {
	case m.finder != nil:
		middle = m.finder.render(t, m.width, body)
	case m.help != nil:
		middle = m.drawHelp(body)
	default:
		middle = m.screens[m.view].Render(m.width, body)
	}
	return strings.Join([]string{m.header(), kit.RuleLine(t, m.width), middle, m.pulse(), m.keyLine()}, "\n")
}

// header says where one is; at the right, what becomes of runs, and the time.
func (m *model) header() string {
	t := m.shared.Theme
	crumbs := append([]string{m.shared.Service.Workspace().Title, string(m.view)}, m.screens[m.view].Crumbs()...)
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
	if m.said.Text != "" && m.saidIn == m.view && m.shared.Now().Sub(m.saidAt) < 8*time.Second {
		style := t.Tide
		if m.said.Bad {
			style = t.Flare
		}
		return kit.Fit(m.linked(style, m.said), m.width)
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
		text = t.Lamp.Render("▸ "+object.Count(running, "run")) + t.Paper.Render(" "+kit.Rate(rate, m.shared.Bits))
	}
	if n := len(st.Needs); n > 0 {
		text += t.Flare.Render("  ▲ " + object.Count(n, "thing") + " for you")
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

// keyLine names the keys that matter here and now.
func (m *model) keyLine() string {
	t := m.shared.Theme
	part := func(k kit.Key) string {
		short, _, _ := strings.Cut(k.Does, ":")
		return t.Lamp.Render(k.Press) + " " + t.Ash.Render(short)
	}
	tail := ""
	if !m.screens[m.view].Asks() { // the way out is never pushed out
		for _, k := range []kit.Key{{Press: "1-" + strconv.Itoa(len(views)), Does: "views"},
			{Press: "?", Does: "keys"}, {Press: "q", Does: "leave"}} {
			k = m.keys.shown(m.view, []kit.Key{k})[0]
			tail += "   " + part(k)
		}
	}
	line := ""
	for _, k := range m.keys.shown(m.view, m.screens[m.view].Keys()) {
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
	left := m.width*6/10 - 3
	right := m.width - left - 3
	if m.width < 120 { // one below the other
		left, right = m.width, m.width
	}
	list := func(title string, keys []kit.Key, width int) []string {
		lines := []string{"", t.Strong.Render("  " + title), ""}
		for _, k := range keys {
			press, style, text := t.Lamp, t.Paper, k.Does
			if k.Off != "" {
				press, style, text = t.Ash, t.Ash, k.Does+" – "+k.Off
			}
			for i, part := range kit.Wrap(text, max(width-11, 20)) {
				if i > 0 {
					k.Press = ""
				}
				lines = append(lines, "  "+press.Render(kit.FitLeft(k.Press, 7))+"  "+style.Render(part))
			}
		}
		return lines
	}
	here := list("Keys in "+string(m.view), m.keys.shown(m.view, m.screens[m.view].Keys()), left)
	all := list("Keys everywhere",
		append([]kit.Key{{Press: "↑ ↓ j k", Does: "move; g and G to the ends"}, {Press: "esc", Does: "back"}},
			m.keys.shown(m.view, m.ownKeys())...), right)
	closes := t.Ash.Render("  any other key closes this")
	if m.width < 120 {
		return m.help.Lines(t, append(append(here, all...), "", closes), m.width, height)
	}
	all = append(all, "", closes)
	for len(here) < len(all) {
		here = append(here, "")
	}
	for len(all) < len(here) {
		all = append(all, "")
	}
	return kit.Beside(t, m.help.Lines(t, here, left, height), m.help.Lines(t, all, right, height))
}
