package placetest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/testkit"
)

// Options name what a server under test is known not to do, so that the
// suite's other demands still hold for it. Each is listed in docs/places.md.
type Options struct {
	// Mangles tells keys which the server, not the protocol, turns down or
	// stores under another name.
	Mangles func(key string) bool
	// ImplicitUploads is set where an upload is nothing but its parts, so that
	// a part of an upload nobody began is none the worse.
	ImplicitUploads bool
	// Versioned, when not nil, gives an empty place that keeps versions.
	Versioned func(t *testing.T) place.Place
	// NoTags is set where tags are not kept, NoMetadataCopy where metadata
	// cannot be changed afterwards.
	NoTags, NoMetadataCopy bool
	// Client, when not nil, is what links are tried with.
	Client http.RoundTripper
	// ColdClass is a class that must be restored before it is read, "" where
	// the server has none.
	ColdClass string
	// UploadsByKey is set where unfinished uploads are listed only by their whole
	// key.
	UploadsByKey bool
	// NoConditions is set where conditional writes are not honoured.
	NoConditions bool
}

// Run holds a place against all demands. open gives an empty place each time.
func Run(t *testing.T, open func(t *testing.T) place.Place, opts Options) {
	s := &suite{open: open, opts: opts}
	for _, c := range []struct {
		name string
		test func(*testing.T)
	}{
		{"round trip", s.roundTrip},
		{"nothing half written", s.nothingHalf},
		{"listing", s.listing},
		{"many pages", s.manyPages},
		{"ranges", s.ranges},
		{"conditions", s.conditions},
		{"deletion", s.removal},
		{"parts", s.parts},
		{"server copy", s.serverCopy},
		{"errors", s.errors},
		{"versions", s.versions},
		{"tags", s.tags},
		{"metadata", s.metadata},
		{"digests", s.digests},
		{"links", s.links},
		{"cold", s.cold},
		{"folders", s.folders},
		{"move", s.move},
		{"hostile names", s.hostileNames},
		{"model", s.model},
	} {
		t.Run(c.name, c.test)
	}
}

type suite struct {
	open func(t *testing.T) place.Place
	opts Options
}

var ctx = context.Background()

func content(size int) []byte {
	data := make([]byte, size)
	rng := rand.NewChaCha8([32]byte{byte(size)})
	rng.Read(data)
	return data
}

func sumOf(kind object.SumKind, data []byte) object.Sum {
	h := kind.New()
	h.Write(data)
	return object.SumOf(kind, h)
}

func write(t require.TestingT, p place.Place, key string, data []byte) object.Entry {
	e, err := p.Write(ctx, key, bytes.NewReader(data), int64(len(data)), place.WriteOptions{})
	require.NoError(t, err, "%q", key)
	return e
}

func read(t require.TestingT, p place.Place, key string, opts place.ReadOptions) []byte {
	r, _, err := p.Read(ctx, key, opts)
	require.NoError(t, err, "%q", key)
	defer r.Close()
	data, err := io.ReadAll(r)
	require.NoError(t, err, "%q", key)
	return data
}

func list(t require.TestingT, p place.Place, prefix string, opts place.ListOptions) []string {
	keys := []string{}
	for e, err := range p.List(ctx, prefix, opts) {
		require.NoError(t, err)
		keys = append(keys, e.Key)
	}
	return keys
}

func kindOf(t *testing.T, want place.ErrorKind, err error) {
	t.Helper()
	var e *place.Error
	if assert.ErrorAs(t, err, &e) {
		assert.Equal(t, want.String(), e.Kind.String(), "%v", err)
		assert.NotEmpty(t, e.Place)
		assert.NotEmpty(t, e.Op)
	}
}

func (s *suite) roundTrip(t *testing.T) {
	p := s.open(t)
	born := time.Date(2021, 5, 3, 4, 12, 7, 250e6, time.UTC)
	for _, size := range []int{0, 1, 4096, 64 << 10, 64<<10 + 1, 1 << 20, 3<<20 + 17} {
		for _, given := range []bool{false, true} {
			data := content(size)
			opts := place.WriteOptions{Original: born, Mode: 0o640, ContentType: "audio/x-wav",
				Metadata: map[string]string{"recordist": "no. 7"}}
			if given {
				opts.Sum = sumOf(object.CRC64NVME, data)
			}
			key := fmt.Sprintf("masters/%d-%v.wav", size, given)
			wrote, err := p.Write(ctx, key, bytes.NewReader(data), int64(size), opts)
			require.NoError(t, err)
			got, ok := wrote.Sum(object.CRC64NVME)
			assert.True(t, ok)
			assert.Equal(t, sumOf(object.CRC64NVME, data), got)

			e, err := p.Stat(ctx, object.Ref{Key: key})
			require.NoError(t, err)
			assert.Equal(t, key, e.Key)
			assert.EqualValues(t, size, e.Size)
			assert.Equal(t, wrote.Mark(), e.Mark(), "the mark of a write is the mark of what it wrote")
			assert.EqualValues(t, 0o640, e.Mode.Perm())
			if p.Abilities().KeepsTimes {
				assert.WithinDuration(t, born, e.Modified, 0)
			} else {
				assert.WithinDuration(t, born, e.Original, 0)
				assert.Equal(t, "no. 7", e.Metadata["recordist"])
				assert.Equal(t, "audio/x-wav", e.ContentType)
			}
			if kind := p.Abilities().StoredSums; kind != object.NoSum {
				kept, ok := e.Sum(kind)
				assert.True(t, ok, "the store keeps its sum")
				assert.Equal(t, sumOf(kind, data), kept)
			}
			assert.True(t, bytes.Equal(data, read(t, p, key, place.ReadOptions{IfMark: e.Mark()})))
			for l, err := range p.List(ctx, key, place.ListOptions{}) {
				require.NoError(t, err)
				assert.Equal(t, e.Mark(), l.Mark(), "listing and stat agree")
				assert.EqualValues(t, size, l.Size)
			}
		}
	}
}

// sourceTrouble fails after some bytes, as a disk or a connection does.
type sourceTrouble struct {
	left int
	err  error
}

func (s *sourceTrouble) Read(b []byte) (int, error) {
	if s.left == 0 {
		return 0, s.err
	}
	n := min(len(b), s.left)
	s.left -= n
	return n, nil
}

func (s *suite) nothingHalf(t *testing.T) {
	p := s.open(t)
	for _, size := range []int{1000, 2 << 20} {
		data := content(size)
		_, err := p.Write(ctx, "damaged", bytes.NewReader(data), int64(size),
			place.WriteOptions{Sum: sumOf(object.CRC64NVME, content(7))})
		kindOf(t, place.Corrupt, err)
		_, err = p.Write(ctx, "short", bytes.NewReader(data[:size-1]), int64(size), place.WriteOptions{})
		assert.Error(t, err)
		_, err = p.Write(ctx, "long", bytes.NewReader(append(data, 0)), int64(size), place.WriteOptions{})
		assert.Error(t, err)
		gone := place.NewError("elsewhere", "read", "x", place.Changed, nil)
		_, err = p.Write(ctx, "source changed", &sourceTrouble{size, gone}, int64(size), place.WriteOptions{})
		assert.ErrorIs(t, err, gone, "the source's own error comes through")
		_, err = p.Write(ctx, "source broke", &sourceTrouble{size / 2, gone}, int64(size), place.WriteOptions{})
		assert.ErrorIs(t, err, gone)
		stopped, stop := context.WithCancel(ctx)
		stop()
		_, err = p.Write(stopped, "stopped", bytes.NewReader(data), int64(size), place.WriteOptions{})
		kindOf(t, place.Cancelled, err)
	}
	assert.Empty(t, list(t, p, "", place.ListOptions{}))
}

// tangled are keys whose order tells bytes from names from folders.
var tangled = []string{"a-b", "a.wav", "a/b", "a/b-c", "a/b/c", "a0", "b", "ba", "c/d/e/f", "c/d/e0", "c/d/g", "z",
	"ä", "鳥/声"}

func (s *suite) listing(t *testing.T) {
	p := s.open(t)
	// no folder can hold a/b beside a/b/c
	keys := slices.DeleteFunc(slices.Clone(tangled), func(k string) bool { return k == "a/b" })
	for _, i := range testkit.Dice(t).Perm(len(keys)) {
		write(t, p, keys[i], []byte(keys[i]))
	}
	assert.Equal(t, keys, list(t, p, "", place.ListOptions{}))
	for _, prefix := range []string{"a", "a/", "a/b", "c/d", "c/d/", "c/d/e", "nothing", "nothing/", "z", "z/"} {
		var want []string
		for _, k := range keys {
			if strings.HasPrefix(k, prefix) {
				want = append(want, k)
			}
		}
		assert.ElementsMatch(t, want, list(t, p, prefix, place.ListOptions{}), prefix)
	}
	for i, k := range keys {
		assert.Equal(t, keys[i+1:], list(t, p, "", place.ListOptions{After: k}), "after %q", k)
	}
	assert.Equal(t, []string{"a-b", "a.wav", "a/", "a0", "b", "ba", "c/", "z", "ä", "鳥/"},
		list(t, p, "", place.ListOptions{Shallow: true}))
	assert.Equal(t, []string{"c/d/e/", "c/d/e0", "c/d/g"}, list(t, p, "c/d/", place.ListOptions{Shallow: true}))
	assert.Equal(t, []string{"a0", "b", "ba", "c/", "z", "ä", "鳥/"},
		list(t, p, "", place.ListOptions{Shallow: true, After: "a/"}))
	for e, err := range p.List(ctx, "", place.ListOptions{Shallow: true}) {
		require.NoError(t, err)
		assert.Equal(t, strings.HasSuffix(e.Key, "/"), e.Kind == object.Prefix)
	}
	for range p.List(ctx, "", place.ListOptions{}) {
		break // a listing that is given up leaves nothing behind; goleak looks
	}
}

func (s *suite) manyPages(t *testing.T) {
	p := s.open(t)
	var keys []string
	for i := range 1103 {
		keys = append(keys, fmt.Sprintf("tiles/%02d/%04d.png", i/100, i))
	}
	var wait = make(chan error, 16)
	for w := range cap(wait) {
		go func() {
			for i := w; i < len(keys); i += cap(wait) {
				if _, err := p.Write(ctx, keys[i], strings.NewReader("tile"), 4, place.WriteOptions{}); err != nil {
					wait <- err
					return
				}
			}
			wait <- nil
		}()
	}
	for range cap(wait) {
		require.NoError(t, <-wait)
	}
	assert.Equal(t, keys, list(t, p, "", place.ListOptions{}))
	assert.Len(t, list(t, p, "tiles/", place.ListOptions{Shallow: true}), 12)
	refs := make([]object.Ref, len(keys))
	for i, k := range keys {
		refs[i].Key = k
	}
	for _, err := range p.Remove(ctx, refs...) {
		require.NoError(t, err)
	}
	assert.Empty(t, list(t, p, "", place.ListOptions{}))
}

func (s *suite) ranges(t *testing.T) {
	p := s.open(t)
	data := content(300_000)
	e := write(t, p, "long.wav", data)
	for _, r := range [][2]int64{{0, 1}, {0, 0}, {1, 0}, {299_999, 1}, {299_999, 0}, {100, 70_000}, {299_000, 5000}} {
		end := int64(len(data))
		if r[1] > 0 {
			end = min(end, r[0]+r[1])
		}
		got := read(t, p, "long.wav", place.ReadOptions{Offset: r[0], Length: r[1], IfMark: e.Mark()})
		assert.True(t, bytes.Equal(data[r[0]:end], got), "%v", r)
	}
	_, _, err := p.Read(ctx, "long.wav", place.ReadOptions{Offset: 300_001})
	kindOf(t, place.Changed, err)
	r, whole, err := p.Read(ctx, "long.wav", place.ReadOptions{Offset: 5, Length: 5})
	require.NoError(t, err)
	r.Close()
	assert.EqualValues(t, 300_000, whole.Size, "the entry is of the whole")
}

func (s *suite) conditions(t *testing.T) {
	p := s.open(t)
	put := func(data string, opts place.WriteOptions) (object.Entry, error) {
		return p.Write(ctx, "take.json", strings.NewReader(data), int64(len(data)), opts)
	}
	if s.opts.NoConditions {
		assert.False(t, p.Abilities().Conditions)
		return
	}
	_, err := put("x", place.WriteOptions{Condition: place.IfStill, Mark: "0123"})
	assert.Error(t, err, "nothing is there to be still the same")
	first, err := put("one", place.WriteOptions{Condition: place.IfAbsent})
	require.NoError(t, err)
	_, err = put("two!", place.WriteOptions{Condition: place.IfAbsent})
	kindOf(t, place.Exists, err)
	assert.Equal(t, "one", string(read(t, p, "take.json", place.ReadOptions{})))
	second, err := put("three", place.WriteOptions{Condition: place.IfStill, Mark: first.Mark()})
	require.NoError(t, err)
	assert.NotEqual(t, first.Mark(), second.Mark())
	_, err = put("four", place.WriteOptions{Condition: place.IfStill, Mark: first.Mark()})
	kindOf(t, place.Changed, err)
	_, _, err = p.Read(ctx, "take.json", place.ReadOptions{IfMark: first.Mark()})
	kindOf(t, place.Changed, err)
	_, err = p.Stat(ctx, object.Ref{Key: "take.json", IfMark: first.Mark()})
	kindOf(t, place.Changed, err)
	kindOf(t, place.Changed, p.Remove(ctx, object.Ref{Key: "take.json", IfMark: first.Mark()})[0])
	assert.Equal(t, "three", string(read(t, p, "take.json", place.ReadOptions{})))
}

func (s *suite) removal(t *testing.T) {
	p := s.open(t)
	a := write(t, p, "x/a", []byte("a"))
	write(t, p, "x/b", []byte("b"))
	write(t, p, "x/c", []byte("c"))
	for _, err := range p.Remove(ctx, object.Ref{Key: "x/a", IfMark: a.Mark()}, object.Ref{Key: "x/never"},
		object.Ref{Key: "x/b"}) {
		assert.NoError(t, err, "what is not there is gone already")
	}
	assert.Equal(t, []string{"x/c"}, list(t, p, "", place.ListOptions{}))
	assert.Empty(t, p.Remove(ctx))
}

func (s *suite) parts(t *testing.T) {
	p := s.open(t)
	pw, ok := p.(place.PartWriter)
	if !ok {
		return
	}
	size := int(max(p.Abilities().MinPart, 70_000))
	data := content(2*size + 999)
	chunk := func(n int) []byte { return data[(n-1)*size : min(n*size, len(data))] }
	born := time.Date(2020, 1, 2, 3, 4, 5, 0, time.UTC)
	opts := place.WriteOptions{Original: born}
	up, err := pw.Begin(ctx, "big/dawn chorus.wav", opts)
	require.NoError(t, err)
	put := func(n int, body []byte) place.Part {
		part, err := pw.WritePart(ctx, up, n, int64((n-1)*size), bytes.NewReader(body), int64(len(body)), object.Sum{})
		require.NoError(t, err)
		assert.Equal(t, sumOf(object.CRC64NVME, body), part.Sum)
		return part
	}
	third := put(3, chunk(3))
	put(1, content(size)) // to be replaced
	first := put(1, chunk(1))
	_, err = pw.WritePart(ctx, up, 2, int64(size), bytes.NewReader(chunk(2)), int64(size), sumOf(object.CRC64NVME, nil))
	kindOf(t, place.Corrupt, err)

	found, err := pw.Parts(ctx, up)
	require.NoError(t, err)
	require.Len(t, found, 2)
	assert.Equal(t, []int{1, 3}, []int{found[0].Number, found[1].Number})
	assert.Equal(t, first.ETag, found[0].ETag)
	assert.EqualValues(t, 999, found[1].Size)
	assert.Empty(t, list(t, p, "", place.ListOptions{}), "an unfinished upload is not an object")
	ups, err := place.UploadsOf(ctx, pw, up.Key)
	require.NoError(t, err)
	require.Len(t, ups, 1)
	assert.Equal(t, up.ID, ups[0].ID)
	assert.Equal(t, up.Key, ups[0].Key)
	if !s.opts.UploadsByKey {
		ups, err = pw.Uploads(ctx)
		require.NoError(t, err)
		require.Len(t, ups, 1)
	}

	second, err := pw.WritePart(ctx, up, 2, int64(size), bytes.NewReader(chunk(2)), int64(size),
		sumOf(object.CRC64NVME, chunk(2)))
	require.NoError(t, err)
	all := []place.Part{first, second, third}
	opts.Sum = sumOf(object.CRC64NVME, content(3))
	_, err = pw.Finish(ctx, up, all, opts)
	assert.Error(t, err, "the whole object's sum is held against the parts")
	opts.Sum, opts.Condition = sumOf(object.CRC64NVME, data), place.IfAbsent
	if s.opts.NoConditions {
		opts.Condition = place.Always
	}
	wrote, err := pw.Finish(ctx, up, all, opts)
	require.NoError(t, err)
	e, err := p.Stat(ctx, object.Ref{Key: up.Key})
	require.NoError(t, err)
	assert.Equal(t, wrote.Mark(), e.Mark())
	if kind := p.Abilities().StoredSums; kind == object.CRC64NVME {
		kept, _ := e.Sum(kind)
		assert.Equal(t, sumOf(kind, data), kept, "the whole object's sum, not one of part sums")
	}
	assert.True(t, bytes.Equal(data, read(t, p, up.Key, place.ReadOptions{})))
	_, err = pw.Parts(ctx, up)
	kindOf(t, place.NotFound, err)

	up, err = pw.Begin(ctx, "given/up.wav", place.WriteOptions{})
	require.NoError(t, err)
	put(1, chunk(1))
	require.NoError(t, pw.Abort(ctx, up))
	require.NoError(t, pw.Abort(ctx, up), "a gone upload is no error")
	ups, err = pw.Uploads(ctx)
	require.NoError(t, err)
	assert.Empty(t, ups)
	assert.Equal(t, []string{"big/dawn chorus.wav"}, list(t, p, "", place.ListOptions{}))
}

func (s *suite) serverCopy(t *testing.T) {
	p := s.open(t)
	copier, ok := p.(place.ServerCopier)
	if !ok {
		return
	}
	require.True(t, copier.CanCopyFrom(p))
	data := content(200_000)
	src, err := p.Write(ctx, "a&b/süd +1.wav", bytes.NewReader(data), int64(len(data)),
		place.WriteOptions{Metadata: map[string]string{"site": "weir"}})
	require.NoError(t, err)
	_, err = copier.CopyFrom(ctx, p, object.Ref{Key: src.Key, IfMark: src.Mark()}, "copy.wav", place.WriteOptions{})
	require.NoError(t, err)
	e, err := p.Stat(ctx, object.Ref{Key: "copy.wav"})
	require.NoError(t, err)
	assert.Equal(t, "weir", e.Metadata["site"])
	assert.True(t, bytes.Equal(data, read(t, p, "copy.wav", place.ReadOptions{})))
	_, err = copier.CopyFrom(ctx, p, object.Ref{Key: src.Key, IfMark: "deadbeef"}, "copy2.wav", place.WriteOptions{})
	kindOf(t, place.Changed, err)
	_, err = copier.CopyFrom(ctx, p, object.Ref{Key: "not there"}, "copy2.wav", place.WriteOptions{})
	kindOf(t, place.NotFound, err)
}

func (s *suite) errors(t *testing.T) {
	p := s.open(t)
	write(t, p, "one", []byte("1"))
	_, err := p.Stat(ctx, object.Ref{Key: "none"})
	kindOf(t, place.NotFound, err)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, _, err = p.Read(ctx, "none", place.ReadOptions{})
	kindOf(t, place.NotFound, err)
	_, _, err = p.Read(ctx, "none", place.ReadOptions{Offset: 5, Length: 1})
	kindOf(t, place.NotFound, err)
	stopped, stop := context.WithCancel(ctx)
	stop()
	for _, err = range p.List(stopped, "", place.ListOptions{}) {
	}
	if err != nil { // a folder may be done before it looks
		assert.True(t, errors.Is(err, context.Canceled) || place.KindOf(err) == place.NotFound, "%v", err)
	}
	_, err = p.Stat(stopped, object.Ref{Key: "one"})
	kindOf(t, place.Cancelled, err)
	if pw, ok := p.(place.PartWriter); ok && !s.opts.ImplicitUploads {
		_, err = pw.WritePart(ctx, place.Upload{Key: "one", ID: "bm9uZQ"}, 1, 0, strings.NewReader("x"), 1,
			object.Sum{})
		kindOf(t, place.NotFound, err)
	}
}

// Hostile are names that programs trip over.
var Hostile = []string{
	"esc\x1b[2J.wav", "new\nline.wav", "tab\there", "bell\a", "del\x7f", "c1\u009b31m", "rtl\u202egpj.wav",
	"zero\u200bwidth",
	"nfc-\u00e9", "nfd-e\u0301", "plus+and space", "percent%41", "amp&<xml>\"quote'", "q?uery#frag", "semi;colon=x",
	"back\\slash",
	"star*", "[brackets]", "dollar$(x)", "-rf", "~", "..hidden", "trailing.", " lead and trail ",
	"a//b", "/lead", "dir/", "x/../y", "./z", "x/./y", "..", "../up", strings.Repeat("n", 255),
	strings.Repeat("n", 256),
	strings.Repeat("deep/", 100) + "leaf", strings.Repeat("k", 1024), strings.Repeat("k/", 511) + "kk", "nul\x00byte",
	"bad\xffutf8",
}

// hostileNames: every name either makes the whole round trip or is refused as
// a bad name, beforehand where the place can tell. None may escape or mangle.
func (s *suite) hostileNames(t *testing.T) {
	for _, key := range Hostile {
		p := s.open(t)
		e, err := p.Write(ctx, key, strings.NewReader(key), int64(len(key)), place.WriteOptions{})
		if checker, ok := p.(place.NameChecker); ok && checker.CheckName(key) != nil {
			kindOf(t, place.BadName, err)
			assert.NotContains(t, err.Error(), "\x1b")
			continue
		}
		if s.opts.Mangles != nil && s.opts.Mangles(key) {
			continue
		}
		if !assert.NoError(t, err, "%q", key) {
			continue
		}
		assert.Equal(t, []string{key}, list(t, p, "", place.ListOptions{}), "%q", key)
		assert.Equal(t, key, string(read(t, p, key, place.ReadOptions{IfMark: e.Mark()})))
		_, err = p.Stat(ctx, object.Ref{Key: key})
		assert.NoError(t, err)
		if pw, ok := p.(place.PartWriter); ok {
			up, err := pw.Begin(ctx, key, place.WriteOptions{})
			if assert.NoError(t, err, "%q", key) {
				part, err := pw.WritePart(ctx, up, 1, 0, strings.NewReader("parts"), 5, object.Sum{})
				require.NoError(t, err, "%q", key)
				_, err = pw.Finish(ctx, up, []place.Part{part}, place.WriteOptions{})
				assert.NoError(t, err, "%q", key)
				assert.Equal(t, "parts", string(read(t, p, key, place.ReadOptions{})))
			}
		}
		assert.NoError(t, p.Remove(ctx, object.Ref{Key: key})[0])
		assert.Empty(t, list(t, p, "", place.ListOptions{}), "%q", key)
	}
}

// model: random writes and removals, and a map that says what must be there.
func (s *suite) model(t *testing.T) {
	p := s.open(t)
	want := map[string]string{}
	part := rapid.SampledFrom([]string{"a", "b", "a-", "a.b", "é"})
	testkit.Check(t, func(t *rapid.T) {
		parts := rapid.SliceOfN(part, 1, 3).Draw(t, "parts")
		key := strings.Join(parts, "/") + ".wav" // a name, never a folder too
		if rapid.Bool().Draw(t, "delete") {
			require.NoError(t, p.Remove(ctx, object.Ref{Key: key})[0])
			delete(want, key)
		} else {
			text := rapid.StringN(0, 20, 40).Draw(t, "text")
			write(t, p, key, []byte(text))
			want[key] = text
		}
		prefix := rapid.SampledFrom([]string{"", "a", "a/", "a-", "b/a/", "é/"}).Draw(t, "prefix")
		keys := []string{}
		for k := range want {
			if strings.HasPrefix(k, prefix) {
				keys = append(keys, k)
			}
		}
		slices.Sort(keys)
		require.Equal(t, keys, list(t, p, prefix, place.ListOptions{}))
		if text, ok := want[key]; ok {
			require.Equal(t, text, string(read(t, p, key, place.ReadOptions{})))
		}
	})
}
