package remote

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"net/http"

	"lumtra/client"
	"lumtra/core/history"
	"lumtra/service/runs"
	"lumtra/service/state"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// The background service is a process that carries out runs for others on this machine, so
// that they go on when a window closes. It listens on a socket in the state folder, which
// only its owner can reach, and speaks what package api answers: windows and commands are
// programs like any other, by way of package client.
//
// Plans, ledgers and history lie in the state folder for everyone to read.
const socketName = "service.sock"

// ErrServed means that another background service has this state folder.
var ErrServed = errors.New("a background service is running for this workspace already")

// Detail is what windows of the service's own version know of a run beside what is promised to
// programs: [client.Progress] carries it.
type Detail struct {
	State *runs.State  `json:"state,omitempty"` // while it is under way
	Ended *history.Run `json:"ended,omitempty"`
}

// detailOf reads the detail of a progress. A service of another version may say something else.
func detailOf(p client.Progress) (d Detail) {
	if json.Unmarshal(p.Detail, &d) != nil {
		return Detail{}
	}
	return d
}

// kinds are the errors that callers tell apart, by their names on the wire, with the status (RFC 9110)
// that goes with each.
var kinds = []struct {
	is     error
	name   string
	status int
}{
	{workroom.ErrHeld, "held", http.StatusConflict},
	{workroom.ErrBlocked, "blocked", http.StatusConflict},
	{workroom.ErrUndecided, "undecided", http.StatusConflict},
	{workroom.ErrNothingToDo, "nothing", http.StatusConflict},
	{state.ErrBusy, "busy", http.StatusConflict},
	{state.ErrPlanning, "planning", http.StatusConflict},
	{context.Canceled, "cancelled", http.StatusConflict},
	{fs.ErrNotExist, "missing", http.StatusNotFound},
	{workspace.ErrBadInput, "input", http.StatusBadRequest},
}

// ErrorOf is an error as the wire has it, with its status; nil for none.
func ErrorOf(err error) (*client.Error, int) {
	if err == nil {
		return nil, http.StatusOK
	}
	for _, k := range kinds {
		if errors.Is(err, k.is) {
			return &client.Error{Kind: k.name, Text: err.Error()}, k.status
		}
	}
	return &client.Error{Kind: "other", Text: err.Error()}, http.StatusInternalServerError
}

// fault is an error that came over the wire, as callers here know it.
type fault struct {
	text string
	is   error
}

// Error is the text.
func (f *fault) Error() string { return f.text }

// Unwrap gives the error that callers know, nil if there is none.
func (f *fault) Unwrap() error { return f.is }

// meant is what an error of the client means here.
func meant(err error) error {
	var said *client.Error
	if !errors.As(err, &said) || said == nil {
		return err
	}
	f := &fault{text: said.Text}
	for _, k := range kinds {
		if k.name == said.Kind {
			f.is = k.is
		}
	}
	return f
}
