package cli

import (
	"context"
	"errors"

	"lumtra/core/place"
	"lumtra/service"
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
)

// errFailures makes ExitFailures of a command that has already told why.
var errFailures = errors.New("done, with failures")

// errNothing makes ExitNothing of a command that has already told so.
var errNothing = errors.New("nothing to do")

// errNotCompared makes ExitNotCompared of a proof that has already told why.
var errNotCompared = errors.New("not everything could be compared")

// exitCode finds the code an error stands for.
func exitCode(err error) int {
	switch {
	case err == nil:
		return ExitDone
	case errors.Is(err, context.Canceled): // by a person, whatever it was that they ended
		return ExitInterrupted
	case errors.Is(err, errFailures), errors.Is(err, service.ErrUndecided):
		return ExitFailures
	case errors.Is(err, errNotCompared):
		return ExitNotCompared
	case errors.Is(err, service.ErrBadInput), errors.Is(err, service.ErrBusy), errors.Is(err, service.ErrPlanning), errors.Is(err, errUsage):
		return ExitBadInput
	case errors.Is(err, service.ErrNothingToDo), errors.Is(err, errNothing):
		return ExitNothing
	case errors.Is(err, service.ErrBlocked):
		return ExitBlocked
	case errors.Is(err, service.ErrHeld):
		return ExitHeld
	case place.KindOf(err) == place.Cancelled && !errors.Is(err, context.DeadlineExceeded):
		return ExitInterrupted
	}
	return ExitCannot
}
