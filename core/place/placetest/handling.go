package placetest

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/testkit"
)

// states lists what is kept of one key.
func states(t *testing.T, p place.Place, key string) []object.Entry {
	var all []object.Entry
	for e, err := range p.(place.Versioned).Versions(ctx, key, false) {
		require.NoError(t, err)
		all = append(all, e)
	}
	return all
}

// versions: each write is kept, a removal hides, older content is read by its
// name and brought back, and what is removed for good is gone.
func (s *suite) versions(t *testing.T) {
	if s.opts.Versioned == nil {
		return
	}
	p := s.opts.Versioned(t)
	const key = "masters/reed \u00fc+bunting.wav"
	write(t, p, key, []byte("take one"))
	write(t, p, key, []byte("take two!"))
	write(t, p, key+"x", []byte("a longer key"))
	kept := states(t, p, key)
	require.Len(t, kept, 3)
	require.Equal(t, []int64{9, 8}, []int64{kept[0].Size, kept[1].Size}, "newest first")
	assert.True(t, kept[0].Latest && !kept[1].Latest && kept[0].Version != kept[1].Version)
	assert.Equal(t, "take one", string(read(t, p, key, place.ReadOptions{Version: kept[1].Version})))
	e, err := p.Stat(ctx, object.Ref{Key: key, Version: kept[1].Version})
	require.NoError(t, err)
	assert.EqualValues(t, 8, e.Size)

	require.NoError(t, p.Remove(ctx, object.Ref{Key: key})[0])
	_, err = p.Stat(ctx, object.Ref{Key: key})
	kindOf(t, place.NotFound, err)
	assert.Equal(t, []string{key + "x"}, list(t, p, "", place.ListOptions{}))
	require.NoError(t, p.(place.Versioned).Undelete(ctx, key))
	assert.Equal(t, "take two!", string(read(t, p, key, place.ReadOptions{})))
	require.NoError(t, p.(place.Versioned).Undelete(ctx, key), "what is there needs nothing")
	kindOf(t, place.NotFound, p.(place.Versioned).Undelete(ctx, "never/was"))

	_, err = p.(place.ServerCopier).CopyFrom(ctx, p, object.Ref{Key: key, Version: kept[1].Version}, key,
		place.WriteOptions{})
	require.NoError(t, err, "an older version is brought back")
	assert.Equal(t, "take one", string(read(t, p, key, place.ReadOptions{})))
	for range 2 { // removing the newest state may leave a marker, or nothing
		for _, e := range states(t, p, "") {
			require.NoError(t, p.Remove(ctx, object.Ref{Key: e.Key, Version: e.Version})[0])
		}
	}
	assert.Empty(t, states(t, p, ""))
}

func (s *suite) tags(t *testing.T) {
	p := s.open(t)
	tagger, ok := p.(place.Tagger)
	if !ok || s.opts.NoTags {
		return
	}
	write(t, p, "weir.wav", []byte("w"))
	ref := object.Ref{Key: "weir.wav"}
	got, err := tagger.Tags(ctx, ref)
	require.NoError(t, err)
	assert.Empty(t, got)
	want := map[string]string{"site": "lower weir", "quality": "5+/-1"}
	require.NoError(t, tagger.SetTags(ctx, ref, want))
	got, err = tagger.Tags(ctx, ref)
	require.NoError(t, err)
	assert.Equal(t, want, got)
	require.NoError(t, tagger.SetTags(ctx, ref, nil))
	got, err = tagger.Tags(ctx, ref)
	require.NoError(t, err)
	assert.Empty(t, got)
	_, err = tagger.Tags(ctx, object.Ref{Key: "none"})
	kindOf(t, place.NotFound, err)
}

func (s *suite) metadata(t *testing.T) {
	p := s.open(t)
	writer, ok := p.(place.MetadataWriter)
	if !ok || s.opts.NoMetadataCopy {
		return
	}
	born := time.Date(2019, 4, 1, 4, 30, 0, 0, time.UTC)
	data := content(5000)
	first, err := p.Write(ctx, "a dawn.wav", strings.NewReader(string(data)), 5000,
		place.WriteOptions{Original: born, ContentType: "audio/x-wav",
			Metadata: map[string]string{"site": "weir", "take": "1"}})
	require.NoError(t, err)
	ref := object.Ref{Key: "a dawn.wav", IfMark: first.Mark()}
	now, err := writer.SetMetadata(ctx, ref, place.MetadataChange{Set: map[string]string{"take": "2", "mood": "calm"},
		Drop: []string{"site"}, ContentType: "audio/wav"})
	require.NoError(t, err)
	e, err := p.Stat(ctx, object.Ref{Key: ref.Key})
	require.NoError(t, err)
	assert.Equal(t, now.Mark(), e.Mark())
	assert.Equal(t, "audio/wav", e.ContentType)
	assert.Equal(t, []string{"2", "calm", ""}, []string{e.Metadata["take"], e.Metadata["mood"], e.Metadata["site"]})
	assert.WithinDuration(t, born, e.Original, 0, "what Lumtra keeps there stays")
	if kind := p.Abilities().StoredSums; kind != object.NoSum {
		kept, _ := e.Sum(kind)
		assert.Equal(t, sumOf(kind, data), kept)
	}
	assert.Equal(t, data, read(t, p, ref.Key, place.ReadOptions{}))
	if first.Mark() != now.Mark() { // an ETag of the content alone stays
		_, err = writer.SetMetadata(ctx, ref, place.MetadataChange{Drop: []string{"mood"}})
		kindOf(t, place.Changed, err)
	}
	_, err = writer.SetMetadata(ctx, object.Ref{Key: "none"}, place.MetadataChange{})
	kindOf(t, place.NotFound, err)
}

// links: whoever has the address reads the object, this one, and only reads.
func (s *suite) links(t *testing.T) {
	p := s.open(t)
	if why := place.Can(p).Lacks(place.Links); why != "" {
		return
	}
	write(t, p, "a&b/s\u00fcd +1.wav", []byte("shared"))
	address, err := p.(place.Linker).Link(ctx, object.Ref{Key: "a&b/s\u00fcd +1.wav"}, time.Minute)
	require.NoError(t, err)
	client := http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
	if s.opts.Client != nil {
		client.Transport = s.opts.Client
	}
	fetch := func(method, address string) (int, string) {
		req, err := http.NewRequest(method, address, nil)
		require.NoError(t, err)
		resp, err := client.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(body)
	}
	status, body := fetch(http.MethodGet, address)
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, "shared", body)
	status, _ = fetch(http.MethodDelete, address)
	assert.GreaterOrEqual(t, status, 400)
	status, _ = fetch(http.MethodGet, strings.Replace(address, "1.wav", "2.wav", 1))
	assert.GreaterOrEqual(t, status, 400)
	_, err = p.(place.Linker).Link(ctx, object.Ref{Key: "x"}, 0)
	assert.Error(t, err)
}

// cold: content in a cold class is refused as such, and comes back when asked for.
func (s *suite) cold(t *testing.T) {
	if s.opts.ColdClass == "" {
		return
	}
	p := s.open(t)
	_, err := p.Write(ctx, "deep.wav", strings.NewReader("deep"), 4, place.WriteOptions{Class: s.opts.ColdClass})
	require.NoError(t, err)
	e, err := p.Stat(ctx, object.Ref{Key: "deep.wav"})
	require.NoError(t, err)
	assert.Equal(t, object.Archived, e.Archive)
	_, _, err = p.Read(ctx, "deep.wav", place.ReadOptions{})
	kindOf(t, place.Archived, err)
	restorer := p.(place.Restorer)
	assert.Error(t, restorer.Restore(ctx, object.Ref{Key: "deep.wav"}, place.RestoreOptions{Days: 2, Tier: "At Once"}))
	for _, tier := range restorer.RestoreTiers() { // asking again is no error
		require.NoError(t, restorer.Restore(ctx, object.Ref{Key: "deep.wav"}, place.RestoreOptions{Days: 2,
			Tier: tier}))
	}
	require.NoError(t, restorer.Restore(ctx, object.Ref{Key: "deep.wav"}, place.RestoreOptions{Days: 2}),
		"asking again is no error")
	e, err = p.Stat(ctx, object.Ref{Key: "deep.wav"})
	require.NoError(t, err)
	assert.Equal(t, object.Restoring, e.Archive)
	testkit.Until(t, func() bool {
		e, err = p.Stat(ctx, object.Ref{Key: "deep.wav"})
		return err == nil && e.Archive != object.Restoring
	})
	assert.Equal(t, "deep", string(read(t, p, "deep.wav", place.ReadOptions{})))
}

func (s *suite) folders(t *testing.T) {
	p := s.open(t)
	maker, ok := p.(place.FolderMaker)
	if !ok {
		assert.NotEmpty(t, place.Can(p).Lacks(place.Folders))
		return
	}
	require.NoError(t, maker.MakeFolder(ctx, "masters/2027/"))
	kindOf(t, place.Exists, maker.MakeFolder(ctx, "masters/2027/"))
	assert.Equal(t, []string{"masters/2027/"}, list(t, p, "masters/", place.ListOptions{Shallow: true}))
	write(t, p, "masters/2027/a.wav", []byte("a"))
	if p.Abilities().Tree {
		assert.Error(t, maker.RemoveFolder(ctx, "masters/2027/"), "it is not empty")
	}
	require.NoError(t, p.Remove(ctx, object.Ref{Key: "masters/2027/a.wav"})[0])
	require.NoError(t, maker.RemoveFolder(ctx, "masters/2027/"))
	require.NoError(t, maker.RemoveFolder(ctx, "masters/2027/"))
	assert.Empty(t, list(t, p, "masters/", place.ListOptions{Shallow: true}))
}

func (s *suite) move(t *testing.T) {
	p := s.open(t)
	mover, ok := p.(place.Mover)
	if !ok {
		return
	}
	e := write(t, p, "a/one.wav", []byte("one"))
	write(t, p, "b/two.wav", []byte("two"))
	_, err := mover.Move(ctx, object.Ref{Key: "a/one.wav", IfMark: e.Mark()}, "b/two.wav")
	kindOf(t, place.Exists, err)
	_, err = mover.Move(ctx, object.Ref{Key: "a/one.wav", IfMark: "other"}, "c/d/three.wav")
	kindOf(t, place.Changed, err)
	_, err = mover.Move(ctx, object.Ref{Key: "a/one.wav", IfMark: e.Mark()}, "c/d/three.wav")
	require.NoError(t, err)
	assert.Equal(t, []string{"b/two.wav", "c/d/three.wav"}, list(t, p, "", place.ListOptions{}))
	_, err = mover.Move(ctx, object.Ref{Key: "b/two.wav"}, "../out")
	kindOf(t, place.BadName, err)
}
