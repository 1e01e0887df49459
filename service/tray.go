package service

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/place/gather"
)

// trayEndpoint is what the gathered side of a drop is called. No endpoint can
// have this name, as the file of endpoints is told.
const trayEndpoint = "tray"

// dropPrefix starts the names of the jobs that drops make.
const dropPrefix = "tray-"

// Tray is what was put into the tray, in that order.
func (s *Service) Tray() ([]At, error) {
	raw, err := os.ReadFile(s.trayPath())
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	var items []At
	if err == nil {
		err = json.Unmarshal(raw, &items)
	}
	if err != nil {
		return nil, fmt.Errorf("the tray: %w", err)
	}
	return items, nil
}

func (s *Service) trayPath() string { return filepath.Join(s.opts.State, "tray.json") }

// SetTray replaces what is in the tray.
func (s *Service) SetTray(items []At) error {
	raw, err := json.MarshalIndent(items, "", "  ")
	if err == nil {
		err = writeWhole(s.trayPath(), raw)
	}
	if err != nil {
		return fmt.Errorf("the tray: %w", err)
	}
	return nil
}

// Toggle puts things into the tray, or takes them out if they all are in it. A
// thing that lies in a folder of the tray is in it already.
func (s *Service) Toggle(picks []At) error {
	items, err := s.Tray()
	if err != nil {
		return err
	}
	var fresh []At
	for _, a := range picks {
		if s.atTop(a) {
			return badInput(errors.New("an endpoint does not go into the tray: put its buckets there"))
		}
		if !slices.Contains(items, a) {
			fresh = append(fresh, a)
		}
	}
	if len(fresh) == 0 {
		return s.SetTray(slices.DeleteFunc(items, func(a At) bool { return slices.Contains(picks, a) }))
	}
	return s.SetTray(append(items, fresh...))
}

// drop is a tray that was dropped: what a job is to others.
type drop struct {
	Items  []At `json:"items"`
	Target At   `json:"target"`
}

// Drop makes a job of the tray and the folder it is dropped on, and returns the
// job's name. The tray is empty then; the job stays, to be planned and run as
// any.
func (s *Service) Drop(to At) (string, error) {
	items, err := s.Tray()
	if err != nil {
		return "", err
	}
	e := s.Workspace().Endpoints[to.Endpoint]
	switch {
	case len(items) == 0:
		return "", badInput(errors.New("the tray is empty: t puts things into it"))
	case e == nil || e.Kind == job.KindList:
		return "", badInput(errors.New("nothing can be written there"))
	case s.atTop(to):
		return "", badInput(errors.New("drop it on a bucket, or on a folder in one"))
	case to.Key != "" && !strings.HasSuffix(to.Key, "/"):
		return "", badInput(errors.New("drop it on a folder"))
	}
	if _, path := job.SplitPlace(to.text()); path+"/" != strings.TrimPrefix(to.Bucket+"/"+to.Key, "/") && to.Bucket+to.Key != "" && path != to.Bucket {
		return "", badInput(errors.New("plans cannot name a folder whose name starts or ends with an empty part"))
	}
	for _, a := range items {
		if a.Endpoint == to.Endpoint && a.Bucket == to.Bucket && object.Parent(a.Key) == to.Key {
			return "", badInput(fmt.Errorf("%s lies there already", a))
		}
		if a.Endpoint == to.Endpoint && a.Bucket == to.Bucket && a.Pick().Covers(to.Key) {
			return "", badInput(fmt.Errorf("%s would land inside itself", a))
		}
	}
	dir := filepath.Join(s.opts.State, "drops")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", fmt.Errorf("the tray: %w", err)
	}
	name := ""
	for n := 1; ; n++ {
		name = dropPrefix + strconv.Itoa(n)
		if _, err := os.Stat(filepath.Join(dir, name+".json")); errors.Is(err, os.ErrNotExist) {
			break
		}
	}
	raw, err := json.MarshalIndent(drop{items, to}, "", "  ")
	if err == nil {
		err = writeWhole(filepath.Join(dir, name+".json"), raw)
	}
	if err != nil {
		return "", fmt.Errorf("the tray: %w", err)
	}
	return name, s.SetTray(nil)
}

// text is a as jobs write it.
func (a At) text() string {
	return strings.TrimRight(strings.Join(slices.DeleteFunc([]string{a.Endpoint, a.Bucket, a.Key}, func(s string) bool { return s == "" }), "/"), "/")
}

// drop reads the drop of a job's name; nil for jobs that are none.
func (s *Service) drop(name string) (*drop, error) {
	number, ok := strings.CutPrefix(name, dropPrefix)
	if _, err := strconv.Atoi(number); !ok || err != nil {
		return nil, nil
	}
	raw, err := os.ReadFile(filepath.Join(s.opts.State, "drops", name+".json"))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	d := &drop{}
	if err == nil {
		err = json.Unmarshal(raw, d)
	}
	if err != nil {
		return nil, fmt.Errorf("the drop %s: %w", name, err)
	}
	return d, nil
}

// asJob is the drop as a job.
func (d *drop) asJob(name string) *job.Job {
	if d == nil {
		return nil
	}
	j := job.New(name)
	j.Source, j.Target = trayEndpoint+"/"+name, d.Target.text()
	return j
}

// Drops are the jobs that dropped trays made, newest first.
func (s *Service) Drops() []*job.Job {
	files, err := os.ReadDir(filepath.Join(s.opts.State, "drops"))
	if err != nil {
		return nil
	}
	var jobs []*job.Job
	for _, f := range files {
		name := strings.TrimSuffix(f.Name(), ".json")
		if d, err := s.drop(name); d != nil && err == nil {
			jobs = append(jobs, d.asJob(name))
		}
	}
	slices.SortFunc(jobs, func(a, b *job.Job) int { return len(b.Name)*100 - len(a.Name)*100 + strings.Compare(b.Name, a.Name) })
	return jobs
}

// gathered opens the source of a drop.
func (s *Service) gathered(name string) (*gather.Place, error) {
	d, err := s.drop(name)
	if err != nil {
		return nil, err
	}
	if d == nil {
		return nil, badInput(fmt.Errorf("there is no dropped tray %q", name))
	}
	keys := make([]string, len(d.Items))
	for i, a := range d.Items {
		if keys[i] = a.Key; a.Key == "" { // a whole bucket or endpoint
			keys[i] = cmp.Or(a.Bucket, a.Endpoint) + "/"
		}
	}
	names := gather.Names(keys)
	var items []gather.Item
	for i, a := range d.Items {
		from, err := s.Root(a)
		if err != nil {
			return nil, err
		}
		items = append(items, gather.Item{From: from, Key: a.Key, As: names[i]})
	}
	return gather.New(trayEndpoint+"/"+name, items), nil
}
