package history_test

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

	"lumtra/core/history"
	"lumtra/core/transfer"
)

var ctx = context.Background()

func open(t *testing.T, path string) *history.DB {
	db, err := history.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, db.Close()) })
	return db
}

func at(minute int) time.Time { return time.Date(2026, 11, 26, 0, minute, 0, 123000, time.UTC) }

// A run comes back as it was kept, from its beginning to its end, and by another process.
func TestRunsComeBack(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a folder with ?, # and %41", "history.db")
	require.NoError(t, os.Mkdir(filepath.Dir(path), 0o700))
	db := open(t, path)
	r := history.Run{Job: "masters", Plan: 7, Began: at(1), End: history.Running, PlannedObjects: 12,
		PlannedBytes: 1 << 50, Before: 3, Gaps: 2, Expected: 90 * time.Second, Pid: os.Getpid()}
	require.NoError(t, db.Begin(ctx, &r))
	assert.Positive(t, r.ID)
	one := func(db *history.DB) history.Run {
		all, err := db.Runs(ctx, "masters", time.Time{}, 9)
		require.NoError(t, err)
		require.Len(t, all, 1)
		assert.True(t, all[0].Began.Equal(r.Began) && all[0].Ended.Equal(r.Ended), "%v", all[0])
		all[0].Began, all[0].Ended = r.Began, r.Ended
		return all[0]
	}
	got := one(db)
	assert.Equal(t, [6]any{history.Running, int64(12), int64(1 << 50), int64(3), int64(2), 90 * time.Second},
		[6]any{got.End, got.PlannedObjects, got.PlannedBytes, got.Before, got.Gaps, got.Expected})
	assert.True(t, got.Ended.IsZero())

	r.Ended, r.End, r.Objects, r.Bytes, r.Failed, r.Retries, r.SeenTo, r.Unverified, r.Note = at(3),
		history.Failures, 10, 999, 2, 5, 4, 1, "the disk's \"last\" words\x00"
	r.Problems = []transfer.Problem{{Cause: "north: not allowed", Advice: "ask", Count: 2,
		Keys: []string{"a\nb", "\x1b[2J", "ü"}}}
	r.Samples = []transfer.Sample{{}, {At: 9e9, Bytes: 5000}}
	r.Course = transfer.Course{Throttles: 3, Slowest: []transfer.Arrival{{Key: "reed\x1b", Size: 9, Took: 4e9,
		At: 5e9}}}
	r.Course.Stages[transfer.Sending] = 7e9
	require.NoError(t, db.Save(ctx, &r))
	want := r
	want.Notes = nil
	other := open(t, path)
	for _, db := range []*history.DB{db, other} {
		got := one(db)
		got.Pid = want.Pid // of who asks for it
		assert.Equal(t, want, got)
	}
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm(), "names of objects are for nobody else")
}

// Runs are listed newest first, of one job or all, since a time, so many at the most; a
// job's go along with its new name.
func TestWhichRuns(t *testing.T) {
	db := open(t, filepath.Join(t.TempDir(), "history.db"))
	for i := range 6 {
		r := history.Run{Job: []string{"masters", "cards"}[i%2], Plan: i, Began: at(i), End: history.Clean}
		require.NoError(t, db.Begin(ctx, &r))
	}
	plans := func(job string, since time.Time, limit int) (all []int) {
		runs, err := db.Runs(ctx, job, since, limit)
		require.NoError(t, err)
		for _, r := range runs {
			all = append(all, r.Plan)
		}
		return all
	}
	assert.Equal(t, []int{5, 4, 3, 2, 1, 0}, plans("", time.Time{}, 100))
	assert.Equal(t, []int{4, 2, 0}, plans("masters", time.Time{}, 100))
	assert.Equal(t, []int{5, 3}, plans("cards", at(3), 100))
	assert.Equal(t, []int{5, 4}, plans("", time.Time{}, 2))
	assert.Empty(t, plans("card", time.Time{}, 9))
	require.NoError(t, db.Rename(ctx, "cards", "field-cards"))
	assert.Equal(t, []int{5, 3, 1}, plans("field-cards", time.Time{}, 9))
	assert.Empty(t, plans("cards", time.Time{}, 9))
}

// What was done by hand is kept as it was, newest first; many write at once.
func TestActs(t *testing.T) {
	path := filepath.Join(t.TempDir(), "history.db")
	var all sync.WaitGroup
	for w := range 4 {
		db := open(t, path)
		all.Go(func() {
			for i := range 10 {
				assert.NoError(t,
					db.Note(ctx, history.Act{At: at(i*4 + w), Who: "ferryman", What: "delete",
						Place: fmt.Sprintf("north/box/%d-%d", w, i), Objects: int64(i), Versions: 1, Bytes: 1 << 40,
						Failed: 2, Outcome: "done"}))
			}
		})
	}
	all.Wait()
	db := open(t, path)
	acts, err := db.Acts(ctx, 1000)
	require.NoError(t, err)
	require.Len(t, acts, 40)
	for i, a := range acts {
		assert.True(t, i == 0 || !a.At.After(acts[i-1].At))
	}
	newest := acts[0]
	assert.True(t, newest.At.Equal(at(39)))
	newest.At = time.Time{}
	assert.Equal(t, history.Act{Who: "ferryman", What: "delete", Place: "north/box/3-9", Objects: 9, Versions: 1,
		Bytes: 1 << 40, Failed: 2, Outcome: "done"}, newest)
	few, err := db.Acts(ctx, 3)
	require.NoError(t, err)
	assert.Len(t, few, 3)
}

// A file that is none is told with its name, and stays as it was.
func TestNoHistory(t *testing.T) {
	path := filepath.Join(t.TempDir(), "history.db")
	text := []byte("this is somebody's diary, and no database at all; it has to stay")
	require.NoError(t, os.WriteFile(path, text, 0o600))
	_, err := history.Open(path)
	require.ErrorContains(t, err, path)
	left, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, text, left)
}
