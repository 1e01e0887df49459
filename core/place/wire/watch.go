package wire

import (
	"context"
	"errors"
	"io"
	"net/http"
	"sync"
	"sync/atomic"
	"time"
)

// ErrStalled means that a server neither took nor gave anything for too long.
var ErrStalled = errors.New("the server neither took nor gave anything for too long")

// patience is how long a server is waited for.
type patience struct {
	// look is how often what waits is looked at; the others are made of whole looks.
	look time.Duration
	// moving is how long a server may leave a request with next to nothing moving: less than drip in that time.
	moving time.Duration
	// answering is how long it may take to answer what it was sent.
	answering time.Duration
}

var usual = patience{look: time.Second, moving: time.Minute, answering: 2 * time.Minute}

// drip is what counts as next to nothing, in bytes.
const drip = 4 << 10

// atOnce is how large a body may be, one that lies in memory, to go out along with the headers, in one step: net/http
// does that with the readers of memory that it knows, so such a body is not wrapped. Between taking it and answering
// there is nothing to tell apart, so a server that does neither is left when it has had the time for both.
const atOnce = 64 << 10

// watching is a transport that leaves servers that hold it up.
//
// One timer looks at all requests of a client every so often, and one that was found waiting so many times in a row is
// left. It takes the place of a timer for each request, and of [http.Transport.ResponseHeaderTimeout], which together
// cost a small request a twentieth of its processor time. A machine that slept or was busy does not make a server
// slow: what counts is how often was looked, not what a clock says.
type watching struct {
	http.RoundTripper
	patience

	mu      sync.Mutex
	watches map[*watch]struct{}
	timer   *time.Timer // nil until there is something to watch
	looking bool        // the timer is set
}

func newWatching(t http.RoundTripper, p patience) *watching {
	return &watching{RoundTripper: t, patience: p, watches: make(map[*watch]struct{})}
}

// CloseIdleConnections is for [http.Client.CloseIdleConnections].
func (w *watching) CloseIdleConnections() {
	if c, ok := w.RoundTripper.(interface{ CloseIdleConnections() }); ok {
		c.CloseIdleConnections()
	}
}

// RoundTrip makes one request under watch, in both directions.
func (w *watching) RoundTrip(req *http.Request) (*http.Response, error) {
	ctx, cancel := context.WithCancelCause(req.Context())
	up := w.watch(cancel)
	up.wait(w.moving + w.answering)
	req = req.WithContext(ctx)
	if body, again := req.Body, req.GetBody; body != nil && body != http.NoBody &&
		(again == nil || req.ContentLength > atOnce) {
		req.Body = &sending{body, up}
		if again != nil { // for a connection that was closed just then
			req.GetBody = func() (io.ReadCloser, error) {
				body, err := again()
				return &sending{body, up}, err
			}
		}
	}
	resp, err := w.RoundTripper.RoundTrip(req)
	up.end()
	if err != nil {
		if errors.Is(context.Cause(ctx), ErrStalled) {
			err = ErrStalled
		}
		cancel(nil)
		return resp, err
	}
	if resp.Body == http.NoBody { // there is nothing to wait for any more
		cancel(nil)
		return resp, nil
	}
	resp.Body = &receiving{ReadCloser: resp.Body, ctx: ctx, cancel: cancel, watch: w.watch(cancel)}
	return resp, nil
}

// watch begins to watch a request, or an answer; fire leaves it.
func (w *watching) watch(fire context.CancelCauseFunc) *watch {
	one := &watch{of: w, fire: fire}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.watches[one] = struct{}{}
	if !w.looking {
		w.looking = true
		if w.timer == nil {
			w.timer = time.AfterFunc(w.look, w.lookAround)
		} else {
			w.timer.Reset(w.look)
		}
	}
	return one
}

// lookAround counts for whom it is waited, and leaves who had long enough.
func (w *watching) lookAround() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for one := range w.watches {
		if one.waiting.Load() && one.found.Add(1) > one.most.Load() {
			one.fire(ErrStalled)
		}
	}
	if w.looking = len(w.watches) > 0; w.looking {
		w.timer.Reset(w.look)
	}
}

// watch is one direction of a request. Only what is spent waiting for the server counts: between wait and rest. One
// goroutine at a time tells it so.
type watch struct {
	of   *watching
	fire context.CancelCauseFunc

	waiting     atomic.Bool
	found, most atomic.Int64 // how often it was found waiting since enough had moved, and may be
	moved       int
}

// wait says that it is the server's turn from now on, and how long that may take.
func (w *watch) wait(most time.Duration) {
	w.most.Store(int64(most / w.of.look))
	w.waiting.Store(true)
}

// rest says that the server has done its part, of n bytes.
func (w *watch) rest(n int) {
	w.waiting.Store(false)
	if w.moved += n; w.moved >= drip {
		w.moved = 0
		w.found.Store(0)
	}
}

// end ends the watch: what it watched is not left any more.
func (w *watch) end() {
	w.of.mu.Lock()
	defer w.of.mu.Unlock()
	delete(w.of.watches, w)
}

// sending watches the content of a request: between two readings the server takes
// what was read last, and after the last it answers.
type sending struct {
	io.ReadCloser
	watch *watch
}

func (s *sending) Read(b []byte) (int, error) {
	s.watch.rest(drip) // all that was read before has been taken
	n, err := s.ReadCloser.Read(b)
	if err != nil {
		s.watch.wait(s.watch.of.answering)
	} else {
		s.watch.wait(s.watch.of.moving)
	}
	return n, err
}

// receiving watches the content of an answer.
type receiving struct {
	io.ReadCloser
	ctx    context.Context
	cancel context.CancelCauseFunc
	watch  *watch
}

func (r *receiving) Read(b []byte) (int, error) {
	r.watch.wait(r.watch.of.moving)
	n, err := r.ReadCloser.Read(b)
	r.watch.rest(n)
	if err != nil && err != io.EOF && errors.Is(context.Cause(r.ctx), ErrStalled) {
		err = ErrStalled
	}
	return n, err
}

func (r *receiving) Close() error {
	r.watch.end()
	err := r.ReadCloser.Close()
	r.cancel(nil)
	return err
}
