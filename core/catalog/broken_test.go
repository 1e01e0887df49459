package catalog_test

import (
	"context"
	"fmt"
	"iter"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/place"
)

// breaks is a place of so many keys whose listing breaks each time it has given some, as
// often as it is told to.
type breaks struct {
	place.Place
	keys, after, times int
	kind               place.ErrorKind
	asked              []string
}

func (b *breaks) Name() string { return "breaks" }

func (b *breaks) Abilities() place.Abilities { return place.Abilities{} }

func (b *breaks) List(_ context.Context, _ string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		b.asked = append(b.asked, opts.After)
		given := 0
		for i := range b.keys {
			e := object.Entry{Key: fmt.Sprintf("%03d", i), Size: 1}
			if e.Key <= opts.After {
				continue
			}
			if given++; given > b.after && b.times > 0 {
				b.times--
				yield(object.Entry{}, place.NewError("breaks", "list", "", b.kind, syscall.ECONNRESET))
				return
			}
			if !yield(e, nil) {
				return
			}
		}
	}
}

// A listing that breaks is taken up behind the last key it gave; what cannot be taken up is
// a gap that is told, and never the end of the listing.
func TestListingsThatBreak(t *testing.T) {
	survey := func(b *breaks) catalog.Info {
		c, err := catalog.Survey(context.Background(), b, filepath.Join(t.TempDir(), "c"), catalog.Options{Streams: 1})
		require.NoError(t, err)
		defer c.Close()
		return c.Info
	}
	b := &breaks{keys: 30, after: 7, times: 3, kind: place.Unreachable}
	info := survey(b)
	assert.EqualValues(t, 30, info.Objects)
	assert.Zero(t, info.Missed)
	assert.True(t, info.Complete())
	assert.Equal(t, []string{"", "006", "013", "020"}, b.asked, "behind what was given, and not from the start")
	b = &breaks{keys: 30, after: 7, times: 1, kind: place.Denied}
	info = survey(b)
	assert.EqualValues(t, 7, info.Objects)
	assert.EqualValues(t, 1, info.Missed)
	assert.False(t, info.Complete())
	assert.Contains(t, info.Problems[0], "breaks")
	assert.Len(t, b.asked, 1, "what is not allowed is not asked again")
}
