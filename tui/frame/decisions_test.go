package frame

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/service"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// mirrorWorld is a workspace with a mirror that is held back: it would remove three of four.
func mirrorWorld(t *testing.T) string {
	dir := t.TempDir()
	put := func(name, text string) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	put("endpoints.toml",
		"[endpoint.studio]\nkind = \"folder\"\npath = \"studio\"\n[endpoint.copy]\nkind = \"folder\"\npath = "+
			"\"copy\"\n")
	put("jobs/mirror.toml", "source = \"studio\"\ntarget = \"copy\"\ntarget-only = \"delete\"\n")
	put("studio/kept.wav", "kept")
	for _, name := range []string{"kept.wav", "a.wav", "ab.wav", "b/c.wav"} {
		put("copy/"+name, name)
	}
	s, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state")})
	require.NoError(t, err)
	defer s.Close()
	info, err := s.Plan(t.Context(), "mirror", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	require.EqualValues(t, 3, info.Totals[plan.Remove].Count)
	require.NotEmpty(t, info.Held)
	return dir
}

func files(t *testing.T, dir string) (all []string) {
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			rel, _ := filepath.Rel(dir, path)
			all = append(all, rel)
		}
		return err
	}))
	return all
}

// A plan that a guard holds back goes on the number of its removals, typed: no other
// number, none, or Enter alone; and then it removes those. Leaving the form lets nothing go.
func TestApprovalIsTyped(t *testing.T) {
	t.Parallel()
	world := mirrorWorld(t)
	all := []string{"a.wav", "ab.wav", "b/c.wav", "kept.wav"}
	for _, typed := range []string{"", "2", "4", "33", "-3", "three", "0"} {
		dir := copied(t, world)
		x := openStage(t, dir)
		x.goes("~held back", "4", "~▸ b", "a", "~Type the number of deletions, 3,")
		if typed != "" {
			x.goes("=" + typed)
		}
		x.goes("enter", "~that is not the number: it deletes 3", "esc", "~a approve")
		assert.Equal(t, all, files(t, filepath.Join(dir, "copy")), "%q", typed)
		assert.Nil(t, x.m.shared.Service.Active("mirror"))
		p, err := plan.OpenNumber(filepath.Join(dir, "state/jobs/mirror/plans"), 1)
		require.NoError(t, err)
		assert.False(t, p.Approved(), "%q", typed)
		require.NoError(t, p.Close())
	}
	dir := copied(t, world)
	x := openStage(t, dir)
	x.goes("~held back", "4", "~▸ b", "a", "~Type the number", "=3", "enter", "~Everything the plan named")
	assert.Equal(t, []string{"kept.wav"}, files(t, filepath.Join(dir, "copy")))
}

// What is struck out of a plan stays, and the number asked for is that of what is left;
// an approval that was given ends with it.
func TestStruckOutStays(t *testing.T) {
	t.Parallel()
	dir := copied(t, mirrorWorld(t))
	x := openStage(t, dir)
	x.goes("~held back", "4", "~▸ b", "-", "~Struck out: a.wav", "a", "~Type the number of deletions, 2,", "=3",
		"enter", "~it deletes 2", "esc", "~a approve",
		"a", "~deletions, 2,", "=2", "enter", "~Everything the plan named")
	assert.Equal(t, []string{"a.wav", "kept.wav"}, files(t, filepath.Join(dir, "copy")))
}

// What counts as the same by size and a later time alone is told before the first run, and a key has the contents
// decide instead.
func TestContentsAreCompared(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	put("endpoints.toml", "[endpoint.studio]\nkind = \"folder\"\npath = \"studio\"\n[endpoint.north]\nkind = \"s3\"\n"+
		"stand-in = \"north\"\ntest = \"never\"\n"+latency())
	put("jobs/late.toml", "source = \"studio\"\ntarget = \"north/reeds\"\n")
	put("studio/a.wav", "flood")
	put("studio/b.wav", "slack")
	for _, name := range []string{"a.wav", "b.wav"} { // long before anything was stored there
		require.NoError(t, os.Chtimes(filepath.Join(dir, "studio", name), time.Time{}, time.Unix(1<<30, 0)))
	}
	s, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state")})
	require.NoError(t, err)
	require.NoError(t, s.MakeBucket(t.Context(), "north", "reeds"))
	at, err := s.Place(t.Context(), "north/reeds/")
	require.NoError(t, err)
	for name, text := range map[string]string{"a.wav": "flood", "b.wav": "ebbed"} {
		_, err := at.Write(t.Context(), name, strings.NewReader(text), 5, place.WriteOptions{})
		require.NoError(t, err)
	}
	info, err := s.Plan(t.Context(), "late", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	require.True(t, info.NothingToDo())
	require.EqualValues(t, 2, info.Later)
	require.NoError(t, s.Close())
	x := openStage(t, dir)
	x.goes("~late", "4", "~2 count as the same by size and a later time alone(.|\n)*C compares their contents",
		"C", "~Plan 2 (.|\n)*different content")
	require.NotContains(t, x.look(), "C compares")
}

// The proof view says what the proof found, for each thing that can be amiss.
func TestProofIsTold(t *testing.T) {
	t.Parallel()
	world := mirrorWorld(t)
	for _, c := range map[string]struct {
		spoil func(dir string)
		says  string
	}{
		"all the same": {func(dir string) {
			for _, name := range []string{"a.wav", "ab.wav", "b"} {
				require.NoError(t, os.RemoveAll(filepath.Join(dir, "copy", name)))
			}
			require.NoError(t, os.WriteFile(filepath.Join(dir, "copy/kept.wav"), []byte("kept"), 0o644))
		}, "◗ It holds"},
		"different": {func(dir string) {}, "▲ It does not hold"},
		"missing": {func(dir string) { require.NoError(t, os.Remove(filepath.Join(dir, "copy/kept.wav"))) },
			"▲ It does not hold"},
		"extra": {func(dir string) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "copy/kept.wav"), []byte("kept"), 0o644))
		}, "◗ It holds.*Everything at the source"},
	} {
		dir := copied(t, world)
		c.spoil(dir)
		x := openStage(t, dir)
		x.goes("~mirror", "6", "~Never proven", "v", "~"+c.says)
		x.goes("1", "~mirror", "~"+map[bool]string{true: "proven", false: "proof does not hold"}[c.says[:3] == "◗"])
	}
}

// What a store says in its own words reaches the screen without what would steer it, in
// every view that shows it.
func TestStoresOwnWordsAreEscaped(t *testing.T) {
	t.Parallel()
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusForbidden)
		w.Write([]byte("<Error><Code>Access\u009bDenied</Code><Message>no &#x202e;way\u009b2J\u0085 " +
			"here</Message></Error>"))
	}))
	defer web.Close()
	dir := mirrorWorld(t)
	raw, err := os.ReadFile(filepath.Join(dir, "endpoints.toml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "endpoints.toml"),
		append(raw, "[endpoint.rude]\nkind = \"s3\"\naddress = \""+web.URL+
			"\"\naccess-key = \"k\"\nsecret-from = \"env:HOME\"\ntest = \"never\"\n"...), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "jobs/rude.toml"),
		[]byte("source = \"studio\"\ntarget = \"rude/box\"\n"), 0o644))
	for _, way := range [][]string{
		{"~rude", "2", "~▸ rude", "j", "enter", "~not allowed"},
		{"~rude", "4", ">", "~rude", "p", "~not allowed"},
		{"~rude", "6", ">", "~rude", "v", "~not allowed"},
		{"~rude", "3", "~What it would do", ">", "~› rude", "s", "~not allowed"},
		{"~rude", "2", "~▸ rude", "j", "y", "~Try rude", "enter", "~refused|not allowed"},
	} {
		x := openStage(t, copied(t, dir))
		x.goes(way...)
		check(t, x.m, way[len(way)-2])
	}
}

// Names, classes, marks and types that a store gives reach the screen in the same way.
func TestStoresOwnNamesAreEscaped(t *testing.T) {
	t.Parallel()
	const rude = "a\u009b2J\u0085\u202eb"
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header()["Etag"] = []string{`"` + rude + `"`}
		w.Header()["Content-Type"] = []string{"text/" + rude}
		w.Header()["X-Amz-Meta-Site"] = []string{rude}
		w.Header()["X-Amz-Storage-Class"] = []string{rude}
		w.Header()["X-Amz-Version-Id"] = []string{rude}
		switch q := r.URL.Query(); {
		case r.Method == http.MethodHead:
			w.Header().Set("Content-Length", "3")
		case r.URL.Path == "/":
			w.Write([]byte("<ListAllMyBucketsResult><Buckets><Bucket><Name>box</Name></Bucket></Buckets>" +
				"</ListAllMyBucketsResult>"))
		case q.Has("list-type"):
			w.Write([]byte("<ListBucketResult><Contents><Key>" + rude + "</Key><Size>3</Size><ETag>" + rude +
				"</ETag><StorageClass>" + rude +
				"</StorageClass><LastModified>2026-01-01T00:00:00Z</LastModified></Contents></ListBucketResult>"))
		case q.Has("versions"):
			w.Write([]byte("<ListVersionsResult><Version><Key>" + rude + "</Key><VersionId>" + rude +
				"</VersionId><IsLatest>true</IsLatest><ETag>" + rude +
				"</ETag><Size>3</Size><LastModified>2026-01-01T00:00:00Z</LastModified></Version>" +
				"</ListVersionsResult>"))
		case q.Has("tagging"):
			w.Write([]byte("<Tagging><TagSet><Tag><Key>" + rude + "</Key><Value>" + rude +
				"</Value></Tag></TagSet></Tagging>"))
		case q.Has("uploads"):
			w.Write([]byte("<ListMultipartUploadsResult><Upload><Key>" + rude + "</Key><UploadId>" + rude +
				"</UploadId><Initiated>2026-01-01T00:00:00Z</Initiated></Upload></ListMultipartUploadsResult>"))
		case q.Has("versioning"):
			w.Write([]byte("<VersioningConfiguration><Status>Enabled</Status></VersioningConfiguration>"))
		default:
			w.Write([]byte("\u009b2J"))
		}
	}))
	defer web.Close()
	dir := mirrorWorld(t)
	raw, err := os.ReadFile(filepath.Join(dir, "endpoints.toml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "endpoints.toml"),
		append(raw, "[endpoint.rude]\nkind = \"s3\"\naddress = \""+web.URL+
			"\"\naccess-key = \"k\"\nsecret-from = \"env:HOME\"\ntest = \"never\"\n"...), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "jobs/rude.toml"),
		[]byte("source = \"rude/box\"\ntarget = \"copy/x\"\n"), 0o644))
	for _, way := range [][]string{
		{"~rude", "2", "~▸ rude", "j", "enter", "~▸ box", "j", "enter", `~\\u009b2J`},
		{"~rude", "2", "~▸ rude", "j", "enter", "~▸ box", "j", "enter", `~\\u009b2J`, "j", `~content|size +3`},
		{"~rude", "2", "~▸ rude", "j", "enter", "~▸ box", "j", "o", `~2J`},
		{"~rude", "4", ">", "~rude", "p", `~\\u009b2J`},
	} {
		x := openStage(t, copied(t, dir))
		x.goes(way...)
		check(t, x.m, way[len(way)-1])
	}
}
