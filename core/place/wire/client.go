package wire

import (
	"context"
	"errors"
	"io"
	"net/http"
	"strconv"
	"sync"
	"time"
)

// ErrStalled means that a server neither took nor gave anything for too long.
var ErrStalled = errors.New("the server neither took nor gave anything for too long")

// ErrTooMuch means that an answer that should be small does not end.
var ErrTooMuch = errors.New("the answer is larger than any should be")

// MostAnswer bounds what a server may answer where it is not asked for content: a
// page of a listing, a result, an error.
const MostAnswer = 64 << 20

// answering is how long a server may take to answer what it was sent.
const answering = 2 * time.Minute

// patience is how long a server may leave a request with next to nothing moving, and
// drip what counts as next to nothing in that time.
const (
	patience = time.Minute
	drip     = 4 << 10
)

// atOnce is how large a body may be, one that lies in memory, to go out along with the headers, in one step: net/http
// does that with the readers of memory that it knows, so such a body is not wrapped. Between taking it and answering
// there is nothing to tell apart, so a server that does neither is left when it has had the time for both.
const atOnce = 64 << 10

// longestWait bounds what a server can ask for by Retry-After.
const longestWait = 2 * time.Minute

// NewClient makes a client for a store. It follows no redirects: a store answers
// itself, and what was signed for it is for nobody else. A server that holds a
// request without moving anything is left with [ErrStalled].
func NewClient(t http.RoundTripper) *http.Client {
	return newClient(t, patience, func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse })
}

// NewWebClient is NewClient for a web server, whose redirects check allows or refuses.
func NewWebClient(t http.RoundTripper, check func(*http.Request, []*http.Request) error) *http.Client {
	return newClient(t, patience, check)
}

func newClient(t http.RoundTripper, patience time.Duration,
	check func(*http.Request, []*http.Request) error) *http.Client {
	return &http.Client{Transport: &watching{t, patience, answering}, CheckRedirect: check}
}

// watching is a transport that leaves servers that hold it up.
type watching struct {
	http.RoundTripper
	patience, answering time.Duration
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
	var up *watch
	req = req.WithContext(ctx)
	if body := req.Body; body != nil && body != http.NoBody {
		up = &watch{patience: w.patience, fire: cancel}
		if req.GetBody != nil && req.ContentLength <= atOnce {
			up.patience += w.answering
			up.arm()
		} else {
			req.Body = &sending{body, up}
		}
	}
	resp, err := w.RoundTripper.RoundTrip(req)
	up.stop()
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
	resp.Body = &receiving{ReadCloser: resp.Body, ctx: ctx, cancel: cancel,
		watch: watch{patience: w.patience, fire: cancel}}
	return resp, nil
}

// watch fires when the other side has kept us waiting too long. Only what is spent
// waiting for it counts: between arm and rest.
type watch struct {
	patience time.Duration
	fire     context.CancelCauseFunc

	mu    sync.Mutex
	timer *time.Timer
	since time.Time
	spent time.Duration // waiting, since the last time that enough had moved
	moved int
	ended bool
}

func (w *watch) arm() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.ended {
		return
	}
	w.since = time.Now()
	left := max(w.patience-w.spent, 0)
	if w.timer == nil {
		w.timer = time.AfterFunc(left, func() { w.fire(ErrStalled) })
	} else {
		w.timer.Reset(left)
	}
}

func (w *watch) rest(n int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.timer == nil {
		return
	}
	w.timer.Stop()
	if w.moved += n; w.moved >= drip {
		w.moved, w.spent = 0, 0
	} else {
		w.spent += time.Since(w.since)
	}
}

func (w *watch) stop() {
	if w == nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.ended = true
	if w.timer != nil {
		w.timer.Stop()
	}
}

// sending watches the content of a request: between two readings the server takes
// what was read last.
type sending struct {
	io.ReadCloser
	watch *watch
}

func (s *sending) Read(b []byte) (int, error) {
	s.watch.rest(drip) // all that was read before has been taken
	n, err := s.ReadCloser.Read(b)
	if err != nil {
		s.watch.stop() // how long the answer may take is the transport's to know
	} else {
		s.watch.arm()
	}
	return n, err
}

func (s *sending) Close() error {
	s.watch.stop()
	return s.ReadCloser.Close()
}

// receiving watches the content of an answer.
type receiving struct {
	io.ReadCloser
	ctx    context.Context
	cancel context.CancelCauseFunc
	watch  watch
}

func (r *receiving) Read(b []byte) (int, error) {
	r.watch.arm()
	n, err := r.ReadCloser.Read(b)
	r.watch.rest(n)
	if err != nil && err != io.EOF && errors.Is(context.Cause(r.ctx), ErrStalled) {
		err = ErrStalled
	}
	return n, err
}

func (r *receiving) Close() error {
	r.watch.stop()
	err := r.ReadCloser.Close()
	r.cancel(nil)
	return err
}

// RetryAfter reads how long a server wants to be left alone (RFC 9110, section
// 10.2.3), in seconds or until a time; 0 for no word of it. A server does not hold us
// for longer than a couple of minutes by it.
func RetryAfter(h http.Header) time.Duration {
	text := h.Get("Retry-After")
	wait := time.Duration(0)
	if n, err := strconv.ParseFloat(text, 64); err == nil && n > 0 {
		wait = time.Duration(min(n, longestWait.Seconds()) * float64(time.Second))
	} else if at, err := http.ParseTime(text); err == nil {
		wait = time.Until(at)
	}
	return min(max(wait, 0), longestWait)
}

// Limited ends an answer that is larger than it may be with [ErrTooMuch].
func Limited(body io.ReadCloser, most int64) io.ReadCloser { return &limited{body, most} }

type limited struct {
	io.ReadCloser
	left int64
}

func (l *limited) Read(b []byte) (int, error) {
	if l.left <= 0 {
		return 0, ErrTooMuch
	}
	n, err := l.ReadCloser.Read(b[:min(int64(len(b)), l.left)])
	l.left -= int64(n)
	return n, err
}

// Round finds out that a listing goes round in circles: that the mark its next page
// is asked for by has been there before. It keeps one mark, and finds a circle of any
// length in time (R. P. Brent, "An improved Monte Carlo factorization algorithm",
// 1980, section 2).
type Round struct {
	kept        string
	steps, most int
}

// Again takes the mark of the next page.
func (r *Round) Again(mark string) bool {
	if r.steps > 0 && mark == r.kept {
		return true
	}
	if r.steps >= r.most {
		r.kept, r.steps, r.most = mark, 0, max(2*r.most, 1)
	}
	r.steps++
	return false
}
