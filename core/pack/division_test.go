package pack_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/rule"
)

// An object goes into the pack that is being filled as long as it fits to the byte, else into the next; one that is
// larger than a pack has one by itself, and none is left empty. What is there stays where it is.
func TestDivision(t *testing.T) {
	p := outside(t, t.TempDir())
	set := pack.NewSet(p, ".tar", p, "", pack.Keeping{})
	const room = pack.HeadRoom
	by := rule.Packs{By: rule.InTurn, AtMost: fmt.Sprint(10*room, "B"), Under: fmt.Sprint(40*room, "B")}
	d := set.NewDivision(by)
	for i, c := range []struct {
		size int64
		want string
	}{{20 * room, "0001.tar"}, {4 * room, "0002.tar"}, {4 * room, "0002.tar"}, {0, "0003.tar"}, {8*room + 1,
		"0004.tar"},
		{40*room - 1, "0005.tar"}, {40 * room, ""}, {7 * room, "0006.tar"}, {room, "0006.tar"}, {0, "0007.tar"}} {
		assert.Equal(t, c.want, d.Of(fmt.Sprint("takes/", i), c.size, nil), "%d", i)
	}
	assert.Equal(t, "0008.tar", d.Of("takes.tar", 9*room, nil), "what has the name of a pack is in one")

	d = set.NewDivision(by)
	there := object.Entry{Key: "takes/a", Size: 4 * room, ETag: "0003.tar" + pack.Inside + "mark"}
	d.Saw(&there)
	assert.Equal(t, "0003.tar", d.Of("takes/b", 4*room, nil), "that has room")
	assert.Equal(t, "0004.tar", d.Of("takes/c", 0, nil))
	assert.Equal(t, "0003.tar", d.Of("takes/a", 100*room, &there))

	d = set.NewDivision(by)
	for _, other := range []string{"takes.tar", "12.tar", "0000.tar", "-001.tar"} { // which no division has made
		d.Saw(&object.Entry{Key: "takes/a", Size: 9 * room, ETag: other + pack.Inside + "mark"})
	}
	assert.Equal(t, "0001.tar", d.Of("takes/b", 9*room, nil))

	d = set.NewDivision(rule.Packs{By: rule.ByFolder, Under: fmt.Sprint(room, "B")})
	for key, want := range map[string]string{"takes/2027/a": "takes.tar", "top": "_.tar"} {
		assert.Equal(t, want, d.Of(key, room-1, nil))
		assert.Empty(t, d.Of(key, room, nil))
	}
}

// What lies in several packs, and beside them, comes in order, also below a folder that is not the first in any.
func TestListsOfSeveral(t *testing.T) {
	dir := t.TempDir()
	p := outside(t, dir)
	for name, members := range map[string][]string{"1.tar": {"masters/a", "tiles/1", "tiles/5"},
		"2.tar": {"tiles/0", "tiles/2", "z"}, "3.tar": {"a", "tiles/4"}} {
		require.NoError(t, pack.Change(t.Context(), p, name, 100, pack.Options{}, func(w *pack.Writer) error {
			for _, m := range members {
				if _, err := w.Add(pack.Member{Name: m, Kind: pack.File, Size: 1},
					&pack.Content{Data: []byte("x")}); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "tiles"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tiles/3"), nil, 0o600))
	for folder, want := range map[string][]string{"": {"a", "masters/a", "tiles/0", "tiles/1", "tiles/2", "tiles/3",
		"tiles/4",
		"tiles/5", "z"}, "tiles": {"0", "1", "2", "3", "4", "5"}} {
		loose := p
		if folder != "" {
			loose = outside(t, filepath.Join(dir, folder))
		}
		var keys []string
		for e, err := range pack.NewSet(p, ".tar", loose, folder, pack.Keeping{}).List(t.Context(), "",
			place.ListOptions{}) {
			require.NoError(t, err)
			keys = append(keys, e.Key)
		}
		assert.Equal(t, want, keys)
	}
}
