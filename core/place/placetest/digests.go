package placetest

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
)

// digests: one that goes along with a write, or is added to an object in parts,
// is found again; and none is, once other content is there.
func (s *suite) digests(t *testing.T) {
	p := s.open(t)
	keeper, ok := p.(place.DigestKeeper)
	if !ok || s.opts.NoTags || s.opts.NoMetadataCopy {
		return
	}
	data := content(5<<20 + 77)
	for _, kind := range place.Digests {
		want, crc := sumOf(kind, data), sumOf(object.CRC64NVME, data)
		kept := func(key string) object.Sum {
			d, err := keeper.KeptDigest(ctx, object.Ref{Key: key}, kind, crc)
			require.NoError(t, err)
			return d
		}
		opts := place.WriteOptions{Sum: crc, Digest: want, Metadata: map[string]string{"site": "weir"}}
		e, err := p.Write(ctx, "whole.wav", bytes.NewReader(data), int64(len(data)), opts)
		require.NoError(t, err)
		got, _ := e.Sum(kind)
		assert.Equal(t, want, got)
		assert.Equal(t, want, kept("whole.wav"))
		if p.Abilities().StoredSums == object.CRC64NVME {
			e, err = p.Stat(ctx, object.Ref{Key: "whole.wav"})
			require.NoError(t, err)
			got, _ = e.Sum(kind)
			assert.Equal(t, want, got, "the store vouches for the content")
		}
		other, err := keeper.KeptDigest(ctx, object.Ref{Key: "whole.wav"}, kind, sumOf(object.CRC64NVME, data[1:]))
		require.NoError(t, err)
		assert.Zero(t, other, "of other content")

		w := p.(place.PartWriter)
		up, err := w.Begin(ctx, "parts.wav", place.WriteOptions{})
		require.NoError(t, err)
		part, err := w.WritePart(ctx, up, 1, 0, bytes.NewReader(data), int64(len(data)), crc)
		require.NoError(t, err)
		e, err = w.Finish(ctx, up, []place.Part{part}, place.WriteOptions{Sum: crc, Digest: want})
		require.NoError(t, err)
		if got, ok := e.Sum(kind); ok {
			assert.Equal(t, want, got)
		} else {
			assert.Zero(t, kept("parts.wav"))
			_, err = keeper.KeepDigest(ctx, object.Ref{Key: "parts.wav", IfMark: e.Mark()}, want, crc)
			require.NoError(t, err)
		}
		assert.Equal(t, want, kept("parts.wav"))

		write(t, p, "whole.wav", data[:9])
		assert.Zero(t, kept("whole.wav"))
	}
}
