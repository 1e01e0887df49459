package now

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/plan"
	"lumtra/core/proof"
	"lumtra/core/transfer"
	"lumtra/service"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
	"lumtra/tui/look"
)

var at = time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC)

// curve is a run's samples at an even rate, one a second.
func curve(seconds int, rate int64) (all []transfer.Sample) {
	for i := range seconds + 1 {
		all = append(all, transfer.Sample{At: time.Duration(i) * time.Second, Bytes: int64(i) * rate})
	}
	return all
}

// view is the view of some jobs, as of at.
func view(jobs ...kit.JobState) *Screen {
	for i := range jobs {
		if jobs[i].Job == nil {
			jobs[i].Job = &job.Job{Name: fmt.Sprintf("job-%d", i+1), Source: "studio", Target: "north"}
		}
	}
	return newScreen(&kit.Shared{Theme: look.New(look.Dark), State: kit.State{At: at, Jobs: jobs}})
}

func press(s *Screen, key string) tea.Cmd {
	codes := map[string]rune{"enter": tea.KeyEnter, "left": tea.KeyLeft, "right": tea.KeyRight}
	if code, ok := codes[key]; ok {
		return s.Update(tea.KeyPressMsg{Code: code})
	}
	return s.Update(tea.KeyPressMsg{Code: []rune(key)[0], Text: key})
}

func text(s *Screen) string { return ansi.Strip(s.Render(140, 30)) }

func ended(end history.End, ago time.Duration) history.Run {
	return history.Run{Plan: 3, Began: at.Add(-ago - 10*time.Second), Ended: at.Add(-ago), End: end, Objects: 12,
		Bytes: 20480, Samples: curve(10, 2048)}
}

// Each job says how it stands, and what its last run did.
func TestSummary(t *testing.T) {
	planned := &plan.Info{Number: 4}
	planned.Totals[plan.Add] = plan.Total{Count: 1500, Bytes: 1 << 20}
	running := func(bytes, count int64) *kit.Active {
		a := &kit.Active{}
		a.Planned, a.BeforeBytes, a.Bytes, a.Before, a.Objects, a.Failed,
			a.Began = plan.Total{Count: count, Bytes: bytes}, 25, 25, 1, 1, 2, at.Add(-time.Minute)
		return a
	}
	failed := ended(history.Failures, time.Minute)
	failed.Failed = 7
	proven := &workroom.Proof{Summary: &proof.Summary{Ended: at.Add(-time.Hour)}}
	not := &workroom.Proof{Summary: &proof.Summary{Objects: map[proof.Verdict]int64{proof.Different: 1}}}
	for _, c := range []struct {
		job         kit.JobState
		says, facts string
		notable     bool
	}{
		{kit.JobState{}, "not planned yet", "never proven", false},
		{kit.JobState{Plan: planned}, "plan 4, not run yet",
			"plan 4 · 1,500 objects to send · 1.0 MiB · never proven", false},
		{kit.JobState{Active: running(200, 8)}, "running, 25 % of bytes",
			"2 of 8 objects · 25 B of 200 B · 2 failed · never proven", true},
		{kit.JobState{Active: running(0, 8)}, "running, 25 % of objects",
			"2 of 8 objects · 25 B of 0 B · 2 failed · never proven", true},
		{kit.JobState{Runs: []history.Run{ended(history.Clean, time.Minute)}, Proof: proven}, "done 1 min 00 s ago",
			"plan 3 · 12 objects · 20 KiB in 10.0 s · 2.0 KiB/s · proven 1 h 00 min ago", false},
		{kit.JobState{Runs: []history.Run{failed}, Proof: not}, "done with failures 1 min 00 s ago",
			"plan 3 · 12 objects · 20 KiB in 10.0 s · 2.0 KiB/s · 7 failed · proof does not hold", true},
		{kit.JobState{Runs: []history.Run{ended(history.Interrupted, 0)}}, "interrupted just now",
			"plan 3 · 12 objects · 20 KiB in 10.0 s · 2.0 KiB/s · never proven", true},
	} {
		s := view(c.job)
		says, notable := s.summary(&s.State.Jobs[0])
		assert.Equal(t, c.says, says)
		assert.Equal(t, c.notable, notable, c.says)
		assert.Equal(t, c.facts, s.facts(&s.State.Jobs[0]))
		assert.Contains(t, text(s), kit.Fit(says, labelWidth)[:min(len(says), labelWidth-4)])
	}
}

// The present is one upright line two thirds across, whatever the zoom; what ran lies left
// of it where it was, and its end is marked.
func TestScale(t *testing.T) {
	s := view(kit.JobState{Runs: []history.Run{ended(history.Clean, 2*time.Minute)}})
	for zoom, span := range zooms {
		s.zoom = zoom
		sc := s.scale(90)
		assert.Equal(t, 60, sc.line)
		assert.InDelta(t, span.Seconds()/90, sc.step.Seconds(), 1e-6)
		for _, cell := range []int{-3, 0, 1, 59, 89} {
			assert.Equal(t, cell, sc.cell(sc.time(cell)), "cell %d of %s", cell, span)
		}
		assert.Equal(t, -1, sc.cell(sc.start.Add(-1)), "what lies before is outside")
		axis := ansi.Strip(sc.axis(s.Theme))
		assert.Equal(t, 90, ansi.StringWidth(axis))
		assert.Equal(t, 60, strings.Index(strings.ReplaceAll(axis, "╵", "'"), "│now"), axis)
		assert.GreaterOrEqual(t, strings.Count(axis, "╵"), 1, "the time is told")
	}
	s.zoom = 0
	sc := s.scale(90)
	bar := []rune(ansi.Strip(s.bar(&s.State.Jobs[0], sc)))
	require.Len(t, bar, 90)
	assert.Equal(t, "◗", string(bar[sc.cell(at.Add(-2*time.Minute))]))
	assert.Equal(t, "│", string(bar[60]))
	assert.Equal(t, strings.Repeat("·", 26), string(bar[:26]), "before it began there was nothing")
	assert.Equal(t, strings.Repeat("·", 29), string(bar[61:]), "and nothing is to come")
	assert.Contains(t, "░▒▓█", string(bar[28]), "it was at work")
	s.pan = time.Hour
	sc = s.scale(90)
	assert.Greater(t, sc.line, 90)
	assert.NotContains(t, ansi.Strip(sc.axis(s.Theme)), "now")
	assert.NotContains(t, ansi.Strip(s.bar(&s.State.Jobs[0], sc)), "│")
	assert.Empty(t, sc.blank(s.Theme))
	assert.Equal(t, "text ", sc.within(s.Theme, "text", 5))
}

// What runs is drawn up to the present, and how long it should take beyond it.
func TestRunningBar(t *testing.T) {
	a := &kit.Active{}
	a.Began, a.Samples, a.Bytes = at.Add(-time.Minute), curve(60, 100), 6000
	a.Planned.Bytes = 12000
	s := view(kit.JobState{Active: a, Runs: []history.Run{{End: history.Running, Began: a.Began}}})
	s.zoom = 0
	sc := s.scale(90) // 4 s a cell
	bar := []rune(ansi.Strip(s.bar(&s.State.Jobs[0], sc)))
	assert.Equal(t, strings.Repeat("█", 14), string(bar[46:60]), "an even rate is the highest there is")
	assert.Equal(t, "··", string(bar[43:45]))
	assert.Equal(t, strings.Repeat("┅", 15)+"··", string(bar[61:78]), "a minute is to come")
	assert.Contains(t, text(s), "running, 50 % of bytes")
}

// A rate is that of the whole span, also where a run filled a part of it.
func TestRateIn(t *testing.T) {
	samples := curve(10, 100)
	in := func(from, to int, running bool) float64 {
		return rateIn(samples, at, at.Add(time.Duration(from)*time.Second), at.Add(time.Duration(to)*time.Second),
			running)
	}
	assert.InDelta(t, 100, in(2, 4, false), 1e-9)
	assert.InDelta(t, 50, in(8, 12, false), 1e-9, "over by half")
	assert.InDelta(t, 100, in(8, 12, true), 1e-9, "not over yet")
	assert.InDelta(t, 50, in(-2, 2, false), 1e-9)
	assert.Zero(t, in(-4, -2, false))
	assert.Zero(t, in(12, 14, false))
	assert.Zero(t, rateIn(nil, at, at, at.Add(1), false))
	assert.InDelta(t, 250, bytesAt(samples, 2500*time.Millisecond), 1e-9)
	assert.InDelta(t, 1000, bytesAt(samples, time.Hour), 1e-9)
	assert.Equal(t, []float64{100, 100}, rateStrip(samples, 2))
	assert.Len(t, rateStrip(samples, 50), 10, "no more than was measured")
	assert.Nil(t, rateStrip(samples[:1], 5))
}

// The first state chooses a span in which every job's newest run is seen; after that it is
// a person's.
func TestFitsTheSpan(t *testing.T) {
	for ago, want := range map[time.Duration]string{0: "6 minutes", 5 * time.Minute: "30 minutes",
		time.Hour: "2 hours", 20 * time.Hour: "2 days", 90 * 24 * time.Hour: "3 months"} {
		s := view(kit.JobState{Runs: []history.Run{ended(history.Clean, ago), ended(history.Clean, 1000*time.Hour)}},
			kit.JobState{})
		s.Update(kit.StateMsg{State: s.State})
		assert.Equal(t, []string{want + " across"}, s.Crumbs(), "%s ago", ago)
		press(s, "-")
		zoom := s.zoom
		s.Update(kit.StateMsg{State: s.State})
		assert.Equal(t, zoom, s.zoom)
	}
}

// Keys lead where they say.
func TestKeys(t *testing.T) {
	a := &kit.Active{}
	s := view(kit.JobState{}, kit.JobState{Active: a})
	s.State.Needs = []kit.Need{{Job: "job-1", What: "\x1b[2Jnot whole", View: kit.Proof, Key: "6"}}
	open := func(key string) kit.Open {
		cmd := press(s, key)
		require.NotNil(t, cmd)
		msg, ok := cmd().(kit.Open)
		require.True(t, ok, "%s leads nowhere", key)
		return msg
	}
	assert.Equal(t, kit.Open{View: kit.Plan, Job: "job-1"}, open("enter"))
	press(s, "j")
	assert.Equal(t, "job-2", s.Job, "the other views follow")
	assert.Equal(t, kit.Open{View: kit.Run, Job: "job-2"}, open("enter"), "what runs is looked at")
	assert.NotNil(t, press(s, "p"))
	press(s, "j")
	assert.Equal(t, "job-1", s.Job, "a need is of a job, too")
	s.Update(kit.StateMsg{})
	assert.Equal(t, 2, s.cursor.At, "the cursor stays on the need")
	s.Choose("job-2", false)
	s.Update(kit.Opened{})
	assert.Equal(t, 1, s.cursor.At, "the job that was chosen elsewhere")
	press(s, "j")
	assert.Equal(t, kit.Open{View: kit.Proof, Job: "job-1"}, open("enter"))
	assert.Regexp(t, regexp.MustCompile(`▌ ▲ job-1 +\\x1b\[2Jnot whole   enter: Proof`), text(s))
	s.zoom = 0
	press(s, "+")
	assert.Equal(t, 0, s.zoom, "no nearer than the nearest")
	press(s, "-")
	assert.Equal(t, 1, s.zoom)
	press(s, "left")
	press(s, "left")
	press(s, "right")
	assert.Equal(t, zooms[1]/8, s.pan)
	press(s, "n")
	press(s, "right")
	assert.Equal(t, -zooms[1]/8, s.pan, "ahead of the present")
	press(s, "n")
	assert.Zero(t, s.pan)
	assert.Contains(t, text(s), "Needs you")
	s.State.Needs = nil
	assert.Contains(t, text(s), "Nothing needs you.")
	assert.Equal(t, kit.Say{Text: "Not here: there is no job yet."}, press(view(), "enter")())
	assert.False(t, s.Asks())
	assert.NotEmpty(t, s.Keys())
}

// Below the lanes stand the latest runs of the job under the cursor.
func TestPast(t *testing.T) {
	failed := ended(history.Failures, time.Hour)
	failed.Failed = 3
	s := view(kit.JobState{Runs: []history.Run{ended(history.Clean, time.Minute), failed}}, kit.JobState{})
	got := text(s)
	assert.Contains(t, got, "job-1  studio to north")
	assert.Regexp(t, regexp.MustCompile(`◗ done +12 objects +20 KiB +10\.0 s +█`), got)
	assert.Regexp(t, regexp.MustCompile(`▲ done with failures +12 objects .*3 failed`), got)
	press(s, "j")
	assert.Contains(t, text(s), "no run in the last month")
	s.Shared.Service = openService(t)
	s.State.Jobs = nil
	assert.Contains(t, text(s), "No jobs yet.")
	s.State.At = time.Time{}
	assert.Contains(t, text(s), "looking …")
}

func openService(t *testing.T) *service.Service {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/endpoints.toml", nil, 0o600))
	s, err := service.Open(workspace.Options{Workspace: dir, State: dir + "/state"})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}
