package places

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/handle"
	"lumtra/core/object"
	"lumtra/service/browse"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
)

// formSheet is a form in the pane.
type formSheet struct {
	s *Screen
	*kit.Form
}

func (f *formSheet) update(msg tea.Msg) tea.Cmd {
	if failed, ok := msg.(failedMsg); ok {
		f.Busy, f.Err = "", failed.err
		return nil
	}
	return f.Form.Update(msg)
}

func (f *formSheet) lines(width, _ int) []string { return f.Form.Lines(f.s.Theme, width) }

func (f *formSheet) keys() []kit.Key {
	return []kit.Key{{Press: "enter", Does: f.Does}, {Press: "down", Does: "next line"},
		{Press: "esc", Does: "leave it"}}
}

// failedMsg tells a form why what it asked for was not done.
type failedMsg struct{ err error }

// form puts a form into the pane.
func (s *Screen) form(f *kit.Form) tea.Cmd {
	s.sheet = &formSheet{s, f.Init()}
	return nil
}

// try does something for a form in the background: done closes the sheet, an
// error goes back into the form.
func try(f *kit.Form, busy string, do func() (tea.Msg, error)) tea.Cmd {
	f.Busy = busy
	return func() tea.Msg {
		msg, err := do()
		if err != nil {
			return failedMsg{err}
		}
		return msg
	}
}

// finished takes the sheet away and reads anew what has changed.
func (s *Screen) finished(msg doneMsg) tea.Cmd {
	var cmds []tea.Cmd
	if msg.say != "" || msg.err != nil {
		say := kit.Say{Text: msg.say}
		if msg.err != nil {
			say = kit.Say{Text: oneLine(msg.err), Bad: true}
		}
		cmds = append(cmds, kit.Cmd(say))
	}
	if _, running := s.sheet.(*progressSheet); !running {
		s.sheet = nil
	}
	s.tray, _ = s.Service.Tray()
	clear(s.facts)
	clear(s.reports)
	s.pane = pane{}
	s.names()
	if msg.focus != nil {
		if i := slices.Index(s.root.names, msg.focus.Endpoint); i >= 0 {
			s.here = line{s.root, i}
			s.place()
		}
	}
	for _, at := range msg.again {
		cmds = append(cmds, s.again(at))
	}
	return tea.Batch(append(cmds, s.rested(), s.beat(), kit.Cmd(kit.Refresh{}))...)
}

// parents are the levels that things lie in.
func parents(picks ...workspace.At) []workspace.At {
	var levels []workspace.At
	for _, at := range picks {
		switch {
		case at.Key != "":
			at.Key = object.Parent(at.Key)
		case at.Bucket != "":
			at.Bucket = ""
		}
		if len(levels) == 0 || levels[len(levels)-1] != at {
			levels = append(levels, at)
		}
	}
	return levels
}

// countSheet counts what is about to be handled, and then asks.
type countSheet struct {
	s     *Screen
	title string
	stop  context.CancelFunc
	grown func() handle.Count
}

func (c *countSheet) update(msg tea.Msg) tea.Cmd {
	if failed, ok := msg.(failedMsg); ok {
		c.s.sheet = nil
		return kit.Cmd(kit.Say{Text: oneLine(failed.err), Bad: true})
	}
	return nil
}

func (c *countSheet) lines(width, _ int) []string {
	n := c.grown()
	return []string{c.s.Theme.Strong.Render(kit.Name(c.title, width)), "",
		c.s.Theme.Lamp.Render("counting … " + countText(n))}
}

func (c *countSheet) keys() []kit.Key { return []kit.Key{{Press: "esc", Does: "leave it"}} }

func (c *countSheet) close() { c.stop() }

// count counts the picks in a sheet of its own; next makes the sheet after it.
func (s *Screen) count(title string, picks []workspace.At, deep bool, next func(handle.Count) tea.Cmd) tea.Cmd {
	ctx, stop := context.WithCancel(s.ctx)
	grown := make(chan handle.Count, 1)
	var latest handle.Count
	s.sheet = &countSheet{s: s, title: title, stop: stop, grown: func() handle.Count {
		select {
		case latest = <-grown:
		default:
		}
		return latest
	}}
	return tea.Batch(s.beat(), func() tea.Msg {
		defer stop()
		c, err := s.Service.Measure(ctx, picks, deep, func(c handle.Count) {
			select {
			case <-grown:
			default:
			}
			grown <- c
		})
		if err != nil {
			return failedMsg{err}
		}
		return countedMsg{c, next}
	})
}

// countedMsg brings a count to the sheet that waits for it.
type countedMsg struct {
	n    handle.Count
	next func(handle.Count) tea.Cmd
}

// countText says how much there is.
func countText(c handle.Count) string {
	parts := []string{object.Count(c.Objects, "object"), kit.Size(c.Bytes)}
	if c.Versions > 0 {
		parts = append(parts, fmt.Sprintf("%s with %s", object.Count(c.Versions, "older version"),
			kit.Size(c.VersionBytes)))
	}
	if c.Markers > 0 {
		parts = append(parts, object.Count(c.Markers, "delete marker"))
	}
	if c.Uploads > 0 {
		parts = append(parts, object.Count(c.Uploads, "unfinished upload"))
	}
	return strings.Join(parts, ", ")
}

// pickText names what is handled.
func pickText(picks []workspace.At) string {
	if len(picks) == 1 {
		return picks[0].String()
	}
	return fmt.Sprintf("%s, and %d more that are marked", picks[0], len(picks)-1)
}

// typed asks for a number to be typed before something is done that cannot be
// taken back.
func (s *Screen) typed(f *kit.Form, n int64, do func(typed int64) (*browse.Act, error), again []workspace.At) tea.Cmd {
	s.typing(f, n, do, again)
	return s.form(f)
}

// typing has a form ask for a number, as typed does.
func (s *Screen) typing(f *kit.Form, n int64, do func(typed int64) (*browse.Act, error), again []workspace.At) {
	f.Notes = append(f.Notes, fmt.Sprintf("Type the number of things that go, %d, to go ahead.", n))
	f.Fields = append(f.Fields, &kit.Field{Name: "number", Hint: "the number above"})
	f.Submit = func(f *kit.Form) tea.Cmd {
		if !numbered(f, n) {
			f.Err = fmt.Errorf("this is not the number: %d things go", n)
			return nil
		}
		return s.start(f, func() (*browse.Act, error) { return do(n) }, again)
	}
}

// touches has a form ask for the number of things that it touches, where they are
// many; told holds what was typed against it.
func touches(f *kit.Form, n int64) {
	if n > 1 {
		f.Warning = append(f.Warning, fmt.Sprintf("This touches %d things. Type that number to go ahead.", n))
		f.Fields = append(f.Fields, &kit.Field{Name: "number", Hint: "the number above"})
	}
}

func told(f *kit.Form, n int64) bool {
	if n > 1 && !numbered(f, n) {
		f.Err = fmt.Errorf("this is not the number: it touches %d things", n)
		return false
	}
	return true
}

// numbered tells whether the number was typed, however its digits are grouped.
func numbered(f *kit.Form, n int64) bool {
	number, err := strconv.ParseInt(strings.NewReplacer(",", "", ".", "", " ", "").Replace(f.Get("number")), 10, 64)
	return err == nil && number == n
}

// start begins an act and shows its progress.
func (s *Screen) start(f *kit.Form, begin func() (*browse.Act, error), again []workspace.At) tea.Cmd {
	act, err := begin() // which only starts it
	if err != nil {
		f.Err, f.Busy = err, ""
		s.sheet = &formSheet{s, f}
		return nil
	}
	s.marks = nil
	s.sheet = &progressSheet{s: s, act: act}
	return tea.Batch(s.beat(), func() tea.Msg {
		err := act.Wait()
		done := act.State()
		say := fmt.Sprintf("%s: %s", act.What, countText(done.Done))
		if done.Left > 0 {
			say += fmt.Sprintf("; nothing to do for %s", object.Count(done.Left, "other"))
		}
		if done.Failed > 0 && err == nil {
			err = fmt.Errorf("%s: %s could not be", act.What, object.Count(done.Failed, "thing"))
		}
		return doneMsg{say: say, err: err, again: again}
	})
}

// progressSheet shows an act under way, and what it could not do.
type progressSheet struct {
	s   *Screen
	act *browse.Act
}

func (p *progressSheet) update(msg tea.Msg) tea.Cmd {
	if key, ok := msg.(tea.KeyPressMsg); ok {
		switch key.String() {
		case "s":
			p.act.Stop()
		case "enter":
			if p.act.State().Ended {
				return p.s.closeSheet()
			}
		}
	}
	return nil
}

func (p *progressSheet) keys() []kit.Key {
	if p.act.State().Ended {
		return []kit.Key{{Press: "enter", Does: "back"}, {Press: "esc", Does: "back"}}
	}
	return []kit.Key{{Press: "s", Does: "stop: where it is"}, {Press: "esc", Does: "back: it goes on"}}
}

func (p *progressSheet) lines(width, height int) []string {
	t, st := p.s.Theme, p.act.State()
	l := &liner{s: p.s, width: width}
	l.lines = append(l.lines, t.Strong.Render(kit.Name(p.act.What, width)), "")
	l.fact("where", p.act.Where)
	l.fact("so far", countText(st.Done))
	if st.Left > 0 {
		l.fact("left alone", object.Count(st.Left, "object")+": nothing to do for them")
	}
	if all := st.Total.All(); all > 0 {
		l.fact("of", countText(st.Total))
		done := min(float64(st.Done.All()+st.Failed+st.Left)/float64(all), 1)
		room := max(width-8, 4)
		n := int(done * float64(room))
		l.lines = append(l.lines, "",
			t.Lamp.Render(strings.Repeat("█", n))+t.Rule.Render(strings.Repeat("░", room-n))+fmt.Sprintf(" %3.0f %%",
				done*100))
	}
	l.gap()
	switch {
	case st.Err != nil:
		l.text(t.Flare.Render, st.Err.Error())
	case st.Ended && st.Failed == 0:
		l.text(t.Tide.Render, "Done.")
	case st.Ended:
		l.text(t.Flare.Render, fmt.Sprintf("%s could not be handled:", object.Count(st.Failed, "thing")))
	}
	for _, problem := range st.Problems[:min(len(st.Problems), max(height-len(l.lines)-2, 0))] {
		l.lines = append(l.lines, t.Flare.Render("▲ ")+t.Paper.Render(kit.Fit(oneLine(problem), width-2)))
	}
	return l.lines
}

// textSheet shows lines that came from somewhere, to scroll through.
type textSheet struct {
	s     *Screen
	title string
	body  func(width int) []string // nil while it is being fetched
	asked time.Time                // when it was first shown
	err   error
	top   int
	more  []kit.Key
	on    func(key string, sheet *textSheet) tea.Cmd
}

func (x *textSheet) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case failedMsg:
		x.err = msg.err
	case bodyMsg:
		x.body = msg.body
	case tea.KeyPressMsg:
		switch key := msg.String(); key {
		case "down", "j":
			x.top++
		case "up", "k":
			x.top = max(x.top-1, 0)
		case "pgdown":
			x.top += x.s.page
		case "pgup":
			x.top = max(x.top-x.s.page, 0)
		default:
			if x.on != nil {
				return x.on(key, x)
			}
		}
	}
	return nil
}

// bodyMsg brings what a text sheet shows.
type bodyMsg struct{ body func(width int) []string }

func (x *textSheet) keys() []kit.Key {
	return append(append([]kit.Key(nil), x.more...), kit.Key{Press: "down", Does: "scroll"},
		kit.Key{Press: "esc", Does: "back"})
}

func (x *textSheet) lines(width, height int) []string {
	t := x.s.Theme
	lines := []string{t.Strong.Render(kit.Name(x.title, width)), ""}
	switch {
	case x.err != nil:
		for _, part := range kit.Wrap(object.Display(kit.Reason(x.err)), width) {
			lines = append(lines, t.Flare.Render(part))
		}
	case x.body == nil:
		if x.asked.IsZero() {
			x.asked = x.s.Now()
		}
		at, _ := x.s.at()
		for _, part := range kit.Wrap(strings.TrimSpace("asking … "+kit.WaitingFor(at.Endpoint, x.asked, x.s.Now(),
			"esc leaves it")), width) {
			lines = append(lines, t.Lamp.Render(part))
		}
	default:
		all := x.body(width)
		x.top = min(x.top, max(len(all)-(height-2), 0))
		lines = append(lines, all[x.top:]...)
	}
	return lines
}
