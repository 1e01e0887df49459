package s3_test

import (
	"bytes"
	"io"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/s3"
	"lumtra/standin"
)

func noise(size int) []byte {
	b := make([]byte, size)
	r := rand.NewChaCha8([32]byte{byte(size)})
	r.Read(b)
	return b
}

// again does what a run does: asks once more when that may help, and then over
// what a failed try has left.
func again(opts *place.WriteOptions, once func() error) error {
	for try := 1; ; try++ {
		err := once()
		e, _ := err.(*place.Error)
		if err == nil || !e.CanRetry() || try == 6 {
			return err
		}
		if e.Left != "" {
			opts.Condition, opts.Mark = place.IfStill, e.Left
		}
	}
}

// write writes an object as a run does, whole or in two parts.
func write(p *s3.Place, key string, data []byte, opts place.WriteOptions, parts bool) (e object.Entry, err error) {
	if !parts {
		err = again(&opts, func() (err error) {
			e, err = p.Write(ctx, key, bytes.NewReader(data), int64(len(data)), opts)
			return err
		})
		return e, err
	}
	up, err := p.Begin(ctx, key, opts)
	if err != nil {
		return e, err
	}
	const size = 5 << 20
	var all []place.Part
	for n := 1; len(data) > (n-1)*size; n++ {
		piece := data[(n-1)*size : min(n*size, len(data))]
		err = again(&place.WriteOptions{}, func() error {
			part, err := p.WritePart(ctx, up, n, 0, bytes.NewReader(piece), int64(len(piece)), object.Sum{})
			if err == nil {
				all = append(all, part)
			}
			return err
		})
		if err != nil {
			return e, err
		}
	}
	h := object.CRC64NVME.New()
	h.Write(data)
	opts.Sum = object.SumOf(object.CRC64NVME, h)
	e, err = p.Finish(ctx, up, all, opts)
	if err != nil {
		p.Abort(ctx, up)
	}
	return e, err
}

func content(t *testing.T, p place.Place, key string) []byte {
	r, _, err := p.Read(ctx, key, place.ReadOptions{})
	require.NoError(t, err)
	defer r.Close()
	raw, err := io.ReadAll(r)
	require.NoError(t, err)
	return raw
}

// Whatever a store's habits, and whether they are known or not, an object is
// written as it is, over nothing but what was meant, and damage on the way is
// noticed.
func TestWays(t *testing.T) {
	for _, habit := range append(standin.Habits(), "") {
		switch habit {
		case standin.Forgets:
			continue
		}
		for _, tested := range []bool{true, false} {
			t.Run(string(habit)+map[bool]string{true: " known", false: " unknown"}[tested], func(t *testing.T) {
				t.Parallel()
				var habits []standin.Habit
				if habit != "" {
					habits = append(habits, habit)
				}
				known := place.NewKnown(place.Facts{}, nil)
				srv, p := accustomedServer(t, known, habits...)
				if tested {
					facts, err := p.Examine(ctx, "probe/")
					require.NoError(t, err)
					known.Replace(facts)
				}
				for _, x := range []struct {
					name  string
					data  []byte
					parts bool
				}{{"small", noise(100), false}, {"middle", noise(300 << 10), false},
					{"parts", noise(5<<20 + 1000), true}} {
					held(t, srv, p, x.name, x.data, x.parts)
				}
				// Removed in one go, each as it was seen.
				var refs []object.Ref
				for e, err := range p.List(ctx, "", place.ListOptions{}) {
					require.NoError(t, err)
					refs = append(refs, object.Ref{Key: e.Key, IfMark: e.Mark()})
				}
				require.Len(t, refs, 3)
				refs[0].IfMark = "another"
				errs := p.Remove(ctx, refs...)
				assert.Equal(t, place.Changed, place.KindOf(errs[0]))
				assert.NoError(t, errs[1])
				assert.NoError(t, errs[2])
			})
		}
	}
}

// held writes an object under every condition, and with damage on the way.
func held(t *testing.T, srv *standin.Server, p *s3.Place, key string, data []byte, parts bool) {
	other := bytes.Clone(data)
	other[0] ^= 1
	e, err := write(p, key, data, place.WriteOptions{Condition: place.IfAbsent}, parts)
	require.NoError(t, err)
	assert.False(t, e.Unverified)
	assert.Equal(t, data, content(t, p, key))
	there, err := p.Stat(ctx, object.Ref{Key: key})
	require.NoError(t, err)
	assert.Equal(t, there.ETag, e.ETag)

	_, err = write(p, key, other, place.WriteOptions{Condition: place.IfAbsent}, parts)
	assert.Equal(t, place.Exists, place.KindOf(err), "%v", err)
	_, err = write(p, key, other, place.WriteOptions{Condition: place.IfStill,
		Mark: "0123456789abcdef0123456789abcdef"}, parts)
	assert.Equal(t, place.Changed, place.KindOf(err), "%v", err)
	assert.Equal(t, data, content(t, p, key))
	if !parts {
		srv.SetFaults(standin.Fault{Do: "corrupt", Op: "PutObject", Times: 1})
	} else {
		srv.SetFaults(standin.Fault{Do: "corrupt", Op: "UploadPart", Times: 1})
	}
	_, err = write(p, key, other, place.WriteOptions{Condition: place.IfStill, Mark: there.ETag}, parts)
	if srv.SetFaults(); err != nil { // parts of which nothing is known until they are joined
		require.True(t, parts)
		require.Equal(t, place.Corrupt, place.KindOf(err), "%v", err)
		_, err = write(p, key, other, place.WriteOptions{Condition: place.IfStill, Mark: err.(*place.Error).Left},
			parts)
	}
	require.NoError(t, err)
	assert.Equal(t, other, content(t, p, key))
}

// A store whose order is its own is found out, and sorted from then on, also when it is
// asked for what lies behind a key.
func TestOrderOfItsOwn(t *testing.T) {
	known := place.NewKnown(place.Facts{}, nil)
	p := accustomed(t, known, standin.ListingByFolder)
	want := []string{"bed!x", "bed-x", "bed/x", "bed/y", "bed0"}
	for _, key := range want {
		_, err := p.Write(ctx, key, strings.NewReader(key), int64(len(key)),
			place.WriteOptions{Condition: place.Always})
		require.NoError(t, err)
	}
	keys := func(after string) (all []string, err error) {
		for e, err := range p.List(ctx, "", place.ListOptions{After: after}) {
			if err != nil {
				return all, err
			}
			all = append(all, e.Key)
		}
		return all, nil
	}
	_, err := keys("")
	require.ErrorIs(t, err, place.ErrDisorder)
	got, err := keys("")
	require.NoError(t, err)
	assert.Equal(t, want, got)
	got, err = keys("bed-x")
	require.NoError(t, err)
	assert.Equal(t, want[2:], got)

	known.Replace(place.Facts{}) // a survey begins again by itself
	c, err := catalog.Survey(ctx, p, filepath.Join(t.TempDir(), "survey"), catalog.Options{})
	require.NoError(t, err)
	defer c.Close()
	assert.True(t, c.Info.Complete())
	assert.EqualValues(t, len(want), c.Info.Objects)
}
