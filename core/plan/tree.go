package plan

import (
	"context"

	"strings"
)

// Node is a line of the outcome tree: a folder with its totals, or one object.
type Node struct {
	// Name is the last part of the key; a folder's ends in "/".
	Name   string
	Totals Totals
	// Effect is the object's own; nil for a folder.
	Effect *Effect
}

// maxNodes bounds what one folder of the tree shows; the rest is counted in
// the last node, named "…".
const maxNodes = 20000

// Folder lists what lies directly under prefix ("" or ending in "/"), with
// the totals of everything below.
func (p *Plan) Folder(ctx context.Context, prefix string) ([]Node, error) {
	var nodes []Node
	c := p.Effects(prefix)
	for n := 0; c.Next(); n++ {
		if n&4095 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		e := c.Effect()
		rest, ok := strings.CutPrefix(e.Key, prefix)
		if !ok {
			break
		}
		name, _, deeper := strings.Cut(rest, "/")
		if deeper {
			name += "/"
		}
		last := len(nodes) - 1
		switch {
		case deeper && last >= 0 && nodes[last].Name == name:
			nodes[last].Totals.Add(e)
			continue
		case len(nodes) == maxNodes:
			nodes = append(nodes, Node{Name: "…"})
			fallthrough
		case len(nodes) > maxNodes:
			nodes[maxNodes].Totals.Add(e)
			continue
		}
		node := Node{Name: name}
		if !deeper {
			own := *e
			node.Effect = &own
		}
		node.Totals.Add(e)
		nodes = append(nodes, node)
	}
	return nodes, c.Err()
}
