package kit

import (
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
)

// What is shown is what works: a key that cannot be used says why, one of which there is
// nothing is neither shown nor pressed.
func TestActions(t *testing.T) {
	var did []string
	do := func(_ bool, key string) tea.Cmd { did = append(did, key); return nil }
	all := []Action[bool]{
		{Press: "a", Does: "add: one",
			Off: func(can bool) string { return map[bool]string{false: "there is no room"}[can] }, Do: do},
		{Press: "b", Also: []string{"B"}, Does: "back", Do: do},
		{Press: "c", Does: "conflicts", When: func(can bool) bool { return can }, Do: do},
		{Press: "esc", Do: do},
	}
	assert.Equal(t, []Key{{Press: "b", Does: "back"}, {Press: "a", Does: "add: one", Off: "there is no room"}},
		KeysOf(false, all))
	assert.Equal(t, []Key{{Press: "a", Does: "add: one"}, {Press: "b", Does: "back"},
		{Press: "c", Does: "conflicts"}}, KeysOf(true, all))
	for _, key := range []string{"B", "esc", "b"} {
		_, done := Press(false, all, key)
		assert.True(t, done, key)
	}
	assert.Equal(t, []string{"B", "esc", "b"}, did)
	cmd, done := Press(false, all, "a")
	assert.True(t, done)
	assert.Equal(t, Say{Text: "Not here: there is no room."}, cmd())
	_, done = Press(false, all, "c")
	assert.False(t, done)
	assert.Len(t, did, 3)
}
