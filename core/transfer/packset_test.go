package transfer_test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/catalog"
	"lumtra/core/ledger"
	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/core/segment"
	"lumtra/core/transfer"
	"lumtra/standin"
	"lumtra/testkit"
)

// setAt is the inside of the packs in a folder of a world's store.
func setAt(t *testing.T, w *world, folder string) *pack.Set {
	t.Helper()
	at, err := w.at.Open("archive/" + folder)
	require.NoError(t, err)
	return pack.NewSet(at, ".tar.zst", at, "", pack.Keeping{})
}

// keys are what a place holds below a prefix, in order.
func keys(t *testing.T, p place.Place) (all []string) {
	for e, err := range p.List(ctx, "", place.ListOptions{}) {
		require.NoError(t, err)
		all = append(all, e.Key)
	}
	return all
}

// sharedBy are rules that divide what is packed.
func sharedBy(by rule.PackBy, atMost, under string) rule.Rules {
	rules := mirrored()
	rules.Packs = rule.Packs{By: by, AtMost: atMost, Under: under}
	return rules
}

// Packs of at most so much, one a folder, and small files in packs with the rest as they are: what is new
// goes where the job says, what is there stays where it is, and the whole is what the source is.
func TestPacksDivided(t *testing.T) {
	testkit.Heavy(t)
	for _, kind := range kinds {
		w := newWorldOf(t, kind)
		w.fill(t, 60, 1<<20, 3<<20)
		w.put(t, "at the top.tar.zst", "has the name of a pack")
		packedBy(t, w, setAt(t, w, "turn"), sharedBy(rule.InTurn, "40kB", ""), quick)
		at, err := w.at.Open("archive/turn")
		require.NoError(t, err)
		first := keys(t, at)
		assert.Greater(t, len(first), 3)
		assert.Equal(t, "0001.tar.zst", first[0])

		set := setAt(t, w, "folders")
		packedBy(t, w, set, sharedBy(rule.ByFolder, "", ""), quick)
		at, err = w.at.Open("archive/folders")
		require.NoError(t, err)
		assert.Equal(t, []string{"_.tar.zst", "masters.tar.zst", "tiles.tar.zst"}, keys(t, at))

		mixed := sharedBy(rule.InTurn, "", "1MB")
		packedBy(t, w, setAt(t, w, "mixed"), mixed, quick)
		at, err = w.at.Open("archive/mixed")
		require.NoError(t, err)
		assert.Equal(t, []string{"0001.tar.zst", "masters/0.wav", "masters/1.wav"}, keys(t, at))

		w.put(t, "tiles/3/3.json", strings.Repeat("was small ", 20_000))
		w.put(t, "masters/0.wav", "was large")
		w.put(t, "masters/2.wav", strings.Repeat("new", 400_000))
		w.put(t, "tiles/new", "new")
		require.NoError(t, os.Remove(filepath.Join(w.dir, "masters/1.wav")))
		require.NoError(t, os.Remove(filepath.Join(w.dir, "tiles/4/4.json")))
		out := packedBy(t, w, setAt(t, w, "mixed"), mixed, quick)
		assert.EqualValues(t, 6, out.Objects)
		assert.Equal(t, []string{"0001.tar.zst", "masters/0.wav", "masters/2.wav"}, keys(t, at))
		assert.EqualValues(t, 6, packedBy(t, w, setAt(t, w, "turn"), sharedBy(rule.InTurn, "40kB", ""), quick).Objects)
		assert.EqualValues(t, 6, packedBy(t, w, set, sharedBy(rule.ByFolder, "", ""), quick).Objects)
		for folder, rules := range map[string]rule.Rules{"mixed": mixed, "turn": sharedBy(rule.InTurn, "40kB", ""),
			"folders": sharedBy(rule.ByFolder, "", "")} {
			assert.Zero(t, packedBy(t, w, setAt(t, w, folder), rules, quick).Objects, folder)
		}
		noUploads(t, w.store)
	}
}

// Whatever the source becomes, from run to run, stopped at any moment and with requests that fail, the
// packs and what lies beside them hold what it holds.
func TestPacksModel(t *testing.T) {
	for n := range testkit.Draws(20) {
		t.Run(fmt.Sprint("world ", n), func(t *testing.T) {
			t.Parallel()
			packsModel(t, testkit.Dice(t))
		})
	}
}

// pick is one of several.
func pick[T any](r *rand.Rand, of ...T) T { return of[r.IntN(len(of))] }

func packsModel(t *testing.T, r *rand.Rand) {
	w := newWorldOf(t, pick(r, kinds...))
	rules := sharedBy(pick(r, rule.InTurn, rule.ByFolder), "", pick(r, "", "3kB", "100kB"))
	if rules.Packs.By == rule.InTurn {
		rules.Packs.AtMost = pick(r, "10kB", "60kB", "1GB")
	}
	set := setAt(t, w, "set")
	opts := quick
	opts.Retry.Tries = 14
	names := []string{"a", "b/1", "b/2/x", "b/2/y", "c/1", "c/2", "d", "e.tar.zst", "f/é/1", "f/~"}
	for range 1 + r.IntN(4) {
		for range 1 + r.IntN(12) {
			key := pick(r, names...)
			if size := r.IntN(6000); size > 1500 { // of one size is of one content: times are all the same
				w.put(t, key, strings.Repeat("x", size))
			} else if err := os.Remove(filepath.Join(w.dir, key)); err != nil && !os.IsNotExist(err) {
				require.NoError(t, err)
			}
		}
		if r.IntN(2) == 0 {
			w.put(t, "large/"+fmt.Sprint(r.IntN(3)), strings.Repeat("x", 200_000+r.IntN(1000)))
		}
		w.server.SetFaults(standin.Fault{Do: "503", Chance: 0.05}, standin.Fault{Do: "reset-after", Chance: 0.05})
		p := w.planBy(t, w.folder, set, rules)
		for stopped := true; stopped; {
			stop, cancel := context.WithCancel(ctx)
			opts.Pacers = []transfer.Pacer{stopsAfter(r.Int64N(400_000), cancel)}
			out, m := w.run(t, stop, p, w.folder, set, opts)
			cancel()
			require.Zero(t, out.Failed, "%v", m.Problems)
			stopped = out.Stopped
		}
		w.server.SetFaults()
		opts.Pacers = nil
		require.Zero(t, packedBy(t, w, set, rules, opts).Objects, "there is nothing left to do")
		noUploads(t, w.store)
	}
}

// What somebody else has put elsewhere in the set since the plan is not hidden by what a run writes, and
// while anything failed nothing goes.
func TestPacksGuards(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 30)
	set, rules := setAt(t, w, "set"), sharedBy(rule.InTurn, "20kB", "5kB")
	packedBy(t, w, set, rules, quick)
	w.put(t, "theirs, packed", "ours")
	w.put(t, "theirs, beside", "ours")
	w.put(t, "ours", "ours")
	require.NoError(t, os.Remove(filepath.Join(w.dir, "tiles/0/0.json")))
	p := w.planBy(t, w.folder, set, rules)
	at, err := w.at.Open("archive/set")
	require.NoError(t, err)
	store(t, at, "theirs, beside", "theirs")
	require.NoError(t, pack.Change(ctx, at, "0001.tar.zst", 100, pack.Options{}, func(w *pack.Writer) error {
		_, err := w.Add(pack.Member{Name: "theirs, packed", Kind: pack.File, Size: 6},
			&pack.Content{Data: []byte("theirs")})
		return err
	}))
	out, m := w.run(t, ctx, p, w.folder, set, quick)
	assert.EqualValues(t, 1, out.Objects, "%v", m.Problems)
	assert.EqualValues(t, 3, out.Failed, "%v", m.Problems)
	assert.Contains(t, fmt.Sprint(m.Problems), "not deleted, because other objects failed")
	got := texts(t, set)
	assert.Equal(t, []string{"theirs", "theirs", "ours"}, []string{got["theirs, packed"], got["theirs, beside"],
		got["ours"]})
	assert.Contains(t, got, "tiles/0/0.json")
	require.NoError(t, os.Remove(filepath.Join(w.dir, "theirs, packed")))
	require.NoError(t, os.Remove(filepath.Join(w.dir, "theirs, beside")))
	packedBy(t, w, set, rules, quick)
}

// Folders, empty ones too, and links come along once, whichever pack they lie in.
func TestPacksBeside(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 30)
	require.NoError(t, os.MkdirAll(filepath.Join(w.dir, "empty/one"), 0o750))
	require.NoError(t, os.Symlink("../tiles", filepath.Join(w.dir, "link")))
	set, rules := setAt(t, w, "set"), sharedBy(rule.InTurn, "20kB", "")
	for i := range 3 {
		w.put(t, fmt.Sprint("tiles/more", i), strings.Repeat("x", 9000))
		out, m := w.run(t, ctx, w.planBy(t, w.folder, set, rules), w.folder, set, quick)
		assert.Zero(t, out.Failed, "%v", m.Problems)
	}
	var beside []string
	for m, err := range set.Beside(ctx) {
		require.NoError(t, err)
		beside = append(beside, m.Name)
	}
	slices.Sort(beside)
	assert.Contains(t, beside, "empty/one/")
	assert.Contains(t, beside, "link")
	counted := map[string]int{}
	for _, name := range beside {
		counted[name]++
	}
	assert.Equal(t, 1, counted["empty/one/"])
	assert.Equal(t, 1, counted["link"])
	names, err := set.All(ctx)
	require.NoError(t, err)
	assert.Greater(t, len(names), 2)

	require.NoError(t, os.Remove(filepath.Join(w.dir, "link")))
	require.NoError(t, os.Symlink("../tiles", filepath.Join(w.dir, "link")))
	info, err := os.Lstat(filepath.Join(w.dir, "link"))
	require.NoError(t, err)
	w.put(t, "tiles/one more", "x")
	w.run(t, ctx, w.planBy(t, w.folder, set, rules), w.folder, set, quick)
	set.Renew()
	anew := false
	for m, err := range set.Beside(ctx) {
		require.NoError(t, err)
		anew = anew || m.Name == "link" && m.Modified.Equal(info.ModTime())
	}
	assert.True(t, anew, "a link that is another by its time comes along again")
}

// A set is read as one place: by parts of its keys, level by level, from behind a key on.
func TestSetIsAPlace(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 40, 2<<20)
	set := setAt(t, w, "set")
	packedBy(t, w, set, sharedBy(rule.InTurn, "20kB", "1MB"), quick)
	all := keys(t, set)
	for _, prefix := range []string{"", "tiles/", "tiles/3", "masters/", "none"} {
		for _, after := range []string{"", "tiles/4/4.json", "masters/0.wav", "z"} {
			var want, got []string
			for _, key := range all {
				if strings.HasPrefix(key, prefix) && key > after {
					want = append(want, key)
				}
			}
			for e, err := range set.List(ctx, prefix, place.ListOptions{After: after}) {
				require.NoError(t, err)
				got = append(got, e.Key)
			}
			assert.Equal(t, want, got, "%q %q", prefix, after)
		}
	}
	var top []string
	for e, err := range set.List(ctx, "", place.ListOptions{Shallow: true}) {
		require.NoError(t, err)
		top = append(top, e.Key)
	}
	assert.Equal(t, []string{"masters/", "tiles/"}, top)
	_, err := set.Stat(ctx, object.Ref{Key: "0001.tar.zst"})
	assert.Equal(t, place.NotFound, place.KindOf(err))
	at, err := w.at.Open("archive/set")
	require.NoError(t, err)
	tiles, err := w.at.Open("archive/set/tiles")
	require.NoError(t, err)
	sub := pack.NewSet(at, ".tar.zst", tiles, "tiles", pack.Keeping{})
	assert.Len(t, keys(t, sub), 40)
	data, _, err := place.Open(ctx, sub, "4/4.json", 1<<20)
	require.NoError(t, err)
	assert.Equal(t, texts(t, w.folder)["tiles/4/4.json"], string(data))
}

// What a damaged archive no longer shows is not taken for gone: nothing is deleted where a pack, or one of
// several, has lost its end, wherever that was cut off; the survey says so.
func TestDamagedPackDeletesNothing(t *testing.T) {
	for _, ending := range []string{".tar.zst", ".tar"} {
		w := newWorld(t)
		w.fill(t, 30)
		at, err := w.at.Open("archive/set")
		require.NoError(t, err)
		set := pack.NewSet(at, ending, at, "", pack.Keeping{})
		packedBy(t, w, set, sharedBy(rule.InTurn, "20kB", ""), quick)
		whole, e, err := place.Open(ctx, at, "0002"+ending, 1<<20)
		require.NoError(t, err)
		held := keys(t, pack.In(at, e.Key, ""))
		ends := []int{0, 1, 100, len(whole) / 3, len(whole) / 2}
		for i := 512; ending == ".tar" && i < len(whole)/2; i += 3 * 512 { // between members, too
			ends = append(ends, i)
		}
		for _, end := range ends {
			require.NoError(t, at.Remove(ctx, object.Ref{Key: e.Key})[0])
			store(t, at, e.Key, string(whole[:end]))
			t.Run(fmt.Sprint(ending, end), func(t *testing.T) { deletesNothing(t, w, at, ending, held) })
		}
	}
}

// deletesNothing mirrors a set with a damaged pack to a place where all that was in it is, and lists that pack
// alone, which held some.
func deletesNothing(t *testing.T, w *world, at place.Place, ending string, held []string) {
	kept := t.TempDir()
	one := pack.In(at, "0002"+ending, "")
	one.Keep(pack.Keeping{Index: func(string) string { return filepath.Join(kept, "one") }})
	set := pack.NewSet(at, ending, at, "", pack.Keeping{Index: func(key string) string {
		return filepath.Join(kept, key)
	}})
	to, err := w.at.Open("archive/copy")
	require.NoError(t, err)
	for i := range 30 {
		key := fmt.Sprintf("tiles/%d/%d.json", i%7, i)
		store(t, to, key, "there")
		_, err := set.Stat(ctx, object.Ref{Key: key})
		assert.False(t, err != nil && place.KindOf(err) == place.NotFound, "said to be gone: %s", key)
	}
	for _, key := range held {
		_, err := one.Stat(ctx, object.Ref{Key: key})
		assert.False(t, err != nil && place.KindOf(err) == place.NotFound, "said to be gone: %s", key)
	}
	p := w.planBy(t, set, to, mirrored())
	assert.Zero(t, p.Info.Totals[plan.Remove].Count)
	left := p.Info.Totals[plan.Change].Count
	assert.NotZero(t, left, "the other packs are there")
	assert.False(t, left < 30 && p.Info.Source.Complete())
	c, err := catalog.Survey(ctx, one, filepath.Join(kept, "survey"), catalog.Options{})
	if err == nil {
		assert.False(t, c.Info.Objects < int64(len(held)) && c.Info.Complete())
		c.Close()
	}
}

// failsOnce is a place of which one key cannot be written the first time.
type failsOnce struct {
	place.Place
	key  string
	fail func() error
}

func (f *failsOnce) Write(ctx context.Context, key string, body io.Reader, size int64, o place.WriteOptions) (
	object.Entry, error) {
	if fail := f.fail; key == f.key && fail != nil {
		f.fail = nil
		return object.Entry{}, fail()
	}
	return f.Place.Write(ctx, key, body, size, o)
}

// What a person wants tried again is, also what lies beside the packs; only then does anything go.
func TestPacksTriedAgain(t *testing.T) {
	w := newWorld(t)
	w.put(t, "a small", "one")
	w.put(t, "gone", "ebb")
	at, err := w.at.Open("archive/again")
	require.NoError(t, err)
	rules := sharedBy(rule.InTurn, "1MB", "5kB")
	packedBy(t, w, pack.NewSet(at, ".tar.zst", at, "", pack.Keeping{}), rules, quick)
	require.NoError(t, os.Remove(filepath.Join(w.dir, "gone")))
	w.put(t, "a small", "another")
	w.put(t, "beside", strings.Repeat("x", 6000))
	control := &transfer.Control{}
	once := &failsOnce{Place: at, key: "beside", fail: func() error {
		control.TryAgain("north/archive: not allowed")
		return place.NewError("north/archive", "write", "beside", place.Denied, nil)
	}}
	set := pack.NewSet(once, ".tar.zst", once, "", pack.Keeping{})
	opts := quick
	opts.Control = control
	out, m := w.run(t, ctx, w.planBy(t, w.folder, set, rules), w.folder, set, opts)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	same(t, texts(t, w.folder), texts(t, setAt(t, w, "again")))
}

// A plan that cannot be read to its end brings what it can tell of, and has nothing go.
func TestDamagedPlanDeletesNothing(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 5)
	w.put(t, "a gone", "ebb")
	at, err := w.at.Open("archive/plainly")
	require.NoError(t, err)
	one, several := pack.In(w.store, "one.tar", ""), setAt(t, w, "several")
	rules := sharedBy(rule.InTurn, "1MB", "5kB")
	for _, to := range []place.Place{one, several} {
		packedBy(t, w, to, rules, quick)
	}
	plainly := rules
	plainly.Packs = rule.Packs{}
	w.run(t, ctx, w.planBy(t, w.folder, at, plainly), w.folder, at, quick)
	require.NoError(t, os.Remove(filepath.Join(w.dir, "a gone")))
	for i := range 4000 {
		w.put(t, fmt.Sprintf("more/%x", sha256.Sum256([]byte{byte(i), byte(i >> 8)})), "x")
	}
	rounds := quick
	rounds.PackRound = 2 << 20
	for _, c := range []struct {
		to   place.Place
		opts transfer.Options
	}{{at, quick}, {one, quick}, {one, rounds}, {several, quick}} {
		to := c.to
		p := w.planBy(t, w.folder, to, rules)
		f, err := os.OpenFile(p.Path, os.O_RDWR, 0)
		require.NoError(t, err)
		info, err := f.Stat()
		require.NoError(t, err)
		_, err = f.WriteAt([]byte("a disk has lost this"), info.Size()*6/10)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		l, err := ledger.Open(p.Path+".ledger", fmt.Sprint(p.Info.Number), false)
		require.NoError(t, err)
		_, err = transfer.Run(ctx, p, w.folder, to, l, &transfer.Meter{}, c.opts)
		assert.ErrorIs(t, err, segment.ErrDamaged, to.Name())
		require.NoError(t, l.Close())
		in := pack.Of(to)
		if in != nil {
			in.Renew()
		}
		assert.Contains(t, texts(t, to), "a gone", to.Name())
	}
}

// One pack a folder: an empty folder comes along in that of its own, and one that has none in another.
func TestPacksOfFoldersBeside(t *testing.T) {
	w := newWorld(t)
	w.put(t, "a/one", "dawn")
	w.put(t, "b/two", "dusk")
	for _, dir := range []string{"a/empty", "b/empty/deep", "lonely"} {
		require.NoError(t, os.MkdirAll(filepath.Join(w.dir, dir), 0o750))
	}
	set, rules := setAt(t, w, "folders"), sharedBy(rule.ByFolder, "", "")
	packedBy(t, w, set, rules, quick)
	set.Renew()
	in := func(name string) (all []string) {
		x, err := set.Pack(name + ".tar.zst").Pack(ctx)
		require.NoError(t, err)
		for m, err := range x.Walk(ctx, "", false) {
			require.NoError(t, err)
			if m.Kind == pack.Folder && m.Mode == 0o750 {
				all = append(all, m.Name)
			}
		}
		return all
	}
	assert.Contains(t, in("a"), "a/empty/")
	assert.Contains(t, in("b"), "b/empty/deep/")
	assert.Contains(t, append(in("a"), in("b")...), "lonely/")
}

// New objects go into the last pack that has room, or a new one: those that are full stay as they are.
func TestPacksThatAreFullStay(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 30)
	rules := sharedBy(rule.InTurn, "40kB", "")
	packedBy(t, w, setAt(t, w, "turn"), rules, quick)
	at, err := w.at.Open("archive/turn")
	require.NoError(t, err)
	var before []object.Entry
	for e, err := range at.List(ctx, "", place.ListOptions{}) {
		require.NoError(t, err)
		before = append(before, e)
	}
	require.Greater(t, len(before), 1)
	for i := range 8 {
		w.put(t, fmt.Sprintf("new/%d.json", i), "{}")
	}
	assert.EqualValues(t, 8, packedBy(t, w, setAt(t, w, "turn"), rules, quick).Objects)
	for _, was := range before[:len(before)-1] {
		now, err := at.Stat(ctx, object.Ref{Key: was.Key})
		require.NoError(t, err)
		assert.Equal(t, was.Mark(), now.Mark(), was.Key)
	}
}

// Objects of a store are packed also where some are not given at once.
func TestPacksOfAStoreThatStumbles(t *testing.T) {
	w := newWorld(t)
	for i := range 12 {
		store(t, w.store, fmt.Sprint("take ", i), strings.Repeat("tide", i))
	}
	for _, fault := range []string{"500", "reset"} {
		w.server.SetFaults(standin.Fault{Op: "GetObject", Do: fault, Times: 5})
		in := pack.In(w.folder, fault+".tar.zst", "")
		out, m := w.run(t, ctx, w.plan(t, w.store, in), w.store, in, quick)
		assert.EqualValues(t, 12, out.Objects, "%v", m.Problems)
		same(t, texts(t, w.store), texts(t, in))
	}
}
