package agenda

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lumtra/core/job"
	"lumtra/core/starts"
)

// BenchmarkTenThousandJobs is what it takes, in a workspace of ten thousand jobs with times, from a
// changed file to the next start: reading what changed, and the desk's next.
func BenchmarkTenThousandJobs(b *testing.B) {
	dir := b.TempDir()
	require.NoError(b, os.Mkdir(filepath.Join(dir, "jobs"), 0o755))
	require.NoError(b, os.WriteFile(filepath.Join(dir, "endpoints.toml"),
		[]byte("[endpoint.a]\nkind = \"folder\"\npath = \"a\"\n"), 0o644))
	old := time.Now().Add(-time.Hour)
	write := func(i, minute int) {
		path := filepath.Join(dir, "jobs", fmt.Sprintf("job-%05d.toml", i))
		require.NoError(b, os.WriteFile(path, fmt.Appendf(nil,
			"source = \"a/%d\"\ntarget = \"a/to-%d\"\n[when]\nstart = \"daily at "+
				"%02d:%02d\"\nzone = \"Europe/Lisbon\"\n", i, i, minute/60%24, minute%60), 0o644))
		require.NoError(b, os.Chtimes(path, old.Add(time.Duration(minute)*time.Second),
			old.Add(time.Duration(minute)*time.Second)))
	}
	for i := range 10_000 {
		write(i, i%1440)
	}
	book, err := starts.Open(filepath.Join(dir, starts.FileName))
	require.NoError(b, err)
	defer book.Close()
	now := time.Now()
	desk, err := NewDesk(b.Context(), book, now)
	require.NoError(b, err)
	var cache job.Cache
	w, err := cache.Load(dir)
	require.NoError(b, err)
	require.NoError(b, desk.Sync(b.Context(), w.Jobs, Limits{}, now))
	minute := 0
	for b.Loop() {
		b.StopTimer()
		minute++
		write(7, minute)
		b.StartTimer()
		w, err := cache.Load(dir)
		require.NoError(b, err)
		require.NoError(b, desk.Sync(b.Context(), w.Jobs, Limits{}, now))
		require.False(b, desk.Next().IsZero())
	}
}
