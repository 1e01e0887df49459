package wire

import (
	"errors"
	"io"
	"net/http"
	"strconv"
	"time"
)

// ErrTooMuch means that an answer that should be small does not end.
var ErrTooMuch = errors.New("the answer is larger than any should be")

// MostAnswer bounds what a server may answer where it is not asked for content: a
// page of a listing, a result, an error.
const MostAnswer = 64 << 20

// longestWait bounds what a server can ask for by Retry-After.
const longestWait = 2 * time.Minute

// NewClient makes a client for a store. It follows no redirects: a store answers
// itself, and what was signed for it is for nobody else. A server that holds a
// request without moving anything is left with [ErrStalled].
func NewClient(t http.RoundTripper) *http.Client {
	return newClient(t, usual, func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse })
}

// NewWebClient is NewClient for a web server, whose redirects check allows or refuses.
func NewWebClient(t http.RoundTripper, check func(*http.Request, []*http.Request) error) *http.Client {
	return newClient(t, usual, check)
}

func newClient(t http.RoundTripper, p patience,
	check func(*http.Request, []*http.Request) error) *http.Client {
	return &http.Client{Transport: newWatching(t, p), CheckRedirect: check}
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
