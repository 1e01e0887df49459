package plan

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/estimate"
	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/service/workroom"
	"lumtra/tui/kit"
	"lumtra/tui/look"
)

// view is the view of a job with a plan of which these are the totals, its tree being the
// keys given.
func view(totals plan.Totals, effects ...plan.Effect) (*Screen, *kit.JobState, *shown) {
	info := &plan.Info{Job: "masters", Number: 7, Made: time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)}
	info.Totals, info.Target.Place = totals, "north/masters"
	info.Rules = rule.Rules{Direction: rule.OneWay}
	j := kit.JobState{Job: &job.Job{Name: "masters", Source: "studio", Target: "north"}, Plan: info}
	s := newScreen(context.Background(),
		&kit.Shared{Theme: look.New(look.Dark), State: kit.State{Jobs: []kit.JobState{j}}})
	sh := s.shown("masters")
	sh.number, sh.side = 7, &side{number: 7}
	for i := range effects {
		var own plan.Totals
		own[effects[i].Kind] = plan.Total{Count: 1, Bytes: 10}
		sh.tree.Roots = append(sh.tree.Roots,
			&node{Is: line{Node: plan.Node{Name: effects[i].Key, Totals: own, Effect: &effects[i]}},
				Prefix: effects[i].Key})
	}
	sh.lay()
	return s, &s.State.Jobs[0], sh
}

// press presses keys, and returns what the last one asks for.
func press(s *Screen, keys ...string) (cmd tea.Cmd) {
	codes := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "left": tea.KeyLeft, "right": tea.KeyRight,
		"backspace": tea.KeyBackspace, "tab": tea.KeyTab, "space": tea.KeySpace}
	for _, key := range keys {
		if code, ok := codes[key]; ok {
			cmd = s.Update(tea.KeyPressMsg{Code: code})
			continue
		}
		for _, r := range key {
			cmd = s.Update(tea.KeyPressMsg{Code: r, Text: string(r)})
		}
	}
	return cmd
}

func said(t *testing.T, cmd tea.Cmd) kit.Say {
	t.Helper()
	require.NotNil(t, cmd)
	say, ok := cmd().(kit.Say)
	require.True(t, ok, "%#v", cmd())
	return say
}

func text(s *Screen, width int) string { return ansi.Strip(s.Render(width, 40)) }

// The form of approval says all that a plan does, and asks for a number where it removes
// or is held back.
func TestApprovalSaysWhatItDoes(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(p *plan.Info, sh *shown)
		says   []string
		typed  bool
	}{
		{"sends", func(p *plan.Info, _ *shown) {},
			[]string{"Let plan 7 run?", "It sends 2 objects, 30 B, to north/masters.", "It deletes nothing.",
				"yes, run it"}, false},
		{"sends one", func(p *plan.Info, _ *shown) { p.Totals = plan.Totals{plan.Change: {Count: 1, Bytes: 5}} },
			[]string{"It sends 1 object, 5 B,"}, false},
		{"sends empty ones", func(p *plan.Info, _ *shown) { p.Totals = plan.Totals{plan.Add: {Count: 1}} },
			[]string{"It sends 1 object, 0 B,"}, false},
		{"sends nothing", func(p *plan.Info, _ *shown) {
			p.Totals = plan.Totals{}
			p.Afterwards = plan.Total{Count: 3,
				Bytes: 9}
		}, []string{"It sends nothing.", ": 3 objects, 9 B."}, false},
		{"goes back", func(p *plan.Info, _ *shown) { p.Back = plan.Total{Count: 1, Bytes: 20} },
			[]string{"1 of its effects, 20 B, go back to the source."}, false},
		{"conflicts", func(p *plan.Info, _ *shown) { p.Totals[plan.Conflict] = plan.Total{Count: 4} },
			[]string{"Not decided, and left as it is: 4 conflicts."}, false},
		{"deletes", func(p *plan.Info, _ *shown) { p.Totals[plan.Remove] = plan.Total{Count: 2, Bytes: 8} },
			[]string{"It deletes 2 objects, 8 B. Type the number of deletions, 2, to let it go.", "deletions"}, true},
		{"trashes", func(p *plan.Info, _ *shown) {
			p.Totals[plan.Remove], p.Rules.TargetOnly = plan.Total{Count: 1, Bytes: 8}, rule.MoveToTrash
		}, []string{"It moves 1 object, 8 B, to the trash. Type the number of deletions, 1,"}, true},
		{"held back", func(p *plan.Info, _ *shown) { p.Held = []string{"the source is empty"} },
			[]string{"▲ held back: the source is empty",
				"It deletes nothing. Type the number of deletions, 0, to let it go."}, true},
		{"would fail", func(p *plan.Info, sh *shown) {
			sh.side = &side{number: 7, done: true, estimate: &estimate.Estimate{},
				checks: []workroom.Check{{Name: "room", Weigh: workroom.Stop, Blocks: true, Found: "full"},
					{Name: "room", Blocks: true}, {Name: "clock", Weigh: workroom.Look}}}
		}, []string{"It would fail for: room. Type that under despite", "despite"}, false},
	} {
		s, j, sh := view(plan.Totals{plan.Add: {Count: 1, Bytes: 10}, plan.Change: {Count: 1, Bytes: 20}})
		c.change(j.Plan, sh)
		press(s, "a")
		require.NotNil(t, sh.form, c.name)
		got := strings.Join(strings.Fields(text(s, 200)), " ")
		for _, says := range c.says {
			assert.Contains(t, got, says, c.name)
		}
		assert.Equal(t, c.typed, sh.form.Fields != nil && sh.form.Fields[0].Name == "deletions", c.name)
		assert.True(t, s.Asks())
		assert.Equal(t, "Not approved; nothing was done.", said(t, press(s, "esc")).Text)
		assert.Nil(t, sh.form)
	}
}

// The number has to be the plan's, and each check that would stop it has to be named.
func TestApprovalAsksForTheNumber(t *testing.T) {
	s, _, sh := view(plan.Totals{plan.Add: {Count: 1}, plan.Remove: {Count: 1200}})
	sh.side = &side{number: 7, done: true, estimate: &estimate.Estimate{},
		checks: []workroom.Check{{Name: "room", Blocks: true}, {Name: "clock", Blocks: true}}}
	press(s, "a")
	for _, typed := range []string{"", "1", "1201", "-1200", "yes", "1200x"} {
		sh.form.Fields[0].Value, sh.form.Fields[1].Value = typed, "room, clock"
		assert.Nil(t, sh.form.Submit(sh.form), typed)
		assert.ErrorContains(t, sh.form.Err, "that is not the number: it deletes 1200", typed)
		assert.NotNil(t, sh.form)
	}
	for _, typed := range []string{"", "room", "clock", "rooms clock"} {
		sh.form.Fields[0].Value, sh.form.Fields[1].Value = "1200", typed
		assert.Nil(t, sh.form.Submit(sh.form), typed)
		assert.ErrorContains(t, sh.form.Err, "it would fail for", typed)
	}
	sh.form.Fields[0].Value, sh.form.Fields[1].Value = "1,200", "clock room"
	assert.NotNil(t, sh.form.Submit(sh.form), "as the number is shown it may be typed")
	assert.Nil(t, sh.form)
	for change, says := range map[string]string{"active": "This job is running.",
		"settled": "There is nothing to do; p looks again.", "done": "This plan has been run; p makes a new one.",
		"conflicts": "There are only conflicts: d decides them.", "none": "There is no plan yet; p makes one."} {
		s, j, sh := view(plan.Totals{plan.Add: {Count: 1}})
		switch change {
		case "active":
			j.Active = &kit.Active{}
		case "settled":
			j.Plan.Totals = plan.Totals{plan.Same: {Count: 5}}
		case "done":
			j.Done = true
		case "conflicts":
			j.Plan.Totals = plan.Totals{plan.Conflict: {Count: 5}}
		case "none":
			j.Plan = nil
		}
		assert.Equal(t, says, said(t, press(s, "a")).Text)
		assert.Nil(t, sh.form, change)
	}
}

// The line under the sentence says how the plan stands.
func TestHowItStands(t *testing.T) {
	totals := plan.Totals{plan.Add: {Count: 60, Bytes: 2048}, plan.Remove: {Count: 3}}
	for says, change := range map[string]func(j *kit.JobState, sh *shown){
		"waits to be approved":    func(*kit.JobState, *shown) {},
		"working the choice in …": func(_ *kit.JobState, sh *shown) { sh.choosing = true },
		"▸ running":               func(j *kit.JobState, _ *shown) { j.Active = &kit.Active{} },
		"has been run":            func(j *kit.JobState, _ *shown) { j.Done = true },
		`▲ held back: it deletes\x1b all`: func(j *kit.JobState,
			_ *shown) {
			j.Plan.Held = []string{"it deletes\x1b all", "more"}
		},
		"was begun and stopped; approving it goes on": func(j *kit.JobState,
			_ *shown) {
			j.Runs = []history.Run{{Plan: 7, End: history.Stopped}}
		},
		"▲ conflicts to decide": func(j *kit.JobState,
			_ *shown) {
			j.Plan.Totals = plan.Totals{plan.Conflict: {Count: 1}}
		},
		"nothing to do": func(j *kit.JobState, _ *shown) { j.Plan.Totals = plan.Totals{plan.Same: {Count: 1}} },
		"▲ 3 could not be listed, so this is not the whole  denied; slow": func(j *kit.JobState, _ *shown) {
			j.Plan.Source.Missed, j.Plan.Target.Missed, j.Plan.Source.Problems, j.Plan.Target.Problems = 1, 2,
				[]string{"denied"}, []string{"slow"}
		},
		"then, once proven: 2 objects · 9 B": func(j *kit.JobState,
			_ *shown) {
			j.Plan.Afterwards = plan.Total{Count: 2, Bytes: 9}
		},
		`· a note\x1b`: func(j *kit.JobState, _ *shown) { j.Plan.Notes = []string{"a note\x1b"} },
	} {
		s, j, sh := view(totals, plan.Effect{Key: "a.wav", Kind: plan.Add})
		change(j, sh)
		for _, width := range []int{100, 200} {
			assert.Contains(t, text(s, width), says)
		}
	}
	s, j, sh := view(totals)
	assert.Regexp(t, `██ add 60 · 2\.0 KiB +╳╳ delete 3 · 0 B`, text(s, 140))
	assert.Contains(t, text(s, 140), "Everything is the same at both sides.")
	sh.number = 6
	assert.Contains(t, text(s, 140), "reading the plan …")
	j.Approved, j.Plan.Held = true, []string{"it deletes all"}
	assert.Contains(t, text(s, 140), "waits to be approved", "it is let go")
	sh.err = errors.New("no such place")
	assert.Contains(t, text(s, 140), "no such place")
	sh.err, j.Plan = nil, nil
	assert.Contains(t, text(s, 140), "No plan yet.")
	assert.Nil(t, press(s, "x"), "of no plan there is nothing to write")
	sh.planning = &workroom.Activity{}
	sh.planning.Source.Objects.Store(1234)
	assert.Contains(t, text(s, 140), "1,234 objects")
	assert.Nil(t, press(s, "a"), "while it is planned nothing is approved")
	stopped := false
	sh.stop = func() { stopped = true }
	assert.Equal(t, "Planning is being stopped.", said(t, press(s, "esc")).Text)
	assert.True(t, stopped)
	s.State.Jobs = nil
	assert.Contains(t, text(s, 140), "No job to plan.")
}

// What is looked for by name or by effect is shown alone, and escape shows all again.
func TestFindAndFilter(t *testing.T) {
	s, _, sh := view(plan.Totals{plan.Add: {Count: 2}, plan.Remove: {Count: 1}},
		plan.Effect{Key: "Reeds.wav", Kind: plan.Add}, plan.Effect{Key: "tide.wav", Kind: plan.Add},
		plan.Effect{Key: "old.wav", Kind: plan.Remove}, plan.Effect{Key: "same.wav", Kind: plan.Same})
	rows := func() (names []string) {
		for _, n := range sh.tree.Rows {
			names = append(names, n.Is.Name)
		}
		return names
	}
	assert.Equal(t, []string{"Reeds.wav", "tide.wav", "old.wav"}, rows(),
		"what stays as it is does not stand in the way")
	press(s, "s")
	assert.Len(t, rows(), 4)
	press(s, "s", "/", "reX", "backspace")
	assert.Equal(t, []string{"Reeds.wav"}, rows())
	assert.Contains(t, text(s, 140), "/re")
	press(s, "enter")
	assert.Equal(t, []string{"Reeds.wav"}, rows(), "kept")
	press(s, "esc")
	assert.Len(t, rows(), 3)
	press(s, "/", "zz")
	assert.Contains(t, text(s, 140), "Nothing here is of that kind or name.")
	press(s, "backspace", "backspace", "backspace", "esc", "G", "f", "4")
	assert.Zero(t, s.cursor.At, "at the first of those that are shown")
	assert.Equal(t, []string{"old.wav"}, rows())
	assert.Contains(t, text(s, 140), "● delete")
	press(s, "1")
	assert.Equal(t, []string{"Reeds.wav", "tide.wav", "old.wav"}, rows(), "more than one can be marked")
	press(s, "1", "enter")
	assert.Nil(t, sh.menu)
	assert.Contains(t, text(s, 140), "only delete  esc shows everything")
	press(s, "esc")
	assert.Len(t, rows(), 3)
	press(s, "f")
	assert.Equal(t, "Left as it was.", said(t, press(s, "esc")).Text)
	press(s, "b")
	assert.Contains(t, text(s, 140), "bars by count")
}

// A tree opens, closes, and leads back up; what is under the cursor is explained.
func TestTree(t *testing.T) {
	s, _, sh := view(plan.Totals{plan.Add: {Count: 2}})
	source := object.Entry{Key: "wet/a.wav", Size: 10}
	effect := &plan.Effect{Key: "wet/a.wav", Kind: plan.Add, Reason: plan.NotThere, Source: &source}
	of := func(name string, bytes int64) line {
		return line{Node: plan.Node{Name: name, Totals: plan.Totals{plan.Add: {Count: 1, Bytes: bytes}}}}
	}
	child := &node{Is: of("a.wav", 10), Prefix: "wet/a.wav", Depth: 1}
	child.Is.Effect = effect
	sh.tree.Roots = []*node{{Is: of("dry/", 5), Prefix: "dry/"}, {Is: of("wet/", 10), Prefix: "wet/"}}
	kit.SetBelow(sh.tree.Roots[1], []*node{child})
	sh.tree.Roots[1].Open = false
	sh.lay()
	assert.Contains(t, text(s, 140), "  1 add (5 B)", "of a folder the sums")
	press(s, "j", "right")
	assert.Len(t, sh.tree.Rows, 3)
	assert.Contains(t, text(s, 140), "▾ wet/")
	press(s, "j")
	assert.Regexp(t, `\n  wet/a\.wav +\n`, text(s, 140))
	assert.Contains(t, text(s, 140), "add because ")
	assert.Nil(t, press(s, "enter"), "an object does not open")
	press(s, "left")
	assert.Equal(t, 1, s.cursor.At, "up to its folder")
	press(s, "left")
	assert.Len(t, sh.tree.Rows, 2)
	press(s, "space", "space")
	assert.Len(t, sh.tree.Rows, 2)
	sh.tree.Roots[1].Is.struck = true
	assert.Contains(t, text(s, 140), "⨯ wet/")
	s.Update(treeMsg{job: "masters", number: 6, nodes: nil})
	assert.Len(t, sh.tree.Rows, 2, "of another plan")
	s.Update(treeMsg{job: "masters", number: 7, nodes: sh.tree.Roots[:1]})
	assert.Len(t, sh.tree.Rows, 1)
	s.Update(treeMsg{job: "masters", number: 7, err: errors.New("unreadable")})
	assert.Contains(t, text(s, 140), "unreadable")
}

// Choices wait for one another, and a plan that runs takes none.
func TestOneChoiceAtATime(t *testing.T) {
	s, j, sh := view(plan.Totals{plan.Add: {Count: 1}, plan.Conflict: {Count: 1}},
		plan.Effect{Key: "a.wav", Kind: plan.Conflict}, plan.Effect{Key: "b.wav", Kind: plan.Add})
	sh.choosing = true
	assert.Equal(t, "The choice before is still being worked in.", said(t, press(s, "-")).Text)
	sh.choosing, j.Active = false, &kit.Active{}
	assert.Equal(t, "This plan is running.", said(t, press(s, "-")).Text)
	j.Active = nil
	press(s, "d")
	require.NotNil(t, sh.menu)
	assert.Contains(t, text(s, 140), "Decide a.wav")
	assert.Contains(t, text(s, 140), "the source's goes to the target")
	press(s, "esc", "j")
	assert.Equal(t, "There is no conflict here to decide.", said(t, press(s, "d")).Text)
	sh.tree.Rows[1].Is.Effect.Reason = plan.Decided
	press(s, "d")
	assert.NotNil(t, sh.menu, "what was decided can be decided anew")
	press(s, "esc")
	was := *j.Plan
	now := was
	now.Totals = plan.Totals{plan.Add: {Count: 1}}
	j.Approved, sh.choosing = true, true
	assert.Equal(t, kit.Say{Text: "no; such", Bad: true},
		said(t, s.Update(chosenMsg{job: "masters", err: errors.New("no\nsuch")})))
	assert.True(t, j.Approved, "what failed changed nothing")
	assert.False(t, sh.choosing, "and the next can be made")
	other := now
	other.Number = 8
	assert.Nil(t, s.Update(chosenMsg{job: "masters", info: other}), "of another plan")
	s.Update(chosenMsg{job: "masters", info: now})
	assert.False(t, j.Approved, "an approval is of what was shown")
	assert.Zero(t, j.Plan.Totals[plan.Conflict].Count)
	s.cursor.At = 9
	assert.Nil(t, press(s, "-"), "under the cursor is nothing")
}

// What is known before the run stands beside the plan, the worst first, and says what can
// be mended.
func TestBeforeItRuns(t *testing.T) {
	s, _, sh := view(plan.Totals{plan.Add: {Count: 1}}, plan.Effect{Key: "a.wav", Kind: plan.Add})
	assert.Contains(t, text(s, 160), "looking …")
	s.Update(sideMsg{"masters", &side{number: 7, done: true, estimate: &estimate.Estimate{Expect: time.Second},
		checks: []workroom.Check{
			{Name: "names", Weigh: workroom.Fine, Found: "all fit"},
			{Name: "clock", Weigh: workroom.Look, Found: "3 s apart"},
			{Name: "room", Weigh: workroom.Stop, Found: "full\x1b",
				Mend: "make room", Blocks: true},
			{Name: "bucket", Weigh: workroom.Stop, Found: "not there", Mend: "make it", Fix: workroom.FixTest}}}})
	got := text(s, 200)
	at := -1
	for _, says := range []string{`▲ room: full\x1b`, "→ make room", "▲ bucket: not there", "→ make it (m)",
		"◆ clock: 3 s apart", "✓ names: all fit"} {
		i := strings.Index(got, says)
		assert.Greater(t, i, at, "%s stands too high or not at all", says)
		at = i
	}
	assert.Equal(t, []string{"room"}, sh.blockers())
	press(s, "m")
	require.NotNil(t, sh.menu)
	assert.Equal(t, []string{string(workroom.FixTest) + ": not there"}, sh.menu.lines)
	press(s, "esc")
	sh.side.checks = sh.side.checks[:3]
	assert.Equal(t, "There is nothing that can be mended from here.", said(t, press(s, "m")).Text)
	s.Update(sideMsg{"masters", &side{number: 6}})
	assert.Equal(t, 7, sh.side.number, "of an older plan")
	sh.mending = workroom.FixTest
	assert.Contains(t, text(s, 160), "▸ "+string(workroom.FixTest)+" …")
	sh.mending, sh.side.err = workroom.NoFix, errors.New("no answer")
	assert.Contains(t, text(s, 160), "no answer")
}

// Two plans of a job stand side by side: sums, and the keys that became something else.
func TestChanges(t *testing.T) {
	s, _, sh := view(plan.Totals{plan.Add: {Count: 1}}, plan.Effect{Key: "a.wav", Kind: plan.Add})
	c := &workroom.Changes{Was: plan.Info{Number: 6}, Is: plan.Info{Number: 7}, Count: 1200,
		Lines: []plan.Difference{{Key: "a\x1b.wav", Is: &plan.Effect{Kind: plan.Add}},
			{Key: "b.wav", Was: &plan.Effect{Kind: plan.Remove}, Is: &plan.Effect{Kind: plan.Change}}}}
	c.Was.Totals, c.Is.Totals = plan.Totals{plan.Add: {Count: 5}, plan.Remove: {Count: 2}},
		plan.Totals{plan.Add: {Count: 8}, plan.Remove: {Count: 2}}
	s.Update(changesMsg{"masters", c, nil})
	got := text(s, 140)
	assert.Contains(t, got, "Plan 7 beside plan 6")
	assert.Regexp(t, `█ add +5 · 0 B +→ +8 · 0 B +\+3`, got)
	assert.Regexp(t, `╳ delete +2 · 0 B +→ +2 · 0 B +\n`, got)
	assert.Contains(t, got, "1,200 keys whose effect is another")
	assert.Regexp(t, `▌ nothing +→ add +a\\x1b\.wav`, got)
	assert.Regexp(t, `  delete +→ change +b\.wav`, got)
	press(s, "j")
	assert.Regexp(t, `▌ delete`, text(s, 140))
	assert.True(t, s.Asks())
	assert.Equal(t, "Back to the plan.", said(t, press(s, "esc")).Text)
	assert.Nil(t, sh.changes)
	assert.Equal(t, kit.Say{Text: "gone", Bad: true}, said(t, s.Update(changesMsg{"masters", nil, errors.New("gone")})))
}

// The sentence above a plan says what the job says.
func TestSentence(t *testing.T) {
	s, j, _ := view(plan.Totals{})
	r := &j.Job.Rules
	r.Direction, r.CompareBy, r.WhenDifferent, r.TargetOnly = rule.OneWay, rule.ByContent, rule.KeepBoth,
		rule.DeleteThere
	assert.Contains(t, text(s, 200),
		"Copy studio to north, what is new or changed by content; when the target differs: keep both; target-only "+
			"objects: delete")
	r.Select.Include, r.Select.Tags = []string{"a", "b"}, map[string]string{"x": "y"}
	assert.Contains(t, text(s, 200), "; of the source 3 rules")
	r.Direction = rule.TwoWay
	assert.Contains(t, text(s, 200), "Sync both ways: studio and north, compared by content")
}
