package transfer_test

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/ledger"
	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/place/s3"
	"lumtra/core/rule"
	"lumtra/core/secret"
	"lumtra/core/transfer"
	"lumtra/standin"
	"lumtra/testkit"
)

// mirrored are rules by which a pack loses what the source has lost.
func mirrored() rule.Rules {
	rules := rule.Default()
	rules.TargetOnly = rule.DeleteThere
	return rules
}

// noUploads makes sure that nothing unfinished is left.
func noUploads(t *testing.T, p place.Place) {
	ups, err := p.(place.PartWriter).Uploads(ctx)
	require.NoError(t, err)
	assert.Empty(t, ups)
}

// packed runs a plan into a pack until nothing is left to do, and holds its inside against the folder.
func packed(t *testing.T, w *world, in *pack.Place, opts transfer.Options) transfer.Outcome {
	t.Helper()
	return packedBy(t, w, in, mirrored(), opts)
}

// packedBy is packed with rules, into one pack or several.
func packedBy(t *testing.T, w *world, in place.Place, rules rule.Rules, opts transfer.Options) transfer.Outcome {
	t.Helper()
	p := w.planBy(t, w.folder, in, rules)
	out, m := w.run(t, ctx, p, w.folder, in, opts)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	same(t, texts(t, w.folder), texts(t, in))
	for e, err := range in.List(ctx, "", place.ListOptions{}) {
		require.NoError(t, err)
		if set := pack.SetOf(in); set != nil && set.PackOf(&e) == "" {
			continue
		}
		digest, ok := e.Sum(object.SHA256)
		require.True(t, ok, "%s", e.Key)
		data, _, err := place.Open(ctx, in, e.Key, 1<<30)
		require.NoError(t, err)
		h := object.SHA256.New()
		h.Write(data)
		assert.Equal(t, object.SumOf(object.SHA256, h), digest, "%s", e.Key)
	}
	return out
}

// A folder becomes a pack, is added to, changed and lost from, at a store that fails one request in
// three; each time the pack holds what the folder does.
func TestPackingFaults(t *testing.T) {
	testkit.Heavy(t)
	for _, kind := range kinds {
		for _, form := range pack.Forms {
			t.Run(kind+" "+string(form), func(t *testing.T) {
				t.Parallel()
				w := newWorldOf(t, kind)
				packingFaults(t, w, w.store, form, func(on bool) {
					var set []standin.Fault
					for _, do := range []string{"500", "503", "reset-before", "reset-after", "short", "corrupt"} {
						set = append(set, standin.Fault{Do: do, Chance: 0.05})
					}
					if !on {
						set = nil
					}
					w.server.SetFaults(set...)
				})
			})
		}
	}
}

// TestInteropPacks is the same on real servers behind a proxy that spoils one request in three.
func TestInteropPacks(t *testing.T) {
	_, stall := faulty()
	var all []*proxy
	for i, real := range realPlaces(t, func(address string) string {
		all = append(all, &proxy{stall: stall})
		return before(t, all[len(all)-1], address)
	}) {
		packingFaults(t, newWorld(t), real, pack.Zstd, all[i].spoils.Store)
	}
}

func packingFaults(t *testing.T, w *world, store place.Place, form pack.Form, spoil func(bool)) {
	w.fill(t, 200, 12<<20, 3<<20)
	w.put(t, "é/empty", "")
	opts := quick
	opts.Retry.Tries = 14
	in := pack.In(store, "packs/takes."+string(form), "")
	step := func(want int64) {
		t.Helper()
		spoil(true)
		p := w.planBy(t, w.folder, in, mirrored())
		out, m := w.run(t, ctx, p, w.folder, in, opts)
		spoil(false)
		assert.Zero(t, out.Failed, "%v", m.Problems)
		assert.EqualValues(t, want, out.Objects)
		assert.Zero(t, packed(t, w, in, opts).Objects, "there is nothing left to do")
		noUploads(t, store)
	}
	step(203)
	w.put(t, "new/one", strings.Repeat("new ", 100))
	w.put(t, "tiles/3/3.json", "changed")
	require.NoError(t, os.Remove(filepath.Join(w.dir, "tiles/4/4.json")))
	step(3)
	require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "masters")))
	step(2)
	x, err := in.Pack(ctx)
	require.NoError(t, err)
	totals := x.Totals()
	assert.EqualValues(t, 201+10, totals.Members, "with folders, of which one is gone")
	assert.EqualValues(t, 5, totals.Dropped)
	versions, err := x.Versions(ctx, "tiles/3/3.json")
	require.NoError(t, err)
	assert.Len(t, versions, 2)
}

// stopping ends a run once so many bytes have moved.
type stopping struct {
	left   atomic.Int64
	cancel context.CancelFunc
}

// stopsAfter ends a run after so many bytes.
func stopsAfter(n int64, cancel context.CancelFunc) *stopping {
	s := &stopping{cancel: cancel}
	s.left.Store(n)
	return s
}

func (s *stopping) Most() int { return 1 << 20 }
func (s *stopping) Take(_ context.Context, n int) (time.Duration, error) {
	if s.left.Add(-int64(n)) < 0 {
		s.cancel()
	}
	return 0, nil
}

// A run that was stopped again and again leaves the pack that one would that never was; what had
// arrived is not sent again. So it is where a pack is written in rounds.
func TestPackGoesOn(t *testing.T) {
	testkit.Heavy(t)
	for _, form := range pack.Forms {
		t.Run(string(form), func(t *testing.T) { t.Parallel(); goesOn(t, form, 0) })
		t.Run(string(form)+" in rounds", func(t *testing.T) { t.Parallel(); goesOn(t, form, 18<<20) })
	}
}

func goesOn(t *testing.T, form pack.Form, round int64) {
	w := newWorld(t)
	w.fill(t, 100, 12<<20, 17<<20, 0, 6<<20)
	whole, stopped := pack.In(w.store, "whole."+string(form), ""), pack.In(w.store, "stopped."+string(form), "")
	quick := quick
	quick.PackRound = round
	packed(t, w, whole, quick)
	p := w.planBy(t, w.folder, stopped, mirrored())
	stops := 0
	for done := false; !done; {
		stop, cancel := context.WithCancel(ctx)
		opts := quick
		opts.Streams = 1
		opts.Pacers = []transfer.Pacer{stopsAfter(testkit.Dice(t).Int64N(80<<20), cancel)}
		out, m := w.run(t, stop, p, w.folder, stopped, opts)
		cancel()
		require.Zero(t, out.Failed, "%v", m.Problems)
		if done = !out.Stopped; !done {
			stops++
		}
	}
	t.Logf("%d stops", stops)
	raw := func(key string) string {
		all, _, err := place.Open(ctx, w.store, key+"."+string(form), 1<<30)
		require.NoError(t, err)
		return string(all)
	}
	assert.True(t, raw("whole") == raw("stopped"), "byte for byte: %d and %d", len(raw("whole")), len(raw("stopped")))
	if round > 0 {
		// Rounds are there only in the frames, of which a plain pack has none.
		quick.PackRound = 0
		packed(t, w, pack.In(w.store, "one."+string(form), ""), quick)
		assert.Equal(t, form == pack.Plain, raw("whole") == raw("one"))

		require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "tiles")))
		w.put(t, "a first", "new")
		w.put(t, "z last", strings.Repeat("new", 5<<20))
		w.put(t, "z very last", strings.Repeat("new", 4<<20)) // more than a round: what goes, goes behind the last
		quick.PackRound = round
		packed(t, w, whole, quick)
	}
	noUploads(t, w.store)
}

// A move into a pack lets the source go once the copy in the pack is proven; one into a pack that lies in
// the source does not begin.
func TestMoveIntoPack(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 20, 2<<20)
	want := texts(t, w.folder)
	rules := rule.Default()
	rules.Afterwards = rule.DeleteSource
	in := pack.In(w.store, "moved.tar.gz", "")
	out, m := w.run(t, ctx, w.planBy(t, w.folder, in, rules), w.folder, in, quick)
	assert.EqualValues(t, 21, out.SeenTo, "%v", m.Problems)
	assert.Empty(t, texts(t, w.folder))
	same(t, want, texts(t, in))

	w.put(t, "a", "the only copy")
	own := pack.In(w.folder, "own.tar", "")
	p := w.planBy(t, w.folder, own, rules)
	l, err := ledger.Open(p.Path+".ledger", "x", false)
	require.NoError(t, err)
	defer l.Close()
	_, err = transfer.Run(ctx, p, w.folder, own, l, &transfer.Meter{}, quick)
	assert.ErrorContains(t, err, "one place by two names")
	assert.FileExists(t, filepath.Join(w.dir, "a"))
}

// Objects of which their source keeps nothing to hold them against are counted, or have failed where the
// job wants that; read twice they are vouched for.
func TestPackUnverified(t *testing.T) {
	w := newWorldWith(t, "s3", standin.SumsIgnored, standin.ETagsOpaque)
	for i, size := range []int{10, 3 << 20} {
		store(t, w.store, fmt.Sprint("take ", i), strings.Repeat("x", size))
	}
	for i, x := range []struct {
		unverified, failed int64
		set                func(*transfer.Options)
	}{{2, 0, func(*transfer.Options) {}}, {0, 2, func(o *transfer.Options) { o.Verified = true }},
		{0, 0, func(o *transfer.Options) { o.Verified, o.ReadTwice = true, true }}} {
		in := pack.In(w.folder, fmt.Sprintf("%d.tar.zst", i), "")
		opts := quick
		x.set(&opts)
		out, m := w.run(t, ctx, w.plan(t, w.store, in), w.store, in, opts)
		assert.Equal(t, x.unverified, out.Unverified, "%d: %v", i, m.Problems)
		assert.Equal(t, x.failed, out.Failed, "%d: %v", i, m.Problems)
	}
}

func store(t *testing.T, p place.Place, key, text string) {
	_, err := p.Write(ctx, key, strings.NewReader(text), int64(len(text)), place.WriteOptions{})
	require.NoError(t, err)
}

// A run that is told to finish, or paused, holds also while one large object is being packed.
func TestPackSteered(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 0, 40<<20)
	in := pack.In(w.store, "x.tar", "")
	p := w.planBy(t, w.folder, in, mirrored())
	opts := quick
	opts.Control = &transfer.Control{}
	moved := &after{then: func() {
		opts.Control.Pause()
		time.AfterFunc(50*time.Millisecond, opts.Control.Finish)
	}}
	moved.left.Store(10 << 20)
	opts.Pacers = []transfer.Pacer{moved}
	out, m := w.run(t, ctx, p, w.folder, in, opts)
	assert.True(t, out.Stopped)
	assert.Less(t, m.Bytes, int64(20<<20))
	opts.Control, opts.Pacers = nil, nil
	out, m = w.run(t, ctx, p, w.folder, in, opts)
	assert.EqualValues(t, 1, out.Objects, "%v", m.Problems)
	same(t, texts(t, w.folder), texts(t, in))
	noUploads(t, w.store)
}

// An archive of another program is not added to, nor harmed.
func TestPackForeign(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 3)
	var raw bytes.Buffer
	z := tar.NewWriter(&raw)
	require.NoError(t, z.WriteHeader(&tar.Header{Name: "theirs", Typeflag: tar.TypeReg}))
	require.NoError(t, z.Close())
	store(t, w.store, "x.tar", raw.String())
	in := pack.In(w.store, "x.tar", "")
	kept := filepath.Join(t.TempDir(), "kept")
	in.Keep(pack.Keeping{Index: func(string) string { return kept }})
	out, m := w.run(t, ctx, w.plan(t, w.folder, in), w.folder, in, quick)
	assert.EqualValues(t, 3, out.Failed)
	assert.Contains(t, fmt.Sprint(m.Problems), "lumtra pack rewrite")
	assert.Equal(t, raw.String(), texts(t, w.store)["x.tar"])
}

// What somebody else has put into a pack since the plan is not hidden, and nothing is dropped when
// something could not be packed.
func TestPackGuards(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 5)
	in := pack.In(w.store, "takes.tar.zst", "")
	packed(t, w, in, quick)
	other := newWorld(t)
	other.put(t, "notes", "somebody else's")
	other.put(t, "same in size", "theirs")
	w.put(t, "same in size", "ours!!")
	other.put(t, "tiles/1/1.json", "somebody else's")
	w.put(t, "notes", "ours")
	w.put(t, "more", "ours")
	require.NoError(t, os.Remove(filepath.Join(w.dir, "tiles/0/0.json")))
	p := w.planBy(t, w.folder, in, mirrored())
	rules := rule.Default()
	late := other.planBy(t, other.folder, pack.In(w.store, "takes.tar.zst", ""), rules)
	_, m := other.run(t, ctx, late, other.folder, pack.In(w.store, "takes.tar.zst", ""), quick)
	require.Empty(t, m.Problems)
	out, m := w.run(t, ctx, p, w.folder, in, quick)
	assert.EqualValues(t, 1, out.Objects, "more")
	// What is to be dropped, and was changed or dropped by somebody else meanwhile.
	v, cut := newWorld(t), pack.In(w.store, "cut.tar", "")
	v.fill(t, 5)
	packed(t, v, cut, quick)
	require.NoError(t, os.Remove(filepath.Join(v.dir, "tiles/0/0.json")))
	require.NoError(t, os.Remove(filepath.Join(v.dir, "tiles/1/1.json")))
	drops := v.planBy(t, v.folder, cut, mirrored())
	outer, key, _ := cut.Outer()
	require.NoError(t, pack.Change(ctx, outer, key, 100, pack.Options{}, func(w *pack.Writer) error {
		_, err := w.Add(pack.Member{Name: "tiles/1/1.json", Kind: pack.File, Size: 6},
			&pack.Content{Data: []byte("theirs")})
		return errors.Join(err, w.Drop("tiles/0/0.json"))
	}))
	dropped, told := v.run(t, ctx, drops, v.folder, cut, quick)
	assert.EqualValues(t, 1, dropped.Objects)
	assert.EqualValues(t, 1, dropped.Failed)
	assert.Contains(t, fmt.Sprint(told.Problems), "changed meanwhile")
	assert.Equal(t, "theirs", texts(t, cut)["tiles/1/1.json"])
	assert.Positive(t, out.Failed)
	assert.Contains(t, fmt.Sprint(m.Problems), "already there")
	assert.Contains(t, fmt.Sprint(m.Problems), "not deleted, because other objects failed")
	got := texts(t, in)
	assert.Equal(t, "somebody else's", got["notes"])
	assert.Equal(t, "theirs", got["same in size"])
	assert.Contains(t, fmt.Sprint(m.Problems), "same in size")
	assert.Equal(t, "somebody else's", got["tiles/1/1.json"])
	assert.Equal(t, "ours", got["more"])
	assert.Contains(t, got, "tiles/0/0.json")
}

// Adding a little to a large pack sends a little: the store keeps what is there.
func TestPackAddsLittle(t *testing.T) {
	testkit.Heavy(t)
	w, p := newWorld(t), &proxy{}
	w.fill(t, 20, 40<<20)
	end, err := s3.NewStore(s3.Config{Name: "north", Address: before(t, p, w.address), AccessKey: "a",
		Secret: secret.New("c2Vh")})
	require.NoError(t, err)
	defer end.Close()
	store, err := end.Open("archive")
	require.NoError(t, err)
	in := pack.In(store, "takes.tar", "")
	packed(t, w, in, quick)
	for i := range 100 {
		w.put(t, fmt.Sprintf("more/%03d", i), strings.Repeat("x", 4096))
	}
	first := p.took.Swap(0)
	packed(t, w, in, quick)
	assert.Greater(t, first, int64(40<<20))
	assert.Less(t, p.took.Load(), int64(2<<20))
}

// What is in a pack already, by a run that did not live to note it, counts as arrived, and is not packed again.
func TestPackedAndNotNoted(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 20, 2<<20)
	for _, to := range []place.Place{pack.In(w.store, "one.tar", ""), setAt(t, w, "several")} {
		rules := mirrored()
		p := w.planBy(t, w.folder, to, rules)
		out, m := w.run(t, ctx, p, w.folder, to, quick)
		require.Zero(t, out.Failed, "%v", m.Problems)
		var was []string
		for e, err := range w.store.List(ctx, "", place.ListOptions{}) {
			require.NoError(t, err)
			was = append(was, e.Key+e.Mark())
		}
		require.NoError(t, os.Remove(p.Path+".ledger"))
		again, m := w.run(t, ctx, p, w.folder, to, quick)
		assert.Equal(t, []int64{out.Objects, 0}, []int64{again.Objects, again.Failed}, "%v", m.Problems)
		l, err := ledger.Open(p.Path+".ledger", fmt.Sprint(p.Info.Number), false)
		require.NoError(t, err)
		done, _ := l.Finished()
		assert.EqualValues(t, 21, done)
		// All is done, but for an upload that may have been opened.
		require.NoError(t, l.Intend(20, ledger.Stray{}))
		require.NoError(t, l.Close())
		key := "one.tar"
		if set := pack.SetOf(to); set != nil {
			key = "several/0001.tar.zst"
		}
		_, err = w.store.(place.PartWriter).Begin(ctx, key, place.WriteOptions{})
		require.NoError(t, err)
		w.run(t, ctx, p, w.folder, to, quick)
		noUploads(t, w.store)
		var now []string
		for e, err := range w.store.List(ctx, "", place.ListOptions{}) {
			require.NoError(t, err)
			now = append(now, e.Key+e.Mark())
		}
		assert.Equal(t, was, now)
	}
}

// A store's stand-in for a folder becomes one in a pack.
func TestFoldersOfStoresArePacked(t *testing.T) {
	w := newWorld(t)
	at, err := w.at.Open("archive/marked")
	require.NoError(t, err)
	store(t, at, "takes/", "")
	store(t, at, "takes/dawn.wav", "dawn")
	in := pack.In(w.store, "marked.tar", "")
	out, m := w.run(t, ctx, w.planBy(t, at, in, mirrored()), at, in, quick)
	require.Zero(t, out.Failed, "%v", m.Problems)
	in.Renew()
	x, err := in.Pack(ctx)
	require.NoError(t, err)
	kinds := map[string]pack.Kind{}
	for m, err := range x.Walk(ctx, "", false) {
		require.NoError(t, err)
		kinds[m.Name] = m.Kind
	}
	assert.Equal(t, map[string]pack.Kind{"takes/": pack.Folder, "takes/dawn.wav": pack.File}, kinds)
}
