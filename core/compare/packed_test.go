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
		res, err := compare.Gzipped(t.Context(), object.SHA256, &told{readings: []reading{{text: c.here}}}, &a, &told{readings: []reading{c.there}}, &b)
		assert.Equal(t, c.fails, err != nil, "%s: %v", name, err)
		assert.Equal(t, c.same, res.Same, name)
		if c.same {
			h := object.SHA256.New()
			h.Write([]byte(c.there.text))
			assert.Equal(t, object.SumOf(object.SHA256, h), res.Digest, name)
		}
	}
	a := object.Entry{Key: "a", Size: 4}
	res, err := compare.Gzipped(t.Context(), object.NoSum, &told{readings: []reading{{text: "reed"}}}, &a, &told{readings: []reading{{text: "reed"}}}, &a)
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

// A digest is looked for only of what is the same, and only where one is asked for.
func TestDigestOfTheSame(t *testing.T) {
	e := object.Entry{Key: "a", Size: 4}
	for name, c := range map[string]struct {
		there string
		kind  object.SumKind
		found bool
	}{"the same": {"reed", object.SHA256, true}, "another": {"rush", object.SHA256, false}, "none asked for": {"reed", object.NoSum, false}} {
		from, to := &told{readings: []reading{{text: "reed"}}}, &told{readings: []reading{{text: c.there}}}
		res, err := compare.WithDigest(t.Context(), compare.ByReadBack, c.kind, from, &e, to, &e)
		require.NoError(t, err, name)
		assert.Equal(t, c.found, res.Digest.Kind == object.SHA256, name)
		if c.kind == object.NoSum {
			assert.Equal(t, 1, to.count, "it is read once")
		}
		bySize, err := compare.WithDigest(t.Context(), compare.BySize, c.kind, from, &e, to, &e)
		require.NoError(t, err, name)
		assert.Equal(t, c.kind, bySize.Digest.Kind, "%s: sizes alone are the same, and the digest is of what is there", name)
	}
}
