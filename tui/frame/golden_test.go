package frame

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"lumtra/testkit"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the screens in testdata anew")

// scenes are what the screens in testdata/screens show, each in two sizes.
var scenes = map[string][]string{
	"places": {"~Needs you", "2", "~keeps sums"},
	"places-object": {"~Needs you", "2", "~▸ north", "j", "enter", "~▸ reeds", "j", "enter", "~dawn.txt", "j",
		"~2 versions(.|\\n)*second"},
	"places-delete": {"~Needs you", "2", "~▸ north", "j", "enter", "~▸ reeds", "j", "~versioning +on", "E",
		"~things that go, 6,"},
	"places-credentials": {"~Needs you", "2", "~keeps sums", "K", "~a keeps one"},
	"places-new":         {"~Needs you", "2", "~keeps sums", "n", "~Paste an address"},
	"job":                {"~Needs you", "3", "~What it would do(.|\\n)*asks"},
	"job-text":           {"~Needs you", "3", "~What it would do(.|\\n)*asks", "t", "~1 source"},
	"job-new":            {"~Needs you", "3", "~What it would do", "n", "~A new job"},
	"plan":               {"~Needs you", "4", ">", ">", ">", "~▸ reeds(.|\\n)*names: ", "j", "enter", "~more.wav"},
	"plan-approve":       {"~Needs you", "4", ">", ">", ">", "~▸ reeds(.|\\n)*names: ", "a", "~Let plan 2 run"},
	"plan-conflict":      {"~Needs you", "4", "~a.wav(.|\\n)*names: ", "d", "~Decide a.wav"},
	"plan-none": {"~Needs you", "4", ">", ">", ">", "~▸ reeds(.|\\n)*names: ", "/", "z", "z",
		"~Nothing here is of that kind"},
	"run-failures": {"~Needs you", "5", ">", "~done with failures", "tab", "~▌ 3 × "},
	"run-never":    {"~Needs you", "5", "~has not run yet"},
	"proof":        {"~Needs you", "6", ">", ">", ">", "~▸ reeds", "j", "enter", "~more.wav"},
	"proof-never":  {"~Needs you", "6", "~Never proven"},
	"keys":         {"~Needs you", "?", "~Keys everywhere"},
}

// passing is what differs from run to run: times, spans, rates, names that are drawn. It
// is told by what it is.
var passing = []struct {
	form *regexp.Regexp
	told string
}{
	{regexp.MustCompile(`\d{4}-\d\d-\d\d[ T]\d\d[:.]\d\d([:.]\d\d)?( UTC)?|\d\d:\d\d(:\d\d)?( UTC)?`), "TIME"},
	{regexp.MustCompile(`/tmp/[^ │]*`), "PATH"},
	{regexp.MustCompile(`\b[0-9a-f]{16,32}\b`), "ID"},
	{regexp.MustCompile(`just now|(about )?\d+(\.\d+)? ?(ns|µs|ms|s|min)( ago)?\b`), "SPAN"},
	{regexp.MustCompile(`\d+(\.\d+)? [KMGT]?i?B/s`), "RATE"},
	{regexp.MustCompile(`\d+(\.\d+)? [GT]iB free`), "ROOM"},
	{regexp.MustCompile(`[█▁▂▃▄▅▆▇▀▔╌·]{2,}`), "CURVE"},
	{regexp.MustCompile(`take \d\.wav +\d+ B +SPAN`), "ARRIVAL SPAN"}, // in whatever order
	{regexp.MustCompile(` {2,}`), "  "},
	{regexp.MustCompile(` +(\n|$)`), "$1"},
}

func settled(text string) string {
	for _, p := range passing {
		text = p.form.ReplaceAllString(text, p.told)
	}
	return text
}

// Each view looks as it did, in the size of a large terminal and of the smallest that
// counts: text alone, without colours. A change that is meant is taken over with -update,
// and read in the difference.
func TestScreens(t *testing.T) {
	testkit.Heavy(t)
	dir := keyWorld(t)
	for name, way := range scenes {
		for _, size := range []tea.WindowSizeMsg{{Width: 158, Height: 46}, {Width: 80, Height: 24}} {
			t.Run(fmt.Sprintf("%s-%dx%d", name, size.Width, size.Height), func(t *testing.T) {
				t.Parallel()
				x := openStage(t, copied(t, dir))
				x.goes(way...)
				x.update(size)
				check(t, x.m, name)
				got := settled(ansi.Strip(x.m.draw()))
				path := filepath.Join("testdata/screens", strings.TrimPrefix(t.Name(), "TestScreens/")+".txt")
				if *update {
					require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
					require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
					return
				}
				want, err := os.ReadFile(path)
				require.NoError(t, err)
				assert.Equal(t, string(want), got, "go test ./tui/frame -run TestScreens -update takes it over")
			})
		}
	}
}
