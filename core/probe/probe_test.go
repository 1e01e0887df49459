package probe_test

import (
	"context"
	"encoding/base64"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/blob"
	"lumtra/core/place/folder"
	"lumtra/core/place/s3"
	"lumtra/core/probe"
	"lumtra/core/secret"
	"lumtra/standin"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

var ctx = context.Background()

func start(t *testing.T, cfg standin.Config) (*standin.Server, string) {
	cfg.Dir = t.TempDir()
	if cfg.Keys == nil {
		cfg.Keys = []standin.Key{{Access: "marsh", Secret: base64.StdEncoding.EncodeToString([]byte("eelgrass"))}}
	}
	srv, err := standin.New(cfg)
	require.NoError(t, err)
	t.Cleanup(func() { srv.Close() })
	addr, err := srv.Start("127.0.0.1:0")
	require.NoError(t, err)
	return srv, addr
}

func connect(t *testing.T, addr, secretText string) *s3.Store {
	store, err := s3.NewStore(s3.Config{Name: "north", Address: addr, AccessKey: "marsh",
		Secret: secret.New(secretText)})
	require.NoError(t, err)
	t.Cleanup(func() { store.Close() })
	return store
}

var right = base64.StdEncoding.EncodeToString([]byte("eelgrass"))

func empty(t *testing.T, end place.Endpoint, bucket string) {
	p, err := end.Open(bucket)
	require.NoError(t, err)
	for e, err := range p.List(ctx, "", place.ListOptions{}) {
		require.NoError(t, err)
		assert.Fail(t, "left behind", e.Key)
	}
	if v, ok := p.(place.Versioned); ok {
		for e := range v.Versions(ctx, "", false) {
			assert.Fail(t, "version left behind", e.Key)
		}
	}
}

// Everything is found, and nothing is left.
func TestFindsEverything(t *testing.T) {
	_, addr := start(t, standin.Config{})
	north := connect(t, addr, right)
	require.NoError(t, north.MakeBucket(ctx, "archive"))
	require.NoError(t, north.SetVersioning(ctx, "archive", true))
	grew := 0
	r := probe.Run(ctx, north,
		probe.Options{Write: true, Each: func(r probe.Report) { assert.Len(t, r.Checks, grew+1); grew++ }})
	assert.Zero(t, r.Refused(), "%+v", r.Checks)
	assert.Equal(t, "archive", r.Bucket)
	assert.Equal(t, place.VersioningOn, r.Versioning)
	assert.True(t, r.VerifiesSums && r.Conditions && r.Parts)
	assert.True(t, r.Up > 0 && r.Down > 0 && r.Latency > 0)
	p, err := north.Open("archive")
	require.NoError(t, err)
	want := p.Abilities()
	require.NotNil(t, r.Clock)
	want.Clock = *r.Clock
	assert.Equal(t, want, r.Apply(p.Abilities()))
	assert.Len(t, r.Promises, 4)
	empty(t, north, "archive")

	read := probe.Run(ctx, north, probe.Options{})
	assert.Equal(t, probe.Untried, read.Check("write").Outcome)
	assert.Equal(t, p.Abilities(), read.Apply(p.Abilities()), "what was not tested is taken as promised")

	_, addr = start(t, standin.Config{API: standin.BlobAPI, Versions: true})
	hill, err := blob.NewStore(blob.Config{Name: "hill", Address: addr + "/marsh", Account: "marsh",
		Key: secret.New(right)})
	require.NoError(t, err)
	defer hill.Close()
	require.NoError(t, hill.MakeBucket(ctx, "archive"))
	r = probe.Run(ctx, hill, probe.Options{Write: true})
	assert.Zero(t, r.Refused(), "%+v", r.Checks)
	assert.Equal(t, place.VersioningOn, r.Versioning)
	empty(t, hill, "archive")

	dir, err := folder.OpenEndpoint("studio", t.TempDir(), folder.Options{})
	require.NoError(t, err)
	defer dir.Close()
	r = probe.Run(ctx, dir, probe.Options{Write: true})
	assert.Zero(t, r.Refused(), "%+v", r.Checks)
	assert.Equal(t, probe.Absent, r.Check("tags").Outcome)
	empty(t, dir, "")
}

// Each refusal is told at its step, with what to ask for.
func TestRefusals(t *testing.T) {
	srv, addr := start(t, standin.Config{})
	north := connect(t, addr, right)
	require.NoError(t, north.MakeBucket(ctx, "archive"))
	for op, want := range map[string]struct{ step, mend string }{
		"ListBuckets":         {"list buckets", "s3:ListAllMyBuckets"},
		"ListObjectsV2":       {"list", "s3:ListBucket"},
		"PutObject":           {"write", "s3:PutObject"},
		"GetObject":           {"read", "s3:GetObject"},
		"DeleteObject*":       {"delete", "s3:DeleteObject"},
		"PutObjectTagging":    {"tags", "s3:PutObjectTagging"},
		"GetBucketVersioning": {"versioning", ""},
	} {
		srv.SetFaults(standin.Fault{Op: op, Do: "403"})
		r := probe.Run(ctx, north, probe.Options{Write: true})
		c := r.Check(want.step)
		if want.mend == "" {
			assert.Equal(t, probe.Absent, c.Outcome, op)
			continue
		}
		assert.Equal(t, probe.Refused, c.Outcome, "%s: %+v", op, r.Checks)
		assert.Contains(t, c.Mend, want.mend)
	}
	srv.SetFaults(standin.Fault{Op: "ListBuckets", Do: "403"})
	r := probe.Run(ctx, north, probe.Options{Bucket: "archive", Write: true})
	assert.Zero(t, r.Refused(), "a bucket that is named needs no list of them")
	srv.SetFaults()
	r = probe.Run(ctx, connect(t, addr, "wrong"), probe.Options{Write: true})
	assert.Equal(t, probe.Refused, r.Check("sign in").Outcome)
	assert.Equal(t, probe.Fine, r.Check("reach").Outcome)
	r = probe.Run(ctx, connect(t, "http://127.0.0.1:1", right), probe.Options{})
	assert.Equal(t, probe.Refused, r.Check("reach").Outcome)
	r = probe.Run(ctx, north, probe.Options{Bucket: "nowhere"})
	assert.Equal(t, probe.Refused, r.Check("list").Outcome)
}

// careless is a store that takes everything as it comes, with a clock of its own.
func careless(t *testing.T) string {
	var kept sync.Map // path to content; the probe asks several things at once
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		content, _ := kept.Load(r.URL.Path)
		w.Header().Set("Date", time.Now().Add(3*time.Minute).UTC().Format(http.TimeFormat))
		switch {
		case r.Method == http.MethodPut && r.URL.RawQuery == "" && r.Header.Get("X-Amz-Copy-Source") == "":
			var body strings.Builder
			r.Body = http.MaxBytesReader(w, r.Body, 64<<20)
			buf := make([]byte, 64<<10)
			for {
				n, err := r.Body.Read(buf)
				body.Write(buf[:n])
				if err != nil {
					break
				}
			}
			kept.Store(r.URL.Path, body.String())
		case r.Method == http.MethodGet && r.URL.Query().Has("list-type"):
			w.Write([]byte("<ListBucketResult><IsTruncated>false</IsTruncated></ListBucketResult>"))
		case r.URL.RawQuery == "" && r.Method == http.MethodDelete:
			kept.Delete(r.URL.Path)
		case r.URL.RawQuery == "" && content != nil:
			io.WriteString(w, content.(string))
		default:
			w.WriteHeader(http.StatusNotImplemented)
		}
	}))
	t.Cleanup(web.Close)
	return web.URL
}

// A store that promises and does not keep is found out, and plans hear of it.
func TestCarelessStore(t *testing.T) {
	north := connect(t, careless(t), right)
	r := probe.Run(ctx, north, probe.Options{Bucket: "b", Write: true})
	assert.InDelta(t, 180, r.Skew.Seconds(), 1)
	assert.Equal(t, probe.Absent, r.Check("checksums").Outcome, "%+v", r.Checks)
	assert.True(t, r.Promises[0].Weak)
	assert.False(t, r.VerifiesSums || r.Conditions || r.Parts)
	p, err := north.Open("b")
	require.NoError(t, err)
	a := r.Apply(p.Abilities())
	assert.Equal(t, object.NoSum, a.StoredSums)
	assert.False(t, a.Conditions)
	assert.Zero(t, a.MaxParts)
	assert.GreaterOrEqual(t, a.Clock.Late, 3*time.Minute, "what it stores is dated late")
}

// What a test says fits what it saw: which of two conditions a store does not keep to, and nothing of tidying up
// where nothing was to be tidied.
func TestWordsOfATest(t *testing.T) {
	_, addr := start(t, standin.Config{Habits: []standin.Habit{standin.MatchIgnored}})
	north := connect(t, addr, right)
	require.NoError(t, north.MakeBucket(ctx, "archive"))
	r := probe.Run(ctx, north, probe.Options{Bucket: "archive", Write: true})
	for name, what := range map[string]string{"conditions": "objects", "cond. of parts": "objects in parts",
		"cond. of copies": "copies"} {
		assert.Equal(t, probe.Absent, r.Check(name).Outcome)
		assert.Contains(t, r.Check(name).Found, "if unchanged ignored: "+what+" are looked at before and after")
	}
	srv, addr := start(t, standin.Config{})
	north = connect(t, addr, right)
	require.NoError(t, north.MakeBucket(ctx, "archive"))
	for _, op := range []string{"PutObject", "CreateMultipartUpload", "HeadObject"} {
		srv.SetFaults(standin.Fault{Op: op, Do: "403"})
		r = probe.Run(ctx, north, probe.Options{Bucket: "archive", Write: true})
		assert.NotZero(t, r.Refused(), op)
		assert.Empty(t, r.Check("tidying up").Name, "%s: %+v", op, r.Checks)
	}
	for op, says := range map[string][2]string{
		"DeleteObject*": {"something is left of the test: not allowed", "s3:DeleteObject"},
		"ListObjectsV2": {"whether something is left of the test cannot be seen", "s3:ListBucket"},
	} {
		srv.SetFaults(standin.Fault{Op: op, Do: "403"})
		r = probe.Run(ctx, north, probe.Options{Bucket: "archive", Write: true})
		c := r.Check("tidying up")
		assert.Equal(t, probe.Refused, c.Outcome, "%+v", r.Checks)
		assert.Contains(t, c.Found, says[0])
		assert.Contains(t, c.Mend, says[1])
	}
}
