package catalog_test

import (
	"context"
	"fmt"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/testkit"
)

// entries draws entries with every field, in order of keys.
func entries(t *rapid.T, label string) []object.Entry {
	byKey := map[string]object.Entry{}
	for range rapid.IntRange(0, 60).Draw(t, label) {
		e := object.Entry{
			Key:      string(rapid.SliceOfN(rapid.SampledFrom([]byte("ab/\x00\xff-")), 1, 6).Draw(t, "key")),
			Size:     rapid.Int64Range(0, 1<<50).Draw(t, "size"),
			Modified: time.Unix(0, rapid.Int64Range(-1e18, 4e18).Draw(t, "time")),
			ETag:     rapid.SampledFrom([]string{"", "abc", "long-etag-0123456789"}).Draw(t, "etag"),
			Version:  rapid.SampledFrom([]string{"", "v1"}).Draw(t, "version"),
			Class:    rapid.SampledFrom([]string{"", "COLD"}).Draw(t, "class"),
			Latest:   true,
		}
		if rapid.Bool().Draw(t, "more") {
			e.Mode, e.Kind = object.ModeOf(0o640), object.Special
			e.Sums = []object.Sum{{Kind: object.CRC64NVME, Value: "12345678"},
				{Kind: object.MD5, Value: strings.Repeat("m", 16)}}
		}
		byKey[e.Key] = e
	}
	var list []object.Entry
	for _, e := range byKey {
		list = append(list, e)
	}
	slices.SortFunc(list, func(a, b object.Entry) int { return strings.Compare(a.Key, b.Key) })
	return list
}

func build(t require.TestingT, path string, list []object.Entry) *catalog.Catalog {
	w, err := catalog.Create(path, catalog.Info{Place: "p"})
	require.NoError(t, err)
	for i := range list {
		require.NoError(t, w.Add(&list[i]))
	}
	_, err = w.Finish()
	require.NoError(t, err)
	c, err := catalog.Open(path)
	require.NoError(t, err)
	return c
}

// What is written is read back, from any key on, and two catalogs merge as two
// maps would.
func TestModel(t *testing.T) {
	dir := t.TempDir()
	testkit.Check(t, func(t *rapid.T) {
		a, b := entries(t, "a"), entries(t, "b")
		ca, cb := build(t, filepath.Join(dir, "a"), a), build(t, filepath.Join(dir, "b"), b)
		defer ca.Close()
		defer cb.Close()
		from := rapid.SampledFrom([]string{"", "a", "a/", "b-", "\xff\xff"}).Draw(t, "from")
		var want, got []object.Entry
		for _, e := range a {
			if e.Key >= from {
				want = append(want, e)
			}
		}
		cur := ca.Cursor(from)
		for cur.Next() {
			got = append(got, *cur.Entry())
		}
		require.NoError(t, cur.Err())
		require.Equal(t, want, got)

		sides := map[string][2]string{}
		for i, list := range [][]object.Entry{a, b} {
			for _, e := range list {
				s := sides[e.Key]
				s[i] = fmt.Sprint(e.Size)
				sides[e.Key] = s
			}
		}
		m := catalog.NewMerge(ca.Cursor(""), cb.Cursor(""))
		last := ""
		for m.Next() {
			var s [2]string
			key := ""
			for i, e := range []*object.Entry{m.A, m.B} {
				if e != nil {
					s[i], key = fmt.Sprint(e.Size), e.Key
				}
			}
			require.Equal(t, sides[key], s)
			require.True(t, last == "" || key > last)
			delete(sides, key)
			last = key
		}
		require.NoError(t, m.Err())
		require.Empty(t, sides)
	})
}

// A damaged or cut file is an error, never a shorter catalog.
func TestDamage(t *testing.T) {
	path := filepath.Join(t.TempDir(), "c")
	var list []object.Entry
	for i := range 5000 {
		list = append(list, object.Entry{Key: fmt.Sprintf("tiles/%06d", i), Size: int64(i * i),
			Modified: time.Unix(int64(i*77777), 0), Latest: true})
	}
	build(t, path, list).Close()
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	for at := 0; at < len(whole); at += len(whole)/97 + 1 {
		for what, damaged := range map[string][]byte{"cut": whole[:at], "flipped": flip(whole, at)} {
			require.NoError(t, os.WriteFile(path, damaged, 0o600))
			c, err := catalog.Open(path)
			if err != nil {
				continue
			}
			n, cur := 0, c.Cursor("")
			for cur.Next() {
				n++
			}
			assert.Error(t, cur.Err(), "%s at %d went unnoticed after %d entries", what, at, n)
			c.Close()
		}
	}
	w, err := catalog.Create(path, catalog.Info{})
	require.NoError(t, err)
	defer w.Abandon()
	require.NoError(t, w.Add(&object.Entry{Key: "b"}))
	assert.Error(t, w.Add(&object.Entry{Key: "a"}), "out of order")
	assert.Error(t, w.Add(&object.Entry{Key: "b"}), "twice")
}

func flip(b []byte, at int) []byte {
	b = slices.Clone(b)
	b[at] ^= 1
	return b
}

// A folder that is not there: a target comes into being, and only a target.
func TestAbsent(t *testing.T) {
	end, err := folder.OpenEndpoint("studio", t.TempDir(), folder.Options{})
	require.NoError(t, err)
	defer end.Close()
	var p place.Place
	p, err = end.Open("not/there")
	require.NoError(t, err)
	c, err := catalog.Survey(context.Background(), p, filepath.Join(t.TempDir(), "c"), catalog.Options{})
	require.NoError(t, err)
	defer c.Close()
	assert.True(t, c.Info.Absent)
	assert.True(t, c.Info.Complete())
}

// pages is a place of many prefixes whose listings take their time, and count
// how many are under way.
type pages struct {
	place.Place
	keys     []string
	now, top atomic.Int64
}

func (p *pages) Name() string               { return "far/archive" }
func (p *pages) Abilities() place.Abilities { return place.Abilities{} }

func (p *pages) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		p.top.Store(max(p.top.Load(), p.now.Add(1)))
		defer p.now.Add(-1)
		n, last := 0, ""
		for _, k := range p.keys {
			rest, ok := strings.CutPrefix(k, prefix)
			e := object.Entry{Key: k, Size: 1}
			if i := strings.IndexByte(rest, '/'); ok && opts.Shallow && i >= 0 {
				e = object.Entry{Key: prefix + rest[:i+1], Kind: object.Prefix}
			}
			if !ok || e.Key <= opts.After || e.Key == last {
				continue
			}
			if last = e.Key; n%1000 == 0 {
				time.Sleep(20 * time.Millisecond) // the far side's answer to each page
			}
			if n++; !yield(e, nil) {
				return
			}
		}
	}
}

// A place that answers slowly is listed over many connections, by the prefixes
// found on the way, and comes out the same.
func TestSlowPlace(t *testing.T) {
	p := &pages{}
	for i := range 9000 {
		p.keys = append(p.keys, fmt.Sprintf("%02d/%04d.wav", i/300, i%300))
	}
	c, err := catalog.Survey(context.Background(), p, filepath.Join(t.TempDir(), "c"), catalog.Options{Streams: 8})
	require.NoError(t, err)
	defer c.Close()
	assert.EqualValues(t, len(p.keys), c.Info.Objects)
	assert.Greater(t, p.top.Load(), int64(2))
	cur := c.Cursor("")
	for _, k := range p.keys {
		require.True(t, cur.Next())
		require.Equal(t, k, cur.Entry().Key)
	}
}
