package transfer_test

import (
	"bytes"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/testkit"
)

// proxy stands before a real server and spoils what passes, now and then.
type proxy struct {
	to     *url.URL
	spoils atomic.Bool
	flips  atomic.Bool // a bit of one body in twenty, of whatever passes either way, and nothing else
	hits   atomic.Int64
	took   atomic.Int64 // bytes of bodies
	stall  time.Duration
	mu     sync.Mutex
	dice   *rand.Rand
}

// before starts a proxy before the server at an address, and gives its own.
func before(t *testing.T, p *proxy, address string) string {
	to, err := url.Parse(address)
	require.NoError(t, err)
	p.to, p.dice = to, testkit.Dice(t)
	web := httptest.NewServer(p)
	t.Cleanup(func() { web.CloseClientConnections(); web.Close() })
	at, err := url.Parse(web.URL)
	require.NoError(t, err)
	own := *to
	own.Host = at.Host
	return own.String()
}

// spoilt are the ways to spoil a request, each met by one in twenty.
var spoilt = []string{"503", "500", "before", "after", "short", "flip", "stall"}

func (p *proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	how := ""
	p.mu.Lock()
	n := p.dice.IntN(20)
	p.mu.Unlock()
	if p.spoils.Load() && n < len(spoilt) {
		how = spoilt[n]
		p.hits.Add(1)
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return
	}
	p.took.Add(int64(len(body)))
	switch how {
	case "503", "500":
		w.WriteHeader(map[string]int{"503": 503, "500": 500}[how])
		return
	case "before":
		cut(w)
		return
	case "flip": // content only: what a list of parts says is not summed
		if len(body) > 4096 {
			body = bytes.Clone(body)
			body[len(body)/2] ^= 4
		}
	case "stall":
		time.Sleep(p.stall) // as a stalled server does
	}
	body = p.flipped(body)
	out := r.Clone(r.Context())
	out.URL.Scheme, out.URL.Host, out.RequestURI = "http", p.to.Host, ""
	out.Body, out.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
	if len(body) == 0 {
		out.Body = http.NoBody
	}
	resp, err := http.DefaultTransport.RoundTrip(out) // with the Host that was signed
	if err != nil {
		cut(w)
		return
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(resp.Body)
	if how == "after" || err != nil {
		cut(w)
		return
	}
	answer = p.flipped(answer)
	for name, values := range resp.Header {
		w.Header()[name] = values
	}
	w.WriteHeader(resp.StatusCode)
	if how == "short" && len(answer) > 0 && !strings.EqualFold(r.Method, http.MethodHead) {
		w.Write(answer[:len(answer)/2])
		if f, ok := w.(http.Flusher); ok {
			f.Flush()
		}
		cut(w)
		return
	}
	w.Write(answer)
}

// flipped is what becomes of a body on the line.
func (p *proxy) flipped(body []byte) []byte {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.flips.Load() || len(body) == 0 || p.dice.IntN(20) > 0 {
		return body
	}
	p.hits.Add(1)
	body = bytes.Clone(body)
	body[p.dice.IntN(len(body))] ^= 1 << p.dice.IntN(8)
	return body
}

// cut breaks the connection.
func cut(w http.ResponseWriter) {
	conn, _, err := http.NewResponseController(w).Hijack()
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	if tcp, ok := conn.(*net.TCPConn); ok {
		tcp.SetLinger(0)
	}
	conn.Close()
}

// TestInteropFaults goes there and back with real servers behind a proxy that
// spoils one request in three: the end is equal trees.
func TestInteropFaults(t *testing.T) {
	_, stall := faulty()
	var all []*proxy
	for i, real := range realPlaces(t, func(address string) string {
		all = append(all, &proxy{stall: stall})
		return before(t, all[len(all)-1], address)
	}) {
		w, p := newWorld(t), all[i]
		w.fill(t, 300, 12<<20, 17<<20)
		there := w.plan(t, w.folder, real)
		p.spoils.Store(true)
		opts := quick
		opts.Digest = object.SHA256
		out, m := w.run(t, ctx, there, w.folder, real, opts)
		p.spoils.Store(false)
		digested(t, there, real, object.SHA256)
		assert.Zero(t, out.Failed, "%v", m.Problems)
		same(t, texts(t, w.folder), texts(t, real))
		ups, err := real.(place.PartWriter).Uploads(ctx)
		require.NoError(t, err)
		assert.Empty(t, ups)

		end, err := folder.OpenEndpoint("back", t.TempDir(), folder.Options{})
		require.NoError(t, err)
		defer end.Close()
		back, _ := end.Open("")
		home := w.plan(t, real, back)
		p.spoils.Store(true)
		out, m = w.run(t, ctx, home, real, back, quick)
		p.spoils.Store(false)
		assert.Zero(t, out.Failed, "%v", m.Problems)
		same(t, texts(t, w.folder), texts(t, back))
		assert.Greater(t, p.hits.Load(), int64(50))
	}
}
