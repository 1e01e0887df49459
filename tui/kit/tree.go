package kit

import "strings"

// Node is a line of a tree that is read as it is opened.
type Node[T any] struct {
	Is     T
	Prefix string // key up to and with the name
	Depth  int
	Open   bool
	Below  []*Node[T]

	loading, loaded bool
}

// Tree is a tree of what lies under prefixes, and its lines as they are laid out.
type Tree[T any] struct {
	Roots []*Node[T]
	Rows  []*Node[T]
}

// Lay lays the lines out anew: those that shows has, and below them what is open.
func (t *Tree[T]) Lay(shows func(*Node[T]) bool) {
	t.Rows = t.Rows[:0]
	var walk func([]*Node[T])
	walk = func(nodes []*Node[T]) {
		for _, n := range nodes {
			if !shows(n) {
				continue
			}
			t.Rows = append(t.Rows, n)
			if n.Open {
				walk(n.Below)
			}
		}
	}
	walk(t.Roots)
}

// At is the line with a number, nil where there is none.
func (t *Tree[T]) At(row int) *Node[T] {
	if row < 0 || row >= len(t.Rows) {
		return nil
	}
	return t.Rows[row]
}

// Reading notes that what lies below a line is being read; nil is the top.
func Reading[T any](under *Node[T]) (prefix string) {
	if under == nil {
		return ""
	}
	under.loading = true
	return under.Prefix
}

// Take puts what was read in its place: below a line, or at the top for nil. Where it could
// not be read it is asked for again when the line is opened next.
func (t *Tree[T]) Take(under *Node[T], all []T, name func(*T) string, err error) {
	nodes := make([]*Node[T], len(all))
	for i := range all {
		nodes[i] = &Node[T]{Is: all[i], Prefix: name(&all[i])}
		if under != nil {
			nodes[i].Prefix, nodes[i].Depth = under.Prefix+nodes[i].Prefix, under.Depth+1
		}
	}
	if under == nil {
		t.Roots = nodes
		return
	}
	under.loading, under.loaded, under.Below = false, err == nil, nodes
}

// SetBelow opens a line with what lies below it, of a tree that is read whole.
func SetBelow[T any](n *Node[T], below []*Node[T]) {
	n.Open, n.loaded, n.Below = true, true, below
}

// Toggle opens or closes the line under the cursor, or goes up from it to the folder it lies
// in. It gives the line whose content is to be read now, nil for none; then and otherwise
// the lines want to be laid out anew.
func (t *Tree[T]) Toggle(key string, c *Cursor, leaf func(*Node[T]) bool) (read *Node[T]) {
	n := t.At(c.At)
	if n == nil {
		return nil
	}
	back := key == "left" || key == "h"
	if back && !n.Open || leaf(n) {
		for i := c.At; back && i >= 0; i-- {
			if t.Rows[i].Depth < n.Depth {
				c.At = i
				break
			}
		}
		return nil
	}
	n.Open = !back && (!n.Open || key != "enter" && key != "space")
	if n.Open && !n.loaded && !n.loading {
		return n
	}
	return nil
}

// NameAt is the place at the job's target of one of the tree's lines, that of the job where there
// is no such line.
func NameAt[T any](j *JobState, rows []*Node[T], at int) string {
	if at < len(rows) {
		return strings.TrimSuffix(j.Job.Lands(), "/") + "/" + rows[at].Prefix
	}
	return j.Job.Lands()
}
