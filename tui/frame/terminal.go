package frame

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/tui/kit"
)

// terminal is what is known of the terminal beside its size: what it can show that not all can,
// and whether anybody looks at it.
type terminal struct {
	progress, notifies bool
	away               bool // it has told that the focus is elsewhere
	pixels             kit.Pixels
}

// knows takes in what a terminal says of itself (XTVERSION), or the environment of it. Only what
// is known to take a sequence is sent one: others may show it as text.
func (x *terminal) knows(version string, env func(string) string) {
	version = strings.ToLower(version)
	for _, name := range []string{"ghostty", "wezterm"} {
		if strings.Contains(version, name) {
			x.progress, x.notifies = true, true
		}
	}
	for _, name := range []string{"iterm2", "kitty"} {
		if strings.Contains(version, name) {
			x.notifies = true
		}
	}
	if env("WT_SESSION") != "" {
		x.progress = true
	}
	for _, name := range []string{"ghostty", "wezterm", "kitty", "konsole"} {
		if strings.Contains(version, name) {
			x.pixels = kit.Placed
		}
	}
}

// attributes takes in what a terminal answers to the question for its primary device attributes:
// 4 among them is sixel graphics.
func (x *terminal) attributes(all []int) {
	if x.pixels == "" && slices.Contains(all, 4) {
		x.pixels = kit.Sixel
	}
}

// pictures tells the views how the terminal takes pictures, if they may be shown so.
func (m *model) pictures() {
	m.shared.Pixels = ""
	if job.May(m.shared.Preferences.Terminal.Pictures) {
		m.shared.Pixels = m.terminal.pixels
	}
}

// notify tells a person who looks elsewhere, by a bell where the terminal knows no better (OSC 9).
func (x *terminal) notify(text string) tea.Cmd {
	if !x.notifies {
		return tea.Raw("\a")
	}
	return tea.Raw("\x1b]9;" + object.Display(text) + "\x1b\\")
}

// newsOf compares two states and tells what somebody who looks elsewhere would want to know.
func newsOf(was, is *kit.State) string {
	for i := range is.Jobs {
		j := &is.Jobs[i]
		before := was.JobNamed(j.Job.Name)
		if before == nil || before.Active == nil || j.Active != nil || j.Last() == nil {
			continue
		}
		r := j.Last()
		text := fmt.Sprintf("%s: %s, %s", j.Job.Name, r.End, object.Count(r.Objects, "object"))
		if r.End == history.Failures {
			text += fmt.Sprintf(", %d failed", r.Failed)
		}
		return text
	}
	if len(is.Needs) > len(was.Needs) {
		n := is.Needs[len(is.Needs)-1]
		return strings.TrimPrefix(n.Job+": "+n.What, ": ")
	}
	return ""
}

// share is how far all runs are, in percent of their bytes, and how many there are.
func share(st *kit.State) (percent, running int) {
	var done, all int64
	for i := range st.Jobs {
		if a := st.Jobs[i].Active; a != nil {
			running++
			done += a.BeforeBytes + a.Bytes
			all += a.Planned.Bytes
		}
	}
	if all > 0 {
		percent = int(min(100*done/all, 100))
	}
	return percent, running
}

// adorn sets what of a frame is not drawn in its cells: the title and the progress bar.
func (m *model) adorn(v *tea.View) {
	p := &m.shared.Preferences.Terminal
	percent, running := share(&m.shared.State)
	if job.May(p.Title) {
		v.WindowTitle = "Lumtra · " + object.Display(m.shared.Service.Workspace().Title)
		if running > 0 {
			v.WindowTitle = fmt.Sprintf("%d %% · %s", percent, v.WindowTitle)
		}
	}
	if job.May(p.Progress) && m.terminal.progress && running > 0 {
		state := tea.ProgressBarDefault
		for _, j := range m.shared.State.Jobs {
			if j.Active != nil && j.Active.Failed > 0 {
				state = tea.ProgressBarError
			}
		}
		v.ProgressBar = tea.NewProgressBar(state, percent)
	}
	v.ReportFocus = job.May(p.Notify)
	if m.grounded { // before that it would be our own ground that the terminal tells of
		v.BackgroundColor, v.ForegroundColor = m.shared.Theme.Ground, m.shared.Theme.Ink
	}
}

// linked makes the path in a text that was said a link, which terminals that know none pass
// over (OSC 8).
func (m *model) linked(style lipgloss.Style, said kit.Say) string {
	path, err := filepath.Abs(said.Link)
	before, after, ok := strings.Cut(said.Text, said.Link)
	if said.Link == "" || err != nil || !ok || !job.May(m.shared.Preferences.Terminal.Links) {
		return style.Render(said.Text)
	}
	host, _ := os.Hostname()
	to := url.URL{Scheme: "file", Host: host, Path: path}
	return style.Render(before) + style.Underline(true).Hyperlink(to.String()).Render(said.Link) + style.Render(after)
}

// copyName copies the name of what the cursor is on (OSC 52).
func (m *model) copyName() tea.Cmd {
	n, ok := m.screens[m.view].(kit.Namer)
	if !ok || n.Name() == "" {
		return kit.Cmd(kit.Say{Text: "Nothing with a name is under the cursor."})
	}
	name := n.Name()
	return tea.Batch(tea.SetClipboard(name), kit.Cmd(kit.Say{Text: "Copied: " + object.DisplayKey(name)}))
}
