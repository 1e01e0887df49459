package agenda

import (
	"os"
	"testing"
)

// runWithDir gives tests that draw many worlds one folder for their books, which goes at the end.
func runWithDir(m *testing.M) {
	dir, err := os.MkdirTemp("", "agenda-")
	if err != nil {
		panic(err)
	}
	testDir = dir
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}
