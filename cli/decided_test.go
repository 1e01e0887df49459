package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Zero is a number like any other: it lets a held plan go that deletes nothing, and none that deletes something.
func TestApproveZero(t *testing.T) {
	s := newShell(t)
	s.ends(ExitHeld, "", "plan", "masters")
	s.ends(ExitBadInput, "deletes 1 object, not 0", "run", "masters", "--approve", "0")
	assert.FileExists(t, filepath.Join(s.dir, "copy/keep.txt"))
	s.put("jobs/press.toml", "source = \"studio\"\ntarget = \"copy/press\"\n[safety]\ndrift = 10\n")
	s.ends(ExitDone, "", "run", "press")
	s.put("copy/press/wet/a.wav", "somebody else's")
	s.put("studio/wet/a.wav", "tide and time")
	s.ends(ExitHeld, "--approve 0", "plan", "press")
	s.ends(ExitHeld, "", "run", "press")
	s.ends(ExitDone, "", "run", "press", "--approve", "0")
	assert.Equal(t, "tide and time", s.read("copy/press/wet/a.wav"))
	s.ends(ExitHeld, "it is 2 things now, not 0", "delete", "copy/press/wet/", "--approve", "0")
}

// A plan ends well only if it is all of what the job is about: what is blocked is told by its code, though there
// is nothing else to do.
func TestPlanWithWhatIsBlocked(t *testing.T) {
	s := newShell(t)
	s.put("jobs/press.toml", "source = \"studio\"\ntarget = \"copy/press\"\n")
	s.ends(ExitDone, "", "run", "press")
	s.ends(ExitNothing, "", "plan", "press")
	s.put("copy/press/dry", "a file")
	s.put("studio/dry/c.wav", "three")
	s.ends(ExitFailures, "blocked", "plan", "press")
	s.ends(ExitFailures, "", "plan", "press", "--number", "3")
}

// An export takes the place of a file that was there, longer or not, and one that cannot be made leaves it.
func TestExportsOverLongerFiles(t *testing.T) {
	s := newShell(t)
	s.put("jobs/masters.toml", "source = \"studio\"\ntarget = \"copy\"\n")
	s.ends(ExitDone, "holds", "run", "masters", "--prove")
	s.ends(ExitNothing, "", "plan", "masters")
	s.put("studio/wet/a.wav", "changed")
	for name, args := range map[string][]string{
		"plan":  {"export", "plan", "masters", "--to"},
		"run":   {"export", "run", "masters", "--to"},
		"plan2": {"plan", "masters", "--number", "1", "--export"},
	} {
		for _, form := range []string{"csv", "jsonl", "svg"} {
			fresh, over := name+"-fresh."+form, name+"-over."+form
			s.put(over, strings.Repeat("what was there before\n", 20_000))
			_, said := s.run(append(args, filepath.Join(s.dir, fresh))...)
			require.Contains(t, said, "Written to")
			_, said = s.run(append(args, filepath.Join(s.dir, over))...)
			require.Contains(t, said, "Written to")
			assert.Equal(t, s.read(fresh), s.read(over), "%s as %s", name, form)
		}
		s.ends(ExitBadInput, "", append(args, filepath.Join(s.dir, "no such folder", "x.csv"))...)
	}
}

func (s *shell) read(name string) string {
	raw, err := os.ReadFile(filepath.Join(s.dir, name))
	require.NoError(s.t, err)
	return string(raw)
}

// What counts as the same by size and a later time alone is told, with the command that has the contents decide.
func TestContentsDecide(t *testing.T) {
	s := shore(t)
	s.put("jobs/press.toml", "source = \"studio\"\ntarget = \"north/press\"\n")
	s.ends(ExitDone, "", "bucket", "make", "north/press")
	s.ends(ExitDone, "", "put", filepath.Join(s.dir, "studio/wet/a.wav"), "north/press/wet/a.wav")
	s.put("studio/wet/a.wav", strings.Repeat("x", len(s.read("studio/wet/a.wav"))))
	before := time.Unix(1<<30, 0)
	require.NoError(t, os.Chtimes(filepath.Join(s.dir, "studio/wet/a.wav"), before, before))
	_, said := s.run("plan", "press")
	assert.Contains(t, said, "1 object counts as the same by size and a later time alone")
	assert.Contains(t, said, "`lumtra plan press --contents`")
	_, said = s.run("plan", "press", "--contents", "--export", "-")
	assert.NotContains(t, said, "a later time alone")
	assert.Contains(t, said, "same size, different content")
	s.ends(ExitDone, "", "run", "press")
	_, said = s.run("plan", "press")
	assert.NotContains(t, said, "a later time alone")
}
