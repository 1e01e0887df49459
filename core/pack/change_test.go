package pack_test

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"

	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/testkit"
)

// inside is what a pack holds, read whole.
func inside(t fails, p place.Place, key string) map[string]string {
	t.Helper()
	x, err := pack.Open(context.Background(), p, key)
	require.NoError(t, err)
	defer x.Close()
	all := map[string]string{}
	for m, err := range x.Walk(context.Background(), "", false) {
		require.NoError(t, err)
		if m.Kind == pack.Folder {
			continue
		}
		if m.Kind == pack.Symlink {
			all[m.Name] = "leads to " + m.Link
			continue
		}
		r, err := x.Read(context.Background(), m, 0, 0)
		require.NoError(t, err)
		raw, err := io.ReadAll(r)
		require.NoError(t, err, "%q", m.Name)
		require.NoError(t, r.Close())
		all[m.Name] = string(raw)
	}
	return all
}

// However a pack is added to, changed, dropped from and written anew, it holds what a map does; its
// sums say the same, and once it was written anew it takes no more than what is there.
func TestChanges(t *testing.T) {
	testkit.Heavy(t)
	dir := t.TempDir()
	p := outside(t, dir)
	n := 0
	testkit.Check(t, func(t *rapid.T) {
		n++
		key := fmt.Sprintf("%d.%s", n, rapid.SampledFrom(pack.Forms).Draw(t, "form"))
		want := map[string]string{}
		names := []string{"a", "a-b", "b/c", "b/d", "b/é", "c/d/e"}
		opts := pack.Options{Digest: object.BLAKE3, Dir: dir}
		for step := range rapid.IntRange(1, 6).Draw(t, "steps") {
			if step > 0 && rapid.IntRange(0, 3).Draw(t, "rewrite") == 0 {
				_, err := pack.Rewrite(context.Background(), p, key, opts, "")
				require.NoError(t, err)
				x, err := pack.Open(context.Background(), p, key)
				require.NoError(t, err)
				require.Zero(t, x.Totals().Dropped)
				require.Zero(t, x.Totals().Dead)
			} else {
				require.NoError(t, pack.Change(context.Background(), p, key, 8<<20, opts, func(w *pack.Writer) error {
					touched := map[string]bool{}
					for range rapid.IntRange(1, 4).Draw(t, "acts") {
						name := rapid.SampledFrom(names).Draw(t, "name")
						if touched[name] { // a writer sees what was there when it began
							continue
						}
						touched[name] = true
						if _, there := want[name]; there && rapid.Bool().Draw(t, "drop") {
							delete(want, name)
							if err := w.Drop(name); err != nil {
								return err
							}
							continue
						}
						size := rapid.SampledFrom([]int{0, 10, 3000, 1<<20 + 5}).Draw(t, "size")
						want[name] = text(fmt.Sprint(name, step), size)
						if _, err := w.Add(pack.Member{Name: name, Kind: pack.File, Size: int64(size), Mode: 0o644,
							Modified: time.Unix(int64(step), 0)},
							&pack.Content{Reader: strings.NewReader(want[name])}); err != nil {
							return err
						}
					}
					return nil
				}))
			}
			require.Equal(t, want, inside(t, p, key))
			x, err := pack.Open(context.Background(), p, key)
			require.NoError(t, err)
			require.EqualValues(t, len(want), x.Totals().Members)
			var bytes int64
			for _, body := range want {
				bytes += int64(len(body))
			}
			require.Equal(t, bytes, x.Totals().Bytes)
			raw, err := os.ReadFile(filepath.Join(dir, key))
			require.NoError(t, err)
			h := object.CRC64NVME.New()
			h.Write(raw[:x.Kept()])
			require.Equal(t, object.SumOf(object.CRC64NVME, h), x.Sum())
		}
	})
}

// A file that has several names keeps its content under those that are left, whichever goes.
func TestNamesThatAreLeft(t *testing.T) {
	for gone, left := range map[string]string{"a": "b", "b": "a"} {
		p := outside(t, t.TempDir())
		require.NoError(t, pack.Change(t.Context(), p, "x.tar.zst", 100, pack.Options{}, func(w *pack.Writer) error {
			_, err := w.Add(pack.Member{Name: "a", Kind: pack.File, Size: 4, Shared: true},
				&pack.Content{Data: []byte("dawn")})
			if err == nil {
				_, err = w.Add(pack.Member{Name: "b", Kind: pack.Hardlink, Link: "a", Size: 4}, nil)
			}
			return err
		}))
		_, err := pack.Drop(t.Context(), p, "x.tar.zst", []string{gone}, pack.Options{})
		require.NoError(t, err)
		for range 2 { // as it is, and written anew
			assert.Equal(t, map[string]string{left: "dawn"}, inside(t, p, "x.tar.zst"))
			_, err = pack.Rewrite(t.Context(), p, "x.tar.zst", pack.Options{}, "")
			require.NoError(t, err)
		}
	}
}

// What is there while an index is made lies where it was told to, is locked so that nobody sweeps it, and goes.
func TestScratchIsHeld(t *testing.T) {
	dir, scratch := t.TempDir(), t.TempDir()
	left := func() []string {
		all, err := filepath.Glob(filepath.Join(scratch, pack.ScratchFolders))
		require.NoError(t, err)
		return all
	}
	for _, fails := range []error{nil, io.ErrUnexpectedEOF} {
		err := pack.Change(t.Context(), outside(t, dir), "x.tar", 10, pack.Options{Dir: scratch},
			func(*pack.Writer) error {
				require.Len(t, left(), 1)
				f, err := os.Open(left()[0])
				require.NoError(t, err)
				defer f.Close()
				assert.ErrorIs(t, unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB), unix.EWOULDBLOCK)
				return fails
			})
		assert.ErrorIs(t, err, fails)
		assert.Empty(t, left())
	}
}

// What was dropped or changed is still known, and an error on the way leaves all as it was.
func TestVersions(t *testing.T) {
	dir := t.TempDir()
	p := outside(t, dir)
	ctx := context.Background()
	add := func(body string) error {
		return pack.Change(ctx, p, "x.tar.zst", 1<<20, pack.Options{}, func(w *pack.Writer) error {
			_, err := w.Add(pack.Member{Name: "a", Kind: pack.File, Size: 4},
				&pack.Content{Reader: strings.NewReader(body)})
			return err
		})
	}
	require.NoError(t, add("dawn"))
	require.NoError(t, add("dusk"))
	assert.ErrorIs(t, add("ebb"), io.ErrUnexpectedEOF)
	n, err := pack.Drop(ctx, p, "x.tar.zst", []string{"nothing"}, pack.Options{})
	require.NoError(t, err)
	assert.Zero(t, n)
	n, err = pack.Drop(ctx, p, "x.tar.zst", []string{"a", "nothing"}, pack.Options{})
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Empty(t, inside(t, p, "x.tar.zst"))
	x, err := pack.Open(ctx, p, "x.tar.zst")
	require.NoError(t, err)
	all, err := x.Versions(ctx, "a")
	require.NoError(t, err)
	require.Len(t, all, 3)
	assert.True(t, all[0].Dropped)
	for i, want := range map[int]string{1: "dusk", 2: "dawn"} {
		r, err := x.Read(ctx, all[i], 0, 0)
		require.NoError(t, err)
		got, err := io.ReadAll(r)
		require.NoError(t, err)
		require.NoError(t, r.Close())
		assert.Equal(t, want, string(got))
	}
	assert.Equal(t, pack.Totals{Dropped: 2, Dead: 8, Size: x.At().Size}, x.Totals())
	require.NoError(t, add("tide"))
	assert.Equal(t, map[string]string{"a": "tide"}, inside(t, p, "x.tar.zst"))
	_, err = pack.Open(ctx, p, "nothing.tar")
	assert.Equal(t, place.NotFound, place.KindOf(err))
}

// Every version of a member can be told, read and become the current one again, also after it was dropped.
func TestVersionsOfMembers(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	outer := outside(t, dir)
	for i, text := range []string{"dawn", "noon!", "evening"} {
		require.NoError(t, pack.Change(ctx, outer, "x.tar.zst", 100, pack.Options{}, func(w *pack.Writer) error {
			_, err := w.Add(pack.Member{Name: "takes/a", Kind: pack.File, Size: int64(len(text))},
				&pack.Content{Data: []byte(text)})
			if i == 0 && err == nil {
				_, err = w.Add(pack.Member{Name: "takes/b", Kind: pack.File, Size: 1}, &pack.Content{Data: []byte("b")})
			}
			return err
		}))
	}
	in := pack.In(outer, "x.tar.zst", "takes")
	told := func() (all []string) {
		for e, err := range in.Versions(ctx, "", false) {
			require.NoError(t, err)
			all = append(all, fmt.Sprint(e.Key, " ", e.Version, " ", e.Kind, " ", e.Size, " ", e.Latest))
		}
		return all
	}
	read := func(version string) string {
		r, _, err := in.Read(ctx, "a", place.ReadOptions{Version: version})
		require.NoError(t, err)
		defer r.Close()
		data, err := io.ReadAll(r)
		require.NoError(t, err)
		return string(data)
	}
	assert.Equal(t, []string{"a 2 object 7 true", "a 1 object 5 false", "a 0 object 4 false", "b 0 object 1 true"},
		told())
	assert.Equal(t, []string{"dawn", "noon!", "evening", "evening"}, []string{read("0"), read("1"), read("2"),
		read("")})
	_, _, err := in.Read(ctx, "a", place.ReadOptions{Version: "7"})
	assert.Equal(t, place.NotFound, place.KindOf(err))
	require.NoError(t, in.Remove(ctx, object.Ref{Key: "a"})[0])
	assert.Equal(t, "a 3 delete marker 0 true", told()[0])
	_, _, err = in.Read(ctx, "a", place.ReadOptions{Version: "3"})
	assert.Equal(t, place.NotFound, place.KindOf(err), "there is nothing in it")
	assert.Equal(t, place.Unsupported, place.KindOf(in.Remove(ctx, object.Ref{Key: "a", Version: "1"})[0]))
	require.NoError(t, in.Undelete(ctx, "a"))
	assert.Equal(t, "evening", read(""))
	_, err = in.CopyFrom(ctx, in, object.Ref{Key: "a", Version: "1"}, "a", place.WriteOptions{})
	require.NoError(t, err)
	assert.Equal(t, "noon!", read(""))
	x, err := in.Pack(ctx)
	require.NoError(t, err)
	assert.Equal(t, pack.Totals{Members: 2, Bytes: 6, Dropped: 2, Dead: 11, Size: x.At().Size}, x.Totals())
	_, err = in.CopyFrom(ctx, outer, object.Ref{Key: "a", Version: "1"}, "a", place.WriteOptions{})
	assert.Error(t, err, "from elsewhere nothing is copied")
	for _, src := range []object.Ref{{Key: "b", Version: "0"}, {Key: "a", Version: "first"}, {Key: "a", Version: "9"}} {
		_, err = in.CopyFrom(ctx, in, src, "a", place.WriteOptions{})
		assert.Error(t, err, "%v", src)
		assert.Equal(t, "noon!", read(""))
	}
	assert.Error(t, in.Undelete(ctx, "none"))
	for _, folder := range []string{"takes", "takes/"} { // which is no object
		_, err = pack.In(outer, "x.tar.zst", "").Stat(ctx, object.Ref{Key: folder})
		assert.Equal(t, place.NotFound, place.KindOf(err), folder)
	}
	_, err = in.Rewrite(ctx, pack.Options{Dir: dir})
	require.NoError(t, err)
	assert.Equal(t, []string{"a 0 object 5 true", "b 0 object 1 true"}, told())
	assert.Equal(t, "noon!", read(""))
}

// Links have versions as files have, and an older one becomes the current one again.
func TestVersionsOfLinks(t *testing.T) {
	ctx := context.Background()
	outer := outside(t, t.TempDir())
	for _, to := range []string{"dawn", "noon"} {
		require.NoError(t, pack.Change(ctx, outer, "x.tar", 100, pack.Options{}, func(w *pack.Writer) error {
			for _, name := range []string{"dawn", "noon"} {
				if _, err := w.Add(pack.Member{Name: name, Kind: pack.File, Size: 4, Shared: true},
					&pack.Content{Data: []byte(name)}); err != nil {
					return err
				}
			}
			for name, kind := range map[string]pack.Kind{"soft": pack.Symlink, "hard": pack.Hardlink} {
				if _, err := w.Add(pack.Member{Name: name, Kind: kind, Link: to, Size: 4}, nil); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	in := pack.In(outer, "x.tar", "")
	for _, name := range []string{"soft", "hard"} {
		e, err := in.CopyFrom(ctx, in, object.Ref{Key: name, Version: "0"}, name, place.WriteOptions{})
		require.NoError(t, err, name)
		assert.Equal(t, name, e.Key)
	}
	x, err := in.Pack(ctx)
	require.NoError(t, err)
	for _, name := range []string{"soft", "hard"} {
		all, err := x.Versions(ctx, name)
		require.NoError(t, err)
		require.Len(t, all, 3, name)
		assert.Equal(t, "dawn", all[0].Link, name)
	}
}
