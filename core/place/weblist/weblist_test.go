package weblist_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/weblist"
	"lumtra/core/place/wire"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

var ctx = context.Background()

// server serves files with ranges and ETags, one of them for guests only.
func server(t *testing.T) (string, map[string]string) {
	files := map[string]string{"/cards/one.wav": "one", "/cards/two.wav": strings.Repeat("two ", 1000),
		"/deep/er/three.json": "{}"}
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, ok := files[r.URL.Path]
		if !ok || r.URL.Path == "/deep/er/three.json" && r.URL.Query().Get("sig") != "shelduck" {
			http.Error(w, "no", http.StatusForbidden)
			return
		}
		w.Header().Set("ETag", fmt.Sprintf(`"%x"`, len(text)))
		http.ServeContent(w, r, "", time.Unix(1_700_000_000, 0), strings.NewReader(text))
	}))
	t.Cleanup(web.Close)
	return web.URL, files
}

func open(t *testing.T, text string) (place.Place, error) {
	path := filepath.Join(t.TempDir(), "list.csv")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	end, err := weblist.OpenEndpoint("web", path, wire.Options{})
	if err != nil {
		return nil, err
	}
	t.Cleanup(func() { end.Close() })
	return end.Open("")
}

func TestList(t *testing.T) {
	base, files := server(t)
	p, err := open(t, "# what the partners put up\nname,address,size,checksum\n"+
		",\""+base+"/cards/two.wav\",4000\n"+
		"first take.wav,"+base+"/cards/one.wav,3,md5:f97c5d29941bfb1b2fdab0874906ab82\n"+
		"gone.wav,"+base+"/gone\n"+
		"three.json,"+base+"/deep/er/three.json?sig=shelduck\n")
	require.NoError(t, err)
	var keys []string
	for e, err := range p.List(ctx, "", place.ListOptions{}) {
		if err != nil {
			assert.Equal(t, place.Denied, place.KindOf(err))
			continue
		}
		assert.NotEmpty(t, e.ETag)
		assert.EqualValues(t, 1_700_000_000, e.Modified.Unix())
		keys = append(keys, fmt.Sprintf("%s %d", e.Key, e.Size))
	}
	assert.Equal(t, []string{"cards/two.wav 4000", "first take.wav 3", "three.json 2"}, keys)
	keys = nil
	for e, err := range p.List(ctx, "", place.ListOptions{Shallow: true}) {
		require.NoError(t, err)
		keys = append(keys, e.Key)
	}
	assert.Equal(t, []string{"cards/", "first take.wav", "gone.wav", "three.json"}, keys)

	e, err := p.Stat(ctx, object.Ref{Key: "cards/two.wav"})
	require.NoError(t, err)
	r, _, err := p.Read(ctx, "cards/two.wav", place.ReadOptions{Offset: 4, Length: 3, IfMark: e.Mark()})
	require.NoError(t, err)
	raw, err := io.ReadAll(r)
	require.NoError(t, err)
	r.Close()
	assert.Equal(t, "two", string(raw))
	files["/cards/two.wav"] = "changed"
	_, _, err = p.Read(ctx, "cards/two.wav", place.ReadOptions{IfMark: e.Mark()})
	assert.Equal(t, place.Changed, place.KindOf(err))
	files["/cards/one.wav"] = "won"
	r, _, err = p.Read(ctx, "first take.wav", place.ReadOptions{})
	require.NoError(t, err)
	_, err = io.ReadAll(r)
	r.Close()
	assert.Equal(t, place.Corrupt, place.KindOf(err), "the list's checksum is held against what comes")
	_, err = p.Write(ctx, "x", strings.NewReader(""), 0, place.WriteOptions{})
	assert.Equal(t, place.Unsupported, place.KindOf(err))
	assert.Error(t, p.Remove(ctx, object.Ref{Key: "x"})[0])
	_, err = p.Stat(ctx, object.Ref{Key: "nothing"})
	assert.Equal(t, place.NotFound, place.KindOf(err))
}

// Mistakes in a list are told by line, and no query is ever shown.
func TestMistakes(t *testing.T) {
	for text, says := range map[string]string{
		"":                                "no addresses",
		"https://h/a\nnot an address":     "line 2",
		"https://h/a,many":                "line 1: the size",
		"https://h/a,1,md5:zz":            "checksum",
		"https://h/":                      "no path",
		"https://h/a\nhttps://h2/a":       "like line 1",
		"size,name\n1,a":                  "no column is named address",
		"colour,address\nred,https://h/a": "neither an address",
	} {
		_, err := open(t, text)
		assert.ErrorContains(t, err, says, text)
	}
	p, err := open(t, "http://127.0.0.1:1/a?sig=shelduck")
	require.NoError(t, err)
	_, err = p.Stat(ctx, object.Ref{Key: "a"})
	assert.Equal(t, place.Unreachable, place.KindOf(err))
	assert.NotContains(t, err.Error(), "shelduck")
}

// A web server sends on where it likes, but not from https to http, not with the
// address it came from, and not into this machine or its network.
func TestSentOn(t *testing.T) {
	var referer []string
	inside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		referer = append(referer, r.Header.Get("Referer"))
		io.WriteString(w, "inner")
	}))
	defer inside.Close()
	outside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, r.URL.Query().Get("to"), http.StatusFound)
	}))
	defer outside.Close()
	_, port, _ := strings.Cut(strings.TrimPrefix(inside.URL, "http://"), ":")
	text := outside.URL + "/named?to=" + inside.URL + "/x&sig=shelduck\n" + // of a host that the list names
		outside.URL + "/inner?to=http://localhost:" + port + "/x\n" +
		outside.URL + "/ftp?to=ftp://127.0.0.1/x\n" + outside.URL + "/round?to=" + outside.URL + "/round\n"
	p, err := open(t, text)
	require.NoError(t, err)
	r, _, err := p.Read(ctx, "named", place.ReadOptions{})
	require.NoError(t, err)
	r.Close()
	assert.Equal(t, []string{""}, referer)
	for key, why := range map[string]string{"inner": "inside this network", "ftp": "of the kind", "round": ""} {
		_, _, err := p.Read(ctx, key, place.ReadOptions{})
		require.Error(t, err, key)
		assert.Contains(t, err.Error(), why)
		assert.NotContains(t, err.Error(), "shelduck")
	}
	assert.Len(t, referer, 1, "nothing inside was asked")
}
