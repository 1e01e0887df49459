package plan_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
)

var ctx = context.Background()

func build(t require.TestingT, path string, entries map[string]object.Entry) *catalog.Catalog {
	w, err := catalog.Create(path, catalog.Info{Place: filepath.Base(path)})
	require.NoError(t, err)
	var keys []string
	for k := range entries {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		e := entries[k]
		e.Key = k
		require.NoError(t, w.Add(&e))
	}
	_, err = w.Finish()
	require.NoError(t, err)
	c, err := catalog.Open(path)
	require.NoError(t, err)
	return c
}

func tree(t *rapid.T, label string) map[string]object.Entry {
	m := map[string]object.Entry{}
	for range rapid.IntRange(0, 25).Draw(t, label) {
		key := strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b", "a-", "..", "é"}), 1, 3).Draw(t, "parts"), "/")
		m[key] = object.Entry{
			Size:     rapid.Int64Range(0, 2).Draw(t, "size"),
			Modified: time.Unix(1000, rapid.Int64Range(0, 2).Draw(t, "time")*1e9),
			Kind:     rapid.SampledFrom([]object.Kind{object.Object, object.Object, object.Object, object.Special}).Draw(t, "kind"),
			ETag:     rapid.SampledFrom([]string{"x", "y"}).Draw(t, "content"),
		}
	}
	return m
}

// reference is a planner one can check by reading: a key at a time, no files.
func reference(a, b map[string]object.Entry, opts plan.Options) map[string]plan.Kind {
	want := map[string]plan.Kind{}
	keys := map[string]bool{}
	for k := range a {
		keys[k] = true
	}
	for k := range b {
		keys[k] = true
	}
	held := map[string]bool{} // keys that are objects at the target in the end
	for _, k := range slices.Sorted(func(yield func(string) bool) {
		for k := range keys {
			if !yield(k) {
				return
			}
		}
	}) {
		src, here := a[k]
		dst, there := b[k]
		above := false
		for i := range k {
			above = above || k[i] == '/' && held[k[:i]]
		}
		kind := plan.Same
		switch {
		case !here:
			kind = plan.Extra
		case src.Kind == object.Special || opts.Name(k) != nil:
			kind = plan.Blocked
		case opts.Target.Tree && above:
			kind = plan.Blocked
		case !there:
			kind = plan.Add
		case dst.Kind == object.Special:
			kind = plan.Blocked
		case src.Size != dst.Size:
			kind = plan.Change
		case opts.Judge == plan.ByContent && src.ETag != dst.ETag,
			opts.Judge == plan.BySizeAndTime && opts.Target.KeepsTimes && !src.Modified.Equal(dst.Modified),
			opts.Judge == plan.BySizeAndTime && !opts.Target.KeepsTimes && src.Modified.After(dst.Modified):
			kind = plan.Change
		}
		if !here || src.Kind != object.Special && opts.Name(k) == nil && !above {
			held[k] = !above
		}
		want[k] = kind
	}
	return want
}

func TestAgainstReference(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		a, b := tree(t, "source"), tree(t, "target")
		ca, cb := build(t, filepath.Join(dir, "a"), a), build(t, filepath.Join(dir, "b"), b)
		defer ca.Close()
		defer cb.Close()
		opts := plan.Options{
			Judge:  rapid.SampledFrom([]plan.Judge{plan.BySizeAndTime, plan.ByContent}).Draw(t, "judge"),
			Target: place.Abilities{KeepsTimes: rapid.Bool().Draw(t, "times"), Tree: rapid.Bool().Draw(t, "tree")},
			Name: func(key string) error {
				if strings.Contains(key, "..") {
					return place.NewError("t", "check", key, place.BadName, nil)
				}
				return nil
			},
			SameContent: func(_ context.Context, x, y *object.Entry) (bool, error) { return x.ETag == y.ETag, nil },
		}
		p, err := plan.Build(ctx, filepath.Join(dir, "p"), ca, cb, opts)
		require.NoError(t, err)
		defer p.Close()
		got := map[string]plan.Kind{}
		var totals plan.Totals
		for c := p.Effects(""); c.Next(); {
			e := c.Effect()
			got[e.Key] = e.Kind
			totals.Add(e)
			require.NotEmpty(t, e.Why())
			if e.Source != nil {
				require.Equal(t, a[e.Key].Size, e.Source.Size)
			}
		}
		require.Equal(t, reference(a, b, opts), got)
		require.Equal(t, totals, p.Info.Totals)
		require.Equal(t, len(a) == 0, len(p.Info.Held) > 0, "an empty source is held back")

		// The tree adds up to the same, level by level.
		var walk func(prefix string) plan.Totals
		walk = func(prefix string) (sum plan.Totals) {
			nodes, err := p.Folder(ctx, prefix)
			require.NoError(t, err)
			for _, n := range nodes {
				below := n.Totals
				if n.Effect == nil {
					below = walk(prefix + n.Name)
				}
				require.Equal(t, n.Totals, below, "%s%s", prefix, n.Name)
				for k := range sum {
					sum[k].Count += below[k].Count
					sum[k].Bytes += below[k].Bytes
				}
			}
			return sum
		}
		require.Equal(t, totals, walk(""))
	})
}

// A million entries on either side are planned within 150 MB of resident
// memory. The measuring is done in a process of its own.
func TestMemory(t *testing.T) {
	const limit = 150 << 20
	if dir := os.Getenv("LUMTRA_TEST_MEMORY"); dir != "" {
		for i, name := range []string{"a", "b"} {
			w, err := catalog.Create(filepath.Join(dir, name), catalog.Info{Place: name})
			require.NoError(t, err)
			for n := range 1_000_000 {
				require.NoError(t, w.Add(&object.Entry{Key: fmt.Sprintf("tiles/z%d/%05d/%07d.png", n/100_000, n/100, n), Size: int64(n%4096 + i*(n&1)),
					Modified: time.Unix(int64(1.7e9)+int64(n), 0), ETag: fmt.Sprintf("%032x", n*2654435761)}))
			}
			_, err = w.Finish()
			require.NoError(t, err)
		}
		a, err := catalog.Open(filepath.Join(dir, "a"))
		require.NoError(t, err)
		b, err := catalog.Open(filepath.Join(dir, "b"))
		require.NoError(t, err)
		p, err := plan.Build(ctx, filepath.Join(dir, "p"), a, b, plan.Options{Judge: plan.BySizeAndTime, Target: place.Abilities{KeepsTimes: true}})
		require.NoError(t, err)
		require.EqualValues(t, 500_000, p.Info.Totals[plan.Change].Count)
		return
	}
	cmd := exec.Command(os.Args[0], "-test.run", "^TestMemory$")
	cmd.Env = append(os.Environ(), "LUMTRA_TEST_MEMORY="+t.TempDir())
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	peak := maxRSS(cmd.ProcessState)
	t.Logf("1,000,000 and 1,000,000 entries written, merged and planned: %d MB resident at the most", peak>>20)
	assert.Less(t, peak, int64(limit))
}

func TestNumbers(t *testing.T) {
	dir := t.TempDir()
	for _, n := range []int{10, 2, 9999, 12345} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, plan.FileName(n)), nil, 0o600))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x.plan"), nil, 0o600))
	numbers, err := plan.Numbers(dir)
	require.NoError(t, err)
	assert.Equal(t, []int{2, 10, 9999, 12345}, numbers)
	numbers, err = plan.Numbers(filepath.Join(dir, strconv.Itoa(1)))
	assert.NoError(t, err)
	assert.Empty(t, numbers)
}
