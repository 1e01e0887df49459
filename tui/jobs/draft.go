package jobs

import (
	"context"
	"errors"
	"strings"
	"sync/atomic"
	"time"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/job"
	"lumtra/service"
	"lumtra/service/workroom"
	"lumtra/tui/kit"
)

// draft is a job as it is being written: its text, and what that says.
type draft struct {
	name  string
	fresh bool   // not in the workspace yet
	saved string // the text in the file
	text  string
	job   *job.Job // as far as it could be read
	// wrong is what is wrong with the text, nil when all is well.
	wrong *job.Mistake

	// effect is the newest there is; of tells which text it is of.
	effect    *workroom.Effect
	of        string
	effectErr error
	partial   atomic.Pointer[workroom.Effect] // while working it out goes on
	working   bool
	stop      context.CancelFunc
	turn      int // of the newest request for an effect
	survey    *workroom.Activity
	surveyErr error
}

// changed tells that the text is not what is in the file.
func (d *draft) changed() bool { return d.fresh || d.text != d.saved }

// read makes the job of the text anew.
func (d *draft) read(s *service.Service) {
	var err error
	d.job, err = s.ParseJob(d.name, d.text)
	d.wrong = nil
	if err != nil && !errors.As(err, &d.wrong) {
		d.wrong = &job.Mistake{What: kit.Reason(err)}
	}
}

// set changes one setting. A value that is the one without the setting takes
// the setting out.
func (d *draft) set(s *service.Service, p *phrase, value any) {
	text, err := job.Set(d.text, value, p.path...)
	if err != nil {
		d.wrong = &job.Mistake{What: kit.Reason(err), Setting: p.setting()}
		return
	}
	if plain, err := job.Set(d.text, nil, p.path...); err == nil && value != nil && p.into == nil {
		was, now := d.parse(s, plain), d.parse(s, text)
		if was != nil && now != nil && p.value(was) == p.value(now) && p.how == byChoice {
			text = plain
		}
	}
	if p.setting() == "target" {
		text = fitting(text, d.parse(s, text))
	}
	d.text = text
	d.read(s)
}

func (d *draft) parse(s *service.Service, text string) *job.Job {
	j, _ := s.ParseJob(d.name, text)
	return j
}

// Messages about drafts.
type (
	effectMsg struct {
		job    string
		turn   int
		effect *workroom.Effect
		err    error
	}
	// startEffect begins to work an effect out, when nothing was typed meanwhile.
	startEffect struct {
		job  string
		turn int
	}
	// stillWorking draws what there is so far.
	stillWorking struct {
		job  string
		turn int
	}
	surveyedMsg struct {
		job string
		err error
	}
)

const (
	typingPause = 120 * time.Millisecond
	partialStep = 150 * time.Millisecond
)

func after(wait time.Duration, msg tea.Msg) tea.Cmd {
	return tea.Tick(wait, func(time.Time) tea.Msg { return msg })
}

// want asks for the effect of the draft as it is now.
func (d *draft) want() tea.Cmd {
	if d.stop != nil {
		d.stop()
		d.stop = nil
	}
	d.turn++
	d.working = false
	if d.wrong != nil {
		return nil
	}
	d.working = true
	return after(typingPause, startEffect{d.name, d.turn})
}

// begin works the effect out, away from Update.
func (d *draft) begin(ctx context.Context, s *service.Service) tea.Cmd {
	ctx, d.stop = context.WithCancel(ctx)
	d.partial.Store(nil)
	j, turn, name := *d.job, d.turn, d.name
	d.of = d.text
	return tea.Batch(func() tea.Msg {
		e, err := s.Effect(ctx, &j, func(p *workroom.Effect) { d.partial.Store(p) })
		return effectMsg{name, turn, e, err}
	}, after(partialStep, stillWorking{name, turn}))
}

// surveyNow surveys both sides of the draft.
func (d *draft) surveyNow(ctx context.Context, s *service.Service) tea.Cmd {
	act := &workroom.Activity{}
	d.survey, d.surveyErr = act, nil
	j, name := *d.job, d.name
	return func() tea.Msg {
		_, err := s.SurveyJob(ctx, &j, act)
		return surveyedMsg{name, err}
	}
}

// title is a job's name with a mark for what is not in the file yet.
func (d *draft) title() string {
	if d.changed() {
		return d.name + " *"
	}
	return strings.TrimSpace(d.name)
}
