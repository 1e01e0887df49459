package workspace

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"lumtra/core/atomicfile"
	"lumtra/core/job"
	"lumtra/core/place"
	"lumtra/core/place/kind"
	"lumtra/core/probe"
	"lumtra/core/secret"
	"lumtra/service/event"
)

// TestEndpoint tests an endpoint of the workspace and keeps what was found.
func (s *Keeper) TestEndpoint(ctx context.Context, name string, opts probe.Options) (*probe.Report, error) {
	end, err := s.Endpoint(name)
	if err != nil {
		return nil, err
	}
	if opts.Bucket == "" {
		opts.Bucket = s.Workspace().Endpoints[name].Bucket
	}
	if opts.Write && opts.Bucket != "" {
		prefix, done, err := s.Testing(ctx, name, opts.Bucket)
		if err != nil {
			return nil, err
		}
		clean := false
		defer func() { done(clean) }()
		opts.Prefix = prefix
		r := probe.Run(ctx, end, opts)
		clean = r.Clean
		return s.tested(ctx, name, r)
	}
	return s.tested(ctx, name, probe.Run(ctx, end, opts))
}

// tested keeps what a test found that came to its end.
func (s *Keeper) tested(ctx context.Context, name string, r *probe.Report) (*probe.Report, error) {
	if ctx.Err() != nil {
		return r, ctx.Err()
	}
	s.Log.Info("endpoint tested", "endpoint", name, "refused", r.Refused(), "latency", r.Latency)
	return r, s.KeepReport(name, r)
}

// TryEndpoint tests settings that are not in the workspace yet.
func (s *Keeper) TryEndpoint(ctx context.Context, e kind.Settings, given *secret.Credential,
	opts probe.Options) (*probe.Report, error) {
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
func (s *Keeper) KeepReport(name string, r *probe.Report) error {
	if r.Facts != nil {
		if err := s.adopt(name, *r.Facts); err != nil {
			return err
		}
	}
	if err := atomicfile.WriteJSON(s.reportPath(name), r); err != nil {
		return fmt.Errorf("keeping the endpoint test: %w", err)
	}
	s.Events.Publish(event.Event{Kind: event.EndpointTested, Endpoint: name})
	return nil
}

// adopt has what a test found take the place of what was known of a store.
func (s *Keeper) adopt(name string, f place.Facts) error {
	e := s.Workspace().Endpoints[name]
	if e == nil {
		return nil
	}
	s.mu.Lock()
	known := s.knowns[name]
	s.mu.Unlock()
	if known != nil {
		known.Replace(f)
	}
	if err := s.keepFacts(name, keptFacts{Kind: e.Kind, Address: e.Address + e.StandIn, Facts: f}); err != nil {
		return fmt.Errorf("keeping what a test found: %w", err)
	}
	return nil
}

// Report is the last test of an endpoint, nil when there was none.
func (s *Keeper) Report(name string) *probe.Report {
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

// Found is what a place can do: what its protocol promises, with what a test
// found in its stead.
func (s *Keeper) Found(at string, p place.Place) place.Abilities {
	a := place.Can(p).Abilities
	name, _ := job.SplitPlace(at)
	if r := s.Report(name); r != nil {
		a = r.Apply(a)
	}
	return a
}

// soon is how long before its end a credential is worth a warning.
const soon = 7 * 24 * time.Hour

// Expiring tells of credentials that run out soon or have: by endpoint.
func (s *Keeper) Expiring(now time.Time) map[string]time.Time {
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

// PlanNotes is what endpoint tests and credentials say that bears on a plan.
func (s *Keeper) PlanNotes(j *job.Job) []string {
	var notes []string
	now := s.Now()
	ends := s.Expiring(now)
	for _, at := range []string{j.Source, j.Target} {
		name, path := job.SplitPlace(at)
		if until, ok := ends[name]; ok && until.Before(now) {
			notes = append(notes, fmt.Sprintf("the credential of %s ran out %s", name,
				until.Local().Format("2006-01-02 15:04")))
		} else if ok {
			notes = append(notes,
				fmt.Sprintf("the credential of %s expires %s: a run that takes longer is refused half-way", name,
					until.Local().Format("2006-01-02 15:04")))
		}
		r := s.Report(name)
		if r == nil {
			continue
		}
		if r.Skew.Abs() >= time.Second {
			notes = append(notes,
				fmt.Sprintf("the clock of %s was %s off when it was tested; times are compared with that in mind", name,
					r.Skew.Abs()))
		}
		if at != j.Target {
			continue
		}
		if bucket, _, _ := strings.Cut(path, "/"); r.Bucket == bucket && r.Versioning == place.VersioningOff {
			notes = append(notes, fmt.Sprintf("%s/%s keeps no versions: what is changed there cannot be brought back",
				name, bucket))
		}
	}
	return notes
}

// ErrNoBuckets is for endpoints without any.
var ErrNoBuckets = BadInput(errors.New("this endpoint has no buckets"))
