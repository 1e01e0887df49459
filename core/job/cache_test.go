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

// A workspace that is read again has the same jobs as long as their files, and the endpoints, are the
// same; whatever changed is seen, also where it changed a moment ago and is as long as before.
func TestCache(t *testing.T) {
	dir := t.TempDir()
	old := time.Now().Add(-time.Hour)
	put := func(name, text string, at time.Time) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		require.NoError(t, os.Chtimes(path, at, at))
	}
	text := func(target string) string { return "source = \"a/x\"\ntarget = \"a/" + target + "\"\n" }
	put("endpoints.toml", "[endpoint.a]\nkind = \"folder\"\npath = \"a\"\n", old)
	put("jobs/masters.toml", text("one"), old)
	put("jobs/field.toml", text("two"), old)
	put("jobs/broken.toml", "source = 1", old)
	put("jobs/hours.toml", text("three")+"[when]\nstart = \"daily at 1:00\"\nexcept = [\"days.ics\"]\n", old)
	calendar := func(day string) string {
		return "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:x\nBEGIN:VEVENT\nUID:1\nDTSTART;VALUE=DATE:" + day +
			"\nEND:VEVENT\nEND:VCALENDAR\n"
	}
	put("days.ics", calendar("20260324"), old)
	var c job.Cache
	load := func() *job.Workspace {
		w, err := c.Load(dir)
		require.NoError(t, err)
		return w
	}
	of := func(w *job.Workspace, name string) *job.Job {
		j, err := w.Job(name)
		require.NoError(t, err)
		return j
	}
	first, again := load(), load()
	assert.Same(t, of(first, "masters"), of(again, "masters"))
	assert.Len(t, again.Mistakes, 1, "a mistake stays one")

	put("jobs/masters.toml", text("uno"), time.Now())
	assert.Equal(t, "a/uno", of(load(), "masters").Target)
	put("jobs/masters.toml", text("due"), time.Now()) // as long, a moment later
	third := load()
	assert.Equal(t, "a/due", of(third, "masters").Target)
	assert.Same(t, of(first, "field"), of(third, "field"))
	put("days.ics", calendar("20260325"), old)
	s, _ := of(load(), "hours").Schedule.Next(time.Date(2026, 3, 24, 12, 0, 0, 0, time.Local))
	assert.Equal(t, 26, s.Wall.Day(), "what follows from another file is read each time")

	put("endpoints.toml", "[endpoint.b]\nkind = \"folder\"\npath = \"a\"\n", old)
	assert.Len(t, load().Mistakes, 4, "other endpoints: nothing is as it was")
	put("endpoints.toml", "[endpoint.a]\nkind = \"folder\"\npath = \"a\"\n", old)
	require.NoError(t, os.Remove(filepath.Join(dir, "jobs", "field.toml")))
	_, err := load().Job("field")
	assert.Error(t, err)
}
