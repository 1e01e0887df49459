package blob_test

import (
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/sas"

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

var ctx = context.Background()

var key = base64.StdEncoding.EncodeToString([]byte("sea lavender"))

func start(t *testing.T) string { return startWith(t, standin.Config{}) }

func startWith(t *testing.T, cfg standin.Config) string {
	cfg.Dir, cfg.API, cfg.Keys, cfg.RestoreTakes = t.TempDir(), standin.BlobAPI,
		[]standin.Key{{Access: "marsh", Secret: key}}, 300*time.Millisecond
	srv, err := standin.New(cfg)
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

var serial atomic.Int64

// fresh opens a place in a new container.
func fresh(t *testing.T, store *blob.Store) place.Place {
	name := fmt.Sprintf("box-%d", serial.Add(1))
	require.NoError(t, store.MakeBucket(ctx, name))
	p, err := store.Open(name + "/masters/2026")
	require.NoError(t, err)
	return p
}

func conform(t *testing.T, store *blob.Store, opts placetest.Options) {
	opts.ImplicitUploads = true
	placetest.Run(t, func(t *testing.T) place.Place { return fresh(t, store) }, opts)
}

func TestConformance(t *testing.T) {
	account := func(cfg standin.Config) *blob.Store {
		return connect(t, blob.Config{Address: startWith(t, cfg), Account: "marsh", Key: secret.New(key)})
	}
	keeping := account(standin.Config{Versions: true})
	conform(t, account(standin.Config{}),
		placetest.Options{ColdClass: "Archive", Versioned: func(t *testing.T) place.Place { return fresh(t, keeping) }})
}

// What belongs to a container and not to its blobs.
func TestBuckets(t *testing.T) {
	placetest.Buckets(t, connect(t, blob.Config{Address: start(t), Account: "marsh", Key: secret.New(key)}), "belongs",
		nothing)
}

// nothing is lacked.
func nothing(string) bool { return false }

// The whole suite once more with the service's CRC-64 in place of MD5.
func TestConformanceCRC64(t *testing.T) {
	store := connect(t, blob.Config{Address: start(t), Account: "marsh", Key: secret.New(key), CRC64: true})
	conform(t, store, placetest.Options{})
}

// Snapshots and what is removed but kept show as states of a blob, and come back.
func TestKeptStates(t *testing.T) {
	store := connect(t, blob.Config{Address: startWith(t, standin.Config{Retain: true}), Account: "marsh",
		Key: secret.New(key)})
	checkSnapshots(t, fresh(t, store))
	p := fresh(t, store)
	put(t, p, "gone.wav", "still kept")
	require.NoError(t, p.Remove(ctx, object.Ref{Key: "gone.wav"})[0])
	_, err := p.Stat(ctx, object.Ref{Key: "gone.wav"})
	assert.Equal(t, place.NotFound, place.KindOf(err))
	var kept []object.Entry
	for e, err := range p.(place.Versioned).Versions(ctx, "", false) {
		require.NoError(t, err)
		kept = append(kept, e)
	}
	require.Len(t, kept, 1)
	assert.True(t, kept[0].Removed)
	require.NoError(t, p.(place.Versioned).Undelete(ctx, "gone.wav"))
	assert.Equal(t, "still kept", get(t, p, "gone.wav", ""))
}

func put(t *testing.T, p place.Place, key, text string) {
	_, err := p.Write(ctx, key, strings.NewReader(text), int64(len(text)), place.WriteOptions{})
	require.NoError(t, err)
}

func get(t *testing.T, p place.Place, key, version string) string {
	r, _, err := p.Read(ctx, key, place.ReadOptions{Version: version})
	require.NoError(t, err)
	defer r.Close()
	raw, err := io.ReadAll(r)
	require.NoError(t, err)
	return string(raw)
}

func checkSnapshots(t *testing.T, p place.Place) {
	put(t, p, "tide.wav", "low")
	version, err := p.(*blob.Place).Snapshot(ctx, "tide.wav")
	require.NoError(t, err)
	put(t, p, "tide.wav", "high!")
	var sizes []int64
	for e, err := range p.(place.Versioned).Versions(ctx, "tide.wav", false) {
		require.NoError(t, err)
		sizes = append(sizes, e.Size)
	}
	assert.Equal(t, []int64{5, 3}, sizes)
	assert.Equal(t, "low", get(t, p, "tide.wav", version))
	_, err = p.(place.ServerCopier).CopyFrom(ctx, p, object.Ref{Key: "tide.wav", Version: version}, "tide.wav",
		place.WriteOptions{})
	require.NoError(t, err)
	assert.Equal(t, "low", get(t, p, "tide.wav", ""))
	require.NoError(t, p.Remove(ctx, object.Ref{Key: "tide.wav", Version: version})[0])
	assert.Equal(t, "low", get(t, p, "tide.wav", ""), "a deleted snapshot leaves the blob")
}

// checkAccess makes signed accesses of an account and uses them: they do what
// they say and no more, and say so before they are used.
func checkAccess(t *testing.T, address, account, key string) {
	owner := connect(t, blob.Config{Address: address, Account: account, Key: secret.New(key)})
	p := fresh(t, owner)
	put(t, p, "a.wav", "heard")
	container := strings.Split(p.Name(), "/")[1]
	cred, err := azblob.NewSharedKeyCredential(account, key)
	require.NoError(t, err)
	from, until := time.Now().Add(-time.Hour).UTC().Truncate(time.Second),
		time.Now().Add(time.Hour).UTC().Truncate(time.Second)
	limited, err := sas.BlobSignatureValues{ContainerName: container, Version: "2020-12-06", StartTime: from,
		ExpiryTime:  until,
		Permissions: (&sas.ContainerPermissions{Read: true, List: true}).String()}.SignWithSharedKey(cred)
	require.NoError(t, err)
	whole := address + "/" + container + "?" + limited.Encode()
	base, query, access, err := blob.ParseAccess(whole)
	require.NoError(t, err)
	assert.Equal(t, address, base)
	assert.Equal(t, []string{"read", "list"}, access.Allows)
	assert.Equal(t, container, access.Bucket)
	assert.WithinDuration(t, until, access.Until, 0)
	assert.WithinDuration(t, from, access.From, 0)
	guest := connect(t, blob.Config{Address: base, SAS: secret.New(query), Bucket: access.Bucket})
	buckets, err := guest.Buckets(ctx)
	require.NoError(t, err)
	assert.Equal(t, container, buckets[0].Name)
	q, err := guest.Open(container + "/masters/2026")
	require.NoError(t, err)
	assert.Equal(t, "heard", get(t, q, "a.wav", ""))
	for e, err := range q.List(ctx, "", place.ListOptions{}) {
		require.NoError(t, err)
		assert.Equal(t, "a.wav", e.Key)
	}
	_, err = q.Write(ctx, "b.wav", strings.NewReader("no"), 2, place.WriteOptions{})
	assert.Equal(t, place.Denied, place.KindOf(err), "%v", err)
	assert.NotContains(t, fmt.Sprint(err), limited.Signature())
	assert.NotEmpty(t, place.Can(q).Lacks(place.Links))

	all, err := sas.AccountSignatureValues{Version: "2020-12-06", ExpiryTime: until, ResourceTypes: "sco",
		Permissions: "rwdlacup"}.SignWithSharedKey(cred)
	require.NoError(t, err)
	base, query, access, err = blob.ParseAccess(address + "?" + all.Encode())
	require.NoError(t, err)
	assert.Empty(t, access.Bucket)
	assert.Contains(t, access.Allows, "write")
	trusted := fresh(t, connect(t, blob.Config{Address: base, SAS: secret.New(query)}))
	put(t, trusted, "c.wav", "yes")
	assert.Equal(t, "yes", get(t, trusted, "c.wav", ""))

	late, err := sas.BlobSignatureValues{ContainerName: container, Version: "2020-12-06", ExpiryTime: from,
		Permissions: "rl"}.SignWithSharedKey(cred)
	require.NoError(t, err)
	_, _, err = openAccess(t, base, late.Encode(), container).Read(ctx, "a.wav", place.ReadOptions{})
	assert.ErrorIs(t, err, fs.ErrPermission)
	assert.ErrorContains(t, err, "the signed access expired on", "the first suspect, whatever the service says")
}

func openAccess(t *testing.T, address, query, container string) place.Place {
	p, err := connect(t, blob.Config{Address: address, SAS: secret.New(query)}).Open(container)
	require.NoError(t, err)
	return p
}

func TestSignedAccess(t *testing.T) { checkAccess(t, start(t), "marsh", key) }

// Each way to be turned away is told apart, in words, and without the key.
func TestRefusals(t *testing.T) {
	addr := start(t)
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

// Giving up an upload takes nothing from the blob that stands under its name, before or
// after blocks were sent.
func TestGivingUpKeepsTheBlob(t *testing.T) {
	store := connect(t, blob.Config{Address: start(t), Account: "marsh", Key: secret.New(key)})
	p := fresh(t, store)
	const text = "here before, and to stay"
	_, err := p.Write(ctx, "a.wav", strings.NewReader(text), int64(len(text)), place.WriteOptions{})
	require.NoError(t, err)
	pw := p.(place.PartWriter)
	for _, blocks := range []int{0, 1, 2} {
		up, err := pw.Begin(ctx, "a.wav", place.WriteOptions{})
		require.NoError(t, err)
		for n := range blocks {
			_, err := pw.WritePart(ctx, up, n+1, int64(n)*4, strings.NewReader("half"), 4, object.Sum{})
			require.NoError(t, err)
		}
		require.NoError(t, pw.Abort(ctx, up))
		r, e, err := p.Read(ctx, "a.wav", place.ReadOptions{})
		require.NoError(t, err)
		raw, err := io.ReadAll(r)
		require.NoError(t, err)
		require.NoError(t, r.Close())
		assert.Equal(t, text, string(raw), "%d blocks", blocks)
		assert.EqualValues(t, len(text), e.Size)
	}
}
