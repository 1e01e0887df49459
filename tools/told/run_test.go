package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What failed is named by its innermost test, what passed in the end is shaky, a package that broke without a
// test of its own is named as such, and one that hung names the tests it hung in.
func TestWhatIsTold(t *testing.T) {
	r, err := read(strings.NewReader(`{"Action":"run","Package":"lumtra/core/plan","Test":"TestA"}
{"Action":"fail","Package":"lumtra/core/plan","Test":"TestA/x","Elapsed":1}
{"Action":"pass","Package":"lumtra/core/plan","Test":"TestA/y","Elapsed":1}
{"Action":"fail","Package":"lumtra/core/plan","Test":"TestA","Elapsed":2}
{"Action":"fail","Package":"lumtra/core/plan","Elapsed":2}
{"Action":"fail","Package":"lumtra/cli","Test":"TestB","Elapsed":9}
{"Action":"fail","Package":"lumtra/cli","Elapsed":9}
no event
{"Action":"pass","Package":"lumtra/cli","Test":"TestB","Elapsed":3}
{"Action":"pass","Package":"lumtra/cli","Elapsed":3}
{"Action":"fail","Package":"lumtra/broken","Elapsed":0}
{"Action":"run","Package":"lumtra/hung","Test":"TestC"}
{"Action":"fail","Package":"lumtra/hung","Elapsed":3600}
`))
	require.NoError(t, err)
	assert.Equal(t, []string{"FAILED  broken ", "FAILED  core/plan TestA/x", "FAILED  hung TestC"}, r.failed())
	assert.Equal(t, []string{"shaky   cli TestB"}, r.shaky())
	assert.Equal(t, []string{"   9.0 s  cli TestB", "   2.0 s  core/plan TestA"}, r.slowest(2))
}

// The last lines lie beside the events.
func TestLastLines(t *testing.T) {
	path := filepath.Join(t.TempDir(), "events")
	require.NoError(t, os.WriteFile(path, []byte(`{"Action":"fail","Package":"lumtra/cli","Test":"TestB"}`), 0o600))
	require.NoError(t, told(path))
	raw, err := os.ReadFile(path + ".last")
	require.NoError(t, err)
	assert.Equal(t, "FAILED  cli TestB\n", string(raw))
}
