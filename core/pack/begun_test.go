package pack_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/testkit"
)

// counted is a [shelf] that knows which uploads are open. begun and sent, where they are set, happen once: after
// an upload was opened, and when a part arrives.
type counted struct {
	*shelf
	mu          sync.Mutex
	open        map[string]time.Time
	ids         int
	begun, sent func() error
	// killed has nothing be dropped: who would is not there any more.
	killed bool
}

func (c *counted) Begin(ctx context.Context, key string, opts place.WriteOptions) (place.Upload, error) {
	up, err := c.shelf.Begin(ctx, key, opts)
	c.ids++
	up.ID, up.Begun = fmt.Sprint("upload ", c.ids), time.Now()
	c.open[up.ID] = up.Begun
	return up, errors.Join(err, c.once(&c.begun))
}

// once does what is to happen, and not again unless that says so. Parts come from several goroutines.
func (c *counted) once(what *func() error) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	f := *what
	*what = nil
	if f == nil {
		return nil
	}
	return f()
}

func (c *counted) WritePart(ctx context.Context, up place.Upload, number int, offset int64, body io.Reader, size int64,
	sum object.Sum) (place.Part, error) {
	if err := c.once(&c.sent); err != nil {
		return place.Part{}, err
	}
	return c.shelf.WritePart(ctx, up, number, offset, body, size, sum)
}

func (c *counted) Finish(ctx context.Context, up place.Upload, parts []place.Part, opts place.WriteOptions) (
	object.Entry, error) {
	delete(c.open, up.ID)
	return c.shelf.Finish(ctx, up, parts, opts)
}

func (c *counted) Abort(ctx context.Context, up place.Upload) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.killed {
		return place.NewError("shelf", "abort", up.Key, place.Denied, nil)
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	delete(c.open, up.ID)
	return nil
}

func (c *counted) Uploads(context.Context) (all []place.Upload, err error) {
	for id, begun := range c.open {
		all = append(all, place.Upload{Key: "pack.tar", ID: id, Begun: begun})
	}
	return all, nil
}

// A change by hand leaves no upload behind: neither where the answer to its opening is lost, nor where a person ends
// it, nor, once the next change was made, where it is killed between any two requests. What others have begun stays.
func TestChangeLeavesNoUpload(t *testing.T) {
	testkit.Heavy(t)
	for name, c := range map[string]struct {
		ends bool // the change does not come to its end
		set  func(c *counted, end func() error)
	}{
		"all well":        {false, func(*counted, func() error) {}},
		"no answer":       {false, func(c *counted, _ func() error) { c.begun = lost }},
		"ended unknown":   {true, func(c *counted, end func() error) { c.begun = end }},
		"ended in a part": {true, func(c *counted, end func() error) { c.sent = end }},
		"no answer, then ended in a part": {true, func(c *counted, end func() error) {
			c.begun, c.sent = lost, end
		}},
	} {
		for _, killed := range []bool{false, true} {
			s := &counted{shelf: &shelf{whole: map[string][]byte{}, least: 5 << 20},
				open: map[string]time.Time{"another's": time.Now().Add(-time.Hour), "later": time.Now().Add(time.Hour)}}
			dir := t.TempDir()
			change := func(ctx context.Context) error {
				return pack.Change(ctx, s, "pack.tar", 40<<20, pack.Options{Dir: dir}, func(w *pack.Writer) error {
					_, err := w.Add(pack.Member{Name: "shore.wav", Kind: pack.File, Size: 20 << 20},
						&pack.Content{Reader: strings.NewReader(noise(1, 20<<20))})
					return err
				})
			}
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			c.set(s, func() error { s.killed = killed; cancel(); return ctx.Err() })
			if c.ends {
				require.ErrorIs(t, change(ctx), context.Canceled, name)
				if s.killed {
					assert.Greater(t, len(s.open), 2, "%s: nothing was left to be dropped", name)
					s.killed = false
					require.NoError(t, change(t.Context()), name)
				}
			} else {
				require.NoError(t, change(ctx), name)
			}
			assert.Equal(t, []string{"another's", "later"}, slices.Sorted(maps.Keys(s.open)), "%s, killed: %t", name,
				killed)
			left, err := filepath.Glob(filepath.Join(dir, "uploads", "*"))
			require.NoError(t, err)
			assert.Empty(t, left, name)
		}
	}
}

// A part that a store refuses ends a change with what the store said of it, and the pack stays as it was.
func TestPartRefused(t *testing.T) {
	for which := 1; ; which++ {
		s := &counted{shelf: &shelf{whole: map[string][]byte{}, least: 5 << 20}, open: map[string]time.Time{}}
		add := func(name string, size int) error {
			return pack.Change(t.Context(), s, "pack.tar", 40<<20, pack.Options{}, func(w *pack.Writer) error {
				_, err := w.Add(pack.Member{Name: name, Kind: pack.File, Size: int64(size)},
					&pack.Content{Reader: strings.NewReader(noise(1, size))})
				return err
			})
		}
		require.NoError(t, add("before", 10))
		was := string(s.whole["pack.tar"])
		n := 0
		var refuse func() error
		refuse = func() error {
			if n++; n == which {
				return place.NewError("shelf", "write", "pack.tar", place.NoRoom, nil)
			}
			s.sent = refuse
			return nil
		}
		s.sent = refuse
		err := add("more", 20<<20+9)
		if n < which { // all were refused once
			require.NoError(t, err)
			assert.Greater(t, n, 2)
			return
		}
		assert.Equal(t, place.NoRoom, place.KindOf(err), "part %d", which)
		assert.True(t, was == string(s.whole["pack.tar"]), "part %d", which)
		assert.Empty(t, s.open)
	}
}

// lost is what a connection tells that broke before the answer came.
func lost() error {
	return place.NewError("shelf", "write", "pack.tar", place.Unreachable, io.ErrUnexpectedEOF)
}
