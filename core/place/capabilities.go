package place

import (
	"fmt"
	"sync/atomic"
)

// Capabilities are all that can be done at a place, in one: what its type has methods for,
// what its protocol promises ([Abilities]) and what was found out about its store
// ([Known]). An interface that is nil cannot be used there, and [Capabilities.Lacks] says
// why. Whatever works with places asks [Can], and asserts no types.
type Capabilities struct {
	Abilities
	// Known is what was found out; nil, which knows nothing, where nothing can be.
	Known *Known

	Versions Versioned
	Tags     Tagger
	Metadata MetadataWriter
	// Facts changes times and permissions in place, as files have them.
	Attributes AttributeSetter
	Links      Linker
	Restores   Restorer
	Folders    FolderMaker
	Moves      Mover
	Parts      PartWriter
	Copies     ServerCopier
	// Ranges copies large objects range by range.
	Ranges  PartCopier
	Digests DigestKeeper
	Names   NameChecker
	Room    Roomy
	// Vouches says of what is read whether it came as it is kept.
	Vouches  Vouching
	Examines Examiner
	// Describes tells what a file system keeps and no object has.
	Describes Describer

	promiser Promiser
	without  map[Skill]string
}

// Offers is what the type of a place has methods for and its protocol promises, whatever
// was found out about the store: what a test has to try, and what looks after leftovers.
func Offers(p Place) Capabilities {
	if w, ok := p.(Wrapper); ok {
		c := Offers(w.Wrapped())
		c.Abilities = p.Abilities()
		if n, ok := p.(NameChecker); ok {
			c.Names = n
		}
		c.limit(p)
		return c
	}
	c := Capabilities{Abilities: p.Abilities()}
	c.Versions, _ = p.(Versioned)
	c.Tags, _ = p.(Tagger)
	c.Metadata, _ = p.(MetadataWriter)
	c.Attributes, _ = p.(AttributeSetter)
	c.Links, _ = p.(Linker)
	c.Restores, _ = p.(Restorer)
	c.Folders, _ = p.(FolderMaker)
	c.Moves, _ = p.(Mover)
	c.Parts, _ = p.(PartWriter)
	c.Copies, _ = p.(ServerCopier)
	c.Ranges, _ = p.(PartCopier)
	c.Digests, _ = p.(DigestKeeper)
	c.Names, _ = p.(NameChecker)
	c.Room, _ = p.(Roomy)
	c.Vouches, _ = p.(Vouching)
	c.Examines, _ = p.(Examiner)
	c.Describes, _ = p.(Describer)
	c.promiser, _ = p.(Promiser)
	if l, ok := p.(Learner); ok {
		c.Known = l.Known()
	}
	c.limit(p)
	return c
}

// limit takes away what a place cannot do as it is set up.
func (c *Capabilities) limit(p Place) {
	if l, ok := p.(Limited); ok {
		for skill, why := range l.Without() {
			c.drop(skill, why)
		}
	}
}

// Can is what can be done at a place as far as is known now. It is cheap, asks no store,
// and is asked again where something may have been learned since.
func Can(p Place) Capabilities {
	c := Offers(p)
	for _, x := range [...]struct {
		ask   Ask
		skill Skill
		why   string
	}{
		{InParts, Parts, "uploads in parts are %s by the store"},
		{KeepsTags, Tags, "tags are %s by the store"},
		{KeepsMeta, Metadata, "metadata are %s by the store"},
	} {
		if c.Known.Lacks(x.ask) {
			c.drop(x.skill, fmt.Sprintf(x.why+", as a test found", c.Known.Of(x.ask)))
		}
	}
	return c
}

// Resolved is what can be done at a place, found once, and anew when something is learned of its store: whoever asks
// for each of many objects asks it. It may be asked from many goroutines.
type Resolved struct {
	p     Place
	known *Known
	now   atomic.Pointer[resolved]
}

// resolved is what could be done when these facts were known.
type resolved struct {
	facts *Facts
	can   Capabilities
}

// Resolve finds out what can be done at a place.
func Resolve(p Place) *Resolved { return &Resolved{p: p, known: Offers(p).Known} }

// Can is [Can]. It is not to be changed.
func (r *Resolved) Can() *Capabilities {
	var facts *Facts
	if r.known != nil {
		facts = r.known.facts.Load()
	}
	if now := r.now.Load(); now != nil && now.facts == facts {
		return &now.can
	}
	now := &resolved{facts, Can(r.p)}
	r.now.Store(now)
	return &now.can
}

// Wrapper is a place around another that does some methods of [Place] its own way and
// leaves within reach what else the other can do, unless it says itself what is [Limited].
type Wrapper interface {
	Wrapped() Place
}

// Within is the place of a type that p is, or that lies within what is wrapped around it; nil where there
// is none.
func Within[T Place](p Place) (none T) {
	for {
		if t, ok := p.(T); ok {
			return t
		}
		w, ok := p.(Wrapper)
		if !ok {
			return none
		}
		p = w.Wrapped()
	}
}

// Limited is a place that has a method but, as it is set up, cannot use it.
type Limited interface {
	// Without has why each skill that cannot be used cannot.
	Without() map[Skill]string
}

// Skill names a capability that not all places have, for [Capabilities.Lacks].
type Skill string

// The skills.
const (
	Versions Skill = "versions"
	Tags     Skill = "tags"
	Metadata Skill = "metadata"
	Links    Skill = "signed links"
	Restores Skill = "restoring cold objects"
	Parts    Skill = "uploads in parts"
	Folders  Skill = "empty folders"
)

// Skills are all of them.
var Skills = [...]Skill{Versions, Tags, Metadata, Links, Restores, Parts, Folders}

// drop takes a skill away.
func (c *Capabilities) drop(skill Skill, why string) {
	switch skill {
	case Versions:
		c.Versions = nil
	case Tags:
		c.Tags = nil
	case Metadata:
		c.Metadata = nil
	case Links:
		c.Links = nil
	case Restores:
		c.Restores = nil
	case Parts:
		c.Parts, c.Ranges = nil, nil
	case Folders:
		c.Folders = nil
	}
	if c.without == nil {
		c.without = map[Skill]string{}
	}
	c.without[skill] = why
}

// Lacks says why what a skill names cannot be done, in words to show beside it; "" when it
// can.
func (c Capabilities) Lacks(skill Skill) string {
	if why, ok := c.without[skill]; ok {
		return why
	}
	switch {
	case skill == Versions && c.Versions == nil:
		return "this kind of place keeps no older versions"
	case skill == Tags && c.Tags == nil:
		return "this kind of place has no tags"
	case skill == Metadata && c.Metadata == nil:
		return "this kind of place has no metadata to change"
	case skill == Links && c.Links == nil:
		return "this kind of place has no signed links"
	case skill == Restores && c.Restores == nil:
		return "this kind of place has no cold classes"
	case skill == Parts && c.Parts == nil:
		return "this kind of place has no uploads in parts"
	case skill == Folders && c.Folders == nil:
		return "folders here are parts of names: they come with the first object in them"
	}
	return ""
}

// CheckName returns a [BadName] error for a key that can never be written there.
func (c Capabilities) CheckName(key string) error {
	if c.Names == nil {
		return nil
	}
	return c.Names.CheckName(key)
}

// CopierFrom copies within the service of both places; nil where content from the other
// has to pass through here.
func (c Capabilities) CopierFrom(from Place) ServerCopier {
	if c.Copies == nil || !c.Copies.CanCopyFrom(from) {
		return nil
	}
	return c.Copies
}

// Promises are the ways in which what Lumtra promises is kept there, in the order of the
// constants; none of a place that does not say.
func (c Capabilities) Promises() []Promise {
	if c.promiser == nil {
		return nil
	}
	return c.promiser.Promises()
}

// Promise is the way one promise is kept; false where the place does not say.
func (c Capabilities) Promise(name PromiseName) (Promise, bool) {
	for _, x := range c.Promises() {
		if x.Name == name {
			return x, true
		}
	}
	return Promise{}, false
}

// EndpointCapabilities are what can be done at an [Endpoint] beside opening its places;
// what is nil cannot.
type EndpointCapabilities struct {
	Buckets    Buckets
	Versioning VersioningSwitch
	Tags       BucketTagger
	Access     BucketAccess
}

// EndpointCan is what can be done at an endpoint.
func EndpointCan(e Endpoint) (c EndpointCapabilities) {
	c.Buckets, _ = e.(Buckets)
	c.Versioning, _ = e.(VersioningSwitch)
	c.Tags, _ = e.(BucketTagger)
	c.Access, _ = e.(BucketAccess)
	return c
}
