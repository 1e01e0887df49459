package service_test

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"lumtra/core/history"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/proof"
	"lumtra/service"
	"lumtra/service/runs"
	"lumtra/service/state"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/testkit"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

var ctx = context.Background()

// open opens a workspace with a folder endpoint and a slow practice store.
func open(t *testing.T, dir string) *service.Service {
	log, err := os.OpenFile(filepath.Join(dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	s, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state"),
		Log: slog.New(slog.NewTextHandler(log, nil))})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()); log.Close() })
	return s
}

func put(t *testing.T, dir, name, text string) {
	path := filepath.Join(dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
}

const secretText = "samphire-and-sea-aster"

func prepared(t *testing.T) string {
	dir := t.TempDir()
	put(t, dir, "endpoints.toml", `
[endpoint.studio]
kind = "folder"
path = "studio"
[endpoint.north]
kind = "s3"
stand-in = "north"
access-key = "saltmarsh"
secret-from = "file:north.secret"
latency = "5ms"
`)
	put(t, dir, "north.secret", secretText+"\n")
	put(t, dir, "jobs/masters.toml", "source = \"studio\"\ntarget = \"north/archive/masters\"\n[limits]\nstreams = 2\n")
	for i := range 40 {
		put(t, dir, "studio/"+strings.Repeat("x", i+1)+".wav", strings.Repeat("wave ", i))
	}
	return dir
}

// slow has the job masters take some seconds, so that it can be stopped on the way.
func slow(t *testing.T, dir string) {
	put(t, dir, "jobs/masters.toml", "source = \"studio\"\ntarget = \"north/archive/masters\"\n[limits]\nstreams = 2\n"+
		"bandwidth = [\"500 B/s\"]\n")
}

func makePlan(t *testing.T, s *service.Service) plan.Info {
	info, err := s.Plan(ctx, "masters", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	return info
}

// A run stopped half-way can be gone on with, also by another process; a run
// that ended cannot; a plan whose job has changed is not run at all.
func TestRunsGoOnWhereTheyMay(t *testing.T) {
	dir := prepared(t)
	slow(t, dir)
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	_, err := s.StartRun(ctx, "masters", workroom.RunOptions{})
	assert.ErrorIs(t, err, workspace.ErrBadInput, "no plan yet")
	info := makePlan(t, s)
	assert.EqualValues(t, 40, info.Totals[plan.Add].Count)
	n, err := s.Resumable(ctx, "masters")
	require.NoError(t, err)
	assert.Zero(t, n, "never begun")

	r, err := s.StartRun(ctx, "masters", workroom.RunOptions{Number: 1})
	require.NoError(t, err)
	other := open(t, dir) // as another process would; it finds the stand-in running
	_, err = other.StartRun(ctx, "masters", workroom.RunOptions{Number: 1})
	assert.ErrorIs(t, err, state.ErrBusy)
	testkit.Until(t, func() bool { return r.State().Objects > 0 }, func() any { return r.State() })
	r.Stop()
	first, err := r.Wait()
	require.NoError(t, err)
	assert.Equal(t, history.Stopped, first.End)
	assert.Nil(t, s.Active("masters"))

	n, err = other.Resumable(ctx, "masters")
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	r, err = other.StartRun(ctx, "masters", workroom.RunOptions{Number: n})
	require.NoError(t, err)
	require.NoError(t, r.Steer(runs.Steer{Bandwidth: "free"}))
	second, err := r.Wait()
	require.NoError(t, err)
	assert.Equal(t, history.Clean, second.End)
	assert.EqualValues(t, 40, first.Objects+second.Objects)
	assert.Equal(t, first.Objects, second.Before)
	n, err = s.Resumable(ctx, "masters")
	require.NoError(t, err)
	assert.Zero(t, n)
	_, err = s.StartRun(ctx, "masters", workroom.RunOptions{Number: 1})
	assert.ErrorIs(t, err, workroom.ErrNothingToDo)

	runs, err := s.Runs(ctx, "masters", time.Time{}, 10)
	require.NoError(t, err)
	require.Len(t, runs, 2)
	assert.Equal(t, history.Clean, runs[0].End)
	assert.NotEmpty(t, runs[0].Samples)

	p, err := s.Prove(ctx, "masters", workroom.ProveOptions{}, &workroom.Activity{})
	require.NoError(t, err)
	assert.True(t, p.Holds())
	assert.EqualValues(t, 40, p.Objects[proof.Same])

	put(t, dir, "studio/new.wav", "new")
	makePlan(t, s)
	put(t, dir, "jobs/masters.toml", "source = \"studio\"\ntarget = \"north/archive/elsewhere\"\n")
	changed := open(t, dir)
	_, err = changed.StartRun(ctx, "masters", workroom.RunOptions{Number: 2})
	assert.ErrorContains(t, err, "has changed since plan 2")

	// Whatever was kept along the way, the secret is not in it.
	require.NoError(t, filepath.WalkDir(filepath.Join(dir, "state"), func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		raw, err := os.ReadFile(path)
		assert.NotContains(t, string(raw), secretText, path)
		return err
	}))
	log, err := os.ReadFile(filepath.Join(dir, "log"))
	require.NoError(t, err)
	assert.Contains(t, string(log), "run ended")
	assert.NotContains(t, string(log), secretText)
}

// Closing the service stops what runs, and keeps what was done.
func TestCloseStopsRuns(t *testing.T) {
	dir := prepared(t)
	slow(t, dir)
	log := filepath.Join(dir, "state")
	s, err := service.Open(workspace.Options{Workspace: dir, State: log})
	require.NoError(t, err)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	makePlan(t, s)
	r, err := s.StartRun(ctx, "masters", workroom.RunOptions{})
	require.NoError(t, err)
	require.NoError(t, s.Close())
	res, err := r.Wait()
	require.NoError(t, err)
	assert.Equal(t, history.Stopped, res.End)
	_, err = s.StartRun(ctx, "masters", workroom.RunOptions{})
	assert.Error(t, err)
}

// A run whose process died without a word was interrupted, after what its ledger says.
func TestLostRun(t *testing.T) {
	dir := prepared(t)
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	makePlan(t, s)
	db, err := history.Open(filepath.Join(dir, "state", "history.db"))
	require.NoError(t, err)
	require.NoError(t, db.Begin(ctx, &history.Run{Job: "masters", Plan: 1, Began: time.Now(), PlannedObjects: 40,
		Pid: 1 << 30}))
	require.NoError(t, db.Close())
	runs, err := s.Runs(ctx, "", time.Time{}, 10)
	require.NoError(t, err)
	require.Len(t, runs, 1)
	assert.Equal(t, history.Interrupted, runs[0].End)
	n, err := s.Resumable(ctx, "masters")
	require.NoError(t, err)
	assert.Equal(t, 1, n)
}

// What a stopped run left half-sent is removed when a newer plan is run.
func TestOldUploadsAreDropped(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "jobs/masters.toml",
		"source = \"studio\"\ntarget = \"north/archive/masters\"\n[limits]\nstreams = 1\npart-size = \"5MiB\"\n"+
			"bandwidth = [\"8 MB/s\"]\n")
	put(t, dir, "studio/00 dawn.wav", strings.Repeat("dawn", 8<<20))
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	makePlan(t, s)
	r, err := s.StartRun(ctx, "masters", workroom.RunOptions{})
	require.NoError(t, err)
	testkit.Until(t, func() bool { return len(r.State().Flights) > 0 && r.State().Bytes >= 6<<20 },
		func() any { return r.State() })
	r.Stop()
	_, err = r.Wait()
	require.NoError(t, err)
	p, err := s.Place(ctx, "north/archive/masters")
	require.NoError(t, err)
	ups, err := p.(place.PartWriter).Uploads(ctx)
	require.NoError(t, err)
	require.Len(t, ups, 1, "left for the next run of the plan")
	require.NoError(t, os.Remove(filepath.Join(dir, "studio/00 dawn.wav")))
	makePlan(t, s)
	r, err = s.StartRun(ctx, "masters", workroom.RunOptions{})
	require.NoError(t, err)
	_, err = r.Wait()
	require.NoError(t, err)
	ups, err = p.(place.PartWriter).Uploads(ctx)
	require.NoError(t, err)
	assert.Empty(t, ups)
}

// The counts of an interrupted run are its ledger's, though the history was told less.
func TestInterruptedRunIsCounted(t *testing.T) {
	dir := prepared(t)
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	_, res := run(t, s, "masters", workroom.Freshness{})
	require.EqualValues(t, 40, res.Objects)
	db, err := history.Open(filepath.Join(dir, "state", "history.db"))
	require.NoError(t, err)
	lost := history.Run{Job: "masters", Plan: res.Plan, Began: time.Now(), PlannedObjects: 40, Pid: 1 << 30}
	require.NoError(t, db.Begin(ctx, &lost))
	require.NoError(t, db.Close())
	for range 2 {
		runs, err := s.Runs(ctx, "masters", time.Time{}, 10)
		require.NoError(t, err)
		assert.Equal(t, [3]any{history.Interrupted, res.Objects, res.Bytes},
			[3]any{runs[0].End, runs[0].Objects, runs[0].Bytes})
	}
}
