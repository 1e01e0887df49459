package service_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/history"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/report"
	"lumtra/service"
	"lumtra/service/remote"
	"lumtra/service/runs"
	"lumtra/service/state"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/testkit"
)

// What becomes of the source: only what is proven leaves, what changed since
// stays, the next plan finds the rest, and one place by two names is noticed.
func TestAfterwards(t *testing.T) {
	for _, afterwards := range []string{"delete", "archive"} {
		dir := prepared(t)
		put(t, dir, "jobs/masters.toml", "source = \"studio\"\ntarget = \"north/archive/masters\"\nafterwards = \""+
			afterwards+"\"\n")
		s := open(t, dir)
		require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
		north, err := s.Place(ctx, "north/archive/masters")
		require.NoError(t, err)
		// One is there already, judged the same by size and time, with other content.
		put(t, dir, "studio/twin.wav", "aaaa")
		require.NoError(t, os.Chtimes(filepath.Join(dir, "studio/twin.wav"), time.Time{}, time.Now().Add(-time.Hour)))
		_, err = north.Write(ctx, "twin.wav", strings.NewReader("bbbb"), 4, place.WriteOptions{})
		require.NoError(t, err)
		info := makePlan(t, s)
		assert.EqualValues(t, 41, info.Afterwards.Count)
		put(t, dir, "studio/x.wav", "changed since the plan")
		checks, err := s.Checks(ctx, "masters", info.Number)
		require.NoError(t, err)
		assert.Contains(t, found(checks, "afterwards"), "once its copy is proven by stored-checksum")
		r, err := s.StartRun(ctx, "masters", workroom.RunOptions{})
		require.NoError(t, err)
		res, err := r.Wait()
		require.NoError(t, err)
		assert.Equal(t, history.Failures, res.End)
		assert.EqualValues(t, 39, res.SeenTo)
		assert.EqualValues(t, 2, res.Failed, "%+v", res.Problems)
		var left []string
		for _, k := range keys(t, filepath.Join(dir, "studio")) {
			if !strings.HasPrefix(k, "_sent/") {
				left = append(left, k)
			}
		}
		assert.Equal(t, []string{"twin.wav", "x.wav"}, left)
		if afterwards == "archive" {
			assert.Len(t, keys(t, filepath.Join(dir, "studio/_sent", plan.Stamp(info.Job, info.Number, info.Made))), 39)
		}

		require.NoError(t, os.Remove(filepath.Join(dir, "studio/twin.wav")))
		info, res = run(t, s, "masters", workroom.Freshness{})
		assert.Equal(t, history.Clean, res.End)
		assert.EqualValues(t, 1, res.SeenTo)
		assert.EqualValues(t, 40, info.Totals[plan.Extra].Count, "what was moved stays there")
		info = makePlan(t, s)
		assert.True(t, info.Idle())
		assert.Empty(t, info.Held, "a source that was emptied by the job is no cause for worry")
	}
}

func found(checks []workroom.Check, name string) string {
	var all []string
	for _, c := range checks {
		if c.Name == name {
			all = append(all, c.Found)
		}
	}
	return strings.Join(all, "; ")
}

// The same bucket under two endpoints: nothing may leave.
func TestAfterwardsApart(t *testing.T) {
	dir := prepared(t)
	raw, err := os.ReadFile(filepath.Join(dir, "endpoints.toml"))
	require.NoError(t, err)
	put(t, dir, "endpoints.toml",
		string(raw)+strings.ReplaceAll(string(raw[strings.Index(string(raw), "[endpoint.north]"):]), "endpoint.north",
			"endpoint.mirror"))
	put(t, dir, "jobs/masters.toml",
		"source = \"north/archive/in\"\ntarget = \"mirror/archive/in\"\nafterwards = \"delete\"\n")
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	north, err := s.Place(ctx, "north/archive/in")
	require.NoError(t, err)
	_, err = north.Write(ctx, "a.wav", strings.NewReader("aa"), 2, place.WriteOptions{})
	require.NoError(t, err)
	info := makePlan(t, s)
	assert.EqualValues(t, 1, info.Afterwards.Count)
	r, err := s.StartRun(ctx, "masters", workroom.RunOptions{})
	require.NoError(t, err)
	res, err := r.Wait()
	assert.ErrorContains(t, err, "north/archive/in and mirror/archive/in are one place by two names")
	assert.Equal(t, history.Broken, res.End)
	_, err = north.Stat(ctx, object.Ref{Key: "a.wav"})
	assert.NoError(t, err)
}

// Tags go to what is sent, once, and a single object can be moved.
func TestAfterwardsTags(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "jobs/back.toml",
		"source = \"north/archive/in\"\ntarget = \"studio\"\nafterwards = \"tag\"\nsource-tags = { sent = \"yes\" }\n")
	put(t, dir, "jobs/one.toml",
		"source = \"north/archive/in/a.wav\"\ntarget = \"studio/one\"\nafterwards = \"delete\"\n")
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	north, err := s.Place(ctx, "north/archive/in")
	require.NoError(t, err)
	write := func(key, text string) {
		_, err := north.Write(ctx, key, strings.NewReader(text), int64(len(text)), place.WriteOptions{})
		require.NoError(t, err)
	}
	write("a.wav", "aa")
	write("b.wav", "bb")
	require.NoError(t, north.(place.Tagger).SetTags(ctx, object.Ref{Key: "a.wav"}, map[string]string{"who": "us"}))
	_, res := run(t, s, "back", workroom.Freshness{})
	assert.Equal(t, history.Clean, res.End)
	assert.EqualValues(t, 2, res.SeenTo)
	tags, err := north.(place.Tagger).Tags(ctx, object.Ref{Key: "a.wav"})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"who": "us", "sent": "yes"}, tags)
	write("c.wav", "cc")
	info, res := run(t, s, "back", workroom.Freshness{})
	assert.EqualValues(t, 1, info.Afterwards.Count)
	assert.EqualValues(t, 1, res.SeenTo)

	_, res = run(t, s, "one", workroom.Freshness{})
	assert.Equal(t, history.Clean, res.End, "%+v", res.Problems)
	_, err = north.Stat(ctx, object.Ref{Key: "a.wav"})
	assert.ErrorIs(t, err, os.ErrNotExist)
	assert.FileExists(t, filepath.Join(dir, "studio/one/a.wav"))
}

// A run keeps to quiet hours and to limits, its own and those of its endpoint,
// and can be steered: it gets nowhere until it may, and then to its end.
func TestSteering(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "jobs/masters.toml",
		"source = \"studio\"\ntarget = \"north/archive/masters\"\n[limits]\nbandwidth = [\"80 MB/s\", \"quiet\"]\n")
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	makePlan(t, s)
	r, err := s.StartRun(ctx, "masters", workroom.RunOptions{})
	require.NoError(t, err)
	assert.True(t, r.State().Limit.Quiet)
	assert.ErrorIs(t, s.Steer("masters", runs.Steer{Bandwidth: "fast"}), workspace.ErrBadInput)
	assert.ErrorIs(t, s.Steer("masters", runs.Steer{Priority: "urgent"}), workspace.ErrBadInput)
	assert.ErrorIs(t, s.Steer("other", runs.Steer{}), workspace.ErrBadInput)
	yes, no, streams := true, false, 3

	require.NoError(t, s.Steer("masters", runs.Steer{Pause: &yes, Streams: &streams, Priority: runs.High,
		Bandwidth: "1 B/s"}))
	testkit.Becomes(t, "1 B/s", func() string { return r.State().Limit.String() })
	assert.Equal(t, "by hand", r.State().Limiter)
	require.Never(t, func() bool { return r.State().Objects > 0 }, 100*time.Millisecond, 5*time.Millisecond, "paused")
	require.NoError(t, s.Steer("masters", runs.Steer{Pause: &no}))
	testkit.Until(t, func() bool { return len(r.State().Flights) > 0 }, func() any { return r.State() })
	assert.LessOrEqual(t, len(r.State().Flights), 3)

	require.NoError(t, s.Steer("masters", runs.Steer{End: "finish", Bandwidth: "free"}))
	res, err := r.Wait()
	require.NoError(t, err)
	assert.Equal(t, history.Stopped, res.End)
	assert.Less(t, res.Objects, int64(40))
	n, err := s.Resumable(ctx, "masters")
	require.NoError(t, err)
	assert.Equal(t, 1, n)

	// Two runs share what their endpoint allows: one byte a second between
	// them, and two streams each.
	put(t, dir, "jobs/masters.toml", "source = \"studio\"\ntarget = \"north/archive/masters\"\n")
	put(t, dir, "jobs/other.toml", "source = \"studio\"\ntarget = \"north/archive/other\"\n")
	raw, err := os.ReadFile(filepath.Join(dir, "endpoints.toml"))
	require.NoError(t, err)
	put(t, dir, "endpoints.toml", string(raw)+"bandwidth = [\"1 B/s\"]\nstreams = 4\n")
	two := open(t, dir)
	var both []runs.Run
	for _, job := range []string{"masters", "other"} {
		_, err := two.Plan(ctx, job, workroom.Freshness{}, &workroom.Activity{})
		require.NoError(t, err)
		r, err := two.StartRun(ctx, job, workroom.RunOptions{})
		require.NoError(t, err)
		both = append(both, r)
	}
	for _, r := range both {
		testkit.Until(t, func() bool { return len(r.State().Flights) > 0 }, func() any { return r.State() })
		assert.Equal(t, "north", r.State().Limiter)
		assert.Equal(t, 2, r.State().Steering.Ceiling)
	}
	for _, r := range both {
		require.NoError(t, r.Steer(runs.Steer{End: "now"}))
		<-r.Done()
	}
}

// A run of the background service goes on when the window that began it is
// gone, is seen and steered from another, and tells both how it ended; one
// begun in a window is handed over.
func TestBackground(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "jobs/masters.toml",
		"source = \"studio\"\ntarget = \"north/archive/masters\"\n[limits]\nbandwidth = [\"1 B/s\"]\n")
	put(t, dir, "jobs/second.toml",
		"source = \"studio\"\ntarget = \"north/archive/second\"\n[limits]\nbandwidth = [\"1 B/s\"]\n")
	serving, stop := context.WithCancel(ctx)
	defer stop()
	served := make(chan error, 1)
	back := open(t, dir)
	require.NoError(t, back.MakeBucket(ctx, "north", "archive"))
	begin := func() {
		go func() { served <- back.Serve(serving, service.ServeOptions{}) }()
	}
	first := open(t, dir)
	_, err := first.Plan(ctx, "second", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	assert.ErrorIs(t, first.HandOver(ctx), workspace.ErrBadInput)
	_, err = first.StartRun(ctx, "second", workroom.RunOptions{})
	require.NoError(t, err)
	begin()
	testkit.Until(t, func() bool { return first.Background(ctx) != nil })
	info, err := os.Stat(filepath.Join(dir, "state/service.sock"))
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	assert.ErrorIs(t, open(t, dir).Serve(ctx, service.ServeOptions{}), remote.ErrServed)

	_, err = first.StartRun(ctx, "masters", workroom.RunOptions{})
	assert.ErrorIs(t, err, workspace.ErrBadInput, "no plan yet, says the other process")
	makePlan(t, first)
	r, err := first.StartRun(ctx, "masters", workroom.RunOptions{})
	require.NoError(t, err)
	assert.True(t, r.State().Far)
	require.NoError(t, first.Steer("second", runs.Steer{Bandwidth: "free", Streams: new(int)}))
	require.NoError(t, first.HandOver(ctx)) // it may have ended meanwhile
	require.NoError(t, first.Close())
	_, err = r.Wait()
	assert.Error(t, err, "the window is gone")

	window := open(t, dir)
	window.Follow()
	testkit.Until(t, func() bool {
		a := window.Active("masters")
		return a != nil && len(a.State().Flights) > 0
	})
	r = window.Active("masters")
	assert.True(t, r.State().Far)
	assert.EqualValues(t, 40, r.State().Planned.Count)
	assert.Equal(t, "1 B/s", r.State().Limit.String())
	_, err = window.StartRun(ctx, "masters", workroom.RunOptions{})
	assert.ErrorIs(t, err, state.ErrBusy)
	assert.ErrorIs(t, window.Steer("masters", runs.Steer{Bandwidth: "fast"}), workspace.ErrBadInput)
	require.NoError(t, window.Steer("masters", runs.Steer{Bandwidth: "free"}))
	res, err := r.Wait()
	require.NoError(t, err)
	assert.Equal(t, history.Clean, res.End)
	assert.EqualValues(t, 40, res.Objects)
	testkit.Becomes(t, history.Clean, func() history.End {
		runs, err := window.Runs(ctx, "second", time.Time{}, 1)
		require.NoError(t, err)
		return runs[0].End
	})
	stop()
	assert.NoError(t, <-served)
	assert.Nil(t, window.Background(ctx))
}

// A proof that does not hold becomes a job that sends the difference and nothing
// else, whatever the names are.
func TestMend(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "studio/odd [1]{x}*?\\.wav", "odd")
	put(t, dir, "jobs/masters.toml", "source = \"studio\"\ntarget = \"north/archive/masters\"\nwhen-different = "+
		"\"skip\"\n")
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	run(t, s, "masters", workroom.Freshness{})
	_, err := s.MendJob("masters")
	assert.ErrorIs(t, err, workspace.ErrBadInput, "nothing was proven")
	north, err := s.Place(ctx, "north/archive/masters")
	require.NoError(t, err)
	_, err = north.Write(ctx, "odd [1]{x}*?\\.wav", strings.NewReader("ood"), 3, place.WriteOptions{})
	require.NoError(t, err)
	require.NoError(t, north.Remove(ctx, object.Ref{Key: "xx.wav"})[0])
	p, err := s.Prove(ctx, "masters", workroom.ProveOptions{}, &workroom.Activity{})
	require.NoError(t, err)
	assert.False(t, p.Holds())
	path, err := s.ExportProofTo(dir, p, report.PDF)
	require.NoError(t, err)
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(raw), "%PDF-"))
	mend, err := s.MendJob("masters")
	require.NoError(t, err)
	assert.Equal(t, "masters-mend-1", mend)
	info, res := run(t, s, mend, workroom.Freshness{})
	assert.Equal(t, history.Clean, res.End)
	assert.EqualValues(t, 2, res.Objects)
	assert.EqualValues(t, 2, info.Selected.Count)
	p, err = s.Prove(ctx, "masters", workroom.ProveOptions{}, &workroom.Activity{})
	require.NoError(t, err)
	assert.True(t, p.Holds())
	path, err = s.ExportRunTo(dir, res, report.SVG)
	require.NoError(t, err)
	raw, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "<svg")
}
