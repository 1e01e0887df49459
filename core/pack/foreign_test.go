package pack_test

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/testkit"
)

// memory is a place with one object, which counts what is asked.
type memory struct {
	place.Place
	data  []byte
	asked int
}

func (m *memory) Name() string { return "memory" }
func (m *memory) Stat(context.Context, object.Ref) (object.Entry, error) {
	m.asked++
	return object.Entry{Size: int64(len(m.data)), ETag: "e"}, nil
}
func (m *memory) Read(_ context.Context, _ string, o place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	m.asked++
	end := int64(len(m.data))
	if o.Length > 0 {
		end = min(end, o.Offset+o.Length)
	}
	return io.NopCloser(bytes.NewReader(m.data[min(o.Offset, end):end])), object.Entry{}, nil
}

// tree is a folder with everything that a file system has.
func tree(t *testing.T) string {
	dir := filepath.Join(t.TempDir(), "tree")
	put := func(name, body string, mode os.FileMode) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(body), 0o644))
		require.NoError(t, os.Chmod(path, mode))
		at := time.Unix(1_700_000_000, 123456789)
		require.NoError(t, os.Chtimes(path, at, at))
	}
	put("a/one.wav", text("one", 3<<20), 0o640)
	put("a/é "+strings.Repeat("long", 50), "long", 0o600)
	put("b", "", 0o444)
	put("z/set", "set", 0o755|os.ModeSetuid)
	require.NoError(t, os.Link(filepath.Join(dir, "a/one.wav"), filepath.Join(dir, "a/two.wav")))
	require.NoError(t, os.Symlink("a/one.wav", filepath.Join(dir, "c")))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "empty/inner"), 0o700))
	return dir
}

// listed tells all of a tree: what each thing is, with mode, time, content and other names.
func listed(t *testing.T, dir string) []string {
	var all []string
	inodes := map[any]string{}
	require.NoError(t, filepath.Walk(dir, func(path string, info os.FileInfo, err error) error {
		require.NoError(t, err)
		name, _ := filepath.Rel(dir, path)
		line := fmt.Sprint(name, " ", info.Mode())
		switch {
		case info.Mode()&os.ModeSymlink != 0:
			link, _ := os.Readlink(path)
			line += " " + link
		case info.Mode().IsRegular():
			raw, err := os.ReadFile(path)
			require.NoError(t, err)
			line += fmt.Sprintf(" %s %x", info.ModTime().UTC().Format(time.RFC3339Nano), len(raw))
			for other, first := range inodes { // links are told apart from copies by their number
				if os.SameFile(other.(os.FileInfo), info) {
					line += " is " + first
				}
			}
			inodes[info] = name
		}
		if name != "." {
			all = append(all, line)
		}
		return nil
	}))
	slices.Sort(all)
	return all
}

// An archive of a few bytes may say that a file of it has very many, of which it has none: it is opened at once, the
// file is told of and not taken out, and what else is there is. The folder for what is kept is made.
func TestForeignHoles(t *testing.T) {
	testkit.Heavy(t)
	src := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(src, "a"), []byte("here"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(src, "holes"), nil, 0o644))
	require.NoError(t, os.Truncate(filepath.Join(src, "holes"), 4<<40))
	for _, format := range []string{"gnu", "pax"} {
		dir := t.TempDir()
		out, err := exec.Command("tar", "--format="+format, "--sparse", "-cf", filepath.Join(dir, "x.tar"), "-C", src,
			"a", "holes").CombinedOutput()
		require.NoError(t, err, "%s", out)
		x, err := pack.Scan(t.Context(), outside(t, dir), "x.tar", filepath.Join(dir, "new", "kept"), pack.Options{})
		require.NoError(t, err)
		kinds := map[string]pack.Kind{}
		for m, err := range x.Walk(t.Context(), "", false) {
			require.NoError(t, err)
			kinds[m.Name] = m.Kind
		}
		assert.Equal(t, map[string]pack.Kind{"a": pack.File, "holes": pack.Special}, kinds, format)
		assert.EqualValues(t, 4, x.Totals().Bytes)
		require.NoError(t, x.Close())
	}
}

// Little may become very much: reading an archive through ends when it is told to.
func TestScanEnds(t *testing.T) {
	dir := t.TempDir()
	frame := zeros(t)
	f, err := os.Create(filepath.Join(dir, "x.tar.zst"))
	require.NoError(t, err)
	var head bytes.Buffer
	require.NoError(t, tar.NewWriter(&head).WriteHeader(&tar.Header{Name: "zeros", Typeflag: tar.TypeReg, Size: 8 << 40,
		Format: tar.FormatPAX}))
	first, err := pack.Zstd.Frame(nil, head.Bytes(), 0)
	require.NoError(t, err)
	_, err = f.Write(first)
	require.NoError(t, err)
	for range 8192 { // 8 GiB; what comes then is not reached
		_, err := f.Write(frame)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	ctx, stop := context.WithCancel(t.Context())
	time.AfterFunc(50*time.Millisecond, stop)
	_, err = pack.Scan(ctx, outside(t, dir), "x.tar.zst", filepath.Join(dir, "kept"), pack.Options{})
	require.ErrorIs(t, err, context.Canceled)
}

// zeros is a frame of many.
func zeros(t *testing.T) []byte {
	frame, err := pack.Zstd.Frame(nil, make([]byte, pack.FrameSize), 0)
	require.NoError(t, err)
	return frame
}

// What another program has packed opens after one pass, comes out as it was, and gets an index when it
// is written anew.
func TestForeign(t *testing.T) {
	testkit.Heavy(t)
	src := tree(t)
	for ending, flags := range map[string][]string{"tar": nil, "tar.gz": {"-z"}, "tar.zst": {"--zstd"}} {
		for _, format := range []string{"gnu", "pax", "ustar"} {
			if format == "ustar" { // which has no such long names in it
				continue
			}
			t.Run(ending+" "+format, func(t *testing.T) {
				dir := t.TempDir()
				path := filepath.Join(dir, "x."+ending)
				out, err := exec.Command("tar", append(flags, "--format="+format, "-cf", path, "-C", src,
					".")...).CombinedOutput()
				require.NoError(t, err, "%s", out)
				p := outside(t, dir)
				_, err = pack.Open(t.Context(), p, "x."+ending)
				require.ErrorIs(t, err, pack.ErrNoIndex)
				kept := filepath.Join(dir, "kept")
				x, err := pack.Scan(t.Context(), p, "x."+ending, kept, pack.Options{})
				require.NoError(t, err)
				assert.False(t, x.Indexed())
				assert.Empty(t, x.Damage())
				takenOut(t, x, src, format == "pax")
				require.NoError(t, x.Close())
				_, err = pack.Rewrite(t.Context(), p, "x."+ending, pack.Options{Dir: dir}, kept)
				require.NoError(t, err)
				x, err = pack.Open(t.Context(), p, "x."+ending)
				require.NoError(t, err)
				takenOut(t, x, src, format == "pax")
			})
		}
	}
}

// takenOut takes a pack out and holds it against a tree; without whole seconds are all that was kept.
func takenOut(t *testing.T, x *pack.Pack, src string, whole bool) {
	to := t.TempDir()
	root, err := os.OpenRoot(to)
	require.NoError(t, err)
	defer root.Close()
	out, err := pack.Extract(t.Context(), x, root, pack.ExtractOptions{Failed: func(m pack.Member, err error) {
		t.Errorf("%s: %v", m.Name, err)
	}})
	require.NoError(t, err)
	assert.EqualValues(t, 4, out.Files)
	assert.EqualValues(t, 2, out.Links)
	want, got := listed(t, src), listed(t, to)
	if !whole {
		for _, all := range [][]string{want, got} {
			for i := range all {
				all[i] = strings.ReplaceAll(all[i], ".123456789Z", "Z")
			}
		}
	}
	assert.Equal(t, want, got)
}

// Names and links that lead out lead nowhere, and are told.
func TestHostile(t *testing.T) {
	var raw bytes.Buffer
	w := tar.NewWriter(&raw)
	for _, h := range []tar.Header{
		{Name: "../out", Typeflag: tar.TypeReg, Size: 1}, {Name: "/etc/out", Typeflag: tar.TypeReg, Size: 1},
		{Name: "a/../../out", Typeflag: tar.TypeReg, Size: 1}, {Name: "..", Typeflag: tar.TypeDir},
		{Name: "door", Typeflag: tar.TypeSymlink, Linkname: "../.."},
		{Name: "door/out", Typeflag: tar.TypeReg, Size: 1},
		{Name: "wall", Typeflag: tar.TypeSymlink, Linkname: "/etc"},
		{Name: "other", Typeflag: tar.TypeLink, Linkname: "../../etc/passwd"},
		{Name: strings.Repeat("deep/", 200_000) + "end", Typeflag: tar.TypeReg, Size: 1},
		{Name: "pipe", Typeflag: tar.TypeFifo}, {Name: "good", Typeflag: tar.TypeReg, Size: 1},
		{Name: "good/below", Typeflag: tar.TypeReg, Size: 1},
	} {
		require.NoError(t, w.WriteHeader(&h))
		if h.Size > 0 {
			_, err := w.Write([]byte("x"))
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	x, err := pack.Scan(t.Context(), &memory{data: raw.Bytes()}, "x.tar", filepath.Join(t.TempDir(), "kept"),
		pack.Options{})
	require.NoError(t, err)
	defer x.Close()
	above := t.TempDir()
	to := filepath.Join(above, "a", "b")
	require.NoError(t, os.MkdirAll(to, 0o755))
	root, err := os.OpenRoot(to)
	require.NoError(t, err)
	defer root.Close()
	deep := 0
	failed := map[string]string{}
	_, err = pack.Extract(t.Context(), x, root, pack.ExtractOptions{AnyLinks: true,
		Failed: func(m pack.Member, err error) {
			failed[m.Name] = err.Error()
			if strings.HasPrefix(m.Name, "deep%2F") {
				deep++
			}
		}})
	require.NoError(t, err)
	assert.FileExists(t, filepath.Join(to, "good"))
	names, err := os.ReadDir(above)
	require.NoError(t, err)
	assert.Len(t, names, 1, "nothing beside a")
	names, err = os.ReadDir(filepath.Join(above, "a"))
	require.NoError(t, err)
	assert.Len(t, names, 1, "nothing beside b")
	for _, name := range []string{"..%2Fout", "%2Fetc%2Fout", "a%2F..%2F..%2Fout", "door/out", "pipe", "other"} {
		assert.Contains(t, failed, name)
	}
	assert.NoFileExists(t, "/etc/out")
	assert.Equal(t, 1, deep)
}

// Links that lead out of what is taken out are not made, unless asked for; those within are.
func TestLinksThatLeadOut(t *testing.T) {
	dir := t.TempDir()
	var things []thing
	for name, to := range map[string]string{"absolute": "/etc/passwd", "up": "..", "a/up": "../..", "a/out": "../../x",
		"a/within": "../b", "a/beside": "c", "a/around": "../a/../b"} {
		things = append(things, thing{pack.Member{Name: name, Kind: pack.Symlink, Link: to}, ""})
	}
	write(t, filepath.Join(dir, "x.tar"), pack.Options{Form: pack.Plain}, things)
	x, err := pack.Open(t.Context(), outside(t, dir), "x.tar")
	require.NoError(t, err)
	defer x.Close()
	for _, any := range []bool{false, true} {
		to := t.TempDir()
		root, err := os.OpenRoot(to)
		require.NoError(t, err)
		var failed []string
		_, err = pack.Extract(t.Context(), x, root, pack.ExtractOptions{AnyLinks: any,
			Failed: func(m pack.Member, _ error) { failed = append(failed, m.Name) }})
		require.NoError(t, errors.Join(err, root.Close()))
		want := []string{"a/out", "a/up", "absolute", "up"}
		if any {
			want = nil
		}
		assert.ElementsMatch(t, want, failed)
		for _, link := range things {
			info, err := os.Lstat(filepath.Join(to, link.m.Name))
			assert.Equal(t, !slices.Contains(failed, link.m.Name), err == nil && info.Mode()&os.ModeSymlink != 0)
		}
	}
}

// A pack that is damaged in one place loses what lies there, and tells its names; the rest comes out
// whole. Nothing that is wrong is given as right.
func TestDamage(t *testing.T) {
	testkit.Heavy(t)
	for _, form := range pack.Forms {
		dir := t.TempDir()
		var things []thing
		for i := range 30 {
			body := text(fmt.Sprint(i), 200_000)
			things = append(things, thing{pack.Member{Name: fmt.Sprintf("takes/%02d", i), Kind: pack.File,
				Size: int64(len(body))}, body})
		}
		key := "x." + string(form)
		write(t, filepath.Join(dir, key), pack.Options{Form: form, Digest: object.BLAKE3}, things)
		raw, err := os.ReadFile(filepath.Join(dir, key))
		require.NoError(t, err)
		x, err := pack.Open(t.Context(), &memory{data: raw}, key)
		require.NoError(t, err)
		within, opened := x.Kept(), 0
		for range 8 {
			bad := bytes.Clone(raw)
			at := testkit.Dice(t).Int64N(int64(len(bad)))
			bad[at] ^= 1 << testkit.Dice(t).IntN(8)
			x, err := pack.Open(t.Context(), &memory{data: bad}, key)
			if err != nil {
				assert.Greater(t, at, within, "what lies before the index does not keep it from being opened")
				continue
			}
			opened++
			lost := map[string]bool{}
			good, wrong, err := x.Check(t.Context(), func(m pack.Member, err error) { lost[m.Name] = true })
			if err != nil {
				assert.Greater(t, at, within)
				continue
			}
			assert.EqualValues(t, 30, good+wrong)
			assert.LessOrEqual(t, wrong, int64(14), "%s: more than a frame or two are lost at %d of %d", form, at,
				len(raw))
			for _, y := range things {
				if lost[y.m.Name] {
					continue
				}
				m, err := x.Find(t.Context(), y.m.Name)
				require.NoError(t, err)
				r, err := x.Read(t.Context(), m, 0, 0)
				require.NoError(t, err)
				got, err := io.ReadAll(r)
				require.NoError(t, err)
				require.True(t, y.body == string(got))
				require.NoError(t, r.Close())
			}
		}
		assert.Greater(t, opened, 3)
	}
}

// Opening a pack of many members, listing one folder and reading one of them takes four requests.
func TestRequests(t *testing.T) {
	var raw bytes.Buffer
	w, err := pack.NewWriter(t.Context(), &raw, pack.Options{Form: pack.Zstd, Digest: object.SHA256})
	require.NoError(t, err)
	const folders, each = 40, 500
	for i := range folders {
		for j := range each {
			body := fmt.Sprintf("%d of %d", j, i)
			_, err := w.Add(pack.Member{Name: fmt.Sprintf("f%03d/take %04d.txt", i, j), Kind: pack.File,
				Size: int64(len(body))},
				&pack.Content{Reader: strings.NewReader(body)})
			require.NoError(t, err)
		}
	}
	_, err = w.Close()
	require.NoError(t, err)
	m := &memory{data: raw.Bytes()}
	x, err := pack.Open(t.Context(), m, "x.tar.zst")
	require.NoError(t, err)
	assert.LessOrEqual(t, m.asked, 3)
	var last pack.Member
	n := 0
	for m, err := range x.Walk(t.Context(), "f017", true) {
		require.NoError(t, err)
		last = m
		n++
	}
	assert.Equal(t, each, n)
	r, err := x.Read(t.Context(), last, 0, 0)
	require.NoError(t, err)
	got, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Equal(t, "499 of 17", string(got))
	assert.LessOrEqual(t, m.asked, 4)
}

// FuzzOpen: whatever bytes are called a pack, opening, listing and reading ends, in words.
func FuzzOpen(f *testing.F) {
	for _, form := range pack.Forms {
		var raw bytes.Buffer
		w, err := pack.NewWriter(context.Background(), &raw, pack.Options{Form: form, Workers: 1})
		require.NoError(f, err)
		for _, name := range []string{"a/b", "a/c", "d"} {
			_, err := w.Add(pack.Member{Name: name, Kind: pack.File, Size: 4},
				&pack.Content{Reader: strings.NewReader("dawn")})
			require.NoError(f, err)
		}
		_, err = w.Close()
		require.NoError(f, err)
		f.Add(string(form), raw.Bytes())
		f.Add(string(form), raw.Bytes()[:raw.Len()/2])
	}
	f.Fuzz(func(t *testing.T, form string, data []byte) {
		m := &memory{data: data}
		key := "x." + form
		if _, ok := pack.FormOf(key); !ok {
			return
		}
		x, err := pack.Open(t.Context(), m, key)
		if err != nil {
			if x, err = pack.Scan(t.Context(), m, key, filepath.Join(t.TempDir(), "kept"), pack.Options{}); err != nil {
				return
			}
		}
		defer x.Close()
		for m, err := range x.Walk(t.Context(), "", false) {
			if err != nil {
				return
			}
			if r, err := x.Read(t.Context(), m, 0, 0); err == nil {
				_, _ = io.CopyN(io.Discard, r, 1<<20)
				_ = r.Close()
			}
		}
	})
}

// What a pack holds of a member that is not what was packed is not packed again as if it were: the pack stays as it is,
// for whoever takes out what is left.
func TestRewriteOfDamage(t *testing.T) {
	for _, versions := range []int{1, 2} { // the first pass, and what has several versions
		dir := t.TempDir()
		p := outside(t, dir)
		for range versions {
			require.NoError(t, pack.Change(t.Context(), p, "x.tar", 1<<20, pack.Options{}, func(w *pack.Writer) error {
				for _, name := range []string{"a", "b"} {
					if _, err := w.Add(pack.Member{Name: name, Kind: pack.File, Size: 3000},
						&pack.Content{Data: []byte(text(name, 3000))}); err != nil {
						return err
					}
				}
				return nil
			}))
		}
		path := filepath.Join(dir, "x.tar")
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		raw[bytes.LastIndex(raw, []byte("b 9 tide"))] ^= 1
		require.NoError(t, os.WriteFile(path, raw, 0o600))
		_, err = pack.Rewrite(t.Context(), p, "x.tar", pack.Options{}, "")
		assert.Equal(t, place.Corrupt, place.KindOf(err), "%d: %v", versions, err)
		now, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(raw, now))
	}
}

// The name of a pack in place of that of a folder, of another pack, or of several; and back.
func TestAs(t *testing.T) {
	for _, c := range []struct {
		path string
		form pack.Form
		want string
	}{{"north/a/takes", pack.Zstd, "north/a/takes.tar.zst!"}, {"north/a/takes.tar!", pack.Zstd,
		"north/a/takes.tar.zst!"},
		{"north/a/takes.tar.zst!/dawn", pack.Gzip, "north/a/takes.tar.gz!"}, {"north/a/takes.tgz!", "",
			"north/a/takes"},
		{"north/a/*.tar!", pack.Gzip, "north/a.tar.gz!"}, {"north/a.tar/*.tar!", pack.Plain, "north/a.tar.tar!"},
		{"north/a/*.tar!", "", "north/a"}, {"north/a.tar", "", "north/a.tar"}} {
		assert.Equal(t, c.want, pack.As(c.path, c.form), c.path)
	}
	assert.Equal(t, "north/a/*.tar!", pack.AsSet("north/a.tar.zst!", pack.Plain))
}
