package transfer_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"lumtra/core/catalog"
	"lumtra/core/ledger"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/blob"
	"lumtra/core/place/folder"
	"lumtra/core/place/placetest"
	"lumtra/core/place/s3"
	"lumtra/core/plan"
	"lumtra/core/retry"
	"lumtra/core/rule"
	"lumtra/core/secret"
	"lumtra/core/transfer"
	"lumtra/standin"
	"lumtra/testkit"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

var ctx = context.Background()

// world is a folder and a store with one bucket.
type world struct {
	dir    string // the folder's
	folder place.Place
	store  place.Place
	at     place.Endpoint
	server *standin.Server
	temp   string
	plans  int
	// address is the store's.
	address string
}

func newWorld(t *testing.T) *world { return newWorldOf(t, "s3") }

// kinds are the protocols a world's store can speak.
var kinds = []string{"s3", "blob"}

func newWorldOf(t *testing.T, kind string) *world { return newWorldWith(t, kind) }

// newWorldWith is a world whose store has habits; nothing is known of it then.
func newWorldWith(t *testing.T, kind string, habits ...standin.Habit) *world {
	w := &world{dir: t.TempDir(), temp: t.TempDir()}
	end, err := folder.OpenEndpoint("studio", w.dir, folder.Options{})
	require.NoError(t, err)
	w.folder, _ = end.Open("")
	const key = "c2Vh" // base64, as the Blob API's are
	w.server, err = standin.New(standin.Config{Dir: t.TempDir(), API: kind,
		Keys: []standin.Key{{Access: "a", Secret: key}}, Habits: habits,
		Seed: testkit.Seed()})
	require.NoError(t, err)
	addr, err := w.server.Start("127.0.0.1:0")
	require.NoError(t, err)
	w.address = addr
	var known *place.Known // what the API promises
	if len(habits) > 0 {
		known = place.NewKnown(place.Facts{}, nil)
	}
	if kind == "blob" {
		w.at, err = blob.NewStore(blob.Config{Name: "north", Address: addr + "/a", Account: "a", Key: secret.New(key),
			CRC64: true, Known: known})
	} else {
		w.at, err = s3.NewStore(s3.Config{Name: "north", Address: addr, AccessKey: "a", Secret: secret.New(key),
			Known: known})
	}
	require.NoError(t, err)
	w.store = w.bucket(t, "archive")
	t.Cleanup(func() { end.Close(); w.at.Close(); w.server.Close() })
	return w
}

func (w *world) bucket(t *testing.T, name string) place.Place {
	require.NoError(t, w.at.(place.Buckets).MakeBucket(ctx, name))
	p, err := w.at.Open(name)
	require.NoError(t, err)
	return p
}

func (w *world) plan(t *testing.T, from, to place.Place) *plan.Plan {
	return w.planBy(t, from, to, rule.Default())
}

func (w *world) planBy(t *testing.T, from, to place.Place, rules rule.Rules) *plan.Plan {
	w.plans++
	base := filepath.Join(w.temp, fmt.Sprint(w.plans))
	a, err := catalog.Survey(ctx, from, base+"-a", catalog.Options{})
	require.NoError(t, err)
	b, err := catalog.Survey(ctx, to, base+"-b", catalog.Options{})
	require.NoError(t, err)
	opts := plan.Options{Rules: rules, Source: from.Abilities(), Target: to.Abilities(), Number: w.plans}
	if c, ok := to.(place.NameChecker); ok {
		opts.Name = c.CheckName
	}
	p, err := plan.Build(ctx, base+".plan", a, b, opts)
	require.NoError(t, err)
	t.Cleanup(func() { a.Close(); b.Close(); p.Close() })
	return p
}

// quick retries without the waits of real life.
var quick = transfer.Options{Streams: 8, PartSize: 5 << 20, Retry: retry.Policy{Tries: 8, First: time.Millisecond,
	Most: 4 * time.Millisecond}}

func (w *world) run(t *testing.T, ctx context.Context, p *plan.Plan, from, to place.Place,
	opts transfer.Options) (transfer.Outcome, transfer.Snapshot) {
	ledger, err := ledger.Open(p.Path+".ledger", fmt.Sprint(p.Info.Number), false)
	require.NoError(t, err)
	meter := &transfer.Meter{}
	out, err := transfer.Run(ctx, p, from, to, ledger, meter, opts)
	require.NoError(t, err)
	require.NoError(t, ledger.Close())
	return out, meter.Snapshot()
}

// same holds two trees against each other and names the keys that differ.
func same(t *testing.T, want, got map[string]string) {
	t.Helper()
	for key, text := range want {
		if other, ok := got[key]; !ok || other != text {
			assert.Fail(t, "differs", "%s: there %v, %d and %d bytes", key, ok, len(text), len(other))
		}
	}
	assert.Len(t, got, len(want))
}

// contents reads a whole place.
func (w *world) fill(t *testing.T, small int, big ...int) {
	rng := rand.NewChaCha8([32]byte{3})
	for i := range small {
		w.put(t, fmt.Sprintf("tiles/%d/%d.json", i%7, i), fmt.Sprintf("{\"tile\": %d}", i))
	}
	for i, size := range big {
		data := make([]byte, size)
		rng.Read(data)
		w.put(t, fmt.Sprintf("masters/%d.wav", i), string(data))
	}
}

func (w *world) put(t *testing.T, key, text string) {
	path := filepath.Join(w.dir, key)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o640))
	at := time.Date(2026, 1, 2, 3, 4, 5, 678, time.UTC)
	require.NoError(t, os.Chtimes(path, at, at))
}

// There and back: what comes back is what went, with times and permissions,
// and planning again finds nothing to do either way.
func TestThereAndBack(t *testing.T) {
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) { thereAndBack(t, newWorldOf(t, kind)) })
	}
}

func thereAndBack(t *testing.T, w *world) {
	w.fill(t, 50, 0, 1, 100<<10, 12<<20, 23<<20+1)
	out, m := w.run(t, ctx, w.plan(t, w.folder, w.store), w.folder, w.store, quick)
	assert.EqualValues(t, 55, out.Objects)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	same(t, texts(t, w.folder), texts(t, w.store))
	assert.Zero(t, w.plan(t, w.folder, w.store).Info.Totals.Work().Count)

	back := t.TempDir()
	end, err := folder.OpenEndpoint("back", back, folder.Options{})
	require.NoError(t, err)
	defer end.Close()
	p, _ := end.Open("restored")
	out, _ = w.run(t, ctx, w.plan(t, w.store, p), w.store, p, quick)
	assert.EqualValues(t, 55, out.Objects)
	same(t, texts(t, w.folder), texts(t, p))
	assert.Zero(t, w.plan(t, w.store, p).Info.Totals.Work().Count)
	info, err := os.Stat(filepath.Join(back, "restored/masters/3.wav"))
	require.NoError(t, err)
	assert.EqualValues(t, 0o640, info.Mode().Perm())
}

// From store to store contents pass through here, with what lies beside them;
// within one store they do not.
func TestStoreToStore(t *testing.T) {
	for _, from := range kinds {
		for _, to := range kinds {
			t.Run(from+" to "+to, func(t *testing.T) { storeToStore(t, newWorldOf(t, from), newWorldOf(t, to)) })
		}
	}
}

func storeToStore(t *testing.T, a, b *world) {
	a.fill(t, 30, 12<<20, 0, 9<<20)
	a.put(t, "weir/take.flac", "flac")
	a.run(t, ctx, a.plan(t, a.folder, a.store), a.folder, a.store, quick)
	_, err := a.store.Write(ctx, "weir/take.flac", strings.NewReader("flac2"), 5, place.WriteOptions{
		ContentType: "audio/flac", Metadata: map[string]string{"site": "weir"}, Original: time.Unix(1e9, 0)})
	require.NoError(t, err)
	// A store that tells whole seconds cannot be seen to be newer within one.
	second := time.Now().Unix()
	testkit.Until(t, func() bool { return time.Now().Unix() != second })
	out, m := a.run(t, ctx, a.plan(t, a.store, b.store), a.store, b.store, quick)
	assert.EqualValues(t, 34, out.Objects, "%v", m.Problems)
	same(t, texts(t, a.store), texts(t, b.store))

	inside := a.bucket(t, "copies")
	out, m = a.run(t, ctx, a.plan(t, a.store, inside), a.store, inside, quick)
	assert.EqualValues(t, 34, out.Objects, "%v", m.Problems)
	same(t, texts(t, a.store), texts(t, inside))
	assert.Zero(t, m.Stages[transfer.Reading], "nothing was read")
	all := []place.Place{b.store, inside}
	if ranged, ok := a.bucket(t, "ranges").(*s3.Place); ok { // what is too large for one request goes range by range
		out, m = a.run(t, ctx, a.plan(t, a.store, ranged), a.store, noLarger{ranged}, quick)
		assert.EqualValues(t, 34, out.Objects, "%v", m.Problems)
		same(t, texts(t, a.store), texts(t, ranged))
		assert.Zero(t, m.Stages[transfer.Reading], "nothing was read")
		all = append(all, ranged)
	}
	for _, p := range all {
		e, err := p.Stat(ctx, object.Ref{Key: "weir/take.flac"})
		require.NoError(t, err)
		assert.Equal(t, "audio/flac", e.ContentType)
		assert.Equal(t, "weir", e.Metadata["site"])
		assert.True(t, e.Original.Equal(time.Unix(1e9, 0)))
		assert.Zero(t, a.plan(t, a.store, p).Info.Totals.Work().Count)
	}
}

// noLarger copies only small objects in one request.
type noLarger struct{ *s3.Place }

func (n noLarger) Abilities() place.Abilities {
	a := n.Place.Abilities()
	a.MaxCopy = 6 << 20
	return a
}

// realPlaces opens a place at each real server that `make interop` has started
// and named, in a bucket of the test's own.
func realPlaces(t *testing.T, via func(address string) string) []place.Place {
	return realPlacesIn(t, strings.ToLower(t.Name()), via)
}

// realPlacesIn does so in a bucket.
func realPlacesIn(t *testing.T, bucket string, via func(address string) string) []place.Place {
	var found []place.Place
	open := func(end place.Endpoint, err error) {
		require.NoError(t, err)
		t.Cleanup(func() { end.Close() })
		testkit.Until(t, func() bool { // a server that has only just begun may cut the first connection
			if err = end.(place.Buckets).MakeBucket(ctx, bucket); place.KindOf(err) == place.Exists {
				err = nil
			}
			return err == nil
		}, func() any { return fmt.Sprintf("%v", err) })
		p, err := end.Open(bucket + "/there")
		require.NoError(t, err)
		found = append(found, p)
	}
	known := func(p place.Place) {
		facts, err := p.(place.Examiner).Examine(ctx, "probe/")
		require.NoError(t, err)
		place.Can(p).Known.Replace(facts)
	}
	for _, s := range placetest.Servers("S3") {
		open(s3.NewStore(s3.Config{Name: s.Name, Address: via(s.Address), AccessKey: s.Access,
			Secret: secret.New(s.Secret), Known: place.NewKnown(place.Facts{}, nil)}))
		known(found[len(found)-1])
	}
	for _, s := range placetest.Servers("BLOB") {
		open(blob.NewStore(blob.Config{Name: s.Name, Address: via(s.Address), Account: s.Access,
			Key: secret.New(s.Secret), Known: place.NewKnown(place.Facts{}, nil)}))
		known(found[len(found)-1])
	}
	return found
}

// TestInterop goes there and back with real servers, stopped half-way and
// taken up, and from a stand-in to each.
func TestInterop(t *testing.T) {
	for _, real := range realPlaces(t, func(address string) string { return address }) {
		w := newWorld(t)
		w.fill(t, 100, 0, 12<<20, 31<<20+5)
		p := w.plan(t, w.folder, real)
		stopped, stop := context.WithCancel(ctx)
		first, _ := w.run(t, stopped, p, w.folder, countFrom(40, real, stop), quick)
		opts := quick
		opts.Digest = object.BLAKE3
		out, m := w.run(t, ctx, p, w.folder, real, opts)
		assert.EqualValues(t, 103, first.Objects+out.Objects, "%v", m.Problems)
		assert.Positive(t, first.Objects)
		same(t, texts(t, w.folder), texts(t, real))
		assert.Zero(t, w.plan(t, w.folder, real).Info.Totals.Work().Count)
		ups, err := real.(place.PartWriter).Uploads(ctx)
		require.NoError(t, err)
		assert.Empty(t, ups)
		end, err := folder.OpenEndpoint("back", t.TempDir(), folder.Options{})
		require.NoError(t, err)
		defer end.Close()
		back, _ := end.Open("")
		out, m = w.run(t, ctx, w.plan(t, real, back), real, back, quick)
		assert.EqualValues(t, 103, out.Objects, "%v", m.Problems)
		same(t, texts(t, w.folder), texts(t, back))

		_, err = w.store.Write(ctx, "from the stand-in.json", strings.NewReader("{}"), 2,
			place.WriteOptions{ContentType: "application/json"})
		require.NoError(t, err)
		out, m = w.run(t, ctx, w.plan(t, w.store, real), w.store, real, quick)
		assert.EqualValues(t, 1, out.Objects, "%v", m.Problems)
		e, err := real.Stat(ctx, object.Ref{Key: "from the stand-in.json"})
		require.NoError(t, err)
		assert.Equal(t, "application/json", e.ContentType)
	}
}

// A run that cannot do everything does the rest, and says what failed and why.
func TestTheRestGoesOn(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 20, 12<<20)
	w.put(t, "changes.json", "as planned")
	w.put(t, "vanishes.json", "as planned")
	require.NoError(t, os.Symlink("changes.json", filepath.Join(w.dir, "link")))
	_, err := w.store.Write(ctx, "tiles/0/0.json", strings.NewReader("old"), 3, place.WriteOptions{})
	require.NoError(t, err)
	p := w.plan(t, w.folder, w.store)
	assert.EqualValues(t, 1, p.Info.Totals[plan.Blocked].Count, "the link")
	// After the plan, the world moves on.
	w.put(t, "changes.json", "not any more")
	require.NoError(t, os.Remove(filepath.Join(w.dir, "vanishes.json")))
	for key, text := range map[string]string{"tiles/0/0.json": "someone else's", "tiles/1/1.json": "here first",
		"masters/0.wav": "short"} {
		_, err := w.store.Write(ctx, key, strings.NewReader(text), int64(len(text)), place.WriteOptions{})
		require.NoError(t, err)
	}
	w.server.SetFaults(standin.Fault{Op: "PutObject", Key: "tiles/2/2", Do: "500"})
	out, m := w.run(t, ctx, p, w.folder, w.store, quick)
	assert.EqualValues(t, 6, out.Failed)
	assert.EqualValues(t, 17, out.Objects)
	causes := map[string][]string{}
	for _, p := range m.Problems {
		causes[p.Cause] = p.Keys
	}
	assert.Equal(t, []string{"changes.json"}, causes["studio: changed meanwhile"])
	assert.Equal(t, []string{"vanishes.json"}, causes["studio: gone since the plan"])
	assert.Equal(t, []string{"tiles/0/0.json"}, causes["north/archive: changed meanwhile"])
	assert.ElementsMatch(t, []string{"tiles/1/1.json", "masters/0.wav"}, causes["north/archive: already there"])
	assert.Equal(t, []string{"tiles/2/2.json"}, causes["north/archive: server fault"])
	there := texts(t, w.store)
	assert.Equal(t, "someone else's", there["tiles/0/0.json"])
	assert.Equal(t, "here first", there["tiles/1/1.json"])
	ups, err := w.store.(place.PartWriter).Uploads(ctx)
	require.NoError(t, err)
	assert.Empty(t, ups, "the upload that can never be finished is gone")
}

// Stopped and taken up again, only what is missing is sent.
func TestStopAndGoOn(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 200, 31<<20)
	p := w.plan(t, w.folder, w.store)
	var done int64
	for try := 0; done < 201; try++ {
		require.Less(t, try, 50)
		stopped, stop := context.WithCancel(ctx)
		counting := countFrom(15, w.store, stop)
		out, m := w.run(t, stopped, p, w.folder, counting, quick)
		assert.Equal(t, done, out.Before)
		done += out.Objects
		assert.Zero(t, out.Failed, "%v", m.Problems)
		assert.Equal(t, done < 201, out.Stopped)
		stop()
	}
	same(t, texts(t, w.folder), texts(t, w.store))
	ups, err := w.store.(place.PartWriter).Uploads(ctx)
	require.NoError(t, err)
	assert.Empty(t, ups)
	_, err = ledger.Open(p.Path+".ledger", "another plan", false)
	assert.ErrorIs(t, err, ledger.ErrOtherPlan)
}

// countdown stops the run after so many writes.
type countdown struct {
	place.Place
	left atomic.Int64
	then func()
}

func countFrom(n int64, p place.Place, then func()) *countdown {
	c := &countdown{Place: p, then: then}
	c.left.Store(n)
	return c
}

func (c *countdown) Write(ctx context.Context, key string, body io.Reader, size int64,
	opts place.WriteOptions) (object.Entry, error) {
	if c.left.Add(-1) == 0 {
		c.then()
	}
	return c.Place.Write(ctx, key, body, size, opts)
}

// A ledger whose end a crash cut short, or damaged, still tells what is whole.
func TestLedgerSurvivesDamage(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 30)
	p := w.plan(t, w.folder, w.store)
	w.run(t, ctx, p, w.folder, w.store, quick)
	raw, err := os.ReadFile(p.Path + ".ledger")
	require.NoError(t, err)
	for cut := len(raw); cut >= 0; cut -= 7 {
		path := filepath.Join(t.TempDir(), "ledger")
		damaged := bytes.Clone(raw[:cut])
		if cut > 40 && cut%2 == 0 {
			damaged[cut-3] ^= 0x55
		}
		require.NoError(t, os.WriteFile(path, damaged, 0o600))
		ledger, err := ledger.Open(path, fmt.Sprint(p.Info.Number), false)
		require.NoError(t, err, "cut at %d", cut)
		effects, _ := ledger.Finished()
		assert.LessOrEqual(t, effects, int64(30))
		assert.GreaterOrEqual(t, effects, int64(cut/70)-3, "cut at %d", cut)
		require.NoError(t, ledger.Close())
	}
}

// full is a target with no room left.
type full struct{ place.Place }

func (f full) Write(ctx context.Context, key string, body io.Reader, size int64,
	opts place.WriteOptions) (object.Entry, error) {
	return f.Place.Write(ctx, key, io.MultiReader(io.LimitReader(body, 1), failing{syscall.ENOSPC}), size, opts)
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

func TestNoRoom(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 5)
	end, err := folder.OpenEndpoint("small-disk", t.TempDir(), folder.Options{})
	require.NoError(t, err)
	defer end.Close()
	disk, _ := end.Open("")
	out, m := w.run(t, ctx, w.plan(t, w.folder, disk), w.folder, full{disk}, quick)
	assert.EqualValues(t, 5, out.Failed)
	require.Len(t, m.Problems, 1)
	assert.Equal(t, "small-disk: no room left", m.Problems[0].Cause)
	assert.NotEmpty(t, m.Problems[0].Advice)
	assert.Empty(t, texts(t, disk))
}

// What a panicking place does ends the run with an error, not the program.
func TestPanicIsCaught(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 5)
	p := w.plan(t, w.folder, w.store)
	ledger, err := ledger.Open(p.Path+".ledger", "x", false)
	require.NoError(t, err)
	defer ledger.Close()
	_, err = transfer.Run(ctx, p, w.folder, panicking{w.store}, ledger, &transfer.Meter{}, quick)
	assert.ErrorContains(t, err, "a fault in Lumtra itself")
}

type panicking struct{ place.Place }

func (panicking) Write(context.Context, string, io.Reader, int64, place.WriteOptions) (object.Entry, error) {
	panic(errors.New("a tide came in"))
}
