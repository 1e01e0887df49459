package transfer_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/standin"
	"lumtra/testkit"
)

// acts are what a plan can offer to do, each as a job and what happens between its first run and its second.
var acts = map[string]struct {
	rules  func(*rule.Rules)
	meddle func(t *testing.T, w *world)
}{
	"add":          {meddle: func(t *testing.T, w *world) { w.put(t, "b.wav", "new") }},
	"change":       {meddle: func(t *testing.T, w *world) { w.put(t, "a.wav", "another, and longer") }},
	"change large": {meddle: func(t *testing.T, w *world) { w.put(t, "large.wav", strings.Repeat("reed ", 2<<20)) }},
	"touch": {meddle: func(t *testing.T, w *world) {
		at := time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
		require.NoError(t, os.Chtimes(filepath.Join(w.dir, "a.wav"), at, at))
	}},
	"permissions": {meddle: func(t *testing.T, w *world) {
		require.NoError(t, os.Chmod(filepath.Join(w.dir, "a.wav"), 0o600))
	}},
	"class":    {rules: func(r *rule.Rules) { r.As.Class = "STANDARD_IA" }},
	"metadata": {rules: func(r *rule.Rules) { r.As.Metadata = map[string]string{"site": "weir"} }},
	"delete": {rules: func(r *rule.Rules) { r.TargetOnly = rule.DeleteThere },
		meddle: func(t *testing.T, w *world) { require.NoError(t, os.Remove(filepath.Join(w.dir, "a.wav"))) }},
	"trash": {rules: func(r *rule.Rules) { r.TargetOnly = rule.MoveToTrash },
		meddle: func(t *testing.T, w *world) { require.NoError(t, os.Remove(filepath.Join(w.dir, "large.wav"))) }},
	"keep both": {rules: func(r *rule.Rules) { r.WhenDifferent = rule.KeepBoth },
		meddle: func(t *testing.T, w *world) { w.put(t, "a.wav", "another, and longer") }},
	"move": {rules: func(r *rule.Rules) { r.Afterwards = rule.DeleteSource }},
	"both ways": {rules: func(r *rule.Rules) { r.Direction, r.Conflicts = rule.TwoWay, rule.BothStay },
		meddle: func(t *testing.T, w *world) {
			w.put(t, "a.wav", "another, and longer")
			write(t, w.store, "a.wav", "somebody else's")
			write(t, w.store, "there.wav", "somebody else's, too")
		}},
}

// Nothing that a plan offers fails for a reason that is known: every act, at a store of every habit that was
// tested. What cannot be done is done another way, or the plan says that it cannot.
func TestActsAtEveryHabit(t *testing.T) {
	testkit.Heavy(t)
	for _, habit := range append(standin.Habits(), "") {
		if habit == standin.Forgets {
			continue
		}
		t.Run("habit "+string(habit), func(t *testing.T) {
			t.Parallel()
			var facts place.Facts
			for name, act := range acts {
				var habits []standin.Habit
				if habit != "" {
					habits = append(habits, habit)
				}
				w := newWorldWith(t, "s3", habits...)
				if facts.At.IsZero() {
					var err error
					facts, err = w.store.(place.Examiner).Examine(ctx, "probe/")
					require.NoError(t, err)
				}
				place.Can(w.store).Known.Replace(facts)
				w.put(t, "a.wav", "as it was recorded")
				w.put(t, "large.wav", strings.Repeat("tide ", 2<<20))
				rules := rule.Default()
				if act.rules != nil {
					act.rules(&rules)
				}
				off := int64(100)
				rules.Safety.DeletionShare, rules.Safety.Shrink, rules.Safety.Drift = &off, &off, &off
				told := fmt.Sprintf("%s, %q", name, habit)
				for round := range 2 {
					if round == 1 && act.meddle != nil {
						act.meddle(t, w)
					}
					p, out := w.remembered(t, w.folder, w.store, rules, quick)
					assert.Zero(t, out.Failed, "%s, run %d: %v", told, round+1, p.Info.Totals.Map())
				}
				p, _ := w.remembered(t, w.folder, w.store, rules, quick)
				assert.Zero(t, p.Info.Totals.Work().Count, "%s: it does not come to an end", told)
				if rules.Direction == rule.TwoWay {
					same(t, texts(t, w.folder), texts(t, w.store))
				}
			}
		})
	}
}

// A two-way run that keeps both is done when both are at both sides, whatever stops it half-way.
func TestBothAtBoth(t *testing.T) {
	w := newWorld(t)
	rules := rule.Default()
	rules.Direction, rules.Conflicts = rule.TwoWay, rule.BothStay
	w.put(t, "a.wav", "first")
	w.put(t, "b.wav", "first of b")
	_, out := w.remembered(t, w.folder, w.store, rules, quick)
	require.Zero(t, out.Failed)
	w.put(t, "a.wav", "here, since")
	write(t, w.store, "a.wav", "there, since")
	w.put(t, "b.wav", strings.Repeat("here ", 3<<20))
	write(t, w.store, "b.wav", strings.Repeat("there", 3<<20))
	p, out := w.remembered(t, w.folder, w.store, rules, quick)
	require.Zero(t, out.Failed)
	assert.EqualValues(t, 2, out.Objects, "each is one effect")
	assert.EqualValues(t, 2, p.Info.Totals[plan.Change].Count)
	here, there := texts(t, w.folder), texts(t, w.store)
	same(t, here, there)
	assert.Len(t, here, 4)
	kept := map[string]bool{}
	for _, text := range here {
		kept[text[:5]+fmt.Sprint(len(text))] = true
	}
	assert.Len(t, kept, 4, "each last content of either side is at both")
	p, _ = w.remembered(t, w.folder, w.store, rules, quick)
	assert.Zero(t, p.Info.Totals.Work().Count)
}

// What a store lists under another name than it keeps is not gone when it says so.
func TestRemovedIsGone(t *testing.T) {
	w := newWorldWith(t, "s3", standin.NonCharsChange)
	write(t, w.store, "plain.wav", "goes")
	_, err := w.store.Write(ctx, "reed\ufffebed.wav", strings.NewReader("stays"), 5, place.WriteOptions{})
	require.NoError(t, err)
	rules := rule.Default()
	no := false
	off := int64(100)
	rules.TargetOnly, rules.Safety.EmptySource, rules.Safety.DeletionShare = rule.DeleteThere, &no, &off
	p := w.planBy(t, w.folder, w.store, rules)
	require.EqualValues(t, 2, p.Info.Totals[plan.Remove].Count)
	out, m := w.run(t, ctx, p, w.folder, w.store, quick)
	assert.EqualValues(t, 1, out.Failed, "%v", m.Problems)
	assert.EqualValues(t, 1, out.Objects)
	_, err = w.store.Stat(ctx, object.Ref{Key: "reed\ufffebed.wav"})
	assert.NoError(t, err)
}

// Uploads of ours are known by what was noted before they were opened, also where a store tells no date of them:
// those whose answer was lost go, and those of others stay.
func TestUploadsThatAreOurs(t *testing.T) {
	for _, habits := range [][]standin.Habit{nil, {standin.UploadsUndated}} {
		w := newWorldWith(t, "s3", habits...)
		parts := w.store.(place.PartWriter)
		w.fill(t, 0, 11<<20, 11<<20)
		others, err := parts.Begin(ctx, "masters/0.wav", place.WriteOptions{})
		require.NoError(t, err)
		w.server.SetFaults(standin.Fault{Op: "CreateMultipartUpload", Do: "reset-after", Times: 2})
		out, m := w.run(t, ctx, w.plan(t, w.folder, w.store), w.folder, w.store, quick)
		assert.Zero(t, out.Failed, "%v", m.Problems)
		w.server.SetFaults()
		left, err := parts.Uploads(ctx)
		require.NoError(t, err)
		if assert.Len(t, left, 1, "%v", habits) {
			assert.Equal(t, others.ID, left[0].ID)
		}
	}
}

// An object that is found to have arrived otherwise leaves no upload behind.
func TestUploadsOfWhatArrived(t *testing.T) {
	w := newWorld(t)
	w.fill(t, 0, 11<<20)
	p := w.plan(t, w.folder, w.store)
	w.server.SetFaults(standin.Fault{Op: "UploadPart", Do: "500"})
	out, _ := w.run(t, ctx, p, w.folder, w.store, quick)
	require.EqualValues(t, 1, out.Failed)
	left, err := w.store.(place.PartWriter).Uploads(ctx)
	require.NoError(t, err)
	require.Len(t, left, 1, "it may be gone on with")
	w.server.SetFaults()
	write(t, w.store, "masters/0.wav", texts(t, w.folder)["masters/0.wav"]) // by somebody else
	out, m := w.run(t, ctx, p, w.folder, w.store, quick)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	left, err = w.store.(place.PartWriter).Uploads(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
}
