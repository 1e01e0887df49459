package places

import (
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/object"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
)

// A level that is listed anew takes the cursor with it: for a moment, at a slow store for longer, it
// stands on the folder above, on its way back to what it was on. A key that is pressed then is meant for
// what it was on, never for the folder above; it waits, in the order in which keys were pressed. What is not about
// the cursor is done at once.

// mostHeld is how many keys wait; a key that is held down does not pile up.
const mostHeld = 16

// sayAfter is how long keys wait before it is said.
const sayAfter = time.Second

// stillFindingMsg asks to say so if the cursor is still on its way back to something.
type stillFindingMsg struct{ of workspace.At }

// finding tells that the cursor of the tree with the keys is on its way back.
func (p *Pair) finding() bool {
	s := p.active()
	return s.wanted != nil && s.sheet == nil && s.narrowing == nil
}

// anywhere tells that a key is not about what the cursor is on.
func (p *Pair) anywhere(key tea.KeyPressMsg) bool {
	return kit.Anywhere(p, pairActions, key.String()) || kit.Anywhere(p.active(), actions, key.String())
}

// hold keeps a key until the cursor is back. Esc gives that up, and what waits with it.
func (p *Pair) hold(key tea.KeyPressMsg) tea.Cmd {
	s := p.active()
	if key.String() == "esc" {
		s.wanted, p.held = nil, nil
		return kit.Cmd(kit.Say{Text: "The cursor stays here."})
	}
	if len(p.held) < mostHeld {
		p.held = append(p.held, key)
	}
	if len(p.held) > 1 {
		return nil
	}
	of := s.wanted.at
	return tea.Tick(sayAfter, func(time.Time) tea.Msg { return stillFindingMsg{of} })
}

func (p *Pair) sayHeld(of workspace.At) tea.Cmd {
	if !p.finding() || len(p.held) == 0 || p.active().wanted.at != of {
		return nil
	}
	return kit.Cmd(kit.Say{Text: "Finding " + object.Display(of.String()) +
		" again; the keys pressed meanwhile wait for it. esc stays here."})
}

// catchUp presses the keys that waited, once the cursor is back. Where what they were for is gone, it
// stands on a neighbour: it may be moved from there, but nothing is done to that.
func (p *Pair) catchUp() tea.Cmd {
	s := p.active()
	if why := s.lost; s.wanted == nil && why != "" {
		s.lost = ""
		acts := slices.IndexFunc(p.held, func(key tea.KeyPressMsg) bool {
			return !new(kit.Cursor).Key(key.String(), 0, 0) && !p.anywhere(key)
		})
		if acts >= 0 {
			p.held = p.held[:acts]
			return tea.Batch(p.catchUp(), kit.Cmd(kit.Say{Bad: true,
				Text: "Nothing was done to what the cursor stands on now: " + why + "."}))
		}
	}
	var cmds []tea.Cmd
	for len(p.held) > 0 && p.active().wanted == nil {
		key := p.held[0]
		p.held = p.held[1:]
		cmds = append(cmds, p.press(key))
	}
	return tea.Batch(cmds...)
}
