package main

import (
	"encoding/base64"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/sas"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/service"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/place/blob"
	"lumtra/core/secret"
	"lumtra/standin"
)

// A whole session, with every kind of secret, right and wrong ones: none of
// them is in any output, log, file, screen or crash dump.
func TestSecretsStayHidden(t *testing.T) {
	t.Parallel()
	_, address := startStore(t, t.TempDir())
	root(t, address, "archive", false)
	accountKey := base64.StdEncoding.EncodeToString([]byte("a key of the hill account"))
	hill, err := standin.New(standin.Config{Dir: t.TempDir(), API: standin.BlobAPI,
		Keys: []standin.Key{{Access: "hill", Secret: accountKey}}})
	require.NoError(t, err)
	t.Cleanup(func() { hill.Close() })
	hillAddress, err := hill.Start("127.0.0.1:0")
	require.NoError(t, err)
	account, err := blob.NewStore(blob.Config{Name: "hill", Address: hillAddress + "/hill", Account: "hill",
		Key: secret.New(accountKey)})
	require.NoError(t, err)
	defer account.Close()
	require.NoError(t, account.MakeBucket(ctx, "box"))
	cred, err := service.NewSharedKeyCredential("hill", accountKey)
	require.NoError(t, err)
	signed, err := sas.AccountSignatureValues{Version: "2020-12-06", ExpiryTime: time.Now().Add(48 * time.Hour).UTC(),
		ResourceTypes: "sco", Permissions: "rwdlactup"}.SignWithSharedKey(cred)
	require.NoError(t, err)
	const wrong, passphrase = "wrong-secret-4711", "saltmarsh at first light"
	hidden := []string{"reed-bed-9913", accountKey, signed.Signature(), wrong, passphrase}
	for _, s := range hidden { // as queries have them, too
		hidden = append(hidden, strings.NewReplacer("+", "%2B", "/", "%2F", "=", "%3D").Replace(s))
	}

	dir := workspace(t, address, map[string]string{"out": "source = \"src\"\ntarget = \"kept/archive/x\"\n",
		"over": "source = \"src\"\ntarget = \"hill/box/x\"\n"})
	put(t, dir, "src/a.wav", "a")
	var seen strings.Builder
	env := append(os.Environ(), secretEnv+"=reed-bed-9913", "P="+passphrase)
	run := func(stdin string, args ...string) {
		cmd := exec.Command(program, append([]string{"--workspace", dir}, args...)...)
		cmd.Stdin, cmd.Env = strings.NewReader(stdin+"\n"), env
		out, err := cmd.CombinedOutput()
		seen.Write(out)
		t.Logf("%v: %v", args, err)
	}
	run("reed-bed-9913", "endpoint", "add", "kept", address, "--access-key", "north", "--keep", "kept")
	run(hillAddress+"/hill?"+signed.Encode(), "endpoint", "add", "hill", "-")
	run(wrong, "endpoint", "add", "bad", address, "--access-key", "north", "--keep", "bad")
	for _, name := range []string{"kept", "hill", "bad"} {
		run("", "endpoint", "test", name, "--json")
		run("", "list", name)
	}
	for _, step := range []string{"survey", "plan", "run", "prove"} {
		run("", step, "over", "--json")
	}
	run(passphrase, "credential", "lock") // opening it takes a second of work each time from now on
	env = append(env, "LUMTRA_PASSPHRASE_FROM=env:P")
	run("", "credential", "list", "--json")
	for _, step := range []string{"plan", "run"} {
		run("", step, "out", "--json")
	}
	assert.Contains(t, seen.String(), `"refused":0`, "it was a real session")
	run("reed-bed-9913", "credential", "keep", "bad")
	run("", "endpoint", "delete", "bad")
	run("", "credential", "delete", "bad")

	w := openWindow(t, "--workspace", dir)
	log := filepath.Join(t.TempDir(), "raw")
	w.tmux("pipe-pane", "cat > "+log)
	w.see(`Passphrase of the kept credentials`)
	w.typed(passphrase)
	w.keys("Enter")
	w.see(`Now`)
	w.keys("2")
	w.see(`▸ kept`)
	w.keys("j", "j", "e")
	w.see(`Settings of kept`)
	w.escape()
	w.keys("K", "r")
	w.see(`Another secret for`)
	w.keys("Down", "Down")
	w.typed(wrong)
	w.see(`taken, 17 characters`)
	w.escape()
	w.keys("n")
	w.see(`What|what|Paste`)
	w.keys("Enter")
	w.see(`Paste an address`)
	w.tmux("set-buffer", hillAddress+"/hill/box?"+signed.Encode())
	w.tmux("paste-buffer", "-p")
	w.see(`taken, \d+ characters, not shown`)
	w.keys("Enter")
	w.see(`It allows: read, list`)
	w.escape()
	command, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", w.program()))
	require.NoError(t, err)
	seen.Write(command)
	// a crash dump of every goroutine
	require.NoError(t, syscall.Kill(w.program(), syscall.SIGQUIT))
	w.see(`code 2`)
	raw, err := os.ReadFile(log)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "goroutine ")
	seen.Write(raw)
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			content, err := os.ReadFile(path)
			require.NoError(t, err)
			seen.WriteString(path)
			seen.Write(content)
		}
		return err
	}))
	for _, s := range hidden {
		assert.False(t, strings.Contains(seen.String(), s), "the secret %q is seen", s)
	}
}
