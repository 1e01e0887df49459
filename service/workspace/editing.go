package workspace

import (
	"context"
	"errors"
	"fmt"
	"os"
	"reflect"
	"slices"

	"lumtra/core/job"
	"lumtra/core/place/kind"
	"lumtra/core/place/kinds"
	"lumtra/core/secret"
)

// SaveEndpoint writes an endpoint into the workspace; was is the name it had,
// "" for a new one. given, when not nil, is kept under its label, and the
// endpoint signs with it from then on.
func (s *Keeper) SaveEndpoint(was string, e kind.Settings, given *secret.Credential) error {
	if was != "" && was != e.Name {
		if users := s.jobsWith(was); len(users) > 0 {
			return BadInput(fmt.Errorf("the job %s names the endpoint %q: change it there first", users[0], was))
		}
	}
	if given != nil {
		e.Credential = kind.KeptCredential + given.Label
		e.AccessKey, e.Account, e.SecretFrom, e.TokenFrom, e.SignatureFrom = "", "", "", "", ""
	}
	if setting, what := kinds.Check(&e); what != "" {
		return BadInput(fmt.Errorf("%s: %s", setting, what))
	}
	if given != nil {
		if err := s.KeepCredential(*given); err != nil {
			return err
		}
	} else if label := e.Kept(); label != "" {
		all, err := s.secrets.List()
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(all, func(f secret.Kept) bool { return f.Label == label }) {
			return BadInput(fmt.Errorf("%w: %q", secret.ErrNoCredential, label))
		}
	}
	if err := s.Confirm(s.uses(&e)...); err != nil { // a person has just given them
		return err
	}
	if err := job.SaveEndpoint(s.opts.Workspace, was, &e); err != nil {
		return BadInput(err)
	}
	if was != "" && was != e.Name {
		for from, to := range map[string]string{s.reportPath(was): s.reportPath(e.Name),
			s.factsPath(was): s.factsPath(e.Name)} {
			if err := os.Rename(from, to); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
		}
	}
	s.Log.Info("endpoint saved", "endpoint", e.Name, "was", was)
	s.Forget(was, e.Name)
	return s.Reload()
}

func (s *Keeper) jobsWith(endpoint string) []string {
	var users []string
	for _, j := range s.Workspace().Jobs {
		for _, at := range []string{j.Source, j.Target} {
			if name, _ := job.SplitPlace(at); name == endpoint {
				users = append(users, j.Name)
			}
		}
	}
	return users
}

// RemoveEndpoint takes an endpoint that no job names out of the workspace. What
// lies there stays, and so does its credential.
func (s *Keeper) RemoveEndpoint(name string) error {
	if users := s.jobsWith(name); len(users) > 0 {
		return BadInput(fmt.Errorf("the job %s names it", users[0]))
	}
	if err := job.RemoveEndpoint(s.opts.Workspace, name); err != nil {
		return BadInput(err)
	}
	s.Forget(name)
	if err := s.forgetFacts(name); err != nil {
		return err
	}
	err := os.Remove(s.reportPath(name))
	if errors.Is(err, os.ErrNotExist) {
		err = nil
	}
	return errors.Join(err, s.Reload())
}

// Forget has endpoints opened anew when they are next used. What is under way
// with the old one goes on: it is closed when the service is.
func (s *Keeper) Forget(names ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, name := range names {
		if e := s.endpoints[name]; e != nil {
			delete(s.endpoints, name)
			s.former = append(s.former, e)
		}
	}
}

// tryOut opens an endpoint that need not be in the workspace.
func (s *Keeper) tryOut(ctx context.Context, e kind.Settings, given *secret.Credential) (*opened, error) {
	if setting, what := kinds.Check(&e); what != "" && given == nil {
		return nil, BadInput(fmt.Errorf("%s: %s", setting, what))
	}
	if e.StandIn != "" { // one at a time may have it open
		s.forgetNow(e.Name)
	}
	if saved := s.Workspace().Endpoints[e.Name]; given == nil && (saved == nil || !reflect.DeepEqual(*saved, e)) {
		if err := s.Confirm(s.uses(&e)...); err != nil { // settings that a person types
			return nil, err
		}
	}
	return s.open(ctx, &e, given)
}

// forgetNow closes an endpoint whose stand-in is to be started otherwise.
func (s *Keeper) forgetNow(name string) {
	s.mu.Lock()
	slot := s.endpoints[name]
	delete(s.endpoints, name)
	s.mu.Unlock()
	if slot == nil {
		return
	}
	if e, open := slot.take(); open {
		if err := e.close(); err != nil {
			s.Log.Warn("closing an endpoint", "endpoint", name, "error", err)
		}
	}
}

func (s *Keeper) reportPath(name string) string {
	return s.Dir.Path("tests", name+".json")
}
