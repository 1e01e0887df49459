package frame

import (
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"testing"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/transfer"
	"lumtra/service/runs"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
	"lumtra/tui/look"
)

func raw(cmd tea.Cmd) string {
	if cmd == nil {
		return ""
	}
	if msg, ok := cmd().(tea.RawMsg); ok {
		return msg.Msg.(string)
	}
	return "no raw"
}

// A terminal takes pictures in full resolution where it says so, and where a person lets it.
func TestPicturesInFull(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		version string
		answers uv.PrimaryDeviceAttributesEvent
		want    kit.Pixels
	}{
		"neither":       {"screen 4", uv.PrimaryDeviceAttributesEvent{64, 1, 2, 22}, ""},
		"sixel":         {"XTerm(379)", uv.PrimaryDeviceAttributesEvent{63, 1, 4, 22}, kit.Sixel},
		"placed":        {"kitty(0.26)", uv.PrimaryDeviceAttributesEvent{62}, kit.Placed},
		"placed rather": {"WezTerm 2026", uv.PrimaryDeviceAttributesEvent{65, 4}, kit.Placed},
	} {
		t.Run(name, func(t *testing.T) {
			h := opened(t)
			h.m.update(tea.TerminalVersionMsg{Name: c.version})
			h.m.update(c.answers)
			assert.Equal(t, c.want, h.m.shared.Pixels)
			no := false
			h.m.shared.Preferences.Terminal.Pictures = &no
			h.m.pictures()
			assert.Empty(t, h.m.shared.Pixels)
		})
	}
}

// A picture is shown in full at a key where the terminal takes it, as many pixels as there are;
// elsewhere the key is not offered, and says why.
func TestThePictureInFull(t *testing.T) {
	t.Parallel()
	dir := copied(t, keyWorld(t))
	f, err := os.Create(filepath.Join(dir, "studio", "aa.png"))
	require.NoError(t, err)
	require.NoError(t, png.Encode(f, image.NewGray(image.Rect(0, 0, 1200, 300))))
	require.NoError(t, f.Close())
	x := openStage(t, dir)
	x.goes("~Needs you", "2", "~▸ studio", "j", "j", "enter", "~aa.png", "j", "~size", "p", "~png, 1200 × 300")
	assert.NotContains(t, x.look(), "full resolution")
	x.goes("enter", "~This terminal does not say")
	x.update(uv.PrimaryDeviceAttributesEvent{62, 4})
	x.goes("~enter the picture in full resolution")
	info, err := os.Stat(f.Name())
	require.NoError(t, err)
	e, at := object.Entry{Key: "aa.png", Size: info.Size()}, workspace.At{Endpoint: "studio", Key: "aa.png"}
	img, err := x.m.shared.Service.Picture(t.Context(), at, e, 500, 400)
	require.NoError(t, err)
	assert.Equal(t, image.Rect(0, 0, 500, 125), img.Bounds(), "its shape is kept")
}

// Somebody who looks elsewhere is told when a run ends or a person is needed: by a bell, or in
// words where the terminal said that it takes them; who looks on, or wants no notifications, is
// not told.
func TestNotifications(t *testing.T) {
	t.Parallel()
	h := opened(t)
	m, no := h.m, false
	running := kit.State{Jobs: []kit.JobState{{Job: &job.Job{Name: "masters"}, Active: &kit.Active{}}}}
	ended := kit.State{Jobs: []kit.JobState{{Job: &job.Job{Name: "masters"}, Runs: []history.Run{{End: history.Failures,
		Objects: 7, Failed: 2}}}}}
	needed := ended
	needed.Needs = []kit.Need{{Job: "masters", What: "2 failed\x1b[2J"}}
	step := func(was, is kit.State) string {
		m.shared.State = was
		return raw(m.take(is))
	}
	assert.Empty(t, step(running, ended), "they look on")
	m.update(tea.BlurMsg{})
	assert.Equal(t, "\a", step(running, ended))
	assert.Empty(t, step(running, running))
	assert.Empty(t, step(ended, ended))
	m.update(tea.TerminalVersionMsg{Name: "WezTerm 20260101"})
	assert.Equal(t, "\x1b]9;masters: done with failures, 7 objects, 2 failed\x1b\\", step(running, ended))
	assert.Equal(t, "\x1b]9;masters: 2 failed\\x1b[2J\x1b\\", step(ended, needed), "nothing from a store steers it")
	m.shared.Preferences.Terminal.Notify = &no
	assert.Empty(t, step(running, ended))
	assert.False(t, m.View().ReportFocus)
	m.shared.Preferences.Terminal.Notify = nil
	m.update(tea.FocusMsg{})
	assert.Empty(t, step(running, ended), "they look again")
}

// Title and progress bar tell how far the runs are, each where it may and can.
func TestTitleAndProgress(t *testing.T) {
	t.Parallel()
	h := opened(t)
	m, no := h.m, false
	title := m.View().WindowTitle
	assert.Regexp(t, "^Lumtra · ", title)
	assert.Nil(t, m.View().ProgressBar)
	at := func(done, of, failed int64) kit.JobState {
		return kit.JobState{Job: &job.Job{Name: "masters"}, Active: &kit.Active{State: runs.State{
			Snapshot: transfer.Snapshot{Bytes: done, Failed: failed}, Planned: plan.Total{Bytes: of}}}}
	}
	m.shared.State.Jobs = []kit.JobState{at(30, 60, 0), at(13, 40, 0)}
	assert.Equal(t, "43 % · "+title, m.View().WindowTitle)
	assert.Nil(t, m.View().ProgressBar, "a terminal that has not said so may show it as text")
	m.terminal.knows("ghostty 1.2", func(string) string { return "" })
	assert.Equal(t, tea.NewProgressBar(tea.ProgressBarDefault, 43), m.View().ProgressBar)
	m.shared.State.Jobs[0].Active.Failed = 1
	assert.Equal(t, tea.ProgressBarError, m.View().ProgressBar.State)
	m.shared.Preferences.Terminal.Progress, m.shared.Preferences.Terminal.Title = &no, &no
	assert.Nil(t, m.View().ProgressBar)
	assert.Empty(t, m.View().WindowTitle)
	other := terminal{}
	other.knows("XTerm(379)", func(string) string { return "" })
	assert.Equal(t, terminal{}, other)
	other.knows("", func(name string) string { return map[string]string{"WT_SESSION": "x"}[name] })
	assert.True(t, other.progress)
}

// A theme that brings its ground waits until the terminal has told its own, or had the time to:
// else the answer would be our ground, and the variant for light terminals never be chosen.
func TestGroundIsHeardFirst(t *testing.T) {
	m := opened(t).m
	m.grounded = false
	m.prefer(preferred{&job.Preferences{Theme: "contrast"}, nil})
	assert.Nil(t, m.View().BackgroundColor)
	m.update(tea.BackgroundColorMsg{Color: color.White})
	assert.Equal(t, look.Chosen(look.Light, "contrast").Ground, m.View().BackgroundColor)
	m.grounded = false
	m.update(groundLate{})
	assert.NotNil(t, m.View().BackgroundColor)
}

// The path of what was written is a link to the file, and plain where links are not wanted.
func TestWrittenPathsAreLinks(t *testing.T) {
	t.Parallel()
	h := opened(t)
	said := kit.Say{Text: "Written to /tmp/reeds 1.pdf", Link: "/tmp/reeds 1.pdf"}
	linked := h.m.linked(lipgloss.NewStyle(), said)
	assert.Regexp(t, `\x1b\]8;;file://[^/]*/tmp/reeds%201\.pdf`, linked)
	no := false
	h.m.shared.Preferences.Terminal.Links = &no
	assert.Equal(t, said.Text, h.m.linked(lipgloss.NewStyle(), said))
	assert.Equal(t, "Paused.", h.m.linked(lipgloss.NewStyle(), kit.Say{Text: "Paused."}))
}
