package places

import (
	"context"
	"fmt"
	"reflect"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/object"
	"lumtra/core/place/kinds"
	"lumtra/service/browse"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
)

// Pair is the view as the frame has it: one tree with what is under its cursor, or two trees
// side by side, each with a path of its own, to look, to hold against each other and to
// bring things across.
type Pair struct {
	ctx     context.Context
	left    *Screen
	right   *Screen // nil while there is one tree
	onRight bool
	held    []tea.KeyPressMsg // for what the cursor of the tree with the keys is on its way back to
}

func newPair(ctx context.Context, shared *kit.Shared) *Pair {
	return &Pair{ctx: ctx, left: newScreen(ctx, shared)}
}

// rightMsg is for the right tree.
type rightMsg struct{ msg tea.Msg }

// active is the tree that has the keys; other is the one beside it, nil for none.
func (p *Pair) active() *Screen {
	if p.onRight {
		return p.right
	}
	return p.left
}

func (p *Pair) other() *Screen {
	if p.onRight {
		return p.left
	}
	return p.right
}

// Crumbs are those of the active tree.
func (p *Pair) Crumbs() []string { return p.active().Crumbs() }

// Asks tells whether the active tree asks for something.
func (p *Pair) Asks() bool { return p.active().Asks() }

// Name is that of what the cursor of the tree with the keys is on.
func (p *Pair) Name() string { return p.active().Name() }

// Command brings across what the cursor is on, or does what is asked about.
func (p *Pair) Command() []string {
	a, b := p.active(), p.other()
	if b == nil || a.sheet != nil || needAcross(p) != "" {
		return a.Command()
	}
	return words([]string{"copy"}, a.picks(), ref(b.folder()))
}

func (p *Pair) two() bool { return p.right != nil }

// needAcross wants something here that can be brought to the other side.
func needAcross(p *Pair) string {
	if why := needInside(p.active()); why != "" {
		return why
	}
	to := p.other().folder()
	switch {
	case to == workspace.At{} || to.Bucket == "" && p.other().hasBuckets(to.Endpoint):
		return "go into a bucket or a folder at the other side first"
	case kinds.Of(p.other().endpointOf(to.Endpoint)).ReadOnly:
		return "the other side can only be read"
	}
	return ""
}

func needMovable(p *Pair) string {
	if why := needAcross(p); why != "" {
		return why
	}
	return needThere(p.active())
}

func needBothFolders(p *Pair) string {
	for _, s := range []*Screen{p.active(), p.other()} {
		if at := s.folder(); at == (workspace.At{}) || at.Bucket == "" && s.hasBuckets(at.Endpoint) {
			return "go into a bucket or a folder at both sides first"
		}
	}
	return ""
}

// pairActions are those of two trees; they come before those of the active one.
var pairActions = []kit.Action[*Pair]{
	{Press: "tab", Does: "other side", When: (*Pair).two, Anywhere: true, Do: func(p *Pair, _ string) tea.Cmd {
		p.onRight = !p.onRight
		s := p.active()
		s.tray, _ = s.Service.Tray()
		return p.route(s, tea.Batch(s.rested(), s.beat()))
	}},
	{Press: "C", Does: "copy across: what is marked, or this, as a plan", When: (*Pair).two, Off: needAcross,
		Do: func(p *Pair, _ string) tea.Cmd { return p.across(false) }},
	{Press: "M", Does: "move across: what is marked, or this, as a plan", When: (*Pair).two, Off: needMovable,
		Do: func(p *Pair, _ string) tea.Cmd { return p.across(true) }},
	{Press: "=", Does: "differences: between the two folders", When: (*Pair).two, Off: needBothFolders,
		Do: func(p *Pair, _ string) tea.Cmd { return p.compare(false) }},
	{Press: "|", Does: "one tree: close this side", When: (*Pair).two, Anywhere: true,
		Do: func(p *Pair, _ string) tea.Cmd {
			closing := p.right
			if !p.onRight { // the one that has the keys goes
				closing, p.left = p.left, p.right
			}
			p.right, p.onRight = nil, false
			closing.root.close()
			return p.left.rested()
		}},
	{Press: "|", Does: "beside: a second tree, to compare with and bring things across",
		When: func(p *Pair) bool { return !p.two() }, Anywhere: true, Do: func(p *Pair, _ string) tea.Cmd {
			p.right, p.onRight = newScreen(p.ctx, p.left.Shared), true
			return p.route(p.right, tea.Batch(p.right.rested(), p.right.beat()))
		}},
}

// Keys are those of both trees first, then those of the active one.
func (p *Pair) Keys() []kit.Key {
	s := p.active()
	if s.sheet != nil || s.narrowing != nil || s.pane.focused {
		return s.Keys()
	}
	own, all := kit.KeysOf(p, pairActions), s.Keys()
	if !p.two() { // before what cannot be done just now
		first := slices.IndexFunc(all, func(k kit.Key) bool { return k.Off != "" })
		if first < 0 {
			first = len(all)
		}
		return slices.Insert(all, first, own...)
	}
	for _, k := range all {
		taken := false
		for _, o := range own {
			taken = taken || o.Press == k.Press
		}
		if !taken {
			own = append(own, k)
		}
	}
	return own
}

// Update hands messages to the tree that they are for: keys to the active one, what the right
// one asked for to that, news to both.
func (p *Pair) Update(msg tea.Msg) tea.Cmd {
	cmd := p.take(msg)
	return tea.Batch(cmd, p.catchUp())
}

func (p *Pair) take(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case rightMsg:
		if p.right == nil {
			if opened, ok := msg.msg.(openedMsg); ok && opened.level != nil {
				return closeLevel(opened.level)
			}
			return nil
		}
		return p.route(p.right, p.right.Update(msg.msg))
	case kit.Opened, kit.StateMsg:
		cmd := p.left.Update(msg)
		if p.right != nil {
			cmd = tea.Batch(cmd, p.route(p.right, p.right.Update(msg)))
		}
		return cmd
	case tea.KeyPressMsg:
		if p.finding() && (len(p.held) > 0 || !p.anywhere(msg)) {
			return p.hold(msg)
		}
		return p.press(msg)
	case stillFindingMsg:
		return p.sayHeld(msg.of)
	case tea.PasteMsg:
		return p.route(p.active(), p.active().Update(msg))
	}
	return p.left.Update(msg)
}

// press does what a key is for, on what the cursor is on.
func (p *Pair) press(msg tea.KeyPressMsg) tea.Cmd {
	s := p.active()
	if s.sheet == nil && s.narrowing == nil && !s.pane.focused {
		if cmd, done := kit.Press(p, pairActions, msg.String()); done {
			return cmd
		}
	}
	return p.route(s, s.Update(msg))
}

// route has what a command of the right tree brings come back to it.
func (p *Pair) route(s *Screen, cmd tea.Cmd) tea.Cmd {
	if s != p.right || cmd == nil {
		return cmd
	}
	return func() tea.Msg { return p.routed(cmd()) }
}

func (p *Pair) routed(msg tea.Msg) tea.Msg {
	switch msg := msg.(type) {
	case nil:
		return nil
	case tea.BatchMsg:
		for i, cmd := range msg {
			if cmd != nil {
				msg[i] = func() tea.Msg { return p.routed(cmd()) }
			}
		}
		return msg
	}
	if of := reflect.TypeOf(msg).PkgPath(); strings.HasSuffix(of, "/tui/places") {
		return rightMsg{msg}
	}
	return msg // the frame's, or the terminal's
}

// across brings what is marked, or what the cursor is on, to the other side's folder.
func (p *Pair) across(move bool) tea.Cmd {
	s, to := p.active(), p.other().folder()
	name, err := s.Service.Bring(workspace.FromTray, &workspace.Drop{Items: s.picks(), Target: to, Move: move})
	if err != nil {
		return kit.Cmd(kit.Say{Text: oneLine(err), Bad: true})
	}
	s.marks = nil
	return s.brought(name)
}

// mostDifferences is how many are listed.
const mostDifferences = 10_000

// compare holds the two folders against each other.
func (p *Pair) compare(sums bool) tea.Cmd {
	s := p.active()
	left, right := p.left.folder(), p.right.folder()
	ctx, stop := context.WithCancel(p.ctx)
	x := &differenceSheet{textSheet: textSheet{s: s, title: left.String() + " and " + right.String()}, stop: stop}
	x.grown = make(chan browse.Differences, 1)
	s.sheet = x
	x.on = func(key string, _ *textSheet) tea.Cmd {
		if key == "c" && x.done {
			return p.compare(true)
		}
		return nil
	}
	return p.route(s, tea.Batch(s.beat(), func() tea.Msg {
		defer stop()
		found, err := s.Service.Differences(ctx, left, right, sums, mostDifferences, func(d browse.Differences) {
			select {
			case <-x.grown:
			default:
			}
			x.grown <- d
		})
		if err != nil {
			return failedMsg{err}
		}
		return differencesMsg{found}
	}))
}

// differencesMsg brings what was found.
type differencesMsg struct{ found browse.Differences }

// differenceSheet shows differences, and how far looking for them is.
type differenceSheet struct {
	textSheet
	stop   context.CancelFunc
	grown  chan browse.Differences
	latest browse.Differences
	done   bool
}

func (x *differenceSheet) close() { x.stop() }

func (x *differenceSheet) update(msg tea.Msg) tea.Cmd {
	if found, ok := msg.(differencesMsg); ok {
		x.latest, x.done = found.found, true
		if !found.found.Checked {
			x.more = []kit.Key{{Press: "c", Does: "checksums: of what has one size, too"}}
		}
		x.body = func(width int) []string { return x.drawn(&found.found, width) }
		return nil
	}
	return x.textSheet.update(msg)
}

func (x *differenceSheet) lines(width, height int) []string {
	if x.body == nil && x.err == nil {
		select {
		case x.latest = <-x.grown:
		default:
		}
		d := &x.latest
		return []string{x.s.Theme.Strong.Render(kit.Name(x.title, width)), "", x.s.Theme.Lamp.Render(fmt.Sprintf(
			"looking … %s the same, %s so far", object.Count(d.Same, "object"), object.Count(d.All(), "difference")))}
	}
	return x.textSheet.lines(width, height)
}

func (x *differenceSheet) drawn(d *browse.Differences, width int) []string {
	t := x.s.Theme
	same := "of one size"
	if d.Checked {
		same = "of one content"
	}
	lines := []string{t.Paper.Render(fmt.Sprintf("%s %s", object.Count(d.Same, "object"), same))}
	if d.All() == 0 {
		return append(lines, t.Tide.Render("No differences."))
	}
	lines = append(lines,
		t.Lamp.Render(fmt.Sprintf("%s only at the left · %s only at the right · %s at both, and different",
			kit.Count(d.OnlyLeft), kit.Count(d.OnlyRight), kit.Count(d.Other))), "")
	for _, l := range d.Lines {
		mark, what := t.Flare.Render("≠ "), fmt.Sprintf("%s | %s  %s", kit.Size(l.Left), kit.Size(l.Right),
			object.Display(l.Why))
		switch l.Only {
		case browse.AtLeft:
			mark, what = t.Lamp.Render("◂ "), kit.Size(l.Left)
		case browse.AtRight:
			mark, what = t.Tide.Render("▸ "), kit.Size(l.Right)
		}
		room := max(width*6/10, 12)
		lines = append(lines, mark+t.Paper.Render(kit.Fit(kit.Name(l.Key, room-2), room-2))+
			t.Ash.Render(kit.Fit(" "+what, max(width-room, 0))))
	}
	if rest := d.All() - int64(len(d.Lines)); rest > 0 {
		lines = append(lines, t.Ash.Render("… and "+kit.Count(rest)+" more"))
	}
	return lines
}

// Render draws one tree with its pane, or two. What is asked stands in place of the other.
func (p *Pair) Render(width, height int) string {
	if p.right == nil {
		p.left.idle = false
		return p.left.Render(width, height)
	}
	for _, s := range []*Screen{p.left, p.right} {
		s.page, s.idle = max(height-4, 1), s != p.active()
		if height >= leastForFacts {
			s.page = max(height-4-height/3, 1)
		}
	}
	half := (width - 3) / 2
	return kit.Beside(p.left.Theme, p.side(p.left, half, height), p.side(p.right, width-3-half, height))
}

// side draws one of two trees below where it is.
func (p *Pair) side(s *Screen, width, height int) string {
	if a := p.active(); a != s && (a.sheet != nil || a.pane.focused) {
		return a.drawPane(width, height)
	}
	t := s.Theme
	at := s.folder().String()
	if at == "" {
		at = "endpoints"
	}
	style, sign := t.Ash, "  "
	if s == p.active() {
		style, sign = t.Strong, t.Lamp.Render("▌ ")
	}
	head := kit.Fit(sign+style.Render(kit.Name(at, max(width-2, 1))), width)
	if height < leastForFacts || s.sheet != nil || s.pane.focused { // which stand at the other side
		return head + "\n" + s.tree(width, height-1)
	}
	below := height / 3
	return strings.Join([]string{head, s.tree(width, height-2-below), kit.RuleLine(t, width), s.drawPane(width,
		below)}, "\n")
}

// leastForFacts is the height from which what is under each cursor is told below its tree.
const leastForFacts = 30
