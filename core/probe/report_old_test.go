package probe

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A test that an earlier build kept still says what it found.
func TestReportOfAnOldBuild(t *testing.T) {
	var r Report
	require.NoError(t, json.Unmarshal([]byte(`{"checks":[{"name":"list","outcome":"refused"},
		{"name":"tags","outcome":"absent"},{"name":"write","outcome":"untried"},
		{"name":"remove","outcome":"fine"}]}`), &r))
	assert.Equal(t, 1, r.Refused())
	assert.Equal(t, []Outcome{Refused, Absent, Untried, Fine}, []Outcome{r.Check("list").Outcome,
		r.Check("tags").Outcome, r.Check("write").Outcome, r.Check("delete").Outcome})
	assert.Empty(t, r.Check("read").Name)
}
