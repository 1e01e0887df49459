package agenda

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/proof"
	"lumtra/core/starts"
	"lumtra/service/runs"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/testkit"
)

// house is a workspace with one job, and an agenda at work in it.
type house struct {
	t    *testing.T
	dir  string
	ws   *workspace.Keeper
	room *workroom.Room
	runs *runs.Runner
	a    *Agenda
	stop func()
}

func newHouse(t *testing.T, when string) *house {
	h := &house{t: t, dir: t.TempDir()}
	h.put("endpoints.toml",
		"[endpoint.a]\nkind = \"folder\"\npath = \"a\"\n[endpoint.b]\nkind = \"folder\"\npath = \"b\"\n")
	h.put("jobs/masters.toml",
		"source = \"a\"\ntarget = \"b\"\ntarget-only = \"delete\"\n[safety]\nempty-source = false\n"+
			"shrink = 100\n"+when+"[when.arrival]\nsettle = \"0s\"\n")
	h.put("a/dawn.wav", "dawn")
	h.put("b/.keep", "")
	require.NoError(t, os.Remove(filepath.Join(h.dir, "b", ".keep")))
	h.open()
	t.Cleanup(func() { h.close() })
	return h
}

func (h *house) put(name, text string) {
	path := filepath.Join(h.dir, name)
	require.NoError(h.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(h.t, os.WriteFile(path, []byte(text), 0o644))
}

func (h *house) open() {
	var err error
	h.ws, err = workspace.Open(workspace.Options{Workspace: h.dir, State: filepath.Join(h.dir, "state")})
	require.NoError(h.t, err)
	h.room = workroom.New(h.ws)
	h.runs = runs.New(h.ws, h.room)
	h.a, err = Open(h.t.Context(), h.ws, h.room, h.runs)
	require.NoError(h.t, err)
	ctx, cancel := context.WithCancel(h.t.Context())
	ended := make(chan error, 1)
	go func() { ended <- h.a.Run(ctx) }()
	h.stop = sync.OnceFunc(func() { cancel(); require.NoError(h.t, <-ended) })
}

func (h *house) close() {
	h.stop()
	h.ws.Life.End()
	require.NoError(h.t, h.a.Close())
	require.NoError(h.t, h.ws.Close())
}

// came has the job start, and gives its start when it is in a state.
func (h *house) came(state starts.State) (r starts.Row) {
	testkit.Until(h.t, func() bool { return h.a.Desk().Job("masters") != nil })
	require.NoError(h.t, h.a.Came(h.t.Context(), "something came", "masters"))
	return h.is(state)
}

// is waits until the newest start is in a state, and gives it.
func (h *house) is(state starts.State) (r starts.Row) {
	testkit.Until(h.t, func() bool {
		rows, err := h.a.book.Since(context.Background(), "masters", time.Time{}, 1)
		require.NoError(h.t, err)
		if len(rows) > 0 {
			r = rows[0]
		}
		return r.State == state
	}, func() any { return fmt.Sprintf("it is not %s: %+v", state, r) })
	return r
}

// A start goes all the way, its proof included; the next has nothing to do, which is well, too.
func TestAllTheWay(t *testing.T) {
	h := newHouse(t, "[when]\nstart = \"on arrival\"\nprove = true\n")
	r := h.came(starts.Done)
	assert.Equal(t, "1 object, 4 B", r.Note)
	assert.FileExists(t, filepath.Join(h.dir, "b", "dawn.wav"))
	p, err := h.room.LatestProof("masters")
	require.NoError(t, err)
	assert.True(t, p.Holds())
	assert.Equal(t, "nothing to do", h.came(starts.Done).Note)
}

// A job whose plans wait runs when a person runs its plan, and not before; its start is done by that.
func TestPlansThatWait(t *testing.T) {
	h := newHouse(t, "[when]\nstart = \"on arrival\"\nunattended = \"wait\"\napprove-within = \"12h\"\n")
	r := h.came(starts.Waiting)
	assert.Contains(t, r.Note, "the plan waits for a person to run it")
	assert.WithinDuration(t, time.Now().Add(12*time.Hour), r.Until, testkit.Patience)
	assert.NoFileExists(t, filepath.Join(h.dir, "b", "dawn.wav"))
	run, err := h.runs.Start(t.Context(), "masters", workroom.RunOptions{Number: r.Plan})
	require.NoError(t, err)
	_, err = run.Wait()
	require.NoError(t, err)
	assert.Equal(t, "approved by a person", h.is(starts.Done).Note)
}

// What a job's start was at when its keeper died is gone on with: a plan whose run had ended well is not
// carried out again; one that was made and not begun is made anew.
func TestTakenUpAgain(t *testing.T) {
	h := newHouse(t, "[when]\nstart = \"on arrival\"\n")
	r := h.came(starts.Done)
	back := r
	back.State = starts.AtWork // as if it had not heard of the end
	_, _, err := h.a.book.Move(t.Context(), starts.Done, back)
	require.NoError(t, err)
	h.close()
	h.put("a/dusk.wav", "dusk") // would go along, were it planned anew
	h.open()
	assert.Equal(t, "1 object, 4 B", h.is(starts.Done).Note)
	assert.NoFileExists(t, filepath.Join(h.dir, "b", "dusk.wav"))

	info, err := h.room.Plan(t.Context(), "masters", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	back.Slot, back.Plan = back.Slot.Add(time.Second), info.Number
	_, err = h.a.book.Look(t.Context(), nil, []starts.Row{back})
	require.NoError(t, err)
	h.close()
	require.NoError(t, os.Remove(filepath.Join(h.dir, "a", "dusk.wav")))
	h.put("a/night.wav", "night")
	h.open()
	assert.Greater(t, h.is(starts.Done).Plan, info.Number)
	assert.FileExists(t, filepath.Join(h.dir, "b", "night.wav"))
}

// A proof belongs to its start: one that was cut short is made when the start is gone on with, one of a
// run that a person approved is made by itself, and where there was nothing to do what it finds counts
// all the same.
func TestProofOfAStart(t *testing.T) {
	h := newHouse(t, "[when]\nstart = \"on arrival\"\nprove = true\n")
	info, err := h.room.Plan(t.Context(), "masters", workroom.Freshness{Keep: true}, &workroom.Activity{})
	require.NoError(t, err)
	run, err := h.runs.Start(t.Context(), "masters", workroom.RunOptions{Number: info.Number})
	require.NoError(t, err)
	_, err = run.Wait()
	require.NoError(t, err)
	r := starts.Row{Job: "masters", Slot: time.Now(), Cause: starts.ByArrival, State: starts.AtWork, Plan: info.Number}
	_, err = h.a.book.Look(t.Context(), nil, []starts.Row{r})
	require.NoError(t, err)
	h.close()
	h.put("a/dusk.wav", "dusk") // is none of its plan's affair
	h.open()
	assert.Equal(t, "1 object, 4 B", h.is(starts.Done).Note)
	p, err := h.room.LatestProof("masters")
	require.NoError(t, err)
	require.NotNil(t, p)
	assert.Equal(t, [3]int64{int64(r.Plan), 1, 1}, [3]int64{int64(p.Plan), p.Objects[proof.Same],
		p.Objects[proof.Since]})

	assert.Equal(t, "1 object, 4 B", h.came(starts.Done).Note)
	copied := filepath.Join(h.dir, "b", "dawn.wav")
	was, err := os.Stat(copied)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(copied, []byte("dusk"), 0o644)) // as long, and as old
	require.NoError(t, os.Chtimes(copied, was.ModTime(), was.ModTime()))
	assert.Equal(t, "nothing to do; but what is there is not what should be: the proof tells",
		h.came(starts.Failed).Note)

	h.put("jobs/masters.toml", "source = \"a\"\ntarget = \"b\"\n[when]\nstart = \"on arrival\"\nprove = true\n"+
		"unattended = \"wait\"\n[when.arrival]\nsettle = \"0s\"\n")
	h.close()
	h.open()
	w := h.came(starts.Waiting)
	run, err = h.runs.Start(t.Context(), "masters", workroom.RunOptions{Number: w.Plan})
	require.NoError(t, err)
	_, err = run.Wait()
	require.NoError(t, err)
	assert.Equal(t, "1 object, 4 B", h.is(starts.Done).Note)
	p, err = h.room.LatestProof("masters")
	require.NoError(t, err)
	assert.Equal(t, w.Plan, p.Plan)
	assert.True(t, p.Holds(), "%v", p.Objects)
}

// What a start may not do by itself waits for a person, and a failure is told as one.
func TestHeldAndFailed(t *testing.T) {
	h := newHouse(t, "deletions = 0\ndeletion-share = 0\n[when]\nstart = \"on arrival\"\n")
	h.put("b/only there.wav", "x")
	assert.Contains(t, h.came(starts.Waiting).Note, "held back by a safety limit")
	assert.FileExists(t, filepath.Join(h.dir, "b", "only there.wav"))
	require.NoError(t, os.RemoveAll(filepath.Join(h.dir, "a")))
	assert.NotEmpty(t, h.came(starts.Failed).Note)
}
