package cycle_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/compare"
	"lumtra/core/history"
	"lumtra/core/proof"
	"lumtra/service/cycle"
	"lumtra/service/runs"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// ran is a run that has ended.
type ran struct {
	runs.Run
	end history.End
}

func (r ran) Done() <-chan struct{} {
	done := make(chan struct{})
	close(done)
	return done
}

func (r ran) Wait() (history.Run, error) { return history.Run{End: r.end}, nil }

// house is a workspace with one job, from a to b, with further settings.
func house(t *testing.T, settings ...string) (dir string, room *workroom.Room, real *runs.Runner) {
	dir = t.TempDir()
	for name, text := range map[string]string{
		"endpoints.toml": "[endpoint.a]\nkind = \"folder\"\npath = \"a\"\n" +
			"[endpoint.b]\nkind = \"folder\"\npath = \"b\"\n",
		"jobs/masters.toml": "source = \"a\"\ntarget = \"b\"\n" + strings.Join(settings, "\n"), "a/dawn.wav": "dawn",
	} {
		put(t, dir, name, text)
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "b"), 0o755))
	ws, err := workspace.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state")})
	require.NoError(t, err)
	t.Cleanup(func() { ws.Life.End(); require.NoError(t, ws.Close()) })
	room = workroom.New(ws)
	return dir, room, runs.New(ws, room)
}

func put(t *testing.T, dir, name, text string) {
	path := filepath.Join(dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
}

// A run that was stopped is not proven; one that ended well or badly is.
func TestProvesWhatEnded(t *testing.T) {
	for end, want := range map[history.End]bool{history.Clean: true, history.Stopped: false, history.Failures: true} {
		_, room, _ := house(t)
		c := cycle.New(room, func(context.Context, string, workroom.RunOptions) (runs.Run, error) {
			return ran{end: end}, nil
		})
		proved := false
		policy := cycle.Policy{Prove: &workroom.ProveOptions{}}
		require.NoError(t, c.Go(t.Context(), "masters", policy, func(s cycle.Step) {
			_, is := s.(cycle.Proved)
			proved = proved || is
		}))
		assert.Equal(t, want, proved, end)
	}
}

// What people write while a run is under way is no difference to its proof, and is one to a proof of what is
// there; what the plan knew counts for both, also where another job has surveyed the source meanwhile.
func TestLiveSource(t *testing.T) {
	dir, room, real := house(t)
	put(t, dir, "a/dusk.wav", "dusk")
	c := cycle.New(room, func(ctx context.Context, job string, opts workroom.RunOptions) (runs.Run, error) {
		r, err := real.Start(ctx, job, opts)
		if err != nil {
			return nil, err
		}
		res, err := r.Wait()
		put(t, dir, "a/night.wav", "night")
		put(t, dir, "a/dusk.wav", "dusk, taken anew")
		if _, err := room.Survey(ctx, "a", &workroom.Activity{}); err != nil {
			return nil, err
		}
		return ran{end: res.End}, err
	})
	var p *workroom.Proof
	tell := func(s cycle.Step) {
		if s, is := s.(cycle.Proved); is {
			p = s.Proof
		}
	}
	require.NoError(t, c.Go(t.Context(), "masters", cycle.Policy{Prove: &workroom.ProveOptions{}}, tell))
	assert.Equal(t, map[proof.Verdict]int64{proof.Same: 1, proof.Since: 2}, p.Objects)
	assert.True(t, p.Holds())
	_, err := room.MendJob("masters")
	assert.ErrorContains(t, err, "no proof of this job found anything missing or different")

	require.NoError(t, c.Prove(t.Context(), "masters", 1, workroom.ProveOptions{}, tell))
	assert.Equal(t, map[proof.Verdict]int64{proof.Same: 1, proof.Missing: 1, proof.Different: 1}, p.Objects,
		"what its plan knew is not kept any more")
	assert.Zero(t, p.Plan)
	left, err := filepath.Glob(filepath.Join(dir, "state", "jobs", "masters", "plans", "planned-*"))
	require.NoError(t, err)
	assert.Empty(t, left)

	_, err = room.Plan(t.Context(), "masters", workroom.Freshness{Keep: true}, &workroom.Activity{})
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(dir, "b", "dawn.wav")))
	require.NoError(t, c.Prove(t.Context(), "masters", 2, workroom.ProveOptions{}, tell))
	assert.Equal(t, map[proof.Verdict]int64{proof.Missing: 2, proof.Different: 1}, p.Objects, "none was changed since")
	assert.Equal(t, 2, p.Plan)
}

// In a job that goes both ways people write at both sides while it runs: that is no difference to its proof. What the
// run itself has brought, at either side, is one where it is not what it should be.
func TestLiveBothWays(t *testing.T) {
	dir, room, real := house(t, `direction = "two-way"`)
	put(t, dir, "a/there.wav", "there")
	put(t, dir, "b/back.wav", "back")
	put(t, dir, "b/back too.wav", "back")
	spoil := func(name, text string) { // as a bad disk does: nothing else of it changes
		path := filepath.Join(dir, name)
		info, err := os.Stat(path)
		require.NoError(t, err)
		put(t, dir, name, text)
		require.NoError(t, os.Chtimes(path, info.ModTime(), info.ModTime()))
	}
	c := cycle.New(room, func(ctx context.Context, job string, opts workroom.RunOptions) (runs.Run, error) {
		r, err := real.Start(ctx, job, opts)
		if err != nil {
			return nil, err
		}
		res, err := r.Wait()
		put(t, dir, "b/dawn.wav", "dawn, cut")
		put(t, dir, "b/night.wav", "night")
		put(t, dir, "a/dusk.wav", "dusk")
		spoil("a/back.wav", "bakc")
		spoil("b/there.wav", "tehre")
		return ran{end: res.End}, err
	})
	var p *workroom.Proof
	policy := cycle.Policy{Prove: &workroom.ProveOptions{Method: compare.ByReadBack}}
	require.NoError(t, c.Go(t.Context(), "masters", policy, func(s cycle.Step) {
		if s, is := s.(cycle.Proved); is {
			p = s.Proof
		}
	}))
	assert.Equal(t, map[proof.Verdict]int64{proof.Same: 1, proof.Different: 2, proof.Since: 3}, p.Objects)
	lines, err := proof.ReadDifferences(p.Dir, 10)
	require.NoError(t, err)
	told := map[string]proof.Verdict{}
	for _, l := range lines {
		told[l.Key] = l.Verdict
	}
	assert.Equal(t, map[string]proof.Verdict{"back.wav": proof.Different, "there.wav": proof.Different,
		"dawn.wav": proof.Since, "night.wav": proof.Since, "dusk.wav": proof.Since}, told)
}
