package frame

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"lumtra/testkit"

	"github.com/stretchr/testify/require"
)

// Among five hundred jobs one is found by typing, and they are paged and jumped through, in the
// first view and in that of sentences; all views are about the one under the cursor.
func TestFiveHundredJobs(t *testing.T) {
	testkit.Heavy(t)
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "jobs"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "studio"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "endpoints.toml"), []byte("[endpoint.studio]\nkind = "+
		"\"folder\"\npath = \"studio\"\n[endpoint.copy]\nkind = \"folder\"\npath = \"copy\"\n"), 0o600))
	for i := range 500 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("jobs/reel-%03d.toml", i)),
			fmt.Appendf(nil, "source = \"studio\"\ntarget = \"copy/%d\"\n", i), 0o600))
	}
	x := openStage(t, dir)
	x.goes("~▌ reel-000", "pgdown", "~▌ reel-0[2-4]", "end", "~▌ reel-499", "3", "~Jobs › reel-499", "pgup",
		"~Jobs › reel-489", "home", "~Jobs › reel-000", "pgdown", "~Jobs › reel-010", "end", "~Jobs › reel-499",
		"pgdown", "~Jobs › reel-499", "ctrl+p", "=reel-25", "~job  reel-259", "enter", "~reel-250", "4",
		"~Plan › reel-250", ">", "~Plan › reel-251", "1", "~▌ reel-251")
}
