package pack_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/cut"
	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/testkit"
)

// A pack that passes through here as a whole goes in as few parts as the store takes, however it came about.
func TestPartsSuffice(t *testing.T) {
	testkit.Heavy(t)
	s := &shelf{whole: map[string][]byte{}, least: 5 << 20, fewer: 9_996}
	const size = 40 << 20
	require.NoError(t, pack.Change(t.Context(), s, "a.tar", size+1<<20, pack.Options{}, func(w *pack.Writer) error {
		_, err := w.Add(pack.Member{Name: "dawn.wav", Kind: pack.File, Size: size},
			&pack.Content{Reader: strings.NewReader(noise(1, size))})
		return err
	}))
	did, err := pack.Rewrite(t.Context(), s, "a.tar", pack.Options{Level: 1}, "")
	require.NoError(t, err)
	assert.Greater(t, did.Sent, int64(size))
	assert.Len(t, inside(t, s, "a.tar")["dawn.wav"], size)
}

// steps are those of a run that was begun before.
type steps struct {
	noted *pack.Noted
	sent  []int
}

func (s *steps) Try(step func(int) error) error { return step(1) }
func (s *steps) Ask(step func() error) error    { return step() }
func (s *steps) Open(begin func() error) error  { return begin() }
func (s *steps) Abort(abort func() error) error { return abort() }
func (s *steps) Noted() *pack.Noted             { return s.noted }
func (s *steps) Began(string, int64) error      { return nil }
func (s *steps) Ended() error                   { return nil }
func (s *steps) Sent(p place.Part) error        { s.sent = append(s.sent, p.Number); return nil }

// begunBefore is a shelf on which an upload has parts already.
type begunBefore struct {
	*shelf
	there []place.Part
}

func (b *begunBefore) Parts(context.Context, place.Upload) ([]place.Part, error) { return b.there, nil }

// Of a part that was sent twice, and noted once, what the store has counts; what nobody knows the sum of is sent again.
func TestPartsTakenUp(t *testing.T) {
	const size = 5 << 20
	body := noise(4, 3*size)
	s := &begunBefore{shelf: &shelf{whole: map[string][]byte{}, least: size, parts: map[int][]byte{}}}
	for i, etag := range []string{"one", "two", "three"} {
		part := s.keep(i+1, []byte(body[i*size:(i+1)*size]))
		part.ETag = etag
		s.there = append(s.there, part)
	}
	s.there[2].Sum = object.Sum{}
	of := func(text string) object.Sum {
		h := object.CRC64NVME.New()
		_, _ = h.Write([]byte(text))
		return object.SumOf(object.CRC64NVME, h)
	}
	was := &steps{noted: &pack.Noted{ID: "one", PartSize: size, Parts: map[int]place.Part{
		1: {Number: 1, Size: size, ETag: "one", Sum: of(body[:size])},
		2: {Number: 2, Size: size, ETag: "an older one", Sum: of("other bytes")},
	}}}
	up := pack.NewUpload(t.Context(), s, "a", was, place.WriteOptions{})
	require.NoError(t, up.Begin(nil, true, cut.For(size, s.Abilities(), false), 3*size))
	_, err := up.Write([]byte(body))
	require.NoError(t, err)
	require.NoError(t, up.Finish())
	assert.Equal(t, []int{3}, was.sent)
	assert.True(t, string(s.whole["a"]) == body)

	s.there[1].Sum, was.sent = of("other bytes"), nil
	up = pack.NewUpload(t.Context(), s, "a", was, place.WriteOptions{})
	require.NoError(t, up.Begin(nil, true, cut.For(size, s.Abilities(), false), 3*size))
	_, err = up.Write([]byte(body))
	assert.ErrorIs(t, err, pack.ErrOtherBytes)
	assert.Empty(t, was.sent)
}
