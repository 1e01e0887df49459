package job_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"lumtra/core/job"
	"lumtra/core/place/kind"
)

// Whatever a job's file holds, reading it ends in a job or in a mistake with a place; what
// was read prints the same a second time.
func FuzzJob(f *testing.F) {
	f.Add("source = \"studio/masters\"\ntarget = \"north/archive\"\ntarget-only = \"trash\"\n[select]\nexclude = " +
		"[\"**/*.tmp\"]\nolder-than = \"1h\"\n")
	f.Add("source = \"studio\"\ntarget = \"north/b\"\n[limits]\nbandwidth = [\"mon 08:00-09:00 1 MB/s\"]\nstreams = " +
		"3\n[safety]\ndeletions = 0\n")
	f.Add("[select\nx = 1")
	f.Add("source = 1\n\x00")
	ends := map[string]*kind.Settings{"studio": {Name: "studio", Kind: "folder", Path: "/s"},
		"north": {Name: "north", Kind: "s3", Address: "http://127.0.0.1:1"}}
	f.Fuzz(func(t *testing.T, text string) {
		j, err := job.Parse("", "masters", text, ends)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		again, err := job.Parse("", "masters", text, ends)
		require.NoError(t, err)
		require.Equal(t, j.Print(), again.Print())
	})
}

// The same for the file of endpoints and that of rates.
func FuzzSettings(f *testing.F) {
	f.Add("title = \"marsh\"\n[endpoint.north]\nkind = \"s3\"\naddress = \"https://s3.example.org\"\nsecret-from = "+
		"\"env:X\"\n", "[north]\nwrites = 0.005\n")
	f.Add("[endpoint.a]\nkind = \"blob\"\nsignature-from = \"file:/dev/zero\"\n", "[x]\n")
	f.Fuzz(func(t *testing.T, endpoints, rates string) {
		dir := t.TempDir()
		path := filepath.Join(dir, "endpoints.toml")
		require.NoError(t, os.WriteFile(path, []byte(endpoints), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "rates.toml"), []byte(rates), 0o600))
		file, err := job.LoadEndpoints(path, "endpoints.toml")
		if err != nil {
			return
		}
		for name, e := range file.Endpoint {
			require.Equal(t, name, e.Name)
		}
		job.LoadRates(filepath.Join(dir, "rates.toml"), file.Endpoint)
	})
}
