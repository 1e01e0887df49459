package proof

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// A proof's folder may have been written by anybody: opening its tree ends, in nodes or in
// an error, wherever the spans of its folders lead.
func FuzzFolder(f *testing.F) {
	f.Add([]byte(`{"key":"a/b","verdict":"missing"}`+"\n"+`{"key":"a/c","verdict":"target-only"}`+"\n"+
		`{"key":"z","verdict":"missing"}`+"\n"), []byte(`{"prefix":"YS8=","from":0,"to":0}`+"\n"), "")
	f.Add([]byte(`{"key":"a/b"}`+"\n"+`{"key":`), []byte(`{"prefix":"YS8=","from":0,"to":-5}`), "a/")
	f.Add([]byte("\n\n\n"), []byte{}, "a")
	f.Fuzz(func(t *testing.T, lines, folders []byte, prefix string) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, DifferencesFile), lines, 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, FoldersFile), folders, 0o600))
		nodes, err := Folder(t.Context(), dir, prefix)
		if err == nil {
			require.LessOrEqual(t, len(nodes), len(lines)+1)
		}
	})
}
