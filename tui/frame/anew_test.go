package frame

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Keys that are pressed while a level is listed anew, at a store that takes its time, are for what the
// cursor was on: never for the folder that it stands on meanwhile.
func TestKeysWhileALevelIsListedAnew(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "endpoints.toml"),
		[]byte("[endpoint.north]\nkind = \"s3\"\nstand-in = \"north\"\nlatency = \"50ms\"\ntest = \"never\"\n"),
		0o600))
	for name, c := range map[string]struct {
		keys []string // "-key" is removed by somebody else
		sees string
	}{
		"delete":             {[]string{"r", "D"}, `Delete north/box/b`},
		"move and delete":    {[]string{"V", "j", "D"}, `Delete north/box/c`},
		"many times anew":    {[]string{"V", "k", "r", "j", "j", "V", "D"}, `Delete north/box/c`},
		"mark and delete":    {[]string{"r", "space", "space", "D"}, `(?s)Delete north/box/b.*and 1 more`},
		"in two trees":       {[]string{"V", "j", "|", "|", "D"}, `Delete north/box/c`},
		"the cursor stays":   {[]string{"r", "D", "esc", "~The cursor stays here", "D"}, `Empty north/box`},
		"not about it":       {[]string{"-b", "r", "K", "~a keeps one", "esc", "H", "~was deleted", "esc"}, `▾ box`},
		"gone":               {[]string{"-b", "r", "D"}, `Nothing was done to what the cursor`},
		"gone, and moved on": {[]string{"-b", "r", "j", "~› d", "D"}, `Delete north/box/d`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			x := openStage(t, copied(t, dir))
			s := x.m.shared.Service
			require.NoError(t, s.MakeBucket(t.Context(), "north", "box"))
			at, err := s.Place(t.Context(), "north/box/")
			require.NoError(t, err)
			for _, key := range []string{"a", "b", "c", "d"} {
				_, err := at.Write(t.Context(), key, strings.NewReader(key), 1, place.WriteOptions{})
				require.NoError(t, err)
			}
			x.goes("2", "~north", "enter", "~▸ box", "j", "enter", "~  d  ", "j", "j", "~› b")
			for _, key := range c.keys {
				if name, gone := strings.CutPrefix(key, "-"); gone {
					require.NoError(t, at.Remove(t.Context(), object.Ref{Key: name})[0])
				} else {
					x.goes(key)
				}
			}
			x.goes("~" + c.sees)
		})
	}
}
