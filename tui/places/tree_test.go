package places

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"lumtra/testkit"
)

// However branches are opened and closed, each line is found again where it is.
func TestTree(t *testing.T) {
	testkit.Check(t, func(t *rapid.T) {
		root := &branch{names: make([]string, rapid.IntRange(1, 9).Draw(t, "rows"))}
		for range rapid.IntRange(0, 12).Draw(t, "steps") {
			l := root.line(rapid.IntRange(0, root.lines()-1).Draw(t, "line"))
			if l.in.child(l.row) != nil {
				l.in.detach(l.row)
			} else {
				l.in.attach(l.row, &branch{names: make([]string, rapid.IntRange(0, 5).Draw(t, "children")),
					depth: l.in.depth + 1})
			}
		}
		all := map[line]bool{}
		for n := range root.lines() {
			l := root.line(n)
			assert.Equal(t, n, root.number(l), "line %d", n)
			assert.False(t, all[l])
			all[l] = true
			if p, row := root.parent(l.in); p != nil {
				assert.Less(t, root.number(line{p, row}), n)
			}
		}
	})
}
