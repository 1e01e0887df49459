package proof

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/testkit"
)

// The tree is what adding up the lines one by one gives, with folders of many
// differences and of few, and keys that are no text.
func TestTree(t *testing.T) {
	dir := t.TempDir()
	testkit.Check(t, func(t *rapid.T) {
		keys := map[string]bool{}
		part := rapid.SampledFrom([]string{"a", "b-", "c", "wéir", "\xff", "tiles"})
		for range rapid.IntRange(0, 40).Draw(t, "keys") {
			parts := rapid.SliceOfN(part, 1, 4).Draw(t, "key")
			many := rapid.SampledFrom([]int{1, 1, 1, 3, manyDifferences + 1}).Draw(t, "many")
			for n := range many {
				keys[strings.Join(parts, "/")+fmt.Sprintf("%04d", n)] = true
			}
		}
		var all []Line
		out, err := create(filepath.Join(dir, DifferencesFile))
		require.NoError(t, err)
		folders, err := create(filepath.Join(dir, FoldersFile))
		require.NoError(t, err)
		tree := &spans{out: folders}
		for i, key := range sortedKeys(keys) {
			l := Line{Key: key, Verdict: Verdicts[1+i%4], Size: int64(i), Why: "why"}
			if strings.Contains(key, "\xff") {
				l.Key, l.KeyBytes = "", []byte(key)
			}
			require.NoError(t, out.write(l))
			require.NoError(t, tree.add(&l, out.size))
			all = append(all, l)
		}
		require.NoError(t, out.finish())
		require.NoError(t, tree.finish())
		require.NoError(t, out.file.Close())
		require.NoError(t, folders.file.Close())
		var walk func(prefix string)
		walk = func(prefix string) {
			var want []Node
			for i := range all {
				below, ok := strings.CutPrefix(all[i].key(), prefix)
				if !ok {
					continue
				}
				name, _, deeper := strings.Cut(below, "/")
				if deeper {
					name += "/"
				}
				if len(want) == 0 || !deeper || want[len(want)-1].Name != name {
					want = append(want, Node{Name: name})
				}
				last := &want[len(want)-1]
				if last.Tally.add(&all[i]); !deeper {
					last.Line = &all[i]
				}
			}
			got, err := Folder(context.Background(), dir, prefix)
			require.NoError(t, err)
			require.Equal(t, want, got, "under %q", prefix)
			for _, n := range got {
				if n.Line == nil {
					walk(prefix + n.Name)
				}
			}
		}
		walk("")
		none, err := Folder(context.Background(), dir, "none/")
		require.NoError(t, err)
		require.Empty(t, none)
	})
	os.RemoveAll(dir)
}

func sortedKeys(m map[string]bool) []string {
	var all []string
	for k := range m {
		all = append(all, k)
	}
	slices.Sort(all)
	return all
}
