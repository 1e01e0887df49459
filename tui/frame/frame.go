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

	"lumtra/service"
	"lumtra/tui/jobs"
	"lumtra/tui/kit"
	"lumtra/tui/look"
	"lumtra/tui/now"
	"lumtra/tui/places"
	"lumtra/tui/plan"
	"lumtra/tui/proof"
	"lumtra/tui/run"
)

// Run opens the interface on the terminal and returns when it is left.
func Run(ctx context.Context, s *service.Service) error {
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

// model is the frame. It is the only tea.Model; views are its parts.
type model struct {
	ctx     context.Context
	shared  *kit.Shared
	collect *kit.Collector
	screens map[kit.View]kit.Screen
	view    kit.View
	back    []kit.View
	width   int
	height  int
	said    kit.Say
	saidAt  time.Time
	help    bool
	finder  *finder
	leaving bool // asked once whether to leave a run behind
	moved   map[string]int64
	movedAt time.Time
	share   float64 // bytes since the last step of the pulse
	fault   error   // that the window ends with
}

func newModel(ctx context.Context, s *service.Service) *model {
	shared := &kit.Shared{Service: s, Theme: look.New(look.GroundFrom(os.Getenv))}
	m := &model{ctx: ctx, shared: shared, collect: &kit.Collector{Service: s, Now: shared.Now}, view: kit.Now, moved: map[string]int64{}, width: 80, height: 24}
	m.screens = map[kit.View]kit.Screen{
		kit.Now:    now.New(m.shared),
		kit.Places: places.New(ctx, m.shared),
		kit.Jobs:   jobs.New(ctx, m.shared),
		kit.Plan:   plan.New(ctx, m.shared),
		kit.Run:    run.New(ctx, m.shared),
		kit.Proof:  proof.New(ctx, m.shared),
	}
	return m
}

// Init asks for the terminal's background and the first state.
func (m *model) Init() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor, m.collectState(0, true))
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

// refreshed is a state that was asked for out of turn.
type refreshed struct {
	kit.State
	then tea.Cmd
}

// resizeSettles is how long after a change of size drawing for the old one may
// still be on its way to the terminal.
const resizeSettles = 250 * time.Millisecond

const (
	tickRunning = 200 * time.Millisecond
	tickIdle    = time.Second
)

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
		return m, tea.Batch(tea.ClearScreen, tea.Tick(resizeSettles, func(time.Time) tea.Msg { return tea.ClearScreen() }))
	case tea.BackgroundColorMsg:
		if os.Getenv("LUMTRA_BACKGROUND") == "" { // a person's word counts more
			ground := look.Light
			if msg.IsDark() {
				ground = look.Dark
			}
			m.shared.Theme = look.New(ground)
		}
		return m, nil
	case tick:
		wait := tickIdle
		for _, j := range msg.Jobs {
			if j.Active != nil {
				wait = tickRunning
			}
		}
		m.take(msg.State)
		return m, tea.Batch(m.toAll(kit.StateMsg{State: m.shared.State}), m.collectState(wait, false))
	case kit.Refresh:
		return m, func() tea.Msg { return refreshed{m.collect.Collect(m.ctx, true), msg.Then} }
	case refreshed:
		m.take(msg.State)
		return m, tea.Batch(m.toAll(kit.StateMsg{State: m.shared.State}), msg.then)
	case kit.Open:
		return m, m.open(msg.View, msg.Job)
	case faultMsg:
		return m, m.faulted(msg)
	case tea.ResumeMsg: // what ran meanwhile has written over the window
		return m, tea.ClearScreen
	case handedOver:
		return m, tea.Quit
	case kit.Say:
		m.said, m.saidAt = msg, m.shared.Now()
		return m, nil
	case tea.KeyPressMsg:
		return m, m.key(msg)
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
	for v := kit.Now; v <= kit.Proof; v++ {
		cmds = append(cmds, m.screens[v].Update(msg))
	}
	return tea.Batch(cmds...)
}

// take makes a state the present one and lets the pulse beat.
func (m *model) take(st kit.State) {
	st.Pulse = m.shared.State.Pulse
	for _, j := range st.Jobs {
		if j.Active == nil {
			delete(m.moved, j.Job.Name)
			continue
		}
		was, known := m.moved[j.Job.Name]
		if known || m.shared.Now().Sub(j.Active.Began) < 2*tickIdle {
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
}

func (m *model) open(v kit.View, job string) tea.Cmd {
	if m.view != v {
		m.back = append(m.back, m.view)
		m.view = v
	}
	if job != "" {
		m.shared.Choose(job, m.shared.Unwritten && m.shared.Job == job)
	}
	return m.screens[v].Update(kit.Opened{Job: job})
}

// key answers a key: an open overlay first, then a view that takes text, then
// the frame's own keys, then the view's.
func (m *model) key(msg tea.KeyPressMsg) tea.Cmd {
	key := msg.String()
	switch {
	case key == "ctrl+z":
		return tea.Suspend
	case m.finder != nil:
		return m.find(msg)
	case m.help:
		m.help = false
		return nil
	case key == "ctrl+c":
		return m.leave()
	case m.screens[m.view].Asks():
		return m.screens[m.view].Update(msg)
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
		m.help = true
		return nil
	case "ctrl+p":
		m.finder = newFinder(m.actions())
		return nil
	case "u":
		m.shared.Bits = !m.shared.Bits
		return kit.Cmd(kit.Say{Text: map[bool]string{true: "Rates are in bits a second.", false: "Rates are in bytes a second."}[m.shared.Bits]})
	case "1", "2", "3", "4", "5", "6":
		n, _ := strconv.Atoi(key)
		return m.open(kit.View(n), "")
	case "esc":
		if cmd := m.screens[m.view].Update(msg); cmd != nil {
			return cmd
		}
		if n := len(m.back); n > 0 {
			m.view, m.back = m.back[n-1], m.back[:n-1]
		}
		return nil
	}
	if jobView := m.view == kit.Plan || m.view == kit.Run || m.view == kit.Proof; jobView && (key == "<" || key == ">") {
		m.shared.StepJob(map[string]int{"<": -1, ">": 1}[key])
		return m.screens[m.view].Update(kit.Opened{Job: m.shared.Job})
	}
	return m.screens[m.view].Update(msg)
}

// leave asks first when a run would end with the window, or what was written goes.
func (m *model) leave() tea.Cmd {
	if names := m.screens[kit.Jobs].(*jobs.Screen).Unwritten(); len(names) > 0 && !m.leaving {
		m.leaving = true
		what := "the job " + names[0]
		if len(names) > 1 {
			what = kit.Count(int64(len(names))) + " jobs (" + strings.Join(names, ", ") + ")"
		}
		return kit.Cmd(kit.Say{Text: "What was changed in " + what + " is in no file yet: w in Jobs writes it. q leaves all the same.", Bad: true})
	}
	running := false
	for _, j := range m.shared.State.Jobs {
		running = running || j.Active != nil && !j.Active.Far
	}
	if running && !m.leaving {
		m.leaving = true
		return kit.Cmd(kit.Say{Text: "A run is under way and ends with this window. q leaves all the same; B lets it go on in the background.", Bad: true})
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

// ownKeys work in every view.
var ownKeys = []kit.Key{
	{Press: "1", Does: "Now: jobs over time, and what needs you"},
	{Press: "2", Does: "Places: endpoints and what lies in them"},
	{Press: "3", Does: "Jobs: what is to be done, as sentences"},
	{Press: "4", Does: "Plan: what a run would do"},
	{Press: "5", Does: "Run: what moves now"},
	{Press: "6", Does: "Proof: what is really there"},
	{Press: ">", Does: "the next job, in views about one; < the one before"},
	{Press: "u", Does: "rates in bytes or bits"},
	{Press: "ctrl+p", Does: "find an action by its words"},
	{Press: "?", Does: "all keys"},
	{Press: "B", Does: "let runs go on in the background"},
	{Press: "q", Does: "leave"},
}

func (m *model) actions() []kit.Key {
	return append(append([]kit.Key(nil), m.screens[m.view].Keys()...), ownKeys...)
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
		return tea.KeyPressMsg{Code: map[string]rune{"left": tea.KeyLeft, "right": tea.KeyRight, "up": tea.KeyUp, "down": tea.KeyDown}[name]}
	}
	if letter, ok := strings.CutPrefix(name, "ctrl+"); ok {
		return tea.KeyPressMsg{Code: rune(letter[0]), Mod: tea.ModCtrl}
	}
	r := []rune(name)
	return tea.KeyPressMsg{Code: r[0], Text: name}
}
