package service_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/compare"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/proof"
	"lumtra/service"
	"lumtra/service/workroom"
)

// kept is a job between two folders that has run, with one copy gone bad on the disk: its size and its time are
// what they were.
func kept(t *testing.T) (dir string, s *service.Service) {
	dir = t.TempDir()
	put(t, dir, "endpoints.toml",
		"[endpoint.east]\nkind = \"folder\"\npath = \"east\"\n[endpoint.west]\nkind = \"folder\"\npath = \"west\"\n")
	put(t, dir, "jobs/masters.toml", "source = \"east\"\ntarget = \"west\"\n")
	for _, name := range []string{"a.wav", "b.wav", "c.wav"} {
		put(t, dir, "east/"+name, "as it was recorded")
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "west"), 0o755))
	s = open(t, dir)
	run(t, s, "masters", workroom.Freshness{})
	spoil(t, dir, "b.wav", "as it was recordeD")
	return dir, s
}

func spoil(t *testing.T, dir, name, text string) {
	path := filepath.Join(dir, "west", name)
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	require.NoError(t, os.Chtimes(path, info.ModTime(), info.ModTime()))
}

func prove(t *testing.T, s *service.Service, m compare.Method) *workroom.Proof {
	p, err := s.Prove(ctx, "masters", workroom.ProveOptions{Method: m}, &workroom.Activity{})
	require.NoError(t, err)
	return p
}

// offers plans, and tells why b.wav is sent again; "" if it is not.
func offers(t *testing.T, s *service.Service) string {
	info := makePlan(t, s)
	p, err := s.PlanNumber("masters", info.Number)
	require.NoError(t, err)
	defer p.Close()
	c := p.Effects("b.wav")
	require.True(t, c.Next())
	if c.Effect().Kind != plan.Change {
		return ""
	}
	return c.Effect().Why()
}

// After a proof that found a difference each later plan offers to mend it, until it was sent again or a later proof
// that looks as closely says that it is the same: whatever becomes of the files of the state meanwhile.
func TestDoubtsStay(t *testing.T) {
	state := func(dir, name string) string { return filepath.Join(dir, "state/jobs/masters", name) }
	cut := func(t *testing.T, path string) {
		info, err := os.Stat(path)
		require.NoError(t, err)
		require.NoError(t, os.Truncate(path, info.Size()/2))
	}
	later := func(t *testing.T, path string) {
		at := time.Now().Add(time.Hour)
		require.NoError(t, os.Chtimes(path, at, at))
	}
	for name, happens := range map[string]func(t *testing.T, dir string, s *service.Service){
		"nothing": func(*testing.T, string, *service.Service) {},
		"the ledger is dated later": func(t *testing.T, dir string, _ *service.Service) {
			later(t, state(dir, "plans/0001.ledger"))
		},
		"what was agreed is dated later": func(t *testing.T, dir string, _ *service.Service) {
			later(t, state(dir, "agreed"))
		},
		"what was agreed is gone": func(t *testing.T, dir string, _ *service.Service) {
			require.NoError(t, os.Remove(state(dir, "agreed")))
		},
		"what was agreed is cut": func(t *testing.T, dir string, _ *service.Service) { cut(t, state(dir, "agreed")) },
		"the doubts are cut":     func(t *testing.T, dir string, _ *service.Service) { cut(t, state(dir, "doubts")) },
		"the doubts are gone": func(t *testing.T, dir string, _ *service.Service) {
			require.NoError(t, os.Remove(state(dir, "doubts")))
		},
		"killed before they were kept": func(t *testing.T, dir string, _ *service.Service) {
			require.NoError(t, os.Remove(state(dir, "doubts"))) // the proof is whole, and no more
			require.NoError(t, os.Remove(state(dir, "agreed")))
		},
		"a proof that looks less closely": func(t *testing.T, _ string, s *service.Service) {
			assert.Zero(t, prove(t, s, compare.BySize).Objects[proof.Different])
		},
		"plans and more plans": func(t *testing.T, _ string, s *service.Service) {
			for range 3 {
				assert.NotEmpty(t, offers(t, s))
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir, s := kept(t)
			assert.Empty(t, offers(t, s), "the listings look alike")
			assert.EqualValues(t, 1, prove(t, s, compare.ByReadBack).Objects[proof.Different])
			happens(t, dir, s)
			assert.Contains(t, offers(t, s), "differs since proof 1")
			again := prove(t, s, compare.ByReadBack)
			lines, err := proof.ReadDifferences(again.Dir, 9)
			require.NoError(t, err)
			require.Len(t, lines, 1)
			assert.Contains(t, lines[0].Why, "differs since proof 1")

			info, _ := run(t, s, "masters", workroom.Freshness{})
			assert.EqualValues(t, 1, info.Totals[plan.Change].Count)
			assert.Empty(t, offers(t, s), "it was sent again")
			assert.True(t, prove(t, s, compare.ByReadBack).Holds())
		})
	}
}

// copiedByOthers is a job that has never run, to a store where all is already, and one object is another of the same
// size.
func copiedByOthers(t *testing.T) (dir string, s *service.Service) {
	dir = t.TempDir()
	put(t, dir, "endpoints.toml", "[endpoint.east]\nkind = \"folder\"\npath = \"east\"\n"+
		"[endpoint.west]\nkind = \"s3\"\nstand-in = \"west\"\ntest = \"never\"\n")
	put(t, dir, "jobs/masters.toml", "source = \"east\"\ntarget = \"west/box\"\n")
	s = open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "west", "box"))
	there, err := s.Place(ctx, "west/box/")
	require.NoError(t, err)
	for name, text := range map[string]string{"a.wav": "flood", "b.wav": "slack", "c.wav": "neaps"} {
		put(t, dir, "east/"+name, text)
		at := time.Unix(1<<30, 0)
		require.NoError(t, os.Chtimes(filepath.Join(dir, "east", name), at, at))
		if name == "b.wav" {
			text = "ebbed"
		}
		_, err := there.Write(ctx, name, strings.NewReader(text), 5, place.WriteOptions{})
		require.NoError(t, err)
	}
	return dir, s
}

// What a plan has found by comparing contents, by wish, is not forgotten by the plans after it, which do not compare.
func TestContentsFoundStay(t *testing.T) {
	for name, happens := range map[string]func(t *testing.T, dir string){
		"nothing":             func(*testing.T, string) {},
		"the doubts are gone": func(t *testing.T, dir string) { os.Remove(filepath.Join(dir, "doubts")) },
		"all memory is gone": func(t *testing.T, dir string) {
			os.Remove(filepath.Join(dir, "doubts"))
			os.Remove(filepath.Join(dir, "agreed"))
		},
		"nothing is agreed on": func(t *testing.T, dir string) { os.Remove(filepath.Join(dir, "agreed")) },
	} {
		t.Run(name, func(t *testing.T) {
			dir, s := copiedByOthers(t)
			state := filepath.Join(dir, "state/jobs/masters")
			info, err := s.Plan(ctx, "masters", workroom.Freshness{}, &workroom.Activity{})
			require.NoError(t, err)
			assert.Positive(t, info.Later)
			assert.Empty(t, offers(t, s))
			info, err = s.Plan(ctx, "masters", workroom.Freshness{Contents: true}, &workroom.Activity{})
			require.NoError(t, err)
			assert.Zero(t, info.Later)
			assert.EqualValues(t, 1, info.Totals[plan.Change].Count)
			for range 2 {
				assert.Contains(t, offers(t, s), fmt.Sprintf("found different by plan %d", info.Number))
				happens(t, state)
			}
			run(t, s, "masters", workroom.Freshness{})
			assert.Empty(t, offers(t, s), "it was sent")
			happens(t, state)
			assert.Empty(t, offers(t, s), "it was sent")
			assert.True(t, prove(t, s, compare.ByReadBack).Holds())
		})
	}
}

// What somebody else has mended is refuted by a proof that looks as closely.
func TestDoubtsAreRefuted(t *testing.T) {
	dir, s := kept(t)
	prove(t, s, compare.ByReadBack)
	assert.NotEmpty(t, offers(t, s))
	spoil(t, dir, "b.wav", "as it was recorded")
	assert.NotEmpty(t, offers(t, s), "nobody has looked since")
	assert.True(t, prove(t, s, compare.ByReadBack).Holds())
	assert.Empty(t, offers(t, s))
}
