package service_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"log/slog"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/compare"
	"lumtra/core/history"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/s3"
	"lumtra/core/plan"
	"lumtra/core/probe"
	"lumtra/core/proof"
	"lumtra/service"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/standin"
	"lumtra/testkit"
)

// In whatever order a job is run, proven, meddled with, killed, and its state cut or dated anew, over lines that flip
// bits and break, while somebody writes at both sides and disks go bad: what is right by the rules is there in the
// end, or a run says why not. Nothing wrong is called done, nothing is lost, no doubt is forgotten, no upload left.
// LUMTRA_DRAWS is how many histories are drawn.
func TestEveryHistory(t *testing.T) {
	testkit.Heavy(t)
	const beside = 40 // they mostly wait
	for group := range beside {
		t.Run(fmt.Sprint(group), func(t *testing.T) {
			t.Parallel()
			dir, n := t.TempDir(), 0
			testkit.Checks(t, testkit.Draws(40)/beside, func(t *rapid.T) {
				n++
				h := &drawnHistory{T: t, dir: filepath.Join(dir, fmt.Sprint(n))}
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

// drawnHistory is a job over two stores, and all that is known of them past it.
type drawnHistory struct {
	*rapid.T
	dir       string
	east      *drawnStore
	west      *drawnStore
	service   *service.Service
	log       *os.File
	twoWay    bool
	moves     bool
	conflicts string
	writes    int
	// rotten are the keys at the target whose content went bad on the disk, and was not written since.
	rotten map[string]bool
	// doubted are the keys that a proof has found different: each later plan offers to mend them.
	doubted map[string]bool
	// owed are contents that both sides of a two-way job have to hold in the end.
	owed map[string]bool
	// faults are those of the lines.
	faults []standin.Fault
}

// drawnStore is a store behind a line.
type drawnStore struct {
	dir    string
	server *standin.Server
	web    *httptest.Server
	real   place.Place
	end    place.Endpoint
	mu     sync.Mutex
	count  int
	at     int    // the request before which something happens; 0 for none
	then   func() // what
}

func (s *drawnStore) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	if s.count++; s.count == s.at {
		s.then()
	}
	s.mu.Unlock()
	s.server.ServeHTTP(w, r)
}

// before has something done before the n-th request from now on.
func (s *drawnStore) before(n int, then func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.count, s.at, s.then = 0, n, then
}

func (h *drawnHistory) store(name string) *drawnStore {
	s := &drawnStore{dir: filepath.Join(h.dir, name)}
	require.NoError(h, os.MkdirAll(s.dir, 0o755))
	var habits []standin.Habit
	for _, x := range standin.Habits() {
		if x != standin.Forgets && x != standin.MetadataDropped && rapid.IntRange(0, 11).Draw(h.T, string(x)) == 11 {
			habits = append(habits, x)
		}
	}
	var err error
	s.server, err = standin.New(standin.Config{Dir: s.dir, Public: true, Habits: habits,
		Seed: rapid.Uint64().Draw(h.T, name+" chances")})
	require.NoError(h, err)
	s.web = httptest.NewServer(s)
	refused := map[place.Ask]place.Answer{}
	for _, a := range []place.Ask{place.SumBehind, place.SumAhead, place.MD5Ahead, place.MD5ETag, place.MD5PartETag,
		place.KeepsSum, place.RemoveBatch, place.ListsInOrder, place.MetaReplaced} {
		refused[a] = place.Refused
	}
	s.end, err = s3.NewStore(s3.Config{Name: name, Address: s.web.URL,
		Known: place.NewKnown(place.Facts{Answers: refused}, nil)})
	require.NoError(h, err)
	require.NoError(h, s.end.(place.Buckets).MakeBucket(ctx, "archive"))
	s.real, err = s.end.Open("archive")
	require.NoError(h, err)
	return s
}

func (h *drawnHistory) begin() {
	require.NoError(h, os.MkdirAll(filepath.Join(h.dir, "work/jobs"), 0o755))
	h.rotten, h.doubted, h.owed = map[string]bool{}, map[string]bool{}, map[string]bool{}
	h.east, h.west = h.store("east"), h.store("west")
	text := "source = \"east/archive\"\ntarget = \"west/archive\"\nread-twice = true\n"
	switch rapid.SampledFrom([]string{"keep", "keep", "mirror", "move", "two-way", "two-way"}).Draw(h.T, "job") {
	case "mirror":
		text += "target-only = \"delete\"\n"
	case "move":
		h.moves = true
		text = strings.Replace(text, "read-twice = true\n", "afterwards = \"delete\"\n", 1)
	case "two-way":
		h.twoWay = true
		h.conflicts = rapid.SampledFrom([]string{"keep-both", "newer", "source", "target"}).Draw(h.T, "conflicts")
		text += "direction = \"two-way\"\nconflicts = \"" + h.conflicts + "\"\n"
	}
	text += "[safety]\nempty-source = false\ndeletions = 1000000\ndeletion-share = 100\nshrink = 100\ndrift = 100\n"
	h.file("jobs/tide.toml", text)
	h.file("endpoints.toml", fmt.Sprintf("[endpoint.east]\nkind = \"s3\"\naddress = %q\n"+
		"[endpoint.west]\nkind = \"s3\"\naddress = %q\n", h.east.web.URL, h.west.web.URL))
	h.open()
}

func (h *drawnHistory) file(name, text string) {
	require.NoError(h, os.WriteFile(filepath.Join(h.dir, "work", name), []byte(text), 0o600))
}

func (h *drawnHistory) open() {
	s, err := service.Open(workspace.Options{Workspace: filepath.Join(h.dir, "work"),
		State: filepath.Join(h.dir, "state"), Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	require.NoError(h, err)
	h.service = s
}

func (h *drawnHistory) close() {
	if h.service != nil {
		h.service.Close()
	}
	for _, s := range []*drawnStore{h.east, h.west} {
		if s != nil && s.web != nil {
			s.end.Close()
			s.web.CloseClientConnections()
			s.web.Close()
			s.server.Close()
		}
	}
	os.RemoveAll(h.dir)
}

// trouble sets faults on the lines, or takes them away.
func (h *drawnHistory) trouble(on bool) {
	var set []standin.Fault
	if on {
		for _, do := range []string{"500", "503", "reset-before", "reset-after", "short"} {
			set = append(set, standin.Fault{Do: do, Chance: 0.03})
		}
		for _, op := range []string{"PutObject", "GetObject"} {
			set = append(set, standin.Fault{Do: "corrupt", Op: op, Chance: 0.08})
		}
	}
	h.faults = set
	h.east.server.SetFaults(set...)
	h.west.server.SetFaults(set...)
}

func (h *drawnHistory) step() {
	switch rapid.SampledFrom([]string{"meddle", "meddle", "meddle", "run", "run", "killed", "prove", "rot", "cut",
		"dated"}).Draw(h.T, "step") {
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

// contents are what a side really holds.
func (h *drawnHistory) contents(s *drawnStore) map[string]string {
	s.server.SetFaults() // they are of the lines, and this looks at the store
	defer func() { s.server.SetFaults(h.faults...) }()
	all := map[string]string{}
	for e, err := range s.real.List(ctx, "", place.ListOptions{}) {
		require.NoError(h, err)
		if strings.HasPrefix(e.Key, "lumtra-probe-") {
			continue
		}
		r, _, err := s.real.Read(ctx, e.Key, place.ReadOptions{})
		require.NoError(h, err)
		var text bytes.Buffer
		_, err = io.Copy(&text, r)
		r.Close()
		if place.KindOf(err) != place.Corrupt { // which is told at the end, when all is read
			require.NoError(h, err)
		}
		all[e.Key] = text.String()
	}
	return all
}

// meddle writes and deletes at both sides, mostly contents of one size.
func (h *drawnHistory) meddle() {
	for i, s := range []*drawnStore{h.east, h.west} {
		if i == 1 && !h.twoWay && rapid.Bool().Draw(h.T, "leave the target") {
			continue
		}
		for range rapid.IntRange(0, 3).Draw(h.T, "changes") {
			key := rapid.SampledFrom([]string{"a", "b", "c/d", "c/e", "f"}).Draw(h.T, "key")
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
	keys := slices.Sorted(maps.Keys(there))
	if len(keys) == 0 || h.twoWay {
		return
	}
	key := rapid.SampledFrom(keys).Draw(h.T, "rotten")
	text := []byte(there[key])
	bad := bytes.Clone(text)
	bad[len(bad)-1] ^= 1
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

// stateFiles are what a job's state consists of.
func (h *drawnHistory) stateFiles() (all []string) {
	filepath.WalkDir(filepath.Join(h.dir, "state/jobs"), func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			all = append(all, path)
		}
		return nil
	})
	return all
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
	different := map[string]bool{}
	for _, l := range lines {
		different[l.Key] = l.Verdict == proof.Different
		if l.Verdict == proof.Different {
			require.NotEqual(h, here[l.Key], there[l.Key], "%q is the same", l.Key)
			h.doubted[l.Key] = true
		}
	}
	if method != compare.ByReadBack {
		return
	}
	for key, text := range here {
		if other, both := there[key]; both && other != text {
			require.True(h, different[key], "%q differs, and a proof by reading did not see it", key)
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
	require.Empty(h, h.doubted)
	if !h.moves {
		here, there := h.contents(h.east), h.contents(h.west)
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
