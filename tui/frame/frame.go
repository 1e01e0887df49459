package frame

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"
	"golang.org/x/term"

	"lumtra/core/job"
	"lumtra/service"
	"lumtra/service/event"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
	"lumtra/tui/look"
)

// Run opens the interface on the terminal and returns when it is left.
func Run(ctx context.Context, s *service.Service) error {
	if err := needTerminal(); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s.Follow()
	m := newModel(ctx, s)
	_, err := tea.NewProgram(m, tea.WithContext(ctx)).Run()
	if m.fault != nil {
		return m.fault
	}
	if errors.Is(err, tea.ErrInterrupted) || ctx.Err() != nil {
		return context.Canceled
	}
	return err
}

// needTerminal refuses to begin where nobody could see the window.
func needTerminal() error {
	if term.IsTerminal(int(os.Stdin.Fd())) {
		return nil
	}
	tty, err := os.OpenFile("/dev/tty", os.O_RDWR, 0)
	if err != nil {
		return workspace.BadInput(errors.New("the window needs a terminal, and there is none; the commands of " +
			"`lumtra --help` work without"))
	}
	return tty.Close()
}

// model is the frame. It is the only tea.Model; views are its parts.
type model struct {
	ctx      context.Context
	shared   *kit.Shared
	collect  *kit.Collector
	screens  map[kit.View]kit.Screen
	view     kit.View
	back     []kit.View
	width    int
	height   int
	resized  int // how often
	said     kit.Say
	saidAt   time.Time
	saidIn   kit.View // what is said does not outlive its view
	help     *kit.Scroll
	finder   *finder
	ground   look.Ground
	grounded bool // the terminal has told its ground, or had the time to
	terminal terminal
	keys     keymap
	leaving  bool // asked once whether to leave a run behind
	moved    map[string]int64
	movedAt  time.Time
	share    float64 // bytes since the last step of the pulse
	fault    error   // that the window ends with

	heard chan event.Event // what changes, see hear
}

func newModel(ctx context.Context, s *service.Service) *model {
	shared := &kit.Shared{Service: s}
	m := &model{ground: look.GroundFrom(os.Getenv), ctx: ctx, shared: shared, collect: &kit.Collector{Service: s,
		Now: shared.Now}, view: kit.Now,
		moved: map[string]int64{}, heard: make(chan event.Event), width: 80, height: 24}
	if path, err := job.PreferencesPath(); err == nil {
		shared.PreferencesAt = path
	}
	m.prefer(readPreferences(shared.PreferencesAt))
	m.screens = map[kit.View]kit.Screen{}
	for _, v := range views {
		m.screens[v.View] = v.New(ctx, m.shared)
	}
	s.Events.Subscribe(func(e event.Event) {
		if e.Kind != event.RunMoved {
			m.collect.Changed()
		}
	})
	events := s.Events.Listen(ctx)
	s.Life.Go(func(life context.Context) {
		for e := range events {
			select {
			case m.heard <- e:
			case <-ctx.Done():
				return
			case <-life.Done():
				return
			}
		}
	})
	return m
}

// Init asks for the terminal's background and the first state.
func (m *model) Init() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor,
		tea.Tick(groundPatience, func(time.Time) tea.Msg { return groundLate{} }), tea.RequestTerminalVersion,
		tea.Raw(ansi.RequestPrimaryDeviceAttributes),
		m.collectState(0, true), m.hear())
}

// groundPatience is how long a terminal is given to tell its ground; many never do.
const groundPatience = 500 * time.Millisecond

// groundLate tells that it had the time to.
type groundLate struct{}

// news is a state that was taken because something has changed.
type news struct{ kit.State }

// hear waits for the next change and takes a state then. What changes while one is taken is
// heard next.
func (m *model) hear() tea.Cmd {
	return func() tea.Msg {
		select {
		case e := <-m.heard:
			return news{m.collect.Collect(m.ctx, e.Kind != event.RunMoved)}
		case <-m.ctx.Done():
			return nil
		}
	}
}

// collectState takes a new state after a wait.
func (m *model) collectState(wait time.Duration, anew bool) tea.Cmd {
	return func() tea.Msg {
		if wait > 0 {
			timer := time.NewTimer(wait)
			defer timer.Stop()
			select {
			case <-timer.C:
			case <-m.ctx.Done():
				return nil
			}
		}
		return tick{m.collect.Collect(m.ctx, anew)}
	}
}

// tick is a state that came on the frame's own clock, which is wound again.
type tick struct{ kit.State }

// refresh takes a state at once.
func (m *model) refresh(then tea.Cmd) tea.Cmd {
	return func() tea.Msg { return refreshed{m.collect.Collect(m.ctx, true), then} }
}

// refreshed is a state that was asked for out of turn.
type refreshed struct {
	kit.State
	then tea.Cmd
}

// resizeSettles is how long after a change of size drawing for the old one may still be on
// its way to the terminal.
const resizeSettles = 250 * time.Millisecond

// redraw draws the whole window anew, on a terminal that scrolls as a whole: the renderer
// scrolls parts of it, and what it sends to end that names the last line of the size it knows,
// so that a window that has grown meanwhile would go on scrolling its upper part alone. Where
// it scrolls is reset first (DECSTBM without lines, known since the VT100). That moves the cursor,
// which is kept (DECSC, DECRC): the window may just be about to come up again, and where the
// cursor stands then is where the shell goes on afterwards.
func redraw() tea.Msg {
	return tea.Sequence(tea.Raw("\x1b7\x1b[r\x1b8"), tea.ClearScreen)()
}

// sizeSettled tells that what was drawn before a change of size should be out by now.
type sizeSettled struct{ resize int }

// tickEvery is how often a state is taken although nothing was heard: time goes by, and
// what other processes do is told to nobody.
const tickEvery = time.Second

// Update takes messages in; see update.
func (m *model) Update(msg tea.Msg) (next tea.Model, cmd tea.Cmd) {
	defer func() {
		if p := recover(); p != nil {
			m.broke(fmt.Sprintf("taking in a %T", msg), p)
		}
		if m.fault != nil {
			next, cmd = m, tea.Quit
		}
	}()
	next, cmd = m.update(msg)
	return next, m.guard(cmd)
}

// update takes messages in: keys to the frame first, the rest to the views.
func (m *model) update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
		// What was written for another size may have scrolled the terminal, so
		// that it no longer shows what the renderer thinks: all is drawn anew, now
		// and once more when the last of that is out.
		m.resized++
		nth := m.resized
		return m, tea.Batch(tea.ClearScreen, tea.Tick(resizeSettles,
			func(time.Time) tea.Msg { return sizeSettled{nth} }))
	case sizeSettled:
		if msg.resize == m.resized {
			return m, redraw
		}
		return m, nil
	case groundLate:
		m.grounded = true
		return m, nil
	case tea.BackgroundColorMsg:
		m.grounded = true
		if os.Getenv("LUMTRA_BACKGROUND") == "" { // a person's word counts more
			m.ground = look.Light
			if msg.IsDark() {
				m.ground = look.Dark
			}
			m.shared.Theme = look.Chosen(m.ground, look.Choice(m.shared.Preferences.Theme))
		}
		return m, nil
	case tick:
		if m.collect.Outdated(&msg.State) { // it would take back what a view knows already
			return m, m.collectState(0, true)
		}
		told := m.take(msg.State)
		return m, tea.Batch(told, m.toAll(kit.StateMsg{State: m.shared.State}), m.collectState(tickEvery, false))
	case news:
		if m.collect.Outdated(&msg.State) { // what has changed is heard next
			return m, m.hear()
		}
		told := m.take(msg.State)
		return m, tea.Batch(told, m.toAll(kit.StateMsg{State: m.shared.State}), m.hear())
	case kit.Refresh:
		return m, m.refresh(msg.Then)
	case refreshed:
		if m.collect.Outdated(&msg.State) {
			return m, m.refresh(msg.then)
		}
		told := m.take(msg.State)
		return m, tea.Batch(told, m.toAll(kit.StateMsg{State: m.shared.State}), msg.then)
	case tea.TerminalVersionMsg:
		m.terminal.knows(msg.Name, os.Getenv)
		m.pictures()
		return m, nil
	case uv.PrimaryDeviceAttributesEvent:
		m.terminal.attributes(msg)
		m.pictures()
		return m, nil
	case tea.FocusMsg:
		m.terminal.away = false
		return m, nil
	case tea.BlurMsg:
		m.terminal.away = true
		return m, nil
	case kit.Open:
		return m, m.open(msg.View, msg.Job)
	case kit.Prefer:
		path := m.shared.PreferencesAt
		return m, func() tea.Msg { return readPreferences(path) }
	case preferred:
		return m, m.prefer(msg)
	case faultMsg:
		return m, m.faulted(msg)
	case tea.ResumeMsg: // what ran meanwhile has written over the window
		return m, tea.ClearScreen
	case handedOver:
		return m, tea.Quit
	case kit.Say:
		m.said, m.saidAt, m.saidIn = msg, m.shared.Now(), m.view
		return m, nil
	case tea.KeyPressMsg:
		if msg.Text != "" && kit.Typed(msg.Text) == "" {
			return m, nil
		}
		return m, m.key(msg)
	case tea.PasteMsg:
		msg.Content = kit.Typed(msg.Content)
		return m, m.paste(msg)
	case tea.MouseWheelMsg:
		key := tea.KeyPressMsg{Code: tea.KeyDown}
		if msg.Button == tea.MouseWheelUp {
			key.Code = tea.KeyUp
		}
		return m, m.screens[m.view].Update(key)
	}
	return m, m.toAll(msg)
}

func (m *model) toAll(msg tea.Msg) tea.Cmd {
	var cmds []tea.Cmd
	for _, v := range views {
		cmds = append(cmds, m.screens[v.View].Update(msg))
	}
	return tea.Batch(cmds...)
}

// take makes a state the present one and lets the pulse beat. What happened is told to whoever
// looks elsewhere.
func (m *model) take(st kit.State) (told tea.Cmd) {
	if m.terminal.away && job.May(m.shared.Preferences.Terminal.Notify) {
		if text := newsOf(&m.shared.State, &st); text != "" {
			told = m.terminal.notify(text)
		}
	}
	st.Pulse = m.shared.State.Pulse
	for _, j := range st.Jobs {
		if j.Active == nil {
			delete(m.moved, j.Job.Name)
			continue
		}
		was, known := m.moved[j.Job.Name]
		if known || m.shared.Now().Sub(j.Active.Began) < 2*tickEvery {
			m.share += float64(max(j.Active.Bytes-was, 0))
		}
		m.moved[j.Job.Name] = j.Active.Bytes
	}
	if m.movedAt.IsZero() {
		m.movedAt = st.At
	}
	if gap := st.At.Sub(m.movedAt); gap >= kit.PulseStep {
		rate := m.share / gap.Seconds()
		pulse := append([]float64(nil), st.Pulse...)
		for ; gap >= kit.PulseStep; gap -= kit.PulseStep {
			pulse = append(pulse, rate)
			m.movedAt = m.movedAt.Add(kit.PulseStep)
		}
		st.Pulse = pulse[max(0, len(pulse)-600):]
		m.share = 0
	}
	m.shared.State = st
	return told
}

func (m *model) open(v kit.View, job string) tea.Cmd {
	if m.view != v {
		m.back = append(m.back, m.view)
		m.view = v
	}
	if job != "" {
		m.shared.Choose(job, m.shared.Unwritten && m.shared.Job == job)
	}
	return m.screens[v].Update(kit.Opened{Job: m.shared.Job})
}

// key answers a key: an open overlay first, then a view that takes text, then
// the frame's own keys, then the view's.
func (m *model) key(msg tea.KeyPressMsg) tea.Cmd {
	key := msg.String()
	switch {
	case key == "ctrl+z":
		return tea.Suspend
	case key == "ctrl+l": // whatever else has written into the terminal
		return redraw
	case m.tooSmall():
		if key == "ctrl+c" {
			return m.leave()
		}
		return nil
	case key == "ctrl+y":
		return m.command()
	case key == "ctrl+k" && !m.screens[m.view].Asks():
		return m.copyName()
	case m.finder != nil:
		return m.find(msg)
	case m.help != nil:
		if !m.help.Key(key) {
			m.help = nil
		}
		return nil
	case key == "ctrl+c":
		return m.leave()
	case m.screens[m.view].Asks():
		return m.screens[m.view].Update(msg)
	}
	meant, to := m.keys.of(m.view, key)
	if to != "" {
		return kit.Cmd(kit.Say{Text: fmt.Sprintf("That is on %s, as your settings have it (7).", to)})
	}
	if meant != key {
		key, msg = meant, press(meant)
	}
	if key != "q" && key != "B" {
		m.leaving = false
	}
	switch key {
	case "q":
		return m.leave()
	case "B":
		return m.handOver()
	case "?":
		m.help = &kit.Scroll{}
		return nil
	case "ctrl+p":
		m.finder = newFinder(m.actions(), m.shared.State.Jobs)
		return nil
	case "u":
		m.shared.Bits = !m.shared.Bits
		return kit.Cmd(kit.Say{Text: map[bool]string{true: "Rates are in bits a second.",
			false: "Rates are in bytes a second."}[m.shared.Bits]})
	case "esc":
		if cmd := m.screens[m.view].Update(msg); cmd != nil {
			return cmd
		}
		if n := len(m.back); n > 0 {
			m.view, m.back = m.back[n-1], m.back[:n-1]
		}
		return nil
	}
	if n, err := strconv.Atoi(key); err == nil && n >= 1 && n <= len(views) {
		return m.open(views[n-1].View, "")
	}
	if m.viewOf().OfJob && (key == "<" || key == ">") {
		m.shared.StepJob(map[string]int{"<": -1, ">": 1}[key])
		return m.screens[m.view].Update(kit.Opened{Job: m.shared.Job})
	}
	return m.screens[m.view].Update(msg)
}

// paste gives pasted text to whatever takes text now, and to nothing else.
func (m *model) paste(msg tea.PasteMsg) tea.Cmd {
	switch {
	case m.finder != nil:
		return m.finder.paste(msg)
	case m.screens[m.view].Asks():
		return m.screens[m.view].Update(msg)
	}
	return kit.Cmd(kit.Say{Text: "Nothing here takes text: n in Places takes a pasted address."})
}

// command shows the command that does what the view is at, and copies it.
func (m *model) command() tea.Cmd {
	c, ok := m.screens[m.view].(kit.Commander)
	if !ok {
		return kit.Cmd(kit.Say{Text: "No command is behind this."})
	}
	words := c.Command()
	if len(words) == 0 {
		return kit.Cmd(kit.Say{Text: "No command is behind what the cursor is on."})
	}
	line := m.shared.Service.CommandLine(words...)
	return tea.Batch(tea.SetClipboard(line), kit.Cmd(kit.Say{Text: "Copied: " + line}))
}

// leave asks first when a run would end with the window, or what was written goes.
func (m *model) leave() tea.Cmd {
	var names []string
	for _, s := range m.screens {
		if k, ok := s.(kit.Keeper); ok {
			names = append(names, k.Unwritten()...)
		}
	}
	if len(names) > 0 && !m.leaving {
		m.leaving = true
		what := "the job " + names[0]
		if len(names) > 1 {
			what = kit.Count(int64(len(names))) + " jobs (" + strings.Join(names, ", ") + ")"
		}
		return kit.Cmd(kit.Say{Text: "What was changed in " + what +
			" is in no file yet: w in Jobs writes it. q leaves all the same.", Bad: true})
	}
	running := false
	for _, j := range m.shared.State.Jobs {
		running = running || j.Active != nil && !j.Active.Far
	}
	if running && !m.leaving {
		m.leaving = true
		return kit.Cmd(kit.Say{Text: "A run is under way and ends with this window. q leaves all the same; B lets " +
			"it go on in the background.", Bad: true})
	}
	return tea.Quit
}

// handedOver ends the window once the background service has its runs.
type handedOver struct{}

// handOver has the runs of this window go on in the background, and leaves when
// that was asked for on leaving.
func (m *model) handOver() tea.Cmd {
	leave := m.leaving
	return tea.Sequence(kit.Cmd(kit.Say{Text: "Handing the runs over to the background service …"}), func() tea.Msg {
		err := m.shared.Service.StartBackground(m.ctx)
		if err == nil {
			err = m.shared.Service.HandOver(m.ctx)
		}
		if err == nil && leave {
			return handedOver{}
		}
		if err != nil {
			return kit.Say{Text: kit.Reason(err), Bad: true}
		}
		return kit.Say{Text: "The background service has the runs; they go on without this window."}
	})
}

// ownKeys work in every view, or say why not in this one.
func (m *model) ownKeys() []kit.Key {
	next := kit.Key{Press: ">", Does: "the next job; < the one before"}
	switch {
	case !m.viewOf().OfJob:
		next.Off = "all jobs are here"
	case len(m.shared.State.Jobs) < 2:
		next.Off = "there is no other job"
	}
	command := kit.Key{Press: "ctrl+y", Does: "copy the command that does this"}
	if c, ok := m.screens[m.view].(kit.Commander); !ok || len(c.Command()) == 0 {
		command.Off = "no command is behind what the cursor is on"
	}
	name := kit.Key{Press: "ctrl+k", Does: "copy the name of this"}
	if n, ok := m.screens[m.view].(kit.Namer); !ok || n.Name() == "" {
		name.Off = "nothing with a name is under the cursor"
	}
	return append(viewKeys(), next, command, name,
		kit.Key{Press: "u", Does: "rates in bytes or bits"},
		kit.Key{Press: "ctrl+p", Does: "find an action or a job by its words"},
		kit.Key{Press: "ctrl+l", Does: "draw the window anew"},
		kit.Key{Press: "?", Does: "all keys"},
		kit.Key{Press: "B", Does: "let runs go on in the background"},
		kit.Key{Press: "q", Does: "leave"})
}

func (m *model) actions() []kit.Key {
	return m.keys.shown(m.view, append(append([]kit.Key(nil), m.screens[m.view].Keys()...), m.ownKeys()...))
}

// press makes a key message of a key's name.
func press(name string) tea.KeyPressMsg {
	switch name {
	case "enter":
		return tea.KeyPressMsg{Code: tea.KeyEnter}
	case "esc":
		return tea.KeyPressMsg{Code: tea.KeyEscape}
	case "space":
		return tea.KeyPressMsg{Code: tea.KeySpace, Text: " "}
	case "tab":
		return tea.KeyPressMsg{Code: tea.KeyTab}
	case "left", "right", "up", "down":
		return tea.KeyPressMsg{Code: map[string]rune{"left": tea.KeyLeft, "right": tea.KeyRight, "up": tea.KeyUp,
			"down": tea.KeyDown}[name]}
	}
	if letter, ok := strings.CutPrefix(name, "ctrl+"); ok {
		return tea.KeyPressMsg{Code: rune(letter[0]), Mod: tea.ModCtrl}
	}
	r := []rune(name)
	return tea.KeyPressMsg{Code: r[0], Text: name}
}
