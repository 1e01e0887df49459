// Patient refuses what makes a test say one thing on one machine and another on the next: sleeping, limits of its
// own, chances without a seed. Each has its place in testkit; where a test is about the time itself, a comment in the
// line or above it says why.
//
//	patient [FOLDER]
//
// It looks at files of tests and at the packages that only tests import, and knows names, not types: what it cannot
// see is a clock under another name.
package main

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

func main() {
	root := "."
	if len(os.Args) > 1 {
		root = os.Args[1]
	}
	found, err := look(root)
	if err != nil {
		fmt.Fprintln(os.Stderr, "patient:", err)
		os.Exit(2)
	}
	for _, f := range found {
		fmt.Println(f)
	}
	if len(found) > 0 {
		os.Exit(1)
	}
}

// look reads all that tests are made of.
func look(root string) (found []string, err error) {
	err = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && path != root && (strings.HasPrefix(d.Name(), ".") || d.Name() == "testdata") {
			return fs.SkipDir
		}
		if d.IsDir() || !ofTests(path) {
			return nil
		}
		src, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		here, err := check(path, src)
		found = append(found, here...)
		return err
	})
	return found, err
}

// ofTests tells whether only tests use a file.
func ofTests(path string) bool {
	dir := filepath.Base(filepath.Dir(path))
	if dir == "testkit" { // where all this has its place
		return false
	}
	return strings.HasSuffix(path, "_test.go") ||
		strings.HasSuffix(path, ".go") && (dir == "placetest" || dir == "plantest")
}
