package standin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	mathrand "math/rand/v2"
	"net"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/time/rate"
)

// Fault is one way to misbehave. Which requests it meets is chosen by Op, Key,
// Chance and Times; what happens by Do.
type Fault struct {
	// Op is an operation as the API Reference names it, "*" and "?" allowed:
	// "PutObject", "List*". "" means all.
	Op string
	// Key is a prefix of the object's key; "" means all.
	Key string
	// Chance is between 0 and 1; 0 means always.
	Chance float64
	// Times ends the fault after so many hits; 0 means never.
	Times int
	// Do is one of: "latency" (wait Wait), "stall" (wait Wait in mid-body),
	// "403", "expired" (the credentials are), "500", "503", "reset-before" and "reset-after" (the connection breaks
	// before or after the request took effect), "short" (half the body),
	// "corrupt" (one bit of the body flips, either way).
	Do   string
	Wait time.Duration
}

// faults is the current set and what its random choices run on: what a request meets follows from
// the seed, from what is asked, and from how often that was asked before. So it is the same whatever
// else is asked at the time.
type faults struct {
	seed  uint64
	mu    sync.Mutex
	set   []Fault
	asked map[string]int // where chances decide: how often
	speed *rate.Limiter  // bytes, both ways together; nil means no limit
}

// SetFaults replaces the faults in force.
func (s *Server) SetFaults(set ...Fault) {
	s.faults.mu.Lock()
	defer s.faults.mu.Unlock()
	s.faults.set = append([]Fault(nil), set...)
}

// SetSpeed limits all bodies together to so many bytes a second; 0 lifts the limit.
func (s *Server) SetSpeed(bytesPerSecond int64) {
	s.faults.mu.Lock()
	defer s.faults.mu.Unlock()
	s.faults.speed = nil
	if bytesPerSecond > 0 {
		s.faults.speed = rate.NewLimiter(rate.Limit(bytesPerSecond), readPortion)
	}
}

// ParseFault reads "[op:]what[=wait][@chance]", as in "503@5%", "latency=40ms",
// "PutObject:reset-after@0.1". "speed=40MB" is not a Fault but a number of
// bytes a second, returned as such.
func ParseFault(text string) (f Fault, speed int64, err error) {
	rest, chance, chosen := strings.Cut(text, "@")
	if chosen {
		percent := strings.HasSuffix(chance, "%")
		f.Chance, err = strconv.ParseFloat(strings.TrimSuffix(chance, "%"), 64)
		if percent {
			f.Chance /= 100
		}
		if err != nil || f.Chance <= 0 || f.Chance > 1 {
			return f, 0, fmt.Errorf("%q: the chance reads like 5%% or 0.05", text)
		}
	}
	if op, what, ok := strings.Cut(rest, ":"); ok {
		f.Op, rest = op, what
	}
	what, value, _ := strings.Cut(rest, "=")
	switch f.Do = what; what {
	case "speed":
		n, err := humanize.ParseBytes(value)
		return f, int64(n), err
	case "latency", "stall":
		if f.Wait, err = time.ParseDuration(value); err != nil {
			return f, 0, fmt.Errorf("%q: the wait reads like %s=40ms", text, what)
		}
	case "403", "expired", "500", "503", "reset-before", "reset-after", "short", "corrupt":
	default:
		return f, 0, fmt.Errorf("%q: a fault is one of latency=, stall=, speed=, 403, expired, 500, 503, "+
			"reset-before, reset-after, short, corrupt", text)
	}
	return f, 0, nil
}

// dice are the chances of a request: what it asks for is the operation with what tells it from
// others of its kind, a part's number or a range.
func (f *faults) dice(op, key string, r *http.Request) *mathrand.Rand {
	asks := op + " " + key + " " + r.URL.Query().Get("partNumber") + " " + r.Header.Get("Range")
	if f.asked == nil {
		f.asked = map[string]int{}
	}
	f.asked[asks]++
	h := fnv.New64a()
	fmt.Fprintf(h, "%s %d", asks, f.asked[asks])
	return mathrand.New(mathrand.NewPCG(f.seed, h.Sum64()))
}

// choose picks the faults that meet this request. The dice are for what they do.
func (f *faults) choose(op, key string, r *http.Request) (hit []Fault, dice *mathrand.Rand, speed *rate.Limiter) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if slices.ContainsFunc(f.set, func(x Fault) bool { return x.Chance > 0 || x.Do == "corrupt" }) {
		dice = f.dice(op, key, r)
	}
	for i := range f.set {
		x := &f.set[i]
		if x.Op != "" {
			if ok, _ := path.Match(x.Op, op); !ok {
				continue
			}
		}
		if x.Times < 0 || !strings.HasPrefix(key, x.Key) || x.Chance > 0 && dice.Float64() >= x.Chance {
			continue
		}
		if x.Times > 0 {
			if x.Times--; x.Times == 0 {
				x.Times = -1
			}
		}
		hit = append(hit, *x)
	}
	return hit, dice, f.speed
}

// misbehave serves the request with the chosen faults around it.
func (s *Server) misbehave(w http.ResponseWriter, r *http.Request, op, key string, serve http.HandlerFunc) {
	hit, dice, speed := s.faults.choose(op, key, r)
	if speed != nil {
		r.Body = io.NopCloser(&slow{r.Context(), r.Body, speed})
		w = &slowWriter{w, r.Context(), speed}
	}
	for _, f := range hit {
		switch f.Do {
		case "latency":
			select {
			case <-time.After(f.Wait):
			case <-r.Context().Done():
				return
			}
		case "500":
			s.refuse(w, r, fault(http.StatusInternalServerError, "InternalError", "a fault on demand"))
			return
		case "403":
			s.refuse(w, r, fault(http.StatusForbidden, "AccessDenied", "these credentials are not allowed to do this"))
			return
		case "expired":
			e := fault(http.StatusBadRequest, "ExpiredToken", "the provided token has expired")
			if s.cfg.blob() {
				e = fault(http.StatusForbidden, "AuthenticationFailed", "the signature is not valid any more")
			}
			s.refuse(w, r, e)
			return
		case "503":
			s.refuse(w, r, fault(http.StatusServiceUnavailable, "SlowDown", "a fault on demand"))
			return
		case "reset-before":
			reset(w)
			return
		case "reset-after":
			serve(&nowhere{header: http.Header{}}, r)
			reset(w)
			return
		case "corrupt":
			if r.Method == http.MethodPut && r.ContentLength > 0 {
				r.Body = io.NopCloser(&flipper{r: r.Body, dice: dice})
			} else {
				w = &bender{ResponseWriter: w, bend: func(b []byte) ([]byte, bool) {
					b = bytes.Clone(b)
					flip(dice, b)
					return b, false
				}}
			}
		case "short":
			w = &bender{ResponseWriter: w, bend: func(b []byte) ([]byte, bool) { return b[:len(b)/2], true }}
		case "stall":
			w = &bender{ResponseWriter: w, bend: func(b []byte) ([]byte, bool) {
				select {
				case <-time.After(f.Wait):
				case <-r.Context().Done():
				}
				return b, false
			}}
		}
	}
	serve(w, r)
}

// refuse answers with an error in the stand-in's dialect.
func (s *Server) refuse(w http.ResponseWriter, r *http.Request, e *apiError) {
	if s.cfg.blob() {
		writeBlobError(w, r, e)
	} else {
		e.write(w, r)
	}
}

// reset breaks the connection the hard way.
func reset(w http.ResponseWriter) {
	if hijacker, ok := w.(http.Hijacker); ok {
		if conn, _, err := hijacker.Hijack(); err == nil {
			if tcp, ok := conn.(*net.TCPConn); ok {
				tcp.SetLinger(0)
			}
			conn.Close()
			return
		}
	}
	panic(http.ErrAbortHandler)
}

// nowhere takes a response that nobody will get.
type nowhere struct{ header http.Header }

func (n *nowhere) Header() http.Header         { return n.header }
func (n *nowhere) Write(b []byte) (int, error) { return len(b), nil }
func (n *nowhere) WriteHeader(int)             {}

// flipper flips one bit of the first bytes read.
type flipper struct {
	r    io.Reader
	dice *mathrand.Rand
	done bool
}

func (f *flipper) Read(b []byte) (int, error) {
	n, err := f.r.Read(b)
	if n > 0 && !f.done {
		flip(f.dice, b[:n])
		f.done = true
	}
	return n, err
}

// flip turns one bit over.
func flip(dice *mathrand.Rand, b []byte) { b[dice.IntN(len(b))] ^= 1 << dice.IntN(8) }

// bender changes the first piece of a response body, and may end it there.
type bender struct {
	http.ResponseWriter
	bend func([]byte) (out []byte, end bool)
	done bool
}

func (w *bender) Write(b []byte) (int, error) {
	if w.done || len(b) == 0 {
		return w.ResponseWriter.Write(b)
	}
	w.done = true
	out, end := w.bend(b)
	if _, err := w.ResponseWriter.Write(out); err != nil {
		return 0, err
	}
	if end {
		panic(http.ErrAbortHandler)
	}
	return len(b), nil
}

type slow struct {
	ctx   context.Context
	r     io.Reader
	speed *rate.Limiter
}

func (s *slow) Read(b []byte) (int, error) {
	n, err := s.r.Read(b[:min(len(b), readPortion/4)])
	if n > 0 && s.speed.WaitN(s.ctx, n) != nil {
		err = errors.New("the request was given up")
	}
	return n, err
}

type slowWriter struct {
	http.ResponseWriter
	ctx   context.Context
	speed *rate.Limiter
}

func (s *slowWriter) Write(b []byte) (int, error) {
	done := 0
	for done < len(b) {
		piece := b[done:min(len(b), done+readPortion/4)]
		if err := s.speed.WaitN(s.ctx, len(piece)); err != nil {
			return done, err
		}
		n, err := s.ResponseWriter.Write(piece)
		done += n
		if err != nil {
			return done, err
		}
	}
	return done, nil
}
