package run

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"lumtra/core/ledger"
	"lumtra/service/cycle"
	"lumtra/service/runs"
	"lumtra/service/workroom"
	"lumtra/tui/kit"
)

// problemPane lists problems by cause. Enter opens a cause: its objects, and
// under the one chosen every attempt.
type problemPane struct {
	job    string
	keys   bool // it has the keys
	cursor kit.Cursor
	open   string // the cause that is open; "" for none
	found  []workroom.FailedObject
	read   bool
	inside kit.Cursor
}

type failuresMsg struct {
	job, cause string
	found      []workroom.FailedObject
	err        error
}

func (p *problemPane) take(msg failuresMsg) {
	if p.job == msg.job && p.open == msg.cause {
		p.found, p.read = msg.found, true
	}
}

// shownFailures is how many objects of a cause are looked at.
const shownFailures = 1000

// problemKey takes the keys of the pane. It is false for those of the rest.
func (s *Screen) problemKey(key string, j *kit.JobState) (tea.Cmd, bool) {
	f := s.facts(j)
	if s.side.job != j.Job.Name {
		s.side = problemPane{job: j.Job.Name}
	}
	p := &s.side
	if f == nil || len(f.problems) == 0 {
		p.keys = false
		return nil, false
	}
	p.cursor.Move(0, len(f.problems))
	cause := f.problems[p.cursor.At].Cause
	switch {
	case key == "tab":
		p.keys = !p.keys
	case key == "r":
		return s.retry(j, f, cause), true
	case !p.keys:
		return nil, false
	case key == "esc" && p.open != "":
		p.open = ""
		return kit.Cmd(nil), true
	case key == "esc":
		p.keys = false
		return kit.Cmd(nil), true
	case p.open != "":
		return nil, p.inside.Key(key, len(p.found), 10)
	case key == "enter":
		p.open, p.found, p.read, p.inside = cause, nil, false, kit.Cursor{}
		job, number := j.Job.Name, f.plan
		return func() tea.Msg {
			found, err := s.Service.Failures(s.ctx, job, number, cause, shownFailures)
			return failuresMsg{job, cause, found, err}
		}, true
	default:
		return nil, p.cursor.Key(key, len(f.problems), 5)
	}
	return nil, true
}

// retry tries what failed of a cause again: in the run under way when the rest
// is done, else in one of its own.
func (s *Screen) retry(j *kit.JobState, f *facts, cause string) tea.Cmd {
	if r := s.Service.Active(j.Job.Name); r != nil {
		return steer(r, runs.Steer{Again: cause}, "They are tried again when the rest is done.")
	}
	return s.start(j.Job.Name, cycle.Policy{Number: f.plan, Cause: cause})
}

// problemLines draws the pane.
func (s *Screen) problemLines(f *facts, width, height int) []string {
	t, p := s.Theme, &s.side
	mine := p.job == s.Current().Job.Name
	has := p.keys && mine
	lines := []string{" " +
		t.Flare.Render("Problems") + t.Ash.Render(map[bool]string{true: "  enter opens, r retries, esc back",
		false: "  tab goes there"}[has])}
	if p.open != "" && mine {
		lines = append(lines, " "+t.Strong.Render(kit.Name(p.open, max(width-3, 8))), "")
		return append(lines, s.failureLines(width, height-len(lines))...)
	}
	wrap := func(text string, margin int) []string {
		return strings.Split(ansi.Wordwrap(text, max(width-margin, 10), " "), "\n")
	}
	for i, x := range f.problems {
		lines = append(lines,
			kit.Row(t, t.Flare.Render(kit.Count(x.Count)+" × ")+t.Strong.Render(kit.Name(x.Cause, max(width-12, 8))),
				width, has && i == p.cursor.At))
		for _, part := range wrap(x.Advice, 5) {
			if part != "" {
				lines = append(lines, "    "+t.Paper.Render(part))
			}
		}
		for _, key := range x.Keys[:min(len(x.Keys), 3)] {
			lines = append(lines, "    "+t.Ash.Render(kit.Name(key, max(width-5, 8))))
		}
	}
	return lines[:min(len(lines), max(height, 0))]
}

// failureLines are the objects of the open cause, with the attempts of the one
// under the cursor.
func (s *Screen) failureLines(width, height int) []string {
	t, p := s.Theme, &s.side
	switch {
	case !p.read:
		return []string{"  " + t.Ash.Render("reading the ledger …")}
	case len(p.found) == 0:
		return []string{"  " + t.Ash.Render("none of them is left to do, or the plan named them blocked")}
	}
	attempts := min(max(height/2, 3), 12)
	first, last := p.inside.Window(len(p.found), max(height-attempts-1, 1))
	var lines []string
	for i := first; i < last; i++ {
		x := &p.found[i]
		lines = append(lines,
			kit.Row(t, t.Paper.Render(kit.Name(x.Key, max(width-16, 8)))+t.Ash.Render(" "+kit.Size(x.Size)), width,
				i == p.inside.At))
	}
	lines = append(lines, "")
	return append(lines, s.attemptLines(&p.found[min(p.inside.At, len(p.found)-1)].Failure, width, attempts)...)
}

// attemptLines tell every attempt of an object, the last ones where there are
// many.
func (s *Screen) attemptLines(f *ledger.Failure, width, height int) []string {
	t := s.Theme
	var lines []string
	for _, a := range f.Attempts {
		text := fmt.Sprintf("%s  try %d  ", a.At.Local().Format("15:04:05"), a.Number)
		for i, part := range strings.Split(ansi.Wordwrap(a.Why, max(width-4-len(text), 10), " "), "\n") {
			head := t.Ash.Render(text)
			if i > 0 {
				head = strings.Repeat(" ", len(text))
			}
			lines = append(lines, "  "+head+t.Paper.Render(part))
		}
	}
	if len(lines) == 0 {
		lines = append(lines, "  "+t.Paper.Render(kit.Name(f.Why, max(width-3, 8))))
	}
	return lines[max(0, len(lines)-height):]
}
