package runs

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/transfer"
)

func TestExpect(t *testing.T) {
	now := time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
	a := &State{}
	a.Planned.Bytes, a.BeforeBytes = 2000, 500
	for i := range 5 {
		_, _, ok := a.Expect(now)
		assert.False(t, ok, "%d samples tell nothing", i)
		a.Samples = append(a.Samples, transfer.Sample{At: time.Duration(i+1) * time.Second,
			Bytes: int64(100 * (i + 1))})
	}
	a.Bytes = 500
	soon, late, ok := a.Expect(now)
	require.True(t, ok)
	assert.Equal(t, []time.Time{now.Add(10 * time.Second), now.Add(10 * time.Second)}, []time.Time{soon, late},
		"1,000 of 2,000 are left, at 100 a second")
	for range 50 { // it stands still
		a.Samples = append(a.Samples, transfer.Sample{At: a.Samples[len(a.Samples)-1].At + time.Second, Bytes: 500})
	}
	_, _, ok = a.Expect(now)
	assert.False(t, ok, "there is no end in sight")
}

// What holds a run back is where its time went since it was looked at last.
func TestHeldBack(t *testing.T) {
	s := &State{}
	_, known := s.HeldBack(nil)
	assert.False(t, known, "nothing was measured")
	assert.Zero(t, s.Lately())
	s.Stages[transfer.Reading], s.Stages[transfer.Answering] = 10*time.Second, time.Second
	most, known := s.HeldBack(nil)
	assert.True(t, known)
	assert.Equal(t, transfer.Reading, most)
	before := *s
	s.Stages[transfer.Answering] += 2 * time.Second
	most, _ = s.HeldBack(&before)
	assert.Equal(t, transfer.Answering, most)
	for i := range 20 {
		s.Samples = append(s.Samples, transfer.Sample{At: time.Duration(i) * 200 * time.Millisecond,
			Bytes: int64(i) * 200, Read: int64(i) * 400})
	}
	assert.InDelta(t, 1000, s.Lately(), 1)
	assert.InDelta(t, 2000, s.ReadLately(), 1)
}
