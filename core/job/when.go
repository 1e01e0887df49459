package job

import (
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"lumtra/core/nearest"
	"lumtra/core/rule"
	"lumtra/core/schedule"
)

// When says when a job starts by itself, and what may go on while nobody looks.
type When struct {
	schedule.Settings
	// Unattended is what a plan made at night may do: go on within the job's safety limits, or
	// wait until a person approves it, at most as long as ApproveWithin says, such as "12h";
	// then it is skipped, and told. "" waits without end.
	Unattended    Unattended `toml:"unattended,omitempty"`
	ApproveWithin string     `toml:"approve-within,omitempty"`
	// Prove proves what each run did.
	Prove bool `toml:"prove,omitempty"`
	// Priority is "low", "usual" or "high" among runs that share a limit.
	Priority string  `toml:"priority,omitempty"`
	Arrival  Arrival `toml:"arrival"`
}

// Unattended is what a plan may do while nobody looks.
type Unattended string

// What it may do. Whatever holds a plan back holds it back then, too.
const (
	WithinLimits Unattended = "within-limits"
	Waits        Unattended = "wait"
)

// Arrival says when something that appears at the source has arrived.
type Arrival struct {
	// Settle is how long size and time of a file have to stand still; Every how often a store is
	// listed, and a folder looked through for what its system did not tell.
	Settle string `toml:"settle,omitempty"`
	Every  string `toml:"every,omitempty"`
	// NotYet are patterns of names that have not arrived, Marker a name whose appearance says
	// that all in its folder has.
	NotYet []string `toml:"not-yet,omitempty"`
	Marker string   `toml:"marker,omitempty"`
}

// The usual times of arrivals.
const (
	UsualSettle = 10 * time.Second
	UsualEvery  = 5 * time.Minute
)

// SettleTime and EveryTime are what is set, or the usual.
func (a *Arrival) SettleTime() time.Duration { return lasting(a.Settle, UsualSettle) }

// EveryTime see SettleTime.
func (a *Arrival) EveryTime() time.Duration { return lasting(a.Every, UsualEvery) }

func lasting(text string, usual time.Duration) time.Duration {
	if d, err := time.ParseDuration(text); err == nil && text != "" {
		return d
	}
	return usual
}

// ApprovalTime is how long a plan waits for approval; 0 for without end.
func (w *When) ApprovalTime() time.Duration {
	age, _ := rule.ParseAge(w.ApproveWithin)
	return age
}

// checkWhen reads when the job starts. Calendar files are looked for beside the folder of jobs.
func (j *Job) checkWhen(d *document) error {
	w := &j.When
	var err error
	if j.Schedule, err = schedule.New(&w.Settings, d.calendars()); err != nil {
		if at, ok := err.(*schedule.Wrong); ok {
			m := d.wrong(at.What, "when", at.Setting).(*Mistake)
			if at.Setting == "start" && m.Line > 0 && d.isPlain(m, w.Start) {
				m.Column += len("start = \"") + at.At
			}
			return m
		}
		return err
	}
	if w.Unattended != "" && w.Unattended != WithinLimits && w.Unattended != Waits {
		return d.wrong(fmt.Sprintf("unattended is %q; it is \"within-limits\" or \"wait\"", w.Unattended), "when",
			"unattended")
	}
	if _, ok := rule.ParseAge(w.ApproveWithin); w.ApproveWithin != "" && !ok {
		return d.wrong(fmt.Sprintf("approve-within is %q; it is an age such as \"12h\" or \"1d\"", w.ApproveWithin),
			"when", "approve-within")
	}
	if p := w.Priority; p != "" && p != "low" && p != "usual" && p != "high" {
		return d.wrong(fmt.Sprintf("priority is %q; it is \"low\", \"usual\" or \"high\"", p), "when", "priority")
	}
	return w.Arrival.check(d)
}

func (a *Arrival) check(d *document) error {
	for _, s := range []struct {
		name, text  string
		least, most time.Duration
	}{{"settle", a.Settle, 0, 24 * time.Hour}, {"every", a.Every, time.Second, 24 * time.Hour}} {
		if t, err := time.ParseDuration(s.text); s.text != "" && (err != nil || t < s.least || t > s.most) {
			return d.wrong(fmt.Sprintf("%s is %q; it is a time such as \"10s\" or \"5m\", a day at the most", s.name,
				s.text),
				"when", "arrival", s.name)
		}
	}
	for _, p := range a.NotYet {
		if !doublestar.ValidatePattern(p) {
			return d.wrong(fmt.Sprintf("%q is no pattern of names; it reads like \"*.part\"", p), "when", "arrival",
				"not-yet")
		}
	}
	if strings.Contains(a.Marker, "/") {
		return d.wrong("marker is a file's name, such as \"READY\", without its folder", "when", "arrival", "marker")
	}
	return nil
}

// isPlain tells that a setting's text stands in its line as it is read, so that places within it can
// be told.
func (d *document) isPlain(m *Mistake, text string) bool {
	lines := strings.Split(string(d.raw), "\n")
	return m.Line <= len(lines) && slices.Contains([]string{`"`, "'"}, quoteOf(lines[m.Line-1], text))
}

// calendars opens a calendar file of the workspace: one that lies in it, or below it. Nil where it
// is not known in which workspace the text stands.
func (d *document) calendars() func(string) (io.ReadCloser, error) {
	dir := filepath.Dir(filepath.Dir(d.path))
	if d.path == "" {
		return nil
	}
	return func(name string) (io.ReadCloser, error) {
		if !filepath.IsLocal(name) {
			return nil, fmt.Errorf("it has to lie in the workspace")
		}
		raw, err := readText(filepath.Join(dir, name))
		if err != nil {
			return nil, fmt.Errorf("cannot be read: %s", reason(err))
		}
		return io.NopCloser(strings.NewReader(string(raw))), nil
	}
}

// KeepBroken takes over, from the workspace as it was, the jobs whose files are there and have a
// mistake now.
func (w *Workspace) KeepBroken(was *Workspace) {
	for _, err := range w.Mistakes {
		m, ok := err.(*Mistake)
		if !ok || filepath.Base(filepath.Dir(m.File)) != jobsFolder {
			continue
		}
		for _, j := range was.Jobs {
			if j.Name == base(m.File) {
				w.Jobs = append(w.Jobs, j)
			}
		}
	}
	slices.SortFunc(w.Jobs, func(a, b *Job) int { return strings.Compare(a.Name, b.Name) })
	w.Jobs = slices.CompactFunc(w.Jobs, func(a, b *Job) bool { return a.Name == b.Name })
}

// checkAfter finds jobs that start after jobs there are not, or each other round in a circle, and
// takes them out.
func (w *Workspace) checkAfter() {
	after, known := w.followers()
	if len(after) == 0 {
		return
	}
	w.Jobs = slices.DeleteFunc(w.Jobs, func(j *Job) bool {
		what := wrongAfter(j.Name, after, known)
		if what == "" {
			return false
		}
		path := filepath.Join(w.Dir, jobsFolder, j.Name+".toml")
		m := error(&Mistake{File: path, What: what, Setting: "when.start"})
		if d, err := readDocument(path, path); err == nil {
			m = d.wrong(what, "when", "start")
		}
		w.Mistakes = append(w.Mistakes, m)
		return true
	})
}

// followers are the jobs that start after others, by name, and the names of all jobs there are.
func (w *Workspace) followers() (after map[string]string, known []string) {
	after = map[string]string{}
	for _, j := range w.Jobs {
		if known = append(known, j.Name); j.Schedule != nil && j.Schedule.After != "" {
			after[j.Name] = j.Schedule.After
		}
	}
	for _, err := range w.Mistakes { // a job with a mistake is one all the same
		if m, ok := err.(*Mistake); ok {
			known = append(known, base(m.File))
		}
	}
	return after, known
}

// wrongAfter says what is wrong with the job that another starts after; "" for nothing.
func wrongAfter(name string, after map[string]string, known []string) string {
	first, ok := after[name]
	if !ok {
		return ""
	}
	if !slices.Contains(known, first) {
		return fmt.Sprintf("it starts after %q, and there is no such job%s", first, nearest.Hint(first, known))
	}
	chain := []string{name}
	for at := first; at != "" && len(chain) <= len(after); at = after[at] {
		chain = append(chain, at)
		if at == name {
			return "the jobs start after each other in a circle: " + strings.Join(chain, ", after ")
		}
	}
	return ""
}

// mayFollow refuses a job that would start after one there is not, or after itself in the end; was is
// the name it had.
func (w *Workspace) mayFollow(was string, j *Job) error {
	after, known := w.followers()
	delete(after, was)
	if known = append(known, j.Name); j.Schedule.After != "" {
		after[j.Name] = j.Schedule.After
	}
	if what := wrongAfter(j.Name, after, known); what != "" {
		return &Mistake{File: j.Name + ".toml", What: what, Setting: "when.start"}
	}
	return nil
}

// quoteOf is the quote before a text that is the value of start in a line.
func quoteOf(line, text string) string {
	rest, ok := strings.CutPrefix(strings.TrimSpace(line), "start = ")
	if !ok || len(rest) < 1 || !strings.HasPrefix(rest[1:], text) {
		return ""
	}
	return rest[:1]
}
