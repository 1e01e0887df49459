package retry_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"lumtra/core/place"
	"lumtra/core/retry"
)

func TestWhatIsTriedAgain(t *testing.T) {
	p := retry.Policy{Tries: 4, First: time.Microsecond, Most: time.Millisecond}
	for kind := place.Other; kind <= place.Cancelled; kind++ {
		tries := 0
		err := p.Do(context.Background(), func(attempt int) error {
			tries++
			assert.Equal(t, tries, attempt)
			return place.NewError("p", "op", "k", kind, nil)
		})
		assert.Equal(t, kind, place.KindOf(err))
		want := 1
		switch kind {
		case place.Unreachable, place.Throttled, place.ServerFault, place.Corrupt:
			want = 4
		}
		assert.Equal(t, want, tries, kind.String())
	}
	tries := 0
	assert.NoError(t, p.Do(context.Background(), func(int) error {
		if tries++; tries < 3 {
			return place.NewError("p", "op", "k", place.Throttled, nil)
		}
		return nil
	}))
	plain := errors.New("not of a place")
	assert.ErrorIs(t, p.Do(context.Background(), func(int) error { return plain }), plain)
}

// The wait ends with the context, however long the far side asked to wait.
func TestWaitEnds(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	slow := place.NewError("p", "op", "k", place.Throttled, nil)
	slow.After = time.Hour
	tries := 0
	err := retry.Usual.Do(ctx, func(int) error { tries++; cancel(); return slow })
	assert.Equal(t, slow, err)
	assert.Equal(t, 1, tries)
}
