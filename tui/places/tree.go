package places

import (
	"slices"
	"strings"
	"time"

	"lumtra/core/level"
	"lumtra/core/object"
	"lumtra/service/workspace"
)

// branch is one level of the tree that is open: the endpoints at the root, or
// what lies directly below an endpoint, a bucket or a folder. Its rows are not
// in memory; the level has them.
type branch struct {
	at     workspace.At // what the rows lie in
	depth  int
	level  *level.Level // nil at the root
	state  level.State
	names  []string // the rows of the root
	order  level.Order
	words  string
	view   *level.View // nil for the level's own order
	making bool        // a view is on its way
	began  time.Time   // when its listing was asked for
	below  []opened    // by row
}

// opened is a branch below a row.
type opened struct {
	row int
	*branch
}

// line is one line of the tree.
type line struct {
	in  *branch
	row int // -1 for the line that tells how the level stands
}

// plain tells that the branch shows its level as it is, all of it in its own order, without a view.
func (b *branch) plain() bool { return b.order == level.ByName && b.words == "" }

// own is how many rows the branch itself shows.
func (b *branch) own() int {
	switch {
	case b.level == nil:
		return len(b.names)
	case b.view != nil:
		return len(b.view.Rows)
	}
	return b.state.Rows
}

// tells is whether a line below the rows says how the level stands.
func (b *branch) tells() bool {
	return b.level != nil && (!b.state.Ended || b.state.Err != nil || b.own() == 0 || b.words != "")
}

// lines is how many lines the branch takes, with all that is open below it.
func (b *branch) lines() int {
	n := b.own()
	if b.tells() {
		n++
	}
	for _, o := range b.below {
		n += o.lines()
	}
	return n
}

// line finds the line with the number.
func (b *branch) line(n int) line {
	passed := 0 // rows of this branch before the open one looked at
	for _, o := range b.below {
		if n <= o.row-passed {
			break
		}
		n -= o.row - passed + 1
		passed = o.row + 1
		if k := o.lines(); n < k {
			return o.branch.line(n)
		} else {
			n -= k
		}
	}
	if row := passed + n; row < b.own() {
		return line{b, row}
	}
	return line{b, -1}
}

// number is where a line is; -1 when it is not there any more.
func (b *branch) number(want line) int {
	if want.in == b {
		row := want.row
		if row < 0 || row >= b.own() {
			row = max(b.own()-1, 0)
			if want.row < 0 && b.tells() {
				row = b.own()
			}
		}
		n := row
		for _, o := range b.below {
			if o.row < row {
				n += o.lines()
			}
		}
		return n
	}
	before := 0
	for _, o := range b.below {
		if k := o.number(want); k >= 0 {
			return o.row + 1 + before + k
		}
		before += o.lines()
	}
	return -1
}

// entry is what a row shows.
func (b *branch) entry(row int) object.Entry {
	if b.level == nil {
		return object.Entry{Key: b.names[row], Kind: object.Prefix}
	}
	if b.view != nil {
		if row >= len(b.view.Rows) {
			return object.Entry{}
		}
		row = int(b.view.Rows[row])
	}
	e, _ := b.level.Row(row)
	return e
}

// name is what the row is called within its level.
func (b *branch) name(e object.Entry) string {
	return strings.TrimPrefix(e.Key, b.at.Key)
}

// spot is what a row names.
func (b *branch) spot(e object.Entry, hasBuckets bool) workspace.At {
	switch {
	case b.level == nil:
		return workspace.At{Endpoint: e.Key}
	case b.at.Bucket == "" && hasBuckets:
		return workspace.At{Endpoint: b.at.Endpoint, Bucket: strings.TrimSuffix(e.Key, "/")}
	}
	return workspace.At{Endpoint: b.at.Endpoint, Bucket: b.at.Bucket, Key: e.Key}
}

// opensAs is what an object opens as: a pack as what is in it; false for others.
func opensAs(e object.Entry, at workspace.At) (workspace.At, bool) {
	if e.Kind != object.Object {
		return at, false
	}
	return at.Inside()
}

// leadsTo tells that a row opens as a level.
func (b *branch) leadsTo(row int, hasBuckets bool, level workspace.At) bool {
	e := b.entry(row)
	spot := b.spot(e, hasBuckets)
	if in, ok := opensAs(e, spot); ok && in == level {
		return true
	}
	return spot == level
}

// child is the branch open below a row, nil if none is.
func (b *branch) child(row int) *branch {
	i, ok := slices.BinarySearchFunc(b.below, row, func(o opened, row int) int { return o.row - row })
	if !ok {
		return nil
	}
	return b.below[i].branch
}

func (b *branch) attach(row int, child *branch) {
	i, _ := slices.BinarySearchFunc(b.below, row, func(o opened, row int) int { return o.row - row })
	b.below = slices.Insert(b.below, i, opened{row, child})
}

// detach closes what is open below a row.
func (b *branch) detach(row int) {
	b.below = slices.DeleteFunc(b.below, func(o opened) bool {
		if o.row == row {
			o.close()
		}
		return o.row == row
	})
}

// close gives back everything the branch and those below hold.
func (b *branch) close() {
	for _, o := range b.below {
		o.close()
	}
	if b.level != nil {
		go b.level.Close() // which may wait for the network
	}
}

// find is what is open of a level, here or below. Unlike what walk visits it may be
// closed while one goes through it.
func (b *branch) find(at workspace.At) (all []*branch) {
	b.walk(func(x *branch) {
		if x.level != nil && x.at == at {
			all = append(all, x)
		}
	})
	return all
}

// has tells whether x is the branch, or open somewhere below it.
func (b *branch) has(x *branch) bool {
	found := false
	b.walk(func(y *branch) { found = found || x == y })
	return found
}

// walk visits the branch and all below it. visit leaves the tree as it is.
func (b *branch) walk(visit func(*branch)) {
	visit(b)
	for _, o := range b.below {
		o.walk(visit)
	}
}

// parent finds the branch and row that child is open below.
func (b *branch) parent(child *branch) (*branch, int) {
	for _, o := range b.below {
		if o.branch == child {
			return b, o.row
		}
		if p, row := o.parent(child); p != nil {
			return p, row
		}
	}
	return nil, 0
}

// show puts a new view in force. What was open stays open where it is shown.
func (b *branch) show(v *level.View) {
	keys := map[string]*branch{}
	for _, o := range b.below {
		keys[b.entry(o.row).Key] = o.branch
	}
	b.view, b.below = v, nil
	if len(keys) == 0 {
		return
	}
	for row := range b.own() {
		key := b.entry(row).Key
		if child := keys[key]; child != nil {
			b.attach(row, child)
			delete(keys, key)
			if len(keys) == 0 {
				return
			}
		}
	}
	for _, hidden := range keys {
		hidden.close()
	}
}
