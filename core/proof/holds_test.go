package proof

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Any one thing that is amiss keeps a proof from holding, in its verdict and in what its
// document says first.
func TestHolds(t *testing.T) {
	for name, c := range map[string]struct {
		change          func(*Summary)
		holds, unproven bool
	}{
		"all the same":            {func(*Summary) {}, true, false},
		"nothing at all":          {func(s *Summary) { s.Objects[Same] = 0 }, true, false},
		"target-only":             {func(s *Summary) { s.Objects[Extra] = 3 }, true, false},
		"extra, where both count": {func(s *Summary) { s.Both, s.Objects[Extra] = true, 3 }, false, false},
		"different":               {func(s *Summary) { s.Objects[Different] = 1 }, false, false},
		"missing":                 {func(s *Summary) { s.Objects[Missing] = 1 }, false, false},
		"unproven":                {func(s *Summary) { s.Objects[Unproven] = 1 }, false, true},
		"unproven and extra":      {func(s *Summary) { s.Objects[Unproven], s.Objects[Extra] = 1, 1 }, false, true},
		"unproven, and extra counts": {func(s *Summary) {
			s.Both, s.Objects[Unproven], s.Objects[Extra] = true, 1,
				1
		}, false, false},
		"unproven and missing":   {func(s *Summary) { s.Objects[Unproven], s.Objects[Missing] = 1, 1 }, false, false},
		"unproven and different": {func(s *Summary) { s.Objects[Unproven], s.Objects[Different] = 1, 1 }, false, false},
		"changed since the plan": {func(s *Summary) { s.Objects[Since] = 3 }, true, false},
		"a gap":                  {func(s *Summary) { s.Gaps = 1 }, false, false},
	} {
		s := &Summary{Job: "masters", Number: 1, Objects: map[Verdict]int64{}}
		s.Objects[Same] = 4
		c.change(s)
		assert.Equal(t, [2]bool{c.holds, c.unproven}, [2]bool{s.Holds(), s.OnlyUnproven()}, name)
		var text strings.Builder
		require.NoError(t, WriteDocument(&text, s, nil))
		assert.Equal(t, c.holds, strings.Contains(text.String(), "It holds"), "%s: %s", name, text.String())
	}
}
