package measure

import (
	"context"
	"io"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/history"
	"lumtra/service/runs"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/testkit"
)

// What happened is measured, under names that stay; health is that the clock is looked at.
func TestMetrics(t *testing.T) {
	dir := t.TempDir()
	put := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	put("endpoints.toml", "[endpoint.a]\nkind = \"folder\"\npath = \"a\"\n")
	put("jobs/masters.toml", "source = \"a/x\"\ntarget = \"a/y\"\n[when]\nstart = \"daily at 01:30\"\nzone = \"UTC\"\n")
	put("jobs/broken.toml", "source = 1\n")
	now := time.Date(2026, 3, 23, 2, 0, 0, 0, time.UTC)
	ws, err := workspace.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state"),
		Now: func() time.Time { return now }})
	require.NoError(t, err)
	defer ws.Close()
	db, err := ws.History()
	require.NoError(t, err)
	r := history.Run{Job: "masters", Began: now.Add(-time.Hour)}
	require.NoError(t, db.Begin(t.Context(), &r))
	r.End, r.Ended, r.Bytes, r.Objects = history.Clean, now.Add(-30*time.Minute), 1000, 9
	require.NoError(t, db.Save(t.Context(), &r))
	alive := true
	w := New(ws, runs.New(ws, workroom.New(ws)), func() bool { return alive }, Options{File: filepath.Join(dir,
		"m.prom")})
	srv := httptest.NewServer(w.routes())
	defer srv.Close()
	get := func(path string) (int, string) {
		resp, err := srv.Client().Get(srv.URL + path)
		require.NoError(t, err)
		defer resp.Body.Close()
		raw, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(raw)
	}
	_, text := get("/metrics")
	for _, line := range []string{`lumtra_runs_total{end="done",job="masters"} 1`,
		`lumtra_sent_bytes_total{job="masters"} 1000`,
		`lumtra_last_success_age_seconds{job="masters"} 1800`, `lumtra_lag_seconds{job="masters"} 3600`,
		`lumtra_next_start_timestamp_seconds{job="masters"} 1.7743158e+09`,
		`lumtra_needs 1`, `lumtra_running{job="masters"} 0`} {
		assert.Contains(t, text, line+"\n")
	}
	page, err := os.ReadFile("../../docs/service.md")
	require.NoError(t, err)
	for line := range strings.Lines(text) {
		if name, ok := strings.CutPrefix(line, "# TYPE "); ok {
			assert.Contains(t, string(page), "`"+strings.Fields(name)[0]+"`", "a metric that is not documented")
		}
	}
	if promtool, err := exec.LookPath("promtool"); err == nil {
		cmd := exec.Command(promtool, "check", "metrics")
		cmd.Stdin = strings.NewReader(text)
		out, err := cmd.CombinedOutput()
		assert.NoError(t, err, "%s", out)
	}
	code, _ := get("/readyz")
	assert.Equal(t, 503, code, "not ready before it has begun")
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error)
	go func() { ended <- w.Run(ctx) }()
	testkit.Becomes(t, 200, func() int { code, _ := get("/readyz"); return code })
	code, _ = get("/healthz")
	assert.Equal(t, 200, code)
	alive = false
	code, _ = get("/healthz")
	assert.Equal(t, 503, code)
	cancel()
	require.NoError(t, <-ended)
	raw, err := os.ReadFile(filepath.Join(dir, "m.prom"))
	require.NoError(t, err)
	assert.Contains(t, string(raw), "lumtra_sent_objects_total")
}
