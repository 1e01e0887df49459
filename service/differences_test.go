package service_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/place"
	"lumtra/service/browse"
	"lumtra/service/workspace"
)

// Two places are held beside each other by key and size, and by checksum where that is asked.
func TestDifferences(t *testing.T) {
	dir := prepared(t)
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "beside"))
	p, err := s.Place(ctx, "north/beside/in")
	require.NoError(t, err)
	for name, text := range map[string]string{"same.txt": "tide", "other.txt": "tide", "size.txt": "tides",
		"there.txt": "x", "deep/same.txt": "neap"} {
		_, err := p.Write(ctx, name, strings.NewReader(text), int64(len(text)), place.WriteOptions{})
		require.NoError(t, err)
	}
	for name, text := range map[string]string{"same.txt": "tide", "other.txt": "edit", "size.txt": "t", "here.txt": "x",
		"deep/same.txt": "neap"} {
		put(t, dir, "side/"+name, text)
	}
	here, err := workspace.Local(filepath.Join(dir, "side"))
	require.NoError(t, err)
	there := workspace.At{Endpoint: "north", Bucket: "beside", Key: "in/"}
	told := 0
	d, err := s.Differences(ctx, here, there, false, 100, func(browse.Differences) { told++ })
	require.NoError(t, err)
	assert.Equal(t, []browse.Difference{{Key: "here.txt", Only: browse.AtLeft, Left: 1},
		{Key: "size.txt", Left: 1, Right: 5, Why: "another size"}, {Key: "there.txt", Only: browse.AtRight, Right: 1}},
		d.Lines)
	assert.Equal(t, int64(3), d.Same, "of one size")
	assert.Equal(t, 6, told)
	d, err = s.Differences(ctx, here, there, true, 100, nil)
	require.NoError(t, err)
	require.Len(t, d.Lines, 4)
	assert.Equal(t, "other.txt", d.Lines[1].Key, "of one size, and other")
	assert.NotEmpty(t, d.Lines[1].Why)
	assert.Equal(t, []int64{1, 1, 2, 2}, []int64{d.OnlyLeft, d.OnlyRight, d.Other, d.Same})
	d, err = s.Differences(ctx, here, there, true, 1, nil)
	require.NoError(t, err)
	assert.Len(t, d.Lines, 1)
	assert.Equal(t, int64(4), d.All(), "those without a line count")
	_, err = s.Differences(ctx, here, workspace.At{Endpoint: "north"}, false, 1, nil)
	assert.ErrorIs(t, err, workspace.ErrBadInput)
	_, err = s.Differences(ctx, here, workspace.At{Endpoint: "north", Bucket: "missing"}, false, 1, nil)
	assert.Error(t, err)
}

// A path of this machine is a place without an endpoint for it, links on the way followed.
func TestLocalPlaces(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "real/deep/a.wav", "a")
	require.NoError(t, os.Symlink(filepath.Join(dir, "real"), filepath.Join(dir, "link")))
	real, err := filepath.EvalSymlinks(dir)
	require.NoError(t, err)
	for path, want := range map[string]string{"link/deep": "real/deep/", "link/deep/a.wav": "real/deep/a.wav",
		"link/new/x": "real/new/x", "real": "real/"} {
		at, err := workspace.Local(filepath.Join(dir, path))
		require.NoError(t, err)
		assert.Equal(t, workspace.At{Key: strings.TrimPrefix(real, "/") + "/" + want}, at, path)
		assert.Equal(t, strings.TrimRight(real+"/"+want, "/"), at.Text())
	}
	s := open(t, dir)
	at, err := s.AtOf(real + "/real/")
	require.NoError(t, err)
	assert.Equal(t, workspace.At{Key: strings.TrimPrefix(real, "/") + "/real/"}, at)
	_, err = s.LocalThere(filepath.Join(dir, "gone"))
	assert.ErrorIs(t, err, workspace.ErrBadInput)
	assert.NotContains(t, s.EndpointNames(), "", "it is no endpoint of the workspace")
}

// Drops of commands are kept under names that were not used before, and old ones go.
func TestDropsAreNumberedOn(t *testing.T) {
	s := open(t, prepared(t))
	drop := &workspace.Drop{Items: []workspace.At{{Key: "tmp/x"}}, Target: workspace.At{Key: "tmp/y/"}}
	first, err := s.KeepDrop(workspace.FromShell, drop)
	require.NoError(t, err)
	second, err := s.KeepDrop(workspace.FromShell, drop)
	require.NoError(t, err)
	assert.Equal(t, []string{"once-1", "once-2"}, []string{first, second})
	require.NoError(t, os.Remove(s.Dir.Path("drops", "once-1.json")))
	third, err := s.KeepDrop(workspace.FromShell, drop)
	require.NoError(t, err)
	assert.Equal(t, "once-3", third, "what a name has meant it means permanently")
	for range 205 {
		_, err := s.KeepDrop(workspace.FromShell, drop)
		require.NoError(t, err)
	}
	left, err := os.ReadDir(s.Dir.Path("drops"))
	require.NoError(t, err)
	assert.LessOrEqual(t, len(left), 202)
	assert.Len(t, s.Drops(), len(left))
	tray, err := s.KeepDrop(workspace.FromTray, drop)
	require.NoError(t, err)
	assert.Equal(t, "tray-1", tray)
	assert.Equal(t, tray, s.Drops()[0].Name, "the newest first")
}
