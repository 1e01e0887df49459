package sample

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"lumtra/core/cut"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/core/price"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func shed(t *testing.T) (place.Place, string) {
	dir := t.TempDir()
	end, err := folder.OpenEndpoint("shed", dir, folder.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { end.Close() })
	p, err := end.Open("")
	require.NoError(t, err)
	return p, dir
}

func put(t *testing.T, dir, name string, data []byte) {
	path := filepath.Join(dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, data, 0o644))
}

func noise(n int) []byte {
	data := make([]byte, n)
	rng := rand.NewChaCha8([32]byte{1})
	rng.Read(data)
	return data
}

// What is read stands for the whole by its kinds, is mixed, and is the same each time; each compressor
// gives what it took.
func TestPickAndMethods(t *testing.T) {
	p, dir := shed(t)
	for i := range 40 {
		put(t, dir, fmt.Sprintf("logs/%d.txt", i), []byte(strings.Repeat(fmt.Sprintf("tide %d ", i), 20_000)))
		put(t, dir, fmt.Sprintf("takes/%d.raw", i), noise(300_000))
	}
	put(t, dir, "empty.txt", nil)
	list := func() ([]*Kind, []piece, int64, int64) {
		kinds, pieces, files, size, err := pick(t.Context(), p, p.List(t.Context(), "", place.ListOptions{}), 4<<20)
		require.NoError(t, err)
		return kinds, pieces, files, size
	}
	kinds, pieces, files, size := list()
	assert.EqualValues(t, 81, files)
	require.Len(t, kinds, 2)
	assert.Equal(t, ".raw", kinds[0].Ending)
	read := map[string]int{}
	for _, x := range pieces {
		read[x.kind.Ending] += len(x.data)
		assert.LessOrEqual(t, len(x.data), pieceBytes)
	}
	for _, k := range kinds {
		assert.InDelta(t, float64(k.Bytes)/float64(size), float64(read[k.Ending])/(4<<20), 0.1, k.Ending)
	}
	_, again, _, _ := list()
	require.Len(t, again, len(pieces))
	for i := range again {
		assert.True(t, bytes.Equal(again[i].data, pieces[i].data))
	}
	for _, m := range Methods() {
		var out bytes.Buffer
		require.NoError(t, m.pack(&out, pieces[0].data), m.Name)
		r, err := m.unpack(&out)
		require.NoError(t, err, m.Name)
		got, err := io.ReadAll(r)
		require.NoError(t, err, m.Name)
		require.NoError(t, r.Close())
		assert.True(t, bytes.Equal(got, pieces[0].data), m.Name)
	}
}

// Noise is told not to compress, and text to; each kind has its own ratio.
func TestRun(t *testing.T) {
	p, dir := shed(t)
	put(t, dir, "a.raw", noise(2<<20))
	put(t, dir, "b.txt", []byte(strings.Repeat("dawn chorus ", 200_000)))
	told := 0
	s, err := Run(t.Context(), p, p.List(t.Context(), "", place.ListOptions{}),
		Options{PerTrial: time.Millisecond, Line: 1 << 20, Told: func(*Sampling) { told++ }})
	require.NoError(t, err)
	assert.Equal(t, len(Methods()), told)
	for _, x := range s.Trials[1:] {
		assert.Less(t, x.OfKind[".txt"], 0.1, x.Name)
		if ratio, ok := x.OfKind[".raw"]; ok {
			assert.Greater(t, ratio, 0.99, x.Name)
		}
		assert.Less(t, x.Size, s.Trials[0].Size)
		assert.Positive(t, x.In*x.InAll*x.Out*x.OutAll)
	}
	assert.Equal(t, s.Bytes, s.Trials[0].Size)
	assert.NotEqual(t, 0, s.Best, "over a slow line less is sent")
	assert.Contains(t, s.Why, "smaller")
	_, err = Run(t.Context(), p, p.List(t.Context(), "nothing", place.ListOptions{}), Options{})
	assert.ErrorContains(t, err, "nothing to try it on")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Run(ctx, p, p.List(t.Context(), "", place.ListOptions{}), Options{})
	assert.Error(t, err)
}

// The fastest way is recommended that packs are made in, or a smaller one that is nearly as fast.
func TestRecommend(t *testing.T) {
	trial := func(name string, form pack.Form, size int64, seconds int) Trial {
		return Trial{Method: Method{Name: name, Form: form}, Size: size, Time: time.Duration(seconds) * time.Second}
	}
	for _, x := range []struct {
		want, why string
		line      float64
		trials    []Trial
	}{
		{"none", "does not compress", 1, []Trial{trial("none", pack.Plain, 100, 100), trial("zstd 3", pack.Zstd, 99,
			200)}},
		{"zstd 3", "60 % smaller, 2.0 times as fast", 1, []Trial{trial("none", pack.Plain, 100, 100), trial("lz4", "",
			50, 10),
			trial("zstd 1", pack.Zstd, 50, 48), trial("zstd 3", pack.Zstd, 40, 50), trial("zstd 7", pack.Zstd, 30,
				60)}},
		{"zstd 1", "10 % smaller, in the same time", 0, []Trial{trial("none", pack.Plain, 100, 100),
			trial("zstd 1", pack.Zstd, 90, 105)}},
	} {
		s := &Sampling{Trials: x.trials, Line: x.line}
		s.recommend()
		assert.Equal(t, x.want, s.Trials[s.Best].Name)
		assert.Contains(t, s.Why, x.why)
	}
}

// A pack takes so many requests as it has parts, and what its size costs a month; single objects one each.
func TestPrice(t *testing.T) {
	s := &Sampling{Files: 50_000, Bytes: 50e9, Trials: []Trial{{Size: 50e9}, {Size: 1e6}}}
	sizes := cut.For(0, place.Abilities{MinPart: 5 << 20, MaxPart: 5 << 30, MaxParts: 10_000, GoodPart: 8 << 20}, false)
	s.Price(sizes, &price.Rates{Currency: "EUR", Writes: 0.005, Storage: 0.02})
	assert.EqualValues(t, 50_000, s.Single.Requests)
	assert.InDelta(t, 0.25, s.Single.Once, 1e-9)
	assert.InDelta(t, 1, s.Single.Monthly, 1e-9)
	size := int64(50e9) + 24*50_000
	assert.Equal(t, sizes.Parts(size)+2, s.Trials[0].Bill.Requests)
	assert.InDelta(t, float64(s.Trials[0].Bill.Requests)*0.005/1000, s.Trials[0].Bill.Once, 1e-9)
	assert.InDelta(t, float64(size)/1e9*0.02, s.Trials[0].Bill.Monthly, 1e-9)
	assert.EqualValues(t, 1, s.Trials[1].Bill.Requests, "it goes in one piece")
	assert.Equal(t, "0.25 EUR once, 1 a month", s.Money(s.Single))
	s.Price(sizes, nil)
	assert.Zero(t, s.Single.Once+s.Single.Monthly)
	assert.Empty(t, s.Money(s.Single))
}
