package service_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/compare"
	"lumtra/core/history"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/probe"
	"lumtra/core/proof"
	"lumtra/service/workroom"
	"lumtra/testkit"
)

// In whatever order a job is run, proven, meddled with, killed, and its state cut or dated anew, over lines that flip
// bits and break, while somebody writes at both sides and disks go bad: what is right by the rules is there in the
// end, or a run says why not. Nothing wrong is called done, nothing is lost, no doubt is forgotten, no upload left.
// LUMTRA_DRAWS is how many histories are drawn.
func TestEveryHistory(t *testing.T) {
	testkit.Heavy(t)
	const beside = 40 // they mostly wait
	done := &tally{}
	t.Cleanup(func() { t.Log(done) })
	for group := range beside {
		t.Run(fmt.Sprint(group), func(t *testing.T) {
			t.Parallel()
			dir, n := t.TempDir(), 0
			testkit.Checks(t, testkit.Draws(40)/beside, func(t *rapid.T) {
				n++
				h := &drawnHistory{T: t, dir: filepath.Join(dir, fmt.Sprint(n)), done: done}
				defer h.close()
				h.begin()
				for range rapid.IntRange(4, 14).Draw(t, "steps") {
					h.step()
				}
				h.settle()
			})
		})
	}
}

func (h *drawnHistory) step() {
	step := rapid.SampledFrom([]string{"meddle", "meddle", "meddle", "run", "run", "killed", "prove", "rot", "cut",
		"dated"}).Draw(h.T, "step")
	h.done.count(step)
	switch step {
	case "meddle":
		h.meddle()
	case "run":
		h.trouble(rapid.Bool().Draw(h.T, "trouble"))
		h.run(0)
		h.trouble(false)
	case "killed":
		h.trouble(rapid.Bool().Draw(h.T, "trouble"))
		h.run(rapid.IntRange(1, 40).Draw(h.T, "at request"))
		h.trouble(false)
	case "prove":
		h.prove(rapid.SampledFrom(compare.Methods).Draw(h.T, "method"))
	case "rot":
		h.rot()
	case "cut":
		h.cut()
	case "dated":
		h.dated()
	}
}

// meddle writes and deletes at both sides, mostly contents of one size.
func (h *drawnHistory) meddle() {
	for i, s := range []*drawnStore{h.east, h.west} {
		if i == 1 && !h.twoWay && rapid.Bool().Draw(h.T, "leave the target") {
			continue
		}
		for range rapid.IntRange(0, 3).Draw(h.T, "changes") {
			key := rapid.SampledFrom(h.keys).Draw(h.T, "key")
			if rapid.IntRange(0, 4).Draw(h.T, "delete?") == 4 {
				s.real.Remove(ctx, object.Ref{Key: key})
				if i == 1 {
					delete(h.rotten, key)
					delete(h.doubted, key)
				}
				continue
			}
			h.writes++
			text := fmt.Sprintf("%-4s tide %06d", key, h.writes)
			if rapid.IntRange(0, 3).Draw(h.T, "another size") == 3 {
				text += strings.Repeat(".", h.writes%7)
			}
			if key == large {
				text = strings.Repeat(text, (10<<20)/len(text)+2)
			}
			_, err := s.real.Write(ctx, key, strings.NewReader(text), int64(len(text)),
				place.WriteOptions{Condition: place.Always})
			require.NoError(h, err)
			if i == 1 { // it is another object now, of whoever wrote it
				delete(h.rotten, key)
			}
		}
	}
}

// rot has the disk of the target turn a bit over in an object, which nothing but reading can tell.
func (h *drawnHistory) rot() {
	there := h.contents(h.west)
	keys := slices.DeleteFunc(slices.Sorted(maps.Keys(there)), func(key string) bool { return key == large })
	if len(keys) == 0 || h.twoWay {
		return
	}
	key := rapid.SampledFrom(keys).Draw(h.T, "rotten")
	text := []byte(there[key])
	bad := bytes.Clone(text)
	bad[len(bad)-1] ^= 0x40 // no text that is written otherwise ends so
	done := false
	require.NoError(h, filepath.WalkDir(h.west.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || done {
			return err
		}
		raw, err := os.ReadFile(path)
		if at := bytes.LastIndex(raw, text); err == nil && at >= 0 {
			f, err := os.OpenFile(path, os.O_WRONLY, 0)
			if err != nil {
				return err
			}
			defer f.Close()
			_, err = f.WriteAt(bad, int64(at))
			done = true
			return err
		}
		return err
	}))
	if h.contents(h.west)[key] != there[key] {
		h.rotten[key] = true
	}
}

// cut cuts what a job remembers short, or takes it away.
func (h *drawnHistory) cut() {
	name := rapid.SampledFrom([]string{"agreed", "doubts"}).Draw(h.T, "file")
	path := filepath.Join(h.dir, "state/jobs/tide", name)
	info, err := os.Stat(path)
	if err != nil {
		return
	}
	if rapid.Bool().Draw(h.T, "away") {
		require.NoError(h, os.Remove(path))
		return
	}
	require.NoError(h, os.Truncate(path, info.Size()/2))
}

// dated gives all files of the state other times.
func (h *drawnHistory) dated() {
	for _, path := range h.stateFiles() {
		at := time.Now().Add(time.Duration(rapid.IntRange(-100, 100).Draw(h.T, "hours")) * time.Hour)
		os.Chtimes(path, at, at)
	}
}

// run plans and runs once. With kill it is killed before that request at the target: the state is what it was then,
// and the stores go on.
func (h *drawnHistory) run(kill int) (clean bool) {
	info, err := h.service.Plan(ctx, "tide", workroom.Freshness{}, &workroom.Activity{})
	if err != nil {
		h.Logf("planning: %v", err)
		return false
	}
	h.offered(info)
	here, there := h.contents(h.east), h.contents(h.west)
	saved := ""
	if kill > 0 {
		h.west.before(kill, func() {
			if saved == "" {
				saved = filepath.Join(h.dir, "killed")
				if os.CopyFS(saved, os.DirFS(filepath.Join(h.dir, "state/jobs"))) != nil {
					saved = ""
				}
			}
		})
		defer h.west.before(0, nil)
	}
	r, err := h.service.StartRun(context.Background(), "tide", workroom.RunOptions{Despite: []string{"permissions"}})
	switch {
	case errors.Is(err, workroom.ErrNothingToDo):
		if info.Whole() {
			h.right(info, here, there)
		}
		return info.Whole()
	case err != nil:
		h.Logf("starting: %v", err)
		return false
	}
	res, err := r.Wait()
	h.Logf("run of plan %d: %s, %d objects, %d failed, %v %v", info.Number, res.End, res.Objects, res.Failed,
		res.Problems, err)
	h.west.mu.Lock()
	killed := saved
	h.west.mu.Unlock()
	if killed != "" {
		h.done.count("killed in the middle")
		h.service.Close()
		jobs := filepath.Join(h.dir, "state/jobs")
		require.NoError(h, os.RemoveAll(jobs))
		require.NoError(h, os.Rename(killed, jobs))
		h.open()
		h.mended(info)
		h.unlost(here, there)
		return false
	}
	h.mended(info)
	h.unlost(here, there)
	if clean = err == nil && res.End == history.Clean; clean {
		h.right(info, here, there)
	}
	return clean
}

// effects are those of a plan, by key.
func (h *drawnHistory) effects(number int) map[string]plan.Effect {
	p, err := h.service.PlanNumber("tide", number)
	require.NoError(h, err)
	defer p.Close()
	all := map[string]plan.Effect{}
	for c := p.Effects(""); c.Next(); {
		all[c.Effect().Key] = *c.Effect()
	}
	return all
}

// offered makes sure that a plan offers to mend what is in doubt.
func (h *drawnHistory) offered(info plan.Info) {
	if !info.Source.Complete() || !info.Target.Complete() {
		return
	}
	all := h.effects(info.Number)
	for key := range h.doubted {
		e, there := all[key]
		if !there || e.Source == nil || e.Target == nil {
			continue // it is nobody's any more, or sent anew
		}
		require.NotEqual(h, plan.Same, e.Kind, "%q was found different, and plan %d calls it the same: %s", key,
			info.Number, e.Why())
	}
}

// mended forgets the doubts about what the newest content at the target shows to be sent again.
func (h *drawnHistory) mended(info plan.Info) {
	here, there := h.contents(h.east), h.contents(h.west)
	for key, e := range h.effects(info.Number) {
		if e.Kind.Moves() && (there[key] == here[key] || h.moves && here[key] == "") {
			delete(h.rotten, key)
			delete(h.doubted, key)
		}
	}
}

// prove proves the job, over quiet lines, and notes what was found.
func (h *drawnHistory) prove(method compare.Method) {
	p, err := h.service.Prove(ctx, "tide", workroom.ProveOptions{Method: method}, &workroom.Activity{})
	require.NoError(h, err)
	lines, err := proof.ReadDifferences(p.Dir, 1000)
	require.NoError(h, err)
	here, there := h.contents(h.east), h.contents(h.west)
	told := map[string]bool{} // different, or that it can't be told and why
	for _, l := range lines {
		told[l.Key] = l.Verdict == proof.Different || l.Verdict == proof.Unproven
		if l.Verdict == proof.Different {
			require.NotEqual(h, here[l.Key], there[l.Key], "%q is the same", l.Key)
			h.doubted[l.Key] = true
			h.done.count("doubt")
		}
	}
	if method != compare.ByReadBack {
		return
	}
	for key, text := range here {
		if other, both := there[key]; both && other != text {
			require.True(h, told[key], "%q differs, and a proof by reading did not see it: %v", key, lines)
		}
		if there[key] == text && p.Objects[proof.Unproven] == 0 {
			delete(h.doubted, key)
		}
	}
}

// right holds both sides against the rules after a run that says that it is done.
func (h *drawnHistory) right(info plan.Info, before, was map[string]string) {
	here, there := h.contents(h.east), h.contents(h.west)
	for key, text := range before {
		switch {
		case h.rotten[key]:
		case h.twoWay:
			require.Equal(h, here[key], there[key], "%q is not the same at both sides", key)
		case h.moves:
			require.Equal(h, text, there[key], "%q was moved", key)
			require.NotContains(h, here, key)
		default:
			require.Equal(h, text, there[key], "done, and %q is not what it should be", key)
		}
	}
	if !h.twoWay {
		return
	}
	require.Equal(h, slices.Sorted(maps.Keys(here)), slices.Sorted(maps.Keys(there)))
	if h.conflicts != "keep-both" {
		return
	}
	kept := map[string]bool{}
	for key, text := range here {
		require.Equal(h, text, there[key], key)
		kept[text] = true
	}
	for key, e := range h.effects(info.Number) {
		if e.Aside != "" {
			require.True(h, kept[before[key]] && kept[was[key]], "both of %q were to be kept", key)
		}
	}
}

// unlost makes sure that no content of the source left it without being at the target.
func (h *drawnHistory) unlost(before, _ map[string]string) {
	if h.twoWay {
		return
	}
	here, there := h.contents(h.east), h.contents(h.west)
	for key, text := range before {
		if here[key] != text {
			require.Equal(h, text, there[key], "%q left the source, and is not at the target", key)
		}
	}
}

// test tests both endpoints by writing, as messages advise.
func (h *drawnHistory) test() {
	for _, name := range []string{"east", "west"} {
		_, err := h.service.TestEndpoint(ctx, name, probe.Options{Bucket: "archive", Write: true})
		require.NoError(h, err)
	}
}

// settle brings the job to its end over quiet lines, proves it by reading, mends what that finds, and looks for what
// is left behind.
func (h *drawnHistory) settle() {
	h.trouble(false)
	for attempt := 1; !h.run(0); attempt++ {
		require.Less(h, attempt, 8, "it does not come to an end")
		if attempt == 2 { // what a run cannot tell without writing, as it says itself
			h.test()
		}
	}
	h.prove(compare.ByReadBack)
	for attempt := 1; !h.run(0); attempt++ {
		require.Less(h, attempt, 8, "it does not come to an end")
	}
	here, there := h.contents(h.east), h.contents(h.west)
	for key := range h.doubted {
		if _, both := there[key]; both && here[key] != "" { // else it is nobody's any more
			require.Equal(h, here[key], there[key], "a doubt about %q is forgotten", key)
		}
	}
	if !h.moves {
		for key, text := range here {
			require.Equal(h, text, there[key], "%q", key)
		}
	}
	for _, s := range []*drawnStore{h.east, h.west} {
		ups, err := s.real.(place.PartWriter).Uploads(ctx)
		require.NoError(h, err)
		require.Empty(h, ups, "uploads are left")
	}
}
