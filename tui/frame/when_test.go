package frame

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A start is written in the sentence: it is told in plain words and as dates while it is typed, a
// mistake at its character; then it is in the file, and Now shows when the job starts, how busy its
// endpoints are, and moves its time.
func TestTimesOfAJob(t *testing.T) {
	t.Parallel()
	dir := copied(t, keyWorld(t))
	x := openStage(t, dir)
	x.goes("~Needs you", "j", "j", "j", "3", "~› Jobs › masters", "j", "j", "j", "j", "j", "j", "~‹never by itself›",
		"enter",
		"=daily at 25:00", "~daily at 25:00(.|\n)*▲(.|\n)*no time of the day", "esc", "~‹never by itself›", "enter",
		"down",
		"~every 15 minutes(.|\n)*Starts every 15 minutes", "down", "down", "~Starts every day at 23:30", "~23:30 [-+]",
		"enter",
		"~‹every day at 23:30›", "right", "~‹local time›", "enter", "=Europe/Lisbon", "~Europe/Lisbon time", "enter",
		"w",
		"~masters.toml")
	raw, err := os.ReadFile(filepath.Join(dir, "jobs", "masters.toml"))
	require.NoError(t, err)
	assert.Regexp(t, `(?s)\[when\].*start = .daily at 23:30.`, string(raw))
	x.goes("1", "~starts every day at 23:30, Europe/Lisbon time(.|\n)*nothing starts it: B begins", "m",
		"~Moving masters: daily at 23:30", "left", "~daily at 23:25", "up", "~would leave its day", "down",
		"~daily at 22:25",
		"right", "~daily at 22:30", "esc", "~Left as it was", "m", "left", "~23:25 +no collision", "enter",
		"~masters starts daily at 23:25", "w", "~Most room|Nothing is expected", "tab", "w", "~Needs you")
	raw, err = os.ReadFile(filepath.Join(dir, "jobs", "masters.toml"))
	require.NoError(t, err)
	assert.Contains(t, string(raw), "daily at 23:25")
}
