package frame

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/service"
	"lumtra/service/workspace"
)

// The ways to where most acts begin.
var (
	toReeds = []string{"~Needs you", "2", "~▸ north", "j", "enter", "~▸ reeds", "j", "~versioning +on"}
	toDawn  = append(append([]string(nil), toReeds...), "enter", "~dawn.txt", "j", "~2 versions(.|\\n)*second")
	toCopy  = []string{"~Needs you", "2", "~keeps sums", "enter", "~▸ masters", "j", "~both/", "j", "~failing/", "j",
		"~8 objects|masters/"}
)

func way(from []string, steps ...string) []string {
	return append(append([]string(nil), from...), steps...)
}

// after is what is looked at when an act has been done.
type after struct {
	t   *testing.T
	dir string
	s   *service.Service
}

func (a after) content(at, key string) string {
	p, err := a.s.Place(a.t.Context(), at)
	require.NoError(a.t, err)
	r, _, err := p.Read(a.t.Context(), key, place.ReadOptions{})
	if place.KindOf(err) == place.NotFound {
		return "nothing"
	}
	require.NoError(a.t, err)
	defer r.Close()
	raw := make([]byte, 1000)
	n, _ := r.Read(raw)
	return string(raw[:n])
}

func (a after) stat(at, key string) object.Entry {
	p, err := a.s.Place(a.t.Context(), at)
	require.NoError(a.t, err)
	e, err := p.Stat(a.t.Context(), object.Ref{Key: key})
	require.NoError(a.t, err)
	return e
}

func (a after) file(name string) string {
	raw, err := os.ReadFile(filepath.Join(a.dir, name))
	if err != nil {
		return "nothing"
	}
	return string(raw)
}

// acts are whole acts, from the opened window to what is then on the disk or in the store.
var acts = map[string]struct {
	way  []string
	does func(a after)
}{
	"an object is hidden in a bucket with versions": {way(toDawn, "D", "~Versions are kept here",
		"esc", "~enter open", "D", "~Versions are kept here", "enter", "~things that go, 1", "=2", "enter",
		"~this is not the number: 1", "esc", "~enter open", "D", "~Versions are kept here", "enter",
		"~things that go, 1", "=1", "enter", "~Done\\.", "~100 %"),
		func(a after) {
			assert.Equal(a.t, "nothing", a.content("north/reeds/", "dawn.txt"))
			all, err := versions(a, "dawn.txt")
			require.NoError(a.t, err)
			assert.Len(a.t, all, 3, "both are there, below a marker")
		}},
	"an object is deleted with its versions": {way(toDawn, "D", "~Versions are kept here", "right", "~for|permanently",
		"enter", "~Every version and delete marker(.|\\n)*things that go, 2", "=2", "enter", "~Done\\.", "~100 %"),
		func(a after) {
			all, err := versions(a, "dawn.txt")
			require.NoError(a.t, err)
			assert.Empty(a.t, all)
		}},
	"an object is renamed": {way(toDawn, "m", "~only once its copy is there", "down", "=dusk.txt", "enter", "~Done\\."),
		func(a after) {
			assert.Equal(a.t, []string{"nothing", "second\nand more\n"},
				[]string{a.content("north/reeds/", "dawn.txt"), a.content("north/reeds/", "dusk.txt")})
		}},
	"an object is copied": {way(toDawn, "m", "~only once its copy is there", "right", "~‹ copy ›", "down",
		"=dusk.txt", "enter", "~Done\\."),
		func(a after) {
			assert.Equal(a.t, []string{"second\nand more\n", "second\nand more\n"},
				[]string{a.content("north/reeds/", "dawn.txt"), a.content("north/reeds/", "dusk.txt")})
		}},
	"an older version is brought back": {way(toDawn, "tab", "~left older", "left",
		"~1 before the newest(.|\\n)*first", "b", "~Bring back an older", "enter", "~reeds/ +3 +11 B"),
		func(a after) { assert.Equal(a.t, "first\n", a.content("north/reeds/", "dawn.txt")) }},
	"a version is deleted permanently": {way(toDawn, "tab", "~left older", "left", "~1 before the newest(.|\\n)*first",
		"D", "~things that go, 1", "=1", "enter", "~Done\\."),
		func(a after) {
			assert.Equal(a.t, "second\nand more\n", a.content("north/reeds/", "dawn.txt"))
			all, err := versions(a, "dawn.txt")
			require.NoError(a.t, err)
			assert.Len(a.t, all, 1)
		}},
	"a version is fetched": {way(toDawn, "tab", "~left older", "left", "~1 before the newest(.|\\n)*first", "f",
		"~Fetch", "enter", "~6 B fetched|Fetched|fetched|Written"),
		func(a after) {
			raw, err := os.ReadFile("dawn.txt")
			require.NoError(a.t, err)
			assert.Equal(a.t, "first\n", string(raw))
		}},
	"metadata and tags of one are set": {way(toDawn, "i", "~Metadata and tags", "=site = weir", "down", "down",
		"=season = spring", "enter", "~Done\\."),
		func(a after) {
			assert.Equal(a.t, "weir", a.stat("north/reeds/", "dawn.txt").Metadata["site"])
			p, err := a.s.Place(a.t.Context(), "north/reeds/")
			require.NoError(a.t, err)
			tags, err := p.(place.Tagger).Tags(a.t.Context(), object.Ref{Key: "dawn.txt"})
			require.NoError(a.t, err)
			assert.Equal(a.t, map[string]string{"season": "spring"}, tags)
		}},
	"what was deleted comes back": {way(toReeds, "U", "~Undelete", "enter", "~Done\\."),
		func(a after) { assert.Equal(a.t, "deleted by hand", a.content("north/reeds/", "gone.txt")) }},
	"a bucket is emptied": {way(toReeds, "E", "~things that go, 6", "down", "=6", "enter", "~Done\\."),
		func(a after) { assert.Equal(a.t, "nothing", a.content("north/reeds/", "dawn.txt")) }},
	"a bucket is not emptied by another number": {way(toReeds, "E", "~things that go, 6", "down", "=5", "enter",
		"~not the number|that is not"),
		func(a after) { assert.Equal(a.t, "second\nand more\n", a.content("north/reeds/", "dawn.txt")) }},
	"an address is pasted where a bucket is asked for": {way(toReeds, "n", "~A bucket at north",
		"=https://marsh.blob.example.net/loans", "enter", "~A new endpoint: Azure Blob API", "esc"), nil},
	"an address is pasted where a folder is asked for": {way(toDawn, "n", "~A folder in",
		"=https://s3.example.org", "enter", "~A new endpoint: S3 API", "esc"), nil},
	"a bucket is made": {way(toReeds, "n", "~A bucket at north", "=sedge", "enter", "~▸ sedge"),
		func(a after) {
			p, err := a.s.Place(a.t.Context(), "north/sedge/")
			require.NoError(a.t, err)
			for range p.List(a.t.Context(), "", place.ListOptions{}) {
				assert.Fail(a.t, "it is new")
			}
		}},
	"versioning is switched": {way(toReeds, "v", "~is on now", "right", "~‹ [^k]", "enter",
		"~The store says it is (suspended|off)|versioning +(suspended|off)"),
		func(a after) {
			v, err := a.s.Versioning(a.t.Context(), workspace.At{Endpoint: "north", Bucket: "reeds"})
			require.NoError(a.t, err)
			assert.NotEqual(a.t, place.Versioning("on"), v)
		}},
	"a folder is made and deleted": {way(toCopy, "n", "~A folder in copy", "=quite new", "enter", "~quite new/"),
		func(a after) { assert.DirExists(a.t, filepath.Join(a.dir, "copy/masters/quite new")) }},
	"many are marked by pattern and deleted": {way(toCopy, "*", "~Mark by pattern in copy", "=**/*.wav", "enter",
		"~matches 7 objects", "enter", "~7 marked", "D", "~Type the number", "=7", "enter", "~Done\\."),
		func(a after) {
			assert.Equal(a.t, []string{"notes.txt"}, files(a.t, filepath.Join(a.dir, "copy/masters")))
		}},
	"a folder is added as an endpoint, tried and saved": {[]string{"~Needs you", "2", "~keeps sums", "n",
		"~Paste an address", "=studio/masters", "enter", "~A new endpoint: folder(.|\n)*name +masters", "enter",
		"~enter save it", "enter", "~▸ masters"},
		func(a after) {
			assert.Equal(a.t, "studio/masters", a.s.Workspace().Endpoints["masters"].Path)
			assert.Contains(a.t, a.file("endpoints.toml"), "[endpoint.masters]")
		}},
	"an endpoint that no job names is deleted": {[]string{"~Needs you", "2", "~▸ north", "j", "D",
		"~Delete the settings of north", "enter", "~Deleted the settings"},
		func(a after) { assert.NotContains(a.t, a.file("endpoints.toml"), "north") }},
	"an endpoint that a job names is not": {[]string{"~Needs you", "2", "~keeps sums", "D",
		"~Delete the settings of copy", "enter", "~names it"},
		func(a after) { assert.Contains(a.t, a.file("endpoints.toml"), "copy") }},
	"a signed address is taken apart, and its secret not shown": {[]string{"~Needs you", "2", "~keeps sums", "n",
		"~Paste an address", "=https://marsh.blob.example.net/loans?sp=rl&se=2031-01-01T00:00:00Z&sig=c2VhbA", "enter",
		"~It allows: read, list(.|\n)*good until"}, func(a after) {}},
	"a store is asked for what it needs": {[]string{"~Needs you", "2", "~keeps sums", "n", "~Paste an address",
		"=http://127.0.0.1:9/box", "enter", "~only bucket +box(.|\n)*region(.|\n)*proxy"}, func(a after) {}},
	"a credential is kept, changed, locked and deleted by its label": {[]string{"~Needs you", "2", "~keeps sums", "K",
		"~a keeps one", "a", "~label", "=marsh", "down", "down", "=AKMARSH", "down", "=reed-bed", "enter",
		"~Kept marsh", "K", "~AKMARSH",
		"l", "~How the kept credentials are locked", "down", "=short", "down", "=other", "enter", "~not the same",
		"esc", "K", "~AKMARSH", "x", "~Type its label", "=mars", "enter", "~that is not its label", "=h", "enter",
		"~Deleted the credential", "K", "~None yet"},
		func(a after) {
			all, err := a.s.Credentials()
			require.NoError(a.t, err)
			assert.Empty(a.t, all)
			assert.NotContains(a.t, a.file("state/secrets/credentials.json"), "reed-bed")
		}},
	"a link is made": {way(toDawn, "L", "~Link to", "enter", "~X-Amz-Signature|good until|until"), func(a after) {}},
	"a cold object is asked for": {way(toReeds, "enter", "~frozen", "j", "j", "j", "~GLACIER(.|\n)*frozen.txt", "w",
		"~for days", "enter", "~Done\\."),
		func(a after) { assert.NotEqual(a.t, object.Archived, a.stat("north/reeds/", "frozen.txt").Archive) }},
	"the tray is dropped as a plan": {way(toDawn, "t", "~tray: 1", "k", "k", "k", "~versions|copy", "k", "k", "enter",
		"~▸ masters", "d", "~tray-1"),
		func(a after) { assert.FileExists(a.t, filepath.Join(a.dir, "state/drops/tray-1.json")) }},
	"two plans are compared": {[]string{"~Needs you", "4", ">", ">", ">", "~▸ reeds(.|\n)*names: ", "c",
		"~Compare plan 2 with", "enter", "~plan 1"}, func(a after) {}},
	"names are found in a plan": {[]string{"~Needs you", "4", ">", ">", ">", "~▸ reeds(.|\n)*names: ", "j", "enter",
		"~more.wav", "/", "~in what is open", "=more", "enter", "~▌ +more.wav|more.wav"}, func(a after) {}},
	"one effect is shown alone": {[]string{"~Needs you", "4", ">", ">", ">", "~▸ reeds(.|\n)*names: ", "f",
		"~Show only", "enter", "~[Oo]nly.* add|add only"}, func(a after) {}},
	"what a check found is mended": {[]string{"~Needs you", "4", ">", ">", ">", "~▸ reeds(.|\n)*names: ", "m",
		"~Mend(.|\n)*▌ test", "enter", "~copy|studio"},
		func(a after) {}},
	"a job that was never written is given up": {[]string{"~Needs you", "3", "~What it would do", "n", "~A new job",
		"=never-mind", "enter", "esc", "~never-mind", "z", "~z once more", "z", "~was never written, and is gone"},
		func(a after) { assert.NoFileExists(a.t, filepath.Join(a.dir, "jobs/never-mind.toml")) }},
	"the tries of what failed are shown": {[]string{"~Needs you", "5", ">", "~done with failures", "tab", "~▌ 3 × ",
		"enter", "~try 1"}, func(a after) {}},
	"a job is renamed": {[]string{"~Needs you", "3", "~What it would do", ">", "~› failing", ">", "~› long", "R",
		"~Rename long", "=er", "enter", "~› longer"},
		func(a after) {
			assert.NoFileExists(a.t, filepath.Join(a.dir, "jobs/long.toml"))
			assert.FileExists(a.t, filepath.Join(a.dir, "jobs/longer.toml"))
			assert.DirExists(a.t, filepath.Join(a.dir, "state/jobs/longer"))
		}},
	"a job is deleted by its name": {[]string{"~Needs you", "3", "~What it would do", ">", "~› failing", ">",
		"~› long", "D", "~Delete the job long", "=lon", "enter", "~name", "=g", "enter", "~› (masters|failing|both)"},
		func(a after) { assert.NoFileExists(a.t, filepath.Join(a.dir, "jobs/long.toml")) }},
	"a copy of a job is written": {[]string{"~Needs you", "3", "~What it would do", "c", "~A copy of both", "=weekly",
		"enter", "~weekly", "w", "~Written to"},
		func(a after) {
			assert.Contains(a.t, a.file("jobs/weekly.toml"), `direction = "two-way"`)
			assert.Equal(a.t, rule(a.s, "both"), rule(a.s, "weekly"))
		}},
	"a phrase is changed and written": {[]string{"~Needs you", "3", "~What it would do", ">", "~› failing", "~sends",
		"enter", "~enter keep", "down", "~▌ Sync both ways", "enter", "~failing \\*", "w", "~Written to"},
		func(a after) { assert.Contains(a.t, a.file("jobs/failing.toml"), `direction = 'two-way'`) }},
	"a conflict is decided": {[]string{"~Needs you", "4", "~a.wav(.|\\n)*names: ", "d", "~Decide a.wav", "enter",
		"~Decided", "a", "~Let plan 1", "enter", "~Everything"},
		func(a after) { assert.Equal(a.t, "here", a.file("copy/both/a.wav")) }},
	"a conflict is decided the other way": {[]string{"~Needs you", "4", "~a.wav(.|\\n)*names: ", "d", "~Decide a.wav",
		"down", "enter", "~Decided", "a", "~Let plan 1", "enter", "~Everything"},
		func(a after) { assert.Equal(a.t, "there, and longer", a.file("studio/both/a.wav")) }},
	"what failed is tried again": {[]string{"~Needs you", "5", ">", "~done with failures", "p", "~Plan 2 ", "~▌", "a",
		"~Let plan 2|Type the number", "=0", "enter", "~Everything"},
		func(a after) { assert.Equal(a.t, "changed behind the plan", a.file("copy/failing/take 0.wav")) }},
}

func rule(s *service.Service, name string) any {
	for _, j := range s.Workspace().Jobs {
		if j.Name == name {
			return j.Rules
		}
	}
	return job.Job{}
}

// Whole acts by keys leave on the disk and in the store what the screen said.
func TestActs(t *testing.T) {
	dir := keyWorld(t)
	t.Chdir(t.TempDir())
	for name, act := range acts {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			own := copied(t, dir)
			x := openStage(t, own)
			x.goes(act.way...)
			if act.does != nil {
				act.does(after{t, own, x.m.shared.Service})
			}
		})
	}
}

// versions are the states of one object.
func versions(a after, key string) (all []object.Entry, err error) {
	p, err := a.s.Place(a.t.Context(), "north/reeds/")
	if err != nil {
		return nil, err
	}
	for e, err := range p.(place.Versioned).Versions(a.t.Context(), key, false) {
		if err != nil {
			return nil, err
		}
		if e.Key == key {
			all = append(all, e)
		}
	}
	return all, nil
}
