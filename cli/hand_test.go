package cli

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/testkit"
)

var update = flag.Bool("update", false, "write docs/json.md anew")

// shore is a shell with a store that keeps versions, and a job into it.
func shore(t *testing.T) *shell {
	s := newShell(t)
	s.put("endpoints.toml", `[endpoint.studio]
kind = "folder"
path = "studio"
[endpoint.copy]
kind = "folder"
path = "copy"
[endpoint.north]
kind = "s3"
stand-in = "north"
`)
	return s
}

// One-off work goes by a plan, the guards and typed numbers, and says what it did.
func TestByHand(t *testing.T) {
	s := shore(t)
	takes := filepath.Join(s.dir, "field")
	s.put("field/a.wav", "one")
	s.put("field/sub/b.wav", "two")
	s.put("field/notes.txt", "three")
	s.ends(ExitDone, "Made north/box", "bucket", "make", "north/box")
	s.ends(ExitDone, "is on", "bucket", "versioning", "north/box", "on")
	s.ends(ExitDone, "is on", "bucket", "versioning", "north/box")
	s.ends(ExitBadInput, "it is on or off", "bucket", "versioning", "north/box", "maybe")

	// what lands where
	s.ends(ExitDone, "lands as north/box/in/field/", "put", takes, "north/box/in/", "--matching", "**/*.wav")
	said := s.ends(ExitDone, "in/field/sub/b.wav", "list", "north/box", "--deep")
	assert.NotContains(t, said, "notes.txt", "the pattern does not match it")
	s.ends(ExitNothing, "matches nothing", "put", takes, "north/box/in/", "--matching", "*.zip")
	s.ends(ExitDone, "lands as north/box/n.txt", "put", filepath.Join(takes, "notes.txt"), "north/box/n.txt")
	s.ends(ExitDone, "lands as north/box/in/notes.txt", "put", filepath.Join(takes, "notes.txt"), "north/box/in")
	s.ends(ExitBadInput, `end it with "/"`, "put", takes, filepath.Join(takes, "a.wav"), "north/box/new")
	s.ends(ExitBadInput, "whole endpoint", "put", takes, "north")
	s.ends(ExitNothing, "no file or folder", "put", filepath.Join(takes, "gone"), "north/box/")

	// nothing that is other is replaced unseen
	s.put("field/notes.txt", "four and more")
	said = s.ends(ExitHeld, "1 object is at the target already", "put", filepath.Join(takes, "notes.txt"),
		"north/box/n.txt")
	assert.Contains(t, said, "--when-different replace")
	s.ends(ExitDone, "three", "get", "north/box/n.txt", "-")
	s.ends(ExitDone, "holds", "put", filepath.Join(takes, "notes.txt"), "north/box/n.txt", "--when-different",
		"replace",
		"--prove")
	s.ends(ExitDone, "four and more", "get", "north/box/n.txt", "-")
	past := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(takes, "notes.txt"), past, past))
	s.ends(ExitNothing, "Nothing to do", "put", filepath.Join(takes, "notes.txt"), "north/box/n.txt")
	s.ends(ExitDone, "", "put", filepath.Join(takes, "notes.txt"), "north/box/n.txt", "--unchanged-ok")

	// back, across and on
	out := filepath.Join(s.dir, "out")
	s.ends(ExitDone, "", "get", "north/box/in/", out+"/")
	for _, name := range []string{"in/field/a.wav", "in/field/sub/b.wav", "in/notes.txt"} {
		assert.FileExists(t, filepath.Join(out, name))
	}
	s.ends(ExitBadInput, "is a folder; write north/box/in/", "get", "north/box/in", out)
	s.ends(ExitNothing, "othing lies at north/box/nowhere", "get", "north/box/nowhere", out)
	s.ends(ExitDone, "", "copy", "north/box/in/field/", "copy/there/")
	assert.FileExists(t, filepath.Join(s.dir, "copy/there/field/sub/b.wav"))
	s.ends(ExitDone, "is deleted at the source", "move", "north/box/in/field/a.wav", "north/box/moved.wav")
	s.ends(ExitDone, "a delete marker", "info", "north/box/in/field/a.wav")
	s.ends(ExitDone, "size           3 B", "info", "north/box/moved.wav")
	s.ends(ExitBadInput, "lies there already", "copy", "north/box/moved.wav", "north/box/")
	s.ends(ExitBadInput, "inside itself", "copy", "north/box/in/", "north/box/in/field/")
	s.ends(ExitDone, "add", "copy", "north/box/in/", "copy/planned/", "--plan-only")
	assert.NoDirExists(t, filepath.Join(s.dir, "copy/planned"))

	// tags, metadata, links, versions
	s.ends(ExitDone, "Changed: 1 object", "tags", "north/box/n.txt", "--set", "season=spring", "--set", "x=y")
	s.ends(ExitDone, "Changed: 1 object", "tags", "north/box/n.txt", "--drop", "x")
	assert.Equal(t, "season=spring\n", s.ends(ExitDone, "", "tags", "north/box/n.txt"))
	s.ends(ExitHeld, "--approve 2", "metadata", "north/box/in/", "--set", "place=creek")
	s.ends(ExitDone, "Changed: 2 objects", "metadata", "north/box/in/", "--set", "place=creek", "--approve", "2")
	s.ends(ExitDone, "place=creek", "metadata", "north/box/in/notes.txt")
	s.ends(ExitBadInput, "NAME=VALUE", "tags", "north/box/n.txt", "--set", "season")
	s.ends(ExitDone, "X-Amz-Signature", "link", "north/box/n.txt", "--valid", "1h")
	versions := s.ends(ExitDone, "current", "versions", "list", "north/box/n.txt")
	lines := strings.Split(strings.TrimSpace(versions), "\n")
	oldest := strings.Fields(lines[len(lines)-1])[0]
	s.ends(ExitDone, "is again as it was", "versions", "back", "north/box/n.txt", oldest)
	s.ends(ExitDone, "three", "get", "north/box/n.txt", "-")
	s.ends(ExitBadInput, "has no version", "versions", "back", "north/box/n.txt", "none")
	s.ends(ExitHeld, "--approve 1", "versions", "delete", "north/box/n.txt", oldest)
	s.ends(ExitDone, "Deleted", "versions", "delete", "north/box/n.txt", oldest, "--approve", "1")

	// removing and bringing back
	s.ends(ExitNothing, "*.zip matches nothing below north/box", "delete", "north/box", "--matching", "*.zip")
	s.ends(ExitBadInput, "lumtra bucket --help", "delete", "north/box")
	s.ends(ExitHeld, "2 objects", "delete", "north/box/in/")
	s.ends(ExitHeld, "it is 2 things now, not 9", "delete", "north/box/in/", "--approve", "9")
	s.ends(ExitDone, "in/notes.txt", "list", "north/box", "--deep")
	s.ends(ExitDone, "Deleted: 2 objects", "delete", "north/box/in/", "--approve", "2")
	s.ends(ExitNothing, "", "list", "north/box/in")
	s.ends(ExitDone, "Brought back: 2", "undelete", "north/box/in/notes.txt", "north/box/in/field/sub/b.wav")
	s.ends(ExitDone, "in/notes.txt", "list", "north/box", "--deep")
	s.ends(ExitNothing, "othing lies at", "delete", "north/box/in/gone.wav")
	s.ends(ExitNothing, "No unfinished uploads", "uploads", "list", "north/box")

	// the bucket itself
	s.ends(ExitDone, "owner=archive", "bucket", "tags", "north/box", "--set", "owner=archive")
	s.ends(ExitDone, "owner=archive", "bucket", "tags", "north/box")
	s.ends(ExitDone, "only who is granted access", "bucket", "access", "north/box")
	s.ends(ExitHeld, "to everybody", "bucket", "access", "north/box", "--public", "read")
	s.ends(ExitBadInput, `"no", "read" or "list"`, "bucket", "access", "north/box", "--public", "write")
	s.ends(ExitDone, "blocked", "bucket", "access", "north/box", "--public", "no")
	said = s.ends(ExitHeld, "permanently", "bucket", "delete", "north/box")
	number := regexp.MustCompile(`--approve (\d+)`).FindStringSubmatch(said)[1]
	s.ends(ExitDone, "Deleted the bucket", "bucket", "delete", "north/box", "--approve", number)
	assert.NotContains(t, s.ends(ExitDone, "", "list", "north"), "box")
}

// After every stop the command that goes on is told, in a form that a shell takes and with
// the workspace it is about.
func TestNextCommand(t *testing.T) {
	s := newShell(t)
	s.put("copy/keep.txt", "x")
	said := s.ends(ExitHeld, "next:", "plan", "masters")
	line := said[strings.LastIndex(said, "lumtra run"):]
	assert.Contains(t, line, "lumtra run masters --plan 1 --approve 1 --workspace '"+s.dir+"'")
	words := strings.Fields(line)
	s.ends(ExitDone, "lumtra prove masters", words[1:7]...)
	s.ends(ExitNothing, "lumtra prove masters", "run", "masters")
	s.put("copy/wet/a.wav", "other")
	s.ends(ExitFailures, "lumtra run masters --fresh", "prove", "masters", "--by", "read-back")
}

// Where there is nothing to do, what --prove finds is told, and decides how the command ends.
func TestNothingToDoIsProved(t *testing.T) {
	s := newShell(t)
	s.put("jobs/masters.toml", "source = \"studio\"\ntarget = \"copy\"\n")
	s.ends(ExitDone, "holds", "run", "masters", "--prove")
	s.ends(ExitNothing, "Proof 2 of masters by stored-checksum: holds", "run", "masters", "--prove")
	path := filepath.Join(s.dir, "copy/wet/a.wav")
	was, err := os.ReadFile(path)
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	s.put("copy/wet/a.wav", strings.Repeat("x", len(was))) // as long, and as old
	require.NoError(t, os.Chtimes(path, info.ModTime(), info.ModTime()))
	s.ends(ExitFailures, "DOES NOT HOLD", "run", "masters", "--prove")
	s.ends(ExitDone, "change ", "run", "masters", "--prove", "--unchanged-ok") // what was found is sent again
}

// What the window writes to a file a command writes, too.
func TestExports(t *testing.T) {
	s := newShell(t)
	s.ends(ExitBadInput, "has no plan yet", "export", "plan", "masters", "--to", filepath.Join(s.dir, "p.csv"))
	s.ends(ExitBadInput, "has not run yet", "export", "run", "masters", "--to", filepath.Join(s.dir, "p.csv"))
	s.ends(ExitBadInput, "was not proven yet", "export", "proof", "masters", "--to", filepath.Join(s.dir, "p.pdf"))
	s.put("jobs/masters.toml", "source = \"studio\"\ntarget = \"copy\"\n")
	s.ends(ExitDone, "holds", "run", "masters", "--prove")
	for what, forms := range map[string][]string{"plan": {"csv", "jsonl", "svg", "pdf"},
		"run": {"csv", "jsonl", "svg", "pdf"}, "proof": {"svg", "pdf"}} {
		for _, form := range forms {
			path := filepath.Join(s.dir, what+"."+form)
			s.ends(ExitDone, "Written to", "export", what, "masters", "--to", path)
			raw, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.NotEmpty(t, raw, path)
		}
		s.ends(ExitBadInput, "needs --to FILE", "export", what, "masters")
		s.ends(ExitBadInput, "whose name ends with", "export", what, "masters", "--to", "x.doc")
		s.ends(ExitBadInput, "", "export", what, "masters", "--number", "99", "--to", filepath.Join(s.dir, "x.pdf"))
	}
	s.ends(ExitDone, "failed and was not done since", "failures", "masters")
}

// Every object that failed is listed, with its tries.
func TestFailures(t *testing.T) {
	s := newShell(t)
	s.put("jobs/masters.toml", "source = \"studio\"\ntarget = \"copy\"\n")
	s.put("copy/dry", "a file where a folder has to be")
	s.put("studio/dry/c.wav", "three")
	s.ends(ExitFailures, "lumtra run masters --plan 1", "plan", "masters")
	s.put("studio/wet/a.wav", "changed since")
	said := s.ends(ExitFailures, "lumtra failures masters", "run", "masters", "--plan", "1")
	assert.NotContains(t, said, "; ;")
	said = s.ends(ExitFailures, "wet/a.wav", "failures", "masters", "--tries")
	assert.Contains(t, said, "dry/c.wav  blocked — ")
	assert.NotContains(t, said, "wet/b", "that one arrived")
	assert.Contains(t, said, "try 1")
	assert.NotContains(t, s.ends(ExitFailures, "dry/c.wav", "failures", "masters", "--cause", "blocked"), "wet/a")
	assert.NotContains(t, s.ends(ExitFailures, "wet/a", "failures", "masters", "--limit", "1"), "dry/c.wav")
}

// The background service is told of, and only one serves a workspace.
func TestNoService(t *testing.T) {
	s := newShell(t)
	s.ends(ExitNothing, "No background service", "service", "status")
	s.ends(ExitNothing, "No background service", "service", "stop")
}

// A pipe hears how far a run is in whole lines, and a program in events.
func TestProgressToAPipe(t *testing.T) {
	s := shore(t)
	for i := range 40 {
		s.put("studio/more/"+string(rune('a'+i%26))+strings.Repeat("x", i)+".wav", strings.Repeat("tide", 50_000))
	}
	s.put("endpoints.toml", "[endpoint.studio]\nkind = \"folder\"\npath = \"studio\"\n"+
		"[endpoint.north]\nkind = \"s3\"\nstand-in = \"north\"\nspeed = \"20 MB\"\n")
	s.put("jobs/masters.toml", "source = \"studio\"\ntarget = \"north/box/x\"\n")
	s.ends(ExitDone, "", "bucket", "make", "north/box")
	s.every = 20 * time.Millisecond
	said := s.ends(ExitDone, "running: ", "run", "masters")
	line := regexp.MustCompile(`running: .*`).FindString(said)
	assert.Regexp(t, `\d+ of 42 objects, .* of 7.6 MiB \(\d+ %\), .*/s`, line)
	assert.NotContains(t, said, "\r")
	s.put("jobs/masters.toml", "source = \"studio\"\ntarget = \"north/box/y\"\n")
	_, said = s.run("run", "masters", "--fresh", "--json")
	assert.Contains(t, said, `"event":"running"`)
	assert.Contains(t, said, `"of_objects":42`)
}

// What --json says is one vocabulary: each event and field that commands tell is in it, and
// docs/json.md is written from it.
func TestVocabulary(t *testing.T) {
	known := map[string]map[string]bool{}
	for _, w := range vocabulary {
		require.Nil(t, known[w.event], "%s is there twice", w.event)
		known[w.event] = map[string]bool{}
		for _, f := range strings.Fields(w.fields) {
			known[w.event][f] = true
		}
	}
	s := shore(t)
	s.every = 5 * time.Millisecond
	s.put("jobs/broken.toml", "source = 1")
	s.put("jobs/timed.toml", "source = \"studio\"\ntarget = \"copy/timed\"\n[when]\nstart = \"daily at 01:30\"\n")
	s.put("service.toml", "[notify.me]\nkind = \"command\"\ncommand = [\"true\"]\n")
	seen := map[string]bool{}
	lower := regexp.MustCompile(`^[a-z][a-z0-9_]*$`)
	for _, line := range strings.Split(vocabularySession, "\n") {
		args := strings.Fields(strings.ReplaceAll(line, "DIR", s.dir))
		if len(args) == 0 {
			continue
		}
		_, said := s.run(append(args, "--json")...)
		for _, text := range strings.Split(strings.TrimSpace(said), "\n") {
			var event map[string]any
			if text == "" {
				continue
			}
			require.NoError(t, json.Unmarshal([]byte(text), &event), "%v: %s", args, text)
			name, _ := event["event"].(string)
			seen[name] = true
			require.Contains(t, known, name, "%v", args)
			for field, value := range event {
				if field != "event" && field != "time" {
					assert.Contains(t, known[name], field, "%s of %v", name, args)
				}
				inside(value, func(k string) { assert.Regexp(t, lower, k, "in %s of %s, %v", field, name, args) })
			}
		}
	}
	for event := range known {
		if !slices.Contains(elsewhere, event) {
			assert.True(t, seen[event], "%s is told by no command here", event)
		}
	}
	const page = "../docs/json.md"
	if *update {
		require.NoError(t, os.WriteFile(page, []byte(jsonDocument()), 0o644))
	}
	written, err := os.ReadFile(page)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(written, []byte(jsonDocument())), "docs/json.md is older: -update")
}

// inside calls name with every name of a value's objects, but for those that people chose.
func inside(v any, name func(string)) {
	switch v := v.(type) {
	case map[string]any:
		for k, x := range v {
			if _, text := x.(string); !text || len(v) > 3 { // tags and the like are texts
				name(strings.ReplaceAll(k, "-", "_"))
			}
			inside(x, name)
		}
	case []any:
		for _, x := range v {
			inside(x, name)
		}
	}
}

// elsewhere are events that need a terminal, a fault, a while, or the demo.
var elsewhere = []string{"acting", "background", "building", "confirmed", "done", "failure", "kept", "listening",
	"locked", "meddled", "planned", "progress", "proved", "ran", "running", "surveyed", "upload", "warming", "resume",
	"credential", "service", "start", "message", "collision"}

const vocabularySession = `
endpoint list
endpoint add field DIR/field
endpoint test studio
endpoint delete field
job list
job show masters
job copy masters second
job set second different=skip
job delete second
job delete second --yes
bucket make north/box
bucket make north/box
pack make DIR/studio/ north/box/takes.tar
pack show north/box/takes.tar
pack manifest north/box/takes.tar
pack check north/box/takes.tar
pack rewrite north/box/takes.tar
pack extract north/box/takes.tar DIR/taken
pack sample DIR/studio/ --per-trial 1ms
folder make copy/empty/
survey masters
plan masters --effects --checks
run masters
run masters --approve 1
run masters
prove masters
plan masters --compare 1
job set masters select.include=**/*.wav
plan masters
plan nowhere
failures masters
history masters
export plan masters --to DIR/p.csv
put DIR/studio north/box/
put DIR/studio north/box/ --matching **/*.wav
list north/box --deep
info north/box/studio/wet/a.wav
tags north/box/studio/wet/a.wav --set a=b
tags north/box/studio/wet/a.wav
link north/box/studio/wet/a.wav
versions list north/box/studio/wet/a.wav
bucket versioning north/box
bucket tags north/box --set a=b
bucket access north/box
delete north/box --matching **/*.wav
delete north/box/studio/wet/a.wav --approve 1
service status
bucket delete north/box
bucket delete north/box --approve 1
run masters --plan 99
job set masters template=true
job new clash --source studio --target copy/clash
put DIR/endpoints.toml copy/clash/wet
plan clash
failures clash
tags copy/clash/wet
metadata copy/clash/wet
job list
agenda
notify list
notify confirm me
notify test me
notify sent
service install --print
service logs
`

// Cold objects are asked for by their number, at a tier of the store, and how far they are is
// told; what can be read is not asked for.
func TestRestore(t *testing.T) {
	s := shore(t)
	s.put("rates.toml", "currency = \"EUR\"\n[rates.north]\nretrieval = 4000000\n")
	for _, name := range []string{"a", "b", "c"} {
		s.put("field/"+name+".wav", "tide")
	}
	s.ends(ExitDone, "Made", "bucket", "make", "north/box")
	s.ends(ExitDone, "", "put", filepath.Join(s.dir, "field"), "north/box/in/", "--class", "GLACIER")
	s.ends(ExitDone, "", "put", filepath.Join(s.dir, "field/a.wav"), "north/box/in/warm.wav")

	s.ends(ExitNothing, "must be asked for  0 objects", "restore", "north/box/in/warm.wav")
	s.ends(ExitDone, "must be asked for  3 objects", "restore", "north/box/in/", "--status")
	s.ends(ExitBadInput, "this store has Standard, Bulk, Expedited", "restore", "north/box/in/", "--tier", "Fast")
	said := s.ends(ExitHeld, "--approve 3", "restore", "north/box/in/", "--days", "2", "--tier", "Bulk")
	assert.Contains(t, said, "costs about 0.048 EUR")
	assert.Contains(t, said, "--tier Bulk")
	said = s.ends(ExitDone, "Asked for: 3 objects", "restore", "north/box/in/", "--days", "2", "--tier", "Bulk",
		"--approve", "3")
	assert.Contains(t, said, "nothing to do for 1 other")
	said = s.ends(ExitDone, "", "restore", "north/box/in/", "--status", "--json")
	var told struct{ Archived, Restoring, Readable int }
	require.NoError(t, json.Unmarshal([]byte(said), &told), said)
	assert.Equal(t, 3, told.Restoring+told.Readable, said)
	assert.Zero(t, told.Archived)
	var code int
	testkit.Until(t, func() bool {
		code, said = s.run("restore", "north/box/in/", "--status")
		return code == ExitDone && strings.Contains(said, "can be read        3 objects")
	}, func() any { return fmt.Sprint(code, said) })
}

// A word that begins with "./" or "../" is of this machine, from the working folder on, in every command that takes
// the name of a place.
func TestRelative(t *testing.T) {
	s := shore(t)
	s.put("here/a.wav", "dawn")
	s.put("here/sub/b.wav", "dusk")
	t.Chdir(filepath.Join(s.dir, "here"))
	s.ends(ExitDone, "here/a.wav", "list", ".")
	s.ends(ExitDone, "here/sub/b.wav", "list", "./sub")
	s.ends(ExitDone, "studio/", "list", "..")
	s.ends(ExitDone, "here/a.wav lands as", "copy", "./a.wav", "./sub", "../more/")
	assert.Equal(t, "dusk", string(read(t, filepath.Join(s.dir, "more/sub/b.wav"))))
	s.ends(ExitDone, "", "copy", "../more/a.wav", "./c.wav")
	assert.Equal(t, "dawn", string(read(t, filepath.Join(s.dir, "here/c.wav"))))
	s.ends(ExitDone, "4 B", "info", "./c.wav")
	said := s.ends(ExitDone, filepath.Join(s.dir, "here/c.wav")+"\n", "list", "./c.wav")
	assert.Contains(t, said, "  /", "it can be pasted")
	s.ends(ExitHeld, "--approve 2", "delete", "../more/")
	s.ends(ExitDone, "Deleted", "delete", "./c.wav", "--approve", "1")
	assert.NoFileExists(t, filepath.Join(s.dir, "here/c.wav"))
	s.ends(ExitNothing, "none", "list", "./none")
	s.ends(ExitBadInput, "begins with \"/\"", "list", "~/here")
}
