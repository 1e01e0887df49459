package cli

import (
	"context"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/service"
)

// Every command that a message, a help text or a document names in backticks is one that there is, with its flags.
func TestAdvisedCommandsAreThere(t *testing.T) {
	a := newApp(io.Discard, io.Discard, func(context.Context, *service.Service) error { return nil })
	root := a.command()
	quoted := regexp.MustCompile("`lumtra ([^`\n]+)`")
	name, flag := regexp.MustCompile(`^[a-z][a-z-]*$`), regexp.MustCompile(`^--([a-z-]+)`)
	seen := 0
	require.NoError(t, filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && strings.HasPrefix(d.Name(), ".") && d.Name() != ".." {
			return filepath.SkipDir
		}
		if strings.HasSuffix(path, "_test.go") || !strings.HasSuffix(path, ".go") && !strings.HasSuffix(path, ".md") {
			return nil
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		for _, m := range quoted.FindAllStringSubmatch(string(raw), -1) {
			words := strings.Fields(m[1])
			if words[0] == "help" || !name.MatchString(words[0]) {
				continue
			}
			cmd, rest, err := root.Find(words)
			if !assert.NoError(t, err, "%s names `lumtra %s`", path, m[1]) {
				continue
			}
			assert.False(t, cmd.HasSubCommands() && len(rest) > 0 && name.MatchString(rest[0]),
				"%s names `lumtra %s`, and %s has no such command", path, m[1], cmd.Name())
			for _, word := range words {
				if f := flag.FindStringSubmatch(word); f != nil && f[1] != "help" {
					assert.True(t, cmd.Flag(f[1]) != nil || cmd.InheritedFlags().Lookup(f[1]) != nil,
						"%s names `lumtra %s`, and there is no --%s", path, m[1], f[1])
				}
			}
			seen++
		}
		return nil
	}))
	assert.Greater(t, seen, 20)
}
