package main

import (
	"fmt"
	"os"
	"os/exec"
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
	"lumtra/core/place/placetest"
	"lumtra/core/place/s3"
	"lumtra/core/secret"
	"lumtra/testkit"
)

// TestInterop has the built program work with the real servers that `make interop`
// starts, as an administrator would: copy, change, mirror, move and prove, killed at
// random on the way. LUMTRA_KILLS is how often at least.
func TestInterop(t *testing.T) {
	kills := testkit.Number("LUMTRA_KILLS", 4)
	for _, protocol := range []string{"S3", "BLOB"} {
		for _, srv := range placetest.Servers(protocol) {
			t.Run(srv.Name, func(t *testing.T) { newReal(t, protocol, srv).all(kills) })
		}
	}
}

// newReal is a workspace with a real server, in a bucket of its own.
func newReal(t *testing.T, protocol string, srv placetest.Server) *odd {
	o := &odd{T: t, dir: workspace(t, "http://127.0.0.1:1", nil)}
	put(t, o.dir, "key", srv.Secret)
	kind, account := "s3", "access-key"
	var err error
	if protocol == "S3" {
		o.end, err = s3.NewStore(s3.Config{Name: "seen", Address: srv.Address, AccessKey: srv.Access,
			Secret: secret.New(srv.Secret)})
	} else {
		kind, account = "blob", "account"
		o.end, err = blob.NewStore(blob.Config{Name: "seen", Address: srv.Address, Account: srv.Access,
			Key: secret.New(srv.Secret)})
	}
	require.NoError(t, err)
	t.Cleanup(func() { o.end.Close() })
	require.NoError(t, o.end.(place.Buckets).MakeBucket(t.Context(), "killed"))
	raw, err := os.ReadFile(filepath.Join(o.dir, "endpoints.toml"))
	require.NoError(t, err)
	put(t, o.dir, "endpoints.toml",
		string(raw)+fmt.Sprintf("\n[endpoint.real]\nkind = %q\naddress = %q\n%s = %q\nsecret-from = \"file:key\"\n",
			kind, srv.Address, account, srv.Access))
	return o
}

func (o *odd) all(kills int) {
	fill(o.T, filepath.Join(o.dir, "src"), 200, 27<<20, 12<<20)
	want := sums(files(o.T, filepath.Join(o.dir, "src")))
	var err error
	for round, killed := 0, 0; killed < kills; round++ {
		to := fmt.Sprint("copy", round)
		o.job(to, "src", "real/killed/"+to, "[limits]\nstreams = 6\npart-size = \"5MiB\"\n")
		killed += o.killSome(to, kills-killed)
		text, code := lumtra(o.T, o.dir, "run", to)
		require.Contains(o.T, []int{cli.ExitDone, cli.ExitNothing}, code, text)
		o.run(cli.ExitDone, "prove", to, "--by", "read-back", "--both-ways")
		o.at, err = o.end.Open("killed/" + to)
		require.NoError(o.T, err)
		require.Equal(o.T, want, sums(o.there()))
	}
	o.T.Logf("killed %d times", kills)

	// A mirror: replaced, added, removed; then nothing to do.
	o.job("mirror", "src", "real/killed/copy0", mirror)
	o.put("masters/dawn 0.wav", strings.Repeat("ebb ", 3<<20))
	o.put("tiles/00/0000.png", "changed")
	o.put("new/one.wav", "new")
	require.NoError(o.T, os.RemoveAll(filepath.Join(o.dir, "src", "tiles", "03")))
	o.at, err = o.end.Open("killed/copy0")
	require.NoError(o.T, err)
	o.run(cli.ExitDone, "run", "mirror")
	o.run(cli.ExitNothing, "run", "mirror")
	want = sums(files(o.T, filepath.Join(o.dir, "src")))
	assert.Equal(o.T, want, sums(o.there()))
	o.run(cli.ExitDone, "prove", "mirror", "--by", "read-back", "--both-ways")

	// Away to the trash inside the store, and home again by a move.
	require.NoError(o.T, os.RemoveAll(filepath.Join(o.dir, "src", "tiles", "04")))
	o.job("trash", "src", "real/killed/copy0", "target-only = \"trash\"\n[safety]\ndeletion-share = 100\n")
	o.run(cli.ExitDone, "run", "trash")
	want = sums(files(o.T, filepath.Join(o.dir, "src")))
	there := sums(o.there())
	for key := range there {
		if strings.HasPrefix(key, "_trash/") {
			assert.Contains(o.T, key, "tiles/04/")
			delete(there, key)
		}
	}
	assert.Equal(o.T, want, there)
	o.job("home", "real/killed/copy0", "dst", "afterwards = \"delete\"\n[select]\nexclude = [\"_trash/**\"]\n")
	o.run(cli.ExitDone, "run", "home")
	assert.Equal(o.T, want, sums(files(o.T, filepath.Join(o.dir, "dst"))))
	for key := range o.there() {
		assert.Contains(o.T, key, "_trash/", "all else has left")
	}
	p, err := o.end.Open("killed")
	require.NoError(o.T, err)
	for e, err := range p.List(o.Context(), "lumtra-probe", place.ListOptions{}) {
		require.NoError(o.T, err)
		o.T.Errorf("left behind: %q", e.Key)
	}
}

// killSome runs a job and kills it at random moments, until it ends or was killed so
// often.
func (o *odd) killSome(job string, most int) (kills int) {
	for kills < most {
		cmd := exec.Command(program, command(o.dir, "run", job).Args[1:]...)
		cmd.Env = command(o.dir).Env
		require.NoError(o.T, cmd.Start())
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		select {
		case <-time.After(time.Duration(50+testkit.Dice(o).IntN(500)) * time.Millisecond): // the moment is drawn
			cmd.Process.Signal(syscall.SIGKILL)
			<-ended
			kills++
		case <-ended:
			return kills
		}
	}
	return kills
}
