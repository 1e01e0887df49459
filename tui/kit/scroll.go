package kit

import (
	"fmt"

	"lumtra/tui/look"
)

// Scroll shows text that may be longer than its room.
type Scroll struct{ top, most, page int }

// Key moves the text by a key, and tells whether there was anything to move.
func (s *Scroll) Key(key string) bool {
	c := Cursor{At: s.top}
	if s.most == 0 || !c.Key(key, s.most+1, max(s.page-1, 1)) {
		return false
	}
	s.top = c.At
	return true
}

// Lines shows as many lines as fit in height, the last saying how much more there is.
func (s *Scroll) Lines(t *look.Theme, lines []string, width, height int) string {
	s.page = height
	s.most = max(len(lines)-height+1, 0)
	if len(lines) <= height {
		s.most = 0
	}
	s.top = min(s.top, s.most)
	if s.most == 0 {
		return Lines(lines, width, height)
	}
	shown := append([]string(nil), lines[s.top:min(s.top+height-1, len(lines))]...)
	rest := len(lines) - s.top - len(shown)
	text := "↑ ↓ scroll"
	if rest > 0 {
		text += fmt.Sprintf(": %d more lines", rest)
	}
	return Lines(append(shown, "  "+t.Ash.Render(text)), width, height)
}
