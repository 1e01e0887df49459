package workspace

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"lumtra/core/atomicfile"
	"lumtra/core/job"
	"lumtra/core/pack"
	"lumtra/core/place/gather"
	"lumtra/core/rule"
)

// TrayEndpoint is what the gathered side of a drop is called. No endpoint can
// have this name, as the file of endpoints is told.
const TrayEndpoint = "tray"

// What the names of the jobs that drops make start with.
const (
	FromTray  = "tray-" // a tray that was dropped
	FromShell = "once-" // a command that brings things somewhere without a job
)

// Drop is what a job is to others: things from anywhere, and where they are brought.
type Drop struct {
	Items []At `json:"items"`
	// Names are what the items are called at the target, one each, those of folders with "/"
	// at the end; nil for the names they have.
	Names  []string `json:"names,omitempty"`
	Target At       `json:"target"`
	// Move removes each thing where it lay, once its copy is proven.
	Move bool `json:"move,omitempty"`
	// Different is what happens to another one at the target, "" for what jobs do by default.
	Different rule.WhenDifferent `json:"different,omitempty"`
	// Only are patterns of the keys, as they are at the target, of what is taken; nil for all.
	Only []string `json:"only,omitempty"`
	// Class and Metadata are what objects get at the target.
	Class    string            `json:"class,omitempty"`
	Metadata map[string]string `json:"metadata,omitempty"`
	// Packs divide what is dropped into several packs.
	Packs rule.Packs `json:"packs,omitzero"`
}

// keptOnce is how many drops of commands are kept with their plans; older ones go. The
// history keeps what became of them.
const keptOnce = 200

// KeepDrop keeps a drop under a name that starts with from and was not used before, which it
// gives.
func (s *Keeper) KeepDrop(from string, d *Drop) (name string, err error) {
	if file, _, in := pack.Split(d.Target.Text()); in && pack.Mistaken(file) != "" {
		return "", BadInput(errors.New(pack.Mistaken(file)))
	}
	files, err := os.ReadDir(s.Dir.Path("drops"))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	var numbers []int
	for _, f := range files {
		text, ok := strings.CutPrefix(strings.TrimSuffix(f.Name(), ".json"), from)
		if n, err := strconv.Atoi(text); ok && err == nil {
			numbers = append(numbers, n)
		}
	}
	slices.Sort(numbers)
	next := 1
	if len(numbers) > 0 {
		next = numbers[len(numbers)-1] + 1
	}
	for ; from == FromShell && len(numbers) > keptOnce; numbers = numbers[1:] {
		s.removeDrop(from + strconv.Itoa(numbers[0]))
	}
	for ; ; next++ { // another process may be as far
		name = from + strconv.Itoa(next)
		f, err := os.OpenFile(s.dropPath(name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if errors.Is(err, os.ErrNotExist) {
			if err = os.MkdirAll(s.Dir.Path("drops"), 0o700); err == nil {
				next--
				continue
			}
		}
		if errors.Is(err, os.ErrExist) {
			continue
		}
		if err == nil {
			err = errors.Join(f.Close(), atomicfile.WriteJSON(s.dropPath(name), d))
		}
		return name, err
	}
}

// removeDrop removes a drop with its plans, unless it is being run.
func (s *Keeper) removeDrop(name string) {
	unlock, err := s.Dir.LockRun(name)
	if err != nil {
		return
	}
	defer unlock()
	if err := errors.Join(os.RemoveAll(s.Dir.Path("jobs", name)), os.Remove(s.dropPath(name))); err != nil {
		s.Log.Warn("an old drop could not be deleted", "name", name, "error", err)
	}
}

func (s *Keeper) dropPath(name string) string { return s.Dir.Path("drops", name+".json") }

// names are what the items are called at the target.
func (d *Drop) names() []string {
	if len(d.Names) == len(d.Items) {
		return d.Names
	}
	keys := make([]string, len(d.Items))
	for i, a := range d.Items {
		if keys[i] = a.Key; a.Key == "" { // a whole bucket or endpoint
			keys[i] = cmp.Or(a.Bucket, a.Endpoint) + "/"
			if pack.Leads(a.Bucket) {
				keys[i] = pack.As(a.Bucket, "") + "/"
			}
		}
	}
	return gather.Names(keys)
}

// Lands is where each item lands.
func (d *Drop) Lands() []At {
	lands := make([]At, len(d.Items))
	for i, name := range d.names() {
		lands[i] = d.Target
		lands[i].Key += name
	}
	return lands
}

// isDrop tells names of drops; no job of a workspace can be made with one.
func isDrop(name string) bool {
	for _, from := range []string{FromTray, FromShell} {
		if number, ok := strings.CutPrefix(name, from); ok {
			_, err := strconv.Atoi(number)
			return err == nil
		}
	}
	return false
}

// dropped reads the drop of a job's name; nil for jobs that are none.
func (s *Keeper) dropped(name string) (*Drop, error) {
	if !isDrop(name) {
		return nil, nil
	}
	raw, err := os.ReadFile(s.dropPath(name))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	d := &Drop{}
	if err == nil {
		err = json.Unmarshal(raw, d)
	}
	if err != nil {
		return nil, fmt.Errorf("the drop %s: %w", name, err)
	}
	return d, nil
}

// asJob is the drop as a job.
func (d *Drop) asJob(name string) *job.Job {
	if d == nil {
		return nil
	}
	j := job.New(name)
	j.Source, j.Target = TrayEndpoint+"/"+name, d.Target.Text()
	j.WhenDifferent = cmp.Or(d.Different, j.WhenDifferent)
	j.Select.Include = d.Only
	j.As.Class, j.As.Metadata, j.Packs = d.Class, d.Metadata, d.Packs
	if d.Move {
		j.Afterwards = rule.DeleteSource
	}
	return j
}

// Drops are the jobs that dropped trays and commands made, newest first.
func (s *Keeper) Drops() []*job.Job {
	files, err := os.ReadDir(s.Dir.Path("drops"))
	if err != nil {
		return nil
	}
	made := map[string]time.Time{}
	var jobs []*job.Job
	for _, f := range files {
		name := strings.TrimSuffix(f.Name(), ".json")
		info, gone := f.Info()
		if d, err := s.dropped(name); d != nil && err == nil && gone == nil {
			made[name] = info.ModTime()
			jobs = append(jobs, d.asJob(name))
		}
	}
	slices.SortFunc(jobs, func(a, b *job.Job) int { return made[b.Name].Compare(made[a.Name]) })
	return jobs
}

// gathered opens the source of a drop.
func (s *Keeper) gathered(name string) (*gather.Place, error) {
	d, err := s.dropped(name)
	if err != nil {
		return nil, err
	}
	if d == nil {
		return nil, BadInput(fmt.Errorf("there is no dropped tray %q", name))
	}
	names := d.names()
	var items []gather.Item
	for i, a := range d.Items {
		from, err := s.Root(a)
		if err != nil {
			return nil, err
		}
		items = append(items, gather.Item{From: from, Key: a.Key, As: names[i]})
	}
	return gather.New(TrayEndpoint+"/"+name, items), nil
}
