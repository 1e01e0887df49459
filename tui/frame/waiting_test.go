package frame

import (
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An endpoint that takes connections and never answers: after three seconds each view says whom
// it waits for, how long, and which key ends that; the key does.
func TestAnEndpointThatHangs(t *testing.T) {
	deaf, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { deaf.Close() })
	go func() {
		for {
			c, err := deaf.Accept()
			if err != nil {
				return
			}
			t.Cleanup(func() { c.Close() })
		}
	}()
	dir := t.TempDir()
	put := func(name, text string) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	put("endpoints.toml", "[endpoint.deaf]\nkind = \"s3\"\naddress = \"http://"+deaf.Addr().String()+
		"\"\n[endpoint.studio]\nkind = \"folder\"\npath = \"studio\"\n")
	put("studio/a.wav", "one")
	put("jobs/up.toml", "source = \"studio\"\ntarget = \"deaf/box\"\n")
	for name, c := range map[string]struct {
		way  []string
		says string
		ends []string
	}{
		"a plan": {[]string{"4", "p"}, `waiting for deaf/box to answer, \d+(\.\d)? s; esc stops planning`,
			[]string{"esc", "~p tries again|No plan yet|being stopped"}},
		"a proof": {[]string{"6", "v"}, `waiting for studio or deaf/box to answer, \d+(\.\d)? s; esc stops proving`,
			[]string{"esc", "~stop"}},
		"a listing": {[]string{"2", "~deaf", "enter"},
			`listing … waiting for deaf to answer, \d+(\.\d)? s; left closes it`,
			[]string{"left", "~▸ deaf"}},
		"a test": {[]string{"2", "~deaf", "y", "~Try|try", "enter"},
			`trying … waiting for deaf to answer, \d+(\.\d)? s; esc\s+leaves it`, []string{"esc", "~○ not tested"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			x := openStage(t, copied(t, dir))
			x.goes("~eeds you")
			x.goes(c.way...)
			began := time.Now()
			x.goes("~" + strings.ReplaceAll(c.says, " ", `\s+│?\s*`))
			assert.Greater(t, time.Since(began), 2*time.Second, "a person would not have asked yet")
			x.goes(c.ends...)
		})
	}
}
