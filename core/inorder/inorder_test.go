package inorder_test

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"pgregory.net/rapid"

	"lumtra/core/inorder"
	"lumtra/testkit"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// However many workers, results come in order, each once, and what ends the
// work early ends all of it.
func TestMap(t *testing.T) {
	testkit.Check(t, func(t *rapid.T) {
		n, workers := rapid.IntRange(0, 200).Draw(t, "n"), rapid.IntRange(1, 9).Draw(t, "workers")
		failAt, cancelAt := rapid.IntRange(0, 400).Draw(t, "fail"), rapid.IntRange(0, 400).Draw(t, "cancel")
		ctx, cancel := context.WithCancel(context.Background())
		defer cancel()
		stop := errors.New("enough")
		given, want := 0, 0
		var busy, most atomic.Int64
		err := inorder.Map(ctx, workers, func() (int, bool) {
			given++
			return given - 1, given <= n
		}, func(_ context.Context, i int) int {
			most.Store(max(most.Load(), busy.Add(1)))
			defer busy.Add(-1)
			if i == cancelAt {
				cancel()
			}
			return i * 3
		}, func(r int) error {
			require.Equal(t, want*3, r)
			if want++; want-1 == failAt {
				return stop
			}
			return nil
		})
		require.Zero(t, busy.Load(), "nothing goes on behind our back")
		require.LessOrEqual(t, most.Load(), int64(workers))
		switch {
		case cancelAt >= n && failAt >= n:
			require.NoError(t, err)
			require.Equal(t, n, want)
		case failAt < n && cancelAt >= n:
			require.ErrorIs(t, err, stop)
		case failAt >= n:
			require.ErrorIs(t, err, context.Canceled)
		default:
			require.Error(t, err)
		}
	})
	assert.NoError(t, inorder.Map(context.Background(), 3, func() (int, bool) { return 0, false }, nil2,
		func(int) error { return nil }))
}

func nil2(context.Context, int) int { return 0 }
