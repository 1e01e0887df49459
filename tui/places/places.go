// Package places is the view of endpoints and what lies in them: a tree that
// loads as one goes, and beside it the facts of what is under the cursor. It
// reads listings page by page and never waits for one.
package places

import (
	"context"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/service"
	"lumtra/tui/kit"
)

// Screen is the view.
type Screen struct {
	*kit.Shared
	ctx    context.Context
	roots  []*node
	rows   []*node // the visible lines of the tree
	cursor kit.Cursor
	page   int
	facts  map[string]facts // by path, of what the cursor rested on
	rest   int              // counts cursor moves, to ask only when it rests
}

// node is a line of the tree.
type node struct {
	path, name string // path is "endpoint/bucket/key"
	depth      int
	entry      object.Entry
	folder     bool
	endpoint   *job.Endpoint
	parent     *node

	open, loading, loaded bool
	next                  string // where the next page begins
	err                   error
	children              []*node
	more                  bool // this line stands for what is not loaded yet
}

type facts struct {
	entry     object.Entry
	abilities *place.Abilities
	err       error
}

// New makes the view.
func New(ctx context.Context, shared *kit.Shared) *Screen {
	s := &Screen{Shared: shared, ctx: ctx, facts: map[string]facts{}, page: 10}
	w := shared.Service.Workspace()
	for _, name := range shared.Service.EndpointNames() {
		s.roots = append(s.roots, &node{path: name, name: name, folder: true, endpoint: w.Endpoints[name]})
	}
	s.lay()
	return s
}

// loadedMsg brings a page of a node's children.
type loadedMsg struct {
	node *node
	page service.Page
	err  error
}

// restedMsg tells that the cursor has rested for a moment.
type restedMsg struct{ rest int }

// factsMsg brings the facts of a path.
type factsMsg struct {
	path  string
	facts facts
}

// Crumbs are the parts of the path under the cursor.
func (s *Screen) Crumbs() []string {
	if n := s.at(); n != nil {
		return strings.Split(strings.TrimSuffix(n.path, "/"), "/")[:n.depth+1]
	}
	return nil
}

// Typing is never so here.
func (s *Screen) Typing() bool { return false }

// Keys of the view.
func (s *Screen) Keys() []kit.Key {
	return []kit.Key{{Press: "enter", Does: "open or close: what lies below"}, {Press: "right", Does: "open: one level deeper"},
		{Press: "left", Does: "close: one level up"}, {Press: "r", Does: "read again: this level anew"}}
}

func (s *Screen) at() *node {
	if s.cursor.At < len(s.rows) {
		return s.rows[s.cursor.At]
	}
	return nil
}

// Update takes keys and what was loaded.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case kit.Opened:
		return s.rested()
	case loadedMsg:
		return s.take(msg)
	case restedMsg:
		if msg.rest == s.rest {
			return s.ask()
		}
	case factsMsg:
		s.facts[msg.path] = msg.facts
	case tea.KeyPressMsg:
		return s.key(msg.String())
	}
	return nil
}

func (s *Screen) key(key string) tea.Cmd {
	n := s.at()
	if n == nil {
		return nil
	}
	switch key {
	case "enter":
		if n.open {
			return s.close(n)
		}
		return s.expand(n)
	case "right", "l":
		return s.expand(n)
	case "left", "h":
		if n.open {
			return s.close(n)
		}
		if n.parent != nil {
			for i, r := range s.rows {
				if r == n.parent {
					s.cursor.At = i
				}
			}
		}
		return s.rested()
	case "r":
		if !n.folder && n.parent != nil {
			n = n.parent
		}
		n.children, n.loaded, n.next, n.err = nil, false, "", nil
		s.lay()
		return s.expand(n)
	}
	if s.cursor.Key(key, len(s.rows), s.page) {
		cmds := []tea.Cmd{s.rested()}
		if n := s.at(); n != nil && n.more {
			cmds = append(cmds, s.load(n.parent))
		}
		return tea.Batch(cmds...)
	}
	return nil
}

func (s *Screen) close(n *node) tea.Cmd {
	n.open = false
	s.lay()
	return s.rested()
}

func (s *Screen) expand(n *node) tea.Cmd {
	if !n.folder {
		return nil
	}
	n.open = true
	var cmd tea.Cmd
	if !n.loaded && n.err == nil || n.err != nil {
		n.err = nil
		cmd = s.load(n)
	}
	s.lay()
	return tea.Batch(cmd, s.rested())
}

// load fetches the next page of a node's children.
func (s *Screen) load(n *node) tea.Cmd {
	if n.loading {
		return nil
	}
	n.loading = true
	after := n.next
	return func() tea.Msg {
		page, err := s.Service.Browse(s.ctx, n.path, after)
		return loadedMsg{n, page, err}
	}
}

func (s *Screen) take(msg loadedMsg) tea.Cmd {
	n := msg.node
	n.loading, n.loaded, n.err, n.next = false, msg.err == nil, msg.err, msg.page.Next
	for _, e := range msg.page.Entries {
		n.children = append(n.children, &node{path: n.path + "/" + strings.TrimSuffix(e.Key, "/"), name: e.Key, depth: n.depth + 1,
			entry: e, folder: e.Kind == object.Prefix, parent: n})
	}
	s.lay()
	return s.rested()
}

// lay makes the visible lines anew.
func (s *Screen) lay() {
	s.rows = s.rows[:0]
	var walk func(nodes []*node)
	walk = func(nodes []*node) {
		for _, n := range nodes {
			s.rows = append(s.rows, n)
			if !n.open {
				continue
			}
			walk(n.children)
			if n.next != "" {
				s.rows = append(s.rows, &node{name: "…", depth: n.depth + 1, parent: n, more: true, path: n.path})
			}
		}
	}
	walk(s.roots)
	s.cursor.Move(0, len(s.rows))
}

// rested asks for facts when the cursor has not moved for a moment, so that
// running along a list does not ask about every line.
func (s *Screen) rested() tea.Cmd {
	s.rest++
	rest := s.rest
	return tea.Tick(120*time.Millisecond, func(time.Time) tea.Msg { return restedMsg{rest} })
}

func (s *Screen) ask() tea.Cmd {
	n := s.at()
	if n == nil || n.more {
		return nil
	}
	if _, known := s.facts[n.path]; known {
		return nil
	}
	path, folder := n.path, n.folder
	open := path
	if n.endpoint != nil && n.endpoint.Kind != job.KindFolder {
		open += "/-" // any bucket tells what the store can do; none is asked
	}
	return func() tea.Msg {
		var f facts
		if folder {
			var p place.Place
			if p, f.err = s.Service.Place(s.ctx, open); f.err == nil {
				a := p.Abilities()
				f.abilities = &a
			}
		} else {
			f.entry, f.err = s.Service.Stat(s.ctx, path)
		}
		return factsMsg{path, f}
	}
}
