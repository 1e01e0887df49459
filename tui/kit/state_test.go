package kit

import (
	"errors"
	"fmt"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/plan"
	"lumtra/core/proof"
	"lumtra/service/workroom"
)

// What a job wants of a person is told once and at the right place, and not when it is
// being done or was done.
func TestNeeds(t *testing.T) {
	totals, conflicts := plan.Totals{plan.Add: {Count: 1}}, plan.Totals{plan.Conflict: {Count: 2}}
	number := func(n int, totals plan.Totals, held ...string) *plan.Info {
		p := &plan.Info{Number: n, Held: held}
		p.Totals = totals
		return p
	}
	ended := func(end history.End, plan int) []history.Run { return []history.Run{{End: end, Plan: plan}} }
	holds := &workroom.Proof{Summary: &proof.Summary{}}
	fails := &workroom.Proof{Summary: &proof.Summary{Objects: map[proof.Verdict]int64{proof.Missing: 1}}}
	running := &Active{}
	for _, c := range []struct {
		name string
		job  JobState
		want []string
	}{
		{"nothing planned", JobState{}, nil},
		{"a plan", JobState{Plan: number(3, totals)}, []string{"Plan 4: plan 3 waits to be approved"}},
		{"a plan without totals", JobState{Plan: number(3, plan.Totals{plan.Same: {Count: 9}})}, nil},
		{"one that is held", JobState{Plan: number(3, totals, "it deletes all")},
			[]string{"Plan 4: plan 3 is held back: it deletes all"}},
		{"one that was held and let go", JobState{Plan: number(3, totals, "it deletes all"), Approved: true}, nil},
		{"one that was held and done", JobState{Plan: number(3, totals, "it deletes all"), Done: true,
			Runs: ended(history.Clean, 3)}, nil},
		{"conflicts", JobState{Plan: number(3, conflicts)}, []string{"Plan 4: plan 3 has 2 conflicts to decide"}},
		{"one under way", JobState{Plan: number(3, totals), Active: running}, nil},
		{"one that was done", JobState{Plan: number(3, totals), Done: true, Runs: ended(history.Clean, 3)}, nil},
		{"failures", JobState{Runs: []history.Run{{End: history.Failures, Failed: 1}}},
			[]string{"Run 5: 1 object failed in the last run"}},
		{"gaps", JobState{Runs: []history.Run{{End: history.Failures, Gaps: 1}}},
			[]string{"Run 5: parts of the places could not be listed"}},
		{"failures, and it runs again", JobState{Runs: []history.Run{{End: history.Failures, Failed: 1}},
			Active: running}, nil},
		{"broken", JobState{Runs: []history.Run{{End: history.Broken, Note: "full"}}},
			[]string{"Run 5: the last run broke off: full"}},
		{"stopped", JobState{Plan: number(3, totals), Runs: ended(history.Stopped, 3)},
			[]string{"Plan 4: the run of plan 3 was stopped; it can go on"}},
		{"interrupted", JobState{Runs: ended(history.Interrupted, 3)},
			[]string{"Plan 4: the run of plan 3 was interrupted; it can go on"}},
		{"a newer plan", JobState{Plan: number(4, totals), Runs: ended(history.Clean, 3)},
			[]string{"Plan 4: plan 4 waits to be approved"}},
		{"proven", JobState{Proof: holds}, nil},
		{"not proven", JobState{Proof: fails}, []string{"Proof 6: the last proof does not hold"}},
	} {
		c.job.Job = &job.Job{Name: "masters"}
		var got []string
		for _, n := range needs(&c.job) {
			assert.Equal(t, "masters", n.Job)
			got = append(got, fmt.Sprintf("%s %s: %s", n.View, n.Key, n.What))
		}
		assert.Equal(t, c.want, got, c.name)
	}
	assert.Equal(t, "tides", jobOf(&job.Mistake{File: "/w/jobs/tides.toml"}))
	assert.Empty(t, jobOf(&job.Mistake{File: "/w/endpoints.toml"}))
	assert.Empty(t, jobOf(errors.New("other")))
}

// The chosen job is the one that was opened, else one that runs, else the first; a draft is
// none.
func TestCurrentJob(t *testing.T) {
	s := &Shared{State: State{Jobs: []JobState{{Job: &job.Job{Name: "a"}},
		{Job: &job.Job{Name: "b"}, Active: &Active{}}, {Job: &job.Job{Name: "c"}}}}}
	assert.Equal(t, "b", s.Current().Job.Name)
	s.StepJob(1)
	assert.Equal(t, "c", s.Current().Job.Name)
	s.StepJob(1)
	assert.Equal(t, "a", s.Current().Job.Name)
	s.StepJob(-1)
	assert.Equal(t, "c", s.Current().Job.Name)
	s.Choose("new", true)
	assert.Nil(t, s.Current())
	assert.Contains(t, s.NoJob("plan"), "The job new is in no file yet")
	s.StepJob(1)
	assert.Equal(t, "a", s.Current().Job.Name)
	s.Choose("gone", false)
	s.State.Jobs[1].Active = nil
	assert.Equal(t, "a", s.Current().Job.Name)
	s.State.Jobs = nil
	assert.Nil(t, s.Current())
	assert.Equal(t, "No job to plan.", s.NoJob("plan"))
	s.StepJob(1)
	assert.Nil(t, s.State.JobNamed("a"))
}

// typed presses keys in a form; a word of more than one rune that names no key is typed.
func typed(f *Form, keys ...string) {
	codes := map[string]tea.Key{"enter": {Code: tea.KeyEnter}, "tab": {Code: tea.KeyTab}, "up": {Code: tea.KeyUp},
		"down": {Code: tea.KeyDown}, "left": {Code: tea.KeyLeft}, "right": {Code: tea.KeyRight}}
	for _, k := range keys {
		if code, ok := codes[k]; ok {
			f.Update(tea.KeyPressMsg(code))
			continue
		}
		for _, r := range k {
			f.Update(tea.KeyPressMsg{Code: r, Text: string(r)})
		}
	}
}

func TestForm(t *testing.T) {
	var got []string
	f := (&Form{Title: "A \x1btitle", Notes: []string{"a note"}, Warning: []string{"a warning"}, Does: "keep it",
		Fields: []*Field{
			{Name: "kind", Value: "folder", Choices: []string{"folder", "s3"}},
			{Name: "bucket", Hint: "its name", When: func(f *Form) bool { return f.Get("kind") == "s3" }},
			{Name: "secret", Hidden: true},
			{Name: "link", HiddenIf: func(v string) bool { return v == "with a secret" }},
		}, Submit: func(f *Form) tea.Cmd {
			got = append(got, f.Asked("kind")+" "+f.Asked("bucket")+" "+f.Get("secret"))
			f.Err = errors.New("no such thing")
			return nil
		}}).Init()
	text := func() string { return ansi.Strip(Lines(f.Lines(dark, 60), 60, 30)) }
	assert.Contains(t, text(), `A \x1btitle`)
	assert.Contains(t, text(), "a note")
	assert.Contains(t, text(), "a warning")
	assert.Contains(t, text(), "▌ kind    ‹ folder ›")
	assert.NotContains(t, text(), "bucket", "it is not asked for with a folder")
	typed(f, "down", "hush", "enter")
	assert.Equal(t, []string{"folder  hush"}, got, "down goes past what is not asked for")
	assert.Contains(t, text(), "taken, 4 characters, not shown")
	assert.NotContains(t, text(), "hush")
	assert.Contains(t, text(), "no such thing")
	typed(f, "up", "right")
	assert.Contains(t, text(), "its name")
	typed(f, "down", "masters ", "enter")
	assert.Equal(t, "s3 masters hush", got[1], "without blanks around it")
	typed(f, "down", "tab", "with a secret", "tab")
	assert.Contains(t, text(), "taken, 13 characters, not shown")
	typed(f, "left")
	assert.Equal(t, "folder", f.Get("kind"))
	assert.Equal(t, "masters", f.Get("bucket"), "kept for when it is asked for again")
	assert.Empty(t, f.Asked("bucket"))
	f.Busy = "working"
	typed(f, "enter")
	assert.Len(t, got, 2, "what is being done is not done twice")
	assert.Contains(t, text(), "working …")
	f.Update(tea.PasteMsg{Content: "s3"})
	assert.Equal(t, "folder", f.Get("kind"), "what is one of a few is not pasted")
	empty := (&Form{Submit: func(*Form) tea.Cmd { return nil }}).Init()
	typed(empty, "down", "up", "x")
	assert.Empty(t, empty.Get("x"))
}
