package kit

import (
	"testing"

	tea "charm.land/bubbletea/v2"
	"pgregory.net/rapid"

	"lumtra/testkit"
)

// No key breaks a line of text, whatever is in it.
func TestInputTakesEveryKey(t *testing.T) {
	testkit.Check(t, func(t *rapid.T) {
		in := NewInput()
		in.Focus()
		in.SetValue(rapid.StringMatching(`[a \t🎙]{0,12}`).Draw(t, "text"))
		for range rapid.IntRange(1, 12).Draw(t, "keys") {
			code := rapid.SampledFrom([]rune{tea.KeyLeft, tea.KeyRight, tea.KeyHome, tea.KeyEnd, tea.KeyBackspace,
				tea.KeyDelete, 'a', 'b', 'd', 'e', 'f', 'h', 'k', 'u', 'w', 'n', 'p', ' '}).Draw(t, "key")
			mod := rapid.SampledFrom([]tea.KeyMod{0, tea.ModCtrl, tea.ModAlt}).Draw(t, "with")
			in, _ = in.Update(tea.KeyPressMsg{Code: code, Mod: mod})
			in.View()
		}
	})
}
