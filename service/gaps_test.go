package service_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/history"
	"lumtra/core/place"
	"lumtra/service"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/standin"
)

// A run whose plan did not see everything is not done, however well it went; nor does a
// proof of such a listing hold.
func TestGapsAreNotDone(t *testing.T) {
	server, err := standin.New(standin.Config{Dir: t.TempDir(),
		Keys: []standin.Key{{Access: "saltmarsh", Secret: secretText}}})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, server.Close()) })
	var shut atomic.Bool
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if shut.Load() && r.URL.Query().Get("continuation-token")+r.URL.Query().Get("start-after") != "" {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		server.ServeHTTP(w, r)
	}))
	t.Cleanup(web.Close)
	dir := t.TempDir()
	put(t, dir, "endpoints.toml",
		"[endpoint.copy]\nkind = \"folder\"\npath = \"copy\"\n[endpoint.north]\nkind = \"s3\"\naddress = \""+web.URL+
			"\"\naccess-key = \"saltmarsh\"\nsecret-from = \"file:north.secret\"\n")
	put(t, dir, "north.secret", secretText)
	put(t, dir, "copy/.keep", "")
	put(t, dir, "jobs/masters.toml",
		"source = \"north/archive\"\ntarget = \"copy\"\ntarget-only = \"delete\"\n[safety]\ndeletion-share = 100\n")
	s, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state"), Trust: true})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	from, err := s.Place(ctx, "north/archive")
	require.NoError(t, err)
	for i := range 1100 {
		_, err := from.Write(ctx, fmt.Sprintf("%04d.json", i), strings.NewReader("{}"), 2, place.WriteOptions{})
		require.NoError(t, err)
	}
	shut.Store(true)
	info, res := run(t, s, "masters", workroom.Freshness{})
	assert.Positive(t, info.Source.Missed)
	assert.Equal(t, history.Failures, res.End)
	assert.Positive(t, res.Gaps)
	assert.EqualValues(t, 1000, res.Objects)
	p, err := s.Prove(ctx, "masters", workroom.ProveOptions{}, &workroom.Activity{})
	require.NoError(t, err)
	assert.False(t, p.Holds())

	shut.Store(false)
	_, res = run(t, s, "masters", workroom.Freshness{})
	assert.Equal(t, history.Clean, res.End)
	p, err = s.Prove(ctx, "masters", workroom.ProveOptions{}, &workroom.Activity{})
	require.NoError(t, err)
	assert.True(t, p.Holds(), "%v", p.Objects)

	// And what was listed once and is not now, with a gap, is not removed for it.
	shut.Store(true)
	info, _ = run(t, s, "masters", workroom.Freshness{})
	assert.Zero(t, info.Totals.Work().Count)
	assert.Len(t, keys(t, filepath.Join(dir, "copy")), 1100)

	// Nor is a plan whole that did not see everything at its target.
	put(t, dir, "jobs/back.toml", "source = \"copy\"\ntarget = \"north/archive\"\n")
	back, err := s.Plan(ctx, "back", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	assert.True(t, back.Source.Complete())
	assert.Positive(t, back.Target.Missed)
	assert.False(t, back.Whole())
}
