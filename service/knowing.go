package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"time"

	"lumtra/core/job"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/probe"
	"lumtra/core/rule"
)

// keptFacts is what is known of an endpoint's store, as it is kept in the state
// folder: beside the tests, since runs learn too.
type keptFacts struct {
	// Kind and Address are the store's. Of another nothing is known.
	Kind    string      `json:"kind"`
	Address string      `json:"address"`
	Facts   place.Facts `json:"facts"`
}

func (s *Service) factsPath(name string) string {
	return strings.TrimSuffix(s.reportPath(name), ".json") + ".facts.json"
}

// knownOf is what is known of an endpoint's store. What is learned of it later is
// kept as it is learned.
func (s *Service) knownOf(e *job.Endpoint) *place.Known {
	kept := keptFacts{Kind: e.Kind, Address: e.Address + e.StandIn}
	if raw, err := os.ReadFile(s.factsPath(e.Name)); err == nil {
		var was keptFacts
		if json.Unmarshal(raw, &was) == nil && was.Kind == kept.Kind && was.Address == kept.Address {
			kept.Facts = was.Facts
		}
	}
	if is := e.ETagIsMD5; is != nil { // a person knows better
		answers := maps.Clone(kept.Facts.Answers)
		if answers == nil {
			answers = map[place.Ask]place.Answer{}
		}
		answers[place.MD5ETag] = map[bool]place.Answer{true: place.Works, false: place.Ignored}[*is]
		kept.Facts.Answers = answers
	}
	name := e.Name
	return place.NewKnown(kept.Facts, func(f place.Facts, what string) {
		s.log.Info("learned of a store", "endpoint", name, "what", what)
		if !strings.HasSuffix(what, string(place.Works)) {
			s.tellRuns(name, what)
		}
		kept.Facts = f
		if err := s.keepFacts(name, kept); err != nil {
			s.log.Warn("what was learned of a store could not be kept", "endpoint", name, "error", err)
		}
	})
}

func (s *Service) keepFacts(name string, kept keptFacts) error {
	raw, err := json.MarshalIndent(kept, "", "  ")
	if err == nil {
		err = os.MkdirAll(filepath.Dir(s.factsPath(name)), 0o700)
	}
	if err == nil {
		err = writeWhole(s.factsPath(name), raw)
	}
	return err
}

// tellRuns notes, with each run under way at an endpoint, what was learned of its
// store.
func (s *Service) tellRuns(name, what string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range s.runs {
		if r.at[name] {
			r.note(fmt.Sprintf("%s does not do all that its API says (%s), and is asked in another way from here on", name, what))
		}
	}
}

// ready tests, small and cheap, the endpoints that a job is about to write to and
// that were never tested, or too long ago. It tells in words what was done. What an
// endpoint forbids is not tried, and the run takes the careful ways.
func (s *Service) ready(ctx context.Context, j *job.Job, x *sides) (notes []string) {
	sides := []struct {
		at string
		p  place.Place
	}{{x.lands, x.target}}
	if j.Direction == rule.TwoWay || j.Afterwards != rule.KeepSource {
		sides = append(sides, struct {
			at string
			p  place.Place
		}{j.Source, x.source})
	}
	for _, side := range sides {
		name, path := job.SplitPlace(side.at)
		e := s.Workspace().Endpoints[name]
		if _, tries := side.p.(place.Examiner); !tries || e == nil {
			continue
		}
		s.clearTests(ctx, name)
		known := place.KnownOf(side.p)
		if f := known.Facts(); !f.Stale(time.Now()) {
			continue
		}
		if e.Test == job.TestNever {
			notes = append(notes, fmt.Sprintf("%s was never tested, and its settings forbid it: every write is looked at before and after", name))
			continue
		}
		if note := s.smallTest(ctx, name, path); note != "" {
			notes = append(notes, note)
		}
	}
	return notes
}

// smallTest is the test on the way to a run. That something is refused is for the
// run itself to tell.
func (s *Service) smallTest(ctx context.Context, name, path string) string {
	end, err := s.endpoint(name)
	if err != nil {
		return ""
	}
	prefix, done, err := s.testing(ctx, name, path)
	if err != nil {
		return ""
	}
	defer done()
	bucket, below, _ := strings.Cut(path, "/")
	began := time.Now()
	r := probe.Run(ctx, end, probe.Options{Small: true, Bucket: bucket, Path: below, Prefix: prefix, Write: true})
	if ctx.Err() != nil || r.Facts == nil {
		return ""
	}
	if err := s.KeepReport(name, r); err != nil {
		s.log.Warn("a test could not be kept", "endpoint", name, "error", err)
	}
	took := time.Since(began).Round(time.Millisecond)
	s.log.Info("endpoint tested before a run", "endpoint", name, "took", took)
	return fmt.Sprintf("%s was tested before the first run: %d questions in %s", name, len(r.Facts.Answers), took)
}

// promises are the ways in which a job's runs keep what Lumtra promises.
func promises(x *sides) (ways plan.Ways) {
	if says, ok := x.source.(place.Promiser); ok {
		ways.Source = says.Promises()
	}
	if says, ok := x.target.(place.Promiser); ok {
		ways.Target = says.Promises()
	}
	return ways
}

// hold refuses, before the first byte, a run whose target cannot promise what the
// job asks for.
func (s *Service) hold(j *job.Job, x *sides) error {
	if j.Guards.Races != rule.RefuseRaces {
		return nil
	}
	places := []place.Place{x.target}
	if j.Direction == rule.TwoWay {
		places = append(places, x.source)
	}
	for _, p := range places {
		if way, ok := place.PromiseOf(p, place.NotOverwritten); ok && way.Weak {
			return fmt.Errorf("%w: at %s %s; the job's guard forbids that (races = %q)", ErrHeld, p.Name(), way.Way, rule.RefuseRaces)
		}
	}
	return nil
}

// forgetFacts drops what is known of an endpoint that is no more.
func (s *Service) forgetFacts(name string) error {
	err := os.Remove(s.factsPath(name))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}
