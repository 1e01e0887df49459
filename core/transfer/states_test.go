package transfer

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
)

// A set of states has all that was put in, and little else.
func TestStates(t *testing.T) {
	s := newStates(1000)
	entry := func(n int) *object.Entry { return &object.Entry{Size: int64(n % 7), ETag: fmt.Sprint(n)} }
	for n := range 1000 {
		s.add(entry(n))
	}
	wrong := 0
	for n := range 10_000 {
		if has := s.has(entry(n)); n < 1000 {
			require.True(t, has)
		} else if has {
			wrong++
		}
	}
	assert.Less(t, wrong, 400)
	assert.LessOrEqual(t, len(newStates(1<<40).bits)*64, mostStates, "bounded, whatever there is to delete")
}
