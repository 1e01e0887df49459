package transfer_test

import (
	"context"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/compare"
	"lumtra/core/ledger"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/transfer"
	"lumtra/standin"
	"lumtra/testkit"
)

// digested holds the digests that a run of p has noted, and those the target
// keeps, against what is there.
func digested(t *testing.T, p *plan.Plan, there place.Place, kind object.SumKind) {
	noted, err := ledger.OpenArrivals(p.Path + ".ledger")
	require.NoError(t, err)
	defer noted.Close()
	c := p.Effects("")
	for n := int64(0); c.Next(); n++ {
		e, ok, err := noted.Entry(n)
		require.NoError(t, err)
		if !ok || !c.Effect().Kind.Moves() {
			continue
		}
		key := c.Effect().Key
		want, err := compare.Sum(ctx, there, key, "", kind)
		require.NoError(t, err)
		got, _ := e.Sum(kind)
		assert.Equal(t, want, got, "noted for %s", key)
		if keeper, ok := there.(place.DigestKeeper); ok {
			crc, _ := e.Sum(object.CRC64NVME)
			kept, err := keeper.KeptDigest(ctx, object.Ref{Key: key}, kind, crc)
			require.NoError(t, err)
			assert.Equal(t, want, kept, "kept with %s", key)
		}
	}
	require.NoError(t, c.Err())
}

// after ends a run when so many bytes have moved.
type after struct {
	left atomic.Int64
	then func()
}

func (a *after) Most() int { return 1 << 20 }

func (a *after) Take(_ context.Context, n int) (time.Duration, error) {
	if left := a.left.Add(int64(-n)); left <= 0 && left+int64(n) > 0 {
		a.then()
	}
	return 0, nil
}

// An object that was whole in the store when its run ended, and neither noted nor given its
// digest yet, gets both in the next.
func TestDigestAfterTheEnd(t *testing.T) {
	w := newWorldOf(t, "s3")
	w.fill(t, 0, 12<<20)
	p := w.plan(t, w.folder, w.store)
	opts := quick
	opts.Digest = object.SHA256
	w.server.SetFaults(standin.Fault{Op: "PutObjectTagging", Do: "500"})
	out, _ := w.run(t, ctx, p, w.folder, w.store, opts)
	assert.Equal(t, int64(1), out.Failed)
	same(t, texts(t, w.folder), texts(t, w.store))
	w.server.SetFaults()
	out, m := w.run(t, ctx, p, w.folder, w.store, opts)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	assert.Equal(t, int64(1), out.Objects)
	assert.Zero(t, m.Bytes, "nothing is sent again")
	digested(t, p, w.store, object.SHA256)
}

// Stopped again and again, between and within parts, a run ends with the digest
// of each whole object, noted and kept.
func TestDigestsGoOn(t *testing.T) {
	testkit.Heavy(t)
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			w := newWorldOf(t, kind)
			w.fill(t, 20, 3<<20, 6<<20, 31<<20+5, 22<<20, 48<<20)
			p := w.plan(t, w.folder, w.store)
			opts := quick
			opts.Digest = object.SHA256
			done := int64(0)
			for try := 0; done < 25; try++ {
				require.Less(t, try, 50)
				stopped, stop := context.WithCancel(ctx)
				pacer := &after{then: stop}
				if opts.Control = (&transfer.Control{}); try%2 == 1 {
					pacer.then = opts.Control.Finish
				}
				pacer.left.Store(17<<20 + int64(try)<<21)
				opts.Pacers = []transfer.Pacer{pacer}
				out, m := w.run(t, stopped, p, w.folder, w.store, opts)
				assert.Zero(t, out.Failed, "%v", m.Problems)
				done += out.Objects
				stop()
			}
			same(t, texts(t, w.folder), texts(t, w.store))
			digested(t, p, w.store, object.SHA256)
			ups, err := w.store.(place.PartWriter).Uploads(ctx)
			require.NoError(t, err)
			assert.Empty(t, ups)
		})
	}
}
