package compare_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"syscall"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/compare"
	"lumtra/core/object"
	"lumtra/core/place"
)

// reading is what one reading of an object gives: a text, and how it ends.
type reading struct {
	text  string
	ends  error
	loose bool // nothing vouches for it
}

// told is a place whose one object reads as it is told; the last reading repeats.
type told struct {
	place.Place
	readings []reading
	count    int
	can      place.Abilities
}

func (p *told) Name() string { return "told" }

func (p *told) Abilities() place.Abilities { return p.can }

func (p *told) Read(_ context.Context, key string, _ place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	x := p.readings[min(p.count, len(p.readings)-1)]
	p.count++
	var r io.Reader = strings.NewReader(x.text)
	if x.ends != nil {
		r = io.MultiReader(r, iotest.ErrReader(x.ends))
	}
	return io.NopCloser(r), object.Entry{Key: key, Size: int64(len(x.text)), Unverified: x.loose}, nil
}

// A difference is told only where both contents were had, and, where nothing vouches
// for a reading, only when it shows each time.
func TestContents(t *testing.T) {
	reset := place.NewError("told", "read", "a", place.Unreachable, syscall.ECONNRESET)
	for name, c := range map[string]struct {
		source, target []reading
		same           bool
		fails          error
		readings       int
	}{
		"the same":  {[]reading{{text: "reed"}}, []reading{{text: "reed"}}, true, nil, 1},
		"different": {[]reading{{text: "reed"}}, []reading{{text: "rush"}}, false, nil, 1},
		"broken behind a difference": {[]reading{{text: "reed"}}, []reading{{text: "ru", ends: reset}}, false,
			reset, 1},
		"broken, as far as it goes alike": {[]reading{{text: "re", ends: reset}}, []reading{{text: "reed"}}, false,
			reset, 1},
		"broken at once": {[]reading{{ends: reset}}, []reading{{text: "reed"}}, false, reset, 1},
		"a flip on the way": {[]reading{{text: "reed", loose: true}}, []reading{{text: "reeD"}, {text: "reed"}},
			true, nil, 2},
		"different each time": {[]reading{{text: "reed", loose: true}}, []reading{{text: "rush"}}, false, nil, 3},
	} {
		t.Run(name, func(t *testing.T) {
			source, target := &told{readings: c.source}, &told{readings: c.target}
			e := object.Entry{Key: "a", Size: 4}
			res, err := compare.Contents(t.Context(), compare.ByReadBack, source, &e, target, &e)
			require.ErrorIs(t, err, c.fails)
			assert.Equal(t, c.same, res.Same, res.Why)
			assert.Equal(t, c.readings, target.count)
		})
	}
}

// Where the sizes differ nothing is read.
func TestSizesFirst(t *testing.T) {
	unread := &told{readings: []reading{{ends: errors.New("read after all")}}}
	res, err := compare.Contents(t.Context(), compare.ByReadBack, unread, &object.Entry{Key: "a", Size: 4}, unread,
		&object.Entry{Key: "a", Size: 5})
	require.NoError(t, err)
	assert.False(t, res.Same)
	assert.Contains(t, res.Why, "4 bytes at the source, 5 at the target")
}

// A checksum that a store keeps counts for the content, unless the store has taken a
// writer's word for it: then the content is read.
func TestWordOfAWriter(t *testing.T) {
	sum := object.SumOf(object.CRC64NVME, object.CRC64NVME.New())
	e := object.Entry{Key: "a", Size: 4, Sums: []object.Sum{sum}}
	for word, same := range map[bool]bool{false: true, true: false} {
		source := &told{readings: []reading{{text: "reed"}}, can: place.Abilities{KeepsMetadata: true}}
		target := &told{readings: []reading{{text: "rush"}},
			can: place.Abilities{KeepsMetadata: true, ChecksAfter: word}}
		res, err := compare.Contents(t.Context(), compare.ByStoredSum, source, &e, target, &e)
		require.NoError(t, err)
		assert.Equal(t, same, res.Same)
		assert.Equal(t, !word, target.count == 0)
	}
}

// A read-back goes to the very end, and an object of many pieces differs by its last byte.
func TestToTheLastByte(t *testing.T) {
	long := strings.Repeat("reed ", 700_000)
	e := object.Entry{Key: "a", Size: int64(len(long))}
	for name, there := range map[string]string{"the last byte": long[:len(long)-1] + "!", "the first": "!" + long[1:],
		"one in the middle": long[:len(long)/2] + "!" + long[len(long)/2+1:], "the same": long} {
		res, err := compare.Contents(t.Context(), compare.ByReadBack, &told{readings: []reading{{text: long}}}, &e,
			&told{readings: []reading{{text: there}}}, &e)
		require.NoError(t, err)
		assert.Equal(t, there == long, res.Same, name)
		if at := map[string]int{"the last byte": len(long) - 1, "one in the middle": len(long) / 2}[name]; at > 0 {
			assert.Contains(t, res.Why, fmt.Sprintf("at byte %d", at), name)
		}
	}
}

// What the target keeps a checksum of is told without reading it; what it keeps none of,
// or what a writer only said, is not.
func TestStored(t *testing.T) {
	h := object.CRC64NVME.New()
	h.Write([]byte("reed"))
	sum := object.SumOf(object.CRC64NVME, h)
	source := &told{readings: []reading{{text: "reed"}}, can: place.Abilities{Tree: true}}
	unread := func(can place.Abilities) *told {
		return &told{readings: []reading{{ends: errors.New("read after all")}}, can: can}
	}
	a, with, without := object.Entry{Key: "a", Size: 4}, object.Entry{Key: "a", Size: 4, Sums: []object.Sum{sum}},
		object.Entry{Key: "a", Size: 4}
	other := with
	other.Sums = []object.Sum{{Kind: object.CRC64NVME, Value: "12345678"}}
	longer := with
	longer.Size = 5
	for name, c := range map[string]struct {
		from *told
		a, b *object.Entry
		can  place.Abilities
		same bool
	}{
		"the same content":                 {source, &a, &with, place.Abilities{}, true},
		"other content":                    {source, &a, &other, place.Abilities{}, false},
		"another size":                     {source, &a, &longer, place.Abilities{}, false},
		"no checksum":                      {source, &a, &without, place.Abilities{}, false},
		"a checksum that is only said":     {source, &a, &with, place.Abilities{ChecksAfter: true}, false},
		"kept at both sides":               {unread(place.Abilities{}), &with, &with, place.Abilities{}, true},
		"kept at both sides, and not same": {unread(place.Abilities{}), &other, &with, place.Abilities{}, false},
		"a store that would be fetched":    {unread(place.Abilities{}), &a, &with, place.Abilities{}, false},
	} {
		same, err := compare.Stored(t.Context(), c.from, c.a, unread(c.can), c.b)
		require.NoError(t, err, name)
		assert.Equal(t, c.same, same, name)
	}
}

// keeping is a place whose object is asked for its checksums, and may be another by then.
type keeping struct {
	told
	now    object.Entry
	digest object.Sum
}

func (k *keeping) Stat(context.Context, object.Ref) (object.Entry, error) { return k.now, nil }

func (k *keeping) KeepDigest(context.Context, object.Ref, object.Sum, object.Sum) (object.Entry, error) {
	return object.Entry{}, errors.New("a comparison writes nothing")
}

func (k *keeping) KeptDigest(_ context.Context, _ object.Ref, kind object.SumKind, of object.Sum) (object.Sum, error) {
	if k.digest.Kind == kind && of == k.now.Sums[0] {
		return k.digest, nil
	}
	return object.Sum{}, nil
}

// A store is asked for the checksum of what the survey saw: what has become another since
// is changed, and neither the same nor different.
func TestChangedSinceTheSurvey(t *testing.T) {
	h := object.CRC64NVME.New()
	h.Write([]byte("reed"))
	sum := object.SumOf(object.CRC64NVME, h)
	seen := object.Entry{Key: "a", Size: 4, ETag: "seen"}
	for etag, changed := range map[string]bool{"seen": false, "another": true} {
		to := &keeping{told: told{can: place.Abilities{KeepsMetadata: true},
			readings: []reading{{ends: errors.New("read after all")}}},
			now: object.Entry{Key: "a", Size: 4, ETag: etag, Sums: []object.Sum{sum}}}
		from := &told{readings: []reading{{text: "reed"}}, can: place.Abilities{Tree: true}}
		res, err := compare.Contents(t.Context(), compare.ByStoredSum, from, &object.Entry{Key: "a", Size: 4}, to,
			&seen)
		assert.Equal(t, changed, place.KindOf(err) == place.Changed, "%v", err)
		assert.Equal(t, !changed, res.Same)
		same, err := compare.Stored(t.Context(), from, &object.Entry{Key: "a", Size: 4}, to, &seen)
		assert.Equal(t, [2]bool{!changed, changed}, [2]bool{same, err != nil})
	}
}

// A digest is taken from beside the object where it is kept for what is there, and is read
// where it is not.
func TestDigestsThatAreKept(t *testing.T) {
	h, d := object.CRC64NVME.New(), object.SHA256.New()
	h.Write([]byte("reed"))
	d.Write([]byte("reed"))
	sum, digest := object.SumOf(object.CRC64NVME, h), object.SumOf(object.SHA256, d)
	e := object.Entry{Key: "a", Size: 4, ETag: "e"}
	for name, c := range map[string]struct {
		kept     object.Sum
		readings []reading
	}{
		"kept beside it":      {digest, []reading{{ends: errors.New("read after all")}}},
		"none beside it":      {object.Sum{}, []reading{{text: "reed"}}},
		"one of another kind": {object.Sum{Kind: object.BLAKE3, Value: "x"}, []reading{{text: "reed"}}},
	} {
		to := &keeping{told: told{can: place.Abilities{KeepsMetadata: true}, readings: c.readings},
			now: object.Entry{Key: "a", Size: 4, ETag: "e", Sums: []object.Sum{sum}}, digest: c.kept}
		from := &told{readings: []reading{{text: "reed"}}, can: place.Abilities{Tree: true}}
		res, err := compare.WithDigest(t.Context(), compare.ByStoredSum, object.SHA256, from,
			&object.Entry{Key: "a", Size: 4}, to, &e)
		require.NoError(t, err, name)
		assert.True(t, res.Same, name)
		assert.Equal(t, digest, res.Digest, name)
	}
	unreadable := &told{readings: []reading{{ends: errors.New("the tide came in")}}}
	_, err := compare.Sum(t.Context(), unreadable, "a", "", object.SHA256)
	assert.Error(t, err)
}
