package blob_test

import (
	"context"
	"encoding/base64"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/blob"
	"lumtra/core/place/placetest"
	"lumtra/core/secret"
	"lumtra/standin"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

var key = base64.StdEncoding.EncodeToString([]byte("sea lavender"))

func start(t *testing.T) string {
	srv, err := standin.New(standin.Config{Dir: t.TempDir(), Blob: true, Keys: []standin.Key{{Access: "marsh", Secret: key}}})
	require.NoError(t, err)
	t.Cleanup(func() { srv.Close() })
	addr, err := srv.Start("127.0.0.1:0")
	require.NoError(t, err)
	return addr + "/marsh"
}

func connect(t *testing.T, cfg blob.Config) *blob.Store {
	cfg.Name = "hill-store"
	store, err := blob.NewStore(cfg)
	require.NoError(t, err)
	t.Cleanup(func() { store.Close() })
	return store
}

func conform(t *testing.T, store *blob.Store) {
	serial := 0
	placetest.Run(t, func(t *testing.T) place.Place {
		serial++
		name := fmt.Sprintf("box-%d", serial)
		require.NoError(t, store.MakeBucket(context.Background(), name))
		p, err := store.Open(name + "/masters/2026")
		require.NoError(t, err)
		return p
	}, placetest.Options{ImplicitUploads: true})
}

func TestConformance(t *testing.T) {
	conform(t, connect(t, blob.Config{Address: start(t), Account: "marsh", Key: secret.New(key)}))
}

// Each way to be turned away is told apart, in words, and without the key.
func TestRefusals(t *testing.T) {
	ctx, addr := context.Background(), start(t)
	for _, c := range []struct {
		cfg  blob.Config
		kind place.ErrorKind
	}{
		{blob.Config{Address: addr, Account: "marsh", Key: secret.New("bm90IGl0")}, place.BadLogin},
		{blob.Config{Address: addr, Account: "hill", Key: secret.New(key)}, place.BadLogin},
		{blob.Config{Address: addr}, place.BadLogin},
		{blob.Config{Address: addr, Account: "marsh", Key: secret.New(key)}, place.NotFound},
		{blob.Config{Address: "http://127.0.0.1:1/marsh", Account: "marsh", Key: secret.New(key)}, place.Unreachable},
		{blob.Config{Address: "http://127.0.0.1:1/marsh", SAS: secret.New("sv=2021&sig=" + key)}, place.Unreachable},
	} {
		p, err := connect(t, c.cfg).Open("not-there")
		require.NoError(t, err)
		_, err = p.Stat(ctx, object.Ref{Key: "x"})
		if c.kind == place.BadLogin && place.KindOf(err) == place.Denied {
			_, _, err = p.Read(ctx, "x", place.ReadOptions{}) // HEAD has no body to tell more
		}
		assert.Equal(t, c.kind.String(), place.KindOf(err).String(), "%v", err)
		assert.NotContains(t, fmt.Sprint(err), key)
	}
	_, err := blob.NewStore(blob.Config{Name: "x", Address: addr, Account: "marsh", Key: secret.New("not base64!")})
	assert.Error(t, err)
	assert.NotContains(t, fmt.Sprint(err), "not base64!")
}
