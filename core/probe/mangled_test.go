package probe_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"math/rand/v2"
	"net/http"

	"net/http/httptest"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/blob"
	"lumtra/core/place/s3"
	"lumtra/core/probe"
	"lumtra/core/secret"
	"lumtra/standin"
	"lumtra/testkit"
)

// mangler serves what a stand-in answers, with parts left out or changed.
type mangler struct {
	http.Handler
	mu   sync.Mutex
	dice *rand.Rand
}

var (
	leaf   = regexp.MustCompile(`<(\w+)>([^<]*)</\w+>`)
	branch = regexp.MustCompile(`(?s)<(\w+)>(.*)</(\w+)>`)
)

func (m *mangler) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	rec := httptest.NewRecorder()
	m.Handler.ServeHTTP(rec, r)
	m.mu.Lock()
	defer m.mu.Unlock()
	body := rec.Body.Bytes()
	maybe := func() bool { return m.dice.IntN(12) == 0 }
	if bytes.Contains(body, []byte("<?xml")) && m.dice.IntN(2) == 0 {
		body = leaf.ReplaceAllFunc(body, func(x []byte) []byte {
			if !maybe() {
				return x
			}
			name := string(leaf.FindSubmatch(x)[1])
			return [][]byte{nil, []byte("<" + name + "/>"), []byte("<" + name + ">-9223372036854775808</" + name +
				">"), []byte("<" + name + ">true</" + name + ">"), append(x, x...)}[m.dice.IntN(5)]
		})
		if maybe() { // a whole branch goes
			if at := branch.FindSubmatchIndex(body); at != nil && at[4] < at[5] {
				inner := branch.FindSubmatchIndex(body[at[4]:at[5]])
				if inner != nil {
					body = append(append([]byte(nil), body[:at[4]+inner[0]]...), body[at[4]+inner[1]:]...)
				}
			}
		}
	}
	if maybe() {
		body = body[:len(body)/2]
	}
	for name, values := range rec.Header() {
		if name == "Content-Length" || maybe() {
			continue
		}
		if maybe() {
			values = []string{[]string{"", "x", "-1", "99999999999999999999",
				strings.Repeat("e", 70_000)}[m.dice.IntN(5)]}
		}
		w.Header()[name] = values
	}
	if m.dice.IntN(3) > 0 {
		w.Header().Set("Content-Length", strconv.Itoa(len(body)))
	}
	code := rec.Code
	if m.dice.IntN(40) == 0 {
		code = []int{204, 206, 301, 307, 404, 409, 412, 500, 501}[m.dice.IntN(9)]
	}
	w.WriteHeader(code)
	w.Write(body)
}

// Whatever a server leaves out of its answers, or puts in, a place answers with an
// error or with what it can make of it, and comes to an end.
func TestAnswersWithPartsLeftOut(t *testing.T) {
	testkit.Heavy(t)
	key := base64.StdEncoding.EncodeToString([]byte("eelgrass"))
	dir, n := t.TempDir(), 0
	testkit.Checks(t, testkit.Draws(16), func(t *rapid.T) {
		n++
		kind := rapid.SampledFrom([]string{"s3", "blob"}).Draw(t, "kind")
		seed := rapid.Uint64().Draw(t, "seed")
		store, err := standin.New(standin.Config{Dir: filepath.Join(dir, strconv.Itoa(n)), API: kind,
			Keys: []standin.Key{{Access: "marsh", Secret: key}}})
		require.NoError(t, err)
		defer store.Close()
		m := &mangler{Handler: store, dice: rand.New(rand.NewPCG(seed, 1))}
		web := httptest.NewServer(m)
		defer web.Close()
		var end place.Endpoint
		known := place.NewKnown(place.Facts{}, nil)
		if kind == "blob" {
			end, err = blob.NewStore(blob.Config{Name: "north", Address: web.URL + "/marsh", Account: "marsh",
				Key: secret.New(key), Known: known})
		} else {
			end, err = s3.NewStore(s3.Config{Name: "north", Address: web.URL, AccessKey: "marsh",
				Secret: secret.New(key), Known: known})
		}
		require.NoError(t, err)
		defer end.Close()
		ctx, cancel := context.WithTimeout(ctx, testkit.Patience)
		defer cancel()
		end.(place.Buckets).MakeBucket(ctx, "archive")
		probe.Run(ctx, end, probe.Options{Bucket: "archive", Write: true})
		p, err := end.Open("archive/below")
		require.NoError(t, err)
		for _, name := range []string{"a", "b/c", "b/d"} {
			p.Write(ctx, name, strings.NewReader(name), int64(len(name)), place.WriteOptions{Condition: place.Always})
			p.Stat(ctx, object.Ref{Key: name})
			if r, _, err := p.Read(ctx, name, place.ReadOptions{}); err == nil {
				r.Close()
			}
		}
		if w, ok := p.(place.PartWriter); ok {
			if up, err := w.Begin(ctx, "large", place.WriteOptions{}); err == nil {
				w.WritePart(ctx, up, 1, 0, strings.NewReader("part"), 4, object.Sum{})
				w.Parts(ctx, up)
				w.Uploads(ctx)
				w.Abort(ctx, up)
			}
		}
		if v, ok := p.(place.Versioned); ok {
			for range v.Versions(ctx, "", false) {
			}
		}
		for range p.List(ctx, "", place.ListOptions{}) {
		}
		for range p.List(ctx, "b", place.ListOptions{Shallow: true}) {
		}
		end.(place.Buckets).Buckets(ctx)
		p.Remove(ctx, object.Ref{Key: "a"}, object.Ref{Key: "b/c"})
		require.NoError(t, ctx.Err(), "it did not come to an end")
	})
}
