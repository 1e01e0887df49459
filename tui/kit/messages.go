package kit

import (
	"context"
	"time"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/service"
	"lumtra/tui/look"
)

// View names a view, as the header shows it. Those that others lead to are named here.
type View string

// The views.
const (
	Now      View = "Now"
	Places   View = "Places"
	Jobs     View = "Jobs"
	Plan     View = "Plan"
	Run      View = "Run"
	Proof    View = "Proof"
	Settings View = "Settings"
)

// ViewKind is what a view tells of itself: its name, what it answers, and how it is made.
type ViewKind struct {
	View View
	Does string
	// OfJob tells that it is about one job, so that < and > go to another.
	OfJob bool
	// Presses are all keys that can ever do something there.
	Presses []string
	New     func(ctx context.Context, shared *Shared) Screen
}

// Keeper is a view that holds what is in no file yet; Unwritten names it.
type Keeper interface{ Unwritten() []string }

// Open asks the frame to show a view, with a job if it is about one.
type Open struct {
	View View
	Job  string
}

// Commander is a view that knows the command which does what its cursor is on: the words
// behind "lumtra", nil where no command does that.
type Commander interface{ Command() []string }

// Namer is a view that knows the name of what its cursor is on: a place, a key, a file; "" for
// nothing.
type Namer interface{ Name() string }

// Opened tells a view that it is shown, and the job it is about.
type Opened struct{ Job string }

// Prefer asks the frame to read the person's preferences anew.
type Prefer struct{}

// Say asks the frame to tell something for a while in its last line but one.
type Say struct {
	Text string
	Bad  bool
	// Link is a path in the text that can be opened.
	Link string
}

// StateMsg brings a new State to every view.
type StateMsg struct{ State }

// Refresh asks the frame for a new State at once, and to go on with Then when
// it is there.
type Refresh struct{ Then tea.Cmd }

// Shared is what every view can see. It is changed by the frame only, between
// messages.
type Shared struct {
	Service *service.Service
	Theme   *look.Theme
	State   State
	Bits    bool // rates in bits rather than bytes
	// Pixels is how the terminal takes pictures in full resolution.
	Pixels Pixels
	// Preferences are the person's, as far as they could be read; PreferencesAt is their file,
	// and PreferencesErr what is wrong in it.
	Preferences    *job.Preferences
	PreferencesAt  string
	PreferencesErr error
	// Job is the job the views about one job are about; "" for any.
	Job string
	// Unwritten tells that Job is a draft that is in no file yet.
	Unwritten bool
	// Clock is what tells the time; nil for the machine's.
	Clock func() time.Time
}

// Now is the time that views go by.
func (s *Shared) Now() time.Time {
	if s.Clock != nil {
		return s.Clock()
	}
	return time.Now()
}

// Choose makes a job the one that the views about one job are about.
func (s *Shared) Choose(job string, unwritten bool) { s.Job, s.Unwritten = job, unwritten }

// Current is the chosen job: the one last opened, else one that runs, else the
// first; nil when there are none, or the chosen one is in no file yet.
func (s *Shared) Current() *JobState {
	if s.Unwritten {
		return nil
	}
	if j := s.State.JobNamed(s.Job); j != nil {
		return j
	}
	for i := range s.State.Jobs {
		if s.State.Jobs[i].Active != nil {
			return &s.State.Jobs[i]
		}
	}
	if len(s.State.Jobs) > 0 {
		return &s.State.Jobs[0]
	}
	return nil
}

// NoJob says why there is no current job; does is what a view would do with one.
func (s *Shared) NoJob(does string) string {
	if s.Unwritten {
		return "The job " + object.Display(s.Job) + " is in no file yet: w in Jobs writes it, > goes to another."
	}
	return "No job to " + does + "."
}

// StepJob chooses the next job (by 1) or the one before (by -1).
func (s *Shared) StepJob(by int) {
	jobs := s.State.Jobs
	if s.Unwritten && len(jobs) > 0 {
		s.Choose(jobs[0].Job.Name, false)
		return
	}
	for i := range jobs {
		if c := s.Current(); c != nil && jobs[i].Job.Name == c.Job.Name {
			s.Choose(jobs[(i+by+len(jobs))%len(jobs)].Job.Name, false)
			return
		}
	}
}

// Key is a line of the key help: what to press, what it does, and why it can do
// nothing just now, if that is so.
type Key struct{ Press, Does, Off string }

// Screen is a view as the frame sees it.
type Screen interface {
	// Update takes a message; it must not block.
	Update(msg tea.Msg) tea.Cmd
	// Render draws exactly height lines of at most width cells.
	Render(width, height int) string
	// Crumbs say where in the view one is, for the header.
	Crumbs() []string
	// Keys are those that work now, most useful first.
	Keys() []Key
	// Asks tells that the view asks for something: all keys are its own then.
	Asks() bool
}

// Cmd makes a command of a message.
func Cmd(msg tea.Msg) tea.Cmd { return func() tea.Msg { return msg } }

// PlanAnew asks the plan view to survey and plan a job.
type PlanAnew struct{ Job string }

// Start asks the run view to carry out a job's plan.
type Start struct {
	Job    string
	Number int
	// Despite names checks that a person lets it run in spite of.
	Despite []string
}

// Prove asks the proof view to compare a job's two sides.
type Prove struct{ Job string }
