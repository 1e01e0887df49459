package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/place"
)

// ParseJob reads a job from text as if it stood in the workspace. With a
// mistake, the job is what could be read.
func (s *Service) ParseJob(name, text string) (*job.Job, error) {
	return job.Parse(name, text, s.Workspace().Endpoints)
}

// SaveJob writes a job's text. was is the name it had, "" for a new job; with
// another name, its plans, proofs and history go along.
func (s *Service) SaveJob(was, name, text string) error {
	if was != "" && was != name {
		if err := s.idle(was); err != nil {
			return err
		}
	}
	if strings.HasPrefix(name, dropPrefix) {
		return badInput(fmt.Errorf("names that start with %q are those of dropped trays", dropPrefix))
	}
	if err := s.Workspace().SaveJob(was, name, text); err != nil {
		return badInput(err)
	}
	if was != "" && was != name {
		if err := s.renameState(was, name); err != nil {
			return err
		}
	}
	return s.reload()
}

// KeepJob writes a job's text even with mistakes in it, as an editor does.
func (s *Service) KeepJob(name, text string) error {
	if err := s.Workspace().KeepJob(name, name, text); err != nil {
		return badInput(err)
	}
	return s.reload()
}

// idle refuses while a job is running.
func (s *Service) idle(name string) error {
	unlock, err := s.lock(name, "lock", ErrBusy)
	if err != nil {
		return err
	}
	return unlock()
}

// renameState moves what is kept of a job to its new name. What a job of that
// name, long gone, left behind is put away first.
func (s *Service) renameState(was, name string) error {
	dir := filepath.Join(s.opts.State, "jobs")
	if err := s.putAway(name); err != nil {
		return err
	}
	if err := os.Rename(filepath.Join(dir, was), filepath.Join(dir, name)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	db, err := s.openHistory()
	if err != nil {
		return err
	}
	return db.Rename(context.Background(), was, name)
}

// putAway gives what is kept of a job that is no longer there another name, so
// that a new job of the name does not inherit it.
func (s *Service) putAway(name string) error {
	dir := filepath.Join(s.opts.State, "jobs", name)
	if _, err := os.Lstat(dir); err != nil {
		return nil
	}
	for n := 1; ; n++ {
		to := fmt.Sprintf("%s.removed-%d", dir, n)
		if _, err := os.Lstat(to); errors.Is(err, os.ErrNotExist) {
			return os.Rename(dir, to)
		}
	}
}

// RemoveJob removes a job. Its plans and proofs are kept aside in the state
// folder, its runs in the history.
func (s *Service) RemoveJob(name string) error {
	if err := s.idle(name); err != nil {
		return err
	}
	if err := s.Workspace().RemoveJob(name); err != nil {
		return badInput(err)
	}
	if err := s.putAway(name); err != nil {
		return err
	}
	return s.reload()
}

// CheckJobName tells what is wrong with a name for a new job.
func (s *Service) CheckJobName(name string) error {
	if strings.HasPrefix(name, dropPrefix) {
		return badInput(fmt.Errorf("names that start with %q are those of dropped trays", dropPrefix))
	}
	if err := s.Workspace().CheckName(name); err != nil {
		return badInput(err)
	}
	return nil
}

// Folders lists what a place can go on with: the endpoints for "", the buckets
// of an endpoint, else the folders below "endpoint/path/". At most as many as
// asked for.
func (s *Service) Folders(ctx context.Context, parent string, most int) ([]string, error) {
	if parent == "" {
		return s.EndpointNames(), nil
	}
	name, path := job.SplitPlace(parent)
	e, err := s.endpoint(name)
	if err != nil {
		return nil, err
	}
	var names []string
	if b, ok := e.(place.Buckets); ok && path == "" {
		buckets, err := b.Buckets(ctx)
		for _, x := range buckets {
			names = append(names, x.Name)
		}
		return names, err
	}
	p, err := e.Open(path)
	if err != nil {
		return nil, err
	}
	for x, err := range p.List(ctx, "", place.ListOptions{Shallow: true}) {
		if err != nil {
			return names, err
		}
		if x.Kind == object.Prefix {
			names = append(names, strings.TrimSuffix(x.Key, "/"))
		}
		if len(names) == most {
			break
		}
	}
	return names, nil
}
