package s3_test

import (
	"context"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/placetest"
	"lumtra/core/place/s3"
	"lumtra/core/place/wire"
	"lumtra/core/secret"
	"lumtra/standin"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

var ctx = context.Background()

// keys are the stand-in's credentials in these tests.
var keys = []standin.Key{{Access: "north", Secret: "reed-bed"},
	{Access: "guest", Secret: "mudflat", Token: "for-today"}}

func startStandIn(t *testing.T, cfg standin.Config) (*standin.Server, string) {
	cfg.Dir, cfg.Keys = t.TempDir(), keys
	srv, err := standin.New(cfg)
	require.NoError(t, err)
	t.Cleanup(func() { srv.Close() })
	addr, err := srv.Start("127.0.0.1:0")
	require.NoError(t, err)
	return srv, addr
}

func newStore(t *testing.T, cfg s3.Config) *s3.Store {
	if cfg.AccessKey == "" {
		cfg.AccessKey, cfg.Secret = "north", secret.New("reed-bed")
	}
	cfg.Name = "north-store"
	store, err := s3.NewStore(cfg)
	require.NoError(t, err)
	t.Cleanup(func() { store.Close() })
	return store
}

var serial atomic.Int64

// keeping opens a place in a new bucket that keeps versions, and reads back
// that it does.
func keeping(t *testing.T, store *s3.Store) place.Place {
	p := fresh(t, store, "kept")
	name := fmt.Sprintf("bucket-%d", serial.Load())
	is, err := store.Versioning(ctx, name)
	require.NoError(t, err)
	assert.Equal(t, place.VersioningOff, is)
	require.NoError(t, store.SetVersioning(ctx, name, true))
	is, err = store.Versioning(ctx, name)
	require.NoError(t, err)
	assert.Equal(t, place.VersioningOn, is)
	return p
}

// What belongs to a bucket and not to its objects.
func TestBuckets(t *testing.T) {
	_, address := startStandIn(t, standin.Config{Public: true})
	store, err := s3.NewStore(s3.Config{Name: "north", Address: address})
	require.NoError(t, err)
	defer store.Close()
	placetest.Buckets(t, store, "belongs", func(string) bool { return false })
}

// fresh opens a place in a new bucket, behind a prefix.
func fresh(t *testing.T, store *s3.Store, prefix string) place.Place {
	name := fmt.Sprintf("bucket-%d", serial.Add(1))
	require.NoError(t, store.MakeBucket(ctx, name))
	p, err := store.Open(name + "/" + prefix)
	require.NoError(t, err)
	return p
}

func TestConformance(t *testing.T) {
	yes := true
	for name, cfg := range map[string]s3.Config{
		"path":          {},
		"signed bodies": {SignBodies: &yes, Region: "eu-north-3"},
		"session token": {AccessKey: "guest", Secret: secret.New("mudflat"), Token: secret.New("for-today")},
	} {
		t.Run(name, func(t *testing.T) {
			_, addr := startStandIn(t, standin.Config{RestoreTakes: 300 * time.Millisecond})
			cfg.Address = addr
			store := newStore(t, cfg)
			placetest.Run(t, func(t *testing.T) place.Place { return fresh(t, store, "masters/2026") },
				placetest.Options{ColdClass: "GLACIER",
					Versioned: func(t *testing.T) place.Place { return keeping(t, store) }})
		})
	}
}

// The whole suite once more over TLS with an authority of its own and the
// bucket in the host name.
func TestConformanceTLSVirtualHost(t *testing.T) {
	srv, err := standin.New(standin.Config{Dir: t.TempDir(), Keys: keys, Domain: "example.com"})
	require.NoError(t, err)
	defer srv.Close()
	web := httptest.NewTLSServer(srv)
	defer web.Close()
	ca := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(ca,
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: web.Certificate().Raw}), 0o644))
	dial := func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, web.Listener.Addr().String())
	}
	store := newStore(t, s3.Config{Address: "https://example.com", VirtualHost: true, CAFile: ca, Dial: dial})
	placetest.Run(t, func(t *testing.T) place.Place {
		// The certificate is for *.example.com only one level down.
		return fresh(t, store, "")
	}, placetest.Options{Client: tlsClient(t, ca, dial)})
}

func tlsClient(t *testing.T, ca string, dial wire.Dial) http.RoundTripper {
	client, err := wire.NewTransport(wire.Options{CAFile: ca, Dial: dial})
	require.NoError(t, err)
	t.Cleanup(client.CloseIdleConnections)
	return client
}

// Each way to be turned away is told apart, in words.
func TestRefusals(t *testing.T) {
	srv, addr := startStandIn(t, standin.Config{})
	good := newStore(t, s3.Config{Address: addr})
	fresh := fresh(t, good, "")
	_ = fresh
	stat := func(cfg s3.Config, path string) error {
		cfg.Address = addr
		p, err := newStore(t, cfg).Open(path)
		require.NoError(t, err)
		_, _, err = p.Read(ctx, "x", place.ReadOptions{})
		return err
	}
	for _, c := range []struct {
		cfg  s3.Config
		kind place.ErrorKind
		says string
	}{
		{s3.Config{AccessKey: "nobody", Secret: secret.New("x")}, place.BadLogin, "access key"},
		{s3.Config{AccessKey: "north", Secret: secret.New("wrong")}, place.BadLogin, "secret"},
		{s3.Config{AccessKey: "guest", Secret: secret.New("mudflat")}, place.BadLogin, "token"},
		{s3.Config{}, place.NotFound, `no bucket "not-there"`},
	} {
		err := stat(c.cfg, "not-there")
		assert.Equal(t, c.kind, place.KindOf(err), "%v", err)
		assert.ErrorContains(t, err, c.says)
		assert.NotContains(t, err.Error(), "mudflat")
	}
	down, err := s3.NewStore(s3.Config{Name: "gone", Address: "http://127.0.0.1:1"})
	require.NoError(t, err)
	defer down.Close()
	p, _ := down.Open("b")
	_, err = p.Stat(ctx, object.Ref{Key: "x"})
	assert.Equal(t, place.Unreachable, place.KindOf(err))
	_, err = down.Buckets(ctx)
	assert.Equal(t, place.Unreachable, place.KindOf(err), "%v", err)
	_ = srv
	for _, bad := range []string{"", "north:/x", "ftp://host", "http://host/bucket"} {
		_, err := s3.NewStore(s3.Config{Name: "n", Address: bad})
		assert.Error(t, err, bad)
	}
}

// Credentials that SDKs share are found by profile and along the chain, and
// sign requests.
func TestSharedCredentials(t *testing.T) {
	_, addr := startStandIn(t, standin.Config{})
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "credentials"),
		[]byte("[marsh]\naws_access_key_id = north\naws_secret_access_key = reed-bed\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "config"), []byte("[profile marsh]\nregion = eu-north-7\n"),
		0o600))
	for name, value := range map[string]string{"AWS_SHARED_CREDENTIALS_FILE": filepath.Join(dir, "credentials"),
		"AWS_CONFIG_FILE": filepath.Join(dir, "config"),
		"AWS_PROFILE":     "", "AWS_ACCESS_KEY_ID": "north", "AWS_SECRET_ACCESS_KEY": "reed-bed",
		"AWS_EC2_METADATA_DISABLED": "true"} {
		t.Setenv(name, value)
	}
	for _, profile := range []string{"marsh", ""} {
		shared, region, err := s3.SharedCredentials(ctx, profile)
		require.NoError(t, err)
		if profile != "" {
			assert.Equal(t, "eu-north-7", region)
		}
		store, err := s3.NewStore(s3.Config{Name: "north", Address: addr, Region: region, Credentials: shared})
		require.NoError(t, err)
		p := fresh(t, store, "")
		_, err = p.Write(ctx, "a", strings.NewReader("x"), 1, place.WriteOptions{})
		assert.NoError(t, err)
		assert.Empty(t, place.Can(p).Lacks(place.Links))
		store.Close()
	}
	_, _, err := s3.SharedCredentials(ctx, "nobody")
	assert.Error(t, err)
}

// A proxy that is named is gone through, and "none" goes around the one that
// the environment names.
func TestProxy(t *testing.T) {
	_, addr := startStandIn(t, standin.Config{Domain: "store.example.net"})
	target, err := url.Parse(addr)
	require.NoError(t, err)
	through := 0
	forward := httputil.NewSingleHostReverseProxy(target)
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		through++
		forward.ServeHTTP(w, r)
	}))
	defer proxy.Close()
	far := newStore(t, s3.Config{Address: "http://store.example.net", Proxy: proxy.URL})
	_, err = far.Buckets(ctx)
	require.NoError(t, err)
	assert.Equal(t, 1, through)
	near := newStore(t, s3.Config{Address: addr, Proxy: "none"})
	_, err = near.Buckets(ctx)
	require.NoError(t, err)
	assert.Equal(t, 1, through)
	_, err = s3.NewStore(s3.Config{Name: "n", Address: addr, Proxy: "nonsense"})
	assert.Error(t, err)
}

// The checksum that a store answers with is held against what was sent: another one is
// damage, also where the status says that all is well.
func TestAnsweredSumIsHeld(t *testing.T) {
	h := object.CRC64NVME.New()
	h.Write([]byte("reed"))
	right := object.SumOf(object.CRC64NVME, h).Base64()
	for answer, damaged := range map[string]bool{right: false, "": false, "AAAAAAAAAAA=": true} {
		web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			io.Copy(io.Discard, r.Body)
			w.Header().Set("ETag", `"e"`)
			if answer != "" {
				w.Header().Set("X-Amz-Checksum-Crc64nvme", answer)
			}
		}))
		store := newStore(t, s3.Config{Address: web.URL})
		p, err := store.Open("box")
		require.NoError(t, err)
		_, err = p.Write(ctx, "a.wav", strings.NewReader("reed"), 4, place.WriteOptions{})
		assert.Equal(t, damaged, place.KindOf(err) == place.Corrupt, "%q: %v", answer, err)
		_, err = p.(place.PartWriter).WritePart(ctx, place.Upload{Key: "a.wav", ID: "u"}, 1, 0,
			strings.NewReader("reed"), 4, object.Sum{})
		assert.Equal(t, damaged, place.KindOf(err) == place.Corrupt, "%q: %v", answer, err)
		web.Close()
	}
}
