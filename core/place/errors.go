package place

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"slices"
	"strings"
	"syscall"
	"time"

	"lumtra/core/object"
)

// ErrorKind groups errors by cause: by what a person or a retry can do.
type ErrorKind uint8

// The causes.
const (
	Other       ErrorKind = iota
	NotFound              // no such object, bucket or folder
	Denied                // known, but not allowed
	BadLogin              // the credentials or the signature were not accepted
	Unreachable           // no connection, or it broke
	Throttled             // too fast for the far side
	ServerFault           // the far side failed at its own work
	Changed               // not the content that was asked for any more
	Exists                // something is there that should not be
	NoRoom                // the target is full
	BadName               // a key this place cannot hold
	TooLarge              // over a limit of the place
	Corrupt               // a checksum did not match
	Unsupported           // the place cannot do this
	Cancelled             // we were asked to stop
	Archived              // the content is in cold storage and must be restored first
	Otherwise             // turned away for the way it was asked; asked again it goes another way
	Unproven              // written, but whether it arrived whole could not be told
)

var kinds = [...]struct{ name, advice string }{
	Other:       {"failed", ""},
	NotFound:    {"not found", "check the endpoint's address, the bucket and the path"},
	Denied:      {"not allowed", "ask for this permission, or use other credentials"},
	BadLogin:    {"credentials denied", "check the access key, the secret and this machine's clock"},
	Unreachable: {"cannot be reached", "check the address and the network; the run can be taken up again"},
	Throttled:   {"asked to slow down", "use fewer streams, or try later"},
	ServerFault: {"server fault", "try again later; tell whoever runs the store if it stays"},
	Changed:     {"changed meanwhile", "make a new plan"},
	Exists:      {"already there", "make a new plan"},
	NoRoom:      {"no room left", "free space at the target, then take the run up again"},
	BadName:     {"name cannot be held", "rename the object, or use a target that can hold it"},
	TooLarge:    {"too large", "use larger parts, or a target with higher limits"},
	Corrupt:     {"checksum does not match", "try it again; if it stays, prove the job, which names what differs"},
	Unsupported: {"not possible here", ""},
	Cancelled:   {"stopped", "take it up again when you like"},
	Archived:    {"in cold storage", "ask for a restore, and try again when it is done"},
	Otherwise:   {"not taken in this way", "try again: it is asked in another way then"},
	Unproven:    {"arrival not proven", "allow these credentials to read what they write, or prove the job"},
}

// String names the cause in lower-case words.
func (k ErrorKind) String() string { return kinds[k].name }

// Advice is what a person can do about it, "" when there is nothing general.
func (k ErrorKind) Advice() string { return kinds[k].advice }

// AdviceFor is what a person can do about an error: what is known of one of its kind, and of what was asked for.
// Content that is read and does not match may have gone bad on its way, where it lies, or beside a checksum that
// belongs to other content; what was written and does not match went bad on its way, or as it was stored.
func AdviceFor(err error) string {
	kind := KindOf(err)
	var e *Error
	switch {
	case !errors.As(err, &e) || kind != Corrupt:
	case slices.Contains([]string{"read", "stat", "check"}, e.Op):
		return "read it again; if it stays, what the store holds does not fit its checksum: take it from another copy"
	case slices.Contains([]string{"write", "write part", "finish", "read back"}, e.Op):
		return "the next run sends it again; if it stays, the line to the store changes content, or the store does"
	}
	return kind.Advice()
}

// Error is what went wrong, where, with which object, doing what.
type Error struct {
	Place string // as [Place.Name]
	Op    string // "list", "read", "write", …
	Key   string // "" when it is about the whole place
	Kind  ErrorKind
	// After is how long the far side asked to wait before another try.
	After time.Duration
	// Code is the store's own code ("NoSuchBucket"), for those who know it.
	Code string
	// Status is the HTTP status of the answer, 0 where there was none.
	Status int
	// Request is the store's name for the request, for whoever looks into its logs.
	Request string
	// Left is the [object.Entry.Mark] of what this write has left at the target and
	// is not what was sent; "" for nothing.
	Left string
	// Guess tells that content was held against what only looks like a sum of it, at a store of which nobody knows.
	Guess bool
	Err   error // may be nil
}

// NewError makes an Error; err, the cause beneath, may be nil.
func NewError(place, op, key string, kind ErrorKind, err error) *Error {
	return &Error{Place: place, Op: op, Key: key, Kind: kind, Err: err}
}

// Error is one line, safe to show: "north-store/masters: write dunlin.wav: not
// allowed (AccessDenied); ask for this permission, …".
func (e *Error) Error() string {
	var b strings.Builder
	b.WriteString(object.Display(e.Place) + ": " + e.Op)
	if e.Key != "" {
		b.WriteString(" " + object.Display(e.Key))
	}
	b.WriteString(": " + e.Reason())
	if a := AdviceFor(e); a != "" {
		b.WriteString("; " + a)
	}
	return b.String()
}

// Reason is the cause with its detail, without place, key and advice.
func (e *Error) Reason() string {
	s := e.Kind.String()
	switch {
	case e.Err != nil && e.Code != "":
		s += fmt.Sprintf(" (%s: %s)", object.Display(e.Code), object.Display(e.Err.Error()))
	case e.Err != nil:
		s += " (" + object.Display(e.Err.Error()) + ")"
	case e.Code != "":
		s += " (" + object.Display(e.Code) + ")"
	}
	if e.Request != "" {
		s += " [request " + object.Display(e.Request) + "]"
	}
	return s
}

// here is the Place of errors of files that are kept on this machine.
const here = "this machine"

// OwnError makes err, which came of a file that Lumtra keeps on this machine while it works at a place, an [*Error]
// that is about that file and not about the place: what is not there in it is no object that is gone, and where
// it has no room left the place may have. nil is nil, and an [*Error] passes.
func OwnError(op, path string, err error) error {
	var e *Error
	if err == nil || errors.As(err, &e) {
		return err
	}
	return NewError(here, op, path, Other, fmt.Errorf("%v", err))
}

// Own tells that an error is one of [OwnError].
func (e *Error) Own() bool { return e.Place == here }

// Unwrap gives the cause beneath.
func (e *Error) Unwrap() error { return e.Err }

// Is lets errors.Is(err, fs.ErrNotExist) and its sisters work on every place.
func (e *Error) Is(target error) bool {
	switch target {
	case fs.ErrNotExist:
		return e.Kind == NotFound
	case fs.ErrExist:
		return e.Kind == Exists
	case fs.ErrPermission:
		return e.Kind == Denied || e.Kind == BadLogin
	case context.Canceled:
		return e.Kind == Cancelled
	}
	return false
}

// CanRetry tells whether the same request may well succeed later.
func (e *Error) CanRetry() bool {
	switch e.Kind {
	case Unreachable, Throttled, ServerFault, Corrupt, Otherwise:
		return true
	}
	return false
}

// KindOf is the cause of any error: of the [*Error] in it, or as good as the
// standard library's errors tell.
func KindOf(err error) ErrorKind {
	var e *Error
	var netErr net.Error
	switch {
	case errors.As(err, &e):
		return e.Kind
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return Cancelled
	case errors.Is(err, fs.ErrNotExist):
		return NotFound
	case errors.Is(err, fs.ErrExist):
		return Exists
	case errors.Is(err, fs.ErrPermission):
		return Denied
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return NoRoom
	case errors.Is(err, syscall.ENAMETOOLONG):
		return BadName
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF), errors.Is(err, syscall.ECONNRESET),
		errors.Is(err, syscall.EPIPE), errors.Is(err, net.ErrClosed), errors.As(err, &netErr):
		return Unreachable
	}
	return Other
}

// Wrap makes err an [*Error] with the kind found by [KindOf]; an [*Error]
// passes unchanged, and nil is nil.
func Wrap(place, op, key string, err error) error {
	if err == nil {
		return nil
	}
	var e *Error
	if errors.As(err, &e) {
		return err
	}
	return NewError(place, op, key, KindOf(err), err)
}
