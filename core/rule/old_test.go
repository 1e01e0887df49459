package rule

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Rules that a plan of an earlier build was made by are read as they were meant.
func TestRulesOfOldPlans(t *testing.T) {
	for text, want := range map[string]Rules{
		`{"Judge":"content","Different":"newer","Extras":"leave","Afterwards":"remove",
			"Guards":{"Removals":7,"RemovalShare":8}}`: {
			CompareBy: ByContent, WhenDifferent: IfNewer, TargetOnly: KeepThere, Afterwards: DeleteSource},
		`{"Extras":"remove","Afterwards":"keep","Guards":{"Removals":7,"RemovalShare":8}}`: {TargetOnly: DeleteThere,
			Afterwards: KeepSource},
		`{"Extras":"trash","Different":"skip","Guards":{"Removals":7,"RemovalShare":8}}`: {TargetOnly: MoveToTrash,
			WhenDifferent: Skip},
	} {
		var got Rules
		require.NoError(t, json.Unmarshal([]byte(text), &got))
		assert.Equal(t, []int64{7, 8}, []int64{*got.Safety.Deletions, *got.Safety.DeletionShare})
		got.Safety = Safety{}
		assert.Equal(t, want, got, text)
		raw, err := json.Marshal(got)
		require.NoError(t, err)
		var again Rules
		require.NoError(t, json.Unmarshal(raw, &again))
		assert.Equal(t, got, again, "and what is written now")
	}
}
