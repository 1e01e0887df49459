package places

import (
	"context"
	"fmt"
	"iter"
	"os"
	"path/filepath"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/level"
	"lumtra/core/object"
	"lumtra/service"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
	theme "lumtra/tui/look"
)

// A level that is listed anew, at a store that answers slowly, is shown whole once it is, in its own
// order, sorted or narrowed; what was seen of it first is not kept for all of it.
func TestListedAnewAtASlowStore(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "endpoints.toml"),
		[]byte("[endpoint.attic]\nkind = \"folder\"\npath = \"attic\"\n"), 0o600))
	service, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state")})
	require.NoError(t, err)
	t.Cleanup(func() { service.Close() })
	const rows = 3 * level.Ahead
	for name, like := range map[string]*branch{"new": nil, "as it is": {order: level.ByName},
		"by size":  {order: level.BySize},
		"narrowed": {order: level.ByName, words: "a"}} {
		for _, first := range []int{0, 1} {
			t.Run(fmt.Sprint(name, ", after ", first), func(t *testing.T) {
				s := newScreen(t.Context(), &kit.Shared{Service: service, Theme: theme.New(theme.Dark)})
				d := &drive{s: s, inbox: make(chan tea.Msg, 1000)}
				goOn := make(chan struct{})
				l, err := level.Open(t.Context(), dir, func(context.Context) iter.Seq2[object.Entry, error] {
					return func(yield func(object.Entry, error) bool) {
						for i := range rows {
							if i == first {
								<-goOn
							}
							if !yield(object.Entry{Key: fmt.Sprintf("a%07d", i), Size: int64(i)}, nil) {
								return
							}
						}
					}
				})
				require.NoError(t, err)
				d.send(openedMsg{in: s.root, row: 0, at: workspace.At{Endpoint: "attic"}, level: l, like: like})
				b := s.root.child(0)
				require.NotNil(t, b)
				for b.making { // of what is there
					d.next()
				}
				close(goOn)
				b.level.Want(-1)
				for !b.state.Ended || b.making {
					d.next()
				}
				assert.Equal(t, rows, b.own())
				s.root.close()
			})
		}
	}
}
