package cli

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"lumtra/core/place"
	"lumtra/service/state"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// Scripts decide by these codes: each kind of end has its own, however deep it is wrapped,
// and what a person has to change is never taken for something that may pass.
func TestExitCodes(t *testing.T) {
	bad := fmt.Errorf("%w: x", workspace.ErrBadInput)
	for code, ends := range map[int][]error{
		ExitDone:     {nil},
		ExitFailures: {errFailures, workroom.ErrUndecided},
		ExitBusy:     {state.ErrBusy, state.ErrPlanning},
		ExitBadInput: {bad, errUsage,
			fmt.Errorf("%w: %w", bad, place.NewError("n", "open", "", place.Unreachable, nil))},
		ExitNothing:     {workroom.ErrNothingToDo, errNothing},
		ExitHeld:        {workroom.ErrHeld},
		ExitInterrupted: {context.Canceled, place.NewError("n", "read", "a", place.Cancelled, nil)},
		ExitCannot: {errors.New("a disk"), place.NewError("n", "open", "", place.Unreachable, nil),
			place.NewError("n", "write", "a", place.Denied, nil), context.DeadlineExceeded},
		ExitNotCompared: {errNotCompared},
		ExitBlocked:     {workroom.ErrBlocked},
	} {
		for _, end := range ends {
			assert.Equal(t, code, exitCode(end), "%v", end)
			if end != nil {
				assert.Equal(t, code, exitCode(fmt.Errorf("run masters: %w", end)), "wrapped: %v", end)
			}
		}
	}
}
