package arrive

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/testkit"
)

// told counts what a watcher tells of.
type told struct {
	sync.Mutex
	calls, files int
}

func (x *told) came(n int) {
	x.Lock()
	defer x.Unlock()
	x.calls, x.files = x.calls+1, x.files+n
}

func (x *told) is() [2]int {
	x.Lock()
	defer x.Unlock()
	return [2]int{x.calls, x.files}
}

// watched is a folder being watched for what comes from now on.
func watched(t *testing.T, rules Rules) (dir string, x *told) {
	dir, x = t.TempDir(), &told{}
	f := &Folder{Root: dir, Rules: rules, Every: time.Minute, Since: time.Now(), Came: x.came}
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { defer close(ended); f.Watch(ctx) }()
	t.Cleanup(func() { cancel(); <-ended })
	return dir, x
}

func put(t *testing.T, path, text string) {
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
}

// Files that come in a burst, into folders that are new too, are told of once, when they stand still.
func TestBurst(t *testing.T) {
	t.Parallel()
	dir, x := watched(t, Rules{Settle: 1500 * time.Millisecond, NotYet: []string{"*.part"}})
	put(t, filepath.Join(dir, "first.part"), "x")
	began := time.Now()
	for i := range 300 {
		put(t, filepath.Join(dir, fmt.Sprintf("day %d", i%7), fmt.Sprintf("take %d.wav", i)), "w")
	}
	put(t, filepath.Join(dir, "not yet.part"), "w")
	seconds := int(time.Since(began) / burst) // a slow machine's burst is no burst
	testkit.Until(t, func() bool { return x.is()[1] >= 300 }, func() any { return x.is() })
	assert.LessOrEqual(t, x.is()[0], 2+seconds)
	assert.Equal(t, 300, x.is()[1])
	require.NoError(t, os.Rename(filepath.Join(dir, "not yet.part"), filepath.Join(dir, "now.wav")))
	testkit.Becomes(t, 301, func() int { return x.is()[1] }) // renamed: it is there
}

// A file that grows is not told of, nor one that somebody has open for writing.
func TestGrowing(t *testing.T) {
	dir, x := watched(t, Rules{Settle: 500 * time.Millisecond})
	path := filepath.Join(dir, "take.wav")
	f, err := os.Create(path)
	require.NoError(t, err)
	for range 12 {
		_, err = f.WriteString("more ")
		require.NoError(t, err)
		time.Sleep(100 * time.Millisecond) // it grows as slowly as that
		assert.Zero(t, x.is()[0])
	}
	assert.True(t, OpenForWriting(path))
	assert.Never(t, func() bool { return x.is()[0] > 0 }, 1200*time.Millisecond, 50*time.Millisecond, "it is open")
	require.NoError(t, f.Close())
	assert.False(t, OpenForWriting(path))
	testkit.Becomes(t, [2]int{1, 1}, x.is)
	assert.False(t, OpenForWriting(filepath.Join(dir, "nothing")))
}

// What came while nobody watched is found, by when it came to its name; what was there before is not.
func TestSince(t *testing.T) {
	dir, x := t.TempDir(), &told{}
	put(t, filepath.Join(dir, "old"), "o")
	time.Sleep(20 * time.Millisecond) // another time of the file system
	since := time.Now()
	time.Sleep(20 * time.Millisecond) // and another
	put(t, filepath.Join(dir, "new"), "n")
	old := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(dir, "new"), old, old), "its content is old, it came now")
	f := &Folder{Root: dir, Rules: Rules{}, Every: time.Minute, Since: since, Came: x.came}
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { defer close(ended); f.Watch(ctx) }()
	testkit.Becomes(t, [2]int{1, 1}, x.is)
	cancel()
	<-ended
}

// Where a marker is asked for, it alone is what comes.
func TestMarker(t *testing.T) {
	dir, x := watched(t, Rules{Settle: 100 * time.Millisecond, Marker: "READY"})
	put(t, filepath.Join(dir, "a.wav"), "a")
	assert.Never(t, func() bool { return x.is()[0] > 0 }, 700*time.Millisecond, 50*time.Millisecond)
	put(t, filepath.Join(dir, "READY"), "")
	testkit.Becomes(t, [2]int{1, 1}, x.is)
}

func TestRules(t *testing.T) {
	r := Rules{Settle: time.Second, NotYet: []string{"*.part", "incoming/**"}, Marker: "READY"}
	for key, waits := range map[string]bool{"a.part": true, "x/a.part": true, "a.wav": false, "incoming/x/a": true} {
		assert.Equal(t, waits, r.NameWaits(key), key)
	}
	assert.True(t, r.IsMarker("a/READY"))
	assert.False(t, r.IsMarker("READY/a.wav"))
	assert.False(t, (&Rules{}).IsMarker("."))
	now := time.Now()
	assert.True(t, r.Settled(now.Add(-time.Second), now))
	assert.False(t, r.Settled(now, now))
}

// A store is listed now and then; that it is the same tells nothing, and that it could not be listed
// is told as that.
func TestStore(t *testing.T) {
	x := &told{}
	var mu sync.Mutex
	objects, fails, failed := []string{"a"}, false, 0
	s := &Store{Every: 20 * time.Millisecond, Came: x.came, Failed: func(error) { mu.Lock(); failed++; mu.Unlock() },
		List: func(context.Context) iter.Seq2[object.Entry, error] {
			mu.Lock()
			all, fail := objects, fails
			mu.Unlock()
			return func(yield func(object.Entry, error) bool) {
				if fail {
					yield(object.Entry{}, errors.New("away"))
					return
				}
				for _, k := range all {
					if !yield(object.Entry{Key: k, Kind: object.Object, Size: 1}, nil) {
						return
					}
				}
			}
		}}
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { defer close(ended); s.Watch(ctx) }()
	testkit.Becomes(t, 1, func() int { return x.is()[0] })
	assert.Never(t, func() bool { return x.is()[0] > 1 }, 150*time.Millisecond, 10*time.Millisecond)
	mu.Lock()
	fails = true
	mu.Unlock()
	testkit.Until(t, func() bool { mu.Lock(); defer mu.Unlock(); return failed > 0 })
	mu.Lock()
	fails, objects = false, []string{"a", "b"}
	mu.Unlock()
	testkit.Becomes(t, 2, func() int { return x.is()[0] })
	cancel()
	<-ended
}

const made = `{"Records":[{"eventName":"ObjectCreated:Put","s3":{"bucket":{"name":"field"},
"object":{"key":"2026/dawn+chorus%2B1.wav"}}},
{"eventName":"s3:ObjectRemoved:Delete","s3":{"bucket":{"name":"field"},"object":{"key":"gone"}}}]}`

// Event messages are taken with the token, and with nothing else.
func TestReceiver(t *testing.T) {
	var got []Event
	srv := httptest.NewServer(Receiver("tide", func(all []Event) { got = append(got, all...) }))
	defer srv.Close()
	send := func(token, body string) int {
		req, err := http.NewRequest(http.MethodPost, srv.URL, strings.NewReader(body))
		require.NoError(t, err)
		if token != "" {
			req.Header.Set("Authorization", "Bearer "+token)
		}
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		return resp.StatusCode
	}
	assert.Equal(t, 401, send("", made))
	assert.Equal(t, 401, send("ebb", made))
	assert.Empty(t, got)
	assert.Equal(t, 400, send("tide", "no message"))
	assert.Equal(t, 204, send("tide", made))
	assert.Equal(t, []Event{{"field", "2026/dawn chorus+1.wav"}}, got)
	assert.Equal(t, 204, send("tide", "{}"))
	odd := `{"Records":[{"eventName":"ObjectCreated:Put","s3":{"bucket":{"name":"b"},"object":{"key":"%zz"}}}]}`
	assert.Equal(t, 204, send("tide", odd))
	assert.Equal(t, Event{"b", "%zz"}, got[1], "a key that is not encoded is taken as it is")
	for _, address := range []string{strings.Replace(srv.URL, "://", "://store:tide@", 1), srv.URL + "?token=tide"} {
		resp, err := http.Post(address, "application/json", strings.NewReader("{}"))
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, 204, resp.StatusCode, address)
	}
	for _, address := range []string{strings.Replace(srv.URL, "://", "://tide:ebb@", 1), srv.URL + "?token=ebb"} {
		resp, err := http.Post(address, "application/json", strings.NewReader("{}"))
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, 401, resp.StatusCode, address)
	}
	for method, want := range map[string]int{http.MethodGet: 200, http.MethodHead: 200} { // whether anybody is there
		req, err := http.NewRequest(method, srv.URL+"?token=tide", nil)
		require.NoError(t, err)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, want, resp.StatusCode, method)
	}
	closed := httptest.NewServer(Receiver("", func([]Event) { t.Error("taken without a token") }))
	defer closed.Close()
	resp, err := http.Post(closed.URL, "application/json", strings.NewReader(made))
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 401, resp.StatusCode)
}

func FuzzEvents(f *testing.F) {
	f.Add([]byte(made))
	f.Add([]byte(`{"Records":[{"eventName":"ObjectCreated:","s3":{"object":{"key":"%zz"}}}]}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		all, err := ReadEvents(strings.NewReader(string(raw)))
		if err != nil && all != nil {
			t.Fatal("a mistake, and something all the same")
		}
	})
}
