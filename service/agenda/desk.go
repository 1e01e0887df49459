package agenda

import (
	"cmp"
	"container/heap"
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/schedule"
	"lumtra/core/starts"
)

// grace is how late a start may be found and still be on time: machines are busy, and timers late.
const grace = time.Minute

// mostMissed is how many missed starts of a job are written down one by one.
const mostMissed = 50

// Limits are how many starts may be at work at once; 0 is no limit.
type Limits struct {
	All       int
	Endpoints map[string]int
}

// Desk keeps the book: which start of which job comes next, what is due, what waits, what is at
// work. It has no clock. Its methods may be called from many goroutines.
type Desk struct {
	book *starts.Book

	mu      sync.Mutex
	jobs    map[string]*entry
	turn    int // counts calls of Sync
	coming  coming
	queue   []starts.Row
	working map[string]starts.Row // at work, by job
	waiting map[string]starts.Row // for a person, by job
	// kept are starts that were queued when the last keeper of the book ended: time may have passed.
	kept   map[starts.Key]bool
	limits Limits
}

// entry is a job with its times.
type entry struct {
	job   *job.Job
	rule  string
	seen  int // the turn in which the job was there last
	upto  time.Time
	next  schedule.Start
	due   time.Time // of next
	place int       // in the heap; -1 for none
}

// coming is a heap of entries by the time their next start is due.
type coming []*entry

func (c coming) Len() int           { return len(c) }
func (c coming) Less(i, j int) bool { return c[i].due.Before(c[j].due) }
func (c coming) Swap(i, j int) {
	c[i], c[j] = c[j], c[i]
	c[i].place, c[j].place = i, j
}

// Push and Pop are for container/heap.
func (c *coming) Push(x any) {
	e := x.(*entry)
	e.place = len(*c)
	*c = append(*c, e)
}

// Pop see Push.
func (c *coming) Pop() any {
	e := (*c)[len(*c)-1]
	*c = (*c)[:len(*c)-1]
	e.place = -1
	return e
}

// NewDesk opens a desk on a book. Starts that were at work when the last keeper of the book ended
// are queued again, to be gone on with.
func NewDesk(ctx context.Context, book *starts.Book, now time.Time) (*Desk, error) {
	d := &Desk{book: book, jobs: map[string]*entry{}, working: map[string]starts.Row{},
		waiting: map[string]starts.Row{}, kept: map[starts.Key]bool{}}
	open, err := book.Open(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range open {
		switch r.State {
		case starts.AtWork:
			r.State, r.Due, r.Moved, r.Note = starts.Queued, now, now, "goes on after an interruption"
			if _, _, err := book.Move(ctx, starts.AtWork, r); err != nil {
				return nil, err
			}
			d.queue = append(d.queue, r)
		case starts.Queued:
			d.queue = append(d.queue, r)
			d.kept[r.Key()] = r.Cause == starts.ByTime && r.Plan == 0
		case starts.Waiting:
			d.waiting[r.Job] = r
		}
	}
	return d, nil
}

// ruleOf is what a job's times follow from, as one text.
func ruleOf(j *job.Job) string {
	w := &j.When.Settings
	return fmt.Sprintf("%q %q %q %q %q", w.Start, w.Zone, w.Except, w.Window, w.Spread)
}

// Sync takes jobs as they are now. A job whose times are others than before is looked through from
// now on; one whose times are the same goes on where it was.
func (d *Desk) Sync(ctx context.Context, jobs []*job.Job, limits Limits, now time.Time) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.limits = limits
	var known map[string]starts.Looked // all, where many are asked for
	asked := 0
	fresh := map[string]starts.Looked{}
	d.turn++
	for _, j := range jobs {
		e := d.jobs[j.Name]
		if e != nil {
			e.seen = d.turn
		}
		if e != nil && e.job.Schedule == j.Schedule {
			continue
		}
		rule := ruleOf(j)
		if e != nil && e.rule == rule {
			e.job = j
			continue
		}
		if asked++; asked > fewJobs && known == nil {
			var err error
			if known, err = d.book.Uptos(ctx); err != nil {
				return err
			}
		}
		if e == nil {
			e = &entry{place: -1, seen: d.turn}
			d.jobs[j.Name] = e
		}
		e.job, e.rule, e.upto = j, rule, now
		upto, ok, err := d.upto(ctx, known, j.Name, rule)
		if err != nil {
			return err
		}
		if ok {
			e.upto = upto
		} else if j.Schedule.Timed() {
			fresh[j.Name] = starts.Looked{Rule: rule, Upto: now}
		}
		d.plan(e)
	}
	for name, e := range d.jobs {
		if e.seen != d.turn {
			if e.place >= 0 {
				heap.Remove(&d.coming, e.place)
			}
			delete(d.jobs, name)
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	_, err := d.book.Look(ctx, fresh, nil)
	return err
}

// fewJobs is how many jobs are asked for one by one.
const fewJobs = 50

// upto is how far a job was looked through by a rule; false where it was not.
func (d *Desk) upto(ctx context.Context, known map[string]starts.Looked, name, rule string) (time.Time, bool, error) {
	if known == nil {
		return d.book.Upto(ctx, name, rule)
	}
	l := known[name]
	return l.Upto, l.Rule == rule && !l.Upto.IsZero(), nil
}

// plan finds an entry's next start and puts it in its place in the heap.
func (d *Desk) plan(e *entry) {
	s, some := e.job.Schedule.Next(e.upto)
	if some {
		e.next, e.due = s, s.At.Add(e.job.Schedule.Delay(e.job.Name, s.At))
	}
	switch {
	case some && e.place >= 0:
		heap.Fix(&d.coming, e.place)
	case some:
		heap.Push(&d.coming, e)
	case e.place >= 0:
		heap.Remove(&d.coming, e.place)
	}
}

// Next is when the desk has to be asked again; the zero time where nothing is planned or queued.
func (d *Desk) Next() time.Time {
	d.mu.Lock()
	defer d.mu.Unlock()
	var next time.Time
	sooner := func(t time.Time) {
		if !t.IsZero() && (next.IsZero() || t.Before(next)) {
			next = t
		}
	}
	if len(d.coming) > 0 {
		sooner(d.coming[0].due)
	}
	for _, r := range d.queue {
		if _, busy := d.working[r.Job]; !busy {
			sooner(r.Due)
		}
	}
	for _, r := range d.waiting {
		sooner(r.Until)
	}
	return next
}

// Due looks through all schedules up to now, writes down what it finds, and gives what may begin:
// those are at work from then on. Ended are those whose wait is over, and those that were skipped
// or missed.
func (d *Desk) Due(ctx context.Context, now time.Time) (begin, ended []starts.Row, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for len(d.coming) > 0 && !d.coming[0].due.After(now) {
		e := d.coming[0]
		rows := d.found(e, now)
		looked := map[string]starts.Looked{e.job.Name: {Rule: e.rule, Upto: e.upto}}
		taken, err := d.book.Look(ctx, looked, rows)
		if err != nil {
			return nil, nil, err
		}
		for _, r := range taken {
			if r.State == starts.Queued {
				d.queue = append(d.queue, r)
			} else {
				ended = append(ended, r)
			}
		}
		d.plan(e)
	}
	for name, r := range d.waiting {
		if !r.Until.IsZero() && !r.Until.After(now) {
			r.State, r.Moved, r.Note = starts.Skipped, now, "nobody approved it in time: "+r.Note
			if _, _, err := d.book.Move(ctx, starts.Waiting, r); err != nil {
				return nil, nil, err
			}
			delete(d.waiting, name)
			ended = append(ended, r)
		}
	}
	begin, gone, err := d.pick(ctx, now)
	return begin, append(ended, gone...), err
}

// found are the starts of an entry up to now, with what becomes of each; the entry goes on behind
// them.
func (d *Desk) found(e *entry, now time.Time) []starts.Row {
	x := e.job.Schedule
	var all []schedule.Start
	more := false
	for from := e.upto; ; {
		all, more = d.between(e, from, now)
		if !more {
			break
		}
		from = from.Add(now.Sub(from) / 2) // too many to be gone through: the later half
	}
	if len(all) == 0 {
		return nil
	}
	e.upto = all[len(all)-1].At
	var rows []starts.Row
	row := func(s schedule.Start, state starts.State, note string) {
		rows = append(rows, starts.Row{Job: e.job.Name, Slot: s.At, Cause: starts.ByTime, State: state,
			Due: s.At.Add(x.Delay(e.job.Name, s.At)), Moved: now, Note: note})
	}
	onTime := slices.IndexFunc(all, func(s schedule.Start) bool {
		return now.Sub(s.At.Add(x.Delay(e.job.Name, s.At))) <= grace
	})
	if onTime < 0 {
		onTime = len(all)
	}
	run, skipped := x.Missed(all[:onTime], now)
	for _, s := range skipped[max(len(skipped)-mostMissed, 0):] {
		row(s, starts.Missed, missedWords(now.Sub(s.At)))
	}
	if run != nil && onTime < len(all) { // one that is on time does the same
		row(*run, starts.Missed, "the next start came before it could begin")
		run = nil
	}
	queued := d.queued(e.job.Name)
	_, working := d.working[e.job.Name]
	add := func(s schedule.Start, note string) {
		switch x.Overlapping(working, queued) {
		case schedule.Skip:
			row(s, starts.Skipped, "the job was still at work")
		default:
			row(s, starts.Queued, note)
			queued++
		}
	}
	if run != nil {
		add(*run, "late: "+missedWords(now.Sub(run.At)))
	}
	for _, s := range all[onTime:] {
		add(s, "")
	}
	return rows
}

// Superseded begins the note of a start whose plan waited for a person when the next start came.
const Superseded = "a newer start took its place"

// mostBetween is how many starts are gone through at once.
const mostBetween = 2000

// between are an entry's starts after a moment that are due by now.
func (d *Desk) between(e *entry, from, now time.Time) (all []schedule.Start, more bool) {
	for {
		s, some := e.job.Schedule.Next(from)
		if !some || s.At.Add(e.job.Schedule.Delay(e.job.Name, s.At)).After(now) {
			return all, false
		}
		if len(all) == mostBetween {
			return all, true
		}
		all = append(all, s)
		from = s.At
	}
}

// missedWords say how late a start is found.
func missedWords(late time.Duration) string {
	switch {
	case late >= 48*time.Hour:
		return fmt.Sprintf("found %s late", object.Count(int64(late/(24*time.Hour)), "day"))
	case late >= 2*time.Hour:
		return fmt.Sprintf("found %s late", object.Count(int64(late/time.Hour), "hour"))
	}
	return fmt.Sprintf("found %s late", object.Count(int64(late/time.Minute), "minute"))
}

func (d *Desk) queued(job string) (n int) {
	for i := range d.queue {
		if d.queue[i].Job == job {
			n++
		}
	}
	return n
}

// rank is a row's place among those that wait: by priority, then by when it was due.
func (d *Desk) rank(r *starts.Row) int {
	if e := d.jobs[r.Job]; e != nil {
		return map[string]int{"high": 0, "low": 2}[e.job.When.Priority] + map[string]int{"": 1,
			"usual": 1}[e.job.When.Priority]
	}
	return 3
}

// pick takes those out of the queue that may begin. A start of a job whose plan waits for a person
// takes the place of that one.
func (d *Desk) pick(ctx context.Context, now time.Time) (begin, gone []starts.Row, err error) {
	slices.SortStableFunc(d.queue, func(a, b starts.Row) int {
		return cmp.Or(cmp.Compare(d.rank(&a), d.rank(&b)), a.Due.Compare(b.Due), cmp.Compare(a.Job, b.Job))
	})
	var left []starts.Row
	for i, r := range d.queue {
		e := d.jobs[r.Job]
		if e == nil && now.Sub(r.Moved) > grace { // the job is gone
			r.State, r.Moved, r.Note = starts.Skipped, now, "there is no such job any more"
			if _, _, err := d.book.Move(ctx, starts.Queued, r); err != nil {
				return begin, gone, err
			}
			gone = append(gone, r)
			continue
		}
		if e != nil && d.kept[r.Key()] {
			delete(d.kept, r.Key())
			if late := now.Sub(r.Due); late > grace {
				if run, _ := e.job.Schedule.Missed([]schedule.Start{{At: r.Slot}}, now); run == nil {
					r.State, r.Moved, r.Note = starts.Missed, now, missedWords(late)
					if _, _, err := d.book.Move(ctx, starts.Queued, r); err != nil {
						return begin, gone, err
					}
					gone = append(gone, r)
					continue
				}
			}
		}
		_, busy := d.working[r.Job]
		if e == nil || busy || r.Due.After(now) || !d.room(e.job) {
			left = append(left, r)
			continue
		}
		at := r
		at.State, at.Moved = starts.AtWork, now
		moved, _, err := d.book.Move(ctx, starts.Queued, at)
		if err != nil {
			d.queue = append(left, d.queue[i:]...)
			return begin, gone, err
		}
		if !moved { // another keeper of the book has it
			continue
		}
		if w, ok := d.waiting[r.Job]; ok {
			w.State, w.Moved, w.Note = starts.Skipped, now, Superseded+": "+w.Note
			skipped, _, err := d.book.Move(ctx, starts.Waiting, w)
			if err != nil {
				return begin, gone, err
			}
			delete(d.waiting, r.Job)
			if skipped { // and not ended otherwise by another keeper of the book
				gone = append(gone, w)
			}
		}
		d.working[r.Job] = at
		begin = append(begin, at)
	}
	d.queue = left
	return begin, gone, nil
}

// room tells whether one more job may be at work.
func (d *Desk) room(j *job.Job) bool {
	if d.limits.All > 0 && len(d.working) >= d.limits.All {
		return false
	}
	for name := range endpoints(j) {
		most := d.limits.Endpoints[name]
		if most == 0 {
			continue
		}
		n := 0
		for other := range d.working {
			if e := d.jobs[other]; e != nil && endpoints(e.job)[name] {
				n++
			}
		}
		if n >= most {
			return false
		}
	}
	return true
}

// endpoints are those a job names.
func endpoints(j *job.Job) map[string]bool {
	from, _ := job.SplitPlace(j.Source)
	to, _ := job.SplitPlace(j.Target)
	return map[string]bool{from: true, to: true}
}

// Came puts starts in that no time gives: their jobs' cause came at a moment.
func (d *Desk) Came(ctx context.Context, cause starts.Cause, note string, now time.Time, jobs ...string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	var rows []starts.Row
	for _, name := range jobs {
		if r, ok := d.follower(name, cause, note, now); ok {
			rows = append(rows, r)
		}
	}
	taken, err := d.book.Look(ctx, nil, rows)
	d.queue = append(d.queue, taken...)
	return err
}

// follower is a start of a job by a cause that came now; false where one waits already.
func (d *Desk) follower(name string, cause starts.Cause, note string, now time.Time) (starts.Row, bool) {
	e := d.jobs[name]
	if e == nil || d.queued(name) > 0 {
		return starts.Row{}, false
	}
	due := now
	if open, until := e.job.Schedule.Open(now); !open {
		due = until
	}
	return starts.Row{Job: name, Slot: now, Cause: cause, State: starts.Queued, Due: due, Moved: now, Note: note}, true
}

// Ended brings a start that was at work, or waited, to another state. What starts after its job is
// put in with it where it is done.
func (d *Desk) Ended(ctx context.Context, r starts.Row, now time.Time) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	from := starts.AtWork
	if w, ok := d.waiting[r.Job]; ok && w.Slot.Equal(r.Slot) {
		from = starts.Waiting
	}
	r.Moved = now
	var followers []starts.Row
	if r.State == starts.Done {
		followers = d.followers(r.Job, now)
	}
	moved, taken, err := d.book.Move(ctx, from, r, followers...)
	if err != nil || !moved {
		return err
	}
	if from == starts.Waiting {
		delete(d.waiting, r.Job)
	} else {
		delete(d.working, r.Job)
	}
	switch r.State {
	case starts.Queued:
		d.queue = append(d.queue, r)
	case starts.Waiting:
		d.waiting[r.Job] = r
	}
	d.queue = append(d.queue, taken...)
	return nil
}

// followers are the starts of the jobs that start after one.
func (d *Desk) followers(name string, now time.Time) (rows []starts.Row) {
	for _, other := range slices.Sorted(maps.Keys(d.jobs)) {
		if d.jobs[other].job.Schedule.After != name {
			continue
		}
		if r, ok := d.follower(other, starts.ByAfter, "after "+name, now); ok {
			rows = append(rows, r)
		}
	}
	return rows
}

// RanByHand puts in what starts after a job that a person has run, and that ended well; a start of it
// that waited for a person is done by that.
func (d *Desk) RanByHand(ctx context.Context, name string, plan int, end starts.State, now time.Time) error {
	d.mu.Lock()
	w, waits := d.waiting[name]
	d.mu.Unlock()
	if waits && plan >= w.Plan {
		w.State, w.Plan, w.Note = end, plan, "approved by a person"
		if j := d.Job(name); end == starts.Done && j != nil && j.When.Prove { // its proof is left to make
			w.State, w.Due = starts.Queued, now
		}
		return d.Ended(ctx, w, now)
	}
	if end != starts.Done {
		return nil
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	taken, err := d.book.Look(ctx, nil, d.followers(name, now))
	d.queue = append(d.queue, taken...)
	return err
}

// Planned notes which plan a start at work carries out, before that is begun.
func (d *Desk) Planned(ctx context.Context, r starts.Row, plan int, now time.Time) (starts.Row, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	r.Plan, r.Moved = plan, now
	if _, _, err := d.book.Move(ctx, starts.AtWork, r); err != nil {
		return r, err
	}
	d.working[r.Job] = r
	return r, nil
}

// Job is a job as the desk knows it; nil for none.
func (d *Desk) Job(name string) *job.Job {
	d.mu.Lock()
	defer d.mu.Unlock()
	if e := d.jobs[name]; e != nil {
		return e.job
	}
	return nil
}

// AtWork are the starts at work.
func (d *Desk) AtWork() []starts.Row {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Collect(maps.Values(d.working))
}
