package browse

import "lumtra/service/workspace"

// Browser looks at places and acts on them by hand. Its methods may be called from many
// goroutines.
type Browser struct{ ws *workspace.Keeper }

// New makes a browser of a workspace.
func New(ws *workspace.Keeper) *Browser { return &Browser{ws} }
