package service_test

import (
	"context"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lumtra/core/place"
	"lumtra/core/place/kinds"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/service"
	"lumtra/service/state"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/testkit"
)

// islands is a two-way job between two folders that have both changed a.wav and b/c.wav
// since they agreed.
func islands(t *testing.T) (string, *service.Service) {
	dir := t.TempDir()
	put(t, dir, "endpoints.toml",
		"[endpoint.east]\nkind = \"folder\"\npath = \"east\"\n[endpoint.west]\nkind = \"folder\"\npath = \"west\"\n")
	put(t, dir, "jobs/step.toml", "source = \"east\"\ntarget = \"west\"\ndirection = \"two-way\"\n")
	for _, name := range []string{"a.wav", "b/c.wav", "calm.wav"} {
		put(t, dir, "east/"+name, "tide")
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "west"), 0o755))
	s := open(t, dir)
	run(t, s, "step", workroom.Freshness{})
	for _, name := range []string{"a.wav", "b/c.wav"} {
		put(t, dir, "east/"+name, "from the east")
		put(t, dir, "west/"+name, "from the west coast")
	}
	return dir, s
}

// A conflict is decided by a person, for one key or for all below a folder, each change of
// mind counts, and the run does what was decided last.
func TestDecide(t *testing.T) {
	dir, s := islands(t)
	info, err := s.Plan(ctx, "step", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	assert.EqualValues(t, 2, info.Totals[plan.Conflict].Count)
	before := info.Number
	_, err = s.StartRun(ctx, "step", workroom.RunOptions{})
	assert.ErrorIs(t, err, workroom.ErrUndecided, "and the plan can still be chosen from")
	info, err = s.Decide(ctx, "step", before, "a.wav", rule.SourceWins)
	require.NoError(t, err)
	assert.Equal(t, []int64{1, 1, 0}, []int64{info.Totals[plan.Conflict].Count, info.Totals[plan.Change].Count,
		info.Back.Count})
	info, err = s.Decide(ctx, "step", before, "b/", rule.SourceWins)
	require.NoError(t, err)
	assert.Zero(t, info.Totals[plan.Conflict].Count)
	info, err = s.Decide(ctx, "step", before, "b/", rule.TargetWins)
	require.NoError(t, err)
	assert.EqualValues(t, 1, info.Back.Count)
	require.NoError(t, s.Approve(ctx, "step", before, 0))
	p, err := s.PlanNumber("step", before)
	require.NoError(t, err)
	me, err := user.Current()
	require.NoError(t, err)
	assert.Equal(t, me.Username, p.Choices.Approved.By)
	assert.WithinDuration(t, time.Now(), p.Choices.Approved.At, testkit.Patience)
	assert.True(t, p.Approved())
	require.NoError(t, p.Close())
	r, err := s.StartRun(ctx, "step", workroom.RunOptions{})
	require.NoError(t, err)
	_, err = r.Wait()
	require.NoError(t, err)
	for name, want := range map[string]string{"a.wav": "from the east", "b/c.wav": "from the west coast",
		"calm.wav": "tide"} {
		for _, side := range []string{"east", "west"} {
			assert.Equal(t, want, string(must(os.ReadFile(filepath.Join(dir, side, name)))), "%s of %s", name, side)
		}
	}
	_, err = s.Decide(ctx, "step", before, "a.wav", rule.TargetWins)
	assert.ErrorIs(t, err, workroom.ErrBegun)
}

// Two plans are held against each other, with as many of the differences as are asked for
// and the number of all.
func TestComparePlans(t *testing.T) {
	dir, s := islands(t)
	first, err := s.Plan(ctx, "step", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	for _, name := range []string{"new", "newer", "newest"} {
		put(t, dir, "east/"+name+".wav", "spring tide")
	}
	put(t, dir, "west/a.wav", "from the east")
	second, err := s.Plan(ctx, "step", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	c, err := s.ComparePlans(ctx, "step", first.Number, second.Number, 10)
	require.NoError(t, err)
	assert.Equal(t, []int{first.Number, second.Number}, []int{c.Was.Number, c.Is.Number})
	var told []string
	for _, l := range c.Lines {
		word := func(e *plan.Effect) string {
			if e == nil {
				return "nothing"
			}
			return e.Kind.String()
		}
		told = append(told, fmt.Sprintf("%s: %s, %s", l.Key, word(l.Was), word(l.Is)))
		for _, e := range []*plan.Effect{l.Was, l.Is} {
			assert.True(t, e == nil || e.Key == l.Key, "an effect is of its own key")
		}
	}
	assert.EqualValues(t, len(told), c.Count)
	assert.Contains(t, told, "new.wav: nothing, add")
	assert.GreaterOrEqual(t, len(told), 3)
	few, err := s.ComparePlans(ctx, "step", first.Number, second.Number, 2)
	require.NoError(t, err)
	assert.Len(t, few.Lines, 2)
	assert.Equal(t, c.Count, few.Count)
	for _, numbers := range [][2]int{{99, second.Number}, {first.Number, 99}} {
		_, err = s.ComparePlans(ctx, "step", numbers[0], numbers[1], 1)
		assert.Error(t, err, "there is no such plan")
	}
	numbers, err := s.Plans("step")
	require.NoError(t, err)
	assert.Equal(t, []int{1, first.Number, second.Number}, numbers)
}

// While another process works with a job nothing is decided about it; of what is not there
// nothing can be; and once all is closed nothing more is taken.
func TestNothingToDecideAbout(t *testing.T) {
	dir, s := islands(t)
	info, err := s.Plan(ctx, "step", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	lock, err := os.OpenFile(filepath.Join(dir, "state/jobs/step/lock"), os.O_CREATE|os.O_RDWR, 0o600)
	require.NoError(t, err)
	require.NoError(t, unix.Flock(int(lock.Fd()), unix.LOCK_EX))
	_, err = s.Strike(ctx, "step", info.Number, "a.wav")
	assert.ErrorIs(t, err, state.ErrBusy)
	assert.ErrorIs(t, s.Approve(ctx, "step", info.Number, 0), state.ErrBusy)
	require.NoError(t, lock.Close())
	_, err = s.Strike(ctx, "step", 99, "a.wav")
	assert.Error(t, err)
	assert.ErrorIs(t, s.Approve(ctx, "step", info.Number, 1), workspace.ErrBadInput)
	p, err := s.PlanNumber("step", info.Number)
	require.NoError(t, err)
	assert.Nil(t, p.Choices.Approved)
	require.NoError(t, p.Close())
	require.NoError(t, s.Close())
	_, err = s.Strike(ctx, "step", info.Number, "a.wav")
	assert.ErrorIs(t, err, context.Canceled)
}

// A credential that has run out, and tags where a place has none, stop a run before its
// first byte, with what was found and what helps.
func TestBlockedByWhatIsKnown(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "jobs/masters.toml",
		"source = \"north/archive/from\"\ntarget = \"north/archive/to\"\nafterwards = \"tag\"\nsource-tags = {sent "+
			"= \"yes\"}\n")
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	p, err := s.Place(ctx, "north/archive/from")
	require.NoError(t, err)
	_, err = p.Write(ctx, "a.wav", strings.NewReader("tide"), 4, place.WriteOptions{})
	require.NoError(t, err)
	info := makePlan(t, s)
	assert.EqualValues(t, 1, info.Afterwards.Count)
	text := string(must(os.ReadFile(filepath.Join(dir, "endpoints.toml"))))
	given, err := kinds.Read("http://127.0.0.1:9/marsh?sv=2020-12-06&se=2021-01-01T00:00:00Z&sp=rl&sr=c&sig=c2VhbGVk")
	require.NoError(t, err)
	given.Credential.Label = "signed"
	require.NoError(t, s.KeepCredential(*given.Credential))
	sealed := text[:strings.Index(text, "[endpoint.north]")] +
		"[endpoint.north]\nkind = \"blob\"\naddress = \"http://127.0.0.1:9/marsh\"\ncredential = \"kept:signed\"\n"
	put(t, dir, "endpoints.toml", sealed)
	s.Reread()
	uses, err := s.Uses("north")
	require.NoError(t, err)
	require.NoError(t, s.Confirm(uses...))
	_, err = s.StartRun(ctx, "masters", workroom.RunOptions{})
	require.ErrorIs(t, err, workroom.ErrBlocked)
	assert.ErrorContains(t, err, "the credential of north ran out 2021-01-01")
	assert.ErrorContains(t, err, "; rotate it: K in Places")
	assert.ErrorContains(t, err, "--despite credentials")
	assert.Equal(t, 1, strings.Count(err.Error(), "--despite"), "a check is named once")
	_, err = s.Strike(ctx, "masters", info.Number, "a.wav")
	assert.NoError(t, err, "nothing began, so the plan can be chosen from")
	_, err = s.Strike(ctx, "masters", info.Number, "a.wav")
	require.NoError(t, err)
	_, err = s.StartRun(ctx, "masters", workroom.RunOptions{Despite: []string{"credentials"}})
	assert.NotErrorIs(t, err, workroom.ErrBlocked)
}

// What a person has let be is asked of them where it cannot be read, and nothing is written
// where there is nothing to note.
func TestWhatWasLetBe(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "endpoints.toml",
		"[endpoint.far]\nkind = \"s3\"\naddress = \"https://Far.example.org:9000/base\"\naccess-key = "+
			"\"AK\"\nsecret-from = \"env:FAR\"\n[endpoint.ours]\nkind = \"s3\"\nstand-in = \"ours\"\naccess-key = "+
			"\"AK\"\nsecret-from = \"env:OURS\"\n")
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "jobs")))
	s := open(t, dir)
	asked, err := s.Unconfirmed()
	require.NoError(t, err)
	var told []string
	for _, u := range asked {
		told = append(told, u.String())
	}
	assert.Equal(t, []string{"env:FAR for https://far.example.org:9000"}, told, "a stand-in's goes nowhere")
	require.NoError(t, s.Confirm())
	path := filepath.Join(dir, "state/trusted.jsonl")
	assert.NoFileExists(t, path)
	require.NoError(t, os.MkdirAll(path, 0o700))
	_, err = s.Place(ctx, "far/box")
	assert.Error(t, err, "what cannot be read is not taken for let")
	assert.Error(t, s.Confirm(asked...))
	_, err = s.Unconfirmed()
	assert.Error(t, err)
}

// A bucket that would hold more than it may is known before the first byte.
func TestBlockedByANumber(t *testing.T) {
	dir := prepared(t)
	text := string(must(os.ReadFile(filepath.Join(dir, "endpoints.toml"))))
	limited := func(n int) {
		put(t, dir, "endpoints.toml",
			strings.Replace(text, "[endpoint.north]", fmt.Sprintf("[endpoint.north]\nmax-objects = %d", n), 1))
	}
	limited(39)
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	require.EqualValues(t, 40, makePlan(t, s).Totals[plan.Add].Count)
	_, err := s.StartRun(ctx, "masters", workroom.RunOptions{})
	require.ErrorIs(t, err, workroom.ErrBlocked)
	assert.ErrorContains(t, err, "the target would hold 40 objects at least")
	assert.ErrorContains(t, err, "--despite objects")
	limited(40)
	s.Reread()
	given, end := context.WithCancel(ctx)
	end()
	_, err = s.StartRun(given, "masters", workroom.RunOptions{})
	assert.ErrorIs(t, err, context.Canceled, "what was not looked at to the end is not passed")
	r, err := s.StartRun(ctx, "masters", workroom.RunOptions{})
	require.NoError(t, err, "as many as are allowed")
	_, err = r.Wait()
	require.NoError(t, err)
}
