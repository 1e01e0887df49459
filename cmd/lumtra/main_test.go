package main

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/cli"
	"lumtra/core/place"
	"lumtra/core/place/s3"
	"lumtra/core/secret"
	"lumtra/service/state"
	"lumtra/standin"
	"lumtra/testkit"
)

// The tests here run the built program as people do: from outside.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "lumtra-test-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "lumtra")
	build := []string{"build", "-buildvcs=false", "-o", program}
	if counts := os.Getenv("LUMTRA_TEST_COVER"); counts != "" { // what it runs is counted, too: see `make cover`
		build = append(build, "-cover", "-coverpkg=lumtra/...")
		os.Setenv("GOCOVERDIR", counts)
	}
	if out, err := exec.Command("go", append(build, ".")...).CombinedOutput(); err != nil {
		panic(string(out))
	}
	own = filepath.Join(dir, "state")
	os.Setenv("XDG_STATE_HOME", own)
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// watched is a stand-in that notes every write it accepted.
type watched struct {
	*standin.Server
	mu       sync.Mutex
	accepted map[string]int // "PUT key" or "PUT key?partNumber…uploadId"
	serving  int            // requests that are not answered yet
	most     int            // writes are answered until so many were accepted; 0 for all
	held     chan struct{}  // closed when the others may go on
}

func (w *watched) ServeHTTP(rw http.ResponseWriter, r *http.Request) {
	w.serves(1)
	defer w.serves(-1)
	if hold := w.holds(r); hold != nil {
		<-hold
	}
	rec := &recorder{ResponseWriter: rw, status: 200}
	w.Server.ServeHTTP(rec, r)
	if r.Method == http.MethodPut && rec.status/100 == 2 && !strings.Contains(r.URL.Path, "lumtra-probe-") {
		w.mu.Lock()
		w.accepted[written(r)]++
		w.mu.Unlock()
	}
}

func (w *watched) serves(more int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.serving += more
}

// settled waits until all is answered that a client handed to the network, a dead one too.
func (w *watched) settled(t *testing.T) {
	serving := func() int {
		w.mu.Lock()
		defer w.mu.Unlock()
		return w.serving
	}
	testkit.Until(t, func() bool { return serving() == 0 }, func() any { return serving() })
}

// hold has writes wait once so many were accepted, until what it gives is called.
func (w *watched) hold(most int) (release func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.most, w.held = most, make(chan struct{})
	return func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.most = 0
		close(w.held)
	}
}

func (w *watched) holds(r *http.Request) chan struct{} {
	accepted := w.writes()
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.most > 0 && accepted >= w.most && r.Method == http.MethodPut {
		return w.held
	}
	return nil
}

// writes is how many writes it has accepted.
func (w *watched) writes() (n int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, times := range w.accepted {
		n += times
	}
	return n
}

// written names what a request writes. A block of the Blob API goes by the
// beginning of its ID, which is the upload and the number.
func written(r *http.Request) string {
	if id := r.URL.Query().Get("blockid"); id != "" {
		raw, _ := base64.StdEncoding.DecodeString(id)
		return r.URL.Path + "?partNumber=" + string(raw[:min(len(raw), 23)])
	}
	return r.URL.RequestURI()
}

type recorder struct {
	http.ResponseWriter
	status int
}

func (r *recorder) WriteHeader(status int) {
	r.status = status
	r.ResponseWriter.WriteHeader(status)
}

const secretEnv = "LUMTRA_TEST_SECRET"

// startStore starts a watched stand-in with a bucket "archive".
func startStore(t *testing.T, dir string) (*watched, string) {
	return startWith(t, standin.Config{Dir: dir, Keys: []standin.Key{{Access: "north", Secret: "reed-bed-9913"}}})
}

func startWith(t *testing.T, cfg standin.Config) (*watched, string) {
	server, err := standin.New(cfg)
	require.NoError(t, err)
	w := &watched{Server: server, accepted: map[string]int{}}
	web := httptest.NewServer(w)
	t.Cleanup(func() { web.CloseClientConnections(); web.Close(); server.Close() })
	return w, web.URL
}

// workspace makes one with the folder endpoints "src" and "dst", the store
// "north" and the given jobs.
func workspace(t *testing.T, address string, jobs map[string]string) string {
	dir := t.TempDir()
	for _, sub := range []string{"src", "dst", "jobs"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, sub), 0o755))
	}
	put(t, dir, "endpoints.toml", fmt.Sprintf(`
[endpoint.src]
kind = "folder"
path = "src"
[endpoint.dst]
kind = "folder"
path = "dst"
[endpoint.north]
kind = "s3"
address = %q
access-key = "north"
secret-from = "env:%s"
`, address, secretEnv))
	for name, text := range jobs {
		put(t, dir, "jobs/"+name+".toml", text)
	}
	return dir
}

func put(t *testing.T, dir, name, text string) {
	path := filepath.Join(dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
}

func command(dir string, args ...string) *exec.Cmd {
	if dir != "" {
		args = append([]string{"--workspace", dir}, args...)
	}
	cmd := exec.Command(program, append([]string{"--trust"}, args...)...)
	cmd.Env = append(os.Environ(), secretEnv+"=reed-bed-9913")
	return cmd
}

// lumtra runs a command to its end and returns what it printed and its code.
func lumtra(t *testing.T, dir string, args ...string) (string, int) {
	cmd := command(dir, args...)
	out, err := cmd.CombinedOutput()
	if _, exited := err.(*exec.ExitError); err != nil && !exited {
		require.NoError(t, err)
	}
	assert.NotContains(t, string(out), "reed-bed-9913", "a secret was printed")
	assert.NotContains(t, string(out), "goroutine ", "a panic")
	return string(out), cmd.ProcessState.ExitCode()
}

// own is the folder for the state of all programs started here.
var own string

// stateOf is a path in the state of a workspace.
func stateOf(t *testing.T, workspace string, path ...string) string {
	dir, err := state.Folder(filepath.Join(own, "lumtra"), workspace)
	require.NoError(t, err)
	return filepath.Join(append([]string{dir}, path...)...)
}

// files reads a tree: path to content.
func files(t *testing.T, dir string) map[string]string {
	found := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		raw, err := os.ReadFile(path)
		name, _ := filepath.Rel(dir, path)
		found[name] = string(raw)
		return err
	}))
	return found
}

// fill makes n small files and some big ones.
func fill(t *testing.T, dir string, small int, big ...int) {
	rng := rand.NewChaCha8([32]byte{7})
	for i := range small {
		put(t, dir, fmt.Sprintf("tiles/%02d/%04d.png", i%17, i), strings.Repeat(fmt.Sprintf("tile %d ", i), 40))
	}
	for i, size := range big {
		data := make([]byte, size)
		rng.Read(data)
		put(t, dir, fmt.Sprintf("masters/dawn %d.wav", i), string(data))
	}
}

// makeBucket has the program's own store answer to a bucket.
func makeBucket(t *testing.T, storeDir string) {
	require.NoError(t, os.MkdirAll(filepath.Join(storeDir, "archive"), 0o755))
}

// Ctrl-C ends a run cleanly: what was done stays done, the code says so, and
// the next run goes on.
func TestInterrupted(t *testing.T) {
	t.Parallel()
	storeDir := t.TempDir()
	makeBucket(t, storeDir)
	store, address := startStore(t, storeDir)
	dir := workspace(t, address,
		map[string]string{"out": "source = \"src\"\ntarget = \"north/archive\"\n[limits]\nstreams = 2\n"})
	fill(t, filepath.Join(dir, "src"), 500)
	release := store.hold(3)
	cmd := command(dir, "run", "out", "--json")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	testkit.Until(t, func() bool { return store.writes() >= 3 }, func() any { return store.writes() })
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	cmd.Wait()
	release()
	store.settled(t)
	require.Equal(t, cli.ExitInterrupted, cmd.ProcessState.ExitCode(), out.String())
	assert.Contains(t, out.String(), `"end":"stopped"`)
	text, code := lumtra(t, dir, "run", "out")
	assert.Equal(t, cli.ExitDone, code, text)
	assert.Contains(t, text, "Going on with plan 1")
	for what, times := range store.accepted {
		assert.Equal(t, 1, times, "sent twice: %s", what)
	}
}

// The demo's story, as a program would read it.
func TestDemoHeadless(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "world")
	text, code := lumtra(t, "", "demo", "--headless", "--json", "--dir", dir)
	require.Equal(t, cli.ExitDone, code, text)
	events := map[string]int{}
	var effects []string
	for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
		var e struct{ Event, Effect, Key string }
		require.NoError(t, json.Unmarshal([]byte(line), &e), line)
		if events[e.Event]++; e.Event == "effect" {
			effects = append(effects, e.Effect)
		}
	}
	assert.Equal(t, map[string]int{"building": 1, "surveyed": 3, "planned": 3, "ran": 2, "proved": 2,
		"nothing_to_do": 1, "meddled": 1, "effect": 3, "done": 1}, events)
	assert.ElementsMatch(t, []string{"add", "change", "target-only"}, effects)
	// The world stays, and every other command works on it.
	text, code = lumtra(t, dir, "plan", "nightly-masters")
	assert.Equal(t, cli.ExitNothing, code, text)
	text, code = lumtra(t, dir, "run", "tiles-out")
	assert.Equal(t, cli.ExitDone, code, text)
	text, code = lumtra(t, dir, "survey", "tiles/map")
	assert.Equal(t, cli.ExitDone, code, text)
	assert.Contains(t, text, "1,800 objects")
	text, code = lumtra(t, dir, "history")
	assert.Equal(t, cli.ExitDone, code)
	made := strings.Count(text, "made up for the demo")
	assert.Equal(t, 3, strings.Count(text, "\n")-made, text)
	assert.Greater(t, made, 40, "six weeks that never were, and are marked")
}

func tileDir(i int) string  { return fmt.Sprintf("z%03d", i/500) }
func tileName(i int) string { return fmt.Sprintf("%05d.png", i) }

// putObject stores an object under any key, past every check of ours.
func putObject(t *testing.T, address, key string) {
	store, err := s3.NewStore(s3.Config{Name: "north", Address: address, AccessKey: "north",
		Secret: secret.New("reed-bed-9913")})
	require.NoError(t, err)
	defer store.Close()
	p, err := store.Open("archive")
	require.NoError(t, err)
	_, err = p.Write(t.Context(), key, strings.NewReader("hostile"), 7, place.WriteOptions{})
	require.NoError(t, err)
}
