package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// No line of Go is over 120 columns, a tab being 4, and no file much over 500 lines.
func TestLines(t *testing.T) {
	require.NoError(t, eachFolder("../..", func(dir, room string) error {
		files, err := filepath.Glob(filepath.Join(dir, "*.go"))
		for _, name := range files {
			raw, err := os.ReadFile(name)
			if err != nil {
				return err
			}
			lines := strings.Split(string(raw), "\n")
			assert.LessOrEqual(t, len(lines), 620, "%s is too long", name)
			for n, line := range lines {
				width := utf8.RuneCountInString(line) + 3*strings.Count(line, "\t")
				assert.LessOrEqual(t, width, 120, "%s:%d", name, n+1)
			}
		}
		return err
	}))
}
