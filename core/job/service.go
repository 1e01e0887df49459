package job

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"

	"lumtra/core/notify"
)

// serviceFile is the file of a workspace that says how its background service goes.
const serviceFile = "service.toml"

// ServiceSettings are how the background service of a workspace goes.
type ServiceSettings struct {
	// Runs is how many starts may be at work at once; 0 is [UsualRuns].
	Runs int `toml:"runs,omitempty"`
	// Notify are those who are told what happened, by name.
	Notify map[string]*notify.Settings `toml:"notify,omitempty"`
}

// UsualRuns is how many starts are at work at once where nothing is set.
const UsualRuns = 4

// Most is how many starts may be at work at once.
func (s *ServiceSettings) Most() int {
	if s == nil || s.Runs == 0 {
		return UsualRuns
	}
	return s.Runs
}

// loadService reads service.toml; a file that is not there says nothing.
func loadService(path string) (*ServiceSettings, error) {
	s := &ServiceSettings{}
	if _, err := os.Lstat(path); errors.Is(err, os.ErrNotExist) {
		return s, nil
	}
	d, err := readDocument(path, path)
	if err != nil {
		return s, err
	}
	if err := d.decode(s); err != nil {
		return &ServiceSettings{}, err
	}
	if s.Runs < 0 || s.Runs > 1000 {
		return &ServiceSettings{}, d.wrong(fmt.Sprintf("runs is %d; it is between 1 and 1000", s.Runs), "runs")
	}
	for _, name := range slices.Sorted(maps.Keys(s.Notify)) {
		n := s.Notify[name]
		n.Name = name
		if !names.MatchString(name) {
			return &ServiceSettings{}, d.wrong(fmt.Sprintf("notify %q: %s", name, nameRule), "notify", name)
		}
		if setting, what := n.Check(); what != "" {
			return &ServiceSettings{}, d.wrong(fmt.Sprintf("notify %s: %s", name, what), "notify", name, setting)
		}
	}
	return s, nil
}
