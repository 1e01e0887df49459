package place_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/place"
	"lumtra/testkit"
)

// What a run saw once it goes by, and the next one asks again; what it sees again is known. That
// something works is known at once, and a new test knows better than either.
func TestSeenOnce(t *testing.T) {
	var kept place.Facts
	keep := func(f place.Facts, _ string) { kept = f }
	k := place.NewKnown(place.Facts{At: time.Now(),
		Answers: map[place.Ask]place.Answer{place.PutIfAbsent: place.Works}}, keep)
	k.Learn(place.PutIfAbsent, place.Refused)
	k.Learn(place.SumBehind, place.Ignored)
	k.Learn(place.MD5ETag, place.Works)
	assert.True(t, k.Lacks(place.PutIfAbsent), "the run goes by it")
	assert.True(t, kept.Stale(time.Now()))

	second := place.NewKnown(kept, keep)
	assert.Equal(t, place.Untold, second.Of(place.PutIfAbsent), "the next run asks again")
	assert.Equal(t, place.Untold, second.Of(place.SumBehind))
	assert.True(t, second.Does(place.MD5ETag))
	second.Learn(place.SumBehind, place.Ignored)

	third := place.NewKnown(kept, keep)
	assert.True(t, third.Lacks(place.SumBehind), "seen twice it is known")
	third.Replace(place.Facts{At: time.Now(), Answers: map[place.Ask]place.Answer{place.SumBehind: place.Works}})
	third.Learn(place.SumBehind, place.Ignored)
	assert.Equal(t, place.Ignored, kept.Once[place.SumBehind], "of another test it counts anew")
}

// A fact is what two passes on end found alike, with no disturbance in either. Whatever a line makes of
// some of them, what is believed is what the store does, or nothing.
func TestExamined(t *testing.T) {
	asks := []place.Ask{place.PutIfAbsent, place.SumAhead, place.MD5ETag}
	testkit.Check(t, func(t *rapid.T) {
		truth, seen := map[place.Ask]place.Answer{}, map[place.Ask][]place.Answer{}
		for _, a := range asks {
			truth[a] = rapid.SampledFrom([]place.Answer{place.Works, place.Ignored, place.Refused}).Draw(t, string(a))
		}
		passes := 0
		f, err := place.Examined(context.Background(), func(name string) (*place.Examination, error) {
			passes++
			x := place.NewExamination()
			if rapid.IntRange(0, 9).Draw(t, "broken off") == 9 {
				return x, place.NewError("s", "write", "", place.Unreachable, nil)
			}
			for _, a := range asks {
				is := truth[a]
				switch rapid.IntRange(0, 5).Draw(t, "line") {
				case 5:
					x.Disturb(a)
					is = place.Untold
				case 4:
					is = rapid.SampledFrom([]place.Answer{place.Works, place.Ignored, place.Refused}).Draw(t, "damaged")
				}
				if seen[a] = append(seen[a], is); is != place.Untold {
					x.Answer(a, is)
				}
			}
			return x, nil
		})
		require.LessOrEqual(t, passes, place.MostPasses)
		for _, a := range asks {
			twice := false
			for i := 1; i < len(seen[a]); i++ {
				twice = twice || seen[a][i] == f.Answers[a] && seen[a][i-1] == f.Answers[a]
			}
			require.True(t, f.Answers[a] == place.Untold || twice, "%s: %v, from %v", a, f.Answers[a], seen[a])
			require.True(t, f.Open || f.Answers[a] != place.Untold || err != nil, "what is not known is asked again")
		}
	})
}

// What turns an answer into a fact, and what says nothing.
func TestConclude(t *testing.T) {
	fails := func(kind place.ErrorKind, status int) error {
		e := place.NewError("s", "write", "k", kind, errors.New("no"))
		e.Status = status
		return e
	}
	damaged, exists := fails(place.Corrupt, 400), fails(place.Exists, 412)
	for name, c := range map[string]struct {
		right, wrong error
		want         place.Answer
	}{
		"as promised":                {nil, exists, place.Works},
		"taken, and not done":        {nil, nil, place.Ignored},
		"both turned away":           {fails(place.Unsupported, 501), fails(place.Unsupported, 501), place.Refused},
		"turned away as damaged":     {damaged, exists, place.Refused},
		"for another reason":         {nil, fails(place.Other, 400), place.Refused},
		"the right one broke off":    {fails(place.Unreachable, 0), exists, place.Untold},
		"the wrong one broke off":    {nil, fails(place.Unreachable, 0), place.Untold},
		"the store had trouble":      {nil, fails(place.ServerFault, http.StatusInternalServerError), place.Untold},
		"the store asked to be slow": {fails(place.Throttled, 503), exists, place.Untold},
	} {
		x := place.NewExamination()
		x.Conclude(place.PutIfAbsent, c.right, c.wrong, place.Exists, place.Changed)
		assert.Equal(t, c.want, x.Found(place.PutIfAbsent), name)
	}
	assert.True(t, place.IsLeftBehind(fmt.Errorf("in all: %w", place.LeftBehind(damaged))))
	assert.False(t, place.IsLeftBehind(damaged))
	assert.NoError(t, place.LeftBehind(nil))
}
