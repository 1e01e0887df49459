package workspace

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/starts"
)

// ParseJob reads a job from text as if it stood in the workspace. With a
// mistake, the job is what could be read.
func (s *Keeper) ParseJob(name, text string) (*job.Job, error) {
	return job.Parse(s.Workspace().Dir, name, text, s.Workspace().Endpoints)
}

// SaveJob writes a job's text. was is the name it had, "" for a new job; with
// another name, its plans, proofs and history go along.
func (s *Keeper) SaveJob(was, name, text string) error {
	if was != "" && was != name {
		if err := s.idle(was); err != nil {
			return err
		}
	}
	if err := notADrop(name); err != nil {
		return err
	}
	if err := s.Workspace().SaveJob(was, name, text); err != nil {
		return BadInput(err)
	}
	if was != "" && was != name {
		if err := s.renameState(was, name); err != nil {
			return err
		}
	}
	return s.Reload()
}

// notADrop refuses names that are those of drops.
func notADrop(name string) error {
	if isDrop(name) {
		return BadInput(fmt.Errorf("names such as %q are those of dropped trays and of commands without a job", name))
	}
	return nil
}

// idle refuses while a job is running.
func (s *Keeper) idle(name string) error {
	unlock, err := s.Dir.LockRun(name)
	if err != nil {
		return err
	}
	return unlock()
}

// renameState moves what is kept of a job to its new name.
func (s *Keeper) renameState(was, name string) error {
	if err := s.Dir.Rename(was, name); err != nil {
		return err
	}
	db, err := s.History()
	if err == nil {
		err = db.Rename(context.Background(), was, name)
	}
	if err != nil {
		return err
	}
	path := s.Dir.Path(starts.FileName)
	if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	book, err := starts.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(book.Rename(context.Background(), was, name), book.Close())
}

// RemoveJob removes a job. Its plans and proofs are kept aside in the state
// folder, its runs in the history.
func (s *Keeper) RemoveJob(name string) error {
	if err := s.idle(name); err != nil {
		return err
	}
	if err := s.Workspace().RemoveJob(name); err != nil {
		return BadInput(err)
	}
	if err := s.Dir.PutAway(name); err != nil {
		return err
	}
	return s.Reload()
}

// CheckJobName tells what is wrong with a name for a new job.
func (s *Keeper) CheckJobName(name string) error {
	if err := notADrop(name); err != nil {
		return err
	}
	if err := s.Workspace().CheckName(name); err != nil {
		return BadInput(err)
	}
	return nil
}

// Folders lists what a place can go on with: the endpoints for "", the buckets
// of an endpoint, else the folders below "endpoint/path/". At most as many as
// asked for.
func (s *Keeper) Folders(ctx context.Context, parent string, most int) ([]string, error) {
	if parent == "" {
		return s.EndpointNames(), nil
	}
	name, path := job.SplitPlace(parent)
	e, err := s.Endpoint(name)
	if err != nil {
		return nil, err
	}
	var names []string
	if b := place.EndpointCan(e).Buckets; b != nil && path == "" {
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
