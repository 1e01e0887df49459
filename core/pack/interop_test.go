package pack_test

import (
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/place/blob"
	"lumtra/core/place/placetest"
	"lumtra/core/place/s3"
	"lumtra/core/secret"
)

// real opens a bucket of its own on a real server.
func real(t *testing.T, protocol string, srv placetest.Server) place.Place {
	var end interface {
		Open(path string) (place.Place, error)
		Close() error
	}
	var err error
	if protocol == "S3" {
		end, err = s3.NewStore(s3.Config{Name: "seen", Address: srv.Address, AccessKey: srv.Access,
			Secret: secret.New(srv.Secret)})
	} else {
		end, err = blob.NewStore(blob.Config{Name: "seen", Address: srv.Address, Account: srv.Access,
			Key: secret.New(srv.Secret)})
	}
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, end.Close()) })
	bucket := fmt.Sprintf("packs-%d", time.Now().UnixNano())
	require.NoError(t, end.(place.Buckets).MakeBucket(t.Context(), bucket))
	p, err := end.Open(bucket)
	require.NoError(t, err)
	return p
}

// On real servers a pack of which something was dropped is written anew, inside the server where that tells
// what it copied, and holds what it held; nothing that was begun is left.
func TestInteropRewrite(t *testing.T) {
	for _, protocol := range []string{"S3", "BLOB"} {
		for _, srv := range placetest.Servers(protocol) {
			for _, form := range pack.Forms {
				t.Run(srv.Name+" "+string(form), func(t *testing.T) { rewriteAt(t, real(t, protocol, srv), form) })
			}
		}
	}
}

func rewriteAt(t *testing.T, p place.Place, form pack.Form) {
	key, want := "made."+string(form), map[string]string{}
	opts := pack.Options{Dir: t.TempDir()}
	require.NoError(t, pack.Change(t.Context(), p, key, 96<<20, opts, func(w *pack.Writer) error {
		for i := range 60 {
			name := fmt.Sprintf("takes/%02d.wav", i)
			want[name] = noise(i, 1<<20+i*1000)
			if _, err := w.Add(pack.Member{Name: name, Kind: pack.File, Size: int64(len(want[name])), Mode: 0o644},
				&pack.Content{Reader: strings.NewReader(want[name])}); err != nil {
				return err
			}
		}
		return nil
	}))
	gone := []string{"takes/25.wav", "takes/26.wav", "takes/50.wav"}
	for _, name := range gone {
		delete(want, name)
	}
	_, err := pack.Drop(t.Context(), p, key, gone, opts)
	require.NoError(t, err)
	did, err := pack.Rewrite(t.Context(), p, key, opts, "")
	require.NoError(t, err)
	t.Logf("copied by the server: %d MiB; sent: %d MiB; %s", did.Copied>>20, did.Sent>>20, did.Why)
	assert.True(t, maps.Equal(want, inside(t, p, key)), "it holds something else")
	x, err := pack.Open(t.Context(), p, key)
	require.NoError(t, err)
	h := object.CRC64NVME.New()
	raw, _, err := place.Open(t.Context(), p, key, 1<<30)
	require.NoError(t, err)
	h.Write(raw[:x.Kept()])
	assert.Equal(t, object.SumOf(object.CRC64NVME, h), x.Sum())
	require.NoError(t, x.Close())
	left, err := place.Can(p).Parts.Uploads(t.Context())
	require.NoError(t, err)
	assert.Empty(t, left)
}
