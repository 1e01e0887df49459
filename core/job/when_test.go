package job_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/job"
)

// timed writes a workspace whose jobs are given by name, each with what follows its two places.
func timed(t *testing.T, jobs map[string]string) *job.Workspace {
	t.Helper()
	dir := t.TempDir()
	put := func(name, text string) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	put("endpoints.toml", "[endpoint.a]\nkind = \"folder\"\npath = \"a\"\n")
	put("tide.ics", "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:x\nBEGIN:VEVENT\nUID:1\nDTSTART;VALUE=DATE:20260324\n"+
		"END:VEVENT\nEND:VCALENDAR\n")
	for name, text := range jobs {
		put("jobs/"+name+".toml", "source = \"a/"+name+"\"\ntarget = \"a/to-"+name+"\"\n"+text)
	}
	w, err := job.LoadWorkspace(dir)
	require.NoError(t, err)
	return w
}

// A job says when it starts; what it leaves out is as usual.
func TestWhen(t *testing.T) {
	w := timed(t, map[string]string{
		"plain": "",
		"night": "[when]\nstart = \"daily at 23:30\"\nzone = \"UTC\"\nexcept = [\"tide.ics\"]\napprove-within = " +
			"\"12h\"\n" +
			"[when.arrival]\nsettle = \"3s\"\n",
	})
	require.Empty(t, w.Mistakes)
	plain, err := w.Job("plain")
	require.NoError(t, err)
	assert.False(t, plain.Schedule.ByItself())
	assert.Equal(t, job.UsualEvery, plain.When.Arrival.EveryTime())
	night, err := w.Job("night")
	require.NoError(t, err)
	next, _ := night.Schedule.Next(time.Date(2026, 3, 24, 0, 0, 0, 0, time.UTC))
	assert.Equal(t, "2026-03-25 23:30", next.At.UTC().Format("2006-01-02 15:04"), "the calendar leaves a day out")
	assert.Equal(t, 12*time.Hour, night.When.ApprovalTime())
	assert.Equal(t, 3*time.Second, night.When.Arrival.SettleTime())
	assert.Equal(t, night.Print(), func() string { n := *night; n.When = job.When{}; return n.Print() }(),
		"when a job runs changes nothing of what it does: a waiting plan stays good")
}

// What is wrong is told at its line and column.
func TestWhenMistakes(t *testing.T) {
	for text, says := range map[string]string{
		"start = \"daily at 25:00\"":            `x.toml:4:19: "25:00" is no time`,
		"start = \"cron 30 25 * * *\"":          `x.toml:4:18: the hour`,
		"zone = \"Mars/Olympus\"":               `x.toml:4:1: zone is`,
		"except = [\"../tide.ics\"]":            `x.toml:4:1: the calendar ../tide.ics: it has to lie in`,
		"except = [\"gone.ics\"]":               `x.toml:4:1: the calendar gone.ics: cannot be read: no such file`,
		"unattended = \"yolo\"":                 `x.toml:4:1: unattended is`,
		"approve-within = \"soon\"":             `x.toml:4:1: approve-within is`,
		"priority = \"top\"":                    `x.toml:4:1: priority is`,
		"strat = \"daily at 1:00\"":             `did you mean "start"`,
		"overlap = 4":                           `it has to be a text in quotes`,
		"[when.arrival]\nsettle = \"long\"":     `x.toml:5:1: settle is`,
		"[when.arrival]\nevery = \"1ms\"":       `x.toml:5:1: every is`,
		"[when.arrival]\nnot-yet = [\"[\"]":     `x.toml:5:1: "[" is no pattern`,
		"[when.arrival]\nmarker = \"in/READY\"": `x.toml:5:1: marker is`,
	} {
		w := timed(t, map[string]string{"x": "[when]\n" + text + "\n"})
		if assert.Len(t, w.Mistakes, 1, text) {
			assert.ErrorContains(t, w.Mistakes[0], says, text)
		}
	}
}

// Jobs that start after each other in a circle, or after one there is not, are told, and not used.
func TestAfter(t *testing.T) {
	start := func(after string) string { return "[when]\nstart = \"after " + after + "\"\n" }
	w := timed(t, map[string]string{"a": start("c"), "b": start("a"), "c": start("b"), "d": start("a"), "e": start("f"),
		"f": "", "g": start("nobody"), "h": start("h")})
	var good []string
	for _, j := range w.Jobs {
		good = append(good, j.Name)
	}
	assert.Equal(t, []string{"d", "e", "f"}, good)
	require.Len(t, w.Mistakes, 5)
	assert.ErrorContains(t, w.Mistakes[0], "in a circle: a, after c, after b, after a")
	assert.ErrorContains(t, w.Mistakes[3], `"nobody", and there is no such job`)
}

// A job that would start after itself in the end is not written.
func TestAfterIsNotWritten(t *testing.T) {
	w := timed(t, map[string]string{"a": "", "b": "[when]\nstart = \"after a\"\n"})
	text := func(after string) string {
		return "source = \"a/a\"\ntarget = \"a/to-a\"\n[when]\nstart = \"after " + after + "\"\n"
	}
	assert.ErrorContains(t, w.SaveJob("a", "a", text("a")), "in a circle: a, after a")
	assert.ErrorContains(t, w.SaveJob("a", "a", text("b")), "in a circle: a, after b, after a")
	assert.ErrorContains(t, w.SaveJob("a", "a", text("c")), "no such job")
	assert.NoError(t, w.SaveJob("", "c", text("b")))
}

// Jobs that start after one follow it to its new name, comments and all, and keep it from being deleted.
func TestAfterIsFollowed(t *testing.T) {
	w := timed(t, map[string]string{"a": "", "b": "[when]\nstart = \"after a\" # when that is in\n", "c": ""})
	assert.ErrorContains(t, w.RemoveJob("a"), "the job b starts after this one")
	text, err := w.Text("a")
	require.NoError(t, err)
	require.NoError(t, w.SaveJob("a", "masters", text))
	text, err = w.Text("b")
	require.NoError(t, err)
	assert.Contains(t, text, "start = 'after masters' # when that is in")
	assert.NoError(t, w.RemoveJob("c"))
	assert.NoError(t, w.RemoveJob("b"))
}

// Settings of tables in tables are set in a job's text, one after the other.
func TestSetArrival(t *testing.T) {
	text, err := job.Set("source = \"a\"\n", "3s", "when", "arrival", "settle")
	require.NoError(t, err)
	text, err = job.Set(text, "on arrival", "when", "start")
	require.NoError(t, err)
	text, err = job.Set(text, []string{"*.part"}, "when", "arrival", "not-yet")
	require.NoError(t, err)
	j, err := job.Parse("", "x", text, nil)
	assert.Error(t, err) // no target
	assert.Equal(t, "on arrival", j.When.Start, text)
	assert.Equal(t, []string{"*.part"}, j.When.Arrival.NotYet, text)
	assert.Equal(t, "3s", j.When.Arrival.Settle, text)
}
