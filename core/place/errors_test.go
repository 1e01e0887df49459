package place_test

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"lumtra/core/place"
)

// Advice fits what was seen: what is read was not damaged by sending it, and nobody is told that a disk is
// failing where a store kept a checksum of other content.
func TestAdviceFitsWhatWasSeen(t *testing.T) {
	mismatch := errors.New("the store keeps another checksum")
	for op, says := range map[string]string{"read": "does not fit its checksum", "stat": "does not fit its checksum",
		"write": "sends it again", "write part": "sends it again", "copy": "prove the job"} {
		err := fmt.Errorf("while at it: %w", place.NewError("marsh", op, "a", place.Corrupt, mismatch))
		assert.Contains(t, place.AdviceFor(err), says, op)
		assert.Contains(t, err.Error(), place.AdviceFor(err))
		assert.NotContains(t, place.AdviceFor(err), "disk")
	}
	assert.Contains(t, place.AdviceFor(place.NewError("marsh", "read", "a", place.Denied, nil)), "permission")
	assert.Empty(t, place.AdviceFor(errors.New("anything")))
}
