package plan

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/plan"
	"lumtra/service"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
	"lumtra/tui/look"
)

// worked is the view of a job between two folders, of which there are three plans.
func worked(t *testing.T) (*Screen, *kit.JobState, *shown) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"endpoints.toml": "[endpoint.studio]\nkind = \"folder\"\npath = \"studio\"\n[endpoint.shelf]\nkind = " +
			"\"folder\"\npath = \"shelf\"\n",
		"jobs/masters.toml": "source = \"studio\"\ntarget = \"shelf\"\n", "shelf/kept": "k",
		"studio/a/1.wav": "1", "studio/a/b/2.wav": "2", "studio/c.wav": "c",
	} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	s, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state")})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	var info plan.Info
	for range 3 {
		info, err = s.Plan(context.Background(), "masters", workroom.Freshness{}, &workroom.Activity{})
		require.NoError(t, err)
	}
	j, err := s.Job("masters")
	require.NoError(t, err)
	v := newScreen(context.Background(), &kit.Shared{Service: s, Theme: look.New(look.Dark),
		State: kit.State{Jobs: []kit.JobState{{Job: j, Plan: &info}}}})
	sh := v.shown("masters")
	sh.number, sh.side = 3, &side{number: 3}
	settle(v, v.reload(sh, "masters"))
	return v, &v.State.Jobs[0], sh
}

// settle lets a command come to its end, with all that follows from it, and gives what was
// said.
func settle(s *Screen, cmd tea.Cmd) (said []string) {
	if cmd == nil {
		return nil
	}
	switch msg := cmd().(type) {
	case tea.BatchMsg:
		for _, c := range msg {
			said = append(said, settle(s, c)...)
		}
	case kit.Say:
		said = append(said, msg.Text)
	case nil:
	default:
		said = settle(s, s.Update(msg))
	}
	return said
}

func names(sh *shown) (all []string) {
	for _, n := range sh.tree.Rows {
		all = append(all, n.Prefix)
	}
	return all
}

func depths(sh *shown) (all []int) {
	for _, n := range sh.tree.Rows {
		all = append(all, n.Depth)
	}
	return all
}

// The folder under the cursor, or the one of the object there, is surveyed again and nothing beside it; at the top
// it is all.
func TestSurveyBelowTheCursor(t *testing.T) {
	s, j, sh := worked(t)
	adds := func() int64 { return j.Plan.Totals[plan.Add].Count }
	come := func(name string) {
		require.NoError(t, os.WriteFile(filepath.Join(s.Service.Folder(), "studio", name), []byte("x"), 0o600))
	}
	come("a/new.wav")
	come("top.wav")
	require.Equal(t, []string{"a/", "c.wav", "kept"}, names(sh))
	require.EqualValues(t, 3, adds())
	settle(s, press(s, "r"))
	assert.EqualValues(t, 4, adds(), "what came to a/")
	settle(s, press(s, "right"))
	to := func(name string) {
		require.Contains(t, names(sh), name)
		for range len(names(sh)) {
			if s.at(sh).Prefix != name {
				press(s, "j")
			}
		}
		require.Equal(t, name, s.at(sh).Prefix)
	}
	to("a/1.wav")
	come("a/newer.wav")
	settle(s, press(s, "r"))
	assert.EqualValues(t, 5, adds())
	to("c.wav")
	settle(s, press(s, "r"))
	assert.EqualValues(t, 6, adds(), "what came to the top")
}

// What is struck out is struck in the plan and in the tree, which stays open as it was, and
// is taken in again by the same key.
func TestStrikeAndBack(t *testing.T) {
	s, j, sh := worked(t)
	require.Equal(t, []string{"a/", "c.wav", "kept"}, names(sh))
	settle(s, press(s, "right"))
	settle(s, press(s, "j", "j", "right"))
	require.Contains(t, names(sh), "a/b/")
	open, deep := names(sh), depths(sh)
	require.Contains(t, deep, 2)
	press(s, "k", "k", "k", "k")
	assert.Equal(t, []string{"Struck out: a/"}, settle(s, press(s, "-")))
	assert.EqualValues(t, 1, j.Plan.Totals[plan.Add].Count, "c.wav alone")
	assert.Equal(t, open, names(sh))
	assert.Equal(t, deep, depths(sh))
	assert.True(t, sh.tree.Rows[0].Is.struck)
	assert.Equal(t, []string{"Taken in again: a/"}, settle(s, press(s, "-")))
	assert.EqualValues(t, 3, j.Plan.Totals[plan.Add].Count)
	assert.False(t, sh.tree.Rows[0].Is.struck)
	assert.Equal(t, open, names(sh))

	require.NoError(t, os.RemoveAll(filepath.Join(s.Service.State(), "jobs/masters/plans/0003.plan")))
	settle(s, s.reload(sh, "masters"))
	assert.Contains(t, text(s, 140), "there is no such plan", "what cannot be read is told")
}

// A plan is held beside those before it, the newest first, and never beside itself or one
// that came later.
func TestComparedWithEarlierOnes(t *testing.T) {
	s, j, sh := worked(t)
	settle(s, s.compare(j))
	require.NotNil(t, sh.menu)
	assert.Equal(t, []string{"plan 2", "plan 1"}, sh.menu.lines)
	second := *j.Plan
	second.Number = 2
	j.Plan = &second
	settle(s, s.compare(j))
	assert.Equal(t, []string{"plan 1"}, sh.menu.lines)
	settle(s, press(s, "enter"))
	require.NotNil(t, sh.changes)
	assert.Equal(t, [2]int{1, 2}, [2]int{sh.changes.Was.Number, sh.changes.Is.Number})
	first := *j.Plan
	first.Number = 1
	j.Plan, sh.changes = &first, nil
	assert.Equal(t, []string{"There is no earlier plan of this job to compare with."}, settle(s, s.compare(j)))
}

// A plan that went meanwhile is told when its tree is read anew.
func TestPlanThatWent(t *testing.T) {
	s, _, sh := worked(t)
	sh.number = 99
	settle(s, s.reload(sh, "masters"))
	assert.ErrorContains(t, sh.err, "there is no such plan")
}
