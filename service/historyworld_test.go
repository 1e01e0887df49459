package service_test

import (
	"bytes"
	"crypto/sha256"
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

	"log/slog"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/place"
	"lumtra/core/place/s3"
	"lumtra/service"
	"lumtra/service/workspace"
	"lumtra/standin"
)

// drawnHistory is a job over two stores, and all that is known of them past it.
type drawnHistory struct {
	*rapid.T
	dir       string
	done      *tally
	east      *drawnStore
	west      *drawnStore
	service   *service.Service
	twoWay    bool
	moves     bool
	conflicts string
	writes    int
	// rotten are the keys at the target whose content went bad on the disk, and was not written since.
	rotten map[string]bool
	// doubted are the keys that a proof has found different: each later plan offers to mend them.
	doubted map[string]bool
	// faults are those of the lines.
	faults []standin.Fault
	// keys are the names that are written to.
	keys []string
}

// large is the name of an object that goes in parts.
const large = "g/whale"

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

// tally counts what was tried.
type tally struct {
	mu  sync.Mutex
	all map[string]int
}

func (c *tally) count(what string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.all == nil {
		c.all = map[string]int{}
	}
	c.all[what]++
}

// String is "3 × killed, 9 × run".
func (c *tally) String() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	var parts []string
	for _, what := range slices.Sorted(maps.Keys(c.all)) {
		parts = append(parts, fmt.Sprintf("%d × %s", c.all[what], what))
	}
	return strings.Join(parts, ", ")
}

func (h *drawnHistory) begin() {
	h.done.count("history")
	require.NoError(h, os.MkdirAll(filepath.Join(h.dir, "work/jobs"), 0o755))
	h.rotten, h.doubted = map[string]bool{}, map[string]bool{}
	h.keys = []string{"a", "b", "c/d", "c/e", "f"}
	if rapid.IntRange(0, 11).Draw(h.T, "large") == 11 {
		h.keys = append(h.keys, large, large)
		h.done.count("history with large objects")
	}
	h.east, h.west = h.store("east"), h.store("west")
	text := "source = \"east/archive\"\ntarget = \"west/archive\"\nread-twice = true\n"
	kind := rapid.SampledFrom([]string{"keep", "keep", "mirror", "move", "two-way", "two-way"}).Draw(h.T, "job")
	h.done.count("job: " + kind)
	switch kind {
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
	text += "[limits]\npart-size = \"5MiB\"\n[safety]\nempty-source = false\ndeletions = 1000000\n" +
		"deletion-share = 100\nshrink = 100\ndrift = 100\n"
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
		for _, op := range []string{"PutObject", "GetObject", "CreateMultipartUpload", "UploadPart"} {
			set = append(set, standin.Fault{Do: "corrupt", Op: op, Chance: 0.08})
		}
	}
	h.faults = set
	h.east.server.SetFaults(set...)
	h.west.server.SetFaults(set...)
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
		all[e.Key] = inShort(text.String())
	}
	return all
}

// inShort stands for a content.
func inShort(text string) string {
	if len(text) < 1000 {
		return text
	}
	return fmt.Sprintf("%s… %d bytes, SHA-256 %x", text[:16], len(text), sha256.Sum256([]byte(text)))
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
