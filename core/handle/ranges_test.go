package handle_test

import (
	"context"
	"errors"
	"io"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/handle"
	"lumtra/core/object"
	"lumtra/core/place"
)

// service is two buckets of one service that holds one large object: it notes which
// ranges were copied, and fails as a test wants it to.
type service struct {
	place.Place
	size   int64
	parts  int // at the most; 0 for any number
	fail   string
	later  int // how often it does what it will fail at, before
	mu     sync.Mutex
	ranges [][2]int64
	did    []string
}

func (s *service) note(what string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.did = append(s.did, what)
	if what == s.fail && s.later > 0 {
		s.later--
		return nil
	}
	if what == s.fail {
		return place.NewError("service", what, "a.wav", place.Denied, nil)
	}
	return nil
}

func (s *service) Name() string { return "service" }
func (s *service) Abilities() place.Abilities {
	return place.Abilities{MaxCopy: 5 << 30, MaxParts: s.parts}
}
func (s *service) CanCopyFrom(place.Place) bool { return true }
func (s *service) CanCopyParts() bool           { return true }
func (s *service) CheckName(string) error       { return nil }
func (s *service) entry() object.Entry {
	return object.Entry{Key: "a.wav", Size: s.size, ETag: "e", Metadata: map[string]string{"site": "weir"},
		ContentType: "audio/wav"}
}
func (s *service) Stat(context.Context, object.Ref) (object.Entry, error) {
	return s.entry(), s.note("stat")
}
func (s *service) CopyFrom(context.Context, place.Place, object.Ref, string, place.WriteOptions) (object.Entry, error) {
	return s.entry(), s.note("copy whole")
}
func (s *service) Begin(_ context.Context, _ string, opts place.WriteOptions) (place.Upload, error) {
	if opts.Metadata["site"] != "weir" || opts.ContentType != "audio/wav" || opts.Condition != place.IfAbsent {
		return place.Upload{}, errors.New("what lies beside the content is lost, or the condition")
	}
	return place.Upload{ID: "u"}, s.note("begin")
}
func (s *service) CopyPart(_ context.Context, _ place.Upload, number int, _ place.Place, src object.Ref, offset,
	size int64) (place.Part, error) {
	if src.IfMark != "e" {
		return place.Part{}, errors.New("the source's state is not asked for")
	}
	s.mu.Lock()
	s.ranges = append(s.ranges, [2]int64{offset, size})
	s.mu.Unlock()
	return place.Part{Number: number, Size: size}, s.note("part")
}
func (s *service) WritePart(context.Context, place.Upload, int, int64, io.Reader, int64, object.Sum) (place.Part,
	error) {
	return place.Part{}, errors.New("content went through here")
}
func (s *service) Parts(context.Context, place.Upload) ([]place.Part, error) { return nil, nil }
func (s *service) Finish(_ context.Context, _ place.Upload, parts []place.Part, _ place.WriteOptions) (object.Entry,
	error) {
	for i, p := range parts {
		if p.Number != i+1 {
			return object.Entry{}, errors.New("parts out of order")
		}
	}
	return s.entry(), s.note("finish")
}
func (s *service) Abort(context.Context, place.Upload) error       { return s.note("abort") }
func (s *service) Uploads(context.Context) ([]place.Upload, error) { return nil, nil }
func (s *service) Remove(_ context.Context, refs ...object.Ref) []error {
	return []error{s.note("delete")}
}

// one is a pick of the service's object, listed by itself.
func (s *service) copy(t *testing.T, move bool) handle.Result {
	var a handle.Action
	later := s.later
	do := a.Copy
	if move {
		do = a.Move
	}
	err := do(t.Context(), &elsewhere{s}, []handle.Pick{{Key: "a.wav"}}, s, "b.wav")
	// That is how it is looked for at first.
	require.Equal(t, s.fail == "stat" && later == 0, err != nil, "%v", err)
	return a.Result()
}

// elsewhere is the same service by another name, as another bucket is.
type elsewhere struct{ *service }

func (e *elsewhere) Name() string { return "elsewhere" }

// A large object is copied range by range: each byte once, in as few ranges as the limit
// on their size allows and as the limit on their number asks for.
func TestRangesCoverTheWhole(t *testing.T) {
	const gib = 1 << 30
	for _, c := range []struct {
		size  int64
		parts int
		want  int
	}{{5*gib + 1, 10_000, 11}, {6 * gib, 10_000, 12}, {5*gib + 512<<20, 0, 11}, {40 * gib, 20, 20},
		{40*gib + 1, 20, 20}, {41 * gib, 100, 82}} {
		s := &service{size: c.size, parts: c.parts}
		r := s.copy(t, false)
		require.Zero(t, r.Failed, "%v", r.Problems)
		slices.SortFunc(s.ranges, func(a, b [2]int64) int { return int((a[0] - b[0]) / 1024) })
		at := int64(0)
		for _, x := range s.ranges {
			require.Equal(t, at, x[0])
			require.Positive(t, x[1])
			at += x[1]
		}
		assert.Equal(t, c.size, at)
		assert.Len(t, s.ranges, c.want, "%d bytes in at most %d parts", c.size, c.parts)
	}
	small := &service{size: 5 << 30}
	small.copy(t, false)
	assert.Contains(t, small.did, "copy whole")
	assert.Empty(t, small.ranges)
}

// What fails on the way leaves no half-made copy, and the original where it is.
func TestRangesThatFail(t *testing.T) {
	for _, step := range []string{"stat", "begin", "part", "finish"} {
		s := &service{size: 6 << 30, parts: 10_000, fail: step}
		r := s.copy(t, true)
		assert.EqualValues(t, 0, r.Done.Objects, step)
		assert.NotContains(t, s.did, "delete", step)
		assert.Equal(t, step == "part" || step == "finish", slices.Contains(s.did, "abort"), "%s: %v", step, s.did)
	}
	gone := &service{size: 6 << 30, parts: 10_000, fail: "stat", later: 1} // when its metadata is asked for
	r := gone.copy(t, true)
	assert.EqualValues(t, 1, r.Failed)
	assert.NotContains(t, gone.did, "begin")
	s := &service{size: 6 << 30, parts: 10_000}
	r = s.copy(t, true)
	assert.Zero(t, r.Failed, "%v", r.Problems)
	assert.Equal(t, "delete", s.did[len(s.did)-1], "at the very end")
	assert.NotContains(t, s.did, "abort")
}

// labelled is a service with tags; those of the copy are noted.
type labelled struct {
	*elsewhere
	tags, set map[string]string
	err       error
}

func (l *labelled) Tags(context.Context, object.Ref) (map[string]string, error) { return l.tags, l.err }

func (l *labelled) SetTags(_ context.Context, ref object.Ref, tags map[string]string) error {
	l.set = tags
	return l.note("tag " + ref.Key)
}

// Tags go along with a large object, where there are any and both sides have them.
func TestTagsGoAlong(t *testing.T) {
	size := int64(6 << 30)
	copied := func(from, to place.Place) handle.Result {
		var act handle.Action
		require.NoError(t, act.Copy(ctx, from, []handle.Pick{{Key: "a.wav"}}, to, "b.wav"))
		return act.Result()
	}
	site := map[string]string{"site": "weir"}
	from, to := &labelled{elsewhere: &elsewhere{&service{size: size}}, tags: site},
		&labelled{elsewhere: &elsewhere{&service{size: size}}}
	require.Zero(t, copied(from, to).Failed)
	assert.Equal(t, site, to.set)
	assert.Contains(t, to.did, "tag b.wav")
	to = &labelled{elsewhere: &elsewhere{&service{size: size}}}
	from.tags = nil
	require.Zero(t, copied(from, to).Failed)
	assert.NotContains(t, to.did, "tag b.wav", "there are none to set")
	from.err = errors.New("the tide came in")
	assert.EqualValues(t, 1, copied(from, to).Failed, "tags that cannot be read are not left behind unsaid")
	require.Zero(t, copied(&elsewhere{&service{size: size}}, to).Failed)
	plain := &elsewhere{&service{size: size}}
	from.err, from.tags = nil, site
	require.Zero(t, copied(from, plain).Failed)
}
