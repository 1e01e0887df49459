package object_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"lumtra/core/object"
)

// Which classes can be read at once, of both protocols: an archive tier of the one and those of the other have to be
// restored first, though others have names that are nearly theirs; one that nobody knows may have to be.
func TestColdClasses(t *testing.T) {
	for class, want := range map[string]struct{ cold, maybe bool }{
		"": {}, "STANDARD": {}, "STANDARD_IA": {}, "GLACIER_IR": {}, "Hot": {}, "Cool": {}, "Cold": {}, "Premium": {},
		"GLACIER": {true, true}, "DEEP_ARCHIVE": {true, true}, "Archive": {true, true},
		"INTELLIGENT_TIERING": {false, true}, "a store's own": {false, true},
	} {
		assert.Equal(t, want.cold, object.IsCold(class), "%q is cold", class)
		assert.Equal(t, want.maybe, object.MayBeCold(class), "%q may be", class)
	}
}
