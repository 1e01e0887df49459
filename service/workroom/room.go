package workroom

import "lumtra/service/workspace"

// Room is where the jobs of a workspace are worked on. Its methods may be called from many
// goroutines.
type Room struct{ ws *workspace.Keeper }

// New makes a room for the jobs of a workspace.
func New(ws *workspace.Keeper) *Room { return &Room{ws} }
