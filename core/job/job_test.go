package job_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"

	"lumtra/core/job"
	"lumtra/core/place/kind"
	"lumtra/testkit"
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
		"source = \"studio": "bad.toml:1:",
		start + "compare-by = " +
			"\"moon\"": "bad.toml:3:1: compare-by is \"moon\"; it is \"size-and-time\", \"size\", \"content\" or " +
			"\"all\"",
		start + "[packs]\nat-most = " +
			"\"50GB\"": "bad.toml:4:1: at-most says nothing here: it is for several packs, whose name is *.tar.zst!",
		start + "[packs]\nattributes = " +
			"true": "bad.toml:4:1: attributes says nothing here: the target is no pack",
		"source = \"studio/a\"\ntarget = \"north/b/c.tar!\"\n[packs]\nlevel = " +
			"3": "bad.toml:4:1: level says nothing here: a .tar is not compressed",
		start + "colour = " +
			"1": "bad.toml:3:1: there is no setting \"colour\" here",
		start + "[limits]\nstreams = \"many\"": "bad.toml:4:",
		start + "[limits]\nstreams = " +
			"5000": "bad.toml:4:1: streams is 5000; it is between 1 and 1024",
		start + "[limits]\npart-size = \"tiny\"": "bad.toml:4:1: part-size is \"tiny\"",
		start + "landing = " +
			"\"beside\"": "bad.toml:3:1: landing is \"beside\"; it is \"inside\" or \"folder\"",
		start + "direction = " +
			"\"up\"": "bad.toml:3:1: direction is \"up\"; it is \"one-way\" or \"two-way\"",
		start + "when-different = " +
			"\"ask\"": "bad.toml:3:1: when-different is \"ask\"; it is \"replace\", \"skip\", \"if-newer\" or " +
			"\"keep-both\"",
		start + "target-only = " +
			"\"burn\"": "bad.toml:3:1: target-only is \"burn\"; it is \"keep\", \"trash\" or \"delete\"",
		start + "target-only = \"trash\"\ntrash = " +
			"\"/x\"": "bad.toml:4:1: trash is \"/x\"; it is a path below the target",
		start + "conflicts = " +
			"\"mine\"": "bad.toml:3:1: conflicts is \"mine\"; it is",
		start + "direction = \"two-way\"\ntarget-only = " +
			"\"delete\"": "bad.toml:4:1: in a two-way job nothing is only at the target",
		start + "direction = \"two-way\"\nwhen-different = " +
			"\"skip\"": "bad.toml:4:1: a two-way job settles differences as conflicts",
		start + "direction = \"two-way\"\ncompare-by = " +
			"\"all\"": "bad.toml:4:1: a two-way job cannot send everything both ways",
		start + "survey-age = " +
			"\"soon\"": "bad.toml:3:1: survey-age is \"soon\"; it is an age such as \"2h\"",
		start + "[select]\ninclude = " +
			"[\"[a\"]": "bad.toml:4:1: include has the pattern \"[a\", which cannot be read",
		start + "[select]\nexclude = " +
			"[\"/a/**\"]": "bad.toml:4:1: exclude has the pattern \"/a/**\"; keys do not start with \"/\": write " +
			"\"a/**\"",
		start + "[select]\nolder-than = " +
			"\"long\"": "bad.toml:4:1: older-than is \"long\"; it is an age such as \"30d\"",
		start + "[select]\nmodified-from = " +
			"\"yesterday\"": "bad.toml:4:1: modified-from is \"yesterday\"; it is a date",
		start + "[select]\nlargest = " +
			"\"big\"": "bad.toml:4:1: largest is \"big\"; it is a size",
		start + "[as]\ngzip = " +
			"[\"{a\"]": "bad.toml:4:1: gzip has the pattern \"{a\"",
		start + "compare-by = \"content\"\n[as]\ngzip = " +
			"[\"**\"]": "bad.toml:3:1: what is compressed on the way has another size",
		"source = \"north/b\"\ntarget = \"studio/a\"\n[as]\ngzip = [\"**\"]": "bad.toml:4:1: gzip is for stores",
		start + "[safety]\ndeletion-share = " +
			"120": "bad.toml:4:1: deletion-share is 120; it is percent, between 0 and 100",
		start + "[safety]\ndeletions = " +
			"-1": "bad.toml:4:1: deletions is -1; it is a number of objects",
		"source = \"studio\"\ntarget = \"north/b\"\nlanding = " +
			"\"folder\"": "bad.toml:3:1: landing is \"folder\", but the source is a whole endpoint",
		start + "proof = \"hope\"": "bad.toml:3:1: proof is \"hope\"",
		start + "afterwards = " +
			"\"burn\"": "bad.toml:3:1: afterwards is \"burn\"; it is \"keep\", \"delete\", \"archive\" or \"tag\"",
		start + "afterwards = \"delete\"\ntarget-only = " +
			"\"delete\"": "bad.toml:4:1: what leaves the source would be only at the target",
		start + "afterwards = \"tag\"\nsource-tags = { a = \"b\" " +
			"}": "bad.toml:3:1: source is a folder, and files have no tags",
		start + "afterwards = \"delete\"\ndirection = " +
			"\"two-way\"": "bad.toml:3:1: a two-way job needs both sides to stay",
		start + "afterwards = \"delete\"\nproof = \"size\"": "bad.toml:4:1: a size proves no copy",
		start + "afterwards = \"archive\"\narchive = " +
			"\"../up\"": "bad.toml:4:1: archive is \"../up\"; it is a path below the source",
		start + "[limits]\nbandwidth = " +
			"[\"fast\"]": "bad.toml:4:1: \"fast\" is no bandwidth; it reads like \"80 MB/s\"",
		start + "[limits]\nzone = " +
			"\"Atlantis\"": "bad.toml:4:1: zone is \"Atlantis\"; it is a time zone's name",
		"target = \"north/b\"": "bad.toml: source is missing",
		"source = \"nowhere/x\"\ntarget = " +
			"\"north/b\"": "bad.toml:1:1: source names the endpoint \"nowhere\"",
		"source = \"studio\"\n\n  target = " +
			"\"north\"": "bad.toml:3:3: target names no bucket or container",
		"source = \"studio/a\"\ntarget = " +
			"\"studio/a/b\"": "bad.toml:2:1: source and target are the same place, or one lies in the other",
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
	assert.ErrorContains(t, err, "there is no job")
	for typed, says := range map[string]string{"target-onl = \"trash\"": `did you mean "target-only"?`,
		"[select]\ninclud = []": `did you mean "include"?`, "[selekt]\nx = 1": `did you mean "select"?`} {
		_, err := job.Parse("", "x", start+typed, w.Endpoints)
		assert.ErrorContains(t, err, says)
	}
	_, err = load(t, goodEndpoints+"adress = \"x\"\n", nil)
	assert.ErrorContains(t, err, `did you mean "address"?`)
}

func TestEndpointMistakes(t *testing.T) {
	for text, want := range map[string]string{
		"[endpoint.a]\nkind = " +
			"\"tape\"": `:2:1: endpoint a: kind is "tape"`,
		"[endpoint.a]\nkind = " +
			"\"folder\"": ":1:11: endpoint a: a folder needs its path",
		"[endpoint.a]\nkind = \"s3\"\naddress = " +
			"\"north\"": `:3:1: endpoint a: address is "north"`,
		"[endpoint.a]\nkind = \"s3\"\naddress = " +
			"\"https://u:p@h\"": ":3:1: endpoint a: no credentials in the address",
		"[endpoint.a]\nkind = \"s3\"\naddress = \"https://h\"\naccess-key = " +
			"\"k\"": "an access key needs secret-from",
		"[endpoint.a]\nkind = \"s3\"\naddress = \"https://h\"\naccess-key = \"k\"\nsecret-from = " +
			"\"hunter12\"": ":5:1: endpoint a: secret-from says where the secret lies",
		"[endpoint.a]\nkind = \"blob\"\naddress = \"https://h\"\naccount = \"marsh\"": "an account needs secret-from",
		"[endpoint.\"a b\"]\nkind = \"folder\"\npath = \"x\"":                         "a name has 1 to 63",
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
	first := "# Ours.\ntitle = \"Marsh\"\n\n[endpoint.studio] # here\nkind = \"folder\"\npath = \"s\"\n\n# The far " +
		"one.\n[endpoint.far]\nkind = \"folder\"\npath = \"f\"\n"
	require.NoError(t, os.WriteFile(path, []byte(first), 0o644))
	north := &kind.Settings{Name: "north", Kind: "s3", Address: "https://s3.example.org", Credential: "kept:north"}
	require.NoError(t, job.SaveEndpoint(dir, "", north))
	assert.ErrorContains(t, job.SaveEndpoint(dir, "", north), "already")
	require.NoError(t, job.SaveEndpoint(dir, "studio", &kind.Settings{Name: "studio-2", Kind: "folder", Path: "s2"}))
	north.Region = "eu-north-1"
	require.NoError(t, job.SaveEndpoint(dir, "north", north))
	assert.Error(t, job.SaveEndpoint(dir, "north", &kind.Settings{Name: "north", Kind: "s3", Address: "no"}))
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
	assert.Equal(t, "# Ours.\ntitle = \"Marsh\"\n\n# The far one.\n[endpoint.far]\nkind = \"folder\"\npath = \"f\"\n",
		string(raw))
}

// Settings are changed in the text, one at a time, and comments, order and all
// else stay.
func TestSet(t *testing.T) {
	text := "# Ours.\nsource = \"a\" # from here\n\n[select]\n# which\ninclude = [\n  \"x\", # one\n  " +
		"\"y\",\n]\n\n[limits]\nstreams = 4\n"
	set := func(value any, path ...string) {
		var err error
		text, err = job.Set(text, value, path...)
		require.NoError(t, err)
	}
	set("b \"q\"", "source")
	set("t", "target")
	set([]string{"**/*.wav"}, "select", "include")
	set("30d", "select", "older-than")
	set(int64(9), "limits", "streams")
	set(int64(5), "safety", "deletions")
	set("", "compare-by")
	set(map[string]string{"owner": "sound", "a b": "c"}, "as", "metadata")
	assert.Equal(t, "# Ours.\nsource = 'b \"q\"' # from here\ntarget = 't'\n\n[select]\n# which\ninclude = "+
		"['**/*.wav']\nolder-than = '30d'\n\n[limits]\nstreams = 9\n\n[safety]\ndeletions = 5\n\n[as]\nmetadata = { "+
		"'a b' = 'c', owner = 'sound' }\n",
		strings.ReplaceAll(text, "'owner'", "owner"))
	set(nil, "select", "include")
	set("", "target")
	assert.Contains(t, text, "# from here\n\n[select]\n# which\nolder-than = '30d'\n")
	j, err := job.Parse("", "x", text, nil)
	assert.Error(t, err)
	assert.Equal(t, "30d", j.Select.OlderThan)
	assert.Equal(t, 9, j.Limits.Streams)
	_, err = job.Set(text, "x")
	assert.EqualError(t, err, "no setting is named")
	empty, err := job.Set("", "studio", "source")
	require.NoError(t, err)
	assert.Equal(t, "source = 'studio'\n", empty)
}

// Whatever way tables are written in, a setting that is set is read back, and no other
// changes.
func TestSetInEveryForm(t *testing.T) {
	tables := map[string][]string{"limits": {"streams", "zone"}, "safety": {"deletions", "drift"}, "as": {"class"}}
	testkit.Check(t, func(rt *rapid.T) {
		want, top, below := map[string]any{"source": "a"}, "source = \"a\" # from\n", ""
		for _, table := range []string{"limits", "safety", "as"} {
			has := map[string]any{}
			for _, name := range tables[table] {
				if rapid.Bool().Draw(rt, table+" has "+name) {
					has[name] = name
				}
			}
			if len(has) == 0 {
				continue
			}
			want[table] = has
			var lines, dotted, inline string
			for name := range has {
				lines += name + " = '" + name + "' # why\n"
				dotted += table + "." + name + " = '" + name + "' # why\n"
				inline += ", " + name + " = '" + name + "'"
			}
			switch rapid.IntRange(0, 2).Draw(rt, "form of "+table) {
			case 0:
				below += "\n[" + table + "]\n" + lines
			case 1:
				top += dotted
			case 2:
				top += table + " = { " + inline[2:] + " } # why\n"
			}
		}
		text := top + below
		for range rapid.IntRange(1, 5).Draw(rt, "changes") {
			table := rapid.SampledFrom([]string{"limits", "safety", "as"}).Draw(rt, "table")
			name := rapid.SampledFrom(tables[table]).Draw(rt, "name")
			value := rapid.SampledFrom([]string{"", "new # 'one'", "other"}).Draw(rt, "value")
			was := text
			var err error
			text, err = job.Set(text, value, table, name)
			require.NoError(rt, err, was)
			inside, _ := want[table].(map[string]any)
			if value == "" {
				delete(inside, name)
			} else if inside == nil {
				want[table] = map[string]any{name: value}
			} else {
				inside[name] = value
			}
			var got map[string]any
			require.NoError(rt, toml.Unmarshal([]byte(text), &got), "%s\nof\n%s", text, was)
			for table := range tables { // one without anything in it may stay or go
				for _, m := range []map[string]any{got, want} {
					if x, _ := m[table].(map[string]any); len(x) == 0 {
						delete(m, table)
					}
				}
			}
			require.Equal(rt, want, got, "%s\nof\n%s", text, was)
			require.Contains(rt, text, "source = \"a\" # from\n")
		}
	})
	for _, text := range []string{"[as.metadata]\nowner = 'sound'\n", "as.metadata.owner = 'sound'\n"} {
		_, err := job.Set(text, map[string]string{"a": "b"}, "as", "metadata")
		assert.ErrorContains(t, err, "as.metadata is written in a way that can only be changed in the text")
	}
}

// A file that is none, or that does not end, is refused and not waited for.
func TestFilesThatAreNone(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "jobs"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "endpoints.toml"), nil, 0o600))
	require.NoError(t, unix.Mkfifo(filepath.Join(dir, "jobs/pipe.toml"), 0o600))
	require.NoError(t, os.Symlink("/dev/zero", filepath.Join(dir, "jobs/zero.toml")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "jobs/large.toml"), nil, 0o600))
	require.NoError(t, os.Truncate(filepath.Join(dir, "jobs/large.toml"), 8<<30))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "jobs/wide.toml"), []byte("\xff\xfes\x00o\x00"), 0o600))
	w, err := job.LoadWorkspace(dir)
	require.NoError(t, err)
	require.Len(t, w.Mistakes, 4)
	for i, why := range []string{"larger than", "not a plain file", "save it as UTF-8", "not a plain file"} {
		assert.ErrorContains(t, w.Mistakes[i], why)
	}
}

// Files as other systems' editors write them: with a mark of the byte order, and two characters at the
// end of each line.
func TestFilesOfOtherEditors(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "jobs"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "endpoints.toml"),
		[]byte("\xef\xbb\xbf[endpoint.a]\r\nkind = \"folder\"\r\npath = \"a\"\r\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "jobs/x.toml"),
		[]byte("\xef\xbb\xbfsource = \"a/x\"\r\ntarget = \"a/y\"\r\nproof = \"size\" # quick\r\n"), 0o600))
	w, err := job.LoadWorkspace(dir)
	require.NoError(t, err)
	require.Empty(t, w.Mistakes)
	require.Equal(t, "a/y", w.Jobs[0].Target)
	text, err := job.Set("source = \"a/x\"\r\nproof = \"size\" # quick\r\n", "read-back", "proof")
	require.NoError(t, err)
	assert.Equal(t, "source = \"a/x\"\r\nproof = 'read-back' # quick\r\n", text)
}

// What a two-way job may say, it may say.
func TestTwoWayIsTaken(t *testing.T) {
	ends := map[string]*kind.Settings{"studio": {Name: "studio", Kind: "folder", Path: "/s"},
		"north": {Name: "north", Kind: "s3", Address: "http://127.0.0.1:1"}}
	for _, judge := range []string{"size-and-time", "size", "content"} {
		_, err := job.Parse("", "both", "source = \"studio\"\ntarget = \"north/b\"\ndirection = "+
			"\"two-way\"\ncompare-by = \""+
			judge+"\"\n", ends)
		assert.NoError(t, err, judge)
	}
}
