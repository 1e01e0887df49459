package cli

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A fault ends a command as an error that tells where it is, and nothing of what it carries.
func TestGuarded(t *testing.T) {
	var none []int
	assert.ErrorContains(t, guarded(func() error { none[len(none)] = 1; return nil }),
		"index out of range [0] with length 0, at fault_test.go:13)")
	err := guarded(func() error { panic("reed-bed-9913") })
	assert.ErrorContains(t, err, "(string, at fault_test.go:")
	assert.NotContains(t, err.Error(), "reed-bed-9913")
	assert.Equal(t, ExitCannot, exitCode(err))
	assert.NoError(t, guarded(func() error { return nil }))
	assert.EqualError(t, guarded(func() error { return errors.New("as it is") }), "as it is")
}
