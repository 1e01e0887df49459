package place_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"lumtra/core/place"
)

// Each odd name is of its kind, and a plain one of none.
func TestNameClasses(t *testing.T) {
	for c, name := range place.OddNames {
		assert.Contains(t, place.NameClasses("names/"+name), c, "%q", name)
		assert.Contains(t, place.NameClasses(name), c, "%q", name)
	}
	for _, plain := range []string{"", "a", "masters/2026/dunlin-3.wav", "tiles/0/1.json", "süd/größe"} {
		assert.Empty(t, place.NameClasses(plain), "%q", plain)
	}
}
