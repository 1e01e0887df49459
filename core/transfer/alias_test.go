package transfer_test

import (
	"context"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/s3"
	"lumtra/core/rule"
)

// folding keeps "twin" as "other": a way to fold names that nobody has heard of.
type folding struct{ *s3.Place }

func folded(key string) string { return strings.ReplaceAll(key, "twin", "other") }

func (f folding) Write(ctx context.Context, key string, body io.Reader, size int64,
	opts place.WriteOptions) (object.Entry, error) {
	e, err := f.Place.Write(ctx, folded(key), body, size, opts)
	e.Key = key
	return e, err
}

func (f folding) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	key := ref.Key
	ref.Key = folded(key)
	e, err := f.Place.Stat(ctx, ref)
	e.Key = key
	return e, err
}

func (f folding) Read(ctx context.Context, key string, opts place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	return f.Place.Read(ctx, folded(key), opts)
}

// A mirror does not remove, under another name, what it has just sent, in whatever way
// the store folds names; it says so, and removes nothing at all.
func TestAliasIsNotRemoved(t *testing.T) {
	w := newWorld(t)
	to := folding{w.store.(*s3.Place)}
	w.put(t, "twin.wav", "the only copy")
	w.put(t, "plain.wav", "plain")
	rules := rule.Default()
	rules.TargetOnly = rule.DeleteThere
	for round := range 3 {
		if round == 1 {
			_, err := w.store.Write(ctx, "old.wav", strings.NewReader("old"), 3, place.WriteOptions{})
			require.NoError(t, err)
		}
		p := w.planBy(t, w.folder, to, rules)
		out, m := w.run(t, ctx, p, w.folder, to, quick)
		there := texts(t, w.store)
		assert.Equal(t, "the only copy", there["other.wav"], "round %d", round)
		if round > 0 {
			assert.Positive(t, out.Failed)
			assert.Contains(t, there, "old.wav", "nothing goes while a name is in doubt")
			assert.Contains(t, m.Problems[0].Cause, "name cannot be held")
		}
	}
}
