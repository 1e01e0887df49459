package workspace

import (
	"encoding/json"
	"errors"
	"maps"
	"os"
	"strings"

	"lumtra/core/atomicfile"
	"lumtra/core/place"
	"lumtra/core/place/kind"
	"lumtra/service/event"
)

// keptFacts is what is known of an endpoint's store, as it is kept in the state
// folder: beside the tests, since runs learn too.
type keptFacts struct {
	// Kind and Address are the store's. Of another nothing is known.
	Kind    string      `json:"kind"`
	Address string      `json:"address"`
	Facts   place.Facts `json:"facts"`
}

func (s *Keeper) factsPath(name string) string {
	return strings.TrimSuffix(s.reportPath(name), ".json") + ".facts.json"
}

// knownOf is what is known of an endpoint's store. What is learned of it later is
// kept as it is learned.
func (s *Keeper) knownOf(e *kind.Settings) *place.Known {
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
		s.Log.Info("learned of a store", "endpoint", name, "what", what)
		if !strings.HasSuffix(what, string(place.Works)) {
			s.Events.Publish(event.Event{Kind: event.StoreLearned, Endpoint: name, Text: what})
		}
		kept.Facts = f
		if err := s.keepFacts(name, kept); err != nil {
			s.Log.Warn("what was learned of a store could not be kept", "endpoint", name, "error", err)
		}
	})
}

func (s *Keeper) keepFacts(name string, kept keptFacts) error {
	return atomicfile.WriteJSON(s.factsPath(name), kept)
}

// forgetFacts drops what is known of an endpoint that is no more.
func (s *Keeper) forgetFacts(name string) error {
	err := os.Remove(s.factsPath(name))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}
