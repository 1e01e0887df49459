package listing_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"pgregory.net/rapid"

	"lumtra/core/listing"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/testkit"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

var ctx = context.Background()

// keys is a place made of sorted keys, which counts its listings.
type keys struct {
	place.Place
	all   []string
	bad   string // a listing of this prefix fails
	asked atomic.Int64
}

func (k *keys) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		k.asked.Add(1)
		if k.bad != "" && prefix == k.bad {
			yield(object.Entry{}, errors.New("not this one"))
			return
		}
		i, _ := slices.BinarySearch(k.all, max(prefix, opts.After))
		last := ""
		for _, key := range k.all[i:] {
			if !strings.HasPrefix(key, prefix) || ctx.Err() != nil {
				return
			}
			e := object.Entry{Key: key}
			if j := strings.IndexByte(key[len(prefix):], '/'); opts.Shallow && j >= 0 {
				e = object.Entry{Key: key[:len(prefix)+j+1], Kind: object.Prefix}
			}
			if e.Key <= opts.After || e.Key == last {
				continue
			}
			if last = e.Key; !yield(e, nil) {
				return
			}
		}
	}
}

// Whatever the shape of the keys and however many streams, the result is that
// of one plain listing.
func TestSameAsOneListing(t *testing.T) {
	testkit.Check(t, func(t *rapid.T) {
		width, depth, leaf := rapid.IntRange(1, 40).Draw(t, "width"), rapid.IntRange(0, 3).Draw(t, "depth"),
			rapid.IntRange(1, 60).Draw(t, "leaf")
		var all []string
		var grow func(at string, depth int)
		grow = func(at string, depth int) {
			for i := range leaf {
				all = append(all, fmt.Sprintf("%s%d.wav", at, i))
			}
			for i := range width {
				if depth > 0 && len(all) < 20_000 {
					grow(fmt.Sprintf("%s%c%d/", at, "-ax~"[i%4], i), depth-1)
				}
			}
		}
		grow("", depth)
		slices.Sort(all)
		p := &keys{all: slices.Compact(all)}
		prefix := rapid.SampledFrom([]string{"", "-0/", "a", "none"}).Draw(t, "prefix")
		var want, got []string
		for e := range p.List(ctx, prefix, place.ListOptions{}) {
			want = append(want, e.Key)
		}
		for e, err := range listing.All(ctx, p, prefix, rapid.IntRange(1, 9).Draw(t, "streams")) {
			require.NoError(t, err)
			got = append(got, e.Key)
		}
		assert.True(t, slices.Equal(want, got), "%d keys, not %d", len(got), len(want))
	})
}

// Many thin prefixes are not asked for one by one, and a listing that is given
// up or fails in part ends as it should.
func TestThinAndBroken(t *testing.T) {
	p := &keys{}
	for i := range 50_000 {
		p.all = append(p.all, fmt.Sprintf("%06d/a", i))
	}
	n := 0
	for range listing.All(ctx, p, "", 8) {
		n++
	}
	assert.Equal(t, 50_000, n)
	assert.Less(t, p.asked.Load(), int64(300))
	for range listing.All(ctx, p, "", 8) {
		break
	}
	p.bad = "001005/"
	var failed []error
	n = 0
	for _, err := range listing.All(ctx, p, "", 8) {
		if n++; err != nil {
			failed = append(failed, err)
		}
	}
	assert.Equal(t, 50_000, n)
	assert.Len(t, failed, 1)
	stopped, stop := context.WithCancel(ctx)
	defer stop()
	for range listing.All(stopped, p, "", 8) {
		stop()
	}
}
