package notifier

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/history"
	"lumtra/core/notify"
	"lumtra/core/starts"
	"lumtra/service/agenda"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// world is a workspace with a clock of its own, and a notifier in it.
type world struct {
	t    *testing.T
	dir  string
	now  time.Time
	ws   *workspace.Keeper
	n    *Notifier
	told string
}

func newWorld(t *testing.T, settings string) *world {
	x := &world{t: t, dir: t.TempDir(), now: time.Date(2026, 3, 23, 2, 0, 0, 0, time.UTC)}
	x.told = filepath.Join(x.dir, "told.jsonl")
	put := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(x.dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(x.dir, name), []byte(text), 0o644))
	}
	put("endpoints.toml", "title = \"Saltmarsh\"\n[endpoint.a]\nkind = \"folder\"\npath = \"a\"\n")
	put("jobs/masters.toml", "source = \"a/x\"\ntarget = \"a/y\"\n[when]\nstart = \"daily at 01:30\"\n")
	put("service.toml", fmt.Sprintf("[notify.me]\nkind = \"command\"\ncommand = [\"tee\", \"-a\", %q]\n%s", x.told,
		settings))
	x.open()
	t.Cleanup(func() { x.close() })
	return x
}

func (x *world) open() {
	var err error
	x.ws, err = workspace.Open(workspace.Options{Workspace: x.dir, State: filepath.Join(x.dir, "state"), Trust: true,
		Now: func() time.Time { return x.now }})
	require.NoError(x.t, err)
	x.n, err = Open(x.t.Context(), x.ws, workroom.New(x.ws))
	require.NoError(x.t, err)
}

func (x *world) close() {
	require.NoError(x.t, errors.Join(x.n.Close(), x.ws.Close()))
}

// ran writes a run into the history, as if it had just ended.
func (x *world) ran(end history.End) {
	db, err := x.ws.History()
	require.NoError(x.t, err)
	r := history.Run{Job: "masters", Plan: 1, Began: x.now.Add(-time.Minute)}
	require.NoError(x.t, db.Begin(x.t.Context(), &r))
	r.End, r.Ended, r.Objects, r.Failed = end, x.now, 9, map[history.End]int64{history.Failures: 2}[end]
	require.NoError(x.t, db.Save(x.t.Context(), &r))
}

// row writes a start into the book.
func (x *world) row(r starts.Row) {
	book, err := starts.Open(x.ws.Dir.Path(starts.FileName))
	require.NoError(x.t, err)
	r.Job, r.Cause, r.Due, r.Moved = "masters", starts.ByTime, r.Slot, x.now
	_, err = book.Look(x.t.Context(), nil, []starts.Row{r})
	require.NoError(x.t, errors.Join(err, book.Close()))
}

// turn goes through what happened and sends what is due, some seconds later too.
func (x *world) turn() {
	for range 2 {
		_, err := x.n.turn(x.t.Context())
		require.NoError(x.t, err)
		x.now = x.now.Add(6 * time.Second)
	}
	_, err := x.n.turn(x.t.Context())
	require.NoError(x.t, err)
}

// heard are the kinds of what was told, those in one message too, since it was asked last.
func (x *world) heard() (kinds []notify.Kind) {
	raw, _ := os.ReadFile(x.told)
	_ = os.Remove(x.told)
	for line := range strings.Lines(string(raw)) {
		var m notify.Message
		require.NoError(x.t, json.Unmarshal([]byte(line), &m))
		if len(m.Items) == 0 {
			kinds = append(kinds, m.Kind)
		}
		for _, i := range m.Items {
			kinds = append(kinds, i.Kind)
		}
	}
	return kinds
}

// Failures are told, and the first success after them; a success as usual is not unless asked for; and
// nothing is told twice, whoever is killed in between.
func TestRunsAreTold(t *testing.T) {
	x := newWorld(t, "")
	x.now = x.now.Add(-48 * time.Hour)
	x.ran(history.Failures) // before anybody was to be told
	x.now = x.now.Add(48 * time.Hour)
	db, err := x.ws.History()
	require.NoError(t, err)
	under := history.Run{Job: "masters", Plan: 1, Pid: os.Getpid(), Began: x.now.Add(-time.Second)}
	require.NoError(t, db.Begin(t.Context(), &under))
	x.turn()
	assert.Empty(t, x.heard())
	x.now = x.now.Add(time.Second)
	under.End, under.Ended = history.Clean, x.now
	require.NoError(t, db.Save(t.Context(), &under))
	x.turn()
	said, err := os.ReadFile(x.told)
	require.NoError(t, err)
	assert.Contains(t, string(said), "masters ended well again")
	assert.Equal(t, []notify.Kind{notify.Recovery}, x.heard())
	x.now = x.now.Add(time.Hour)
	x.ran(history.Clean)
	x.turn()
	assert.Empty(t, x.heard())
	x.now = x.now.Add(time.Hour)
	x.ran(history.Failures)
	x.turn()
	assert.Equal(t, []notify.Kind{notify.Failure}, x.heard())
	x.now = x.now.Add(time.Minute)
	x.ran(history.Clean)
	x.close() // dies before it has looked
	x.open()
	x.turn()
	assert.Equal(t, []notify.Kind{notify.Recovery}, x.heard())
	x.now = x.now.Add(time.Minute)
	x.ran(history.Stopped)
	x.ran(history.Clean)
	x.turn()
	x.close()
	x.open()
	x.turn()
	assert.Empty(t, x.heard())
}

// A plan that waits is told once, however often the next start takes its place; starts that were missed
// together are one message; one whose wait was over is told.
func TestStartsAreTold(t *testing.T) {
	x := newWorld(t, "")
	slot := x.now
	for i := range 5 {
		x.row(starts.Row{Slot: slot.Add(time.Duration(i) * time.Minute), State: starts.Missed})
	}
	x.turn()
	assert.Equal(t, []notify.Kind{notify.Missed}, x.heard())
	x.row(starts.Row{Slot: slot.Add(10 * time.Minute), State: starts.Skipped, Note: agenda.Superseded + ": held"})
	x.row(starts.Row{Slot: slot.Add(20 * time.Minute), State: starts.Waiting, Until: x.now.Add(time.Hour),
		Note: "held"})
	x.turn()
	text, err := os.ReadFile(x.told)
	require.NoError(t, err)
	for _, part := range []string{"held", "lumtra plan masters --effects", "It waits until ", "and is skipped then."} {
		assert.Contains(t, string(text), part)
	}
	assert.Equal(t, []notify.Kind{notify.Guard}, x.heard())
	x.row(starts.Row{Slot: slot.Add(30 * time.Minute), State: starts.Done})
	x.row(starts.Row{Slot: slot.Add(40 * time.Minute), State: starts.Waiting, Note: "held"})
	x.turn()
	assert.Equal(t, []notify.Kind{notify.Guard}, x.heard(), "another one, later")
	x.row(starts.Row{Slot: slot.Add(5 * time.Minute), State: starts.Skipped, Note: "the job was still at work"})
	x.row(starts.Row{Slot: slot.Add(6 * time.Minute), State: starts.Skipped, Until: x.now, Note: "nobody approved it"})
	x.turn()
	assert.Equal(t, []notify.Kind{notify.Missed}, x.heard())
}

// A job that has not ended well for as long as somebody asked is told, once, and again only after it
// did.
func TestSilence(t *testing.T) {
	x := newWorld(t, "silence = \"26h\"\n")
	x.turn()
	assert.Empty(t, x.heard())
	x.close() // the service is down for days
	x.now = x.now.Add(3 * 24 * time.Hour)
	x.open()
	x.turn()
	assert.Equal(t, []notify.Kind{notify.Silence}, x.heard())
	x.now = x.now.Add(24 * time.Hour)
	x.turn()
	assert.Empty(t, x.heard(), "once")
	x.ran(history.Clean)
	x.now = x.now.Add(27 * time.Hour)
	x.turn()
	assert.Equal(t, []notify.Kind{notify.Silence}, x.heard())
	x.row(starts.Row{Slot: x.now, State: starts.Done, Note: "nothing to do"})
	x.now = x.now.Add(20 * time.Hour)
	x.turn()
	assert.Empty(t, x.heard(), "nothing to do is well")
}

// A target that holds what is older than somebody asked for is told, by when the last good run began: however
// late that ended.
func TestLag(t *testing.T) {
	x := newWorld(t, "lag = \"2h\"\n")
	x.ran(history.Clean)
	x.turn()
	assert.Empty(t, x.heard())
	x.now = x.now.Add(90 * time.Minute)
	x.row(starts.Row{Slot: x.now.Add(-5 * time.Hour), Due: x.now.Add(-3 * time.Hour), State: starts.Done})
	x.turn()
	assert.Empty(t, x.heard(), "a start that began before it, and ended later, changes nothing")
	x.now = x.now.Add(40 * time.Minute)
	x.turn()
	assert.Equal(t, []notify.Kind{notify.Lag}, x.heard())
	x.now = x.now.Add(10 * time.Hour)
	x.turn()
	assert.Empty(t, x.heard(), "once")
	x.row(starts.Row{Slot: x.now, Due: x.now, State: starts.Done, Note: "nothing to do"})
	x.now = x.now.Add(119 * time.Minute)
	x.turn()
	assert.Empty(t, x.heard())
	x.now = x.now.Add(2 * time.Minute)
	x.turn()
	assert.Equal(t, []notify.Kind{notify.Lag}, x.heard())
}

// A digest holds all of a day until its time.
func TestDigest(t *testing.T) {
	x := newWorld(t, "digest = \"daily at 08:00\"\non = [\"success\", \"failure\"]\n")
	for range 3 {
		x.ran(history.Clean)
		x.now = x.now.Add(time.Minute)
	}
	x.turn()
	assert.Empty(t, x.heard())
	x.now = time.Date(2026, 3, 23, 8, 0, 1, 0, time.Local)
	if x.now.Before(time.Date(2026, 3, 23, 2, 10, 0, 0, time.UTC)) {
		x.now = x.now.AddDate(0, 0, 1)
	}
	x.turn()
	assert.Len(t, x.heard(), 3)
}

// A receiver that fails is tried again; nobody's settings are used before a person let them.
func TestUnconfirmed(t *testing.T) {
	x := newWorld(t, "")
	x.close()
	var err error
	x.ws, err = workspace.Open(workspace.Options{Workspace: x.dir, State: filepath.Join(x.dir, "state-2"),
		Now: func() time.Time { return x.now }})
	require.NoError(t, err)
	x.n, err = Open(t.Context(), x.ws, workroom.New(x.ws))
	require.NoError(t, err)
	x.ran(history.Failures)
	x.turn()
	assert.Empty(t, x.heard())
	box, err := notify.OpenOutbox(x.ws.Dir.Path(OutboxName))
	require.NoError(t, err)
	all, err := box.List(t.Context(), 10)
	require.NoError(t, errors.Join(err, box.Close()))
	require.Len(t, all, 1)
	assert.Equal(t, "waiting", all[0].State)
	assert.Contains(t, all[0].Error, "not confirmed")
}
