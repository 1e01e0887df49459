package workspace

import (
	"errors"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whoever asks while something is being opened gets that; a failure is for who opened, and
// the next tries again.
func TestLazy(t *testing.T) {
	var l lazy[int]
	var opened atomic.Int64
	_, err := l.get(func() (int, error) { return 0, errors.New("not yet") })
	require.Error(t, err)
	_, open := l.take()
	assert.False(t, open)
	var all sync.WaitGroup
	for range 50 {
		all.Go(func() {
			v, err := l.get(func() (int, error) { return int(opened.Add(1)) * 7, nil })
			assert.NoError(t, err)
			assert.Equal(t, 7, v)
		})
	}
	all.Wait()
	assert.EqualValues(t, 1, opened.Load())
	v, open := l.take()
	assert.True(t, open)
	assert.Equal(t, 7, v)
}
