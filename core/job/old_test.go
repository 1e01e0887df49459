package job

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/place/kind"
	"lumtra/core/rule"
)

// A file of an earlier build says what it meant, wherever its settings stand, and is written
// with the names of today once something in it is changed.
func TestOldNames(t *testing.T) {
	ends := map[string]*kind.Settings{"studio": {Kind: "folder", Path: "a"}, "copy": {Kind: "folder", Path: "b"}}
	const sides = "source = \"studio\"\ntarget = \"copy\"\n"
	for name, text := range map[string]string{
		"tables": sides + "judge = \"content\" # closely\ndifferent = \"newer\"\nextras = \"remove\"\n[guards]\n" +
			"removals = 7\nremoval-share = 8\n",
		"a table on one line": sides + "judge = \"content\"\ndifferent = \"newer\"\nextras = \"remove\"\nguards = { " +
			"removals = 7, removal-share = 8 }\n",
		"full names": sides + "judge = \"content\"\ndifferent = \"newer\"\nextras = \"remove\"\nguards.removals = 7\n" +
			"guards.removal-share = 8\n",
	} {
		j, err := Parse("", "x", text, ends)
		require.NoError(t, err, name)
		assert.Equal(t, rule.ByContent, j.CompareBy, name)
		assert.Equal(t, rule.IfNewer, j.WhenDifferent, name)
		assert.Equal(t, rule.DeleteThere, j.TargetOnly, name)
		require.NotNil(t, j.Safety.Deletions, name)
		assert.EqualValues(t, []int64{7, 8}, []int64{*j.Safety.Deletions, *j.Safety.DeletionShare}, name)

		text, err = SetText(text, "safety.shrink", "9")
		require.NoError(t, err, name)
		text, err = SetText(text, "extras", "trash") // by its old name
		require.NoError(t, err, name)
		for _, old := range []string{"judge", "extras", "guards", "removal"} {
			assert.NotContains(t, text, old, name)
		}
		again, err := Parse("", "x", text, ends)
		require.NoError(t, err, "%s: %s", name, text)
		assert.EqualValues(t, 9, *again.Safety.Shrink, name)
		assert.Equal(t, rule.MoveToTrash, again.TargetOnly, name)
		assert.EqualValues(t, 7, *again.Safety.Deletions, name)
	}
	moved, err := Parse("", "x", sides+"afterwards = \"remove\"\nextras = \"leave\"\n", ends)
	require.NoError(t, err)
	assert.Equal(t, rule.DeleteSource, moved.Afterwards)
	assert.Equal(t, rule.KeepThere, moved.TargetOnly)
	_, err = Parse("", "x", sides+"judge = \"moon\"\n", ends)
	assert.ErrorContains(t, err, "x.toml:3:1: compare-by is \"moon\"")
	assert.Equal(t, "judge = \"a", renamed("judge = \"a", rule.OldNames), "a broken text stays as it is")

	path := filepath.Join(t.TempDir(), "rates.toml")
	require.NoError(t, os.WriteFile(path, []byte("currency = \"EUR\"\n[rates.studio]\nremoves = 2\n"), 0o600))
	rates, err := LoadRates(path, ends)
	require.NoError(t, err)
	assert.EqualValues(t, 2, rates["studio"].Removes)
}
