package pack_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"pgregory.net/rapid"

	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/testkit"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// thing is a member with its content.
type thing struct {
	m    pack.Member
	body string
}

// fails is what a test and a drawn one have in common.
type fails interface {
	require.TestingT
	Helper()
}

func outside(t fails, dir string) place.Place {
	t.Helper()
	end, err := folder.OpenEndpoint("shed", dir, folder.Options{})
	require.NoError(t, err)
	p, err := end.Open("")
	require.NoError(t, err)
	return p
}

// write packs things into a file.
func write(t fails, path string, opts pack.Options, things []thing) pack.Totals {
	t.Helper()
	var out bytes.Buffer
	w, err := pack.NewWriter(context.Background(), &out, opts)
	require.NoError(t, err)
	for _, x := range things {
		_, err := w.Add(x.m, &pack.Content{Reader: strings.NewReader(x.body)})
		require.NoError(t, err)
	}
	totals, err := w.Close()
	require.NoError(t, err)
	require.EqualValues(t, out.Len(), totals.Size)
	require.NoError(t, os.WriteFile(path, out.Bytes(), 0o644))
	return totals
}

// drawn is a tree of things, in the order of their names.
func drawn(t *rapid.T, parts []string) []thing {
	names := map[string]bool{}
	for range rapid.IntRange(0, 10).Draw(t, "files") {
		var path []string
		for range rapid.IntRange(1, 4).Draw(t, "deep") {
			path = append(path, rapid.SampledFrom(parts).Draw(t, "part"))
		}
		name := strings.Join(path, "/")
		free := true
		for other := range names {
			free = free && !strings.HasPrefix(other+"/", name+"/") && !strings.HasPrefix(name+"/", other+"/")
		}
		if free {
			names[name] = true
		}
	}
	var all []thing
	for name := range names {
		size := rapid.SampledFrom([]int{0, 1, 511, 512, 513, 4096, 5000, 20_000, 100_000, pack.FrameSize,
			2*pack.FrameSize + 17}).Draw(t, "size")
		mode := uint32(rapid.IntRange(0, 0o777).Draw(t, "mode"))
		all = append(all, thing{pack.Member{Name: name, Kind: pack.File, Size: int64(size), Mode: mode,
			Modified: time.Unix(rapid.Int64Range(-1<<33, 1<<36).Draw(t, "at"),
				rapid.Int64Range(0, 999_999_999).Draw(t, "nanos")).UTC(),
			UID: rapid.IntRange(0, 1<<22).Draw(t, "uid"), User: "warden"}, text(name, size)})
	}
	sort.Slice(all, func(i, j int) bool { return all[i].m.Name < all[j].m.Name })
	return all
}

// text is content that only its name and size decide.
func text(seed string, size int) string {
	b := make([]byte, 0, size+64)
	for i := 0; len(b) < size; i++ {
		b = fmt.Appendf(b, "%s %d tide %x\n", seed, i, i*i*7919)
	}
	return string(b[:size])
}

var hostileParts = []string{"a", "a-b", "a0", "takes", "é漢", "new\nline", "\xff\xfe", ".hidden", "dot.", "..x",
	strings.Repeat("long ", 40), "\x1b[31m"}

// Whatever is packed comes out, whole and in parts, with all that was known of it, in each form; what is
// listed is in the order of places.
func TestRoundTrip(t *testing.T) {
	testkit.Heavy(t)
	dir := t.TempDir()
	testkit.Check(t, func(t *rapid.T) {
		form := rapid.SampledFrom(pack.Forms).Draw(t, "form")
		things := drawn(t, hostileParts)
		key := "takes." + string(form)
		totals := write(t, filepath.Join(dir, key), pack.Options{Form: form, Digest: object.SHA256,
			Workers: rapid.IntRange(1, 3).Draw(t, "workers"), Dir: dir,
			AsIs: func(name string) bool { return strings.HasSuffix(name, "0") }}, things)
		require.EqualValues(t, len(things), totals.Members)
		in := pack.In(outside(t, dir), key, "")
		var listed []string
		for e, err := range in.List(context.Background(), "", place.ListOptions{}) {
			require.NoError(t, err)
			listed = append(listed, e.Key)
		}
		require.Len(t, listed, len(things))
		for i, x := range things {
			require.Equal(t, x.m.Name, listed[i])
			e, err := in.Stat(context.Background(), object.Ref{Key: x.m.Name})
			require.NoError(t, err)
			require.True(t, e.Modified.Equal(x.m.Modified))
			require.Equal(t, x.m.Mode, uint32(e.Mode.Perm()))
			digest, _ := e.Sum(object.SHA256)
			h := object.SHA256.New()
			io.WriteString(h, x.body)
			require.Equal(t, object.SumOf(object.SHA256, h), digest)
			offset := rapid.Int64Range(0, x.m.Size).Draw(t, "offset")
			length := rapid.Int64Range(0, x.m.Size-offset).Draw(t, "length")
			for _, r := range []place.ReadOptions{{}, {Offset: offset, Length: length}} {
				body, _, err := in.Read(context.Background(), x.m.Name, r)
				require.NoError(t, err)
				got, err := io.ReadAll(body)
				require.NoError(t, err)
				require.NoError(t, body.Close())
				want := x.body[r.Offset:]
				if r.Length > 0 {
					want = want[:r.Length]
				}
				require.True(t, want == string(got), "%q %+v: %d of %d", x.m.Name, r, len(got), len(want))
			}
		}
	})
}

// Plain tools take each form without a word, and find in it what was packed.
func TestPlainTools(t *testing.T) {
	things := []thing{
		{pack.Member{Name: "a/", Kind: pack.Folder, Mode: 0o750, Modified: time.Unix(1e9, 5)}, ""},
		{pack.Member{Name: "a/empty/", Kind: pack.Folder, Mode: 0o755, Modified: time.Unix(1e9, 5)}, ""},
		{pack.Member{Name: "a/long " + strings.Repeat("x", 200), Kind: pack.File, Size: 3 << 20, Mode: 0o640,
			Modified: time.Unix(1e9, 123456789)}, text("l", 3<<20)},
		{pack.Member{Name: "a/é.wav", Kind: pack.File, Size: 5, Mode: 0o600, Modified: time.Unix(1e9, 1),
			Shared: true}, "dawn\n"},
		{pack.Member{Name: "b", Kind: pack.Symlink, Link: "a/é.wav", Mode: 0o777, Modified: time.Unix(1e9, 1)}, ""},
		{pack.Member{Name: "c", Kind: pack.Hardlink, Link: "a/é.wav", Mode: 0o600, Modified: time.Unix(1e9, 1)}, ""},
	}
	for _, form := range pack.Forms {
		dir := t.TempDir()
		path := filepath.Join(dir, "takes."+string(form))
		write(t, path, pack.Options{Form: form}, things)
		run := func(name string, args ...string) {
			out, err := exec.Command(name, args...).CombinedOutput()
			require.NoError(t, err, "%s %v: %s", name, args, out)
			assert.Empty(t, string(out), "%s %v", name, args)
		}
		switch form {
		case pack.Gzip:
			run("gzip", "-t", path)
		case pack.Zstd:
			if _, err := exec.LookPath("zstd"); err == nil {
				run("zstd", "-q", "-t", path)
			}
		}
		if _, err := exec.LookPath("zstd"); form == pack.Zstd && err != nil {
			continue
		}
		to := filepath.Join(dir, "out")
		require.NoError(t, os.Mkdir(to, 0o755))
		run("tar", "-xf", path, "-C", to)
		got, err := os.ReadFile(filepath.Join(to, things[2].m.Name))
		require.NoError(t, err)
		assert.True(t, things[2].body == string(got))
		info, err := os.Stat(filepath.Join(to, things[2].m.Name))
		require.NoError(t, err)
		assert.True(t, info.ModTime().Equal(things[2].m.Modified), "%s", info.ModTime())
		link, err := os.Readlink(filepath.Join(to, "b"))
		require.NoError(t, err)
		assert.Equal(t, "a/é.wav", link)
		same, err := os.ReadFile(filepath.Join(to, "c"))
		require.NoError(t, err)
		assert.Equal(t, "dawn\n", string(same))
		assert.DirExists(t, filepath.Join(to, "a/empty"))
	}
}
