package service

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"

	"lumtra/core/job"
)

// reload reads the workspace and takes it as it is now: endpoints with other settings,
// or with another credential, are opened anew when they are next used. A workspace
// that is the same stays the same value.
func (s *Service) reload() error {
	s.reading.Lock()
	defer s.reading.Unlock()
	now, err := job.LoadWorkspace(s.opts.Workspace)
	if err != nil {
		return badInput(err)
	}
	was := s.Workspace()
	var others []string
	for name, e := range was.Endpoints {
		if other := now.Endpoints[name]; other == nil || !reflect.DeepEqual(*e, *other) {
			others = append(others, name)
		}
	}
	vault := s.vaultPrint()
	if vault != s.vault {
		for name, e := range now.Endpoints {
			if e.Kept() != "" {
				others = append(others, name)
			}
		}
	}
	s.vault = vault
	s.forget(others...)
	if !sameWorkspace(was, now) {
		s.workspace.Store(now)
	}
	return nil
}

// Reread takes in what was changed outside, if anything was. What cannot be read is
// told as a mistake of the workspace; what was read before stays in force.
func (s *Service) Reread() {
	err := s.reload()
	if err == nil {
		return
	}
	s.reading.Lock()
	defer s.reading.Unlock()
	was := s.Workspace()
	for _, m := range was.Mistakes {
		if m.Error() == err.Error() {
			return
		}
	}
	with := *was
	with.Mistakes = append(append([]error(nil), was.Mistakes...), err)
	s.workspace.Store(&with)
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
	x, y := *a, *b
	x.Mistakes, y.Mistakes = nil, nil
	return reflect.DeepEqual(x, y)
}

// vaultPrint changes when the kept credentials do, whoever changes them.
func (s *Service) vaultPrint() string {
	info, err := os.Stat(filepath.Join(s.opts.State, "secrets", "credentials.json"))
	if err != nil {
		return ""
	}
	return fmt.Sprint(info.Size(), info.ModTime().UnixNano())
}
