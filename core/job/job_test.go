package job_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/job"
)

const goodEndpoints = `title = "Saltmarsh"
[endpoint.studio]
kind = "folder"
path = "studio"
[endpoint.north]
kind = "s3"
address = "https://north.example.org"
access-key = "AK"
secret-from = "env:NORTH_SECRET"
`

func load(t *testing.T, endpoints string, jobs map[string]string) (*job.Workspace, error) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "jobs"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "endpoints.toml"), []byte(endpoints), 0o644))
	for name, text := range jobs {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "jobs", name+".toml"), []byte(text), 0o644))
	}
	w, err := job.LoadWorkspace(dir)
	return w, err
}

// Each mistake in a job is told with its place in the file, and leaves the
// other jobs usable.
func TestJobMistakes(t *testing.T) {
	const start = "source = \"studio/a\"\ntarget = \"north/b/c\"\n"
	for text, want := range map[string]string{
		"source = \"studio":                                                  "bad.toml:1:",
		start + "judge = \"moon\"":                                           "bad.toml:3:1: judge is \"moon\"; it is \"size-and-time\" or \"content\"",
		start + "colour = 1":                                                 "bad.toml:3:1: there is no setting \"colour\" here",
		start + "[limits]\nstreams = \"many\"":                               "bad.toml:4:",
		start + "[limits]\nstreams = 5000":                                   "bad.toml:4:1: streams is 5000; it is between 1 and 1024",
		start + "[limits]\npart-size = \"tiny\"":                             "bad.toml:4:1: part-size is \"tiny\"",
		start + "proof = \"hope\"":                                           "bad.toml:3:1: proof is \"hope\"",
		"target = \"north/b\"":                                               "bad.toml: source is missing",
		"source = \"nowhere/x\"\ntarget = \"north/b\"":                       "bad.toml:1:1: source names the endpoint \"nowhere\"",
		"source = \"studio\"\n\n  target = \"north\"":                        "bad.toml:3:3: target names no bucket or container",
		"source = \"studio/a\"\ntarget = \"studio/a/b\"":                     "bad.toml:2:1: source and target are the same place, or one lies in the other",
		"source = \"studio/a\"\nsource = \"studio/b\"\ntarget = \"north/b\"": "bad.toml:2:",
	} {
		w, err := load(t, goodEndpoints, map[string]string{"bad": text, "good": start})
		require.NoError(t, err)
		require.Len(t, w.Mistakes, 1, text)
		assert.ErrorContains(t, w.Mistakes[0], want, text)
		_, err = w.Job("bad")
		assert.ErrorContains(t, err, want)
		good, err := w.Job("good")
		require.NoError(t, err)
		assert.Equal(t, "north/b/c", good.Target)
	}
	w, err := load(t, goodEndpoints, map[string]string{"Bad Name": start})
	require.NoError(t, err)
	assert.ErrorContains(t, w.Mistakes[0], "the file's name is the job's")
	_, err = w.Job("none")
	assert.ErrorContains(t, err, "no such job")
}

func TestEndpointMistakes(t *testing.T) {
	for text, want := range map[string]string{
		"[endpoint.a]\nkind = \"tape\"":                                                                        `:2:1: endpoint a: kind is "tape"`,
		"[endpoint.a]\nkind = \"folder\"":                                                                      ":1:11: endpoint a: a folder needs its path",
		"[endpoint.a]\nkind = \"s3\"\naddress = \"north\"":                                                     `:3:1: endpoint a: address is "north"`,
		"[endpoint.a]\nkind = \"s3\"\naddress = \"https://u:p@h\"":                                             ":3:1: endpoint a: no credentials in the address",
		"[endpoint.a]\nkind = \"s3\"\naddress = \"https://h\"\naccess-key = \"k\"":                             "an access key needs secret-from",
		"[endpoint.a]\nkind = \"s3\"\naddress = \"https://h\"\naccess-key = \"k\"\nsecret-from = \"hunter12\"": ":5:1: endpoint a: secret-from says where the secret lies",
		"[endpoint.a]\nkind = \"blob\"\naddress = \"https://h\"\naccount = \"marsh\"":                          "an account needs its key",
		"[endpoint.\"a b\"]\nkind = \"folder\"\npath = \"x\"":                                                  "a name has 1 to 63",
		"[endpoint.a\nkind": ":1:",
	} {
		_, err := load(t, text, nil)
		assert.ErrorContains(t, err, want, text)
		assert.NotContains(t, fmt.Sprint(err), "hunter12", "what may be a secret is not repeated")
	}
	w, err := load(t, goodEndpoints, nil)
	require.NoError(t, err)
	assert.Equal(t, "Saltmarsh", w.Title)
	_, err = job.LoadWorkspace(t.TempDir())
	assert.ErrorContains(t, err, "endpoints.toml: cannot be read: no such file")
}

// Endpoints are added, changed, renamed and removed in the file, and what else
// stands there stays.
func TestEditEndpoints(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "endpoints.toml")
	first := "# Ours.\ntitle = \"Marsh\"\n\n[endpoint.studio] # here\nkind = \"folder\"\npath = \"s\"\n\n# The far one.\n[endpoint.far]\nkind = \"folder\"\npath = \"f\"\n"
	require.NoError(t, os.WriteFile(path, []byte(first), 0o644))
	north := &job.Endpoint{Name: "north", Kind: job.KindS3, Address: "https://s3.example.org", Credential: "kept:north"}
	require.NoError(t, job.SaveEndpoint(dir, "", north))
	assert.ErrorContains(t, job.SaveEndpoint(dir, "", north), "already")
	require.NoError(t, job.SaveEndpoint(dir, "studio", &job.Endpoint{Name: "studio-2", Kind: job.KindFolder, Path: "s2"}))
	north.Region = "eu-north-1"
	require.NoError(t, job.SaveEndpoint(dir, "north", north))
	assert.Error(t, job.SaveEndpoint(dir, "north", &job.Endpoint{Name: "north", Kind: job.KindS3, Address: "no"}))
	assert.Error(t, job.SaveEndpoint(dir, "nowhere", north))
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "# Ours.\ntitle = \"Marsh\"\n\n[endpoint.studio-2]")
	assert.Contains(t, string(raw), "\n\n# The far one.\n[endpoint.far]")
	file, err := job.LoadEndpoints(path, path)
	require.NoError(t, err)
	assert.Len(t, file.Endpoint, 3)
	assert.Equal(t, "eu-north-1", file.Endpoint["north"].Region)
	assert.Equal(t, "north", file.Endpoint["north"].Kept())
	require.NoError(t, job.RemoveEndpoint(dir, "north"))
	require.NoError(t, job.RemoveEndpoint(dir, "studio-2"))
	assert.Error(t, job.RemoveEndpoint(dir, "north"))
	raw, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "# Ours.\ntitle = \"Marsh\"\n\n# The far one.\n[endpoint.far]\nkind = \"folder\"\npath = \"f\"\n", string(raw))
}
