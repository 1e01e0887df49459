package level_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"lumtra/core/level"
	"lumtra/core/object"
	"lumtra/testkit"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

var ctx = context.Background()

func entry(i int) object.Entry {
	e := object.Entry{Key: fmt.Sprintf("tiles/%07d.png", i), Size: int64(i * 7919 % 10007),
		Modified: time.Unix(int64(i*31%997), 5), ETag: "e", Class: "COLD"}
	if i%100 == 0 {
		e = object.Entry{Key: fmt.Sprintf("tiles/%07d/", i), Kind: object.Prefix}
	}
	return e
}

func rows(n int, listed *int) level.Lister {
	return func(ctx context.Context) iter.Seq2[object.Entry, error] {
		return func(yield func(object.Entry, error) bool) {
			for i := range n {
				*listed = i
				if !yield(entry(i), nil) {
					return
				}
			}
			yield(object.Entry{}, errors.New("the last part could not be read"))
		}
	}
}

func until(t *testing.T, l *level.Level, what func(level.State) bool) level.State {
	testkit.Until(t, func() bool { return what(l.State()) }, func() any { return l.State() })
	return l.State()
}

// A level lists as far as it is looked at, gives any row, and leaves no file.
func TestLevel(t *testing.T) {
	dir, listed := t.TempDir(), 0
	l, err := level.Open(ctx, dir, rows(100_000, &listed))
	require.NoError(t, err)
	st := until(t, l, func(s level.State) bool { return s.Paused })
	assert.Equal(t, level.Ahead, st.Rows, "it waits for someone to look")
	l.Want(5000)
	st = until(t, l, func(s level.State) bool { return s.Paused && s.Rows > 5000 })
	assert.Equal(t, 5000+level.Ahead, st.Rows)
	l.Want(-1)
	st = until(t, l, func(s level.State) bool { return s.Ended })
	assert.Equal(t, 100_000, st.Rows)
	assert.EqualValues(t, 99_000, st.Objects)
	assert.ErrorContains(t, st.Err, "could not be read")
	for _, i := range []int{0, 1, 255, 256, 99_999, 77_777, 12, 50_000} {
		got, err := l.Row(i)
		require.NoError(t, err)
		want := entry(i)
		assert.True(t, want.Modified.Equal(got.Modified))
		want.Modified = got.Modified
		assert.Equal(t, want, got)
	}
	for _, i := range []int{-1, 100_000} {
		_, err := l.Row(i)
		assert.Error(t, err)
	}

	largest := level.Make(ctx, l, "tiles/", level.BySize, "",
		func(key string) int64 { return map[string]int64{"tiles/0000500/": 1 << 40}[key] })
	require.Len(t, largest.Rows, 100_000)
	assert.EqualValues(t, 500, largest.Rows[0])
	for i := 1; i < 99_999; i += 997 {
		a, _ := l.Row(int(largest.Rows[i]))
		b, _ := l.Row(int(largest.Rows[i+1]))
		assert.GreaterOrEqual(t, a.Size, b.Size)
	}
	newest := level.Make(ctx, l, "tiles/", level.ByTime, "0 *77.PNG", nil)
	require.Len(t, newest.Rows, 1000)
	a, _ := l.Row(int(newest.Rows[0]))
	b, _ := l.Row(int(newest.Rows[999]))
	assert.True(t, a.Modified.After(b.Modified))
	assert.Len(t, level.Make(ctx, l, "tiles/", level.ByName, "tiles", nil).Rows, 0,
		"the level's own prefix is no part of a name")

	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left)
	require.NoError(t, l.Close())
}

// One that nobody needs any more stops listing.
func TestClose(t *testing.T) {
	listed := 0
	l, err := level.Open(ctx, t.TempDir(), rows(1<<40, &listed))
	require.NoError(t, err)
	l.Want(-1)
	until(t, l, func(s level.State) bool { return s.Rows > 10_000 })
	l.Halt()
	st := until(t, l, func(s level.State) bool { return s.Paused })
	l.Want(st.Rows)
	until(t, l, func(s level.State) bool { return s.Rows > st.Rows })
	require.NoError(t, l.Close())
	_, err = l.Row(0)
	assert.Error(t, err)
}
