package run

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/ledger"
	"lumtra/core/pace"
	"lumtra/core/plan"
	"lumtra/core/transfer"
	"lumtra/service/runs"
	"lumtra/service/workroom"
	"lumtra/tui/kit"
	"lumtra/tui/look"
)

var at = time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC)

func view(j kit.JobState) *Screen {
	j.Job = &job.Job{Name: "masters"}
	return newScreen(context.Background(),
		&kit.Shared{Theme: look.New(look.Dark), State: kit.State{At: at, Jobs: []kit.JobState{j}}})
}

func press(s *Screen, key string) tea.Cmd {
	if codes := map[string]rune{"enter": tea.KeyEnter, "tab": tea.KeyTab, "esc": tea.KeyEscape}; codes[key] != 0 {
		return s.Update(tea.KeyPressMsg{Code: codes[key]})
	}
	return s.Update(tea.KeyPressMsg{Code: []rune(key)[0], Text: key})
}

func text(s *Screen, width int) string { return ansi.Strip(s.Render(width, 40)) }

// even is a run's samples at an even rate, five a second.
func even(seconds int, rate int64) (all []transfer.Sample) {
	for i := range seconds*5 + 1 {
		all = append(all, transfer.Sample{At: time.Duration(i) * 200 * time.Millisecond, Bytes: int64(i) * rate / 5,
			Read: int64(i) * rate / 5})
	}
	return all
}

// underWay is a run that goes on.
func underWay(change func(a *kit.Active)) *Screen {
	a := &kit.Active{State: runs.State{Plan: 3, Planned: plan.Total{Count: 10, Bytes: 1 << 20},
		Priority: runs.Priorities[0], Snapshot: transfer.Snapshot{
			Began: at.Add(-10 * time.Second), Objects: 4, Bytes: 10240, Samples: even(10, 1024),
			Steering: transfer.Steering{Streams: 8, Automatic: true}}}}
	if change != nil {
		change(a)
	}
	return view(kit.JobState{Active: a, Runs: []history.Run{{End: history.Running}}})
}

// The head tells what a run did and what it may use, and nothing that is not so.
func TestHead(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(a *kit.Active)
		says   []string
		not    []string
	}{
		{"plain", nil, []string{"▸ running · plan 3 · began", "10.0 s",
			"4 of 10 objects   10 KiB of 1.0 MiB   average 1.0 KiB/s   now 1.0 KiB/s", "ends about",
			"streams 8 (as many as help)   bandwidth none   priority"},
			[]string{"failed", "tried again", "done before", "unverified", "paused", "read", "background service"}},
		{"paused", func(a *kit.Active) { a.Steering.Paused = true }, []string{"paused; p goes on"}, nil},
		{"finishing", func(a *kit.Active) { a.Steering.Finishing, a.Steering.Paused = true, true },
			[]string{"ending when what is under way has arrived"}, []string{"paused"}},
		{"quiet", func(a *kit.Active) {
			a.Steering.Quiet, a.Limit.Quiet, a.Limiter, a.Until = true, true, "hours", at
		}, []string{"quiet hours, until " + at.Local().Format("15:04"), "bandwidth quiet (hours, until"}, nil},
		{"letting go", func(a *kit.Active) {
			a.Phase, a.SeenTo, a.Afterwards = transfer.SeeingTo, 3,
				plan.Total{Count: 7}
		}, []string{transfer.SeeingTo.String() + " 3 of 7", "3 handled at the source"}, nil},
		{"elsewhere", func(a *kit.Active) { a.Far = true }, []string{"in the background service"}, nil},
		{"limited", func(a *kit.Active) { a.Limit = pace.Limit{Rate: 2048}; a.Limiter = "north\x1b" },
			[]string{`bandwidth 2.0 KiB/s (north\x1b)`}, nil},
		{"by hand", func(a *kit.Active) { a.Steering.Automatic = false },
			[]string{"streams 8 (set by hand or by the job)"}, nil},
		{"its share", func(a *kit.Active) { a.Steering.Ceiling = 2 },
			[]string{"streams 2 (its share of the endpoint's)"}, nil},
		{"troubles", func(a *kit.Active) { a.Failed, a.Retries, a.Unverified = 2, 5, 1 },
			[]string{"▲ 2 failed", "5 tried again", "◆ 1 unverified"}, nil},
		{"gone on with", func(a *kit.Active) { a.Before, a.BeforeBytes = 3, 1<<20-20480 },
			[]string{"7 of 10 objects   10 KiB of 20 KiB", "3 were done before"}, nil},
		{"notes", func(a *kit.Active) { a.Notes = []string{"one", "two\x1b"} },
			[]string{`◆ two\x1b (and 1 more, in the log)`}, nil},
		{"one note", func(a *kit.Active) { a.Notes = []string{"one"} }, []string{"◆ one"},
			[]string{"more, in the log"}},
		{"more is read than arrives", func(a *kit.Active) {
			for i := range a.Samples {
				a.Samples[i].Read *= 30
			}
		}, []string{"now 1.0 KiB/s of 30 KiB/s read", "▔ read at the source: more than arrived"}, nil},
	} {
		s := underWay(c.change)
		got := text(s, 220)
		for _, says := range c.says {
			assert.Contains(t, got, says, c.name)
		}
		for _, not := range c.not {
			assert.NotContains(t, got, not, c.name)
		}
	}
	s := underWay(nil)
	s.Bits = true
	assert.Contains(t, text(s, 220), "now 8.1 kbit/s")
}

// A run that is over says how it ended in words that are true of that end.
func TestEnds(t *testing.T) {
	for end, says := range map[history.End]string{
		history.Clean: "Everything the plan named is at the target", history.Failures: "Not everything could be done",
		history.Stopped: "Stopped before its end",
		history.Broken:  "Broken off", history.Interrupted: "Its process ended without a word",
	} {
		s := view(kit.JobState{Runs: []history.Run{{Plan: 3, Began: at.Add(-time.Minute), Ended: at, End: end,
			Objects: 3, PlannedObjects: 4, Note: "the disk is full", Samples: even(4, 100)}}})
		got := text(s, 140)
		assert.Contains(t, got, says)
		assert.Contains(t, got, string(end)+" · plan 3")
		assert.Contains(t, got, "3 of 4 objects")
		assert.Contains(t, got, "the disk is full")
		assert.Equal(t, end == history.Clean, strings.Contains(got, "Everything the plan named"), string(end))
		assert.NotContains(t, got, "streams", "what is over has no limits")
	}
	s := view(kit.JobState{})
	assert.Contains(t, text(s, 140), "This job has not run yet.")
	s.starting["masters"] = true
	assert.Contains(t, text(s, 140), "▸ starting")
	s.Update(startedMsg{"masters", errors.New("it is running elsewhere")})
	assert.Contains(t, text(s, 140), "The run did not start: it is running elsewhere")
	s.Update(startedMsg{"masters", workroom.ErrNothingToDo})
	s.State.Jobs = nil
	assert.Contains(t, text(s, 140), "No job to run.")
	assert.Nil(t, press(s, "x"))
	assert.Empty(t, s.Keys())
}

func lasts(samples []transfer.Sample) time.Duration { return samples[len(samples)-1].At }

// Rates are of the time they span: the sum over the run is what was carried.
func TestRates(t *testing.T) {
	of := func(x *transfer.Sample) int64 { return x.Bytes }
	for _, v := range rates(even(20, 1000), 7, lasts(even(20, 1000)), of) {
		assert.InDelta(t, 1000, v, 1)
	}
	assert.Len(t, rates(even(20, 1000), 7, lasts(even(20, 1000)), of), 7)
	assert.Len(t, rates(even(20, 1000), 7, 2*lasts(even(20, 1000)), of), 4, "no more than has begun")
	assert.Len(t, rates(even(1, 1000), 100, lasts(even(1, 1000)), of), 100, "a short run has the whole width")
	burst := []transfer.Sample{{}, {At: time.Millisecond, Bytes: 1 << 20}, {At: time.Second, Bytes: 1 << 20}}
	assert.InDelta(t, 1<<20, rates(burst, 10, time.Second, of)[9], 1, "what went into buffers at once is no burst")
	assert.Nil(t, rates(burst[:1], 10, time.Second, of))
}

// The chart's top is the highest rate or a limit close above it; a limit far above is no
// news.
func TestChart(t *testing.T) {
	chart := func(limit float64) string {
		s := underWay(func(a *kit.Active) { a.Limit.Rate = limit })
		return ansi.Strip(strings.Join(s.chart(s.facts(&s.State.Jobs[0]), 60, 5), "\n"))
	}
	assert.Regexp(t, `1\.0 KiB/s ▏█+·+`, chart(0), "what is to come is hollow")
	assert.NotContains(t, chart(0), "╌")
	assert.Contains(t, chart(1500), "1.5 KiB/s ▏╌╌")
	assert.NotContains(t, chart(1e6), "╌")
	assert.Regexp(t, `limit ▏[█▀▔]+╌`, chart(300))
	assert.Contains(t, chart(0), "10.0 s")
}

// What is on its way is told with the parts that have most to tell.
func TestFlights(t *testing.T) {
	theme := look.New(look.Dark)
	strip := func(width int, states ...transfer.PartState) string {
		return ansi.Strip(partStrip(theme, &transfer.Flight{Parts: states}, width))
	}
	assert.Equal(t, "█▒!·", strip(4, transfer.Done, transfer.Moving, transfer.Again, transfer.Waiting))
	assert.Equal(t, "!·", strip(2, transfer.Moving, transfer.Again, transfer.Waiting, transfer.Done),
		"of two in a cell the one in trouble")
	assert.Equal(t, "▒█", strip(2, transfer.Done, transfer.Moving, transfer.Done, transfer.Done))
	assert.Equal(t, "██ ▒▒ ", strip(6, transfer.Done, transfer.Moving), "parts stand apart where there is room")
	assert.Equal(t, "▬▬··", ansi.Strip(partStrip(theme, &transfer.Flight{Size: 10, Sent: 5}, 4)))
	assert.Equal(t, "▬▬▬▬", ansi.Strip(partStrip(theme, &transfer.Flight{Size: 10, Sent: 50}, 4)),
		"sent anew is not more than all")
	assert.Equal(t, "····", ansi.Strip(partStrip(theme, &transfer.Flight{}, 4)))
	s := underWay(func(a *kit.Active) {
		a.Flights = []transfer.Flight{{Key: "tide\x1b.wav", Size: 2048, Sent: 1024, Tries: 3},
			{Key: "dawn.wav", Size: 1, Tries: 1}}
	})
	assert.Contains(t, text(s, 140), "In flight  2 objects")
	assert.Regexp(t, `tide\\x1b\.wav .* 1\.0 KiB of 2\.0 KiB +×3`, text(s, 140))
	assert.NotContains(t, text(s, 140), "×1")
}

// Where the streams' time went of late is drawn, with what it means.
func TestStages(t *testing.T) {
	s := underWay(nil)
	assert.Contains(t, text(s, 140), "nothing measured yet")
	for _, stage := range transfer.Stages {
		s := underWay(func(a *kit.Active) {
			a.Stages[transfer.Reading], a.Stages[stage] = time.Second, 3*time.Second
		})
		assert.Contains(t, text(s, 140), stage.HoldsBack())
	}
	s = underWay(func(a *kit.Active) { a.Stages[transfer.Reading] = 100 * time.Second })
	a := s.State.Jobs[0].Active
	step := func(by time.Duration, stage transfer.Stage) {
		s.Update(kit.StateMsg{State: s.State})
		s.State.At = s.State.At.Add(by)
		a.Stages[stage] += by
	}
	for range 8 {
		step(time.Second, transfer.Sending)
	}
	shares, known := s.stageShares("masters", a)
	require.True(t, known)
	assert.InDelta(t, 1, shares[transfer.Sending], 1e-9, "what was long ago is forgotten")
	assert.LessOrEqual(t, len(s.beats["masters"]), 7)
	a.Began = a.Began.Add(time.Second)
	s.Update(kit.StateMsg{State: s.State})
	assert.Len(t, s.beats["masters"], 1, "another run begins anew")
	s.State.Jobs[0].Active = nil
	s.Update(kit.StateMsg{State: s.State})
	assert.Empty(t, s.beats)
}

func TestSteps(t *testing.T) {
	assert.Equal(t, []int{10, 6, 2, 1, transfer.MaxStreams}, []int{stepStreams(8, true), stepStreams(8, false),
		stepStreams(1, true), stepStreams(1, false), stepStreams(transfer.MaxStreams, true)})
	bandwidth := func(limit float64, now int64, up bool) string {
		a := &runs.State{Limit: pace.Limit{Rate: limit}}
		if now > 0 {
			a.Samples = even(3, now)
		}
		return stepBandwidth(a, up)
	}
	assert.Equal(t, "free", bandwidth(0, 5e6, true), "there is nothing above no limit")
	assert.Equal(t, "free", bandwidth(0, 0, false), "of nothing there is no quarter")
	assert.Equal(t, pace.Rate(4e6), bandwidth(0, 5e6, false))
	assert.Equal(t, pace.Rate(1.3e7), bandwidth(1e7, 5e6, true))
	assert.Equal(t, pace.Rate(8e6), bandwidth(1e7, 5e6, false))
	assert.Equal(t, pace.Rate(1000), bandwidth(1000, 5e6, false), "never down to nothing")
	assert.Equal(t, "free", bandwidth(9e9, 5e6, true), "far above what comes is none")
}

// While a form to write is asked for, each key is its answer, and only one that is there
// writes.
func TestAsksForAForm(t *testing.T) {
	s := view(kit.JobState{Runs: []history.Run{{End: history.Clean, Began: at, Ended: at}}})
	press(s, "x")
	require.True(t, s.Asks())
	assert.Contains(t, text(s, 140), "1  the curve as a table (CSV)")
	assert.Contains(t, text(s, 140), "4  a report to print (PDF)")
	cmd := press(s, "5")
	require.NotNil(t, cmd)
	assert.Equal(t, kit.Say{Text: "Nothing was written."}, cmd())
	assert.False(t, s.Asks())
	press(s, "x")
	s.Update(kit.Opened{})
	assert.False(t, s.Asks(), "coming back asks nothing")
	assert.Equal(t, kit.Say{Text: "Not here: this job has not run yet."}, press(view(kit.JobState{}), "x")())
}

// Problems stand with what to do about them; the pane takes keys when it is gone to.
func TestProblems(t *testing.T) {
	s := underWay(func(a *kit.Active) {
		a.Problems = []transfer.Problem{{Cause: "north: \x1bdenied", Advice: "ask for the right to write",
			Count: 1200, Keys: []string{"a", "b", "c", "d"}}, {Cause: "other", Count: 1}}
	})
	for _, width := range []int{80, 150} {
		got := text(s, width)
		assert.Contains(t, got, `1,200 × north: \x1bdenied`)
		assert.Contains(t, got, "ask for the right to write")
	}
	assert.Contains(t, text(s, 150), "tab goes there")
	press(s, "tab")
	assert.Contains(t, text(s, 150), "▌ 1,200 ×")
	press(s, "j")
	assert.Contains(t, text(s, 150), "▌ 1 × other")
	press(s, "enter")
	s.Update(failuresMsg{job: "masters", cause: "another", found: []workroom.FailedObject{{}}})
	assert.Empty(t, s.side.found, "an answer to another question")
	failure := ledger.Failure{Why: "denied", Attempts: []ledger.Attempt{{At: at, Number: 1, Why: "slow"},
		{At: at, Number: 2, Why: "denied"}}}
	s.Update(failuresMsg{job: "masters", cause: "other",
		found: []workroom.FailedObject{{Key: "reeds.wav", Failure: failure}}})
	got := text(s, 150)
	assert.Contains(t, got, "reeds.wav")
	assert.Contains(t, got, "try 1  slow")
	assert.Contains(t, got, "try 2  denied")
	cmd := s.Update(failuresMsg{job: "masters", cause: "other", err: errors.New("unreadable")})
	assert.Equal(t, kit.Say{Text: "unreadable", Bad: true}, cmd())
	press(s, "esc")
	assert.Contains(t, text(s, 150), "▌ 1 × other", "back to the causes")
	press(s, "esc")
	assert.Contains(t, text(s, 150), "tab goes there")
	press(s, "tab")
	s.State.Jobs[0].Active.Problems = nil
	press(s, "x")
	assert.False(t, s.side.keys, "what is mended has no keys")
}
