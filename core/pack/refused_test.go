package pack_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"errors"
	"fmt"
	"io"
	"iter"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/testkit"
)

// refusing is a place of which one request comes to nothing: the one whose number left counts down to.
type refusing struct {
	place.Place
	left atomic.Int64
	how  func(op, key string) error
}

func (r *refusing) due(op, key string) error {
	if r.left.Add(-1) == 0 {
		return r.how(op, key)
	}
	return nil
}

func (r *refusing) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	if err := r.due("stat", ref.Key); err != nil {
		return object.Entry{}, err
	}
	return r.Place.Stat(ctx, ref)
}

func (r *refusing) List(ctx context.Context, prefix string, o place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		for e, err := range r.Place.List(ctx, prefix, o) {
			if err := r.due("list", e.Key); err != nil {
				yield(object.Entry{}, err)
				return
			}
			if !yield(e, err) {
				return
			}
		}
	}
}

func (r *refusing) Read(ctx context.Context, key string, o place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	if err := r.due("read", key); err != nil {
		return nil, object.Entry{}, err
	}
	body, e, err := r.Place.Read(ctx, key, o)
	if err != nil {
		return nil, e, err
	}
	return &refusingBody{body, r, key}, e, nil
}

// refusingBody is a body of which one piece does not come.
type refusingBody struct {
	io.ReadCloser
	r   *refusing
	key string
}

func (b *refusingBody) Read(p []byte) (int, error) {
	if err := b.r.due("read", b.key); err != nil {
		return 0, err
	}
	return b.ReadCloser.Read(p)
}

func (r *refusing) Write(ctx context.Context, key string, body io.Reader, size int64, o place.WriteOptions) (
	object.Entry, error) {
	if err := r.due("write", key); err != nil {
		return object.Entry{}, err
	}
	return r.Place.Write(ctx, key, body, size, o)
}

// gather makes one line of each of what comes.
func gather[T any](all iter.Seq2[T, error], line func(T) string) (string, error) {
	var lines []string
	var errs []error
	for x, err := range all {
		if err != nil {
			errs = append(errs, err)
			continue
		}
		lines = append(lines, line(x))
	}
	return strings.Join(lines, "\n"), errors.Join(errs...)
}

// Whichever request of a step comes to nothing: the step tells so, or goes round it and comes to what it comes to
// else; what looks never shows less without a word, and what changes leaves the old or the new.
func TestRefusedRequests(t *testing.T) {
	testkit.Heavy(t)
	names := []string{"one.tar.zst", "two.tar", "three.tar.zst"}
	entry := func(e object.Entry) string { return fmt.Sprint(e.Key, " ", e.Size, " ", e.Version) }
	held := func(t *testing.T, p place.Place) string {
		var lines []string
		for _, name := range names {
			all := inside(t, p, name)
			for _, key := range slices.Sorted(maps.Keys(all)) {
				lines = append(lines, fmt.Sprint(name, " ", key, " ", len(all[key]), " ", all[key][:4]))
			}
		}
		return strings.Join(lines, "\n")
	}
	set := func(p place.Place) *pack.Set { return pack.NewSet(p, ".tar.zst", p, "", pack.Keeping{}) }
	looks := map[string]func(p place.Place, dir string) (string, error){
		"list": func(p place.Place, _ string) (string, error) {
			return gather(set(p).List(t.Context(), "", place.ListOptions{}), entry)
		},
		"beside": func(p place.Place, _ string) (string, error) {
			return gather(set(p).Beside(t.Context()), func(m pack.Member) string { return m.Name + " " + m.Link })
		},
		"read": func(p place.Place, _ string) (string, error) {
			data, _, err := place.Open(t.Context(), set(p), "loose.wav", 1<<20)
			more, _, err2 := place.Open(t.Context(), set(p), "takes/a", 1<<20)
			return string(data) + string(more), errors.Join(err, err2)
		},
		"versions": func(p place.Place, _ string) (string, error) {
			return gather(pack.In(p, "one.tar.zst", "").Versions(t.Context(), "", false), entry)
		},
		"list a pack": func(p place.Place, _ string) (string, error) {
			return gather(pack.In(p, "one.tar.zst", "").List(t.Context(), "takes/", place.ListOptions{}), entry)
		},
		"add": func(p place.Place, dir string) (string, error) {
			err := pack.Change(t.Context(), p, "one.tar.zst", 1<<20, pack.Options{Dir: dir},
				func(w *pack.Writer) error {
					_, err := w.Add(pack.Member{Name: "more", Kind: pack.File, Size: 4},
						&pack.Content{Data: []byte("surf")})
					return err
				})
			return "", err
		},
		"drop": func(p place.Place, dir string) (string, error) {
			n, err := pack.Drop(t.Context(), p, "one.tar.zst", []string{"takes/b"}, pack.Options{Dir: dir})
			return fmt.Sprint(n), err
		},
		"remove": func(p place.Place, _ string) (string, error) {
			return "", errors.Join(set(p).Remove(t.Context(), object.Ref{Key: "takes/b"})...)
		},
		"undelete": func(p place.Place, _ string) (string, error) {
			return "", pack.In(p, "one.tar.zst", "").Undelete(t.Context(), "gone")
		},
		"rewrite": func(p place.Place, dir string) (string, error) {
			_, err := pack.Rewrite(t.Context(), p, "one.tar.zst", pack.Options{Dir: dir}, "")
			return "", err
		},
		"rewrite plainly": func(p place.Place, dir string) (string, error) {
			_, err := pack.Rewrite(t.Context(), p, "two.tar", pack.Options{Dir: dir, Level: 1}, "")
			return "", err
		},
	}
	faults := map[string]func(op, key string) error{
		"denied": func(op, key string) error { return place.NewError("shelf", op, key, place.Denied, nil) },
		"cut":    func(op, key string) error { return place.NewError("shelf", op, key, place.Unreachable, nil) },
	}
	for step, do := range looks {
		for fault, how := range faults {
			t.Run(step+"/"+fault, func(t *testing.T) {
				t.Parallel()
				var want, after string
				for at := int64(0); ; at++ {
					dir := t.TempDir()
					p := &refusing{Place: outside(t, dir), how: how}
					twoPacks(t, p)
					before := held(t, p.Place)
					p.left.Store(at)
					got, err := do(p, dir)
					now := held(t, p.Place)
					switch {
					case at == 0: // nothing was refused
						require.NoError(t, err)
						want, after = got, now
					case err == nil:
						assert.Equal(t, want, got, "request %d", at)
						assert.Equal(t, after, now, "request %d", at)
					default:
						assert.Contains(t, []string{before, after}, now, "request %d: %v", at, err)
					}
					if at > 0 && p.left.Load() > 0 { // all its requests were refused once
						assert.Greater(t, at, int64(1))
						return
					}
				}
			})
		}
	}
}

// twoPacks puts packs with members of several versions, links and folders at a place, and something beside them.
func twoPacks(t *testing.T, p place.Place) {
	add := func(name string, acts ...func(w *pack.Writer) error) {
		require.NoError(t, pack.Change(t.Context(), p, name, 1<<20, pack.Options{}, func(w *pack.Writer) error {
			for _, act := range acts {
				if err := act(w); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	file := func(name, body string) func(w *pack.Writer) error {
		return func(w *pack.Writer) error {
			_, err := w.Add(pack.Member{Name: name, Kind: pack.File, Size: int64(len(body))},
				&pack.Content{Reader: strings.NewReader(body)})
			return err
		}
	}
	other := func(m pack.Member) func(w *pack.Writer) error {
		return func(w *pack.Writer) error { _, err := w.Add(m, nil); return err }
	}
	add("one.tar.zst", file("takes/a", "dawn one"), file("takes/b", "dusk one"), file("gone", "ebb of it"))
	add("one.tar.zst", file("takes/a", "dawn two, which is longer"),
		other(pack.Member{Name: "silent", Kind: pack.Folder, Mode: 0o755}))
	add("one.tar.zst", func(w *pack.Writer) error { return w.Drop("gone") })
	add("two.tar", file("takes/c", "tide one"), file("takes/d", "tide of d"),
		other(pack.Member{Name: "newest", Kind: pack.Symlink, Link: "takes/d"}))
	add("two.tar", file("takes/c", "tide two"))
	add("three.tar.zst", file("takes/late", "after the others"),
		other(pack.Member{Name: "empty", Kind: pack.Folder, Mode: 0o755}))
	body := "beside them all"
	_, err := p.Write(t.Context(), "loose.wav", strings.NewReader(body), int64(len(body)), place.WriteOptions{})
	require.NoError(t, err)
}

// So it is with a pack whose index is larger than what is read of it at first: no member is lost because it could not
// be
// looked up.
func TestRefusedLookups(t *testing.T) {
	testkit.Heavy(t)
	dir := t.TempDir()
	p := &refusing{Place: outside(t, dir)}
	const members = 3000
	require.NoError(t, pack.Change(t.Context(), p, "x.tar", 1<<20, pack.Options{}, func(w *pack.Writer) error {
		for i := range members {
			name := fmt.Sprintf("%x/%x", sha256.Sum256([]byte{byte(i), byte(i >> 8)}), sha512.Sum512([]byte{byte(i)}))
			if _, err := w.Add(pack.Member{Name: name, Kind: pack.File, Size: 1},
				&pack.Content{Data: []byte("x")}); err != nil {
				return err
			}
		}
		return nil
	}))
	path := filepath.Join(dir, "x.tar")
	was, err := os.ReadFile(path)
	require.NoError(t, err)
	rewrite := func(at int64) (took int64, err error) {
		require.NoError(t, os.WriteFile(path, was, 0o600))
		p.how = func(op, key string) error { return place.NewError("shelf", op, key, place.Denied, nil) }
		p.left.Store(at)
		_, err = pack.Rewrite(t.Context(), p, "x.tar", pack.Options{Dir: dir}, "")
		return at - p.left.Swap(0), err
	}
	requests, err := rewrite(1 << 40)
	require.NoError(t, err)
	for at := int64(1); at <= requests; at += max(1, requests/40) {
		_, err := rewrite(at)
		now, failed := os.ReadFile(path)
		require.NoError(t, failed)
		if err != nil && bytes.Equal(was, now) {
			continue
		}
		x, err := pack.Open(t.Context(), p, "x.tar")
		require.NoError(t, err)
		assert.EqualValues(t, members, x.Totals().Members, "request %d of %d", at, requests)
		require.NoError(t, x.Close())
	}
}
