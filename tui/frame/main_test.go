package frame

import (
	"os"
	"testing"
	"time"
)

// Whoever runs the tests may have preferences, and lives in some time zone: windows of tests go by none,
// and show UTC.
func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "preferences")
	if err != nil {
		panic(err)
	}
	os.Setenv("XDG_CONFIG_HOME", dir)
	time.Local = time.UTC
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}
