package pack_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/testkit"
)

// taken counts bytes.
type taken struct{ atomic.Int64 }

func (c *taken) Write(data []byte) (int, error) {
	c.Add(int64(len(data)))
	return len(data), nil
}

// shelf is a place that takes parts and copies ranges, as stores do but with parts as short as a test
// wants them.
type shelf struct {
	read        taken // bytes that were given
	place.Place       // for what is not asked of it
	whole       map[string][]byte
	turn        int   // of what was written last
	least       int64 // of a part behind which another comes
	// fewer than 10,000 parts, for a store that takes fewer; largest is how large an object may be, 0 for any size.
	fewer   int
	largest int64
	// noRanges copies whole objects alone.
	noRanges bool
	// quiet does not tell the sums of what was copied; wrong damages the copy of a number, counted from 1.
	quiet bool
	wrong int

	mu           sync.Mutex
	parts        map[int][]byte
	copies       int
	copied, sent int64
}

func (s *shelf) Abilities() place.Abilities {
	return place.Abilities{MinPart: s.least, MaxPart: 1 << 30, MaxParts: 10_000 - s.fewer, MaxObject: s.largest,
		Conditions: true}
}

func (s *shelf) Name() string { return "shelf" }

func (s *shelf) Stat(_ context.Context, ref object.Ref) (object.Entry, error) {
	data, ok := s.whole[ref.Key]
	if !ok {
		return object.Entry{}, place.NewError("shelf", "stat", ref.Key, place.NotFound, nil)
	}
	return object.Entry{Key: ref.Key, Size: int64(len(data)), ETag: fmt.Sprint(s.turn)}, nil
}

func (s *shelf) Read(ctx context.Context, key string, opts place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	e, err := s.Stat(ctx, object.Ref{Key: key})
	if err == nil && opts.IfMark != "" && opts.IfMark != e.Mark() {
		err = place.NewError("shelf", "read", key, place.Changed, nil)
	}
	if err != nil {
		return nil, e, err
	}
	data := s.whole[key][opts.Offset:]
	if opts.Length > 0 {
		data = data[:min(int64(len(data)), opts.Length)]
	}
	return io.NopCloser(io.TeeReader(bytes.NewReader(data), &s.read)), e, nil
}

func (s *shelf) Write(ctx context.Context, key string, body io.Reader, size int64, _ place.WriteOptions) (object.Entry,
	error) {
	data, err := io.ReadAll(io.LimitReader(body, size))
	if err != nil {
		return object.Entry{}, err
	}
	s.turn++
	s.whole[key] = data
	return s.Stat(ctx, object.Ref{Key: key})
}

func (s *shelf) Begin(_ context.Context, key string, _ place.WriteOptions) (place.Upload, error) {
	s.parts = map[int][]byte{}
	return place.Upload{Key: key, ID: "one"}, nil
}

func (s *shelf) keep(number int, data []byte) place.Part {
	s.mu.Lock()
	s.parts[number] = data
	s.mu.Unlock()
	h := object.CRC64NVME.New()
	h.Write(data)
	return place.Part{Number: number, Size: int64(len(data)), Sum: object.SumOf(object.CRC64NVME, h)}
}

func (s *shelf) WritePart(_ context.Context, _ place.Upload, number int, _ int64, body io.Reader, size int64,
	_ object.Sum) (place.Part, error) {
	data, err := io.ReadAll(io.LimitReader(body, size))
	s.mu.Lock()
	s.sent += size
	s.mu.Unlock()
	return s.keep(number, data), err
}

func (s *shelf) Parts(context.Context, place.Upload) ([]place.Part, error) { return nil, nil }

// Finish joins the parts named, as S3's CompleteMultipartUpload does.
func (s *shelf) Finish(ctx context.Context, up place.Upload, parts []place.Part, opts place.WriteOptions) (object.Entry,
	error) {
	var all bytes.Buffer
	if len(parts) > s.Abilities().MaxParts {
		return object.Entry{}, fmt.Errorf("too many parts: %d", len(parts))
	}
	for i, p := range parts {
		data, ok := s.parts[p.Number]
		switch {
		case !ok || i > 0 && parts[i-1].Number >= p.Number:
			return object.Entry{}, errors.New("InvalidPart")
		case i < len(parts)-1 && int64(len(data)) < s.least:
			return object.Entry{}, fmt.Errorf("EntityTooSmall: part %d of %d has %d", i+1, len(parts), len(data))
		}
		all.Write(data)
	}
	s.parts = nil
	return s.Write(ctx, up.Key, &all, int64(all.Len()), opts)
}

func (s *shelf) Abort(context.Context, place.Upload) error       { s.parts = nil; return nil }
func (s *shelf) Uploads(context.Context) ([]place.Upload, error) { return nil, nil }
func (s *shelf) CanCopyFrom(place.Place) bool                    { return true }
func (s *shelf) CanCopyParts() bool                              { return !s.noRanges }
func (s *shelf) CopyFrom(context.Context, place.Place, object.Ref, string, place.WriteOptions) (object.Entry, error) {
	return object.Entry{}, errors.New("not here")
}

func (s *shelf) CopyPart(ctx context.Context, _ place.Upload, number int, _ place.Place, src object.Ref, offset,
	size int64) (place.Part, error) {
	r, _, err := s.Read(ctx, src.Key, place.ReadOptions{Offset: offset, Length: size, IfMark: src.IfMark})
	if err != nil {
		return place.Part{}, err
	}
	defer r.Close()
	data, err := io.ReadAll(r)
	s.copies++
	s.copied += size
	if s.copies == s.wrong {
		data[len(data)/2] ^= 4
	}
	p := s.keep(number, data)
	if s.quiet {
		p.Sum = object.Sum{}
	}
	return p, err
}

// untarred is what a plain tar program finds in a pack: the last of each name.
func untarred(t fails, key string, raw []byte) map[string]string {
	var in io.Reader = bytes.NewReader(raw)
	var err error
	switch form, _ := pack.FormOf(key); form {
	case pack.Zstd:
		z, err := zstd.NewReader(in)
		require.NoError(t, err)
		defer z.Close()
		in = z
	case pack.Gzip:
		in, err = gzip.NewReader(in)
		require.NoError(t, err)
	}
	all := map[string]string{}
	for r := tar.NewReader(in); ; {
		h, err := r.Next()
		if err == io.EOF {
			return all
		}
		require.NoError(t, err)
		body, err := io.ReadAll(r)
		require.NoError(t, err)
		if h.Typeflag == tar.TypeReg {
			all[h.Name] = string(body)
		}
	}
}

// noise does not compress.
func noise(seed, size int) string {
	data := make([]byte, size)
	r := rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8)})
	_, _ = r.Read(data)
	return string(data)
}

// However a pack came about, written anew inside its store it holds what it held, for us and for a plain tar
// program alike, as a whole and by ranges, and can be added to; what was dropped is gone from it. Where the
// store copies wrongly, or says nothing of what it copied, the end is the same.
func TestRewriteInsideAStore(t *testing.T) {
	testkit.Heavy(t)
	dir := t.TempDir()
	inStore, n := 0, 0
	forms := []pack.Form{pack.Plain, pack.Zstd, pack.Zstd, pack.Plain, pack.Gzip}
	testkit.Checks(t, testkit.Draws(25), func(t *rapid.T) {
		n++
		s := &shelf{whole: map[string][]byte{}, least: rapid.SampledFrom([]int64{512, 9000, 300_000}).Draw(t, "least")}
		key := fmt.Sprintf("%d.%s", n, rapid.SampledFrom(forms).Draw(t, "form"))
		want, ctx := map[string]string{}, context.Background()
		opts := pack.Options{Digest: object.BLAKE3, Dir: dir}
		change := func(drop bool) {
			require.NoError(t, pack.Change(ctx, s, key, 64<<20, opts, func(w *pack.Writer) error {
				touched := map[string]bool{}
				for range rapid.IntRange(1, 9).Draw(t, "acts") {
					name := fmt.Sprintf("%c/%d", 'a'+rapid.IntRange(0, 2).Draw(t, "folder"), rapid.IntRange(0,
						5).Draw(t, "name"))
					if touched[name] {
						continue
					}
					touched[name] = true
					if _, there := want[name]; there && drop {
						delete(want, name)
						if err := w.Drop(name); err != nil {
							return err
						}
						continue
					}
					size := rapid.SampledFrom([]int{0, 1, 512, 3000, 70_000, 200_000, 1<<20 - 512, 1<<20 +
						70_000}).Draw(t, "size")
					want[name] = noise(len(touched)*7+size, size)
					if rapid.Bool().Draw(t, "dull") {
						want[name] = strings.Repeat("x", size)
					}
					if _, err := w.Add(pack.Member{Name: name, Kind: pack.File, Size: int64(size), Mode: 0o644,
						Modified: time.Unix(5, 0)}, &pack.Content{Reader: strings.NewReader(want[name])}); err != nil {
						return err
					}
				}
				if rapid.Bool().Draw(t, "folder") {
					_, err := w.Add(pack.Member{Name: "empty/", Kind: pack.Folder, Mode: 0o755}, nil)
					return err
				}
				return nil
			}))
		}
		for range rapid.IntRange(1, 3).Draw(t, "rounds") {
			change(false)
			change(true)
		}
		s.quiet = rapid.IntRange(0, 5).Draw(t, "quiet") == 0
		s.wrong = rapid.SampledFrom([]int{0, 0, 0, 1, 2}).Draw(t, "wrong")
		s.copies, s.copied, s.sent = 0, 0, 0
		whole := pack.SetKeptPiece(4 * s.least)
		did, err := pack.Rewrite(ctx, s, key, opts, "")
		pack.SetKeptPiece(whole)
		require.NoError(t, err)
		if did.Copied > 0 {
			inStore++
			require.False(t, s.quiet || s.wrong > 0 && s.copies >= s.wrong)
			require.Equal(t, s.sent, did.Sent)
		}
		for _, again := range []bool{false, true} {
			found := untarred(t, key, s.whole[key])
			for name := range found {
				if _, there := want[name]; !there && again { // what is only marked as gone
					delete(found, name)
				}
			}
			require.Equal(t, slices.Sorted(maps.Keys(want)), slices.Sorted(maps.Keys(found)))
			require.True(t, maps.Equal(want, found), "a tar program finds other content")
			require.True(t, maps.Equal(want, inside(t, s, key)), "it holds something else")
			x, err := pack.Open(ctx, s, key)
			require.NoError(t, err)
			require.EqualValues(t, len(want), len(inside(t, s, key)))
			if !again {
				require.Zero(t, x.Totals().Dropped+x.Totals().Dead)
			}
			h := object.CRC64NVME.New()
			h.Write(s.whole[key][:x.Kept()])
			require.Equal(t, object.SumOf(object.CRC64NVME, h), x.Sum())
			for name, body := range want {
				m, err := x.Find(ctx, name)
				require.NoError(t, err)
				off := rapid.IntRange(0, len(body)).Draw(t, "off")
				r, err := x.Read(ctx, m, int64(off), int64(min(4096, len(body)-off)))
				require.NoError(t, err)
				got, err := io.ReadAll(r)
				require.NoError(t, err)
				require.Equal(t, body[off:min(off+4096, len(body))], string(got))
				require.NoError(t, r.Close())
			}
			require.NoError(t, x.Close())
			if !again {
				s.wrong, s.quiet = 0, false
				change(true)
			}
		}
	})
	assert.Positive(t, inStore, "none was written inside the store")
	t.Logf("%d of %d inside the store", inStore, n)
}

// What a pack cannot be written anew inside its store for is said, and it is written anew all the same.
func TestWhyThrough(t *testing.T) {
	body := noise(3, 400_000)
	for why, c := range map[string]struct {
		form  pack.Form
		opts  pack.Options
		other pack.Member
		store func(s *shelf)
	}{
		"several names":    {form: pack.Zstd, other: pack.Member{Name: "b", Kind: pack.Hardlink, Link: "a"}},
		"a .tar.gz":        {form: pack.Gzip},
		"not tell the":     {form: pack.Plain, store: func(s *shelf) { s.quiet = true }},
		"":                 {form: pack.Plain, opts: pack.Options{Level: 1}},
		"no ranges, or":    {form: pack.Plain, store: func(s *shelf) { s.noRanges = true }},
		"ranges, or it is": {form: pack.Zstd, store: func(s *shelf) { s.fewer = 9000 }},
		"object here may":  {form: pack.Zstd, store: func(s *shelf) { s.largest = 1 << 20 }},
	} {
		s := &shelf{whole: map[string][]byte{}, least: 9000}
		if c.other.Name == "" {
			c.other = pack.Member{Name: "b/", Kind: pack.Folder}
		}
		if c.store != nil {
			c.store(s)
		}
		key := "a." + string(c.form)
		require.NoError(t, pack.Change(t.Context(), s, key, 900_000, pack.Options{}, func(w *pack.Writer) error {
			for _, name := range []string{"a", "gone"} {
				if _, err := w.Add(pack.Member{Name: name, Kind: pack.File, Size: int64(len(body)), Shared: true},
					&pack.Content{Data: []byte(body)}); err != nil {
					return err
				}
			}
			_, err := w.Add(c.other, nil)
			return err
		}))
		_, err := pack.Drop(t.Context(), s, key, []string{"gone"}, pack.Options{})
		require.NoError(t, err)
		did, err := pack.Rewrite(t.Context(), s, key, c.opts, "")
		require.NoError(t, err)
		assert.Contains(t, did.Why, why)
		assert.True(t, did.Copied == 0 && did.Sent > 0 && (why == "") == (did.Why == ""), "%+v", did)
		x, err := pack.Open(t.Context(), s, key)
		require.NoError(t, err)
		assert.Zero(t, x.Totals().Dead)
		require.NoError(t, x.Close())
	}
}

// Where nothing is in the way most of a pack stays in its store; what is short, or shares a frame with what goes,
// passes through here.
func TestStaysInTheStore(t *testing.T) {
	testkit.Heavy(t)
	for _, form := range []pack.Form{pack.Plain, pack.Zstd} {
		s := &shelf{whole: map[string][]byte{}, least: 9000}
		key := "a." + string(form)
		want := map[string]string{}
		for round, sizes := range [][]int{{2 << 20, 100, 2 << 20, 3 << 20, 100, 100, 2 << 20, 100}, {2 << 20}} {
			require.NoError(t, pack.Change(t.Context(), s, key, 9<<20, pack.Options{}, func(w *pack.Writer) error {
				for i, size := range sizes {
					name := fmt.Sprint(round, i)
					want[name] = noise(i, size)
					if _, err := w.Add(pack.Member{Name: name, Kind: pack.File, Size: int64(size)},
						&pack.Content{Data: []byte(want[name])}); err != nil {
						return err
					}
				}
				return nil
			}))
		}
		gone := []string{"0 1", "0 3", "0 5", "0 7"} // the last where the addition begins
		_, err := pack.Drop(t.Context(), s, key, gone, pack.Options{})
		require.NoError(t, err)
		for _, name := range gone {
			delete(want, name)
		}
		did, err := pack.Rewrite(t.Context(), s, key, pack.Options{}, "")
		require.NoError(t, err)
		assert.Empty(t, did.Why, form)
		assert.True(t, did.Copied > 5<<20 && did.Sent > 0 && did.Sent < 4<<20, "%s: %+v", form, did)
		assert.True(t, maps.Equal(want, inside(t, s, key)), form)
	}
}

// A block is the head of a member if its checksum says so.
func TestIsHead(t *testing.T) {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "dawn.wav", Size: 3, Mode: 0o644}))
	block := out.Bytes()[:512]
	assert.True(t, pack.IsHead(block))
	assert.False(t, pack.IsHead(block[:511]))
	assert.False(t, pack.IsHead(make([]byte, 512)))
	for _, at := range []int{0, 100, 124, 136, 156, 150, 257, 511} {
		other := bytes.Clone(block)
		other[at]++
		assert.False(t, pack.IsHead(other), "%d", at)
	}
}

// A piece of what stayed in its store is found without reading all before it, as one of what was written here.
func TestPiecesOfWhatStayed(t *testing.T) {
	s := &shelf{whole: map[string][]byte{}, least: 9000}
	const key, size = "a.tar.zst", 12 << 20
	body := noise(7, size)
	require.NoError(t, pack.Change(t.Context(), s, key, 30<<20, pack.Options{}, func(w *pack.Writer) error {
		for _, name := range []string{"stays", "gone"} {
			if _, err := w.Add(pack.Member{Name: name, Kind: pack.File, Size: size},
				&pack.Content{Data: []byte(body)}); err != nil {
				return err
			}
		}
		return nil
	}))
	_, err := pack.Drop(t.Context(), s, key, []string{"gone"}, pack.Options{})
	require.NoError(t, err)
	did, err := pack.Rewrite(t.Context(), s, key, pack.Options{}, "")
	require.NoError(t, err)
	require.Greater(t, did.Copied, int64(size/2), "%+v", did)
	in := pack.In(s, key, "")
	for _, at := range []int64{0, size / 3, size - 100} {
		before := s.read.Load()
		r, _, err := in.Read(t.Context(), "stays", place.ReadOptions{Offset: at, Length: 100})
		require.NoError(t, err)
		got, err := io.ReadAll(r)
		require.NoError(t, err)
		require.NoError(t, r.Close())
		assert.Equal(t, body[at:at+100], string(got))
		assert.Less(t, s.read.Load()-before, int64(4<<20), "at %d", at)
	}
}
