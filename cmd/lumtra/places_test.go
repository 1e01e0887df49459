package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/s3"
	"lumtra/core/secret"
	"lumtra/testkit"
)

var ctx = context.Background()

// root opens a bucket of the store at address, which is made if need be.
func root(t *testing.T, address, bucket string, keep bool) (*s3.Store, place.Place) {
	store, err := s3.NewStore(s3.Config{Name: "north", Address: address, AccessKey: "north",
		Secret: secret.New("reed-bed-9913")})
	require.NoError(t, err)
	t.Cleanup(func() { store.Close() })
	if err := store.MakeBucket(ctx, bucket); err != nil {
		require.Equal(t, place.Exists, place.KindOf(err))
	}
	if keep {
		require.NoError(t, store.SetVersioning(ctx, bucket, true))
	}
	p, err := store.Open(bucket)
	require.NoError(t, err)
	return store, p
}

func store(t *testing.T, p place.Place, key, text string, opts place.WriteOptions) {
	_, err := p.Write(ctx, key, strings.NewReader(text), int64(len(text)), opts)
	require.NoError(t, err)
}

func fetch(t *testing.T, p place.Place, key string) string {
	r, _, err := p.Read(ctx, key, place.ReadOptions{})
	require.NoError(t, err)
	defer r.Close()
	raw, err := io.ReadAll(r)
	require.NoError(t, err)
	return string(raw)
}

// escape leaves a sheet. What follows must not come with it: terminals take
// Escape and a letter together for another key.
func (w *window) escape() {
	w.t.Helper()
	w.keys("Escape")
	testkit.Until(w.t, func() bool {
		text := w.text()
		return strings.Contains(text, "1-7 views") && !strings.Contains(text, "esc back") &&
			!strings.Contains(text, "esc leave it")
	}, func() any { return w.text() })
}

func (w *window) typed(text string) { w.tmux("send-keys", "-l", text) }

// An endpoint is added with a wrong secret, which the test says, mended on the
// spot, and saved; the secret is nowhere to be seen or read.
func TestScreenAddEndpoint(t *testing.T) {
	t.Parallel()
	_, address := startStore(t, t.TempDir())
	root(t, address, "archive", false)
	dir := workspace(t, address, nil)
	w := openWindow(t, "--workspace", dir)
	w.see(`Now`)
	w.keys("2")
	w.see(`▸ src`)
	w.keys("n")
	w.see(`Paste an address`)
	w.typed(address)
	w.keys("Enter")
	w.see(`speaks\s+S3 API`)
	w.keys("C-u")
	w.typed("marsh")
	w.keys("Down", "Down", "Down", "Down")
	w.typed("north")
	w.keys("Down")
	w.typed("wrong-secret-0007")
	text := w.see(`taken, 17 characters, not shown`)
	assert.NotContains(t, text, "wrong-secret")
	w.keys("Enter")
	text = w.see(`m mend the settings`)
	assert.Regexp(t, `▲ sign in\s+credentials denied`, text)
	assert.Regexp(t, `check the credentials`, text)
	w.keys("m", "C-u") // the cursor is where it was
	w.typed("reed-bed-9913")
	w.see(`taken, 13 characters`)
	w.keys("Enter")
	w.see(`All that was tried works`)
	w.keys("Enter")
	w.see(`Saved marsh`)
	w.see(`marsh .*● works`)
	w.keys("Enter")
	w.see(`▸ archive/`)
	w.keys("K")
	text = w.see(`used by marsh`)
	assert.Contains(t, text, secret.New("reed-bed-9913").Fingerprint())
	w.escape()
	w.leave()
	raw, err := os.ReadFile(filepath.Join(dir, "endpoints.toml"))
	require.NoError(t, err)
	assert.Contains(t, string(raw), `credential = 'kept:marsh'`)
	assert.NotContains(t, string(raw), "9913\n")
}

// A removed object is found again among its versions, and brought back.
func TestScreenBringBack(t *testing.T) {
	t.Parallel()
	_, address := startStore(t, t.TempDir())
	_, p := root(t, address, "archive", true)
	store(t, p, "letters/ferry.txt", "the first letter", place.WriteOptions{})
	store(t, p, "letters/ferry.txt", "the second letter", place.WriteOptions{})
	require.NoError(t, p.Remove(ctx, object.Ref{Key: "letters/ferry.txt"})[0])
	w := openWindow(t, "--workspace", workspace(t, address, nil))
	w.keys("2")
	w.see(`▸ north`)
	w.keys("j", "Enter")
	w.see(`▸ archive/`)
	w.keys("j", "V")
	w.see(`What was deleted and can be brought back is shown too`)
	w.keys("Enter")
	w.see(`▸ letters/`)
	w.keys("j", "Enter")
	w.see(`○ ferry\.txt\s+deleted`)
	w.keys("j")
	w.see(`3 versions · the newest`)
	w.see(`A delete marker`)
	w.keys("Tab", "Left", "Left")
	w.see(`2 before the newest`)
	w.see(`the first letter`)
	w.keys("c")
	w.see(`≠ kind\s+content\s+delete marker`)
	w.keys("c", "b")
	w.see(`Bring back an older state`)
	w.keys("Enter")
	w.see(`Brought back as the newest version`)
	w.see(`  ferry\.txt\s+16 B`)
	w.leave()
	assert.Equal(t, "the first letter", fetch(t, p, "letters/ferry.txt"))
}

// A bucket with all that can be in one is emptied and removed, by the number
// that was shown, and the record says so.
func TestScreenEmptyBucket(t *testing.T) {
	t.Parallel()
	_, address := startStore(t, t.TempDir())
	north, p := root(t, address, "old-cards", true)
	for i := range 5 {
		store(t, p, fmt.Sprintf("card/%d", i), "one", place.WriteOptions{})
		store(t, p, fmt.Sprintf("card/%d", i), "another", place.WriteOptions{})
	}
	require.NoError(t, p.Remove(ctx, object.Ref{Key: "card/0"})[0])
	_, err := p.(place.PartWriter).Begin(ctx, "half", place.WriteOptions{})
	require.NoError(t, err)
	w := openWindow(t, "--workspace", workspace(t, address, nil))
	w.keys("2")
	w.see(`▸ north`)
	w.keys("j", "Enter")
	w.see(`▸ old-cards/`)
	w.keys("j", "E")
	text := w.see(`Type the number of things that go, 12,`)
	assert.Regexp(t, `(?s)4 objects, 28 B, 6 older versions.*1\s.*delete.*marker.*1\s.*unfinished.*upload`,
		regexp.MustCompile(`[│\s]+`).ReplaceAllString(text, " "))
	w.see(`and keep the bucket`)
	w.keys("Right", "Down")
	w.typed("11")
	w.keys("Enter")
	w.see(`this is not the number: 12`)
	w.keys("BSpace")
	w.typed("2")
	w.keys("Enter")
	w.see(`Done\.`)
	w.escape()
	w.see(`  empty +│`)
	w.keys("H")
	w.see(`empty and delete bucket`)
	w.see(`north/old-cards · 4 objects`)
	w.escape()
	w.leave()
	buckets, err := north.Buckets(ctx)
	require.NoError(t, err)
	assert.Empty(t, buckets)
}

// Things from a store and a folder are gathered, dropped on another folder,
// and go there by a plan.
func TestScreenTray(t *testing.T) {
	t.Parallel()
	_, address := startStore(t, t.TempDir())
	_, p := root(t, address, "archive", false)
	store(t, p, "dawn/a.wav", "from the store", place.WriteOptions{})
	store(t, p, "other.wav", "not this one", place.WriteOptions{})
	dir := workspace(t, address, nil)
	put(t, dir, "src/notes.txt", "from the folder")
	put(t, dir, "dst/unrelated.txt", "stays")
	w := openWindow(t, "--workspace", dir)
	w.keys("2")
	w.see(`▸ north`)
	w.keys("j", "Enter")
	w.see(`▸ archive/`)
	w.keys("j", "Enter")
	w.see(`▸ dawn/`)
	w.keys("j", "t")
	w.see(`1 thing in the tray`)
	w.keys("G", "Enter")
	w.see(`notes\.txt`)
	w.keys("j", "t")
	w.see(`▽ tray: 2  dawn/, notes\.txt`)
	w.keys("g", "d")
	w.see(`Copy tray/tray-1 to dst`)
	text := w.see(`waits to be approved`)
	assert.Regexp(t, `add 2 · 29 B`, text)
	assert.NotContains(t, text, "unrelated")
	w.keys("a", "Enter")
	w.see(`Everything the plan named is at the target`)
	w.keys("v")
	w.see(`It holds`)
	w.leave()
	for name, want := range map[string]string{"dawn/a.wav": "from the store", "notes.txt": "from the folder",
		"unrelated.txt": "stays"} {
		raw, err := os.ReadFile(filepath.Join(dir, "dst", name))
		require.NoError(t, err)
		assert.Equal(t, want, string(raw))
	}
}

// Names, metadata and contents made by strangers are shown, previewed and
// copied, and nothing of them reaches the terminal as more than text.
func TestScreenHostile(t *testing.T) {
	t.Parallel()
	_, address := startStore(t, t.TempDir())
	_, p := root(t, address, "archive", false)
	evil := "\x1b]0;pwned\a\x1b[5;31mEVIL\u202egpj"
	keys := []string{evil + ".txt", "a//b", "/lead", "dir/", "x/../y", "./z", "nfc-\u00e9", "nfd-e\u0301",
		strings.Repeat("k", 1024), "tab\there.csv", "nul\x01.json"}
	for _, k := range keys {
		opts := place.WriteOptions{ContentType: "text/plain"}
		store(t, p, k, evil+",b\n"+evil+",2\n", opts)
	}
	dir := workspace(t, address, nil)
	w := openWindow(t, "--workspace", dir)
	log := filepath.Join(t.TempDir(), "raw")
	w.tmux("pipe-pane", "cat > "+log)
	w.keys("2")
	w.see(`▸ north`)
	w.keys("j", "Enter")
	w.see(`▸ archive/`)
	w.keys("j", "Enter")
	w.see(`EVIL`)
	w.see(`▸ dir/`)
	for range 14 { // rest on each, so that its facts and preview come
		w.keys("j")
		w.see(`keeps sums|ETag|folder`)
		w.keys("l")
	}
	w.keys("g", "j", "j", "j", "t", "T")
	w.see(`The tray`)
	w.escape()
	for key, shows := range map[string]string{"H": "by hand", "i": "Metadata and tags", "m": "Move or copy",
		"D": "Type the number", "L": "Link to", "U": "Undelete", "p": "esc back to the tree"} {
		w.keys(key)
		w.see(shows)
		w.escape()
	}
	w.keys("*")
	w.see(`Mark by pattern`)
	w.typed("*")
	w.keys("Enter")
	w.see(`matches`)
	w.escape()
	w.leave()
	raw, err := os.ReadFile(log)
	require.NoError(t, err)
	require.Contains(t, string(raw), "EVIL")
	for _, bad := range []string{"\x1b]0;pwned", "\x1b[5;31m", "\u202e"} {
		assert.NotContains(t, string(raw), bad)
	}
}

// endless is a store with one bucket of so many objects, whose pages are made
// as they are asked for. While held it answers nothing.
type endless struct {
	n    int
	gate chan struct{} // closed: open
	held atomic.Int64  // requests that wait
}

func (e *endless) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	switch {
	case r.URL.Path == "/":
		io.WriteString(w,
			"<ListAllMyBucketsResult><Buckets><Bucket><Name>big</Name></Bucket></Buckets></ListAllMyBucketsResult>")
	case q.Get("list-type") == "2" && q.Get("delimiter") == "":
		w.WriteHeader(http.StatusServiceUnavailable) // it cannot be counted
	case q.Get("list-type") == "2":
		from := 0
		fmt.Sscanf(q.Get("continuation-token"), "%d", &from)
		to := min(from+1000, e.n)
		buf := make([]byte, 0, 200<<10)
		buf = append(buf, "<ListBucketResult>"...)
		for i := from; i < to; i++ {
			buf = fmt.Appendf(buf,
				`<Contents><Key>tile-%07d.png</Key><LastModified>2026-03-01T04:30:00.000Z</LastModified><ETag>`+
					`&quot;%032x&quot;</ETag><Size>%d</Size></Contents>`, i, i, i%977)
		}
		buf = fmt.Appendf(buf, "<IsTruncated>%t</IsTruncated>", to < e.n)
		if to < e.n {
			buf = fmt.Appendf(buf, "<NextContinuationToken>%d</NextContinuationToken>", to)
		}
		w.Write(append(buf, "</ListBucketResult>"...))
	default:
		e.held.Add(1)
		select {
		case <-e.gate:
		case <-r.Context().Done():
		}
		w.WriteHeader(http.StatusNotFound)
	}
}

// In a bucket of a million objects, or LUMTRA_ROWS of them, the cursor goes anywhere, also while the
// store answers nothing, and the memory stays small.
func TestScreenManyRows(t *testing.T) {
	t.Parallel()
	big := &endless{n: testkit.Number("LUMTRA_ROWS", 1_000_000), gate: make(chan struct{})}
	web := httptest.NewServer(big)
	t.Cleanup(func() { close(big.gate); web.CloseClientConnections(); web.Close() })
	w := openWindow(t, "--workspace", workspace(t, web.URL, nil))
	w.keys("2")
	w.see(`▸ north`)
	w.keys("j", "Enter")
	w.see(`▸ big/`)
	w.keys("j", "Enter")
	w.see(`tile-0000000\.png`)
	w.keys("j")
	for big.held.Load() == 0 { // its facts are asked for, and do not come
		w.see(`looking …`)
	}
	for i := range 40 {
		w.keys("j")
		w.see(fmt.Sprintf(`▌\s+tile-%07d\.png`, i+1))
	}
	w.keys("A", "s")
	w.see(`listing … \d,\d\d\d,\d\d\d|tile-.*976 B`)
	w.keys("G")
	w.see(`▌ ▸ src`)
	for !strings.Contains(w.text(), "976 B") {
		w.keys("g", "j", "j")
		w.see(`tile-`)
	}
	w.keys("s", "s", "g", "j", "j", "j")
	w.keys("/")
	w.see(`names with`)
	w.typed(fmt.Sprint(big.n - 1))
	w.see(fmt.Sprintf(`tile-%07d\.png`, big.n-1))
	w.keys("Enter")
	peak := peakMemory(t, w.program())
	t.Logf("most memory the window had: %d MB", peak>>20)
	// Rows held in memory would be a thousand bytes each; beside busy programs the collector comes late.
	assert.Less(t, peak, int64(200<<20+200*big.n))
	w.leave()
}

// peakMemory is the most resident memory, in bytes, that a process has had.
func peakMemory(t *testing.T, pid int) int64 { return memory(t, pid, "VmHWM:") }

// memory is a figure of a process's memory (proc(5), /proc/PID/status), in bytes.
func memory(t *testing.T, pid int, what string) int64 {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	var kb int64
	for _, line := range strings.Split(string(status), "\n") {
		if rest, ok := strings.CutPrefix(line, what); ok {
			fmt.Sscan(rest, &kb)
		}
	}
	require.Positive(t, kb)
	return kb << 10
}
