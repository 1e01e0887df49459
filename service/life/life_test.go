package life_test

import (
	"context"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"

	"lumtra/service/life"
)

// What goes on is told that it is to end, and is waited for; nothing begins any more.
func TestEnd(t *testing.T) {
	l := life.New()
	var ended atomic.Int64
	for range 10 {
		assert.True(t, l.Go(func(ctx context.Context) {
			<-ctx.Done()
			ended.Add(1)
		}))
	}
	own, cancel := context.WithCancel(context.Background())
	ctx, done, ok := l.Begin(own)
	assert.True(t, ok)
	cancel()
	assert.ErrorIs(t, ctx.Err(), context.Canceled, "it ends with what it was given, too")
	done()
	done() // twice does no harm
	l.End()
	assert.EqualValues(t, 10, ended.Load())
	assert.False(t, l.Go(func(context.Context) { ended.Add(1) }))
	_, _, ok = l.Begin(context.Background())
	assert.False(t, ok)
	assert.EqualValues(t, 10, ended.Load())
}
