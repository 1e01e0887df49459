package cli

import (
	"context"
	"errors"
	"fmt"

	"lumtra/core/place"
	"lumtra/service/state"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// Exit codes, the same for every command.
const (
	ExitDone        = 0 // all done
	ExitFailures    = 1 // done, but some objects failed, or a proof does not hold
	ExitBadInput    = 2 // a command, a file or a name a person has to change
	ExitNothing     = 3 // nothing to do
	ExitHeld        = 4 // refused by a guard
	ExitInterrupted = 5 // stopped before the end; what was done stays done
	ExitCannot      = 6 // could not: an endpoint, the network, a disk
	ExitNotCompared = 7 // a proof found nothing wrong, but could not compare everything
	ExitBlocked     = 8 // a check knows that the run would fail
	ExitBusy        = 9 // the job is running, being planned or proven already
)

// errFailures makes ExitFailures of a command that has already told why.
var errFailures = errors.New("done, with failures")

// errNothing makes ExitNothing of a command that has already told so.
var errNothing = errors.New("nothing to do")

// errNotCompared makes ExitNotCompared of a proof that has already told why.
var errNotCompared = errors.New("not everything could be compared")

// errLeft is the end of watching a run that goes on elsewhere.
var errLeft = fmt.Errorf("%w: no longer watching; the background service goes on with the run", context.Canceled)

// exitCode finds the code an error stands for.
func exitCode(err error) int {
	switch {
	case err == nil:
		return ExitDone
	case errors.Is(err, context.Canceled): // by a person, whatever it was that they ended
		return ExitInterrupted
	case errors.Is(err, errFailures), errors.Is(err, workroom.ErrUndecided):
		return ExitFailures
	case errors.Is(err, errNotCompared):
		return ExitNotCompared
	case errors.Is(err, state.ErrBusy), errors.Is(err, state.ErrPlanning):
		return ExitBusy
	case errors.Is(err, workspace.ErrBadInput), errors.Is(err, errUsage):
		return ExitBadInput
	case errors.Is(err, workroom.ErrNothingToDo), errors.Is(err, errNothing):
		return ExitNothing
	case errors.Is(err, workroom.ErrBlocked):
		return ExitBlocked
	case errors.Is(err, workroom.ErrHeld), errors.Is(err, errNotAgreed):
		return ExitHeld
	case place.KindOf(err) == place.Cancelled && !errors.Is(err, context.DeadlineExceeded):
		return ExitInterrupted
	}
	return ExitCannot
}
