package handle_test

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/handle"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/standin"
)

// asked is a place that notes how often and for what it is asked to remove things.
type asked struct {
	place.Place
	calls, refs int
	fail        error
}

func (a *asked) Name() string { return "asked" }

func (a *asked) Remove(_ context.Context, refs ...object.Ref) []error {
	a.calls++
	a.refs += len(refs)
	errs := make([]error, len(refs))
	for i := range errs {
		errs[i] = a.fail
	}
	return errs
}

// Removals go in requests of a thousand, each thing once, and nothing is asked for nothing.
// Of what fails the first hundred reasons are kept, and all of it is counted; what is read
// of a result is the reader's.
func TestRemovalsInRequests(t *testing.T) {
	p := dir(t)
	for i := range 1100 {
		put(t, p, fmt.Sprintf("%04d", i))
	}
	a := &asked{Place: p}
	require.NoError(t, new(handle.Action).Remove(ctx, a, []handle.Pick{under("")}, false))
	assert.Equal(t, [2]int{2, 1100}, [2]int{a.calls, a.refs})
	none := &asked{Place: dir(t)}
	require.NoError(t, new(handle.Action).Remove(ctx, none, []handle.Pick{under("")}, false))
	assert.Zero(t, none.calls)

	a.fail = place.NewError("asked", "delete", "", place.Denied, nil)
	var act handle.Action
	require.NoError(t, act.Remove(ctx, a, []handle.Pick{under("")}, false))
	r := act.Result()
	assert.EqualValues(t, 1100, r.Failed)
	assert.NotEmpty(t, r.Problems)
	kept := len(r.Problems)
	r.Problems[0] = io.EOF
	assert.NotEqual(t, io.EOF, act.Result().Problems[0])
	require.NoError(t, act.Remove(ctx, a, []handle.Pick{under("")}, false))
	assert.Len(t, act.Result().Problems, kept, "no more of them")

	// Credentials that ran out end it at once; they are no fault of a thousand things.
	a.fail, a.calls = place.NewError("asked", "delete", "", place.BadLogin, nil), 0
	assert.Equal(t, place.BadLogin, place.KindOf(new(handle.Action).Remove(ctx, a, []handle.Pick{under("")}, false)))
	assert.Equal(t, 1, a.calls)
	assert.Error(t, act.RemoveState(ctx, a, object.Entry{Key: "0001", Version: "v"}))
	assert.EqualValues(t, 2201, act.Result().Failed, "a version that stays is told too")
}

// Links are not copied in place of what they lead to, which is told.
func TestLinksAreNotCopied(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "a"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(root, "a/real"), []byte("r"), 0o600))
	require.NoError(t, os.Symlink("real", filepath.Join(root, "a/link")))
	end, err := folder.OpenEndpoint("studio", root, folder.Options{})
	require.NoError(t, err)
	defer end.Close()
	p, err := end.Open("")
	require.NoError(t, err)
	var a handle.Action
	require.NoError(t, a.Copy(ctx, p, []handle.Pick{under("a/")}, p, "b/"))
	assert.Equal(t, []int64{1, 1}, []int64{a.Result().Done.Objects, a.Result().Failed})
	assert.ErrorContains(t, a.Result().Problems[0], "a link or special file")
	assert.NoFileExists(t, filepath.Join(root, "b/a/link"))
}

// Rights go along from folder to folder as they are; what comes from a store gets those
// that are usual here.
func TestRightsOfCopies(t *testing.T) {
	root := t.TempDir()
	end, err := folder.OpenEndpoint("studio", root, folder.Options{})
	require.NoError(t, err)
	defer end.Close()
	to, err := end.Open("")
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(root, "from"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(root, "from/a"), []byte("a"), 0o600))
	require.NoError(t, os.Chmod(filepath.Join(root, "from/a"), 0o666))
	from, err := end.Open("from")
	require.NoError(t, err)
	require.NoError(t, new(handle.Action).Copy(ctx, from, []handle.Pick{{Key: "a"}}, to, ""))
	info, err := os.Stat(filepath.Join(root, "a"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o666), info.Mode().Perm())
}

// Where tags or metadata cannot be read or written, nothing of the object is changed in
// their stead.
func TestChangesThatFail(t *testing.T) {
	srv, _, p := bucket(t, false)
	put(t, p, "a")
	some := place.MetadataChange{Set: map[string]string{"site": "weir"}}
	require.NoError(t, p.(place.Tagger).SetTags(ctx, object.Ref{Key: "a"}, map[string]string{"old": "yes"}))
	srv.SetFaults(standin.Fault{Op: "GetObjectTagging", Do: "403"})
	var a handle.Action
	require.NoError(t, a.Change(ctx, p, []handle.Pick{{Key: "a"}}, place.MetadataChange{}, some))
	assert.EqualValues(t, 1, a.Result().Failed)
	srv.SetFaults()
	tags, err := p.(place.Tagger).Tags(ctx, object.Ref{Key: "a"})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"old": "yes"}, tags)

	srv.SetFaults(standin.Fault{Op: "CopyObject", Do: "403"})
	var both handle.Action
	require.NoError(t, both.Change(ctx, p, []handle.Pick{{Key: "a"}}, some, some))
	assert.EqualValues(t, 1, both.Result().Failed)
	srv.SetFaults()
	tags, err = p.(place.Tagger).Tags(ctx, object.Ref{Key: "a"})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"old": "yes"}, tags, "the half behind it is not done either")
	assert.Equal(t, place.Unsupported, place.KindOf(new(handle.Action).Restore(ctx, dir(t), nil,
		place.RestoreOptions{Days: 1})))
}

// A listing of versions that breaks brings nothing back: it may be the marker that was not
// seen.
func TestUndeletesThatFail(t *testing.T) {
	srv, _, p := bucket(t, true)
	put(t, p, "a", "b")
	require.NoError(t, new(handle.Action).Remove(ctx, p, []handle.Pick{under("")}, false))
	srv.SetFaults(standin.Fault{Op: "ListObjectVersions", Do: "403"})
	var a handle.Action
	assert.Equal(t, place.Denied, place.KindOf(a.Undelete(ctx, p, []handle.Pick{under("")})))
	assert.Zero(t, a.Result().Done.Objects)
	srv.SetFaults(standin.Fault{Op: "DeleteObject", Key: "a", Do: "403"})
	var b handle.Action
	require.NoError(t, b.Undelete(ctx, p, []handle.Pick{under("")}))
	assert.Equal(t, []int64{1, 1}, []int64{b.Result().Done.Objects, b.Result().Failed}, "the rest goes on")
	assert.Equal(t, []string{"b"}, keys(t, p))
}
