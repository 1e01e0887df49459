package demo

import (
	"context"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/starts"
)

// Of the weeks that never were some runs have failed and some were missed, but on no day of the year the
// newest of a job: the demo opens with nothing that needs anybody.
func TestNothingMadeUpNeedsAnybody(t *testing.T) {
	ctx, dir := context.Background(), filepath.Join(t.TempDir(), "world")
	require.NoError(t, Build(ctx, dir, small))
	w, err := job.LoadWorkspace(dir)
	require.NoError(t, err)
	j, bad := w.Jobs[slices.IndexFunc(w.Jobs, func(j *job.Job) bool { return j.Name == "hill-copy" })], 0
	require.True(t, j.Schedule.Timed())
	for day := range 60 {
		now := time.Date(2026, 11, 1+day, 7, 3, 0, 0, time.UTC)
		db, err := history.Open(filepath.Join(dir, now.Format("0102.db")))
		require.NoError(t, err)
		book, err := starts.Open(filepath.Join(dir, now.Format("0102.starts")))
		require.NoError(t, err)
		require.NoError(t, pastOf(ctx, db, book, j, habits[j.Name], now))
		runs, err := db.Runs(ctx, j.Name, time.Time{}, 1000)
		require.NoError(t, err)
		missed, err := book.Since(ctx, j.Name, time.Time{}, 100)
		require.NoError(t, err)
		require.NotEmpty(t, runs)
		newest := runs[0]
		for _, r := range runs {
			if r.End != history.Clean {
				bad++
			}
			if r.Began.After(newest.Began) {
				newest = r
			}
		}
		assert.Equal(t, history.Clean, newest.End, now)
		for _, row := range missed {
			bad++
			assert.True(t, row.Slot.Before(newest.Began), now)
		}
		require.NoError(t, book.Close())
		require.NoError(t, db.Close())
	}
	assert.Greater(t, bad, 50)
}
