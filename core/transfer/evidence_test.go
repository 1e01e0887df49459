package transfer_test

import (
	"bytes"
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/agreed"
	"lumtra/core/catalog"
	"lumtra/core/compare"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/s3"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/core/secret"
	"lumtra/core/transfer"
	"lumtra/standin"
)

// remembered plans by what is remembered in w.temp, and keeps what the run leaves there.
func (w *world) remembered(t *testing.T, from, to place.Place, rules rule.Rules, opts transfer.Options) (*plan.Plan,
	transfer.Outcome) {
	w.plans++
	base := filepath.Join(w.temp, "remembered")
	a, err := catalog.Survey(ctx, from, base+"-a", catalog.Options{})
	require.NoError(t, err)
	defer a.Close()
	b, err := catalog.Survey(ctx, to, base+"-b", catalog.Options{})
	require.NoError(t, err)
	defer b.Close()
	known, err := agreed.OpenMemory(w.temp, from.Name(), to.Name())
	require.NoError(t, err)
	defer known.Close()
	can := place.Can(to)
	p, err := plan.Build(ctx, filepath.Join(w.temp, plan.FileName(w.plans)), a, b, plan.Options{Rules: rules,
		Number: w.plans, Source: from.Abilities(), Target: to.Abilities(), Agreed: known.States, Doubts: known.Doubts,
		Resend: can.Attributes == nil && can.Metadata == nil,
		SameContent: func(ctx context.Context, x, y *object.Entry) (bool, error) {
			res, err := compare.Contents(ctx, compare.ByStoredSum, from, x, to, y)
			return res.Same, err
		}})
	require.NoError(t, err)
	t.Cleanup(func() { p.Close() })
	out, m := w.run(t, ctx, p, from, to, opts)
	if len(m.Problems) > 0 {
		t.Log(m.Problems)
	}
	require.NoError(t, transfer.Agree(ctx, w.temp, known, p, p.Path+".ledger"))
	return p, out
}

// A source goes only if what the target holds equals it by two independent readings, or by a sum
// that the store itself vouches for: never by the sum of the very reading that made the copy.
func TestEvidence(t *testing.T) {
	content := map[string]string{"small.wav": "as it was recorded", "large.wav": strings.Repeat("tide ", 4<<20)}
	for name, c := range map[string]struct {
		evidence  rule.Evidence
		twice     bool
		afterward rule.Afterwards
		goes      bool // at the first run
		right     bool // at the target, in the end
	}{
		"deleted":            {afterward: rule.DeleteSource, right: true},
		"archived":           {afterward: rule.ArchiveSource, right: true},
		"read twice at once": {twice: true, afterward: rule.DeleteSource, goes: true, right: true},
		"given up by name":   {evidence: rule.OneReading, afterward: rule.DeleteSource, goes: true},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorldWith(t, "s3", standin.SumsIgnored) // and its ETags are no MD5s
			for key, text := range content {
				write(t, w.store, key, text)
			}
			for key := range content { // one bit, once, on the way here
				w.server.SetFaults(standin.Fault{Op: "GetObject", Do: "corrupt", Times: 1, Key: key})
				rules := rule.Default()
				rules.Afterwards, rules.Safety.Evidence = c.afterward, c.evidence
				rules.Select.Include = []string{key}
				opts := quick
				opts.ReadTwice = c.twice
				_, out := w.remembered(t, w.store, w.folder, rules, opts)
				assert.Equal(t, c.goes, out.SeenTo == 1, "%s: a damaged copy lets its source go", key)
				// What was read twice and came out the same is verified, though the store keeps nothing.
				assert.Equal(t, c.evidence == rule.OneReading, out.Unverified == 1, key)
				if !c.goes {
					assert.EqualValues(t, 1, out.Failed)
					known, err := agreed.OpenMemory(w.temp, w.store.Name(), w.folder.Name())
					require.NoError(t, err)
					doubts := known.Doubts.Cursor("")
					require.True(t, doubts.Next())
					assert.EqualValues(t, len(content[key]), doubts.Value().Source.Size, "of which object it is")
					require.NoError(t, known.Close())
					assert.True(t, texts(t, w.store)[key] == content[key], key)
					p, again := w.remembered(t, w.store, w.folder, rules, opts)
					assert.EqualValues(t, 1, p.Info.Totals[plan.Change].Count, "the next plan offers to mend it")
					assert.Zero(t, again.Failed)
					assert.Equal(t, [2]int64{1, 0}, [2]int64{again.SeenTo, again.Unverified})
				}
				assert.Equal(t, c.right, texts(t, w.folder)[key] == content[key], key)
				_, left := texts(t, w.store)[key]
				assert.False(t, left, key)
			}
		})
	}
}

// What is gone from both sides is not remembered beyond the next plan: of another object that comes under its key
// nothing is agreed.
func TestWhatIsGoneIsForgotten(t *testing.T) {
	w := newWorld(t)
	write(t, w.store, "a.wav", "one")
	write(t, w.store, "b.wav", "two")
	remembered := func() (keys []string) {
		known, err := agreed.OpenMemory(w.temp, w.store.Name(), w.folder.Name())
		require.NoError(t, err)
		defer known.Close()
		for c := known.States.Cursor(""); c.Next(); {
			keys = append(keys, c.Key())
		}
		return keys
	}
	w.remembered(t, w.store, w.folder, rule.Default(), quick)
	assert.Equal(t, []string{"a.wav", "b.wav"}, remembered())
	for _, p := range []place.Place{w.store, w.folder} {
		require.NoError(t, errors.Join(p.Remove(ctx, object.Ref{Key: "a.wav"})...))
	}
	w.remembered(t, w.store, w.folder, rule.Default(), quick)
	assert.Equal(t, []string{"b.wav"}, remembered())
}

// Where the source keeps a sum of its own, one reading is enough.
func TestEvidenceOfTheStore(t *testing.T) {
	w := newWorld(t)
	write(t, w.store, "a.wav", "as it was recorded")
	rules := rule.Default()
	rules.Afterwards = rule.DeleteSource
	from := &late{Place: w.store}
	out, m := w.run(t, ctx, w.planBy(t, w.store, w.folder, rules), from, w.folder, quick)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	assert.EqualValues(t, 1, out.SeenTo)
	assert.EqualValues(t, 1, from.reads.Load())
}

// renaming answers for a store, and turns a letter over in the name of the upload that an answer tells: for
// each key in the first of them.
type renaming struct {
	*standin.Server
	told sync.Map
}

func (r *renaming) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	_, begins := q.URL.Query()["uploads"]
	if _, again := r.told.LoadOrStore(q.URL.Path, true); !begins || q.Method != http.MethodPost || again {
		r.Server.ServeHTTP(w, q)
		return
	}
	answer := httptest.NewRecorder()
	r.Server.ServeHTTP(answer, q)
	body := answer.Body.Bytes()
	body[bytes.Index(body, []byte("<UploadId>"))+len("<UploadId>")] ^= 1
	w.WriteHeader(answer.Code)
	w.Write(body)
}

// An answer that opens an upload and comes damaged names none. The object arrives all the same, and the
// upload that was opened is dropped.
func TestDamagedOpening(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 1, slices.Repeat([]int{11 << 20}, 4)...)
	web := httptest.NewServer(&renaming{Server: w.server})
	defer web.Close()
	end, err := s3.NewStore(s3.Config{Name: "north", Address: web.URL, AccessKey: "a", Secret: secret.New("c2Vh")})
	require.NoError(t, err)
	defer end.Close()
	to, err := end.Open("archive")
	require.NoError(t, err)
	out, m := w.run(t, ctx, w.plan(t, w.folder, to), w.folder, to, quick)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	same(t, texts(t, w.folder), texts(t, to))
	left, err := to.(place.PartWriter).Uploads(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
}
