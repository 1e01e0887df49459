package notifier

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"lumtra/core/history"
	"lumtra/core/notify"
	"lumtra/core/object"
	"lumtra/core/starts"
	"lumtra/core/transfer"
	"lumtra/service/agenda"
	"lumtra/service/workspace"
)

// overlap is by how much what was looked at is looked at again: rows are written by others.
const overlap = 10 * time.Minute

// happened is what happened since it was looked at last, and a little before. What was told already
// has the same id.
func (n *Notifier) happened(ctx context.Context, now time.Time) ([]notify.Message, error) {
	since := n.since.Add(-overlap)
	past, err := n.room.Runs(ctx, "", now.Add(-35*24*time.Hour), mostLooked)
	if err != nil {
		return nil, err
	}
	all := n.runs(past, since)
	rows, err := agenda.Kept(ctx, n.ws, now.Add(-35*24*time.Hour))
	if err != nil {
		return nil, err
	}
	all = append(all, n.missed(rows, since)...)
	for i := range rows {
		if rows[i].Moved.After(since) {
			all = append(all, n.start(rows, i)...)
		}
	}
	for name, until := range n.ws.Expiring(now) {
		m := n.message(notify.Credentials, fmt.Sprintf("credential-%s-%d", name, until.Unix()), now)
		verb := "expires"
		if until.Before(now) {
			verb = "ran out"
		}
		m.Subject = fmt.Sprintf("%s: the credential of %s %s %s", m.Title, name, verb, shown(until))
		m.Text = "Runs that need it fail from then on. Replace it in Places (K), or by lumtra credential keep."
		all = append(all, m)
	}
	late, err := n.late(ctx, rows, now)
	return append(all, late...), err
}

// mostLooked is how many of the newest runs are looked at.
const mostLooked = 400

func shown(t time.Time) string { return t.Local().Format("Mon 2006-01-02 15:04 -07:00") }

// message begins a message.
func (n *Notifier) message(kind notify.Kind, id string, at time.Time) notify.Message {
	return notify.Message{ID: id, Kind: kind, At: at, Title: n.ws.Workspace().Title}
}

// runs tells of runs that ended since a moment. Past is newest first.
func (n *Notifier) runs(past []history.Run, since time.Time) (all []notify.Message) {
	for i := range past {
		r := &past[i]
		if r.End == history.Running || !r.Ended.After(since) {
			continue
		}
		kind := notify.Failure
		switch r.End {
		case history.Stopped: // by a person, or with the service, which goes on with it
			continue
		case history.Clean:
			kind = notify.Success
			for k := i + 1; k < len(past); k++ {
				if past[k].Job == r.Job && past[k].End != history.Stopped {
					if past[k].End != history.Clean {
						kind = notify.Recovery
					}
					break
				}
			}
		}
		m := n.message(kind, fmt.Sprintf("run-%s-%d", r.Job, r.ID), r.Ended)
		m.Job, m.Plan, m.Objects, m.Bytes, m.Failed = r.Job, r.Plan, r.Objects, r.Bytes, r.Failed
		m.Seconds, m.Rates = r.Ended.Sub(r.Began).Seconds(), ratesOf(r.Samples)
		m.Subject = fmt.Sprintf("%s: %s %s", m.Title, r.Job, r.End)
		if kind == notify.Recovery {
			m.Subject = fmt.Sprintf("%s: %s ended well again", m.Title, r.Job)
		}
		m.Text = fmt.Sprintf("%s, %s in %s, from %s to %s.\nCarried out plan %d.", object.Count(r.Objects, "object"),
			humanize.IBytes(uint64(max(r.Bytes, 0))), r.Ended.Sub(r.Began).Round(time.Second), shown(r.Began),
			shown(r.Ended),
			r.Plan)
		if r.Failed > 0 {
			m.Text += fmt.Sprintf("\n%s failed:", object.Count(r.Failed, "object"))
			for _, p := range r.Problems[:min(len(r.Problems), 5)] {
				m.Text += fmt.Sprintf("\n  %s: %s", object.Count(p.Count, "object"), object.Display(p.Cause))
			}
			m.Text += "\n" + n.command("failures", r.Job) + " lists them."
		}
		if r.Note != "" {
			m.Text += "\n" + object.Display(r.Note)
		}
		all = append(all, m)
	}
	return all
}

// command is a command line of this workspace.
func (n *Notifier) command(words ...string) string {
	return workspace.CommandLine(nil, append(words, "--workspace", n.ws.Workspace().Dir)...)
}

// ratesOf are a run's rates in equal steps.
func ratesOf(samples []transfer.Sample) (all []float64) {
	for i := 1; i < len(samples); i++ {
		if d := (samples[i].At - samples[i-1].At).Seconds(); d > 0 {
			all = append(all, float64(samples[i].Bytes-samples[i-1].Bytes)/d)
		}
	}
	return all
}

// missed tells of the starts of a job that were found missed at once, in one message.
func (n *Notifier) missed(rows []starts.Row, since time.Time) (all []notify.Message) {
	at := map[string]int{}
	count := map[string]int64{}
	for i := range rows { // newest first
		r := &rows[i]
		if r.State != starts.Missed || !r.Moved.After(since) {
			continue
		}
		id := fmt.Sprintf("missed-%s-%d", r.Job, r.Moved.UnixMicro())
		count[id]++
		k, known := at[id]
		if !known {
			m := n.message(notify.Missed, id, r.Moved)
			m.Job = r.Job
			k, at[id] = len(all), len(all)
			all = append(all, m)
		}
		m := &all[k]
		m.Subject = fmt.Sprintf("%s: %s of %s passed with nobody to begin it", m.Title, object.Count(count[id],
			"start"), r.Job)
		m.Text = "The first was that of " + shown(r.Slot) + "; found at " + shown(r.Moved) + "."
	}
	return all
}

// start tells of a start that did not become a run, or waits; what became one its run tells. A plan
// that is held back at each start anew is told once.
func (n *Notifier) start(rows []starts.Row, at int) []notify.Message {
	r := &rows[at]
	kind := map[starts.State]notify.Kind{starts.Waiting: notify.Guard, starts.Skipped: notify.Missed,
		starts.Failed: notify.Failure}[r.State]
	if kind == "" || r.State == starts.Failed && r.Plan != 0 || r.State == starts.Skipped && r.Until.IsZero() ||
		strings.HasPrefix(r.Note, agenda.Superseded) {
		return nil
	}
	root := r.Slot
	for k := at + 1; k < len(rows) && r.State == starts.Waiting; k++ {
		if rows[k].Job != r.Job {
			continue
		}
		if rows[k].State != starts.Skipped || !strings.HasPrefix(rows[k].Note, agenda.Superseded) {
			break
		}
		root = rows[k].Slot
	}
	m := n.message(kind, fmt.Sprintf("start-%s-%d-%s", r.Job, root.UnixMicro(), r.State), r.Moved)
	m.Job, m.Plan = r.Job, r.Plan
	what := map[starts.State]string{starts.Waiting: "waits for a person", starts.Skipped: "was skipped",
		starts.Failed: "failed"}[r.State]
	m.Subject = fmt.Sprintf("%s: the start of %s at %s %s", m.Title, r.Job, r.Slot.Local().Format("15:04"), what)
	m.Text = object.Display(r.Note) + "\nIts time was " + shown(r.Slot) + "."
	if r.State == starts.Waiting {
		m.Text += "\nLook at it in the window, or by " + n.command("plan", r.Job, "--effects") + "."
		if !r.Until.IsZero() {
			m.Text += "\nIt waits until " + shown(r.Until) + ", and is skipped then."
		}
	}
	return []notify.Message{m}
}

// late tells of jobs that have not ended well for a while, and of those whose targets lag behind: of each
// that some receiver calls too long. A job that starts by itself and never ended well is late since it was
// first looked at.
func (n *Notifier) late(ctx context.Context, rows []starts.Row, now time.Time) (all []notify.Message, err error) {
	least := map[notify.Kind]time.Duration{}
	for _, s := range n.receivers() {
		for _, kind := range []notify.Kind{notify.Silence, notify.Lag} {
			if d := s.Most(kind); d > 0 && (least[kind] == 0 || d < least[kind]) {
				least[kind] = d
			}
		}
	}
	if len(least) == 0 {
		return nil, nil
	}
	db, err := n.ws.History()
	if err != nil {
		return nil, err
	}
	sums, err := db.Sums(ctx)
	if err != nil {
		return nil, err
	}
	well := map[string]starts.Row{} // the start that ended well last, with nothing to do included
	for i := range rows {
		if r := &rows[i]; r.State == starts.Done && r.Moved.After(well[r.Job].Moved) {
			well[r.Job] = *r
		}
	}
	for _, j := range n.ws.Workspace().Jobs {
		if !j.Schedule.ByItself() {
			continue
		}
		ended, began := n.first, n.first
		if x := sums[j.Name]; x != nil {
			ended, began = latest(ended, x.LastClean), latest(began, x.CleanBegan)
		}
		ended, began = latest(ended, well[j.Name].Moved), latest(began, well[j.Name].Due)
		if most := least[notify.Silence]; most > 0 && now.Sub(ended) >= most {
			m := n.lateBy(notify.Silence, j.Name, ended, now)
			m.Subject = fmt.Sprintf("%s: %s has not ended well for %s", m.Title, j.Name, hours(now.Sub(ended)))
			m.Text = "It ended well last on " + shown(ended) + "."
			all = append(all, m)
		}
		if most := least[notify.Lag]; most > 0 && now.Sub(began) >= most {
			m := n.lateBy(notify.Lag, j.Name, began, now)
			m.Subject = fmt.Sprintf("%s: the target of %s lags %s behind", m.Title, j.Name, hours(now.Sub(began)))
			m.Text = "It holds what was there on " + shown(began) + ", when the last run that ended well began."
			all = append(all, m)
		}
	}
	return all, nil
}

// lateBy begins a message about a job that is late since a moment.
func (n *Notifier) lateBy(kind notify.Kind, job string, since, now time.Time) notify.Message {
	m := n.message(kind, fmt.Sprintf("%s-%s-%d", kind, job, since.Unix()), now)
	m.Job, m.Seconds = job, now.Sub(since).Seconds()
	return m
}

func latest(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

func hours(d time.Duration) string {
	if d < 2*time.Hour {
		return object.Count(int64(d/time.Minute), "minute")
	}
	return object.Count(int64(d/time.Hour), "hour")
}

// tooLong tells whether a receiver calls it too long, where a message is about that.
func tooLong(s *notify.Settings, m *notify.Message) bool {
	if m.Kind != notify.Silence && m.Kind != notify.Lag {
		return true
	}
	most := s.Most(m.Kind)
	return most > 0 && m.Seconds >= most.Seconds()
}
