package agenda

import (
	"context"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/history"
	"lumtra/core/schedule"
	"lumtra/core/starts"
	"lumtra/service/runs"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/testkit"
)

// steered is a run that notes how it is steered.
type steered struct {
	runs.Run
	mu    sync.Mutex
	did   []string
	ended chan struct{}
}

func (s *steered) Steer(x runs.Steer) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case x.Priority != "":
		s.did = append(s.did, "priority "+string(x.Priority))
	case x.Pause != nil && *x.Pause:
		s.did = append(s.did, "pause")
	case x.Pause != nil:
		s.did = append(s.did, "go on")
	case x.End != "":
		s.did = append(s.did, "end "+x.End)
		close(s.ended)
	}
	return nil
}

func (s *steered) Done() <-chan struct{} { return s.ended }

func (s *steered) is() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]string(nil), s.did...)
}

// at is an agenda of an empty workspace, with a clock that is set.
func at(t *testing.T, now *time.Time, mu *sync.Mutex) *Agenda {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "endpoints.toml"), nil, 0o644))
	ws, err := workspace.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state"),
		Now: func() time.Time {
			mu.Lock()
			defer mu.Unlock()
			return *now
		}})
	require.NoError(t, err)
	room := workroom.New(ws)
	a, err := Open(t.Context(), ws, room, runs.New(ws, room))
	require.NoError(t, err)
	t.Cleanup(func() { a.working.Wait(); require.NoError(t, a.Close()); require.NoError(t, ws.Close()) })
	return a
}

// When its window ends a run pauses and goes on when the next opens, or ends and is begun again then;
// one that may go on is left alone.
func TestAtWindowEnd(t *testing.T) {
	for end, want := range map[schedule.WindowEnd][]string{
		schedule.Pauses: {"priority high", "pause", "go on"}, schedule.Stops: {"priority high", "end finish"},
		schedule.GoesOn: {"priority high"},
	} {
		var mu sync.Mutex
		now := time.Date(2026, 3, 23, 5, 59, 0, 0, time.UTC)
		set := func(hour int) { mu.Lock(); now = time.Date(2026, 3, 23, hour, 30, 0, 0, time.UTC); mu.Unlock() }
		a := at(t, &now, &mu)
		j := timed(t, "masters", schedule.Settings{Zone: "UTC", Window: []string{"20:00-06:00"}, WindowEnd: end})
		j.When.Priority = "high"
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		r := &steered{ended: make(chan struct{})}
		a.steer(ctx, j, r)
		set(6)
		if len(want) > 1 {
			testkit.Becomes(t, 2, func() int { return len(r.is()) })
		}
		set(20)
		testkit.Becomes(t, len(want), func() int { return len(r.is()) })
		assert.Equal(t, want, r.is(), end)
		cancel()
		a.working.Wait()

		// How the start of such a run ends.
		set(7)
		row := a.ended(t.Context(), j, row(j.Name), &went{run: &history.Run{End: history.Stopped}}, nil)
		assert.Equal(t, "queued 2026-03-23 20:00", string(row.State)+" "+row.Due.UTC().Format("2006-01-02 15:04"))
		set(21)
		row = a.ended(t.Context(), j, row, &went{run: &history.Run{End: history.Stopped}}, nil)
		assert.EqualValues(t, "stopped", row.State, "by a person")
	}
}

func row(job string) starts.Row {
	return starts.Row{Job: job, Slot: monday, Cause: starts.ByTime, State: starts.AtWork, Due: monday}
}
