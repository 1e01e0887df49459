package transfer_test

import (
	"context"
	"io"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/core/rule"
	"lumtra/core/transfer"
	"lumtra/standin"
)

// With everything going wrong now and then, the end is equal trees: nothing
// wrong, nothing half, nothing left behind.
func TestFaults(t *testing.T) {
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) { faults(t, newWorldOf(t, kind)) })
	}
}

// faulty is how many objects the test of faults sends, and how long a stall is;
// LUMTRA_FAULTS=full is the long form.
func faulty() (objects int, stall time.Duration) {
	if os.Getenv("LUMTRA_FAULTS") == "full" {
		return 3000, 20 * time.Second
	}
	return 400, 50 * time.Millisecond
}

func faults(t *testing.T, w *world) {
	objects, stall := faulty()
	w.fill(t, objects, 12<<20, 17<<20)
	set := []standin.Fault{{Do: "stall", Chance: 0.05, Wait: stall}}
	for _, do := range []string{"500", "503", "reset-before", "reset-after", "short", "corrupt"} {
		set = append(set, standin.Fault{Do: do, Chance: 0.05})
	}
	p := w.plan(t, w.folder, w.store)
	// Credentials that are not accepted for a while, in the midst of it.
	w.server.SetFaults(set...)
	renewed := make(chan struct{})
	expires := &after{then: func() {
		w.server.SetFaults(standin.Fault{Do: "expired"})
		time.AfterFunc(300*time.Millisecond, func() {
			w.server.SetFaults(set...)
			close(renewed)
		})
	}}
	expires.left.Store(9 << 20)
	opts := quick
	opts.Digest = object.SHA256
	opts.Pacers = []transfer.Pacer{expires}
	opts.Streams = 32
	opts.Retry.Tries = 14 // at a quarter of requests failing, eight can all fail
	out, m := w.run(t, ctx, p, w.folder, w.store, opts)
	<-renewed
	opts.Pacers = nil
	w.server.SetFaults()
	digested(t, p, w.store, object.SHA256)
	assert.Positive(t, m.Retries)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	same(t, texts(t, w.folder), texts(t, w.store))
	ups, err := w.store.(place.PartWriter).Uploads(ctx)
	require.NoError(t, err)
	assert.Empty(t, ups)
	var sent int64
	for _, text := range texts(t, w.folder) {
		sent += int64(len(text))
	}
	assert.Equal(t, sent, m.Bytes, "what failed attempts sent is not counted")

	// And the other way, where reads break.
	end, err := folder.OpenEndpoint("back", t.TempDir(), folder.Options{})
	require.NoError(t, err)
	defer end.Close()
	back, _ := end.Open("")
	p = w.plan(t, w.store, back)
	w.server.SetFaults(set...)
	opts.Digest = object.BLAKE3
	out, m = w.run(t, ctx, p, w.store, back, opts)
	w.server.SetFaults()
	digested(t, p, back, object.BLAKE3)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	same(t, texts(t, w.folder), texts(t, back))
}

// sick fails every write from one on, until so many have failed.
type sick struct {
	place.Place
	mu             sync.Mutex
	wrote, failed  int
	tried          map[string]bool
	under, crowded int // writes tried again that are under way; the most of them while it was known to be sick
}

const sickFor = 400

func (s *sick) Write(ctx context.Context, key string, body io.Reader, size int64,
	opts place.WriteOptions) (object.Entry, error) {
	s.mu.Lock()
	s.wrote++
	ill := s.wrote > 50 && s.failed < sickFor
	again := 0
	if s.tried[key] {
		again = 1
	}
	s.tried[key] = true
	if s.under += again; ill {
		if s.failed++; s.failed > 150 { // the budget and a first try of every stream
			s.crowded = max(s.crowded, s.under)
		}
	}
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		s.under -= again
		s.mu.Unlock()
	}()
	if ill {
		return object.Entry{}, place.NewError(s.Name(), "write", key, place.ServerFault, nil)
	}
	return s.Place.Write(ctx, key, body, size, opts)
}

// A store that fails everything gets one request at a time, and all of them again
// when it is well.
func TestBudget(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 300)
	s := &sick{Place: w.store, tried: map[string]bool{}}
	opts := quick
	opts.Streams = 32
	opts.Retry.Tries = 1000 // it answers to questions, so an object would be given up
	out, m := w.run(t, ctx, w.plan(t, w.folder, w.store), w.folder, s, opts)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	assert.Equal(t, sickFor, s.failed)
	assert.Equal(t, 1, s.crowded)
	same(t, texts(t, w.folder), texts(t, w.store))
}

// A store that holds nothing against what arrives, and breaks the connection over a
// damaged write: what it then keeps has the right checksum beside it, as the writer's
// word, and does not count as arrived.
func TestDamageBehindALostAnswer(t *testing.T) {
	w := newWorldWith(t, "blob", standin.SumsIgnored, standin.MD5Ignored)
	for _, key := range []string{"masters/reed.wav", "masters/rush.wav"} {
		w.put(t, key, "the tide comes in over "+key)
	}
	rules := rule.Default()
	rules.Afterwards = rule.DeleteSource
	want := texts(t, w.folder)
	w.server.SetFaults(standin.Fault{Op: "PutBlob", Do: "corrupt", Times: 2},
		standin.Fault{Op: "PutBlob", Do: "reset-after", Times: 2})
	out, _ := w.run(t, ctx, w.planBy(t, w.folder, w.store, rules), w.folder, w.store, quick)
	assert.EqualValues(t, 2, out.Failed)
	assert.Equal(t, want, texts(t, w.folder), "what did not arrive stays")
}
