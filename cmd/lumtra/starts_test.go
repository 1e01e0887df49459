package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/testkit"
)

// events are what a command told with --json, of one kind.
func events(t *testing.T, said, kind string) (all []map[string]any) {
	for line := range strings.Lines(said) {
		var e map[string]any
		if json.Unmarshal([]byte(line), &e) == nil && e["event"] == kind {
			all = append(all, e)
		}
	}
	return all
}

// The service is killed at random moments while things arrive, jobs start for them and after each other,
// and messages are sent: each start is carried out to its end once, whatever came is at the last place,
// and each run is told, under one id. LUMTRA_KILLS is how often.
func TestStartsOutliveKills(t *testing.T) {
	t.Parallel()
	kills, dice := testkit.Kills(t), testkit.Dice(t)
	dir := workspace(t, "http://127.0.0.1:1", map[string]string{
		"first": "source = \"src/in\"\ntarget = \"dst/one\"\n[when]\nstart = \"on " +
			"arrival\"\n[when.arrival]\nsettle = \"100ms\"\n",
		"second": "source = \"dst/one\"\ntarget = \"dst/two\"\n[when]\nstart = \"after first\"\nprove = true\n",
	})
	told := filepath.Join(dir, "told.jsonl")
	put(t, dir, "service.toml", fmt.Sprintf("[notify.me]\nkind = \"command\"\ncommand = [\"tee\", \"-a\", %q]\n"+
		"on = [\"success\", \"failure\", \"recovery\", \"guard\"]\n", told))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "src", "in"), 0o755))
	out, code := lumtra(t, dir, "notify", "confirm", "me")
	require.Zero(t, code, out)
	files := 0
	arrive := func() {
		files++
		put(t, dir, fmt.Sprintf("src/in/take %03d.wav", files), strings.Repeat("w", 1000+files))
	}
	for range kills {
		service := command(dir, "service")
		require.NoError(t, service.Start())
		arrive()
		time.Sleep(time.Duration(dice.IntN(2500)) * time.Millisecond) // the moment is drawn
		if dice.IntN(3) == 0 {
			arrive()
		}
		require.NoError(t, service.Process.Kill())
		_ = service.Wait()
	}
	service := command(dir, "service")
	require.NoError(t, service.Start())
	defer func() { _ = service.Process.Kill(); _ = service.Wait() }()
	there := func() int {
		all, _ := os.ReadDir(filepath.Join(dir, "dst", "two"))
		return len(all)
	}
	testkit.Becomes(t, files, there)
	open := func() (n int) {
		said, _ := lumtra(t, dir, "agenda", "--json", "--most", "1000")
		for _, e := range events(t, said, "start") {
			if s := e["state"]; s == "queued" || s == "at work" || s == "waiting" {
				n++
			}
		}
		return n
	}
	testkit.Becomes(t, 0, open)

	said, _ := lumtra(t, dir, "agenda", "--json", "--most", "1000")
	seen := map[string]bool{}
	for _, e := range events(t, said, "start") {
		key := fmt.Sprint(e["job"], e["slot"])
		assert.False(t, seen[key], "%s is there twice", key)
		seen[key] = true
		assert.Equal(t, "done", e["state"], "%v", e)
	}
	// No plan was carried out to its end twice, and each end was told.
	ids := func() map[string]int {
		all := map[string]int{}
		raw, _ := os.ReadFile(told)
		in := bufio.NewScanner(strings.NewReader(string(raw)))
		in.Buffer(nil, 1<<24)
		for in.Scan() {
			var m struct {
				ID    string
				Items []struct{ ID string }
			}
			if json.Unmarshal(in.Bytes(), &m) != nil {
				continue // a kill cut it short: it comes again
			}
			if len(m.Items) == 0 {
				all[m.ID]++
			}
			for _, i := range m.Items {
				all[i.ID]++
			}
		}
		return all
	}
	history, _ := lumtra(t, dir, "history", "--json")
	clean := map[string]int{}
	for _, e := range events(t, history, "run") {
		if e["end"] == "done" {
			clean[fmt.Sprint(e["job"], e["plan"])]++
		}
	}
	require.NotEmpty(t, clean)
	for plan, n := range clean {
		assert.Equal(t, 1, n, "plan %s ended well more than once", plan)
	}
	testkit.Until(t, func() bool { return len(ids()) >= len(clean) },
		func() any { return fmt.Sprintf("%d of %d runs were told", len(ids()), len(clean)) })
}

// The service is killed at random moments around the minute at which many jobs start by their times:
// each job has each minute once in the book, done or with what became of it, no plan is carried out to
// its end twice, and all there was at the last minute is copied. LUMTRA_KILLS is how often; six kills
// are around each minute.
func TestTimesOutliveKills(t *testing.T) {
	t.Parallel()
	kills, dice := testkit.Kills(t), testkit.Dice(t)
	const many = 8
	jobs := map[string]string{}
	for i := range many {
		jobs[fmt.Sprint("lane-", i)] = fmt.Sprintf("source = \"src\"\ntarget = \"dst/%d\"\n[when]\n"+
			"start = \"every 1 minute\"\noverlap = %q\n", i, []string{"skip", "queue-one", "queue-all"}[i%3])
	}
	dir := workspace(t, "http://127.0.0.1:1", jobs)
	files := 0
	arrive := func() {
		files++
		put(t, dir, fmt.Sprintf("src/take %03d.wav", files), strings.Repeat("w", 1000+files))
	}
	arrive()
	first := time.Now().Truncate(time.Minute).Add(time.Minute)
	for done := 0; done < kills; {
		boundary := time.Now().Truncate(time.Minute).Add(time.Minute)
		time.Sleep(time.Until(boundary.Add(-1500 * time.Millisecond))) // the moment is what is tested
		arrive()
		for range 6 {
			service := command(dir, "service")
			require.NoError(t, service.Start())
			time.Sleep(time.Duration(200+dice.IntN(1500)) * time.Millisecond) // the moment is drawn
			require.NoError(t, service.Process.Kill())
			_ = service.Wait()
			done++
		}
	}
	last := time.Now().Truncate(time.Minute)
	service := command(dir, "service")
	require.NoError(t, service.Start())
	defer func() { _ = service.Process.Kill(); _ = service.Wait() }()
	testkit.Until(t, func() bool {
		said, _ := lumtra(t, dir, "agenda", "--json", "--most", "10000")
		all := events(t, said, "start")
		for _, e := range all {
			if s := e["state"]; s == "queued" || s == "at work" || s == "waiting" {
				return false
			}
		}
		return len(all) >= many
	})

	said, _ := lumtra(t, dir, "agenda", "--json", "--most", "10000")
	seen := map[string]map[string]any{}
	for _, e := range events(t, said, "start") {
		at, err := time.Parse(time.RFC3339Nano, fmt.Sprint(e["slot"]))
		require.NoError(t, err)
		key := fmt.Sprint(e["job"], at.Unix())
		assert.Nil(t, seen[key], "%s is there twice", key)
		seen[key] = e
		assert.Contains(t, []any{"done", "skipped", "missed"}, e["state"], "%v", e)
		assert.True(t, e["state"] == "done" || e["note"] != "", "without a reason: %v", e)
	}
	for job := range jobs {
		for at := first; !at.After(last); at = at.Add(time.Minute) {
			assert.NotNil(t, seen[fmt.Sprint(job, at.Unix())], "%s at %s is in no book", job, at)
		}
	}
	for i := range many {
		all, _ := os.ReadDir(filepath.Join(dir, "dst", strconv.Itoa(i)))
		assert.Len(t, all, files, "of lane %d", i)
	}
	history, _ := lumtra(t, dir, "history", "--json")
	clean := map[string]int{}
	for _, e := range events(t, history, "run") {
		if e["end"] == "done" {
			clean[fmt.Sprint(e["job"], e["plan"])]++
		}
	}
	require.NotEmpty(t, clean)
	for plan, n := range clean {
		assert.Equal(t, 1, n, "plan %s ended well more than once", plan)
	}
}

// systemd is told when the service is ready, and when it ends: by a socket of the form that it makes.
func TestReadiness(t *testing.T) {
	t.Parallel()
	dir := workspace(t, "http://127.0.0.1:1", nil)
	path := filepath.Join(t.TempDir(), "notify")
	l, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	require.NoError(t, err)
	defer l.Close()
	service := command(dir, "service")
	service.Env = append(service.Env, "NOTIFY_SOCKET="+path, "WATCHDOG_USEC=600000")
	require.NoError(t, service.Start())
	defer func() { _ = service.Process.Kill(); _ = service.Wait() }()
	heard := func() string {
		require.NoError(t, l.SetReadDeadline(time.Now().Add(testkit.Patience)))
		b := make([]byte, 4096)
		n, err := l.Read(b)
		require.NoError(t, err)
		return string(b[:n])
	}
	assert.Equal(t, "READY=1", heard())
	said, code := lumtra(t, dir, "service", "status")
	assert.Zero(t, code, "ready is ready: %s", said)
	assert.Equal(t, "WATCHDOG=1", heard())
	require.NoError(t, service.Process.Signal(syscall.SIGTERM))
	for {
		if h := heard(); h != "WATCHDOG=1" {
			assert.Equal(t, "STOPPING=1", h)
			break
		}
	}
	said, code = lumtra(t, dir, "service", "install", "--print")
	require.Zero(t, code)
	assert.Contains(t, said, "Type=notify")
	if verify, err := exec.LookPath("systemd-analyze"); err == nil {
		unit := filepath.Join(t.TempDir(), "lumtra-test.service")
		require.NoError(t, os.WriteFile(unit, []byte(said), 0o644))
		out, err := exec.Command(verify, "verify", unit).CombinedOutput()
		assert.NoError(t, err, "%s", out)
	}
}

// A guard holds back at night what a start has planned; in the morning a person sees it, looks, approves
// it by its number in the window, and the start is done. A job's time is written in the sentence and its
// lane shows when it comes.
func TestGuardAtNight(t *testing.T) {
	t.Parallel()
	dir := workspace(t, "http://127.0.0.1:1", map[string]string{
		"masters": "source = \"src/in\"\ntarget = \"dst/one\"\ntarget-only = \"delete\"\n[safety]\ndeletions = 0\n" +
			"[when]\nstart = \"on arrival\"\napprove-within = \"12h\"\n[when.arrival]\nsettle = \"100ms\"\n",
		"nightly": "source = \"src/in\"\ntarget = \"dst/two\"\n",
	})
	put(t, dir, "src/in/a.wav", "a")
	put(t, dir, "dst/one/gone at the source.wav", "b")
	service := command(dir, "service")
	require.NoError(t, service.Start())
	defer func() { _ = service.Process.Kill(); _ = service.Wait() }()
	state := func() string {
		said, _ := lumtra(t, dir, "agenda", "--json")
		if all := events(t, said, "start"); len(all) > 0 {
			return fmt.Sprint(all[0]["state"], ": ", all[0]["note"])
		}
		return ""
	}
	testkit.Until(t, func() bool { return strings.HasPrefix(state(), "waiting: held back by a safety limit") },
		func() any { return state() })
	assert.FileExists(t, filepath.Join(dir, "dst", "one", "gone at the source.wav"))
	w := openWindow(t, "--workspace", dir)
	w.see(`▲ masters +plan 1 is held back`)
	w.keys("4")
	w.see(`› Plan › masters(.|\n)*a approve`)
	w.keys("a")
	w.see(`Type the number of deletions`)
	w.keys("1", "Enter")
	testkit.Becomes(t, "done: approved by a person", state)
	assert.NoFileExists(t, filepath.Join(dir, "dst", "one", "gone at the source.wav"))
	w.keys("1", "j", "3")
	w.see(`› Jobs › nightly`)
	w.keys("j", "j", "j", "j", "j", "j")
	w.see(`‹never by itself›`)
	w.keys("Enter")
	w.tmux("send-keys", "-l", "daily at 23:30")
	w.see(`Starts every day at 23:30`)
	w.keys("Enter", "w")
	w.see(`Written to`)
	w.keys("1")
	w.see(`next \w+ 23:30`)
	w.see(`starts every day at 23:30`)
	w.leave()
}

// A service of ten thousand jobs with times waits in less than 60 MB, the program's own pages with it.
func TestTenThousandJobsWait(t *testing.T) {
	dir, hour := workspace(t, "http://127.0.0.1:1", nil), time.Now().UTC().Hour()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "jobs"), 0o755))
	old := time.Now().Add(-time.Hour)
	for i := range 10_000 {
		path := filepath.Join(dir, "jobs", fmt.Sprintf("job-%05d.toml", i))
		require.NoError(t, os.WriteFile(path, fmt.Appendf(nil, "source = \"src/%d\"\ntarget = \"dst/%d\"\n[when]\n"+
			"start = \"daily at %02d:%02d\"\nzone = \"UTC\"\n", i, i, (hour+3+i%18)%24, i%60), 0o644))
		require.NoError(t, os.Chtimes(path, old, old))
	}
	service := command(dir, "service", "--metrics", "127.0.0.1:0")
	require.NoError(t, service.Start())
	defer func() { _ = service.Process.Kill(); _ = service.Wait() }()
	told, address := regexp.MustCompile(`"metrics are served","address":"([^"]+)"`), ""
	testkit.Until(t, func() bool {
		raw, _ := os.ReadFile(stateOf(t, dir, "lumtra.log"))
		if at := told.FindSubmatch(raw); at != nil {
			address = string(at[1])
		}
		return address != ""
	})
	testkit.Until(t, func() bool { // it has looked at all of them
		answer, err := http.Get("http://" + address + "/readyz")
		if err != nil {
			return false
		}
		return answer.Body.Close() == nil && answer.StatusCode == http.StatusOK
	})
	var is int64
	testkit.Until(t, func() bool {
		is = memory(t, service.Process.Pid, "VmRSS:")
		return is < 60<<20
	}, func() any { return is })
	text, code := lumtra(t, dir, "agenda", "--most", "3")
	assert.Zero(t, code, text)
	t.Logf("it waits in %d MB, and had up to %d", is>>20, peakMemory(t, service.Process.Pid)>>20)
}
