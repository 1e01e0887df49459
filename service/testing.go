package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"lumtra/core/job"
	"lumtra/core/place"
	"lumtra/core/probe"
	"lumtra/core/secret"
)

// TestEndpoint tests an endpoint of the workspace and keeps what was found.
func (s *Service) TestEndpoint(ctx context.Context, name string, opts probe.Options) (*probe.Report, error) {
	end, err := s.endpoint(name)
	if err != nil {
		return nil, err
	}
	if opts.Bucket == "" {
		opts.Bucket = s.Workspace().Endpoints[name].Bucket
	}
	if opts.Write && opts.Bucket != "" {
		prefix, done, err := s.testing(ctx, name, opts.Bucket)
		if err != nil {
			return nil, err
		}
		defer done()
		opts.Prefix = prefix
	}
	r := probe.Run(ctx, end, opts)
	if ctx.Err() != nil {
		return r, ctx.Err()
	}
	s.log.Info("endpoint tested", "endpoint", name, "refused", r.Refused(), "latency", r.Latency)
	return r, s.KeepReport(name, r)
}

// TryEndpoint tests settings that are not in the workspace yet.
func (s *Service) TryEndpoint(ctx context.Context, e job.Endpoint, given *secret.Credential, opts probe.Options) (*probe.Report, error) {
	if e.Name == "" {
		e.Name = "new"
	}
	end, err := s.tryOut(ctx, e, given)
	if err != nil {
		return nil, err
	}
	defer end.close()
	if opts.Bucket == "" {
		opts.Bucket = e.Bucket
	}
	return probe.Run(ctx, end.Endpoint, opts), nil
}

// KeepReport keeps what a test of an endpoint found, for plans.
func (s *Service) KeepReport(name string, r *probe.Report) error {
	if r.Facts != nil {
		if err := s.adopt(name, *r.Facts); err != nil {
			return err
		}
	}
	raw, err := json.MarshalIndent(r, "", "  ")
	if err == nil {
		err = os.MkdirAll(filepath.Dir(s.reportPath(name)), 0o700)
	}
	if err == nil {
		err = writeWhole(s.reportPath(name), raw)
	}
	if err != nil {
		return fmt.Errorf("keeping the endpoint test: %w", err)
	}
	return nil
}

// adopt has what a test found take the place of what was known of a store.
func (s *Service) adopt(name string, f place.Facts) error {
	e := s.Workspace().Endpoints[name]
	if e == nil {
		return nil
	}
	s.opening.Lock()
	if known := s.knowns[name]; known != nil {
		known.Replace(f)
	}
	s.opening.Unlock()
	if err := s.keepFacts(name, keptFacts{Kind: e.Kind, Address: e.Address + e.StandIn, Facts: f}); err != nil {
		return fmt.Errorf("keeping what a test found: %w", err)
	}
	return nil
}

// writeWhole replaces a small file of the state folder whole.
func writeWhole(path string, data []byte) error {
	temp := path + ".new"
	if err := os.WriteFile(temp, data, 0o600); err != nil {
		return err
	}
	return os.Rename(temp, path)
}

// Report is the last test of an endpoint, nil when there was none.
func (s *Service) Report(name string) *probe.Report {
	raw, err := os.ReadFile(s.reportPath(name))
	if err != nil {
		return nil
	}
	r := &probe.Report{}
	if json.Unmarshal(raw, r) != nil {
		return nil
	}
	return r
}

// found is what a place can do: what its protocol promises, with what a test
// found in its stead.
func (s *Service) found(at string, p place.Place) place.Abilities {
	a := p.Abilities()
	name, _ := job.SplitPlace(at)
	if r := s.Report(name); r != nil {
		a = r.Apply(a)
	}
	return a
}

// soon is how long before its end a credential is worth a warning.
const soon = 7 * 24 * time.Hour

// Expiring tells of credentials that run out soon or have: by endpoint.
func (s *Service) Expiring(now time.Time) map[string]time.Time {
	all, err := s.secrets.List()
	if err != nil {
		return nil
	}
	ends := map[string]time.Time{}
	for _, f := range all {
		if !f.Until.IsZero() && f.Until.Before(now.Add(soon)) {
			for _, user := range s.usersOf(f.Label) {
				ends[user] = f.Until
			}
		}
	}
	return ends
}

// planNotes is what endpoint tests and credentials say that bears on a plan.
func (s *Service) planNotes(j *job.Job) []string {
	var notes []string
	now := time.Now()
	ends := s.Expiring(now)
	for _, at := range []string{j.Source, j.Target} {
		name, path := job.SplitPlace(at)
		if until, ok := ends[name]; ok && until.Before(now) {
			notes = append(notes, fmt.Sprintf("the credential of %s ran out %s", name, until.Local().Format("2006-01-02 15:04")))
		} else if ok {
			notes = append(notes, fmt.Sprintf("the credential of %s runs out %s: a run that takes longer is refused half-way", name, until.Local().Format("2006-01-02 15:04")))
		}
		r := s.Report(name)
		if r == nil {
			continue
		}
		if r.Skew.Abs() >= time.Second {
			notes = append(notes, fmt.Sprintf("the clock of %s was %s off when it was tested; times are judged with that in mind", name, r.Skew.Abs()))
		}
		if at != j.Target {
			continue
		}
		if bucket, _, _ := strings.Cut(path, "/"); r.Bucket == bucket && r.Versioning == place.VersioningOff {
			notes = append(notes, fmt.Sprintf("%s/%s keeps no versions: what is changed there cannot be brought back", name, bucket))
		}
	}
	return notes
}

// errNoBuckets is for endpoints without any.
var errNoBuckets = badInput(errors.New("this endpoint has no buckets"))
