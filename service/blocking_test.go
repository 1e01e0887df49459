package service_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/history"
	"lumtra/core/place"
	"lumtra/core/probe"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/standin"
	"lumtra/testkit"
)

// What is known to fail is refused before its first byte, by name, and runs in spite of
// it only when that name is given; what turned out well blocks nothing any more.
func TestBlockers(t *testing.T) {
	dir := prepared(t)
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	refused := func(job, name string) {
		t.Helper()
		_, err := s.StartRun(ctx, job, workroom.RunOptions{})
		require.ErrorIs(t, err, workroom.ErrBlocked)
		assert.ErrorContains(t, err, "--despite "+name)
		for _, r := range must(s.Runs(ctx, job, time.Time{}, 9)) {
			assert.Zero(t, r.Bytes, "nothing began")
		}
		_, err = s.StartRun(ctx, job, workroom.RunOptions{Despite: []string{"moonlight"}})
		assert.ErrorIs(t, err, workspace.ErrBadInput)
		all, err := s.Checks(ctx, job, must(s.LatestPlan(job)).Info.Number)
		require.NoError(t, err)
		blocks := false
		for _, c := range all {
			blocks = blocks || c.Blocks && c.Name == name
		}
		assert.True(t, blocks, "a view can tell: %+v", all)
	}

	run(t, s, "masters", workroom.Freshness{})
	// A test that came to an end before a step says nothing about it.
	require.NoError(t, s.KeepReport("north",
		&probe.Report{At: time.Now(), Checks: []probe.Check{{Name: "list"}, {Name: "write", Outcome: probe.Untried}}}))
	all, err := s.Checks(ctx, "masters", 1)
	require.NoError(t, err)
	found := ""
	for _, c := range all {
		if c.Name == "permissions" && strings.Contains(c.Found, "north") {
			found = c.Found
		}
	}
	assert.Contains(t, found, "was not tested")
	_, err = s.TestEndpoint(ctx, "north", probe.Options{Bucket: "archive", Write: true})
	require.NoError(t, err)

	// More than there is room for; nothing of it is on the disk.
	put(t, dir, "studio/huge.wav", "")
	if err := os.Truncate(filepath.Join(dir, "studio/huge.wav"), 8<<40); err == nil {
		put(t, dir, "other/x", "")
		put(t, dir, "jobs/local.toml", "source = \"studio\"\ntarget = \"studio2\"\n")
		put(t, dir, "endpoints.toml", string(must(os.ReadFile(filepath.Join(dir, "endpoints.toml"))))+
			"\n[endpoint.studio2]\nkind = \"folder\"\npath = \"other\"\n")
		s.Reread()
		_, err := s.Plan(ctx, "local", workroom.Freshness{}, &workroom.Activity{})
		require.NoError(t, err)
		refused("local", "room")
		require.NoError(t, os.Remove(filepath.Join(dir, "studio/huge.wav")))
	}

	// Cold objects block until they have been restored.
	p, err := s.Place(ctx, "north/archive/masters")
	require.NoError(t, err)
	_, err = p.Write(ctx, "cold.wav", strings.NewReader("c"), 1,
		place.WriteOptions{Class: "GLACIER", Condition: place.Always})
	require.NoError(t, err)
	put(t, dir, "jobs/back.toml", "source = \"north/archive/masters\"\ntarget = \"studio/back\"\n")
	back, err := s.Plan(ctx, "back", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	refused("back", "cold")
	_, err = s.Mend(ctx, "back", back.Number, workroom.FixRestore)
	require.NoError(t, err)
	testkit.Until(t, func() bool {
		r, err := s.StartRun(ctx, "back", workroom.RunOptions{})
		if err != nil {
			return false
		}
		res, err := r.Wait()
		return err == nil && res.End == history.Clean
	})
}

// What a kept test was refused stops a run only if it is refused now, by the store itself: the one question is
// asked again. Silence and a store's own trouble are no refusal.
func TestBlockersAreAskedAgain(t *testing.T) {
	dir := t.TempDir()
	server, err := standin.New(standin.Config{Dir: t.TempDir(), Public: true})
	require.NoError(t, err)
	defer server.Close()
	address, err := server.Start("127.0.0.1:0")
	require.NoError(t, err)
	put(t, dir, "endpoints.toml", "[endpoint.studio]\nkind = \"folder\"\npath = \"studio\"\n[endpoint.north]\n"+
		"kind = \"s3\"\naddress = \""+address+"\"\n")
	put(t, dir, "jobs/masters.toml", "source = \"studio\"\ntarget = \"north/archive\"\n")
	put(t, dir, "studio/a.wav", "tide")
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	makePlan(t, s)
	bad := &probe.Report{At: time.Now(), Bucket: "archive", Facts: &place.Facts{At: time.Now()},
		Checks: []probe.Check{{Name: "list"}, {Name: "write", Outcome: probe.Refused, Mend: "ask for it"},
			{Name: "delete"}}}
	for name, c := range map[string]struct {
		fault string
		stops bool
	}{"refused still": {"403", true}, "a store with trouble": {"503", false}, "resets": {"reset-before", false}} {
		require.NoError(t, s.KeepReport("north", bad), name)
		server.SetFaults(standin.Fault{Op: "PutObject", Do: c.fault})
		all, err := s.Checks(ctx, "masters", 1)
		require.NoError(t, err)
		stops := false
		for _, x := range all {
			if x.Name == "permissions" && x.Blocks {
				stops = true
				assert.Contains(t, x.Found, "denied to write")
				assert.Contains(t, x.Mend, "`lumtra endpoint test north`")
			}
		}
		assert.Equal(t, c.stops, stops, name)
	}
	require.NoError(t, s.KeepReport("north", bad))
	server.SetFaults(standin.Fault{Op: "PutObject", Do: "403"})
	_, err = s.StartRun(ctx, "masters", workroom.RunOptions{})
	assert.ErrorIs(t, err, workroom.ErrBlocked)
	assert.ErrorContains(t, err, "--despite permissions")
	server.SetFaults()
	r, err := s.StartRun(ctx, "masters", workroom.RunOptions{})
	require.NoError(t, err, "the store has changed its mind")
	res, err := r.Wait()
	require.NoError(t, err)
	assert.Equal(t, history.Clean, res.End)
}

// A source that takes no tags is known before the first byte, by its kind or by its test, to
// a job whose sources are to be tagged.
func TestBlockedByTags(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "jobs/masters.toml", "source = \"studio\"\ntarget = \"north/archive/masters\"\n")
	put(t, dir, "jobs/tagged.toml",
		"source = \"north/archive/masters\"\ntarget = \"north/archive/tagged\"\nafterwards = \"tag\"\nsource-tags = "+
			"{ sent = \"yes\" }\n")
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	makePlan(t, s)
	r, err := s.StartRun(ctx, "masters", workroom.RunOptions{})
	require.NoError(t, err)
	_, err = r.Wait()
	require.NoError(t, err)
	p, err := s.Plan(ctx, "tagged", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	blocks := func() (found string) {
		for _, c := range must(s.Checks(ctx, "tagged", p.Number)) {
			if c.Blocks {
				found += c.Name + ": " + c.Found
			}
		}
		return found
	}
	assert.Empty(t, blocks())
	known := &place.Facts{At: time.Now(), Answers: map[place.Ask]place.Answer{place.KeepsTags: place.Refused}}
	require.NoError(t, s.KeepReport("north", &probe.Report{At: time.Now(), Bucket: "archive", Wrote: true,
		Facts: known}))
	assert.Contains(t, blocks(), "afterwards: ")
	assert.Contains(t, blocks(), "tags are refused by the store")
	_, err = s.StartRun(ctx, "tagged", workroom.RunOptions{})
	require.ErrorIs(t, err, workroom.ErrBlocked)
}

func must[T any](x T, err error) T {
	if err != nil {
		panic(err)
	}
	return x
}

// What was decided about one plan is not taken for a word about another, and what it
// says of the totals does not lift a guard.
func TestForgedChoices(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "jobs/masters.toml", "source = \"studio\"\ntarget = \"north/archive/masters\"\ntarget-only = "+
		"\"delete\"\n")
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	p, err := s.Place(ctx, "north/archive/masters")
	require.NoError(t, err)
	for _, key := range []string{"gone/1", "gone/2", "gone/3"} {
		_, err := p.Write(ctx, key, strings.NewReader("g"), 1, place.WriteOptions{Condition: place.Always})
		require.NoError(t, err)
	}
	one := makePlan(t, s)
	require.NotEmpty(t, one.Held)
	require.NoError(t, s.Approve(ctx, "masters", one.Number, 3))
	two := makePlan(t, s)
	plans := filepath.Join(dir, "state/jobs/masters/plans")
	choices := func(n string) string { return filepath.Join(plans, n+".choices.json") }
	raw, err := os.ReadFile(choices("0001"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(choices("0002"), raw, 0o600))
	_, err = s.StartRun(ctx, "masters", workroom.RunOptions{Number: two.Number})
	require.ErrorIs(t, err, workroom.ErrHeld, "plan 1 was approved, not plan 2")

	// One that was cut short is told, with the file to remove, and runs nothing.
	require.NoError(t, os.WriteFile(choices("0002"), raw[:len(raw)/2], 0o600))
	_, err = s.StartRun(ctx, "masters", workroom.RunOptions{Number: two.Number})
	require.ErrorContains(t, err, choices("0002")+", is damaged")
	require.NoError(t, os.Remove(choices("0002")))

	// Totals that somebody wrote into the file, with nothing in them that a guard minds.
	_, err = s.Strike(ctx, "masters", two.Number, "gone/1")
	require.NoError(t, err)
	raw, err = os.ReadFile(choices("0002"))
	require.NoError(t, err)
	forged := map[string]any{}
	require.NoError(t, json.Unmarshal(raw, &forged))
	require.NotEmpty(t, forged["held"])
	delete(forged, "held")
	raw, err = json.Marshal(forged)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(choices("0002"), raw, 0o600))
	_, err = s.StartRun(ctx, "masters", workroom.RunOptions{Number: two.Number})
	require.ErrorIs(t, err, workroom.ErrHeld)
	require.NoError(t, s.Approve(ctx, "masters", two.Number, 2))
	r, err := s.StartRun(ctx, "masters", workroom.RunOptions{Number: two.Number})
	require.NoError(t, err)
	_, err = r.Wait()
	require.NoError(t, err)
}

// A file that is no signature, or no token, is not sent to a store as one.
func TestReferencesThatAreNone(t *testing.T) {
	asked := 0
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		w.WriteHeader(http.StatusForbidden)
	}))
	defer web.Close()
	dir := t.TempDir()
	put(t, dir, "shadow", "root:$6$salt:19000:0:99999:7:::\nmarsh:!:19000::::::\n")
	put(t, dir, "key", "a2V5\n")
	put(t, dir, "endpoints.toml", "[endpoint.a]\nkind = \"blob\"\naddress = \""+web.URL+
		"/x\"\nsignature-from = \"file:shadow\"\n"+
		"[endpoint.b]\nkind = \"s3\"\naddress = \""+web.URL+
		"\"\naccess-key = \"k\"\nsecret-from = \"file:key\"\ntoken-from = \"file:shadow\"\n"+
		"[endpoint.c]\nkind = \"s3\"\naddress = \""+web.URL+
		"\"\naccess-key = \"k\"\nsecret-from = \"file:key\"\ntoken-from = \"file:key\"\n")
	s := open(t, dir)
	uses, err := s.Unconfirmed()
	require.NoError(t, err)
	require.NoError(t, s.Confirm(uses...))
	for _, name := range []string{"a", "b"} {
		_, err := s.Folders(ctx, name+"/", 9)
		assert.Equal(t, place.BadLogin, place.KindOf(err), "%v", err)
		assert.NotContains(t, err.Error(), "root")
	}
	assert.Zero(t, asked)
	_, err = s.Folders(ctx, "c/", 9)
	assert.Equal(t, place.Denied, place.KindOf(err), "one file may hold both: %v", err)
	assert.Positive(t, asked)
}
