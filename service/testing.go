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
	if old := s.Report(name); old == nil && r.Verifies != "" || old != nil && old.Verifies != r.Verifies {
		s.forget(name) // so that it is opened anew, with the check that was found
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

// whole is a place that takes objects in one piece only.
type whole struct{ place.Place }

// asFound is the target as a test found it: one that refuses parts is sent
// whole objects, whatever its protocol promises.
func (s *Service) asFound(at string, p place.Place) place.Place {
	name, _ := job.SplitPlace(at)
	if r := s.Report(name); r != nil && r.Wrote && !r.Parts {
		return whole{p}
	}
	return p
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
		if !r.VerifiesSums && r.Wrote {
			notes = append(notes, name+" does not verify checksums: prove by read-back")
		}
		if bucket, _, _ := strings.Cut(path, "/"); r.Bucket == bucket && r.Versioning == place.VersioningOff {
			notes = append(notes, fmt.Sprintf("%s/%s keeps no versions: what is changed there cannot be brought back", name, bucket))
		}
	}
	return notes
}

// errNoBuckets is for endpoints without any.
var errNoBuckets = badInput(errors.New("this endpoint has no buckets"))
