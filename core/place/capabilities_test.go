package place_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"

	"lumtra/core/object"
	"lumtra/core/place"
)

// tagged is a place with tags and metadata, of a store about which something is known.
type tagged struct {
	place.Place
	known   *place.Known
	without map[place.Skill]string
}

func (*tagged) Abilities() place.Abilities { return place.Abilities{Protocol: "marsh", MaxKey: 9} }
func (t *tagged) Known() *place.Known      { return t.known }
func (t *tagged) Without() map[place.Skill]string {
	return t.without
}
func (*tagged) Tags(context.Context, object.Ref) (map[string]string, error) { return nil, nil }
func (*tagged) SetTags(context.Context, object.Ref, map[string]string) error {
	return nil
}

func (*tagged) SetMetadata(context.Context, object.Ref, place.MetadataChange) (object.Entry, error) {
	return object.Entry{}, nil
}

// around does a method its own way.
type around struct{ place.Place }

func (a *around) Wrapped() place.Place { return a.Place }

// What a place can do is what its type has, less what it cannot as it is set up and what its
// store was found not to do; a wrapper hides nothing of it.
func TestCan(t *testing.T) {
	p := &tagged{known: place.NewKnown(place.Facts{}, nil)}
	can := place.Can(p)
	assert.NotNil(t, can.Tags)
	assert.NotNil(t, can.Metadata)
	assert.Nil(t, can.Versions)
	assert.Equal(t, 9, can.MaxKey)
	assert.Empty(t, can.Lacks(place.Tags))
	for _, skill := range place.Skills {
		assert.Equal(t, skill != place.Tags && skill != place.Metadata, can.Lacks(skill) != "", skill)
	}
	assert.NoError(t, can.CheckName("any"))
	assert.Nil(t, can.CopierFrom(p))

	p.known.Learn(place.KeepsTags, place.Ignored)
	assert.NotNil(t, can.Tags, "what was resolved stays")
	for _, q := range []place.Place{p, &around{p}, &around{&around{p}}} {
		can = place.Can(q)
		assert.Nil(t, can.Tags)
		assert.Equal(t, "tags are ignored by the store, as a test found", can.Lacks(place.Tags))
		assert.NotNil(t, can.Metadata)
		assert.NotNil(t, place.Offers(q).Tags, "a test has to try it")
		assert.Same(t, p.known, can.Known)
	}
	p.without = map[place.Skill]string{place.Metadata: "frozen"}
	assert.Nil(t, place.Can(p).Metadata)
	assert.Equal(t, "frozen", place.Can(p).Lacks(place.Metadata))
	assert.Nil(t, place.Offers(p).Metadata, "as it is set up it cannot, whatever a test tries")
}

// What was resolved for many is resolved anew when something is learned, and only then.
func TestResolve(t *testing.T) {
	p := &tagged{known: place.NewKnown(place.Facts{}, nil)}
	for _, q := range []place.Place{p, &around{p}} {
		p.known.Replace(place.Facts{})
		r := place.Resolve(q)
		first := r.Can()
		assert.NotNil(t, first.Tags)
		assert.Same(t, first, r.Can())
		p.known.Learn(place.KeepsTags, place.Ignored)
		assert.Nil(t, r.Can().Tags)
		assert.NotNil(t, first.Tags, "whoever has it has what was")
		p.known.Replace(place.Facts{})
		assert.NotNil(t, r.Can().Tags)
	}
}
