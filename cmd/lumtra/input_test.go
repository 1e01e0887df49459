package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/cli"
	"lumtra/standin"
)

// Whatever a person gets wrong, the message names what and where, and the code
// fits.
func TestBadInput(t *testing.T) {
	t.Parallel()
	storeDir := t.TempDir()
	makeBucket(t, storeDir)
	_, address := startStore(t, storeDir)
	dir := workspace(t, address, map[string]string{
		"good":      "source = \"src\"\ntarget = \"dst/copy\"\n",
		"no-bucket": "source = \"src\"\ntarget = \"north/not-there/x\"\n",
		"no-folder": "source = \"src/not/there\"\ntarget = \"north/archive\"\n",
		"no-login":  "source = \"src\"\ntarget = \"wrong/archive\"\n",
		"no-store":  "source = \"src\"\ntarget = \"gone/archive\"\n",
		"no-secret": "source = \"src\"\ntarget = \"unset/archive\"\n",
		"no-root":   "source = \"missing\"\ntarget = \"north/archive\"\n",
		"broken":    "source = \"src\"\ntarget = dst\n",
	})
	more, err := os.OpenFile(filepath.Join(dir, "endpoints.toml"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = more.WriteString(`
[endpoint.wrong]
kind = "s3"
address = "` + address + `"
access-key = "north"
secret-from = "file:wrong.secret"
[endpoint.gone]
kind = "s3"
address = "http://127.0.0.1:1"
[endpoint.unset]
kind = "s3"
address = "` + address + `"
access-key = "north"
secret-from = "env:LUMTRA_TEST_NOT_SET"
[endpoint.missing]
kind = "folder"
path = "no/such/folder"
`)
	require.NoError(t, err)
	more.Close()
	put(t, dir, "wrong.secret", "quicksand\n")
	put(t, dir, "src/a.wav", "a")
	for _, c := range []struct {
		args []string
		code int
		says []string
	}{
		{[]string{"run", "good", "--speed"}, cli.ExitBadInput, []string{"--speed"}},
		{[]string{"fly"}, cli.ExitBadInput, []string{"fly"}},
		{[]string{"run"}, cli.ExitBadInput, []string{"run needs JOB"}},
		{[]string{"run", "nightly"}, cli.ExitBadInput, []string{`no job "nightly"; there are good`}},
		{[]string{"run", "broken"}, cli.ExitBadInput, []string{"broken.toml:2:10"}},
		{[]string{"run", "good", "--plan", "7"}, cli.ExitBadInput, []string{"no such plan"}},
		{[]string{"survey", "south/x"}, cli.ExitBadInput, []string{`no endpoint "south"; there are dst, gone`}},
		{[]string{"survey", "north/../x"}, cli.ExitCannot, []string{"north"}},
		{[]string{"survey", "src/../x"}, cli.ExitCannot, []string{"another folder"}},
		{[]string{"prove", "good", "--by", "feel"}, cli.ExitBadInput, []string{"feel", "read-back"}},
		{[]string{"run", "no-bucket"}, cli.ExitCannot, []string{"north/not-there/x", `no bucket "not-there"`}},
		{[]string{"run", "no-folder"}, cli.ExitCannot, []string{"src/not/there", "not found"}},
		{[]string{"run", "no-login"}, cli.ExitCannot, []string{"wrong/archive", "credentials denied",
			"check the access key"}},
		{[]string{"run", "no-secret"}, cli.ExitCannot, []string{"unset", "LUMTRA_TEST_NOT_SET is not set"}},
		{[]string{"run", "no-root"}, cli.ExitCannot, []string{"missing", "not found"}},
		{[]string{"stand-in", t.TempDir(), "--listen", "0.0.0.0:0"}, cli.ExitCannot, []string{"loopback only"}},
		{[]string{"stand-in", t.TempDir(), "--fault", "moon"}, cli.ExitBadInput, []string{"a fault is one of"}},
	} {
		text, code := lumtra(t, dir, c.args...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, text)
		for _, s := range c.says {
			assert.Contains(t, text, s, "%v", c.args)
		}
		assert.NotContains(t, text, "quicksand")
		text, code = lumtra(t, dir, append(c.args, "--json")...)
		assert.Equal(t, c.code, code)
		last := text[strings.LastIndexByte(strings.TrimSpace(text), '\n')+1:]
		assert.True(t, json.Valid([]byte(last)), "%v: %s", c.args, text)
	}
	text, code := lumtra(t, t.TempDir(), "plan", "x")
	assert.Equal(t, cli.ExitBadInput, code, text)
	assert.Contains(t, text, "lumtra init")
}

// An unreachable store is tried for a while, then told.
func TestUnreachable(t *testing.T) {
	t.Parallel()
	dir := workspace(t, "http://127.0.0.1:1",
		map[string]string{"out": "source = \"src\"\ntarget = \"north/archive\"\n"})
	put(t, dir, "src/a.wav", "a")
	text, code := lumtra(t, dir, "plan", "out")
	assert.Equal(t, cli.ExitCannot, code, text)
	assert.Contains(t, text,
		"north/archive: list: cannot be reached (dial tcp 127.0.0.1:1: connect: connection refused); check the address")
}

// Names from strangers are planned for, shown escaped, and never leave the
// target; what can be done is done, and the code says that not all was.
func TestHostileNames(t *testing.T) {
	t.Parallel()
	storeDir := t.TempDir()
	makeBucket(t, storeDir)
	_, address := startStore(t, storeDir)
	dir := workspace(t, address, map[string]string{
		"out":  "source = \"src\"\ntarget = \"north/archive\"\n",
		"back": "source = \"north/archive\"\ntarget = \"dst\"\n",
	})
	put(t, dir, "src/esc\x1b[2Jname\n.wav", "escape")
	put(t, dir, "src/plain.wav", "plain")
	text, code := lumtra(t, dir, "run", "out")
	require.Equal(t, cli.ExitDone, code, text)
	// What a folder could never hold, straight into the store.
	for _, key := range []string{"../outside.wav", "a//b.wav", "c", "c/d.wav"} {
		putObject(t, address, key)
	}
	text, code = lumtra(t, dir, "plan", "back", "--effects")
	assert.Equal(t, cli.ExitFailures, code, text)
	assert.NotContains(t, text, "\x1b")
	assert.Contains(t, text, `esc\x1b[2Jname\n.wav`)
	for _, says := range []string{`blocked   ../outside.wav — name cannot be held (a part named ".." means ` +
		`another folder)`, "blocked   a//b.wav", `blocked   c/d.wav — "c" is an object`} {
		assert.Contains(t, text, says)
	}
	text, code = lumtra(t, dir, "run", "back")
	assert.Equal(t, cli.ExitFailures, code, text)
	assert.Contains(t, text, "2 × blocked: names that the target does not hold")
	assert.Contains(t, text, "1 × blocked: an object and a folder under one name")
	text, code = lumtra(t, dir, "run", "back")
	assert.Equal(t, cli.ExitFailures, code, "what is missing stays a failure: %s", text)
	assert.Equal(t, map[string]string{"esc\x1b[2Jname\n.wav": "escape", "plain.wav": "plain", "c": "hostile"},
		files(t, filepath.Join(dir, "dst")))
	_, err := os.Stat(filepath.Join(dir, "outside.wav"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	text, code = lumtra(t, dir, "prove", "back")
	assert.Equal(t, cli.ExitFailures, code, text)
	assert.Contains(t, text, "DOES NOT HOLD")
}

// Guards: an empty source is refused until a person approves.
func TestEmptySourceIsHeld(t *testing.T) {
	t.Parallel()
	dir := workspace(t, "http://127.0.0.1:1", map[string]string{"out": "source = \"src\"\ntarget = \"dst/copy\"\n"})
	text, code := lumtra(t, dir, "run", "out")
	assert.Equal(t, cli.ExitHeld, code, text)
	assert.Contains(t, text, "src holds nothing")
}

// Memory does not grow with the number of objects: 100,000 tiny ones are
// surveyed and planned within 150 MB of resident memory.
func TestMemory(t *testing.T) {
	dir := workspace(t, "http://127.0.0.1:1", map[string]string{"out": "source = \"src\"\ntarget = \"dst\"\n"})
	for i := range 100_000 {
		if i%500 == 0 {
			require.NoError(t, os.MkdirAll(filepath.Join(dir, "src", tileDir(i)), 0o755))
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, "src", tileDir(i), tileName(i)), []byte("t"), 0o644))
	}
	cmd := command(dir, "plan", "out", "--json")
	out, peak := measured(t, cmd)
	assert.Contains(t, out, `"add":{"bytes":100000,"objects":100000}`)
	t.Logf("survey and plan of 100,000 objects: %d MB resident at the most", peak)
	assert.Less(t, peak, int64(150))
}

// One processor and little memory are enough, also for big objects over many
// streams.
func TestSmallMachine(t *testing.T) {
	for _, kind := range []string{"s3", "blob"} {
		storeDir := t.TempDir()
		makeBucket(t, storeDir)
		args := []string{"stand-in", storeDir}
		if kind == "blob" {
			args = append(args, "--blob")
		}
		server := exec.Command(program, args...)
		said, err := server.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, server.Start())
		defer server.Process.Kill()
		line, err := bufio.NewReader(said).ReadString(';')
		require.NoError(t, err)
		address := strings.TrimSuffix(strings.TrimPrefix(line, "Listening on "), ";")
		if kind == "blob" {
			address += "/marsh"
		}
		dir := workspace(t, "http://127.0.0.1:1",
			map[string]string{"out": "source = \"src\"\ntarget = \"far/archive\"\n[limits]\nstreams = 4\n"})
		raw, err := os.ReadFile(filepath.Join(dir, "endpoints.toml"))
		require.NoError(t, err)
		put(t, dir, "endpoints.toml", string(raw)+fmt.Sprintf("[endpoint.far]\nkind = %q\naddress = %q\n", kind,
			address))
		fill(t, filepath.Join(dir, "src"), 2000)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "src/long.wav"), nil, 0o644))
		require.NoError(t, os.Truncate(filepath.Join(dir, "src/long.wav"), 300<<20))
		cmd := command(dir, "run", "out", "--json")
		cmd.Env = append(cmd.Env, "GOMAXPROCS=1")
		out, peak := measured(t, cmd)
		assert.Contains(t, out, `"end":"done"`)
		t.Logf("%s: 300 MiB and 2,000 objects on one processor: %d MB resident at the most", kind, peak)
		assert.Less(t, peak, int64(128))
	}
}

// The digests of a proof are taken by the system's own program, whatever the
// names are; and the document says what was found.
func TestDigests(t *testing.T) {
	t.Parallel()
	dir := workspace(t, "http://127.0.0.1:1",
		map[string]string{"out": "source = \"src\"\ntarget = \"dst\"\ndigest = \"sha256\"\n"})
	fill(t, filepath.Join(dir, "src"), 30, 20<<20)
	put(t, dir, "src/a\nb\\c \r.wav", "hostile")
	put(t, dir, "src/  two  blanks é.wav", "blanks")
	text, code := lumtra(t, dir, "run", "out")
	require.Equal(t, cli.ExitDone, code, text)
	text, code = lumtra(t, dir, "prove", "out")
	require.Equal(t, cli.ExitDone, code, text)
	proof := stateOf(t, dir, "jobs/out/proofs/0001")
	check := exec.Command("sha256sum", "--check", "--strict", filepath.Join(proof, "manifest-sha256.txt"))
	check.Dir = filepath.Join(dir, "dst")
	said, err := check.CombinedOutput()
	require.NoError(t, err, "%s", said)
	assert.Equal(t, 33, strings.Count(string(said), ": OK"))
	doc, err := os.ReadFile(filepath.Join(proof, "proof.txt"))
	require.NoError(t, err)
	assert.Regexp(t, `(?s)It holds.*Compared  by the checksums.*sha256 of every object.*same +33 objects`, string(doc))

	put(t, dir, "dst/tiles/00/0000.png", "another")
	text, code = lumtra(t, dir, "prove", "out", "--digest", "blake3")
	require.Equal(t, cli.ExitFailures, code, text)
	doc, err = os.ReadFile(stateOf(t, dir, "jobs/out/proofs/0002/proof.txt"))
	require.NoError(t, err)
	assert.Regexp(t, `(?s)IT DOES NOT HOLD.*different +1 objects.*different +tiles/00/0000.png: `, string(doc))
	put(t, dir, "dst/tiles/00/0000.png", strings.Repeat("tile 0 ", 40))
	put(t, dir, "dst/only here.wav", "extra")
	text, code = lumtra(t, dir, "prove", "out", "--by", "size")
	require.Equal(t, cli.ExitDone, code, text)
	text, code = lumtra(t, dir, "prove", "out", "--by", "size", "--both-ways")
	require.Equal(t, cli.ExitFailures, code, text)
	_, code = lumtra(t, dir, "prove", "out", "--digest", "md4")
	assert.Equal(t, cli.ExitBadInput, code)
}

// A run into a store leaves the digests there, of small objects and of those in
// parts, and a proof writes them down without reading the objects.
func TestDigestsAtAStore(t *testing.T) {
	t.Parallel()
	storeDir := t.TempDir()
	makeBucket(t, storeDir)
	north, addr := startStore(t, storeDir)
	dir := workspace(t, addr,
		map[string]string{"up": "source = \"src\"\ntarget = \"north/archive/copy\"\ndigest = " +
			"\"sha256\"\n[limits]\npart-size = \"5MiB\"\ndurable = true\n"})
	fill(t, filepath.Join(dir, "src"), 30, 20<<20, 4<<20)
	text, code := lumtra(t, dir, "plan", "up")
	require.Equal(t, cli.ExitDone, code, text)
	assert.Contains(t, text, "digests: ", "the estimate tells their cost")
	text, code = lumtra(t, dir, "run", "up")
	require.Equal(t, cli.ExitDone, code, text)
	north.SetFaults(standin.Fault{Op: "GetObject", Do: "403"})
	text, code = lumtra(t, dir, "prove", "up")
	require.Equal(t, cli.ExitDone, code, text)
	check := exec.Command("sha256sum", "--check", "--strict",
		stateOf(t, dir, "jobs/up/proofs/0001/manifest-sha256.txt"))
	check.Dir = filepath.Join(dir, "src")
	said, err := check.CombinedOutput()
	require.NoError(t, err, "%s", said)
	assert.Equal(t, 32, strings.Count(string(said), ": OK"))

	// Carried on with its tags, the digest's own does not count as one of them.
	north.SetFaults()
	southDir := t.TempDir()
	makeBucket(t, southDir)
	_, southAt := startStore(t, southDir)
	raw, err := os.ReadFile(filepath.Join(dir, "endpoints.toml"))
	require.NoError(t, err)
	put(t, dir, "endpoints.toml",
		string(raw)+fmt.Sprintf("\n[endpoint.south]\nkind = \"s3\"\naddress = %q\naccess-key = "+
			"\"north\"\nsecret-from = \"env:%s\"\n", southAt, secretEnv))
	for job, digest := range map[string]string{"across": "blake3", "plain": ""} {
		put(t, dir, "jobs/"+job+".toml",
			fmt.Sprintf("source = \"north/archive/copy\"\ntarget = \"south/archive/%s\"\ndigest = %q\n[as]\ntags = "+
				"true\n[limits]\npart-size = \"5MiB\"\n", job, digest))
		text, code = lumtra(t, dir, "run", job)
		require.Equal(t, cli.ExitDone, code, text)
		text, code = lumtra(t, dir, "plan", job)
		require.Equal(t, cli.ExitNothing, code, text)
	}
}

// measured runs a program to its good end, and tells what it printed and how many MB of
// memory it had resident at the most. The system's own account of a child begins before
// it became another program, with the memory of this one; so it is looked at while it runs.
func measured(t *testing.T, cmd *exec.Cmd) (string, int64) {
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	for most := int64(0); ; {
		select {
		case <-tick.C:
			raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid))
			if err != nil {
				continue
			}
			var kilobytes int64
			if _, line, ok := strings.Cut(string(raw), "VmHWM:"); ok {
				fmt.Sscan(line, &kilobytes)
			}
			most = max(most, kilobytes>>10)
		case err := <-ended:
			require.NoError(t, err, "%s", &out)
			require.NotZero(t, most, "it ended before it was looked at")
			return out.String(), most
		}
	}
}
