package cli

import (
	"bytes"
	"context"
	"os"
	"os/user"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/service"
)

// unitOf is what install says, for a workspace in a folder, with no state named.
func unitOf(t *testing.T, dir string, args ...string) string {
	var out bytes.Buffer
	a := newApp(&out, &out, func(context.Context, *service.Service) error { return nil })
	require.Equal(t, ExitDone, a.main(t.Context(), append([]string{"service", "install", "--workspace", dir}, args...)),
		out.String())
	return out.String()
}

// A unit names the folders of whom it runs as, by their whole names, and nothing is made in them as somebody
// else; a unit of another workspace stays as it is.
func TestUnits(t *testing.T) {
	config := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", config)
	t.Setenv("XDG_STATE_HOME", filepath.Join(config, "state"))
	a, b := filepath.Join(t.TempDir(), "tides"), filepath.Join(t.TempDir(), "tides")
	for _, dir := range []string{a, b} {
		require.NoError(t, os.Mkdir(dir, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "endpoints.toml"), nil, 0o600))
	}
	t.Chdir(a)
	said := unitOf(t, a, "--print", "--passphrase", "pass", "--metrics-file", "metrics.prom")
	assert.Contains(t, said, "lumtra-passphrase:"+filepath.Join(a, "pass")+"\n")
	assert.Contains(t, said, `--metrics-file "`+filepath.Join(a, "metrics.prom")+`"`)
	assert.Contains(t, said, `--state "`+filepath.Join(config, "state", "lumtra", "workspaces", "tides-"))
	assert.Contains(t, unitOf(t, ".", "--print", "--state", "kept"),
		`--workspace "`+a+`" --state "`+filepath.Join(a, "kept")+`"`)

	for range 2 { // of the same workspace it is written anew
		unitOf(t, a)
		unitOf(t, b)
	}
	all, err := filepath.Glob(filepath.Join(config, "systemd", "user", "*"))
	require.NoError(t, err)
	require.Len(t, all, 2)
	raw, err := os.ReadFile(filepath.Join(config, "systemd", "user", "lumtra-tides.service"))
	require.NoError(t, err)
	assert.Contains(t, string(raw), a)

	me, err := user.Current()
	require.NoError(t, err)
	said = unitOf(t, a, "--print", "--system")
	assert.Contains(t, said, "User="+me.Username+"\n")
	if me.Uid != "0" {
		return
	}
	assert.Contains(t, said, "CapabilityBoundingSet=CAP_DAC_OVERRIDE ")
	t.Setenv("SUDO_USER", "nobody")
	nobody, err := user.Lookup("nobody")
	require.NoError(t, err)
	said = unitOf(t, a, "--print", "--system")
	assert.Contains(t, said, "User=nobody\n")
	assert.Contains(t, said, "CapabilityBoundingSet=\n")
	assert.Contains(t, said, `--state "`+nobody.HomeDir+"/.local/state/lumtra/workspaces/tides-")
	assert.NoDirExists(t, filepath.Join(config, "state"))
}
