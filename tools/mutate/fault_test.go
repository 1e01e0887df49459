package main

import (
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const sample = `package x

// Holds decides.
func Holds(n, most int, force bool) bool {
	count := 0
	if n > most && !force {
		return false
	}
	count++
	count += n
	note("a" + "b")
	return n == most || true
}
`

// Each fault is one small change, the rest of the file stays, and what comes of it is
// still Go.
func TestFaultsOf(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.go")
	require.NoError(t, os.WriteFile(path, []byte(sample), 0o600))
	faults, err := faultsOf(path)
	require.NoError(t, err)
	var names []string
	for _, f := range faults {
		names = append(names, f.was()+" → "+short(f.text))
		assert.Equal(t, "Holds", f.inside)
		assert.Equal(t, path, f.file)
		code := string(f.apply())
		assert.NotEqual(t, sample, code)
		assert.Equal(t, sample[:f.from], code[:f.from])
		_, err := parser.ParseFile(token.NewFileSet(), "x.go", code, 0)
		assert.NoError(t, err, "%s", f)
	}
	assert.ElementsMatch(t, []string{
		"n > most && !force → false && (n > most && !force)", "&& → ||", "> → >=", "! → nothing", "false → true",
		"count++ → nothing", "count += n → nothing",
		`note("a" + "b") → nothing`, "|| → &&", "== → !=", "true → false",
	}, names)
	line := faults[0].line
	assert.Equal(t, 6, line)
	_, err = faultsOf(filepath.Join(t.TempDir(), "none.go"))
	assert.Error(t, err)
}

// What is returned beside an error is nobody's affair, but only where there is one.
func TestBesideAnError(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.go")
	require.NoError(t, os.WriteFile(path, []byte(`package x

func Holds() (bool, error) {
	some, err := look()
	if err != nil {
		return false, err
	}
	if err == nil {
		return true, nil
	}
	return true, err
}
`), 0o600))
	faults, err := faultsOf(path)
	require.NoError(t, err)
	var lines []int
	for _, f := range faults {
		if f.was() == "true" || f.was() == "false" {
			lines = append(lines, f.line)
		}
	}
	assert.Equal(t, []int{9, 11}, lines)
}

// Every target is there, and every survivor that is explained still is a fault that could
// be made.
func TestTargetsAndSurvivors(t *testing.T) {
	t.Chdir("../..")
	could := map[string]bool{}
	for _, target := range targets {
		faults, err := faultsOf(target.file)
		require.NoError(t, err)
		assert.NotEmpty(t, faults, target.file)
		assert.NotEmpty(t, target.tests, target.file)
		for _, f := range faults {
			could[f.name()] = true
		}
	}
	known, err := survivors()
	require.NoError(t, err)
	for name, why := range known {
		assert.NotEmpty(t, why)
		assert.True(t, could[name], "%s: there is nothing like it any more", name)
	}
	assert.Len(t, chosen([]string{"core/plan"}), 6)
	assert.Len(t, chosen([]string{"core/proof/proof.go"}), 1)
	assert.Empty(t, chosen([]string{"core/pro"}))
	assert.Len(t, chosen(nil), len(targets))
}

func TestReport(t *testing.T) {
	trials := func(caughts, survivors, invalids int) (all []*trial) {
		for outcome, n := range map[outcome]int{caught: caughts, survived: survivors, invalid: invalids} {
			for range n {
				all = append(all, &trial{fault: fault{file: "x.go", source: []byte("x"), to: 1}, outcome: outcome})
			}
		}
		return all
	}
	assert.NoError(t, report(trials(9, 1, 50), nil), "what does not compile does not count")
	assert.ErrorContains(t, report(trials(89, 11, 0), nil), "the bar is 90 %")
	assert.ErrorContains(t, report(trials(0, 0, 5), nil), "nothing was tried")
}
