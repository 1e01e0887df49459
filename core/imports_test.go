// Package core_test holds what is true of the core as a whole.
package core_test

import (
	"go/build"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors are the folders from the ground up: a package imports only from its
// own floor's list and what lies below.
var above = map[string][]string{
	"core":    {"service", "cli", "tui", "standin", "demo", "cmd", "bench"},
	"standin": {"service", "cli", "tui", "demo", "cmd", "bench", "core/place", "core/plan", "core/transfer"},
	"service": {"cli", "tui", "demo", "cmd", "bench"},
	"tui":     {"cli", "demo", "cmd", "bench", "core/place/", "core/segment"},
	"cli":     {"tui", "cmd", "bench", "core/place/", "core/segment"},
}

// Imports only go down.
func TestImportsGoDown(t *testing.T) {
	for floor, forbidden := range above {
		err := filepath.WalkDir(filepath.Join("..", floor), func(dir string, d fs.DirEntry, err error) error {
			if err != nil || !d.IsDir() {
				return err
			}
			p, err := build.ImportDir(dir, 0)
			if _, empty := err.(*build.NoGoError); empty {
				return nil
			}
			require.NoError(t, err)
			for _, path := range p.Imports {
				ours, ok := strings.CutPrefix(path, "lumtra/")
				for _, f := range forbidden {
					if ok && (ours == f || strings.HasPrefix(ours, strings.TrimSuffix(f, "/")+"/")) && !(strings.HasSuffix(f, "/") && ours == strings.TrimSuffix(f, "/")) {
						assert.Fail(t, "imports upwards", "%s imports %s", dir, path)
					}
				}
			}
			return nil
		})
		require.NoError(t, err)
	}
}
