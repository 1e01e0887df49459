package places

import (
	"context"
	"errors"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/place"
	"lumtra/tui/kit"
)

// answer is what came of a command, with the sheet that stood when it was asked for; nil for none.
// An answer that comes late finds another sheet, or none: it is not that one's, which a person may be
// typing a number into by now.
type answer struct {
	to  sheet
	msg tea.Msg
}

// addressed has what a command brings for a sheet come back to the one that stands now.
func (s *Screen) addressed(cmd tea.Cmd) tea.Cmd {
	if cmd == nil {
		return nil
	}
	to := s.sheet
	return func() tea.Msg { return addressed(to, cmd()) }
}

func addressed(to sheet, msg tea.Msg) tea.Msg {
	switch msg := msg.(type) {
	case tea.BatchMsg:
		all := make(tea.BatchMsg, 0, len(msg))
		for _, cmd := range msg {
			if cmd != nil {
				all = append(all, func() tea.Msg { return addressed(to, cmd()) })
			}
		}
		return all
	case doneMsg, failedMsg, sheetMsg, countedMsg, bodyMsg:
		return answer{to, msg}
	}
	return msg
}

// answered takes in an answer: into its sheet, or, where another stands, what of it is worth saying.
func (s *Screen) answered(a answer) tea.Cmd {
	if a.to == s.sheet {
		return s.take(a.msg)
	}
	switch msg := a.msg.(type) {
	case doneMsg:
		stays := s.sheet
		cmd := s.finished(msg)
		s.sheet = stays
		return cmd
	case failedMsg:
		if !errors.Is(msg.err, context.Canceled) && place.KindOf(msg.err) != place.Cancelled {
			return kit.Cmd(kit.Say{Text: oneLine(msg.err), Bad: true})
		}
	}
	return nil
}
