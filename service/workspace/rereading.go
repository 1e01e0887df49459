package workspace

import (
	"fmt"
	"os"
	"reflect"
	"slices"

	"lumtra/core/job"
	"lumtra/service/event"
)

// Reload reads the workspace and takes it as it is now: endpoints with other settings,
// or with another credential, are opened anew when they are next used. A workspace
// that is the same stays the same value.
func (s *Keeper) Reload() error {
	reading := s.readings.Add(1)
	now, err := s.cache.Load(s.opts.Workspace)
	if err != nil {
		return BadInput(err)
	}
	s.takeIn(reading, now, s.vaultPrint())
	return nil
}

// takeIn has what a reading found be in force, unless one that began later is already.
func (s *Keeper) takeIn(reading int64, now *job.Workspace, vault string) {
	s.mu.Lock()
	if reading < s.taken {
		s.mu.Unlock()
		return
	}
	was := s.Workspace()
	if s.LastGood.Load() {
		now.KeepBroken(was)
	}
	var others []string
	for name, e := range was.Endpoints {
		if other := now.Endpoints[name]; other == nil || !reflect.DeepEqual(*e, *other) {
			others = append(others, name)
		}
	}
	if vault != s.vault {
		for name, e := range now.Endpoints {
			if e.Kept() != "" {
				others = append(others, name)
			}
		}
	}
	s.taken, s.vault = reading, vault
	other := !sameWorkspace(was, now)
	if other {
		s.read.Store(now)
	}
	s.mu.Unlock()
	s.Forget(others...)
	if other {
		s.Events.Publish(event.Event{Kind: event.WorkspaceChanged})
	}
}

// Reread takes in what was changed outside, if anything was. What cannot be read is
// told as a mistake of the workspace; what was read before stays in force.
func (s *Keeper) Reread() {
	err := s.Reload()
	if err == nil {
		return
	}
	was := s.Workspace()
	for _, m := range was.Mistakes {
		if m.Error() == err.Error() {
			return
		}
	}
	with := *was
	with.Mistakes = append(append([]error(nil), was.Mistakes...), err)
	if s.read.CompareAndSwap(was, &with) {
		s.Events.Publish(event.Event{Kind: event.WorkspaceChanged})
	}
}

// sameWorkspace compares what two readings found. Mistakes are compared by what they
// say.
func sameWorkspace(a, b *job.Workspace) bool {
	if len(a.Mistakes) != len(b.Mistakes) {
		return false
	}
	for i := range a.Mistakes {
		if a.Mistakes[i].Error() != b.Mistakes[i].Error() {
			return false
		}
	}
	// Of ten thousand jobs almost all are the same values.
	same := func(x, y *job.Job) bool { return x == y || reflect.DeepEqual(x, y) }
	if !slices.EqualFunc(a.Jobs, b.Jobs, same) || !slices.EqualFunc(a.Templates, b.Templates, same) {
		return false
	}
	x, y := *a, *b
	x.Mistakes, x.Jobs, x.Templates = nil, nil, nil
	y.Mistakes, y.Jobs, y.Templates = nil, nil, nil
	return reflect.DeepEqual(x, y)
}

// vaultPrint changes when the kept credentials do, whoever changes them.
func (s *Keeper) vaultPrint() string {
	info, err := os.Stat(s.Dir.Path("secrets", "credentials.json"))
	if err != nil {
		return ""
	}
	return fmt.Sprint(info.Size(), info.ModTime().UnixNano())
}
