package proof

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/compare"
	"lumtra/tui/kit"
)

// about is what the keys of the view are about: a job's proof.
type about struct {
	s  *Screen
	j  *kit.JobState
	sh *shown
}

// whileProving are the actions while a proof is being made.
var whileProving = []kit.Action[*about]{
	{Press: "esc", Does: "stop proving", Do: func(a *about, _ string) tea.Cmd {
		a.sh.stop()
		return kit.Cmd(kit.Say{Text: "The proof is being stopped."})
	}},
}

// actions are all others, most useful first.
var actions = []kit.Action[*about]{
	{Press: "v", Does: "verify: compare both sides now",
		Do: func(a *about, _ string) tea.Cmd { return a.s.prove(a.j) }},
	{Press: "m", Does: "how closely: the next method", Do: func(a *about, _ string) tea.Cmd {
		i := slices.Index(compare.Methods, a.sh.by(a.j))
		a.sh.method = compare.Methods[(i+1)%len(compare.Methods)]
		return nil
	}},
	{Press: "enter", Also: []string{"space", "right", "l", "left", "h"}, Does: "open or close: a folder", When: differs,
		Do: func(a *about, key string) tea.Cmd { return a.s.toggle(key, a.j.Job.Name, a.sh) }},
	{Press: "f", Does: "filter: the next verdict", When: differs, Do: func(a *about, _ string) tea.Cmd {
		a.sh.filter(a.j.Proof)
		a.s.cursor = kit.Cursor{}
		return nil
	}},
	{Press: "x", Does: "export: the document (PDF)", When: proven,
		Do: func(a *about, _ string) tea.Cmd { return a.s.export(a.j.Proof) }},
	{Press: "J", Does: "mend: by a job of the difference", When: proven,
		Off: func(a *about) string { return map[bool]string{true: "the proof holds"}[a.j.Proof.Holds()] },
		Do:  func(a *about, _ string) tea.Cmd { return a.s.mend(a.j.Job.Name) }},
}

func proven(a *about) bool  { return a.j.Proof != nil }
func differs(a *about) bool { return len(a.sh.tree.Roots) > 0 }

func (a *about) actions() []kit.Action[*about] {
	if a.sh.proving != nil {
		return whileProving
	}
	return actions
}

// Keys of the view.
func (s *Screen) Keys() []kit.Key {
	j := s.Current()
	if j == nil {
		return nil
	}
	a := &about{s, j, s.shown(j)}
	return kit.KeysOf(a, a.actions())
}

func (s *Screen) key(key string, a *about) tea.Cmd {
	cmd, done := kit.Press(a, a.actions(), key)
	if !done && a.sh.proving == nil {
		s.cursor.Key(key, len(a.sh.tree.Rows), s.page)
	}
	return cmd
}
