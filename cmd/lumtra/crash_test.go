package main

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/cli"
	"lumtra/core/place"
	"lumtra/core/place/blob"
	"lumtra/core/secret"
	"lumtra/standin"
	"lumtra/testkit"
)

// Killed at random moments and taken up again, a run ends with the target
// equal to the source, sends no part twice and leaves nothing behind: into a
// store, from store to store of either kind, and back into a folder.
// LUMTRA_KILLS is how often each of the first three is killed at least.
func TestKilledAndTakenUp(t *testing.T) {
	wanted := testkit.Kills(t)
	t.Parallel()
	storeDir, southDir, hillDir := t.TempDir(), t.TempDir(), t.TempDir()
	for _, dir := range []string{storeDir, southDir, hillDir} {
		makeBucket(t, dir)
	}
	north, northAt := startStore(t, storeDir)
	south, southAt := startStore(t, southDir)
	key := base64.StdEncoding.EncodeToString([]byte("reed-bed-9913"))
	hill, hillAt := startWith(t, standin.Config{Dir: hillDir, API: standin.BlobAPI,
		Keys: []standin.Key{{Access: "hill", Secret: key}}})
	dir := workspace(t, northAt, nil)
	put(t, dir, "hill.key", key)
	raw, err := os.ReadFile(filepath.Join(dir, "endpoints.toml"))
	require.NoError(t, err)
	put(t, dir, "endpoints.toml", string(raw)+fmt.Sprintf(`
[endpoint.south]
kind = "s3"
address = %q
access-key = "north"
secret-from = "env:%s"
[endpoint.hill]
kind = "blob"
address = %q
account = "hill"
secret-from = "file:%s"
`, southAt, secretEnv, hillAt+"/hill", filepath.Join(dir, "hill.key")))
	fill(t, filepath.Join(dir, "src"), 400, 37<<20, 21<<20)
	want := files(t, filepath.Join(dir, "src"))
	kills := 0
	for _, leg := range []struct {
		name, from, to string
		store          *watched
		kills          int
	}{{"out", "src", "north/archive/copy", north, wanted}, {"across", "north/archive/copy0", "south/archive/copy",
		south, wanted},
		{"over", "north/archive/copy0", "hill/archive/copy", hill, wanted},
		{"back", "north/archive/copy0", "dst", north, 2}} {
		for round, killed := 0, 0; killed < leg.kills; round++ {
			to := fmt.Sprint(leg.to, round)
			if leg.name == "back" {
				require.NoError(t, os.RemoveAll(filepath.Join(dir, "dst")))
				require.NoError(t, os.Mkdir(filepath.Join(dir, "dst"), 0o755))
				to = "dst"
			}
			job := fmt.Sprintf("%s-%d", leg.name, round)
			digest := [...]string{"", "digest = \"blake3\"\n"}[round%2]
			put(t, dir, "jobs/"+job+".toml", fmt.Sprintf("source = %q\ntarget = %q\n"+digest+
				"[limits]\nstreams = 6\npart-size = \"5MiB\"\n", leg.from, to))
			n := killOften(t, dir, job, leg.store, leg.kills-killed)
			killed, kills = killed+n, kills+n
			text, code := lumtra(t, dir, "run", job)
			require.Contains(t, []int{cli.ExitDone, cli.ExitNothing}, code, text)
			text, code = lumtra(t, dir, "prove", job, "--by", "read-back")
			require.Equal(t, cli.ExitDone, code, text)
		}
	}
	t.Logf("killed %d times", kills)
	require.Equal(t, want, files(t, filepath.Join(dir, "dst")), "the same files, and no temporary ones")
	for _, s := range []*watched{north, south, hill} {
		s.mu.Lock()
		for what, times := range s.accepted {
			if strings.Contains(what, "partNumber") {
				assert.Equal(t, 1, times, "sent twice: %s", what)
			}
		}
		s.mu.Unlock()
	}
	for _, at := range []string{storeDir, southDir} {
		raw, err := os.ReadFile(filepath.Join(at, "archive", "journal"))
		require.NoError(t, err)
		assert.Equal(t, bytes.Count(raw, []byte(`{"Begin"`)), bytes.Count(raw, []byte(`{"End"`)),
			"every upload was ended")
	}
	end, err := blob.NewStore(blob.Config{Name: "hill", Address: hillAt + "/hill", Account: "hill",
		Key: secret.New(key)})
	require.NoError(t, err)
	defer end.Close()
	p, err := end.Open("archive")
	require.NoError(t, err)
	ups, err := p.(place.PartWriter).Uploads(context.Background())
	require.NoError(t, err)
	assert.Empty(t, ups)
}

// Killed when so many writes have arrived, once in the midst of small objects and once in that of parts, a run
// that is taken up ends with the target equal to the source, and sends no part twice.
func TestKilledAtAWrite(t *testing.T) {
	t.Parallel()
	storeDir := t.TempDir()
	makeBucket(t, storeDir)
	north, address := startStore(t, storeDir)
	dir := workspace(t, address, map[string]string{"out": "source = \"src\"\ntarget = \"north/archive/copy\"\n" +
		"[limits]\nstreams = 6\npart-size = \"5MiB\"\n",
		"back": "source = \"north/archive/copy\"\ntarget = \"dst\"\n"})
	fill(t, filepath.Join(dir, "src"), 200, 37<<20, 21<<20)
	for _, writes := range []int{1, 40, 206} {
		release := north.hold(writes)
		cmd := command(dir, "run", "out")
		require.NoError(t, cmd.Start())
		testkit.Until(t, func() bool { return north.writes() >= writes }, func() any { return north.writes() })
		require.NoError(t, cmd.Process.Kill())
		require.Error(t, cmd.Wait(), "it was not at its end")
		release()
		north.settled(t)
	}
	text, code := lumtra(t, dir, "run", "out")
	require.Equal(t, cli.ExitDone, code, text)
	text, code = lumtra(t, dir, "prove", "out", "--by", "read-back")
	require.Equal(t, cli.ExitDone, code, text)
	text, code = lumtra(t, dir, "run", "back")
	require.Equal(t, cli.ExitDone, code, text)
	require.Equal(t, files(t, filepath.Join(dir, "src")), files(t, filepath.Join(dir, "dst")))
	for what, times := range north.accepted {
		if strings.Contains(what, "partNumber") {
			assert.Equal(t, 1, times, "sent twice: %s", what)
		}
	}
}

// killOften runs a job again and again and kills it, until it comes to its end
// or was killed so often. It tells how often that was.
func killOften(t *testing.T, dir, job string, store *watched, most int) (kills int) {
	return killCommand(t, dir, store, most, "run", job, "--json")
}

// killCommand does so with any command.
func killCommand(t *testing.T, dir string, store *watched, most int, args ...string) (kills int) {
	defer store.SetSpeed(0)
	for kills < most {
		store.SetSpeed(20 << 20)
		cmd := command(dir, args...)
		var out bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &out
		require.NoError(t, cmd.Start())
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		select {
		case <-time.After(time.Duration(100+testkit.Dice(t).IntN(400)) * time.Millisecond): // the moment is drawn
			cmd.Process.Signal(syscall.SIGKILL)
			<-ended
			kills++
			// What a dead client had handed to the network may still arrive; only
			// then is it known what is missing.
			store.settled(t)
		case <-ended:
			return kills
		}
	}
	return kills
}
