package service_test

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/handle"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/kind"
	"lumtra/core/place/kinds"
	"lumtra/core/place/placetest"
	"lumtra/core/plan"
	"lumtra/core/probe"
	"lumtra/core/secret"
	"lumtra/service"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/standin"
	"lumtra/testkit"
)

// Endpoints and credentials are added, used, rotated and removed, with the
// service open all the while; what is in use is not removed.
func TestEndpointsAndCredentials(t *testing.T) {
	dir := prepared(t)
	s := open(t, dir)
	given := func(text string) *secret.Credential {
		return &secret.Credential{Kept: secret.Kept{Label: "new", Kind: secret.KeyPair, Name: "saltmarsh"},
			Secret: secret.New(text)}
	}
	e := kind.Settings{Name: "second", Kind: "s3", StandIn: "second"}
	require.NoError(t, s.SaveEndpoint("", e, given("first-secret")))
	assert.ErrorIs(t, s.SaveEndpoint("", e, nil), workspace.ErrBadInput)
	require.NoError(t, s.MakeBucket(ctx, "second", "box"))
	assert.ErrorIs(t, s.MakeBucket(ctx, "second", "No Good"), workspace.ErrBadInput)
	all, err := s.Credentials()
	require.NoError(t, err)
	assert.Equal(t, []string{"second"}, all[0].UsedBy)
	assert.ErrorIs(t, s.RemoveCredential("new"), workspace.ErrBadInput)
	assert.ErrorIs(t, s.RemoveEndpoint("studio"), workspace.ErrBadInput, "a job names it")

	r, err := s.TestEndpoint(ctx, "second", probe.Options{Write: true})
	require.NoError(t, err)
	assert.Zero(t, r.Refused(), "%+v", r.Checks)
	assert.Equal(t, "box", s.Report("second").Bucket)

	e.Name = "renamed"
	e.Credential = "kept:new"
	require.NoError(t, s.SaveEndpoint("second", e, nil))
	assert.NotNil(t, s.Report("renamed"), "what was found goes along")
	assert.Contains(t, s.EndpointNames(), "renamed")
	require.NoError(t, s.RemoveEndpoint("renamed"))
	require.NoError(t, s.RemoveCredential("new"))

	until := time.Now().Add(time.Hour).UTC().Truncate(time.Second)
	p, err := kinds.Read("  https://marsh.blob.example.net/box?sv=2020-12-06&se=" + until.Format(time.RFC3339) +
		"&sr=c&sp=rl&sig=abc%3D ")
	require.NoError(t, err)
	assert.Equal(t, kind.Settings{Kind: "blob", Address: "https://marsh.blob.example.net", Bucket: "box"}, p.Endpoint)
	given2 := *p.Credential
	given2.Label = "signed"
	p.Endpoint.Name = "signed"
	require.NoError(t, s.SaveEndpoint("", p.Endpoint, &given2))
	assert.WithinDuration(t, until, s.Expiring(time.Now())["signed"], 0)
	for text, kind := range map[string]string{"/data/studio": "folder", "list.csv": "list",
		"https://marsh.blob.example.net": "blob", "https://s3.example.org/box": "s3"} {
		p, err := kinds.Read(text)
		require.NoError(t, err)
		assert.Equal(t, kind, p.Endpoint.Kind)
		assert.Nil(t, p.Credential)
	}
	_, err = kinds.Read("https://h/?sig=")
	assert.Error(t, err)
}

// What a test of the target found is in the plan: that nothing is kept of what
// is changed there.
func TestPlanHearsOfTests(t *testing.T) {
	s := open(t, prepared(t))
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	_, err := s.TestEndpoint(ctx, "north", probe.Options{Write: true})
	require.NoError(t, err)
	info := makePlan(t, s)
	require.Len(t, info.Notes, 1)
	assert.Contains(t, info.Notes[0], "north/archive keeps no versions")
	_, err = s.SetVersioning(ctx, workspace.At{Endpoint: "north", Bucket: "archive"}, true)
	require.NoError(t, err)
	_, err = s.TestEndpoint(ctx, "north", probe.Options{})
	require.NoError(t, err)
	assert.Empty(t, makePlan(t, s).Notes)
}

// A target that was found to refuse parts gets its big objects whole.
func TestRunsGoByTests(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "studio/dawn.wav", strings.Repeat("dawn", 3<<20))
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	require.NoError(t, s.KeepReport("north", &probe.Report{Endpoint: "north", Wrote: true, VerifiesSums: true,
		Conditions: true}))
	makePlan(t, s)
	r, err := s.StartRun(ctx, "masters", workroom.RunOptions{})
	require.NoError(t, err)
	res, err := r.Wait()
	require.NoError(t, err)
	assert.Zero(t, res.Failed)
	f, err := s.Describe(ctx, workspace.At{Endpoint: "north", Bucket: "archive", Key: "masters/dawn.wav"}, "")
	require.NoError(t, err)
	assert.NotContains(t, f.Entry.ETag, "-", "it went in one piece")
}

func rows(t *testing.T, s *service.Service, at workspace.At, removed bool) (names []string) {
	for e, err := range s.List(ctx, at, removed, false) {
		require.NoError(t, err)
		names = append(names, e.Kind.String()[:1]+" "+strings.TrimPrefix(e.Key, at.Key))
	}
	return names
}

// Every key, whatever it is made of, is found by walking down from the top, and
// is described, previewed and handled as itself.
func TestHostileKeysAreReached(t *testing.T) {
	s := open(t, prepared(t))
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	top := workspace.At{Endpoint: "north", Bucket: "archive"}
	p, err := s.Root(top)
	require.NoError(t, err)
	var kept []string
	for _, key := range placetest.Hostile {
		if _, err := p.Write(ctx, key, strings.NewReader(key), int64(len(key)), place.WriteOptions{}); err == nil {
			kept = append(kept, key)
		}
	}
	require.Greater(t, len(kept), 35)
	found := map[string]bool{}
	var walk func(at workspace.At)
	walk = func(at workspace.At) {
		l, err := s.OpenLevel(ctx, at, false)
		require.NoError(t, err)
		defer l.Close()
		l.Want(-1)
		testkit.Until(t, func() bool { return l.State().Ended })
		require.NoError(t, l.State().Err)
		for _, e := range l.All() {
			one := at
			one.Key = e.Key
			if e.Kind == object.Prefix {
				walk(one)
				continue
			}
			found[e.Key] = true
			f, err := s.Describe(ctx, one, "")
			require.NoError(t, err, "%q", e.Key)
			_, err = s.Preview(ctx, one, f.Entry, 40, 10)
			require.NoError(t, err)
			_, err = s.Link(ctx, one, "", time.Minute)
			require.NoError(t, err)
		}
	}
	walk(top)
	for _, key := range kept {
		assert.True(t, found[key], "%q", key)
	}
	act, err := s.Copy([]workspace.At{{Endpoint: "north", Bucket: "archive", Key: "a//"}},
		workspace.At{Endpoint: "north", Bucket: "archive", Key: "to/"}, false, handle.Count{})
	require.NoError(t, err)
	require.NoError(t, act.Wait())
	assert.Zero(t, act.State().Failed, "%v", act.State().Problems)
	assert.Equal(t, []string{"p /"}, rows(t, s, workspace.At{Endpoint: "north", Bucket: "archive", Key: "to/"}, false))
}

// Removals take the number that was counted, are noted, and are seen and taken
// back where versions are kept.
func TestHandlingIsNoted(t *testing.T) {
	dir := prepared(t)
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	top := workspace.At{Endpoint: "north", Bucket: "archive"}
	is, err := s.SetVersioning(ctx, top, true)
	require.NoError(t, err)
	assert.Equal(t, place.VersioningOn, is)
	p, err := s.Root(top)
	require.NoError(t, err)
	for _, key := range []string{"a", "b/c", "b/c"} {
		_, err := p.Write(ctx, key, strings.NewReader("x"), 1, place.WriteOptions{})
		require.NoError(t, err)
	}
	pick := []workspace.At{{Endpoint: "north", Bucket: "archive", Key: "b/"}}
	n, err := s.Measure(ctx, pick, true, nil)
	require.NoError(t, err)
	_, err = s.Remove(pick, false, n, n.All()+1)
	assert.ErrorIs(t, err, workspace.ErrBadInput)
	act, err := s.Remove(pick, false, n, n.All())
	require.NoError(t, err)
	require.NoError(t, act.Wait())
	below := workspace.At{Endpoint: "north", Bucket: "archive", Key: "b/"}
	assert.Empty(t, rows(t, s, below, false))
	assert.Equal(t, []string{"d c"}, rows(t, s, below, true))
	assert.Equal(t, []string{"o a", "p b/"}, rows(t, s, top, true))
	f, err := s.Describe(ctx, workspace.At{Endpoint: "north", Bucket: "archive", Key: "b/c"}, "")
	require.NoError(t, err)
	require.Len(t, f.Versions, 3)
	require.NoError(t, s.BringBack(ctx, workspace.At{Endpoint: "north", Bucket: "archive", Key: "b/c"},
		f.Versions[2].Version))
	assert.Equal(t, []string{"o c"}, rows(t, s, below, false))
	file := filepath.Join(dir, "fetched")
	_, err = s.Fetch(ctx, workspace.At{Endpoint: "north", Bucket: "archive", Key: "b/c"}, f.Versions[1].Version, file)
	require.NoError(t, err)
	_, err = s.Fetch(ctx, workspace.At{Endpoint: "north", Bucket: "archive", Key: "b/c"}, "", file)
	assert.ErrorIs(t, err, workspace.ErrBadInput, "no file is written over")
	metadata, tags := place.MetadataChange{Set: map[string]string{"site": "weir"}},
		place.MetadataChange{Set: map[string]string{"draft": "yes"}}
	act, err = s.Change([]workspace.At{{Endpoint: "north", Bucket: "archive", Key: "a"},
		{Endpoint: "north", Bucket: "archive", Key: "b/"}}, metadata, tags, handle.Count{})
	require.NoError(t, err)
	require.NoError(t, act.Wait())
	for _, key := range []string{"a", "b/c"} {
		f, err := s.Describe(ctx, workspace.At{Endpoint: "north", Bucket: "archive", Key: key}, "")
		require.NoError(t, err)
		assert.Equal(t, "weir", f.Entry.Metadata["site"])
		assert.Equal(t, map[string]string{"draft": "yes"}, f.Tags)
	}
	n, err = s.Measure(ctx, []workspace.At{top}, true, nil)
	require.NoError(t, err)
	act, err = s.EmptyBucket(top, true, n, n.All())
	require.NoError(t, err)
	require.NoError(t, act.Wait())
	acts, err := s.Acts(ctx, 10)
	require.NoError(t, err)
	require.Len(t, acts, 3)
	assert.Equal(t, "empty and delete bucket", acts[0].What)
	assert.Equal(t, "set metadata and tags", acts[1].What)
	assert.Equal(t, "delete", acts[2].What)
	assert.EqualValues(t, 1, acts[2].Objects)
	assert.Equal(t, "done", acts[0].Outcome)
}

// A dropped tray is a job like any: planned against only what it lands on, run,
// and there again for another process.
func TestTray(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "studio/cards/one.wav", "one")
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	p, err := s.Place(ctx, "north/archive/in")
	require.NoError(t, err)
	for _, key := range []string{"cards/one.wav", "cards/extra.wav", "unrelated.wav"} {
		_, err := p.Write(ctx, key, strings.NewReader("older"), 5, place.WriteOptions{})
		require.NoError(t, err)
	}
	items := []workspace.At{{Endpoint: "studio", Key: "cards/"}, {Endpoint: "studio", Key: "x.wav"}}
	require.NoError(t, s.Toggle(items))
	require.NoError(t, s.Toggle(items[:1]), "takes out what is in")
	got, err := s.Tray()
	require.NoError(t, err)
	assert.Equal(t, items[1:], got)
	require.NoError(t, s.Toggle(items[:1]))
	assert.Error(t, s.Toggle([]workspace.At{{Endpoint: "north"}}), "an endpoint does not go in")
	for _, bad := range []workspace.At{{Endpoint: "north"}, {Endpoint: "studio"},
		{Endpoint: "north", Bucket: "archive", Key: "a//"}, {Endpoint: "nowhere"}} {
		_, err := s.Drop(bad)
		assert.ErrorIs(t, err, workspace.ErrBadInput, "%v", bad)
	}
	_, err = s.Drop(workspace.At{Endpoint: "studio", Key: "cards/deeper/"})
	assert.ErrorContains(t, err, "inside itself")
	name, err := s.Drop(workspace.At{Endpoint: "north", Bucket: "archive", Key: "in/"})
	require.NoError(t, err)
	info, err := s.Plan(ctx, name, workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	m := info.Totals.Map()
	assert.EqualValues(t, 1, m[plan.Add].Count, "%v", m)
	assert.EqualValues(t, 1, m[plan.Change].Count, "%v", m)
	assert.EqualValues(t, 1, m[plan.Extra].Count, "only what lies where the tray lands")
	other := open(t, dir)
	r, err := other.StartRun(context.Background(), name, workroom.RunOptions{})
	require.NoError(t, err)
	_, err = r.Wait()
	require.NoError(t, err)
	proof, err := other.Prove(ctx, name, workroom.ProveOptions{}, &workroom.Activity{})
	require.NoError(t, err)
	assert.True(t, proof.Holds())
	_, err = os.Stat(filepath.Join(dir, "jobs", name+".toml"))
	assert.Error(t, err, "the workspace is left alone")
}

// Whatever a key is made of, it goes from store to store as it is, or is named
// beforehand as one that the other cannot hold.
func TestHostileKeysBetweenStores(t *testing.T) {
	dir := prepared(t)
	raw, err := os.ReadFile(filepath.Join(dir, "endpoints.toml"))
	require.NoError(t, err)
	put(t, dir, "endpoints.toml", string(raw)+
		"[endpoint.south]\nkind = \"s3\"\nstand-in = \"south\"\n[endpoint.hill]\nkind = \"blob\"\nstand-in = "+
		"\"hill\"\naccount = \"marsh\"\nsecret-from = \"file:hill.secret\"\n")
	put(t, dir, "hill.secret", "c2VhIGxhdmVuZGVy\n")
	put(t, dir, "jobs/south.toml", "source = \"north/archive\"\ntarget = \"south/copy\"\n")
	put(t, dir, "jobs/hill.toml", "source = \"north/archive\"\ntarget = \"hill/copy\"\n")
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	source, err := s.Place(ctx, "north/archive")
	require.NoError(t, err)
	var kept []string
	for _, key := range placetest.Hostile {
		if _, err := source.Write(ctx, key, strings.NewReader(key), int64(len(key)), place.WriteOptions{}); err == nil {
			kept = append(kept, key)
		}
	}
	for _, end := range []string{"south", "hill"} {
		require.NoError(t, s.MakeBucket(ctx, end, "copy"))
		target, err := s.Place(ctx, end+"/copy")
		require.NoError(t, err)
		var want []string
		for _, key := range kept {
			if target.(place.NameChecker).CheckName(key) == nil {
				want = append(want, key)
			}
		}
		info, err := s.Plan(ctx, end, workroom.Freshness{}, &workroom.Activity{})
		require.NoError(t, err)
		assert.EqualValues(t, len(want), info.Totals[plan.Add].Count, end)
		assert.EqualValues(t, len(kept)-len(want), info.Totals[plan.Blocked].Count, end)
		r, err := s.StartRun(ctx, end, workroom.RunOptions{})
		require.NoError(t, err)
		res, err := r.Wait()
		require.NoError(t, err)
		assert.Zero(t, res.Failed-int64(len(kept)-len(want)), "%v", res.Problems)
		var got []string
		for e, err := range target.List(ctx, "", place.ListOptions{}) {
			require.NoError(t, err)
			got = append(got, e.Key)
		}
		assert.ElementsMatch(t, want, got, end)
	}
}

// A stand-in whose settings name no key has one all the same: no other program on this
// machine reads or writes there, and the next start knows the key.
func TestStandInWithoutKey(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "endpoints.toml", "[endpoint.practice]\nkind = \"s3\"\nstand-in = \"practice\"\n")
	for start := range 2 {
		s, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state")})
		require.NoError(t, err)
		if start == 0 {
			require.NoError(t, s.MakeBucket(ctx, "practice", "first-bucket"))
		}
		_, err = s.Folders(ctx, "practice/", 9) // which starts it
		require.NoError(t, err)
		address, err := standin.Address(filepath.Join(dir, "practice"))
		require.NoError(t, err)
		for _, path := range []string{"/", "/first-bucket"} {
			req, err := http.NewRequest(http.MethodDelete, address+path, nil)
			require.NoError(t, err)
			resp, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			resp.Body.Close()
			assert.GreaterOrEqual(t, resp.StatusCode, 400, path)
		}
		buckets, err := s.Folders(ctx, "practice/", 9)
		require.NoError(t, err)
		assert.Equal(t, []string{"first-bucket"}, buckets)
		require.NoError(t, s.Close())
	}
}
