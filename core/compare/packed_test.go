package compare_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/compare"
	"lumtra/core/object"
	"lumtra/core/place"
)

func packed(t *testing.T, text string) string {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, err := w.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.String()
}

// What was compressed on the way is unpacked to be compared, what was not is taken as it
// is, whatever it begins with; the digest is of what lies there.
func TestGzipped(t *testing.T) {
	whole := packed(t, "reed and rush")
	broken := errors.New("the tide came in")
	for name, c := range map[string]struct {
		here  string
		there reading
		same  bool
		fails bool
	}{
		"packed":                      {"reed and rush", reading{text: whole}, true, false},
		"packed of something else":    {"reed and rash", reading{text: whole}, false, false},
		"not packed":                  {"reed and rush", reading{text: "reed and rush"}, true, false},
		"not packed, and another":     {"reed", reading{text: "rush"}, false, false},
		"nothing":                     {"", reading{text: ""}, true, false},
		"a single byte":               {"r", reading{text: "r"}, true, false},
		"begins like packed, and not": {"\x1freed", reading{text: "\x1freed"}, true, false},
		"the second byte alone":       {"x\x8bed", reading{text: "x\x8bed"}, true, false},
		"cut short":                   {"reed and rush", reading{text: whole[:len(whole)-3]}, false, false},
		"says that it is packed":      {"\x1f\x8bnot", reading{text: "\x1f\x8bnot"}, false, false},
		"broken behind the content":   {"reed and rush", reading{text: whole, ends: broken}, false, true},
	} {
		a, b := object.Entry{Key: "a", Size: int64(len(c.here))}, object.Entry{Key: "a", Size: int64(len(c.there.text))}
		res, err := compare.Gzipped(t.Context(), object.SHA256, &told{readings: []reading{{text: c.here}}}, &a,
			&told{readings: []reading{c.there}}, &b)
		assert.Equal(t, c.fails, err != nil, "%s: %v", name, err)
		assert.Equal(t, c.same, res.Same, name)
		if c.same {
			h := object.SHA256.New()
			h.Write([]byte(c.there.text))
			assert.Equal(t, object.SumOf(object.SHA256, h), res.Digest, name)
		}
	}
	a := object.Entry{Key: "a", Size: 4}
	res, err := compare.Gzipped(t.Context(), object.NoSum, &told{readings: []reading{{text: "reed"}}}, &a,
		&told{readings: []reading{{text: "reed"}}}, &a)
	require.NoError(t, err)
	assert.Zero(t, res.Digest)
}

// refusing is a place that cannot be read at all.
type refusing struct {
	told
	err error
}

func (p *refusing) Read(context.Context, string, place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	return nil, object.Entry{}, p.err
}

// Where one side cannot be opened the comparison fails, and says neither.
func TestUnopened(t *testing.T) {
	no := place.NewError("told", "read", "a", place.Denied, nil)
	e := object.Entry{Key: "a", Size: 4}
	open := func() *told { return &told{readings: []reading{{text: "reed"}}} }
	for _, sides := range [][2]place.Place{{&refusing{err: no}, open()}, {open(), &refusing{err: no}}} {
		res, err := compare.Contents(t.Context(), compare.ByReadBack, sides[0], &e, sides[1], &e)
		assert.ErrorIs(t, err, no)
		assert.False(t, res.Same)
	}
}

// Where one side alone has a checksum of its own, the other is read once, for that one and
// for the digest.
func TestDigestOfOneReading(t *testing.T) {
	h := object.CRC64NVME.New()
	h.Write([]byte("reed"))
	bare := object.Entry{Key: "a", Size: 4}
	summed := object.Entry{Key: "a", Size: 4, Sums: []object.Sum{object.SumOf(object.CRC64NVME, h)}}
	from := &told{readings: []reading{{ends: errors.New("read after all")}}, can: place.Abilities{KeepsMetadata: true}}
	to := &told{readings: []reading{{text: "reed"}}, can: place.Abilities{Tree: true}}
	res, err := compare.WithDigest(t.Context(), compare.ByStoredSum, object.SHA256, from, &summed, to, &bare)
	require.NoError(t, err)
	assert.True(t, res.Same, res.Why)
	assert.Equal(t, object.SHA256, res.Digest.Kind)
	assert.Equal(t, 1, to.count)
}

// Where both sides have a checksum nothing is read, and the digest that lies beside the
// target's is the one. What cannot be asked is not known.
func TestDigestBeside(t *testing.T) {
	h, d := object.CRC64NVME.New(), object.SHA256.New()
	h.Write([]byte("reed"))
	d.Write([]byte("reed"))
	sum, digest := object.SumOf(object.CRC64NVME, h), object.SumOf(object.SHA256, d)
	unread := &told{readings: []reading{{ends: errors.New("read after all")}},
		can: place.Abilities{KeepsMetadata: true}}
	from := object.Entry{Key: "a", Size: 4, Sums: []object.Sum{sum}}
	for _, side := range [][2]object.Entry{{from, {Key: "a", Size: 4, Sums: []object.Sum{sum, digest}}}} {
		res, err := compare.WithDigest(t.Context(), compare.ByStoredSum, object.SHA256, unread, &side[0], unread,
			&side[1])
		require.NoError(t, err)
		assert.True(t, res.Same, res.Why)
		assert.Equal(t, digest, res.Digest)
	}
	// A place that keeps sums and no digests beside them is read for one.
	read := &told{readings: []reading{{text: "reed"}}, can: place.Abilities{KeepsMetadata: true}}
	res, err := compare.WithDigest(t.Context(), compare.ByStoredSum, object.SHA256, unread, &from, read, &from)
	require.NoError(t, err)
	assert.True(t, res.Same && res.Digest == digest && read.count == 1)
	silent := &mute{told{readings: []reading{{text: "reed"}}, can: place.Abilities{KeepsMetadata: true}}}
	_, err = compare.Contents(t.Context(), compare.ByStoredSum, silent, &object.Entry{Key: "a", Size: 4}, unread,
		&from)
	assert.Equal(t, place.Denied, place.KindOf(err))
}

// mute is a place that says nothing of its objects.
type mute struct{ told }

func (m *mute) Stat(context.Context, object.Ref) (object.Entry, error) {
	return object.Entry{}, place.NewError("mute", "stat", "a", place.Denied, nil)
}

// A digest is looked for only of what is the same, and only where one is asked for.
func TestDigestOfTheSame(t *testing.T) {
	e := object.Entry{Key: "a", Size: 4}
	for name, c := range map[string]struct {
		there string
		kind  object.SumKind
		found bool
	}{"the same": {"reed", object.SHA256, true}, "another": {"rush", object.SHA256, false},
		"none asked for": {"reed", object.NoSum, false}} {
		from, to := &told{readings: []reading{{text: "reed"}}}, &told{readings: []reading{{text: c.there}}}
		res, err := compare.WithDigest(t.Context(), compare.ByReadBack, c.kind, from, &e, to, &e)
		require.NoError(t, err, name)
		assert.Equal(t, c.found, res.Digest.Kind == object.SHA256, name)
		if c.kind == object.NoSum {
			assert.Equal(t, 1, to.count, "it is read once")
		}
		bySize, err := compare.WithDigest(t.Context(), compare.BySize, c.kind, from, &e, to, &e)
		require.NoError(t, err, name)
		assert.Equal(t, c.kind, bySize.Digest.Kind,
			"%s: sizes alone are the same, and the digest is of what is there", name)
	}
}
