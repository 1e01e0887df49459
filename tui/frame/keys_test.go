package frame

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/service"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/testkit"
	"lumtra/tui/kit"
)

// latency has the store of windows' tests take its time, where LUMTRA_LATENCY says how much.
func latency() string {
	if wait := os.Getenv("LUMTRA_LATENCY"); wait != "" {
		return fmt.Sprintf("latency = %q\n", wait)
	}
	return ""
}

// keyWorld is a workspace where every key has something to do: a store with versions and
// removed objects, a plan with a conflict, a run that failed, a proof that does not hold.
func keyWorld(t *testing.T) string {
	dir := t.TempDir()
	put := func(name, text string) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	put("endpoints.toml",
		"[endpoint.studio]\nkind = \"folder\"\npath = \"studio\"\n[endpoint.copy]\nkind = \"folder\"\npath = "+
			"\"copy\"\n"+
			"[endpoint.north]\nkind = \"s3\"\nstand-in = \"north\"\ntest = \"never\"\n"+latency())
	put("jobs/both.toml", "source = \"studio/both\"\ntarget = \"copy/both\"\ndirection = \"two-way\"\n")
	put("jobs/failing.toml", "source = \"studio/failing\"\ntarget = \"copy/failing\"\n[limits]\nstreams = 1\n")
	put("jobs/long.toml",
		"source = \"studio/failing\"\ntarget = \"copy/long\"\n[limits]\nbandwidth = [\"1 B/s\"]\nstreams = 3\n")
	put("jobs/masters.toml", "source = \"studio/masters\"\ntarget = \"copy/masters\"\n")
	for i := range 6 {
		put(fmt.Sprintf("studio/masters/reeds/take %d.wav", i), strings.Repeat("w", 100+i))
		put(fmt.Sprintf("studio/failing/take %d.wav", i), strings.Repeat("w", 100+i))
	}
	put("studio/masters/notes.txt", "one\ntwo\nthree\n")
	put("copy/masters/extra.wav", "e")
	put("studio/both/a.wav", "here")
	put("copy/both/a.wav", "there, and longer")
	ctx := context.Background()
	s, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state")})
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	must := func(err error) { t.Helper(); require.NoError(t, err) }

	must(s.MakeBucket(ctx, "north", "reeds"))
	_, err = s.SetVersioning(ctx, workspace.At{Endpoint: "north", Bucket: "reeds"}, true)
	must(err)
	at, err := s.Place(ctx, "north/reeds/")
	must(err)
	write := func(key, text, class string) {
		_, err := at.Write(ctx, key, strings.NewReader(text), int64(len(text)),
			place.WriteOptions{Class: class, ContentType: "text/plain"})
		must(err)
	}
	write("dawn.txt", "first\n", "")
	write("dawn.txt", "second\nand more\n", "")
	write("frozen.txt", "cold", "GLACIER")
	write("gone.txt", "deleted by hand", "")
	write("deep/a.txt", "a", "")
	must(at.Remove(ctx, object.Ref{Key: "gone.txt"})[0])

	plan := func(job string) { _, err := s.Plan(ctx, job, workroom.Freshness{}, &workroom.Activity{}); must(err) }
	run := func(job string) {
		plan(job)
		r, err := s.StartRun(ctx, job, workroom.RunOptions{})
		must(err)
		r.Wait()
	}
	run("masters")
	put("studio/masters/reeds/take 0.wav", "another content, longer than before"+strings.Repeat("x", 100))
	put("studio/masters/reeds/more.wav", "more")
	_, err = s.Prove(ctx, "masters", workroom.ProveOptions{}, &workroom.Activity{})
	must(err)
	plan("masters")
	plan("both")
	plan("failing")
	for i := range 3 { // what changes behind a plan's back fails
		put(fmt.Sprintf("studio/failing/take %d.wav", i), "changed behind the plan")
	}
	r, err := s.StartRun(ctx, "failing", workroom.RunOptions{})
	must(err)
	r.Wait()
	plan("long")
	return dir
}

// anywhere are the keys of all views, with what they lead to from Now.
var anywhere = map[string]string{
	"1": "› Now ›", "2": "Places › copy", "3": "› Jobs ›", "4": "› Plan ›", "5": "› Run ›", "6": "› Proof ›",
	"7": "yours alone", "ctrl+k": "Copied: both", "u": "Rates are in bits", "ctrl+y": "Copied: lumtra plan",
	"ctrl+p": "do what\\?", "?": "Keys everywhere", "q": "tea.QuitMsg", "ctrl+l": ahead, ">": ahead, "B": ahead,
}

const (
	// ahead is a key that is pressed by a test of its own, or cannot be without another
	// process.
	ahead = "ahead"
	// elsewhere is a key that has nothing to do in a state; another state presses it.
	elsewhere = "elsewhere"
)

// situations are states of the window, the way to each from its opening, and what is
// seen after each key that the window then shows as its view's.
var situations = []struct {
	name string
	way  []string
	sees map[string]string
}{
	{"now", []string{"~Needs you"}, map[string]string{"enter": "› Plan › both", "p": "› Plan › (.|\n)*Plan 2",
		"w": "the hours of the week",
		"+": elsewhere, "-": "30 minutes across", "left": elsewhere,
		"right": elsewhere, "n": elsewhere}},
	{"now, farther", []string{"~Needs you", "-", "-", "~2 hours", "left", "left", "left"},
		map[string]string{"enter": "› Plan › both", "p": "› Plan › (.|\n)*Plan 2",
			"w": "the hours of the week", "+": "30 minutes across", "-": "12 hours across", "left": elsewhere,
			"right": "│now", "n": "│now"}},
	{"endpoint", []string{"~Needs you", "2", "~keeps sums"}, map[string]string{"enter": "▾ copy(.|\n)*masters/",
		"space": "1 marked", "/": "Open an endpoint or a folder first", "s": "Open an endpoint or a folder first",
		"t": "1 thing in the tray", "d": "the tray is empty: t puts", "m": "A bucket cannot be moved",
		"D": "Delete the settings of copy", "n": "A new endpoint", "e": "Settings of copy", "y": "Try copy",
		"a": "Bring files of this machine to copy",
		"K": "None yet: a keeps one", "*": "Mark by pattern in copy", "V": "with what was deleted",
		"o": "None: nothing half-sent", "H": "What was deleted or changed by hand(.|\n)*Nothing yet",
		"T": "Nothing: t puts things in", "c": "Counting is off", "A": "Open an endpoint or a folder first",
		"r": "Read again: copy", "|": "\\| one tree", "z": "Sample copy"}},
	{"two trees", []string{"~Needs you", "2", "~▸ north", "j", "|", "~\\| one tree", "~keeps sums|▸ studio"},
		map[string]string{"i": elsewhere, "U": elsewhere, "w": elsewhere, "tab": "› north",
			"C": "Not here: go into a bucket or a folder at the other side",
			"M": "Not here: go into a bucket or a folder at the other side",
			"=": "Not here: go into a bucket or a folder at both sides", "|": "keeps sums",
			"enter": "▾ copy(.|\n)*masters/", "space": "1 marked", "/": "Open an endpoint or a folder first",
			"s": "Open an endpoint or a folder first", "t": "1 thing in the tray", "d": "the tray is empty: t puts",
			"m": "A bucket cannot be moved", "D": "Delete the settings of copy", "n": "A new endpoint",
			"e": "Settings of copy", "y": "Try copy", "a": "Bring files of this machine to copy",
			"K": "None yet: a keeps one", "*": "Mark by pattern in copy", "V": "with what was deleted",
			"o": "None: nothing half-sent", "H": "What was deleted or changed by hand(.|\n)*Nothing yet",
			"T": "Nothing: t puts things in", "c": "Counting is off", "A": "Open an endpoint or a folder first",
			"r": "Read again: copy", "z": "Sample copy"}},
	{"bucket", []string{"~Needs you", "2", "~▸ north", "j", "enter", "~▸ reeds", "j", "~versioning +on"},
		map[string]string{"enter": "▾ reeds(.|\n)*dawn.txt", "space": "1 marked", "/": "names with",
			"s": "largest first",
			"t": "1 thing in the tray", "d": "the tray is empty", "m": "A bucket cannot be moved",
			"D": "Type the number of things that go, 6,", "i": "Metadata and tags of north/reeds",
			"n": "A bucket at north",
			"y": "Try north(.|\n)*in bucket +reeds", "K": "Kept credentials", "*": "Mark by pattern in north/reeds",
			"U": "Undelete in north/reeds", "V": "with what was deleted",
			"w": "1 object, 4 B in a cold class, of 3 objects",
			"o": "Unfinished uploads in north/reeds", "v": "The store says it is on now",
			"a": "Bring files of this machine to north/reeds", "b": "Who may reach it: only who",
			"E": "Type the number of things that go, 6,", "H": "Nothing yet", "T": "The tray", "c": "Counting is off",
			"A": "Open an|All of this level is listed: 1", "r": "Read again: north/reeds", "|": "\\| one tree",
			"z": "Sample north/reeds"}},
	{"sample", []string{"~Needs you", "2", "~▸ north", "j", "enter", "~▸ reeds", "j", "~versioning +on", "z",
		"~Sample north/reeds", "enter", "~makes .tar", "up", "up", "up", "up", "up", "up", "up", "up", "up",
		"~none +makes .tar"}, map[string]string{"enter": "A job that packs north/reeds",
		"down": "lz4 +packs are not made with it", "x": "Written to .*svg", "X": "Written to .*pdf",
		"esc": "enter open or close"}},
	{"object", []string{"~Needs you", "2", "~▸ north", "j", "enter", "~▸ reeds", "j", "enter", "~dawn.txt", "j",
		"~2 versions"}, map[string]string{"enter": "left older(.|\n)*second|second(.|\n)*left older",
		"space": "◆ dawn.txt", "/": "names with", "s": "largest first", "tab": "left older", "p": "left older",
		"t": "tray: 1", "d": "the tray is empty", "m": "Move or copy north/reeds/dawn.txt",
		"D": "Versions are kept here: what is hidden",
		"a": "Bring files of this machine to north/reeds",
		"i": "Metadata and tags of north/reeds/dawn.txt(.|\n)*text/plain", "n": "A folder in north/reeds",
		"y": "in bucket +reeds", "K": "Kept credentials", "*": "Mark by pattern",
		"U": "Undelete in", "V": "○ gone.txt", "L": "Link to north/reeds/dawn.txt",
		"w": "Restore north/reeds/dawn.txt", "o": "Unfinished uploads", "H": "Nothing yet", "T": "The tray",
		"c": "Counting is off",
		"A": "All of this level is listed: 3", "r": "Read again: north/reeds", "|": "\\| one tree",
		"z": "Sample north/reeds"}},
	{"newest version", []string{"~Needs you", "2", "~▸ north", "j", "enter", "~▸ reeds", "j", "enter", "~dawn.txt",
		"j", "~2 versions", "tab", "~left older"}, map[string]string{"left": "1 before the newest", "right": elsewhere,
		"b": "This is the newest already", "c": "This is the newest; left", "f": "Fetch north/reeds/dawn.txt",
		"D": "Type the number of things that go, 1,", "L": "Link to", "p": elsewhere, "down": elsewhere,
		"esc": "enter open or close"}},
	{"older version", []string{"~Needs you", "2", "~▸ north", "j", "enter", "~▸ reeds", "j", "enter", "~dawn.txt",
		"j", "~2 versions", "tab", "~left older", "left", "~1 before the newest(.|\n)*first"},
		map[string]string{"left": elsewhere, "right": "2 versions · the newest",
			"b": "Bring back an older state of north/reeds/dawn.txt",
			"c": "This version against the newest", "f": "Fetch", "D": "Delete permanently", "L": "Link to",
			"p": "reeds/ .*│ first", "down": ahead, "esc": "enter open or close"}},
	{"metadata of many", []string{"~Needs you", "2", "~▸ north", "j", "enter", "~▸ reeds", "j", "~versioning +on",
		"i", "~Metadata and tags of north/reeds", "=site = weir", "enter", "~number +the number above|▌ number"},
		map[string]string{"enter": "that is not|not the number", "down": elsewhere, "esc": "enter open or close"}},
	{"credentials", []string{"~Needs you", "2", "~▸ north", "K", "~a keeps one"},
		map[string]string{"a": "Keep a credential|A credential|label", "l": "How the kept credentials are locked",
			"esc": "enter open or close"}},
	{"tray", []string{"~Needs you", "2", "~▸ north", "t", "~1 thing", "T", "~▽ copy"},
		map[string]string{"x": "Nothing: t puts things in", "down": ahead, "esc": "enter open or close"}},
	{"job", []string{"~Needs you", "3", "~What it would do"},
		map[string]string{"enter": "enter keep it", "right": "‹what is in›", "p": "› Plan › both(.|\n)*Plan 2",
			"w": "Not here: nothing was changed\\.", "s": "surveyed|surveys of", "t": "1 source = ",
			"e": "tea.execMsg", ">": "› Jobs › failing", "n": "A new job", "c": "A copy of both", "R": "Rename both",
			"D": "Delete the job both", "z": "Nothing was changed\\."}},
	{"phrase", []string{"~Needs you", "3", "~What it would do", ">", "~› Jobs › failing", "~add 6|add 3|sends",
		"enter", "~enter keep it"}, map[string]string{"enter": "right next phrase", "esc": "right next phrase",
		"down": "▌ Sync both ways"}},
	{"plan", []string{"~Needs you", "4", ">", ">", ">", "~Plan 2 (.|\n)*▸ reeds(.|\n)*names: "},
		map[string]string{"a": "Let plan 2 run\\?", "p": "Plan 3 ", "enter": elsewhere, "-": "struck|Struck",
			"f": "Show only", "m": "Mend(.|\n)*▌ test", "c": "Compare plan 2 with",
			"tab": "tab back to the tree",
			"x":   "Write plan 2 into", "r": "Plan 3 ", "/": "/ +in what is open", "b": "bars by count",
			"s": "notes.txt", "J": "› Jobs › masters"}},
	{"folder in a plan", []string{"~Needs you", "4", ">", ">", ">", "~▸ reeds(.|\n)*names: ", "j"},
		map[string]string{"a": "Let plan 2 run\\?", "p": "Plan 3 ", "enter": "▾ reeds(.|\n)*more.wav",
			"-": "struck|Struck", "f": "Show only", "m": "Mend(.|\n)*▌ test",
			"c": "Compare plan 2", "x": "Write plan 2", "r": "Plan 3", "/": "in what is open", "b": "bars by count",
			"tab": ahead,
			"s":   "notes.txt", "J": "› Jobs › masters"}},
	{"conflict", []string{"~Needs you", "4", "~a.wav(.|\n)*names: (.|\n)*conflict because"},
		map[string]string{"a": "There are only conflicts: d decides them", "p": "Plan 2 ", "enter": elsewhere,
			"-": "[Ss]truck", "d": "Decide a.wav", "f": "Show only", "m": "Mend(.|\n)*▌ test", "c": "no earlier plan",
			"tab": ahead,
			"x":   "Write plan 1", "r": "Plan 2",
			"/": "in what is open", "b": "bars by count", "s": elsewhere, "J": "› Jobs › both"}},
	{"time, cost and checks", []string{"~Needs you", "4", ">", ">", ">", "~▸ reeds(.|\n)*names: ", "tab"},
		map[string]string{"tab": "▸ reeds", "a": "Let plan 2 run\\?", "m": "Mend(.|\n)*▌ test"}},
	{"export", []string{"~Needs you", "4", ">", ">", ">", "~Plan 2 ", "x", "~Write plan 2"},
		map[string]string{"enter": "Written to .*csv", "esc": "a approve"}},
	{"run", []string{"~Needs you", "5", ">", ">", ">", "~7 of 7 objects"},
		map[string]string{"v": "Proof › masters(.|\n)*proof 2 ", "p": "Plan › masters(.|\n)*Plan 3 ",
			"x": "the curve as a table"}},
	{"failures", []string{"~Needs you", "5", ">", "~done with failures"},
		map[string]string{"tab": "▌ 3 × ", "r": "3 were done before", "v": "Proof › failing(.|\n)*proof 1 ",
			"p": "Plan › failing(.|\n)*Plan 2 ", "x": "the curve as a table"}},
	{"running", []string{"~Needs you", "4", ">", ">", "~Plan 1 ", "a", "~Let plan 1", "enter", "~In flight(.|\n)*",
		"~streams 3 "}, map[string]string{"p": "Paused: what is under way", "e": "Ending when the parts",
		"+": "4 streams", "[": "At most 1 kB/s",
		"!": "Priority high", "=": "finds out how many", "\\": "Bandwidth as the job says",
		"x": "the curve as a table", "-": "2 streams", "]": "No limit of its own|At most"}},
	{"settings", []string{"~Needs you", "7", "~yours alone"},
		map[string]string{"right": "‹ dark", "left": "‹ safe", "enter": "‹ dark", "x": "Written to", "e": "execMsg"}},
	{"a zone is typed", []string{"~Needs you", "7", "~yours alone", "j", "j", "j"},
		map[string]string{"right": "Not here: this one is typed", "left": "Not here: this one is typed",
			"enter": "enter set it", "x": "Written to", "e": "execMsg"}},
	{"proof", []string{"~Needs you", "6", ">", ">", ">", "~▸ reeds"},
		map[string]string{"v": "proof 2 ", "m": "by read-back", "enter": elsewhere, "f": "only missing",
			"x": "Written to .*pdf", "J": "Jobs › masters-mend-1"}},
	{"folder in a proof", []string{"~Needs you", "6", ">", ">", ">", "~▸ reeds", "j"},
		map[string]string{"v": "proof 2 ", "m": "by read-back", "enter": "▾ reeds", "f": ahead,
			"x": "Written to .*pdf", "J": "Jobs › masters-mend-1"}},
}

// Every key that a window shows is pressed, and what it leads to is seen: the way to a
// state, one key, and a match that was not there before. Keys that cannot do anything say
// why.
func TestEveryKeyDoesWhatItSays(t *testing.T) {
	testkit.Heavy(t)
	dir := keyWorld(t)
	t.Chdir(t.TempDir())
	for _, at := range situations {
		x := openStage(t, copied(t, dir))
		x.goes(at.way...)
		for _, k := range x.m.screens[x.m.view].Keys() {
			want, told := at.sees[k.Press], "Not here: "
			switch {
			case want == "" && k.Off != "":
				want = told + regexp.QuoteMeta(k.Off)
			case want == "":
				assert.Fail(t, "a key that no test presses", "%s: %q, %s", at.name, k.Press, k.Does)
				continue
			}
			pressed(t, dir, at.name, at.way, k.Press, want)
		}
		for press := range at.sees {
			assert.True(t, slices.ContainsFunc(x.m.screens[x.m.view].Keys(),
				func(k kit.Key) bool { return k.Press == press }), "%s no longer shows %q", at.name, press)
		}
	}
	for _, k := range openStage(t, copied(t, dir)).m.ownKeys() {
		from := []string{"~Needs you"}
		if k.Press == "1" {
			from = append(from, "3", "~What it would do")
		}
		pressed(t, dir, "anywhere", from, k.Press, anywhere[k.Press])
	}
}

func pressed(t *testing.T, dir, name string, way []string, key, want string) {
	if want == ahead || want == elsewhere {
		return
	}
	t.Run(name+"/"+key, func(t *testing.T) {
		t.Parallel()
		x := openStage(t, copied(t, dir))
		x.goes(way...)
		match := regexp.MustCompile(want)
		require.NotRegexp(t, match, x.look(), "seen before %q is pressed", key)
		x.goes(key)
		if !x.await(func() bool { return match.MatchString(x.look()) }) {
			assert.Fail(t, "not seen", "%q in %s: %s in\n%s", key, name, want, x.look())
		}
	})
}
