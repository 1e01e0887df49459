package wire

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/testkit"
)

// A server that holds a request without moving anything is left, in both directions
// and also when it drips; one that is merely slow, or read slowly, is not.
func TestStalls(t *testing.T) {
	gone := make(chan struct{})
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		every, size := 5*time.Millisecond, 1
		switch r.URL.Path {
		case "/steady":
			size = 3000
		case "/never":
			every = time.Hour
		case "/takes-nothing":
			<-gone
			return
		}
		w.Write([]byte(" "))
		w.(http.Flusher).Flush()
		for range 60 {
			select {
			case <-time.After(every): // the server's pace
			case <-r.Context().Done():
				return
			}
			fmt.Fprint(w, strings.Repeat("x", size))
			w.(http.Flusher).Flush()
		}
	}))
	transport, err := NewTransport(Options{Proxy: "none"})
	require.NoError(t, err)
	defer web.Close()
	defer close(gone)
	defer transport.CloseIdleConnections()
	c := newClient(transport, 150*time.Millisecond, nil)
	for path, stalls := range map[string]bool{"/steady": false, "/drips": true, "/never": true} {
		resp, err := c.Get(web.URL + path)
		require.NoError(t, err, path)
		if path == "/steady" {
			time.Sleep(200 * time.Millisecond) // the reader's own time does not count
		}
		n, err := io.Copy(io.Discard, resp.Body)
		if stalls {
			assert.ErrorIs(t, err, ErrStalled, path)
		} else {
			assert.NoError(t, err, path)
			assert.EqualValues(t, 1+60*3000, n)
		}
		resp.Body.Close()
	}
	_, err = c.Post(web.URL+"/takes-nothing", "", io.LimitReader(zeros{}, 1<<30))
	assert.ErrorIs(t, err, ErrStalled)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, web.URL, nil)
	require.NoError(t, err)
	_, err = c.Do(req)
	assert.ErrorIs(t, err, context.Canceled)
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
