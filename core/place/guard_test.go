package place_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
)

var ctx = context.Background()

// shelf is a place in memory that folds names, for what is said of all places.
type shelf struct {
	kept  map[string]string
	fold  func(string) string
	known *place.Known
	// spoil changes what is read, the nth time.
	spoil func(n int, b []byte) ([]byte, error)
	reads int
}

func newShelf() *shelf {
	return &shelf{kept: map[string]string{}, fold: func(s string) string { return s },
		known: place.NewKnown(place.Facts{}, nil)}
}

func (s *shelf) Name() string               { return "shelf" }
func (s *shelf) Known() *place.Known        { return s.known }
func (s *shelf) Abilities() place.Abilities { return place.Abilities{} }

func (s *shelf) List(_ context.Context, prefix string, _ place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		for key := range s.kept {
			if strings.HasPrefix(key, prefix) && !yield(s.entry(key), nil) {
				return
			}
		}
	}
}

func (s *shelf) entry(key string) object.Entry {
	return object.Entry{Key: key, Size: int64(len(s.kept[key])), ETag: fmt.Sprintf("%x", s.kept[key])}
}

func (s *shelf) Stat(_ context.Context, ref object.Ref) (object.Entry, error) {
	if _, ok := s.kept[s.fold(ref.Key)]; !ok {
		return object.Entry{}, place.NewError("shelf", "stat", ref.Key, place.NotFound, nil)
	}
	return s.entry(s.fold(ref.Key)), nil
}

func (s *shelf) Read(_ context.Context, key string, _ place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	s.reads++
	b := []byte(s.kept[s.fold(key)])
	if s.spoil != nil {
		var err error
		if b, err = s.spoil(s.reads, b); err != nil {
			return nil, object.Entry{}, err
		}
	}
	return io.NopCloser(bytes.NewReader(b)), s.entry(s.fold(key)), nil
}

func (s *shelf) Write(_ context.Context, key string, body io.Reader, _ int64, _ place.WriteOptions) (object.Entry,
	error) {
	b, err := io.ReadAll(body)
	s.kept[s.fold(key)] = string(b)
	return s.entry(s.fold(key)), err
}

func (s *shelf) Remove(context.Context, ...object.Ref) []error { return nil }

// A guard sends the condition where the store may keep to it, looks where it is not
// known to, and tells when somebody came between.
func TestGuard(t *testing.T) {
	for _, is := range []place.Answer{place.Untold, place.Works, place.Ignored, place.Refused} {
		s := newShelf()
		s.known.Learn(place.PutIfAbsent, is)
		s.known.Learn(place.PutIfStill, is)
		s.kept["there"] = "x"
		guard := func(key string, opts place.WriteOptions) (*place.Guard, error) {
			return place.NewGuard(ctx, s, s.known, "write", key, opts, place.PutIfAbsent, place.PutIfStill)
		}
		absent := place.WriteOptions{Condition: place.IfAbsent}
		g, err := guard("new", absent)
		require.NoError(t, err)
		assert.Equal(t, is != place.Refused, g.Sends, "%s", is)
		assert.Equal(t, is != place.Works, g.Looks, "%s", is)
		_, err = guard("there", absent)
		_, other := guard("there", place.WriteOptions{Condition: place.IfStill, Mark: "another"})
		_, gone := guard("new", place.WriteOptions{Condition: place.IfStill, Mark: "x"})
		_, fine := guard("there", place.WriteOptions{Condition: place.IfStill, Mark: s.entry("there").ETag})
		assert.NoError(t, fine)
		if is == place.Works { // the store will say
			assert.NoError(t, errors.Join(err, other, gone))
			continue
		}
		assert.Equal(t, place.Exists, place.KindOf(err))
		assert.Equal(t, place.Changed, place.KindOf(other))
		assert.Equal(t, place.NotFound, place.KindOf(gone))
		s.kept["new"] = "ours"
		ours := s.entry("new")
		require.NoError(t, g.After(ctx, &ours))
		silent := object.Entry{Key: "new", Size: 4}
		require.NoError(t, g.After(ctx, &silent))
		assert.Equal(t, ours.ETag, silent.ETag, "what the answer did not tell")
		s.kept["new"] = "theirs"
		assert.Equal(t, place.Changed, place.KindOf(g.After(ctx, &ours)))
	}
}

func sum(text string) object.Sum {
	h := object.CRC64NVME.New()
	io.WriteString(h, text)
	return object.SumOf(object.CRC64NVME, h)
}

// What is read back wrong each time otherwise is damage on the way; what comes out the
// same wrong twice is there.
func TestReadBack(t *testing.T) {
	flip := func(at int) func([]byte) []byte {
		return func(b []byte) []byte { b = bytes.Clone(b); b[at] ^= 1; return b }
	}
	denied := place.NewError("shelf", "read", "k", place.Denied, nil)
	broken := place.NewError("shelf", "read", "k", place.Unreachable, nil)
	for name, c := range map[string]struct {
		spoil      func(n int, b []byte) ([]byte, error)
		kept       string
		kind       place.ErrorKind
		fine, left bool
		unverified bool
	}{
		"as sent": {kept: "right", fine: true},
		"another": {kept: "wrong", kind: place.Corrupt, left: true},
		"breaks at first": {kept: "right", fine: true, spoil: func(n int, b []byte) ([]byte, error) {
			return b,
				map[bool]error{true: broken}[n < 4]
		}},
		"breaks for ever": {kept: "right", kind: place.Unreachable, left: true,
			spoil: func(int, []byte) ([]byte, error) { return nil, broken }},
		"may not be read": {kept: "right", fine: true, unverified: true,
			spoil: func(int, []byte) ([]byte, error) { return nil, denied }},
		"flips on the way": {kept: "right", fine: true, spoil: func(n int, b []byte) ([]byte, error) {
			if n > 3 {
				return b, nil
			}
			return flip(n)(b), nil
		}},
	} {
		t.Run(name, func(t *testing.T) {
			s := newShelf()
			s.kept["k"] = c.kept
			s.spoil = c.spoil
			e := s.entry("k")
			err := place.ReadBack(ctx, s, "write", &e, sum("right"), func() (io.ReadCloser, error) {
				r, _, err := s.Read(ctx, "k", place.ReadOptions{})
				return r, err
			})
			assert.Equal(t, c.unverified, e.Unverified)
			if c.fine {
				require.NoError(t, err)
				return
			}
			require.Equal(t, c.kind, place.KindOf(err))
			var bad *place.Error
			require.ErrorAs(t, err, &bad)
			assert.Equal(t, c.left, bad.Left != "")
		})
	}
}

// A name that a store folds is found out, remembered, and from then on refused.
func TestComesBack(t *testing.T) {
	s := newShelf()
	s.fold = strings.ToLower
	for _, key := range []string{"plain", "UP", "up"} {
		s.Write(ctx, key, strings.NewReader(key), 0, place.WriteOptions{})
	}
	assert.NoError(t, place.ComesBack(ctx, s, "plain", false))
	err := place.ComesBack(ctx, s, "UP", false)
	assert.Equal(t, place.BadName, place.KindOf(err))
	assert.Equal(t, place.Ignored, s.known.Name(place.Capitals))
	assert.Contains(t, s.known.HeldName("Any"), "capitals")
	assert.Empty(t, s.known.HeldName("any"))

	s.fold = func(key string) string { return strings.ReplaceAll(key, "x", "y") } // of no kind anybody knows
	s.Write(ctx, "axe", strings.NewReader(""), 0, place.WriteOptions{})
	assert.NoError(t, place.ComesBack(ctx, s, "axe", false), "nothing is odd about it")
	assert.Equal(t, place.BadName, place.KindOf(place.ComesBack(ctx, s, "axe", true)))
}

// What is learned is told once, kept with the time, and seen by all at once.
func TestKnown(t *testing.T) {
	var told []string
	k := place.NewKnown(place.Facts{At: time.Now()}, func(_ place.Facts, what string) { told = append(told, what) })
	k.Learn(place.SumBehind, place.Refused)
	k.Learn(place.SumBehind, place.Refused)
	k.LearnName(place.Backslashes, place.Ignored)
	assert.Equal(t, []string{"crc64nvme-behind: refused", "names with backslash: ignored"}, told)
	f := k.Facts()
	assert.NotZero(t, f.Since[place.SumBehind])
	assert.True(t, k.Lacks(place.SumBehind))
	assert.False(t, k.Does(place.SumAhead), "what is not known is not taken for granted")
	assert.True(t, place.Promised().Does(place.SumAhead))
	assert.False(t, place.Promised().Does(place.MD5ETag), "no reference promises it")
	old := place.Facts{At: time.Now().Add(-place.FactsAge - time.Hour)}
	assert.True(t, old.Stale(time.Now()))
	assert.True(t, f.Stale(time.Now()), "a run saw the contrary")
	k.Replace(place.Facts{At: time.Now()})
	now := k.Facts()
	assert.False(t, now.Stale(time.Now()))
	var none *place.Known
	none.Learn(place.SumAhead, place.Works) // a place without knowledge takes none
	assert.Equal(t, place.Untold, none.Of(place.SumAhead))
}
