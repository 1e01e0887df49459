// Package places is the view of endpoints and what lies in them: a tree that
// loads as one goes, and beside it the thing under the cursor, with its facts,
// its preview and its versions as beads on a time string. From here objects are
// handled, endpoints are added and tested, and the tray is filled and dropped.
//
// It never waits for a place: everything that may take time is a command, and
// what is drawn is what is there by now.
package places

import (
	"context"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/level"
	"lumtra/core/object"
	"lumtra/core/place/kind"
	"lumtra/core/place/kinds"
	"lumtra/core/probe"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
)

// Screen is the view.
type Screen struct {
	*kit.Shared
	ctx    context.Context
	root   *branch
	cursor kit.Cursor
	here   line // what the cursor is on, so that it stays there as levels grow
	page   int
	rest   int       // counts cursor moves, to ask only when it rests
	asked  time.Time // when it last rested
	ticks  bool
	beatAt time.Time // when the clock was wound

	into    workspace.At // what the cursor goes into, once it is open
	wanted  *wanted      // where the cursor goes back to, once that is listed again
	lost    string       // why it was given up; "" for not
	opening int          // levels that are being opened

	facts     map[workspace.At]facts
	sums      *sums
	reports   map[string]*probe.Report
	reportsAt time.Time // when they were last forgotten
	marks     []workspace.At
	removed   bool // levels show what was removed, too
	tray      []workspace.At

	narrowing *branch // whose names are being narrowed
	pane      pane
	sheet     sheet
	idle      bool // the keys are another tree's
	width     int  // of the pane, as drawn last
	height    int
}

// sheet is what stands in the pane while something is asked or told.
type sheet interface {
	update(tea.Msg) tea.Cmd
	lines(width, height int) []string
	keys() []kit.Key
}

// View is what the view tells of itself.
var View = kit.ViewKind{View: kit.Places, Does: "endpoints and what lies in them",
	Presses: kit.Presses(actions),
	New:     func(ctx context.Context, shared *kit.Shared) kit.Screen { return newPair(ctx, shared) }}

// newScreen makes the view.
func newScreen(ctx context.Context, shared *kit.Shared) *Screen {
	s := &Screen{Shared: shared, ctx: ctx, facts: map[workspace.At]facts{}, reports: map[string]*probe.Report{},
		page: 10, root: &branch{names: shared.Service.EndpointNames()}}
	s.sums = newSums(ctx, shared.Service)
	s.tray, _ = shared.Service.Tray()
	s.here = s.root.line(0)
	return s
}

// Messages that bring what was asked for.
type (
	openedMsg struct {
		in    *branch
		row   int
		at    workspace.At
		level *level.Level
		like  *branch // keeps its order and words; nil for those of a new one
		err   error
	}
	viewMsg struct {
		of   *branch
		view *level.View
	}
	// beatMsg comes a few times a second while levels or counts grow.
	beatMsg struct{}
	// lookAgainMsg asks for the facts of something that is changing by itself.
	lookAgainMsg struct{ at workspace.At }
	// restedMsg tells that the cursor has rested for a moment.
	restedMsg struct{ rest int }
	// sheetMsg puts a sheet into the pane, or takes it away.
	sheetMsg struct{ sheet sheet }
	// doneMsg tells that something was handled, and what is to be read again.
	doneMsg struct {
		say   string
		err   error
		again []workspace.At // levels
		focus *workspace.At
	}
)

// reportsAge is after what time reports are read again: commands and the background service test
// endpoints, too.
const reportsAge = 3 * time.Second

// mostFacts is of how many things the facts are kept.
const mostFacts = 1000

// restoreLook is how often an object that is being restored is looked at, while
// the cursor is on it.
const restoreLook = 2 * time.Second

// Crumbs are the parts of the path under the cursor.
func (s *Screen) Crumbs() []string {
	at, ok := s.at()
	if !ok {
		return nil
	}
	crumbs := []string{at.Endpoint}
	if at.Bucket != "" {
		crumbs = append(crumbs, strings.Split(at.Bucket, "/")...) // of more parts where it is a pack's inside
	}
	if at.Key != "" {
		crumbs = append(crumbs, strings.Split(strings.TrimSuffix(at.Key, "/"), "/")...)
	}
	return crumbs
}

// Asks tells that keys go into a sheet or narrow a level.
func (s *Screen) Asks() bool { return s.sheet != nil || s.narrowing != nil }

// hasBuckets tells whether an endpoint's top is made of buckets.
func (s *Screen) hasBuckets(endpoint string) bool {
	e := s.Service.Workspace().Endpoints[endpoint]
	return kinds.Of(e).Buckets
}

// bucketWord is what people call a bucket of the endpoint: a container, at some.
func (s *Screen) bucketWord(endpoint string) string {
	if word := kinds.Of(s.Service.Workspace().Endpoints[endpoint]).Bucket; word != "" {
		return word
	}
	return "bucket"
}

// at is what the cursor is on; false on a line that is nothing of its own.
func (s *Screen) at() (workspace.At, bool) {
	if s.here.in == nil || s.here.row < 0 || s.here.row >= s.here.in.own() {
		if s.here.in != nil && s.here.in.level != nil {
			return s.here.in.at, false
		}
		return workspace.At{}, false
	}
	return s.here.in.spot(s.here.in.entry(s.here.row), s.hasBuckets(s.here.in.at.Endpoint)), true
}

// entry is the row under the cursor.
func (s *Screen) entry() object.Entry {
	if s.here.in == nil || s.here.row < 0 || s.here.row >= s.here.in.own() {
		return object.Entry{}
	}
	return s.here.in.entry(s.here.row)
}

// folder is the folder that new things go into and that the tray is dropped on:
// what is under the cursor, or what it lies in.
func (s *Screen) folder() workspace.At {
	at, ok := s.at()
	if ok && (s.entry().Kind == object.Prefix) {
		return at
	}
	if s.here.in != nil {
		return s.here.in.at
	}
	return at
}

// Update takes keys and what was loaded.
func (s *Screen) Update(msg tea.Msg) tea.Cmd { return s.addressed(s.take(msg)) }

func (s *Screen) take(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case answer:
		return s.answered(msg)
	case kit.StateMsg:
		if s.Now().Sub(s.reportsAt) > reportsAge {
			clear(s.reports)
			s.reportsAt = s.Now()
		}
	case kit.Opened:
		s.names()
		return tea.Batch(s.rested(), s.beat())
	case openedMsg:
		return s.took(msg)
	case viewMsg:
		return s.viewed(msg)
	case beatMsg:
		s.ticks = false
		return s.grow()
	case restedMsg:
		if msg.rest == s.rest {
			s.asked = s.Now()
			return s.ask()
		}
	case factsMsg:
		return s.told(msg)
	case lookAgainMsg:
		if at, ok := s.at(); ok && at == msg.at {
			return s.describe(at)
		}
		delete(s.facts, msg.at)
	case previewMsg:
		s.pane.show(msg)
	case pictureMsg:
		return s.showPicture(msg)
	case olderMsg:
		if msg.of == s.pane.of {
			s.pane.older, s.pane.olderOf = msg.facts, msg.of.version
		}
	case sheetMsg:
		s.sheet = msg.sheet
	case countedMsg:
		if _, waits := s.sheet.(*countSheet); waits {
			return msg.next(msg.n)
		}
	case doneMsg:
		return s.finished(msg)
	case broughtMsg:
		return s.brought(msg.job)
	case tea.KeyPressMsg:
		return s.key(msg)
	case tea.PasteMsg:
		switch {
		case s.sheet != nil:
			return s.sheet.update(msg)
		case s.narrowing != nil:
			return s.narrowTo(s.narrowing, s.narrowing.words+oneBlank(msg.Content))
		}
	default:
		if s.sheet != nil {
			return s.sheet.update(msg)
		}
	}
	return nil
}

// viewed takes in a level as it was sorted or narrowed.
func (s *Screen) viewed(msg viewMsg) tea.Cmd {
	msg.of.making = false
	if msg.view != nil && msg.view.Order == msg.of.order && msg.view.Words == msg.of.words {
		msg.of.show(msg.view)
		s.place()
	} else if !msg.of.plain() {
		return s.makeView(msg.of) // another was asked for meanwhile
	}
	return nil
}

// told takes in what was asked about one thing.
func (s *Screen) told(msg factsMsg) tea.Cmd {
	was := s.facts[msg.at].Entry.Archive
	if len(s.facts) > mostFacts { // what was looked at long ago is asked for again
		clear(s.facts)
	}
	s.facts[msg.at] = msg.facts
	s.pane.take(msg)
	if was == object.Restoring && msg.facts.Entry.Archive == object.Restored {
		s.pane.of = look{} // now there is something to see
		return s.preview()
	}
	if msg.facts.Entry.Archive == object.Restoring { // so that one sees when it is done
		return tea.Tick(restoreLook, func(time.Time) tea.Msg { return lookAgainMsg{msg.at} })
	}
	return nil
}

// names takes the endpoints as they are now; what is open stays open.
func (s *Screen) names() {
	now := s.Service.EndpointNames()
	if slices.Equal(now, s.root.names) {
		return
	}
	at, _ := s.at()
	old := s.root
	s.root = &branch{names: now}
	for _, o := range old.below {
		if row := slices.Index(now, old.names[o.row]); row >= 0 {
			s.root.attach(row, o.branch)
		} else {
			o.close()
		}
	}
	if s.here.in == old {
		s.here = line{s.root, max(slices.Index(now, at.Endpoint), 0)}
	}
	s.place()
}

// place puts the cursor back on what it was on, and gives up narrowing a level that
// is closed.
func (s *Screen) place() {
	if s.narrowing != nil && !s.root.has(s.narrowing) {
		s.narrowing = nil
	}
	n := s.root.number(s.here)
	if n < 0 {
		n = s.cursor.At
	}
	s.cursor.At = n
	s.cursor.Move(0, s.root.lines())
	if s.root.lines() > 0 {
		s.here = s.root.line(s.cursor.At)
	}
}

func (s *Screen) moved() tea.Cmd {
	s.stay("the cursor was moved")
	if s.root.lines() > 0 {
		s.here = s.root.line(s.cursor.At)
	}
	if b := s.here.in; b != nil && b.level != nil {
		row := s.here.row
		if row < 0 {
			row = b.state.Rows
		}
		if b.view == nil {
			b.level.Want(row + s.page)
		}
	}
	s.pane.leave()
	return tea.Batch(s.rested(), s.beat())
}

// expand opens what is under the cursor.
func (s *Screen) expand() tea.Cmd {
	at, ok := s.at()
	b := s.here.in
	if !ok || b.child(s.here.row) != nil {
		return nil
	}
	if s.entry().Kind != object.Prefix {
		if at, ok = opensAs(s.entry(), at); !ok {
			return nil
		}
	}
	return s.openLevel(b, s.here.row, at, nil)
}

func (s *Screen) openLevel(b *branch, row int, at workspace.At, like *branch) tea.Cmd {
	removed := s.removed
	s.opening++
	return func() tea.Msg {
		l, err := s.Service.OpenLevel(s.ctx, at, removed)
		if err == nil {
			l.Settle(100 * time.Millisecond) // most are there by then, and nothing flickers
		}
		return openedMsg{b, row, at, l, like, err}
	}
}

func (s *Screen) took(msg openedMsg) tea.Cmd {
	s.opening--
	if msg.err != nil {
		s.stay(kit.Reason(msg.err))
		return kit.Cmd(kit.Say{Text: kit.Reason(msg.err), Bad: true})
	}
	in, row := msg.in, msg.row
	if in.level == nil { // the endpoints may be others by now
		in, row = s.root, slices.Index(s.root.names, msg.at.Endpoint)
	}
	gone := row < 0 || row >= in.own() || !s.root.has(in) || in.child(row) != nil
	if gone || !in.leadsTo(row, s.hasBuckets(in.at.Endpoint), msg.at) {
		s.orphaned()
		return closeLevel(msg.level)
	}
	b := &branch{at: msg.at, depth: in.depth + 1, level: msg.level, order: level.ByName,
		began: s.Now()}
	b.state = msg.level.State()
	in.attach(row, b)
	s.place()
	s.goOnIn()
	var shape tea.Cmd
	if msg.like != nil {
		b.order, b.words = msg.like.order, msg.like.words
		shape = s.reshape(b)
	}
	return tea.Batch(shape, s.seek(), s.rested(), s.beat())
}

func closeLevel(l *level.Level) tea.Cmd {
	return func() tea.Msg {
		l.Close()
		return nil
	}
}

// fold closes what is open under the cursor, else goes to where it lies in.
func (s *Screen) fold() tea.Cmd {
	b := s.here.in
	if b == nil {
		return nil
	}
	if s.here.row >= 0 && b.child(s.here.row) != nil {
		b.detach(s.here.row)
	} else if p, row := s.root.parent(b); p != nil {
		s.here = line{p, row}
	}
	s.place()
	return s.moved()
}

// again lists a level anew, where it is open.
func (s *Screen) again(at workspace.At) tea.Cmd {
	var cmds []tea.Cmd
	for _, b := range s.root.find(at) {
		if p, row := s.root.parent(b); p != nil { // else it went with one above it
			if b.has(s.here.in) {
				if cursor, ok := s.at(); ok && s.wanted == nil {
					s.wanted, s.lost = &wanted{at: cursor, row: s.here.row}, ""
				}
				s.here = line{p, row}
			}
			p.detach(row)
			cmds = append(cmds, s.openLevel(p, row, at, b))
		}
	}
	s.place()
	s.sums.forget(at)
	return tea.Batch(cmds...)
}

// beat winds the clock that lets levels and counts grow, if anything may.
func (s *Screen) beat() tea.Cmd {
	if s.ticks && s.Now().Sub(s.beatAt) < time.Second { // else it was lost
		return nil
	}
	s.ticks, s.beatAt = true, s.Now()
	return tea.Tick(150*time.Millisecond, func(time.Time) tea.Msg { return beatMsg{} })
}

// goOnIn takes the cursor into what it was to go into, once there is something; it stays where
// it is when a person has gone elsewhere meanwhile.
func (s *Screen) goOnIn() {
	at, ok := s.at()
	if !ok || at != s.into || s.here.in == nil {
		s.into = workspace.At{}
		return
	}
	if b := s.here.in.child(s.here.row); b != nil && b.own() > 0 {
		s.into = workspace.At{}
		s.cursor.Move(1, s.root.lines())
		s.here = s.root.line(s.cursor.At)
	}
}

// grow takes what levels and counts have come to, and goes on while they grow.
func (s *Screen) grow() tea.Cmd {
	var cmds []tea.Cmd
	busy := s.sums.busy() || s.sheet != nil
	s.root.walk(func(b *branch) {
		if b.level == nil {
			return
		}
		b.state = b.level.State()
		busy = busy || !b.state.Ended && !b.state.Paused || b.making
		if !b.plain() {
			cmds = append(cmds, s.makeView(b))
		}
	})
	s.place()
	s.goOnIn()
	cmds = append(cmds, s.seek())
	if busy {
		cmds = append(cmds, s.beat())
	}
	if at, ok := s.at(); ok {
		if _, known := s.facts[at]; !known && s.here.row >= 0 {
			cmds = append(cmds, s.rested())
		}
	}
	return tea.Batch(cmds...)
}

// makeView has the rows of a branch chosen and sorted, if there are new ones.
func (s *Screen) makeView(b *branch) tea.Cmd {
	stale := b.view == nil || b.view.Order != b.order || b.view.Words != b.words
	if !stale { // while rows still come, only for so many that looking at all again pays
		grown := b.state.Rows - b.view.Looked
		stale = grown > 0 && (b.state.Ended || grown > b.view.Looked/4)
	}
	if b.making || !stale {
		return nil
	}
	b.making = true
	l, prefix, order, words := b.level, b.at.Key, b.order, b.words
	hasBuckets := s.hasBuckets(b.at.Endpoint)
	totals := func(key string) int64 {
		return s.sums.of(b.spot(object.Entry{Key: key}, hasBuckets)).Bytes
	}
	return func() tea.Msg { return viewMsg{b, level.Make(s.ctx, l, prefix, order, words, totals)} }
}

// inside is the level that an order or words are for: that of the open folder
// under the cursor, else the one the cursor is in.
func (s *Screen) inside() *branch {
	if s.here.in != nil && s.here.row >= 0 {
		if c := s.here.in.child(s.here.row); c != nil {
			return c
		}
	}
	return s.here.in
}

// sortBy gives the level under the cursor the next order.
func (s *Screen) sortBy() tea.Cmd {
	b := s.inside()
	if b == nil || b.level == nil {
		return kit.Cmd(kit.Say{Text: "Open an endpoint or a folder first; what is in it is sorted."})
	}
	b.order = map[level.Order]level.Order{level.ByName: level.BySize, level.BySize: level.ByTime,
		level.ByTime: level.ByName}[b.order]
	return s.reshape(b)
}

// reshape makes a branch show its order and words.
func (s *Screen) reshape(b *branch) tea.Cmd {
	if b.plain() {
		b.show(nil)
		s.place()
		return nil
	}
	b.level.Want(-1)
	return tea.Batch(s.makeView(b), s.beat())
}

// rested asks for facts when the cursor has not moved for a moment, so that
// running along a list does not ask about every line.
func (s *Screen) rested() tea.Cmd {
	s.rest++
	rest := s.rest
	return tea.Tick(120*time.Millisecond, func(time.Time) tea.Msg { return restedMsg{rest} })
}

// endpointOf is the settings of an endpoint; nil if it is gone.
func (s *Screen) endpointOf(name string) *kind.Settings { return s.Service.Workspace().Endpoints[name] }
