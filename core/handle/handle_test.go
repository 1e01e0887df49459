package handle_test

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"lumtra/core/handle"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/core/place/s3"
	"lumtra/core/secret"
	"lumtra/standin"
	"lumtra/testkit"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

var ctx = context.Background()

func bucket(t *testing.T, keep bool) (*standin.Server, *s3.Store, place.Place) {
	srv, err := standin.New(standin.Config{Dir: t.TempDir(), Keys: []standin.Key{{Access: "a", Secret: "s"}},
		RestoreTakes: 50 * time.Millisecond})
	require.NoError(t, err)
	t.Cleanup(func() { srv.Close() })
	addr, err := srv.Start("127.0.0.1:0")
	require.NoError(t, err)
	store, err := s3.NewStore(s3.Config{Name: "north", Address: addr, AccessKey: "a", Secret: secret.New("s")})
	require.NoError(t, err)
	t.Cleanup(func() { store.Close() })
	require.NoError(t, store.MakeBucket(ctx, "box"))
	if keep {
		require.NoError(t, store.SetVersioning(ctx, "box", true))
	}
	p, err := store.Open("box")
	require.NoError(t, err)
	return srv, store, p
}

func dir(t *testing.T) place.Place {
	end, err := folder.OpenEndpoint("studio", t.TempDir(), folder.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { end.Close() })
	p, err := end.Open("")
	require.NoError(t, err)
	return p
}

func put(t *testing.T, p place.Place, keys ...string) {
	for _, k := range keys {
		_, err := p.Write(ctx, k, strings.NewReader(k), int64(len(k)),
			place.WriteOptions{Metadata: map[string]string{"kept": "yes"}})
		require.NoError(t, err)
	}
}

func contents(t *testing.T, p place.Place) map[string]string {
	all := map[string]string{}
	for e, err := range p.List(ctx, "", place.ListOptions{}) {
		require.NoError(t, err)
		r, _, err := p.Read(ctx, e.Key, place.ReadOptions{})
		require.NoError(t, err)
		raw, err := io.ReadAll(r)
		require.NoError(t, err)
		r.Close()
		all[e.Key] = string(raw)
	}
	return all
}

func keys(t *testing.T, p place.Place) []string { return slices.Sorted(maps.Keys(contents(t, p))) }

func under(prefix string) handle.Pick { return handle.Pick{Key: prefix, Prefix: true} }

// In a bucket that keeps versions a removal hides and can be undone; with deep
// everything goes, uploads too.
func TestRemoveAndUndelete(t *testing.T) {
	_, store, p := bucket(t, true)
	put(t, p, "a/1", "a/2", "a/2", "b", "c/1")
	_, err := p.(place.PartWriter).Begin(ctx, "a/half", place.WriteOptions{})
	require.NoError(t, err)
	picks := []handle.Pick{under("a/"), {Key: "b"}, {Key: "not there"}}
	n, err := handle.Measure(ctx, p, picks, true, nil)
	require.NoError(t, err)
	assert.Equal(t, []int64{3, 1, 0, 1, 5}, []int64{n.Objects, n.Versions, n.Markers, n.Uploads, n.All()})
	var hide handle.Action
	require.NoError(t, hide.Remove(ctx, p, picks, false))
	assert.EqualValues(t, 3, hide.Result().Done.Objects)
	assert.Equal(t, []string{"c/1"}, keys(t, p))
	n, err = handle.Measure(ctx, p, picks, true, nil)
	require.NoError(t, err)
	assert.Equal(t, []int64{0, 4, 3, 1}, []int64{n.Objects, n.Versions, n.Markers, n.Uploads})
	var back handle.Action
	require.NoError(t, back.Undelete(ctx, p, []handle.Pick{under("")}))
	assert.EqualValues(t, 3, back.Result().Done.Objects)
	assert.Equal(t, []string{"a/1", "a/2", "b", "c/1"}, keys(t, p))
	assert.Error(t, store.RemoveBucket(ctx, "box"))
	var all handle.Action
	require.NoError(t, all.Remove(ctx, p, []handle.Pick{under("")}, true))
	assert.Zero(t, all.Result().Failed)
	assert.EqualValues(t, 1, all.Result().Done.Uploads)
	require.NoError(t, store.RemoveBucket(ctx, "box"), "it is really empty")
}

// What cannot be removed is told object by object, and the rest goes on.
func TestFailuresAreTold(t *testing.T) {
	srv, _, p := bucket(t, false)
	for i := range 30 {
		put(t, p, fmt.Sprintf("%02d", i))
	}
	srv.SetFaults(standin.Fault{Op: "PutObjectTagging", Key: "07", Do: "403"},
		standin.Fault{Op: "PutObjectTagging", Do: "503", Chance: 0.1})
	var a handle.Action
	require.NoError(t, a.Change(ctx, p, []handle.Pick{under("")}, place.MetadataChange{},
		place.MetadataChange{Set: map[string]string{"site": "weir"}}))
	r := a.Result()
	assert.EqualValues(t, 29, r.Done.Objects)
	assert.EqualValues(t, 1, r.Failed)
	assert.Equal(t, place.Denied, place.KindOf(r.Problems[0]))
	tags, err := p.(place.Tagger).Tags(ctx, object.Ref{Key: "20"})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"site": "weir"}, tags)
	var both handle.Action // a failure in the second half counts, and a try again goes on from the first
	require.NoError(t, both.Change(ctx, p, []handle.Pick{under("0")},
		place.MetadataChange{Set: map[string]string{"take": "2"}},
		place.MetadataChange{Set: map[string]string{"draft": "no"}}))
	assert.Equal(t, []int64{9, 1}, []int64{both.Result().Done.Objects, both.Result().Failed}, "%v",
		both.Result().Problems)
	stopped, stop := context.WithCancel(ctx)
	stop()
	assert.Error(t, new(handle.Action).Remove(stopped, p, []handle.Pick{under("")}, false))
	assert.Error(t, new(handle.Action).Change(ctx, dir(t), []handle.Pick{under("")}, place.MetadataChange{},
		place.MetadataChange{Drop: []string{"x"}}))
}

// Copying, moving and renaming land where they say, write over nothing, and an
// original goes only for a copy that is there.
func TestCopyAndMove(t *testing.T) {
	_, store, north := bucket(t, false)
	require.NoError(t, store.MakeBucket(ctx, "other"))
	other, err := store.Open("other")
	require.NoError(t, err)
	for name, p := range map[string]place.Place{"store": north, "folder": dir(t)} {
		t.Run(name, func(t *testing.T) {
			put(t, p, "day/one.wav", "day/deep/two.wav", "note.txt", "taken/note.txt")
			picks := []handle.Pick{under("day/"), {Key: "note.txt"}}
			require.NoError(t, new(handle.Action).Copy(ctx, p, picks, p, "copies/"))
			assert.Equal(t, []string{"copies/day/deep/two.wav", "copies/day/one.wav", "copies/note.txt",
				"day/deep/two.wav", "day/one.wav", "note.txt", "taken/note.txt"}, keys(t, p))
			var a handle.Action
			require.NoError(t, a.Move(ctx, p, []handle.Pick{{Key: "note.txt"}}, p, "taken/"))
			assert.EqualValues(t, 1, a.Result().Failed)
			assert.Equal(t, place.Exists, place.KindOf(a.Result().Problems[0]))
			assert.Equal(t, "note.txt", contents(t, p)["note.txt"], "it stays")
			require.NoError(t, new(handle.Action).Move(ctx, p, []handle.Pick{{Key: "note.txt"}}, p, "renamed.txt"))
			require.NoError(t, new(handle.Action).Move(ctx, p, []handle.Pick{under("copies/")}, p, "moved/away"))
			assert.Equal(t, []string{"day/deep/two.wav", "day/one.wav", "moved/away/day/deep/two.wav",
				"moved/away/day/one.wav", "moved/away/note.txt", "renamed.txt", "taken/note.txt"}, keys(t, p))
			assert.Error(t, new(handle.Action).Copy(ctx, p, []handle.Pick{under("day/")}, p, "day/inside/"))
			if p.Abilities().Tree {
				for e := range p.List(ctx, "", place.ListOptions{Shallow: true}) {
					assert.NotEqual(t, "copies/", e.Key, "no empty folder is left")
				}
				require.NoError(t, new(handle.Action).Remove(ctx, p, []handle.Pick{under("day/"), under("moved/")},
					true))
				var left []string
				for e := range p.List(ctx, "", place.ListOptions{Shallow: true}) {
					left = append(left, e.Key)
				}
				assert.Equal(t, []string{"renamed.txt", "taken/"}, left)
			}
		})
	}
	require.NoError(t, new(handle.Action).Move(ctx, north, []handle.Pick{under("day/")}, other, ""))
	assert.Equal(t, []string{"day/deep/two.wav", "day/one.wav"}, keys(t, other))
	e, err := other.Stat(ctx, object.Ref{Key: "day/one.wav"})
	require.NoError(t, err)
	assert.Equal(t, "yes", e.Metadata["kept"])
}

func TestMetadataAndRestore(t *testing.T) {
	_, _, p := bucket(t, false)
	put(t, p, "x/1", "x/2", "y")
	change := place.MetadataChange{Set: map[string]string{"site": "weir"}, Drop: []string{"kept"}}
	require.NoError(t, new(handle.Action).Change(ctx, p, []handle.Pick{under("x/")}, change, place.MetadataChange{}))
	for key, want := range map[string]string{"x/1": "weir", "x/2": "weir", "y": ""} {
		e, err := p.Stat(ctx, object.Ref{Key: key})
		require.NoError(t, err)
		assert.Equal(t, want, e.Metadata["site"])
		assert.Equal(t, want == "", e.Metadata["kept"] == "yes")
	}
	_, err := p.Write(ctx, "cold", strings.NewReader("c"), 1, place.WriteOptions{Class: "GLACIER"})
	require.NoError(t, err)
	var a handle.Action
	require.NoError(t, a.Restore(ctx, p, []handle.Pick{under("")}, place.RestoreOptions{Days: 3}))
	assert.Zero(t, a.Result().Failed)
	var e object.Entry
	testkit.Until(t, func() bool {
		e, err = p.Stat(ctx, object.Ref{Key: "cold"})
		return err == nil && e.Archive == object.Restored && !e.RestoredUntil.IsZero()
	}, func() any { return fmt.Sprintf("%+v, %v", e, err) })
}

func TestMatching(t *testing.T) {
	for pattern, keys := range map[string][]string{
		"*.tmp":        {"a.tmp"},
		"**/*.tmp":     {"a.tmp", "b/a.tmp", "b/c/d.tmp"},
		"b/*":          {"b/a.tmp", "b/x"},
		"b/**/*.tmp":   {"b/a.tmp", "b/c/d.tmp"},
		"?/c/[de].tmp": {"b/c/d.tmp"},
		"none*":        nil,
	} {
		var got []string
		for _, k := range []string{"a.tmp", "b/a.tmp", "b/c/d.tmp", "b/x", "q"} {
			if handle.Match(pattern, k) {
				got = append(got, k)
			}
		}
		assert.Equal(t, keys, got, pattern)
	}
	p := dir(t)
	put(t, p, "in/a.tmp", "in/b/c.tmp", "in/d", "out.tmp")
	found, n, err := handle.Matching(ctx, p, "in/", "**/*.tmp", 1)
	require.NoError(t, err)
	assert.Len(t, found, 1)
	assert.EqualValues(t, 2, n.Objects)
}

// narrow copies only small objects in one request.
type narrow struct{ *s3.Place }

func (n narrow) Abilities() place.Abilities {
	a := n.Place.Abilities()
	a.MaxCopy = 6 << 20
	return a
}

func (n narrow) CanCopyFrom(place.Place) bool { return true }

func (n narrow) CopyPart(ctx context.Context, up place.Upload, number int, from place.Place, src object.Ref, offset,
	size int64) (place.Part, error) {
	return n.Place.CopyPart(ctx, up, number, from.(narrow).Place, src, offset, size)
}

// An object too large to copy in one request moves range by range, with what lies
// beside it; when that fails nothing is left of it and the original stays.
func TestMovesWhatIsLarge(t *testing.T) {
	srv, _, box := bucket(t, false)
	p := narrow{box.(*s3.Place)}
	text := strings.Repeat("reed warbler ", 1<<20)
	e, err := p.Write(ctx, "long.wav", strings.NewReader(text), int64(len(text)),
		place.WriteOptions{ContentType: "audio/wav", Metadata: map[string]string{"site": "weir"}})
	require.NoError(t, err)
	require.NoError(t, p.SetTags(ctx, object.Ref{Key: "long.wav"}, map[string]string{"quality": "good"}))
	srv.SetFaults(standin.Fault{Op: "UploadPartCopy", Do: "500", Times: 1})
	require.Error(t, handle.MoveOne(ctx, p, &e, "kept/long.wav"))
	assert.Equal(t, map[string]string{"long.wav": text}, contents(t, p))
	ups, err := p.Uploads(ctx)
	require.NoError(t, err)
	assert.Empty(t, ups)

	require.NoError(t, handle.MoveOne(ctx, p, &e, "kept/long.wav"))
	assert.Equal(t, map[string]string{"kept/long.wav": text}, contents(t, p))
	there, err := p.Stat(ctx, object.Ref{Key: "kept/long.wav"})
	require.NoError(t, err)
	assert.Equal(t, "audio/wav weir", there.ContentType+" "+there.Metadata["site"])
	tags, err := p.Tags(ctx, object.Ref{Key: "kept/long.wav"})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"quality": "good"}, tags)
	put(t, p, "taken.wav")
	assert.Equal(t, place.Exists, place.KindOf(handle.MoveOne(ctx, p, &there, "taken.wav")))
}

// What was picked by name is that object and no other: not one whose name only begins
// alike, nor what lies below a folder of that name, in counts, removals and uploads.
func TestOnlyWhatWasPicked(t *testing.T) {
	_, _, p := bucket(t, true)
	put(t, p, "a", "a", "ab", "ab", "a/1", "a.b", "A")
	for _, key := range []string{"a", "ab", "a/1"} {
		_, err := p.(place.PartWriter).Begin(ctx, key, place.WriteOptions{})
		require.NoError(t, err)
	}
	pick := []handle.Pick{{Key: "a"}}
	n, err := handle.Measure(ctx, p, pick, true, nil)
	require.NoError(t, err)
	assert.Equal(t, handle.Count{Objects: 1, Bytes: 1, Versions: 1, VersionBytes: 1, Uploads: 1, Example: "a"}, n)
	assert.EqualValues(t, 2, n.AllBytes())
	n, err = handle.Measure(ctx, p, pick, false, nil)
	require.NoError(t, err)
	assert.Equal(t, handle.Count{Objects: 1, Bytes: 1, Example: "a"}, n)
	var gone handle.Action
	require.NoError(t, gone.Remove(ctx, p, pick, true))
	assert.Equal(t, []int64{1, 1, 1, 0}, []int64{gone.Result().Done.Objects, gone.Result().Done.Versions,
		gone.Result().Done.Uploads, gone.Result().Failed})
	assert.Equal(t, []string{"A", "a.b", "a/1", "ab"}, keys(t, p))
	left, err := handle.Measure(ctx, p, []handle.Pick{under("")}, true, nil)
	require.NoError(t, err)
	assert.Equal(t, []int64{4, 1, 0, 2}, []int64{left.Objects, left.Versions, left.Markers, left.Uploads})

	// The same by a folder, whose name is not the beginning of its neighbours'.
	require.NoError(t, new(handle.Action).Remove(ctx, p, []handle.Pick{under("a/")}, true))
	assert.Equal(t, []string{"A", "a.b", "ab"}, keys(t, p))
}

// A count of many is told as it grows, also where nothing keeps versions; what ends a
// listing ends the count.
func TestCountsGrow(t *testing.T) {
	p := dir(t)
	for i := range 2100 {
		put(t, p, fmt.Sprintf("%d/%04d", i%7, i))
	}
	var heard []int64
	n, err := handle.Measure(ctx, p, []handle.Pick{under("")}, true,
		func(c handle.Count) { heard = append(heard, c.Objects) })
	require.NoError(t, err)
	assert.EqualValues(t, 2100, n.Objects)
	assert.Equal(t, []int64{1000, 2000}, heard)
	srv, _, far := bucket(t, true)
	put(t, far, "a")
	for _, op := range []string{"ListObjectVersions", "ListMultipartUploads"} {
		srv.SetFaults(standin.Fault{Op: op, Do: "403"})
		_, err = handle.Measure(ctx, far, []handle.Pick{under("")}, true, nil)
		assert.Equal(t, place.Denied, place.KindOf(err), op)
		assert.Error(t, new(handle.Action).Remove(ctx, far, []handle.Pick{under("")}, true), op)
	}
}

// An original goes only for a copy that is whole, and while it is what was copied.
func TestOriginalsStay(t *testing.T) {
	for name, spoil := range map[string]func(copied object.Entry, original place.Place){
		"a short copy":     nil,
		"a newer original": func(_ object.Entry, original place.Place) { put(t, original, "a.wav", "a.wav") },
	} {
		from, to := dir(t), &spoiling{Place: dir(t)}
		put(t, from, "a.wav")
		to.after = func(e object.Entry) object.Entry {
			if spoil == nil {
				e.Size--
				return e
			}
			_, err := from.Write(ctx, "a.wav", strings.NewReader("newer"), 5, place.WriteOptions{})
			require.NoError(t, err)
			return e
		}
		var a handle.Action
		require.NoError(t, a.Move(ctx, from, []handle.Pick{{Key: "a.wav"}}, to, ""))
		assert.EqualValues(t, 1, a.Result().Failed, name)
		assert.Contains(t, keys(t, from), "a.wav", name)
	}
}

// spoiling is a place whose objects are looked at once after they were written.
type spoiling struct {
	place.Place
	after func(object.Entry) object.Entry
}

func (p *spoiling) Name() string { return "spoiling" }

func (p *spoiling) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	e, err := p.Place.Stat(ctx, ref)
	return p.after(e), err
}

// faulty is a place that fails as a test wants it to.
type faulty struct {
	place.Place
	stat  func(e object.Entry, err error) (object.Entry, error)
	write func(e object.Entry, err error) (object.Entry, error)
	check error
}

func (p *faulty) Name() string { return "faulty" }

func (p *faulty) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	e, err := p.Place.Stat(ctx, ref)
	if p.stat != nil {
		return p.stat(e, err)
	}
	return e, err
}

func (p *faulty) Write(ctx context.Context, key string, body io.Reader, size int64,
	opts place.WriteOptions) (object.Entry, error) {
	e, err := p.Place.Write(ctx, key, body, size, opts)
	if p.write != nil {
		return p.write(e, err)
	}
	return e, err
}

func (p *faulty) CheckName(string) error { return p.check }

// A move lets the original go only when all went well at the other end: whatever fails
// there, the original stays, the failure is told, and damage does not stay behind.
func TestMovesThatFail(t *testing.T) {
	broken := place.NewError("faulty", "stat", "a.wav", place.Denied, nil)
	for name, c := range map[string]struct {
		fail func(p *faulty)
		left []string // at the target
	}{
		"the copy cannot be looked at": {func(p *faulty) {
			p.stat = func(object.Entry, error) (object.Entry, error) { return object.Entry{}, broken }
		}, []string{"a.wav"}},
		"the write fails": {func(p *faulty) {
			p.write = func(object.Entry, error) (object.Entry, error) { return object.Entry{}, broken }
		}, []string{"a.wav"}},
		"the copy is damaged": {func(p *faulty) {
			p.write = func(e object.Entry, _ error) (object.Entry, error) {
				bad := place.NewError("faulty", "write", "a.wav", place.Corrupt, nil)
				bad.Left = e.Mark()
				return e, bad
			}
		}, nil},
		"the name is refused": {func(p *faulty) {
			p.check = place.NewError("faulty", "check", "a.wav", place.BadName,
				nil)
		}, nil},
		"nothing vouches for it, and it is another": {func(p *faulty) {
			p.write = func(e object.Entry, err error) (object.Entry, error) {
				put(t, p.Place, "other")
				require.NoError(t, err)
				changed, err := p.Place.Write(ctx, "a.wav", strings.NewReader("A.wav"), 5, place.WriteOptions{})
				changed.Unverified = true
				return changed, err
			}
		}, []string{"other"}},
	} {
		from, to := dir(t), &faulty{Place: dir(t)}
		put(t, from, "a.wav")
		c.fail(to)
		var a handle.Action
		require.NoError(t, a.Move(ctx, from, []handle.Pick{{Key: "a.wav"}}, to, ""), name)
		assert.EqualValues(t, 1, a.Result().Failed, name)
		assert.Len(t, a.Result().Problems, 1, name)
		assert.Equal(t, []string{"a.wav"}, keys(t, from), name)
		assert.Equal(t, c.left, keys(t, to.Place), name)
	}
	// What nothing vouches for and is the same is a copy like any other.
	from, to := dir(t), &faulty{Place: dir(t)}
	put(t, from, "a.wav")
	to.write = func(e object.Entry, err error) (object.Entry, error) { e.Unverified = true; return e, err }
	var a handle.Action
	require.NoError(t, a.Move(ctx, from, []handle.Pick{{Key: "a.wav"}}, to, "b.wav"))
	assert.Zero(t, a.Result().Failed, "%v", a.Result().Problems)
	assert.Empty(t, keys(t, from))
	assert.Equal(t, map[string]string{"b.wav": "a.wav"}, contents(t, to.Place))

	stopped, stop := context.WithCancel(ctx)
	stop()
	put(t, from, "a.wav")
	assert.Error(t, new(handle.Action).Move(stopped, from, []handle.Pick{under("")}, dir(t), ""),
		"what stops it is told")
	assert.Equal(t, []string{"a.wav"}, keys(t, from))
}

// What is copied between places keeps its time, permissions and metadata.
func TestCopiesKeepWhatTheyHave(t *testing.T) {
	_, _, north := bucket(t, false)
	home, back := dir(t), dir(t)
	old := time.Date(2020, 5, 17, 4, 30, 0, 0, time.UTC)
	_, err := home.Write(ctx, "a.wav", strings.NewReader("a"), 1, place.WriteOptions{Original: old, Mode: 0o640})
	require.NoError(t, err)
	require.NoError(t, new(handle.Action).Copy(ctx, home, []handle.Pick{{Key: "a.wav"}}, north, ""))
	require.NoError(t, new(handle.Action).Copy(ctx, north, []handle.Pick{{Key: "a.wav"}}, back, ""))
	e, err := back.Stat(ctx, object.Ref{Key: "a.wav"})
	require.NoError(t, err)
	assert.True(t, e.Modified.Equal(old), "%s", e.Modified)
	assert.EqualValues(t, 0o640, e.Mode.Perm())
	there, err := north.Stat(ctx, object.Ref{Key: "a.wav"})
	require.NoError(t, err)
	assert.True(t, there.Original.Equal(old))
}

// An upload that cannot be given up is counted as such, and the others go; the bytes that
// go with one are told.
func TestUploadsAreGivenUp(t *testing.T) {
	srv, _, p := bucket(t, false)
	pw := p.(place.PartWriter)
	for _, key := range []string{"a", "b", "c"} {
		_, err := pw.Begin(ctx, key, place.WriteOptions{})
		require.NoError(t, err)
	}
	srv.SetFaults(standin.Fault{Op: "AbortMultipartUpload", Key: "b", Do: "403"})
	var a handle.Action
	require.NoError(t, a.Remove(ctx, p, []handle.Pick{under("")}, true))
	assert.Equal(t, []int64{2, 1}, []int64{a.Result().Done.Uploads, a.Result().Failed})
	assert.Equal(t, place.Denied, place.KindOf(a.Result().Problems[0]))
	srv.SetFaults(standin.Fault{Op: "AbortMultipartUpload", Do: "expired"})
	assert.Error(t, new(handle.Action).Remove(ctx, p, []handle.Pick{under("")}, true), "no credentials end it")
	srv.SetFaults()
	ups, err := pw.Uploads(ctx)
	require.NoError(t, err)
	require.Len(t, ups, 1)
	var one handle.Action
	require.NoError(t, one.Abort(ctx, pw, ups[0], 5<<20))
	r := one.Result()
	assert.Equal(t, handle.Count{Uploads: 1, VersionBytes: 5 << 20}, r.Done)
}

// Folders that a removal leaves empty go, others stay; problems that were told are the
// teller's own.
func TestFoldersGo(t *testing.T) {
	p := dir(t)
	put(t, p, "a/b/1", "a/b/2", "a/c/3", "ab/4")
	var a handle.Action
	require.NoError(t, a.Remove(ctx, p, []handle.Pick{{Key: "a/b/1"}}, false))
	require.NoError(t, a.Remove(ctx, p, []handle.Pick{under("a/b/")}, false))
	var folders []string
	for e, err := range p.List(ctx, "a/", place.ListOptions{Shallow: true}) {
		require.NoError(t, err)
		folders = append(folders, e.Key)
	}
	assert.Equal(t, []string{"a/c/"}, folders)
	assert.Equal(t, []string{"a/c/3", "ab/4"}, keys(t, p))
	_, _, far := bucket(t, false)
	bad := handle.Action{}
	require.NoError(t, bad.Restore(ctx, far, nil, place.RestoreOptions{Days: 1}))
	first := bad.Result()
	first.Problems = append(first.Problems, io.EOF)
	assert.Empty(t, bad.Result().Problems)
}

// stuck is a place whose folders cannot be removed.
type stuck struct {
	place.Place
	place.FolderMaker
	why error
}

func (s *stuck) RemoveFolder(context.Context, string) error { return s.why }

// A folder that cannot go is told; that something came into it is no failure. Of a copy the
// folders stay where they are, empty ones too.
func TestFoldersThatStay(t *testing.T) {
	for why, failed := range map[place.ErrorKind]int64{place.Denied: 1, place.Exists: 0} {
		p := dir(t)
		put(t, p, "a/1")
		var a handle.Action
		require.NoError(t,
			a.Remove(ctx, &stuck{p, p.(place.FolderMaker), place.NewError("stuck", "delete", "a/", why, nil)},
				[]handle.Pick{under("a/")}, false))
		assert.EqualValues(t, failed, a.Result().Failed, "%v", a.Result().Problems)
	}
	from := dir(t)
	put(t, from, "a/1")
	require.NoError(t, from.(place.FolderMaker).MakeFolder(ctx, "a/empty/"))
	require.NoError(t, new(handle.Action).Copy(ctx, from, []handle.Pick{under("a/")}, from, "b/"))
	var folders []string
	for e, err := range from.List(ctx, "a/", place.ListOptions{Shallow: true}) {
		require.NoError(t, err)
		folders = append(folders, e.Key)
	}
	assert.Equal(t, []string{"a/1", "a/empty/"}, folders)
}

// unreadable is a place whose objects cannot be read.
type unreadable struct{ place.Place }

func (p *unreadable) Name() string { return "unreadable" }

func (p *unreadable) Read(context.Context, string, place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	return nil, object.Entry{}, place.NewError("unreadable", "read", "a.wav", place.Denied, nil)
}

// What cannot be read is not copied, and stays; credentials that ran out end the whole act,
// and do not fail a thousand objects one by one.
func TestEndsOfActs(t *testing.T) {
	from, to := dir(t), dir(t)
	put(t, from, "a.wav")
	var a handle.Action
	require.NoError(t, a.Move(ctx, &unreadable{from}, []handle.Pick{{Key: "a.wav"}}, to, ""))
	assert.EqualValues(t, 1, a.Result().Failed)
	assert.Equal(t, place.Denied, place.KindOf(a.Result().Problems[0]))
	assert.Equal(t, []string{"a.wav"}, keys(t, from))
	assert.Empty(t, keys(t, to))

	srv, _, p := bucket(t, false)
	for i := range 200 {
		put(t, p, fmt.Sprintf("%03d", i))
	}
	srv.SetFaults(standin.Fault{Op: "PutObjectTagging", Do: "expired"})
	var tags handle.Action
	err := tags.Change(ctx, p, []handle.Pick{under("")}, place.MetadataChange{},
		place.MetadataChange{Set: map[string]string{"a": "b"}})
	assert.Equal(t, place.BadLogin, place.KindOf(err))
	assert.Less(t, tags.Result().Failed, int64(100))
	assert.Zero(t, tags.Result().Done.Objects)

	srv, _, p = bucket(t, true)
	for i := range 20 {
		put(t, p, fmt.Sprintf("%03d", i))
	}
	require.NoError(t, new(handle.Action).Remove(ctx, p, []handle.Pick{under("")}, false))
	srv.SetFaults(standin.Fault{Op: "Delete*", Do: "expired"})
	var back handle.Action
	err = back.Undelete(ctx, p, []handle.Pick{under("")})
	assert.Equal(t, place.BadLogin, place.KindOf(err))
	assert.EqualValues(t, 1, back.Result().Failed)
}
