package transfer_test

import (
	"context"
	"fmt"
	"hash/maphash"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/agreed"
	"lumtra/core/catalog"
	"lumtra/core/compare"
	"lumtra/core/ledger"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/blob"
	"lumtra/core/place/folder"
	"lumtra/core/place/s3"
	"lumtra/core/plan"
	"lumtra/core/retry"
	"lumtra/core/rule"
	"lumtra/core/secret"
	"lumtra/core/transfer"
	"lumtra/standin"
	"lumtra/testkit"
)

// On stores with any set of habits, known or not, while requests fail and bits turn
// over both ways: what is right by the rules is there in the end, or the run says
// why not. It never says that it is done when something is wrong or missing, and
// nothing is ever lost on the way. LUMTRA_DRAWS is how many worlds are drawn.
func TestEveryStore(t *testing.T) {
	testkit.Heavy(t)
	for half := range 2 {
		t.Run(fmt.Sprint(half), func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			n := 0
			testkit.Checks(t, testkit.Draws(150)/2, func(t *rapid.T) {
				n++
				w := &oddWorld{T: t, temp: filepath.Join(dir, fmt.Sprint(n))}
				defer w.close()
				w.draw()
				for range rapid.IntRange(1, 2).Draw(t, "rounds") {
					w.meddle()
					w.settle()
				}
			})
		})
	}
}

// oddWorld is a source and a target, each seen by the engine and, past all habits
// and faults, by the test.
type oddWorld struct {
	*rapid.T
	temp           string
	source, target oddSide
	rules          rule.Rules
	opts           transfer.Options
	plans, writes  int
}

// oddSide is one side: what the engine sees, and what is really there.
type oddSide struct {
	place.Place
	real    place.Place
	server  *standin.Server
	habits  []standin.Habit
	closers []func() error
}

func (w *oddWorld) close() {
	for _, side := range []oddSide{w.source, w.target} {
		for _, c := range slices.Backward(side.closers) {
			c()
		}
	}
	os.RemoveAll(w.temp)
}

// draw makes the two sides and the rules.
func (w *oddWorld) draw() {
	require.NoError(w, os.MkdirAll(w.temp, 0o755))
	kinds := rapid.SampledFrom([][2]string{{"folder", "s3"}, {"folder", "s3"}, {"folder", "blob"}, {"s3", "folder"},
		{"s3", "s3"}, {"blob", "s3"}}).Draw(w.T, "kinds")
	w.source, w.target = w.side("source", kinds[0]), w.side("target", kinds[1])
	w.rules = rule.Default()
	w.rules.CompareBy = rapid.SampledFrom([]rule.CompareBy{rule.BySizeAndTime, rule.BySizeAndTime,
		rule.ByContent}).Draw(w.T,
		"compare-by")
	w.rules.TargetOnly = rapid.SampledFrom([]rule.TargetOnly{rule.KeepThere, rule.DeleteThere,
		rule.MoveToTrash}).Draw(w.T, "target-only")
	if w.rules.TargetOnly == rule.KeepThere && rapid.Bool().Draw(w.T, "move") {
		w.rules.Afterwards = rule.DeleteSource
	}
	off, many := int64(100), int64(1<<40)
	no := false
	w.rules.Safety = rule.Safety{EmptySource: &no, Deletions: &many, DeletionShare: &off, Shrink: &off, Drift: &off}
	w.opts = transfer.Options{Streams: 4, PartSize: 5 << 20, Retry: retry.Policy{Tries: 14, First: time.Millisecond,
		Most: 3 * time.Millisecond}, Proof: compare.ByStoredSum}
	// What nothing vouches for would rightly be counted, and no more. What leaves is held against a
	// second reading all the same.
	w.opts.ReadTwice = w.rules.Afterwards == rule.KeepSource || rapid.Bool().Draw(w.T, "read twice")
	if rapid.IntRange(0, 3).Draw(w.T, "digest") == 3 {
		w.opts.Digest = object.BLAKE3
	}
}

const oddKey = "c2Vh"

func (w *oddWorld) side(name, kind string) (s oddSide) {
	dir := filepath.Join(w.temp, name)
	require.NoError(w, os.MkdirAll(dir, 0o755))
	if kind == "folder" {
		end, err := folder.OpenEndpoint(name, dir, folder.Options{})
		require.NoError(w, err)
		s.Place, err = end.Open("")
		require.NoError(w, err)
		s.real, s.closers = s.Place, append(s.closers, end.Close)
		return s
	}
	for _, h := range standin.Habits() {
		// What XML cannot write, and a store that keeps nothing, have no right end.
		if h != standin.Forgets && rapid.IntRange(0, 4).Draw(w.T, string(h)) == 4 {
			s.habits = append(s.habits, h)
		}
	}
	var err error
	s.server, err = standin.New(standin.Config{Dir: dir, API: kind,
		Keys: []standin.Key{{Access: "a", Secret: oddKey}}, Habits: s.habits,
		Seed: rapid.Uint64().Draw(w.T, name+" chances")})
	require.NoError(w, err)
	address, err := s.server.Start("127.0.0.1:0")
	require.NoError(w, err)
	s.closers = append(s.closers, s.server.Close)
	open := func(known *place.Known) place.Place {
		var end place.Endpoint
		if kind == "blob" {
			end, err = blob.NewStore(blob.Config{Name: name, Address: address + "/a", Account: "a",
				Key: secret.New(oddKey), Known: known})
		} else {
			end, err = s3.NewStore(s3.Config{Name: name, Address: address, AccessKey: "a", Secret: secret.New(oddKey),
				Known: known})
		}
		require.NoError(w, err)
		s.closers = append(s.closers, end.Close)
		if err := end.(place.Buckets).MakeBucket(ctx, "archive"); err != nil {
			require.Equal(w, place.Exists, place.KindOf(err))
		}
		p, err := end.Open("archive/below")
		require.NoError(w, err)
		return p
	}
	known := place.NewKnown(place.Facts{}, nil)
	s.Place = open(known)
	// What an ETag that looks like an MD5 and is none means cannot be told by reading.
	if rapid.Bool().Draw(w.T, name+" tested") || slices.Contains(s.habits, standin.ETagsOpaque) {
		facts, err := s.Place.(place.Examiner).Examine(ctx, "probe/")
		require.NoError(w, err)
		known.Replace(facts)
	}
	s.real = open(s.truth())
	return s
}

// truth is what is so of a store, for the test's own client: whatever the habits, it
// writes plainly and reads what comes.
func (s *oddSide) truth() *place.Known {
	f := place.Facts{Answers: map[place.Ask]place.Answer{}}
	for _, a := range []place.Ask{place.SumBehind, place.SumAhead, place.MD5Ahead, place.MD5ETag, place.MD5PartETag,
		place.KeepsSum, place.RemoveBatch, place.ListsInOrder} {
		f.Answers[a] = place.Refused
	}
	return place.NewKnown(f, nil)
}

var seed = maphash.MakeSeed()

// contents are what is really there.
func (s *oddSide) contents(t require.TestingT) map[string]string {
	all := texts(t, s.real)
	for key, text := range all {
		if len(text) > 300 { // as good, and can be shown
			all[key] = fmt.Sprintf("%s… %x", text[:20], maphash.String(seed, text))
		}
	}
	return all
}

// meddle changes a few objects at either side, past all habits but those of names.
func (w *oddWorld) meddle() {
	names := []string{"a", "b", "c/d", "c/e", "c-x", `r\s`, "Up", "u//v", "w/./x", "re\u0301ed", "end."}
	for i, side := range []*oddSide{&w.source, &w.target} {
		for range rapid.IntRange(0, 6-4*i).Draw(w.T, "changes") {
			key := rapid.SampledFrom(names).Draw(w.T, "key")
			if rapid.IntRange(0, 3).Draw(w.T, "delete?") == 3 {
				side.real.Remove(ctx, object.Ref{Key: key})
				continue
			}
			w.writes++
			// No two contents are alike, nor of one size: size and time alone may be
			// misled by rights.
			text := fmt.Sprintf("%s %d ", key, w.writes)
			text += strings.Repeat(".", 40*w.writes-len(text))
			switch rapid.IntRange(0, 60).Draw(w.T, "large") {
			case 60:
				text += strings.Repeat("tide", 2<<20)
			case 57, 58, 59:
				text += strings.Repeat("reed", 30_000)
			}
			side.real.Write(ctx, key, strings.NewReader(text), int64(len(text)),
				place.WriteOptions{Condition: place.Always, Original: time.Now().Add(-time.Hour)})
		}
	}
}

// settle plans and runs until there is nothing to do any more, first with faults.
func (w *oddWorld) settle() {
	before := w.target.contents(w)
	want := w.source.contents(w)
	for attempt := 1; ; attempt++ {
		w.trouble(attempt <= 3)
		clean := w.round(want, before)
		w.trouble(false)
		w.unlost(want, before)
		if clean {
			w.right(want, before)
			w.verified(want, before)
			return
		}
		if attempt == 7 {
			// What a store keeps under another name is told for ever, and nothing else.
			require.True(w, w.folded(want, before), "it does not come to an end: source %v, target %v",
				w.source.habits, w.target.habits)
			return
		}
	}
}

// folded tells whether the target keeps one of the keys under another name, or holds
// two of them as one.
func (w *oddWorld) folded(want, before map[string]string) bool {
	checker, ok := w.target.Place.(place.NameChecker)
	there := w.target.contents(w)
	for key := range want {
		if _, same := there[key]; ok && checker.CheckName(key) != nil || !same {
			return true
		}
	}
	for key := range before {
		if w.rules.TargetOnly == rule.MoveToTrash && ok &&
			checker.CheckName(rule.DefaultTrash+"/20261126-000000/"+key) != nil {
			return true
		}
	}
	return false
}

// trouble sets the faults of both sides, or takes them away.
func (w *oddWorld) trouble(on bool) {
	var set []standin.Fault
	if on {
		for _, do := range []string{"500", "503", "reset-before", "reset-after", "short"} {
			set = append(set, standin.Fault{Do: do, Chance: 0.05})
		}
		for _, op := range []string{"PutObject", "UploadPart", "GetObject", "PutBlob", "PutBlock", "GetBlob"} {
			set = append(set, standin.Fault{Do: "corrupt", Op: op, Key: "below/", Chance: 0.05})
		}
	}
	for _, side := range []oddSide{w.source, w.target} {
		if side.server != nil {
			side.server.SetFaults(set...)
		}
	}
}

// round surveys, plans and runs once. It tells whether all was done, or there was
// nothing to do.
func (w *oddWorld) round(want, before map[string]string) (clean bool) {
	w.plans++
	base := filepath.Join(w.temp, fmt.Sprint(w.plans))
	faults := func(do func() error) error {
		return retry.Policy{Tries: 40, First: time.Millisecond, Most: time.Millisecond}.Do(ctx,
			func(int) error { return do() })
	}
	var a, b *catalog.Catalog
	require.NoError(w, faults(func() (err error) {
		a, err = catalog.Survey(ctx, w.source.Place, base+"-a", catalog.Options{})
		return err
	}))
	defer a.Close()
	require.NoError(w, faults(func() (err error) {
		b, err = catalog.Survey(ctx, w.target.Place, base+"-b", catalog.Options{})
		return err
	}))
	defer b.Close()
	if !a.Info.Complete() || !b.Info.Complete() {
		return false
	}
	known, err := agreed.OpenMemory(w.temp, w.source.Name(), w.target.Name())
	require.NoError(w, err)
	defer known.Close()
	// each with a trash of its own
	opts := plan.Options{Rules: w.rules, Agreed: known.States, Doubts: known.Doubts,
		Source: w.source.Abilities(), Target: w.target.Abilities(),
		Number: w.plans, Now: time.Now().Add(time.Duration(w.plans) * time.Minute),
		SameContent: func(ctx context.Context, x, y *object.Entry) (bool, error) {
			var res compare.Result
			err := faults(func() (err error) {
				res, err = compare.Contents(ctx, compare.ByStoredSum, w.source.Place, x, w.target.Place, y)
				return err
			})
			return res.Same, err
		}}
	if c, ok := w.target.Place.(place.NameChecker); ok {
		opts.Name = c.CheckName
	}
	p, err := plan.Build(ctx, base+".plan", a, b, opts)
	require.NoError(w, err)
	defer p.Close()
	ledger, err := ledger.Open(base+".ledger", fmt.Sprint(w.plans), false)
	require.NoError(w, err)
	meter := &transfer.Meter{}
	out, err := transfer.Run(ctx, p, w.source.Place, w.target.Place, ledger, meter, w.opts)
	require.NoError(w, ledger.Close())
	broken := err != nil
	finished, _ := out.Before+out.Objects, 0
	require.NoError(w, transfer.Agree(ctx, w.temp, known, p, base+".ledger"))
	clean = !broken && out.Failed == 0 && p.Info.Whole() && finished >= p.Info.Totals.Work().Count &&
		out.SeenTo >= p.Info.Afterwards.Count
	if !clean {
		for c := p.Effects(""); c.Next(); {
			w.Logf("plan %d: %q %s, %s", w.plans, c.Effect().Key, c.Effect().Kind, c.Effect().Why())
		}
		for _, x := range meter.Snapshot().Problems {
			w.Logf("%d × %s: %s", x.Count, x.Cause, x.Detail)
		}
	}
	return clean
}

// right holds what is there, after a run that says that it is done, against the
// rules.
func (w *oddWorld) right(want, before map[string]string) {
	there, here := w.target.contents(w), w.source.contents(w)
	trash := map[string][]string{}
	for key, text := range there {
		if rest, ok := strings.CutPrefix(key, rule.DefaultTrash+"/"); ok {
			_, name, _ := strings.Cut(rest, "/")
			trash[name] = append(trash[name], text)
			delete(there, key)
		}
	}
	for key, text := range want {
		require.Equal(w, text, there[key], "done, and %q is not what it should be; habits %v", key, w.target.habits)
	}
	for key, text := range before {
		if _, sent := want[key]; sent || strings.HasPrefix(key, rule.DefaultTrash+"/") {
			continue
		}
		switch w.rules.TargetOnly {
		case rule.KeepThere:
			require.Equal(w, text, there[key], "%q was to stay", key)
		case rule.MoveToTrash:
			require.Contains(w, trash[key], text, "%q went to the trash", key)
			require.NotContains(w, there, key)
		case rule.DeleteThere:
			require.NotContains(w, there, key)
		}
	}
	if w.rules.Afterwards == rule.DeleteSource {
		require.Empty(w, here)
	} else {
		require.Equal(w, want, here)
	}
}

// verified makes sure that nothing which was sent to a store that was tested is read unverified there, unless the store
// keeps nothing beside objects.
func (w *oddWorld) verified(want, before map[string]string) {
	known := place.Can(w.target.Place).Known
	if known == nil || known.Facts().At.IsZero() || slices.Contains(w.target.habits, standin.MetadataDropped) ||
		slices.Contains(w.target.habits, standin.MetadataStays) {
		return
	}
	for key, text := range want {
		if before[key] == text {
			continue
		}
		r, facts, err := w.target.Read(ctx, key, place.ReadOptions{})
		require.NoError(w, err)
		require.False(w, facts.Unverified, "%q was sent, and is read unverified; habits %v", key, w.target.habits)
		_, err = io.Copy(io.Discard, r)
		require.NoError(w, err)
		require.NoError(w, r.Close())
	}
}

// unlost makes sure, also after a run that failed, that every content of the source
// is somewhere whole, and that nothing went which no rule lets go.
func (w *oddWorld) unlost(want, before map[string]string) {
	there, here := w.target.contents(w), w.source.contents(w)
	for key, text := range want {
		if here[key] != text {
			require.Equal(w, text, there[key], "%q left the source, and is not at the target", key)
		}
	}
	kept := slices.Collect(maps.Values(there))
	for key, text := range before {
		if _, sent := want[key]; sent || w.rules.TargetOnly == rule.DeleteThere {
			continue
		}
		require.True(w, slices.Contains(kept, text), "%q is gone from the target; habits %v; rules %+v", key,
			w.target.habits, w.rules.TargetOnly)
	}
}
