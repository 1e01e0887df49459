package cli

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// A pack is made, added to, looked into, dropped from, written anew, checked and taken out, all by hand;
// what is no pack is told as that.
func TestPacks(t *testing.T) {
	s := shore(t)
	s.put("field/a.wav", "dawn")
	s.put("field/sub/b.wav", "dusk")
	require.NoError(t, os.Symlink("a.wav", filepath.Join(s.dir, "field/link")))
	require.NoError(t, os.MkdirAll(filepath.Join(s.dir, "field/empty"), 0o700))
	field := filepath.Join(s.dir, "field") + "/"
	t.Setenv("TMPDIR", filepath.Join(s.dir, "none")) // nothing is put where it might be memory, or small
	s.ends(ExitDone, "", "bucket", "make", "north/box")
	s.ends(ExitDone, "2 objects", "pack", "make", field, "north/box/takes.tar.zst")
	s.ends(ExitDone, "north/box/takes.tar.zst: 6 members, 8 B", "pack", "show", "north/box/takes.tar.zst")
	said := s.ends(ExitDone, "takes.tar.zst", "list", "north/box")
	assert.NotContains(t, said, "a.wav")
	s.ends(ExitDone, "field/sub/b.wav", "list", "north/box/takes.tar.zst!", "--deep")
	s.ends(ExitDone, "sha256:", "info", "north/box/takes.tar.zst!/field/a.wav")
	s.ends(ExitDone, "dusk", "get", "north/box/takes.tar.zst!/field/sub/b.wav", "-")
	s.ends(ExitNothing, "", "pack", "make", field, "north/box/takes.tar.zst")
	s.put("field/a.wav", "noon")
	s.put("field/c.wav", "ebb")
	s.ends(ExitHeld, "--when-different", "pack", "make", field, "north/box/takes.tar.zst")
	s.ends(ExitDone, "", "pack", "make", field, "north/box/takes.tar.zst", "--when-different", "replace")
	s.ends(ExitHeld, "--approve 1", "delete", "north/box/takes.tar.zst!/field/sub/b.wav")
	s.ends(ExitDone, "Deleted", "delete", "north/box/takes.tar.zst!/field/sub/b.wav", "--approve", "1")
	s.ends(ExitDone, "dropped or with a newer version: 2 members, 8 B", "pack", "show", "north/box/takes.tar.zst")
	s.ends(ExitDone, "Written anew", "pack", "rewrite", "north/box/takes.tar.zst")
	said = s.ends(ExitDone, "6 members, 7 B", "pack", "show", "north/box/takes.tar.zst")
	assert.NotContains(t, said, "dropped")
	s.ends(ExitDone, "2 members are as they were packed, 0 are not", "pack", "check", "north/box/takes.tar.zst")

	to := filepath.Join(s.dir, "out")
	s.ends(ExitDone, "Taken out: 2 files, 3 folders, 1 link", "pack", "extract", "north/box/takes.tar.zst", to)
	raw, err := os.ReadFile(filepath.Join(to, "field/link"))
	require.NoError(t, err)
	assert.Equal(t, "noon", string(raw))
	assert.DirExists(t, filepath.Join(to, "field/empty"))
	s.ends(ExitFailures, "something is there already", "pack", "extract", "north/box/takes.tar.zst", to)
	s.ends(ExitDone, "", "pack", "extract", "north/box/takes.tar.zst", to, "--replace")
	sums := s.ends(ExitDone, "field/a.wav", "pack", "manifest", "north/box/takes.tar.zst")
	check := exec.Command("sha256sum", "--strict", "-c", "-")
	check.Dir, check.Stdin = to, strings.NewReader(sums)
	told, err := check.CombinedOutput()
	assert.NoError(t, err, "%s", told)

	s.ends(ExitDone, "3 files", "pack", "sample", field, "--line", "1 MB/s", "--per-trial", "1ms")
	s.ends(ExitBadInput, "--line", "pack", "sample", field, "--line", "fast")
	s.put("rates.toml", "currency = \"EUR\"\n[rates.north]\nwrites = 5\nstorage = 1\n")
	drawn := filepath.Join(s.dir, "field.svg")
	said = s.ends(ExitDone, "As they are: at least 3 requests that write, 0.015 EUR once", "pack", "sample", field,
		"--to",
		"north",
		"--per-trial", "1ms", "--export", drawn)
	assert.Contains(t, said, "1  0.005 EUR once")
	assert.Contains(t, string(read(t, drawn)), "Packed: ")
	s.ends(ExitBadInput, "not \".doc\"", "pack", "sample", field, "--export", "x.doc")
	s.ends(ExitBadInput, "no endpoint \"nort\"; did you mean", "pack", "sample", field, "--to", "nort")
	s.ends(ExitDone, "", "pack", "make", field, "north/box/hard.tar.zst", "--level", "9")
	s.ends(ExitBadInput, "level is 99", "pack", "make", field, "north/box/hard.tar.zst", "--level", "99")
	s.ends(ExitBadInput, "no name of a pack", "pack", "make", field, "north/box/takes.zip")
	s.ends(ExitBadInput, "is no pack", "pack", "show", "north/box/takes.zip")
	s.ends(ExitCannot, "not found", "pack", "show", "north/box/nothing.tar")

	foreign := filepath.Join(s.dir, "foreign.tar.gz")
	out, err := exec.Command("tar", "-czf", foreign, "-C", field, ".").CombinedOutput()
	require.NoError(t, err, "%s", out)
	s.ends(ExitDone, "it has no index", "pack", "show", foreign)
	s.ends(ExitDone, "", "pack", "rewrite", foreign)
	said = s.ends(ExitDone, "6 members", "pack", "show", foreign)
	assert.NotContains(t, said, "no index")
	at := strings.LastIndex(string(read(t, foreign)), "noon")
	assert.Negative(t, at, "it is compressed")
	bad := read(t, foreign)
	bad[20] ^= 1
	require.NoError(t, os.WriteFile(foreign, bad, 0o644))
	s.ends(ExitFailures, "damaged: a.wav", "pack", "check", foreign)
}

// Several packs are made, told of, read, mirrored by a job, and taken out under one name.
func TestSeveralPacks(t *testing.T) {
	s := shore(t)
	for i := range 20 {
		s.put(fmt.Sprintf("field/%d/take.wav", i%3), "dawn")
		s.put(fmt.Sprintf("field/%d/%d.json", i%3, i), strings.Repeat("{} ", i+1))
	}
	s.put("field/large.wav", strings.Repeat("large", 1000))
	s.ends(ExitDone, "", "bucket", "make", "north/box")
	s.put("jobs/field.toml", "source = \""+s.dir+"/field\"\ntarget = \"north/box/field/*.tar.zst!\"\n"+
		"target-only = \"delete\"\n[packs]\nby = \"folder\"\nunder = \"2kB\"\n")
	s.ends(ExitDone, "", "run", "field")
	s.ends(ExitBadInput, `several packs in a folder are "*.tar.zst!"`, "pack", "make", "studio/",
		"north/box/a*.tar.zst")
	s.ends(ExitNothing, "--matching", "delete", "north/box/field/0.tar.zst!/*.json")
	said := s.ends(ExitDone, "field/large.wav", "list", "north/box", "--deep")
	for _, name := range []string{"field/0.tar.zst", "field/1.tar.zst", "field/2.tar.zst"} {
		assert.Contains(t, said, name)
	}
	assert.NotContains(t, said, ".json")
	const all = "north/box/field/*.tar.zst!"
	said = s.ends(ExitDone, "1/4.json", "list", all, "--deep")
	assert.Contains(t, said, "large.wav")
	assert.NotContains(t, said, ".tar")
	s.ends(ExitDone, "dawn", "get", all+"/2/take.wav", "-")
	s.ends(ExitDone, "field/1.tar.zst!: 9 members", "pack", "show", all)
	s.ends(ExitNothing, "", "run", "field")
	require.NoError(t, os.RemoveAll(filepath.Join(s.dir, "field/1")))
	s.ends(ExitDone, "", "run", "field", "--approve", "8")
	assert.NotContains(t, s.ends(ExitDone, "0/take.wav", "list", all, "--deep"), "1/")
	s.ends(ExitDone, "holds", "prove", "field")
	s.ends(ExitDone, "Written anew", "pack", "rewrite", all)
	s.ends(ExitDone, "2.tar.zst!: 7 members are as they were packed", "pack", "check", all)
	to := filepath.Join(s.dir, "out")
	s.ends(ExitDone, "Taken out: 15 files", "pack", "extract", all, to)
	assert.FileExists(t, filepath.Join(to, "0/take.wav"))
	s.ends(ExitDone, "", "copy", all, to+"2/")
	assert.FileExists(t, filepath.Join(to+"2", "field/large.wav"))

	field := filepath.Join(s.dir, "field") + "/"
	s.ends(ExitDone, "", "copy", all, "north/box/copied/")
	assert.Regexp(t, `(?s)0/take.wav.*large.wav`, s.ends(ExitDone, "", "list", "north/box/copied/", "--deep"))
	s.ends(ExitDone, "sha256:", "info", all+"/2/take.wav")
	s.ends(ExitDone, "Deleted", "delete", all+"/2/take.wav", "--approve", "1")
	s.ends(ExitDone, "Deleted", "delete", all+"/large.wav", "--approve", "1")
	said = s.ends(ExitDone, "", "list", all, "--deep")
	assert.NotContains(t, said, "2/take.wav")
	assert.NotContains(t, said, "large.wav")
	s.put("moved/0/new.wav", "tide")
	s.put("jobs/moved.toml", "source = \""+s.dir+"/moved\"\ntarget = \"north/box/field/*.tar.zst!\"\n"+
		"afterwards = \"delete\"\n[packs]\nby = \"folder\"\n")
	s.ends(ExitDone, "", "run", "moved")
	assert.NoFileExists(t, filepath.Join(s.dir, "moved/0/new.wav"))
	s.ends(ExitDone, "tide", "get", all+"/0/new.wav", "-")
	s.ends(ExitDone, "", "pack", "make", field, "north/box/again/*.tar", "--at-most", "20kB")
	s.ends(ExitDone, "0002.tar!", "pack", "show", "north/box/again/*.tar!")
	s.ends(ExitBadInput, "it is a size", "pack", "make", field, "north/box/again/*.tar", "--at-most", "much")
	s.ends(ExitBadInput, "for several packs: call them north/box/*.tar.zst", "pack", "make", field,
		"north/box/one.tar", "--each-folder")
	s.ends(ExitCannot, "not found", "pack", "show", "north/box/none/*.tar!")
	s.put("jobs/field.toml", "source = \""+s.dir+"/field\"\ntarget = \"north/*.tar.zst!\"\n")
	s.ends(ExitBadInput, "names no bucket", "plan", "field")
}

// Older versions of members, and dropped ones, are in the pack until it is written anew: they are listed, read
// and made the current ones again, and nothing of them is sent.
func TestVersionsInPacks(t *testing.T) {
	s := shore(t)
	s.ends(ExitDone, "", "bucket", "make", "north/box")
	field := filepath.Join(s.dir, "field") + "/"
	const at = "north/box/takes.tar.zst"
	for _, text := range []string{"dawn", "noon", "evening"} {
		s.put("field/a.wav", text)
		s.put("field/sub/b.wav", "tide")
		s.ends(ExitDone, "", "pack", "make", field, at, "--when-different", "replace")
	}
	said := s.ends(ExitDone, "current", "versions", "list", at+"!/field/a.wav")
	assert.Regexp(t, `(?s)^2 .*7 B  current\n1 .*4 B.*\n0 .*4 B`, said)
	s.ends(ExitDone, "is again as it was", "versions", "back", at+"!/field/a.wav", "0")
	s.ends(ExitDone, "dawn", "get", at+"!/field/a.wav", "-")
	s.ends(ExitDone, "Deleted", "delete", at+"!/field/sub/b.wav", "--approve", "1")
	s.ends(ExitDone, "delete marker", "versions", "list", at+"!/field/sub/b.wav")
	s.ends(ExitDone, "b.wav", "list", at+"!", "--deep", "--deleted")
	s.ends(ExitDone, "1", "undelete", at+"!/field/sub/b.wav")
	s.ends(ExitDone, "tide", "get", at+"!/field/sub/b.wav", "-")
	s.ends(ExitDone, "dropped or with a newer version: 4 members, 19 B", "pack", "show", at)
	s.ends(ExitCannot, "stays until the pack is written anew", "versions", "delete", at+"!/field/a.wav", "1",
		"--approve", "1")
	s.ends(ExitDone, "2 members are", "pack", "check", at)
	s.ends(ExitDone, "Written anew", "pack", "rewrite", at)
	s.ends(ExitDone, "dawn", "get", at+"!/field/a.wav", "-")
	assert.NotContains(t, s.ends(ExitDone, "4 members, 8 B", "pack", "show", at), "dropped")
	assert.Regexp(t, `^0 .*current\n$`, s.ends(ExitDone, "current", "versions", "list", at+"!/field/a.wav"))
}

// attribute is an extended attribute of a file, and the room that it takes in bytes.
func attribute(t *testing.T, path, name string) (value string, room int64) {
	b := make([]byte, 200)
	n, err := unix.Lgetxattr(path, name, b)
	if !errors.Is(err, unix.ENODATA) {
		require.NoError(t, err, path)
	}
	var st unix.Stat_t
	require.NoError(t, unix.Lstat(path, &st))
	return string(b[:max(n, 0)]), st.Blocks * 512
}

// Extended attributes are kept where that is wanted, and holes always: by packs, by what is written anew, and
// by what other programs packed.
func TestAttributesAndHoles(t *testing.T) {
	s := shore(t)
	s.put("field/sub/a.wav", "dawn")
	s.put("field/holes", "")
	holes, sub := filepath.Join(s.dir, "field/holes"), filepath.Join(s.dir, "field/sub")
	require.NoError(t, os.Truncate(holes, 2<<20))
	f, err := os.OpenFile(holes, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("tide"), 1<<20)
	require.NoError(t, errors.Join(err, f.Close()))
	for _, path := range []string{sub, sub + "/a.wav"} {
		if err := unix.Lsetxattr(path, "user.heard", []byte("1\x00\xff\n"), 0); errors.Is(err, unix.ENOTSUP) {
			t.Skip("no extended attributes here")
		}
		require.NoError(t, unix.Lsetxattr(path, "user.empty", nil, 0))
	}
	s.ends(ExitDone, "", "bucket", "make", "north/box")
	field := filepath.Join(s.dir, "field") + "/"
	held := func(pack, in string, wanted bool) {
		t.Helper()
		for _, with := range []bool{false, true} {
			to := filepath.Join(t.TempDir(), "out")
			args := []string{"pack", "extract", pack, to}
			if with {
				args = append(args, "--attributes")
			}
			s.ends(ExitDone, "Taken out: 2 files", args...)
			for _, name := range []string{"sub", "sub/a.wav"} {
				value, _ := attribute(t, filepath.Join(to, in, name), "user.heard")
				assert.Equal(t, map[bool]string{true: "1\x00\xff\n"}[with && wanted], value, "%s %s %v", pack, name,
					with)
			}
			_, room := attribute(t, filepath.Join(to, in, "holes"), "user.none")
			assert.Less(t, room, int64(1<<18), pack)
			assert.Equal(t, read(t, holes), read(t, filepath.Join(to, in, "holes")))
		}
	}
	s.ends(ExitDone, "", "pack", "make", field, "north/box/plain.tar")
	held("north/box/plain.tar", "field", false)
	for _, name := range []string{"a.tar", "b.tar.zst", "c.tar.gz"} {
		at := "north/box/" + name
		s.ends(ExitDone, "", "pack", "make", field, at, "--attributes")
		held(at, "field", true)
		s.ends(ExitNothing, "", "pack", "make", field, at, "--attributes")
		s.ends(ExitDone, "Written anew", "pack", "rewrite", at)
		held(at, "field", true)
	}
	// One with a name that pax cannot hold has failed, alone; a folder is kept without them.
	s.put("field/odd.wav", "dusk")
	for _, path := range []string{"field/odd.wav", "field/sub"} {
		require.NoError(t, unix.Lsetxattr(filepath.Join(s.dir, path), "user.a=b", []byte("c"), 0))
	}
	said := s.ends(ExitFailures, "a name that a pack cannot hold", "pack", "make", field, "north/box/odd.tar",
		"--attributes")
	assert.Contains(t, said, "extended attributes of a folder were not kept")
	s.ends(ExitDone, "2 members are as they were packed, 0 are not", "pack", "check", "north/box/odd.tar")
	for _, path := range []string{"field/odd.wav", "field/sub"} {
		require.NoError(t, unix.Lremovexattr(filepath.Join(s.dir, path), "user.a=b"))
	}
	own := filepath.Join(s.dir, "own.tar")
	s.ends(ExitDone, "", "pack", "make", field, own, "--attributes")
	to := t.TempDir()
	out, err := exec.Command("tar", "--xattrs", "-xf", own, "-C", to).CombinedOutput()
	require.NoError(t, err, "%s", out)
	value, _ := attribute(t, filepath.Join(to, "field/sub/a.wav"), "user.heard")
	assert.Equal(t, "1\x00\xff\n", value, "plain tar finds them")
}

func read(t *testing.T, path string) []byte {
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	return raw
}
