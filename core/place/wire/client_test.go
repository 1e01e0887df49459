package wire

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/testkit"
)

// paced is a server that gives so much at a time, every so often; ctx is that of the request.
type paced struct {
	ctx   context.Context
	every time.Duration
	size  int
	left  int // of gifts
}

func (p *paced) Read(b []byte) (int, error) {
	if p.left == 0 {
		return 0, io.EOF
	}
	p.left--
	select {
	case <-time.After(p.every): // the server's pace, by the test's clock
		return min(p.size, len(b)), nil
	case <-p.ctx.Done():
		return 0, p.ctx.Err()
	}
}

func (p *paced) Close() error { return nil }

// answers is a transport that is a function.
type answers func(*http.Request) (*http.Response, error)

func (f answers) RoundTrip(r *http.Request) (*http.Response, error) { return f(r) }

// A server that holds a request without moving anything is left, in both directions
// and also when it drips; one that is merely slow, or read slowly, is not.
func TestStalls(t *testing.T) {
	for name, c := range map[string]struct {
		every  time.Duration
		size   int
		pause  time.Duration // of the reader
		stalls bool
	}{
		"steady":      {every: time.Second, size: 3000},
		"read slowly": {every: time.Second, size: 3000, pause: 2 * usual.moving},
		"slow":        {every: usual.moving - time.Second, size: drip},
		"drips":       {every: time.Second, size: 1, stalls: true},
		"never":       {every: usual.moving + 2*time.Second, size: 3000, stalls: true},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				client := NewClient(answers(func(r *http.Request) (*http.Response, error) {
					return &http.Response{StatusCode: 200, Request: r,
						Body: &paced{r.Context(), c.every, c.size, 100}}, nil
				}))
				resp, err := client.Get("http://store")
				require.NoError(t, err)
				defer resp.Body.Close()
				var n int64
				if c.pause > 0 {
					n, err = io.CopyN(io.Discard, resp.Body, int64(c.size))
					require.NoError(t, err)
					time.Sleep(c.pause) // the reader's own time, which does not count, by the test's clock
				}
				more, err := io.Copy(io.Discard, resp.Body)
				if c.stalls {
					assert.ErrorIs(t, err, ErrStalled)
				} else {
					assert.NoError(t, err)
					assert.EqualValues(t, 100*c.size, n+more)
				}
			})
		})
	}
}

// A server that takes some of what it is sent and then nothing is left, and so is one that does not answer; a caller
// who ends it hears that.
func TestStallsOfWhatIsSent(t *testing.T) {
	for name, c := range map[string]struct {
		body  io.Reader
		taken int // how often the server reads
		most  time.Duration
	}{
		"takes nothing": {io.LimitReader(zeros{}, 1<<30), 0, usual.moving + usual.answering},
		"takes some":    {io.LimitReader(zeros{}, 1<<30), 1, usual.moving},
		"takes all":     {io.LimitReader(zeros{}, drip), 2, usual.answering},
		"nothing sent":  {nil, 0, usual.moving + usual.answering},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				client := NewClient(answers(func(r *http.Request) (*http.Response, error) {
					for i := 0; i < c.taken && r.Body != nil; i++ {
						r.Body.Read(make([]byte, drip))
					}
					<-r.Context().Done()
					return nil, r.Context().Err()
				}))
				began := time.Now()
				_, err := client.Post("http://store", "", c.body)
				assert.ErrorIs(t, err, ErrStalled)
				assert.InDelta(t, c.most.Seconds(), time.Since(began).Seconds(), 2*usual.look.Seconds())
				ctx, cancel := context.WithCancel(t.Context())
				cancel()
				req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://store", nil)
				require.NoError(t, err)
				_, err = client.Do(req)
				assert.ErrorIs(t, err, context.Canceled)
			})
		})
	}
}

// A body that is sent a second time, since its connection was closed just then, is watched as at the first, and what is
// over is looked at no more.
func TestWatchOfABodySentAnew(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		client := NewClient(answers(func(r *http.Request) (*http.Response, error) {
			r.Body.Read(make([]byte, drip))
			again, err := r.GetBody()
			for err == nil {
				time.Sleep(usual.moving - time.Second) // the server's pace, by the test's clock
				_, err = again.Read(make([]byte, 32<<10))
			}
			return &http.Response{StatusCode: 200, Body: http.NoBody}, r.Context().Err()
		}))
		_, err := client.Post("http://store", "", bytes.NewReader(make([]byte, 1<<20)))
		assert.NoError(t, err)
		synctest.Wait()
		w := client.Transport.(*watching)
		time.Sleep(2 * usual.look) // by the test's clock: what looks finds nobody, and looks no more
		w.mu.Lock()
		defer w.mu.Unlock()
		assert.Equal(t, [2]any{0, false}, [2]any{len(w.watches), w.looking})
	})
}

// writes counts how often something is written to a connection.
type writes struct {
	net.Conn
	n *atomic.Int64
}

func (w writes) Write(b []byte) (int, error) {
	w.n.Add(1)
	return w.Conn.Write(b)
}

// A small body that lies in memory goes out with its headers in one step, whole, and a server that takes it and does
// nothing is left all the same.
func TestSmallBodiesGoAtOnce(t *testing.T) {
	gone := make(chan struct{})
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/never" {
			<-gone
		}
		body, err := io.ReadAll(r.Body)
		if err != nil || string(body) != strings.Repeat("tide", 1000) {
			w.WriteHeader(http.StatusBadRequest)
		}
	}))
	var n atomic.Int64
	transport, err := NewTransport(Options{Proxy: "none",
		Dial: func(ctx context.Context, network, address string) (net.Conn, error) {
			c, err := new(net.Dialer).DialContext(ctx, network, address)
			return writes{c, &n}, err
		}})
	require.NoError(t, err)
	defer web.Close()
	defer close(gone)
	defer transport.CloseIdleConnections()
	c := NewClient(transport)
	put := func(path string, body io.Reader) (*http.Response, error) {
		req, err := http.NewRequest(http.MethodPut, web.URL+path, body)
		require.NoError(t, err)
		req.ContentLength = 4000
		return c.Do(req)
	}
	for range 3 {
		for name, body := range map[string]struct {
			io.Reader
			writes int64
		}{"in memory": {strings.NewReader(strings.Repeat("tide", 1000)), 1},
			"as it comes": {io.LimitReader(strings.NewReader(strings.Repeat("tide", 1001)), 4000), 2}} {
			n.Store(0)
			resp, err := put("/", body.Reader)
			require.NoError(t, err)
			require.NoError(t, resp.Body.Close())
			assert.Equal(t, http.StatusOK, resp.StatusCode, name)
			assert.Equal(t, body.writes, n.Load(), name)
		}
	}
	c = newClient(transport, patience{time.Millisecond, time.Millisecond, time.Millisecond}, nil) // it is to be left
	_, err = put("/never", strings.NewReader(strings.Repeat("tide", 1000)))
	assert.ErrorIs(t, err, ErrStalled)
}

type zeros struct{}

func (zeros) Read(b []byte) (int, error) { return len(b), nil }

// A store's redirects are answers like others.
func TestNoRedirects(t *testing.T) {
	seen := 0
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen++
		http.Redirect(w, r, "/elsewhere", http.StatusTemporaryRedirect)
	}))
	defer web.Close()
	c := NewClient(http.DefaultTransport.(*http.Transport).Clone())
	defer c.CloseIdleConnections()
	req, err := http.NewRequest(http.MethodPut, web.URL, strings.NewReader("secret"))
	require.NoError(t, err)
	resp, err := c.Do(req)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, [2]int{http.StatusTemporaryRedirect, 1}, [2]int{resp.StatusCode, seen})
}

func ExampleRetryAfter() {
	for _, text := range []string{"3", "0.5", "86400", "Wed, 21 Oct 2015 07:28:00 GMT", "-1", "NaN", "soon"} {
		fmt.Println(RetryAfter(http.Header{"Retry-After": {text}}))
	}
	// Output:
	// 3s
	// 500ms
	// 2m0s
	// 0s
	// 0s
	// 0s
	// 0s
}

func TestLimited(t *testing.T) {
	text, err := io.ReadAll(Limited(io.NopCloser(strings.NewReader("reeds")), 6))
	assert.NoError(t, err)
	assert.Equal(t, "reeds", string(text))
	_, err = io.ReadAll(Limited(io.NopCloser(zeros{}), 1000))
	assert.ErrorIs(t, err, ErrTooMuch)
}

// A listing that goes round in circles is found out, one that does not is not.
func TestRound(t *testing.T) {
	testkit.Check(t, func(t *rapid.T) {
		lead, size := rapid.IntRange(0, 50).Draw(t, "lead"), rapid.IntRange(1, 50).Draw(t, "circle")
		var r Round
		for n := range 10 * (lead + size) {
			if r.Again(fmt.Sprint(min(n, lead+(n-lead)%size))) {
				assert.GreaterOrEqual(t, n, lead+size)
				return
			}
		}
		assert.Fail(t, "never found")
	})
	var r Round
	for n := range 10_000 {
		assert.False(t, r.Again(fmt.Sprint(n)))
	}
}
