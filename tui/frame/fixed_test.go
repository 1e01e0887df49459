package frame

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/compare"
	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/proof"
	"lumtra/core/transfer"
	"lumtra/service"
	"lumtra/service/runs"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/testkit"
	"lumtra/tui/kit"
)

// noon is the time by the fixed clock.
var noon = time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC)

// rising is a run's samples: a second each, faster and faster and then even.
func rising(seconds int, rate int64) (all []transfer.Sample) {
	bytes := int64(0)
	for i := range seconds + 1 {
		all = append(all, transfer.Sample{At: time.Duration(i) * time.Second, Bytes: bytes, Read: bytes})
		bytes += min(rate, rate*int64(i+1)/10)
	}
	return all
}

// fixedState is a state made up in full: an archive with a run under way, one that failed,
// one that is waited for, one that is done and proven, and one that never was.
func fixedState() kit.State {
	named := func(name, from, to string) *job.Job {
		j := job.New(name)
		j.Source, j.Target = from, to
		return j
	}
	planned := func(name string, number int, totals plan.Totals, held ...string) *plan.Info {
		p := &plan.Info{Job: name, Number: number, Made: noon.Add(-time.Hour), Held: held}
		p.Totals, p.Target.Place = totals, "north/archive"
		return p
	}
	ended := func(name string, end history.End, ago, took time.Duration) history.Run {
		r := history.Run{Job: name, Plan: 3, Began: noon.Add(-ago - took), Ended: noon.Add(-ago), End: end,
			Objects: 1200, PlannedObjects: 1200, Samples: rising(int(took/time.Second), 5<<20)}
		r.Bytes = r.Samples[len(r.Samples)-1].Bytes
		r.PlannedBytes = r.Bytes
		return r
	}
	proven := func(number int, objects map[proof.Verdict]int64) *workroom.Proof {
		return &workroom.Proof{Dir: "/archive/proofs/4",
			Summary: &proof.Summary{Number: number, Method: compare.ByStoredSum, Began: noon.Add(-40 * time.Minute),
				Ended: noon.Add(-39 * time.Minute), Objects: objects,
				Bytes: map[proof.Verdict]int64{proof.Same: 5 << 30, proof.Missing: 70_000},
				Ways: plan.Ways{Target: []place.Promise{{Name: "nothing unseen is overwritten",
					Way: "the store decides in the moment of writing"}}}}}
	}
	failed := ended("field", history.Failures, 30*time.Minute, 2*time.Minute)
	failed.Failed, failed.Retries = 3, 14
	failed.Problems = []transfer.Problem{{Cause: "north: not allowed",
		Advice: "ask for the right to write below field/", Count: 3,
		Keys: []string{"field/take 01.wav", "field/take 02.wav", "field/take 03.wav"}}}
	under := &kit.Active{State: runs.State{Plan: 7, Planned: plan.Total{Count: 5000, Bytes: 4 << 30},
		Priority: runs.Usual, Snapshot: transfer.Snapshot{Began: noon.Add(-3 * time.Minute), Objects: 1900,
			Samples: rising(180, 8<<20), Retries: 2, Steering: transfer.Steering{Streams: 8, Automatic: true},
			Flights: []transfer.Flight{
				{Key: "weir/2026-03/dunlin 01.wav", Size: 96 << 20, Sent: 40 << 20, Began: noon.Add(-9 * time.Second),
					Tries: 1, Parts: []transfer.PartState{transfer.Done, transfer.Done, transfer.Moving,
						transfer.Again, transfer.Waiting, transfer.Waiting}},
				{Key: "weir/2026-03/dunlin 02.wav", Size: 9 << 20, Sent: 4 << 20, Tries: 2}}}}}
	under.Bytes = under.Samples[len(under.Samples)-1].Bytes
	under.Stages[transfer.Reading], under.Stages[transfer.Sending], under.Stages[transfer.Answering] = 20*time.Second,
		60*time.Second, 20*time.Second
	st := kit.State{At: noon, Jobs: []kit.JobState{
		{Job: named("masters", "studio/masters", "north/archive"),
			Plan: planned("masters", 7, plan.Totals{plan.Add: {Count: 5000, Bytes: 4 << 30}}), Active: under,
			Runs: []history.Run{{Job: "masters", Began: under.Began, End: history.Running},
				ended("masters", history.Clean, 100*time.Minute, 10*time.Minute)}},
		{Job: named("field", "field-cards", "north/archive/field"), Runs: []history.Run{failed},
			Proof: proven(4, map[proof.Verdict]int64{proof.Same: 1197, proof.Missing: 3})},
		{Job: named("mirror", "studio/proofs", "hill/mirror"),
			Plan: planned("mirror", 2, plan.Totals{plan.Add: {Count: 2, Bytes: 9000},
				plan.Remove: {Count: 400, Bytes: 1 << 30}},
				"it deletes 400 of 900 objects at the target, more than 20 %")},
		{Job: named("tiles", "studio/tiles", "map"), Done: true,
			Runs:  []history.Run{ended("tiles", history.Clean, 20*time.Minute, 90*time.Second)},
			Proof: proven(1, map[proof.Verdict]int64{proof.Same: 1800})},
		{Job: named("loans", "north/loans", "studio/loans")},
	}, Needs: []kit.Need{{Job: "mirror",
		What: "plan 2 is held back: it deletes 400 of 900 objects at the target, more than 20 %", View: kit.Plan,
		Key: "4"}, {Job: "field", What: "3 objects failed in the last run", View: kit.Run, Key: "5"},
		{Job: "field", What: "the last proof does not hold", View: kit.Proof, Key: "6"}}}
	for i := range 40 {
		st.Pulse = append(st.Pulse, float64(min(i, 20))*4e5)
	}
	return st
}

// fixedScenes are views of the fixed state, by the fixed clock: which job, and which keys.
var fixedScenes = map[string]struct {
	view kit.View
	job  string
	keys []string
	with func(st *kit.State)
}{
	"now":           {kit.Now, "", nil, nil},
	"now-near":      {kit.Now, "", []string{"+", "j", "left"}, nil},
	"now-empty":     {kit.Now, "", nil, func(st *kit.State) { st.Jobs, st.Needs = nil, nil }},
	"now-quiet":     {kit.Now, "", nil, func(st *kit.State) { st.Needs, st.Pulse = nil, nil }},
	"now-error":     {kit.Now, "", nil, func(st *kit.State) { st.Err = errors.New("history.db: the disk is full") }},
	"now-coming":    {kit.Now, "", []string{"-", "-", "-", "j"}, timedState},
	"now-week":      {kit.Now, "", []string{"w"}, timedState},
	"now-moving":    {kit.Now, "", []string{"-", "-", "-", "j", "m", "down", "left"}, timedState},
	"run-under-way": {kit.Run, "masters", nil, nil},
	"run-paused":    {kit.Run, "masters", nil, func(st *kit.State) { st.Jobs[0].Active.Steering.Paused = true }},
	"run-failed":    {kit.Run, "field", []string{"tab"}, nil},
	"run-done":      {kit.Run, "tiles", nil, nil},
	"run-export":    {kit.Run, "tiles", []string{"x"}, nil},
	"proof-holds":   {kit.Proof, "tiles", nil, nil},
	"proof-fails":   {kit.Proof, "field", nil, nil},
	"plan-held":     {kit.Plan, "mirror", nil, nil},
	"plan-none":     {kit.Plan, "loans", nil, nil},
}

var sockets = regexp.MustCompile(`/tmp/[^ │]*`)

// Made-up data by a clock that stands still is drawn to the letter, every figure and time
// of it, in both sizes; -update takes a change over.
func TestFixedScreens(t *testing.T) {
	testkit.Heavy(t)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "endpoints.toml"),
		[]byte("title = \"Saltmarsh Sound Archive\"\n"), 0o600))
	s, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state")})
	require.NoError(t, err)
	defer s.Close()
	for name, scene := range fixedScenes {
		for _, size := range []tea.WindowSizeMsg{{Width: 158, Height: 46}, {Width: 80, Height: 24}} {
			t.Run(fmt.Sprintf("%s-%dx%d", name, size.Width, size.Height), func(t *testing.T) {
				m := newModel(t.Context(), s)
				m.shared.Clock = func() time.Time { return noon }
				st := fixedState()
				if scene.with != nil {
					scene.with(&st)
				}
				m.Update(size)
				m.shared.State, m.view = st, scene.view
				m.shared.Choose(scene.job, false)
				for _, v := range views { // what its commands would read is not there
					m.screens[v.View].Update(kit.StateMsg{State: st})
				}
				for _, key := range scene.keys {
					m.Update(press(key))
				}
				check(t, m, name)
				var lines []string
				for _, l := range strings.Split(ansi.Strip(m.draw()), "\n") {
					lines = append(lines, strings.TrimRight(sockets.ReplaceAllString(l, "PATH"), " "))
				}
				got := strings.Join(lines, "\n") + "\n"
				path := filepath.Join("testdata/screens", "fixed-"+strings.TrimPrefix(t.Name(), "TestFixedScreens/")+
					".txt")
				if *update {
					require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
				}
				want, err := os.ReadFile(path)
				require.NoError(t, err)
				assert.Equal(t, string(want), got, "a change that is meant is taken over with -update")
			})
		}
	}
}
