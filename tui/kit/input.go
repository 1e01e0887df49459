package kit

import (
	"strings"

	"lumtra/core/object"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
)

// Typed is text that was typed or pasted without what would steer the terminal, or stay
// unseen, when it is shown again.
func Typed(text string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' || r == '\\' || object.Display(string(r)) == string(r) {
			return r
		}
		return -1
	}, text)
}

// NewInput is a line that text is typed into. Deleting the word ahead is left out: the
// library breaks where only blanks are left there.
func NewInput() textinput.Model {
	in := textinput.New()
	in.KeyMap.DeleteWordForward = key.NewBinding(key.WithDisabled())
	return in
}
