package browse

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"lumtra/core/handle"
	"lumtra/core/history"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/service/event"
	"lumtra/service/workspace"
)

// Measure counts what somebody is about to handle. All picks lie in one bucket
// or folder root; deep counts versions and unfinished uploads too.
func (s *Browser) Measure(ctx context.Context, picks []workspace.At, deep bool,
	grow func(handle.Count)) (handle.Count, error) {
	p, list, err := s.together(picks)
	if err != nil {
		return handle.Count{}, err
	}
	return handle.Measure(ctx, p, list, deep, grow)
}

// together opens the one place that all picks lie in.
func (s *Browser) together(picks []workspace.At) (place.Place, []handle.Pick, error) {
	if len(picks) == 0 {
		return nil, nil, workspace.BadInput(errors.New("nothing is picked"))
	}
	var list []handle.Pick
	for _, a := range picks {
		if a.Endpoint != picks[0].Endpoint || a.Bucket != picks[0].Bucket {
			return nil, nil,
				workspace.BadInput(errors.New("what is marked lies in several buckets or endpoints; handle those " +
					"one by one, or use the tray"))
		}
		list = append(list, a.Pick())
	}
	p, err := s.ws.Root(picks[0])
	return p, list, err
}

// Act is something done to many objects, under way.
type Act struct {
	// What it is in words, and Where.
	What  string
	Where string
	Began time.Time

	action handle.Action
	stop   context.CancelFunc
	done   chan struct{}

	mu    sync.Mutex
	total handle.Count
	err   error
	ended bool
}

// ActState is how an act stands.
type ActState struct {
	handle.Result
	Ended bool
	Err   error
}

// State tells how far it is.
func (a *Act) State() ActState {
	r := a.action.Result()
	a.mu.Lock()
	defer a.mu.Unlock()
	r.Total = a.total
	return ActState{r, a.ended, a.err}
}

// Stop ends it where it is.
func (a *Act) Stop() { a.stop() }

// Wait waits for its end and returns why it ended early; what could not be
// done to single objects is in the state.
func (a *Act) Wait() error {
	<-a.done
	return a.State().Err
}

// act runs something in the background and notes it in the history when it
// removed or replaced things.
func (s *Browser) act(what string, picks []workspace.At, total handle.Count, note bool,
	do func(context.Context, *handle.Action) error) (*Act, error) {
	ctx, end, ok := s.ws.Life.Begin(context.Background())
	if !ok {
		return nil, context.Canceled
	}
	ctx, stop := context.WithCancel(ctx)
	a := &Act{What: what, Where: picks[0].String(), Began: s.ws.Now(), stop: stop, done: make(chan struct{}),
		total: total}
	if len(picks) > 1 {
		a.Where += fmt.Sprintf(" and %d more", len(picks)-1)
	}
	s.ws.Events.Publish(event.Event{Kind: event.ActBegan, Endpoint: picks[0].Endpoint, Text: what})
	go func() {
		defer end()
		defer close(a.done)
		defer stop()
		err := do(ctx, &a.action)
		r := a.action.Result()
		s.ws.Log.Info("handled", "what", what, "place", a.Where, "objects", r.Done.Objects, "versions",
			r.Done.Versions, "failed", r.Failed, "error", err)
		if note {
			err = errors.Join(err, s.note(a, r, err))
		}
		a.mu.Lock()
		a.err, a.ended = err, true
		a.mu.Unlock()
		s.ws.Events.Publish(event.Event{Kind: event.ActEnded, Endpoint: picks[0].Endpoint, Text: what})
	}()
	return a, nil
}

func (s *Browser) note(a *Act, r handle.Result, err error) error {
	db, bad := s.ws.History()
	if bad != nil {
		return bad
	}
	who := "unknown"
	if u, err := user.Current(); err == nil {
		who = u.Username
	}
	outcome := "done"
	if err != nil {
		outcome = object.Display(err.Error())
	}
	d := r.Done
	return db.Note(context.Background(), history.Act{At: a.Began, Who: who, What: a.What, Place: a.Where,
		Objects:  d.Objects,
		Versions: d.Versions + d.Markers + d.Uploads, Bytes: d.AllBytes(), Failed: r.Failed, Outcome: outcome})
}

// Acts lists what was removed or replaced by hand, newest first.
func (s *Browser) Acts(ctx context.Context, limit int) ([]history.Act, error) {
	db, err := s.ws.History()
	if err != nil {
		return nil, err
	}
	return db.Acts(ctx, limit)
}

// confirmed holds a number that was typed against what was counted: only who
// has read how much will go knows it.
func confirmed(total handle.Count, typed int64) error {
	if typed != total.All() {
		return workspace.BadInput(fmt.Errorf("%d is not the number of things that will go", typed))
	}
	return nil
}

// Remove removes the picks, for good with deep. typed is the number of things
// that total counted.
func (s *Browser) Remove(picks []workspace.At, deep bool, total handle.Count, typed int64) (*Act, error) {
	if err := confirmed(total, typed); err != nil {
		return nil, err
	}
	p, list, err := s.together(picks)
	if err != nil {
		return nil, err
	}
	what := "delete"
	if deep {
		what = "delete permanently"
	}
	return s.act(what, picks, total, true,
		func(ctx context.Context, a *handle.Action) error { return a.Remove(ctx, p, list, deep) })
}

// EmptyBucket removes everything in a bucket, versions, markers and unfinished
// uploads too, and then, if asked, the bucket.
func (s *Browser) EmptyBucket(at workspace.At, andRemove bool, total handle.Count, typed int64) (*Act, error) {
	if err := confirmed(total, typed); err != nil {
		return nil, err
	}
	p, list, err := s.together([]workspace.At{{Endpoint: at.Endpoint, Bucket: at.Bucket}})
	if err != nil {
		return nil, err
	}
	end, err := s.ws.Endpoint(at.Endpoint)
	if err != nil {
		return nil, err
	}
	b := place.EndpointCan(end).Buckets
	if b == nil {
		return nil, workspace.ErrNoBuckets
	}
	what := "empty bucket"
	if andRemove {
		what = "empty and delete bucket"
	}
	return s.act(what, []workspace.At{at}, total, true, func(ctx context.Context, a *handle.Action) error {
		if err := a.Remove(ctx, p, list, true); err != nil || !andRemove {
			return err
		}
		if n := a.Result().Failed; n > 0 {
			return fmt.Errorf("the bucket stays: %d things in it could not be deleted", n)
		}
		return b.RemoveBucket(ctx, at.Bucket)
	})
}

// MakeBucket makes a bucket at an endpoint that has buckets. Its name is
// checked before the store is asked.
func (s *Browser) MakeBucket(ctx context.Context, endpoint, bucket string) error {
	end, err := s.ws.Endpoint(endpoint)
	if err != nil {
		return err
	}
	b := place.EndpointCan(end).Buckets
	if b == nil {
		return workspace.BadInput(fmt.Errorf("%s has no buckets", endpoint))
	}
	if err := b.CheckBucketName(bucket); err != nil {
		return workspace.BadInput(err)
	}
	return b.MakeBucket(ctx, bucket)
}

// SetVersioning switches versions on or suspends them, and asks the store
// whether it took, for a while: some stores take their time.
func (s *Browser) SetVersioning(ctx context.Context, at workspace.At, on bool) (place.Versioning, error) {
	end, err := s.ws.Endpoint(at.Endpoint)
	if err != nil {
		return "", err
	}
	v := place.EndpointCan(end).Versioning
	if v == nil {
		return "", workspace.BadInput(errors.New("versioning is a setting of the account here: whoever runs it can " +
			"switch it on"))
	}
	if err := v.SetVersioning(ctx, at.Bucket, on); err != nil {
		return "", err
	}
	want := place.VersioningSuspended
	if on {
		want = place.VersioningOn
	}
	var is place.Versioning
	err = settled(ctx, func() (bool, error) {
		var err error
		is, err = v.Versioning(ctx, at.Bucket)
		return is == want, err
	})
	if errors.Is(err, errNotTaken) {
		err = place.NewError(at.Endpoint, "set versioning", at.Bucket, place.Other,
			fmt.Errorf("the store took the setting, but still says %q", is))
	}
	return is, err
}

// MakeFolder makes an empty folder; a's key ends in "/".
func (s *Browser) MakeFolder(ctx context.Context, a workspace.At) error {
	p, err := s.ws.Root(a)
	if err != nil {
		return err
	}
	can := place.Can(p)
	if can.Folders == nil {
		return workspace.BadInput(errors.New(can.Lacks(place.Folders)))
	}
	return can.Folders.MakeFolder(ctx, a.Key)
}

// Copy copies or moves the picks to a place of the same endpoint. The key of to
// is a folder ending in "/", or another name for a single pick.
func (s *Browser) Copy(picks []workspace.At, to workspace.At, move bool, total handle.Count) (*Act, error) {
	from, list, err := s.together(picks)
	if err != nil {
		return nil, err
	}
	if to.Endpoint != picks[0].Endpoint {
		return nil, workspace.BadInput(errors.New("the other place is at another endpoint: put these into the tray, " +
			"and drop it there"))
	}
	target, err := s.ws.Root(to)
	if err != nil {
		return nil, err
	}
	if len(picks) > 1 && to.Key != "" && !strings.HasSuffix(to.Key, "/") {
		return nil, workspace.BadInput(errors.New(`several things go into a folder: end its name with "/"`))
	}
	what := "copy to " + to.String()
	if move {
		what = "move to " + to.String()
	}
	return s.act(what, picks, total, move, func(ctx context.Context, a *handle.Action) error {
		if move {
			return a.Move(ctx, from, list, target, to.Key)
		}
		return a.Copy(ctx, from, list, target, to.Key)
	})
}

// Change changes metadata and tags of the picks; an empty change changes nothing.
func (s *Browser) Change(picks []workspace.At, metadata, tags place.MetadataChange, total handle.Count) (*Act, error) {
	p, list, err := s.together(picks)
	if err != nil {
		return nil, err
	}
	what := "set metadata and tags"
	switch {
	case tags.Empty():
		what = "set metadata"
	case metadata.Empty():
		what = "set tags"
	}
	return s.act(what, picks, total, true,
		func(ctx context.Context, a *handle.Action) error { return a.Change(ctx, p, list, metadata, tags) })
}

// Undelete brings back every removed object of the picks.
func (s *Browser) Undelete(picks []workspace.At) (*Act, error) {
	p, list, err := s.together(picks)
	if err != nil {
		return nil, err
	}
	return s.act("undelete", picks, handle.Count{}, false,
		func(ctx context.Context, a *handle.Action) error { return a.Undelete(ctx, p, list) })
}

// BringBack makes a version of an object the current one again, as a new
// version: nothing is lost by it.
func (s *Browser) BringBack(ctx context.Context, a workspace.At, version string) error {
	p, err := s.ws.Root(a)
	if err != nil {
		return err
	}
	c := place.Can(p).Copies
	if c == nil {
		return workspace.BadInput(errors.New("this kind of place cannot bring versions back"))
	}
	ref := object.Ref{Key: a.Key, Version: version}
	e, err := p.Stat(ctx, ref)
	if err == nil {
		_, err = c.CopyFrom(ctx, p, ref, a.Key, place.WriteOptions{Class: e.Class})
	}
	return err
}

// RemoveVersion removes one version or marker for good.
func (s *Browser) RemoveVersion(a workspace.At, v object.Entry) (*Act, error) {
	p, err := s.ws.Root(a)
	if err != nil {
		return nil, err
	}
	what := "delete version " + v.Version
	return s.act(object.Display(what), []workspace.At{a}, handle.Count{}, true,
		func(ctx context.Context, action *handle.Action) error {
			return action.RemoveState(ctx, p, v)
		})
}

// AbortUploads removes unfinished uploads and what they hold.
func (s *Browser) AbortUploads(in workspace.At, uploads []UnfinishedUpload) (*Act, error) {
	p, err := s.ws.Root(in)
	if err != nil {
		return nil, err
	}
	pw := place.Can(p).Parts
	if pw == nil {
		return nil, workspace.BadInput(errors.New(place.Can(p).Lacks(place.Parts)))
	}
	return s.act("delete unfinished uploads", []workspace.At{in}, handle.Count{Uploads: int64(len(uploads))}, true,
		func(ctx context.Context, a *handle.Action) error {
			for _, u := range uploads {
				if err := a.Abort(ctx, pw, u.Upload, u.Bytes); err != nil {
					return err
				}
			}
			return nil
		})
}

// ReadTo writes the content of an object, or of a version of it, to out as it is, and
// returns its size.
func (s *Browser) ReadTo(ctx context.Context, a workspace.At, version string, out io.Writer) (int64, error) {
	p, err := s.ws.Root(a)
	if err != nil {
		return 0, err
	}
	r, _, err := p.Read(ctx, a.Key, place.ReadOptions{Version: version})
	if err != nil {
		return 0, err
	}
	n, err := io.Copy(out, r)
	return n, errors.Join(err, r.Close())
}

// Fetch reads an object, or a version of it, into a new file, whole or not at
// all, and returns its size.
func (s *Browser) Fetch(ctx context.Context, a workspace.At, version, path string) (int64, error) {
	if _, err := os.Lstat(path); err == nil {
		return 0, workspace.BadInput(fmt.Errorf("%s is there already", path))
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".lumtra-*")
	if err != nil {
		return 0, workspace.BadInput(err)
	}
	defer os.Remove(f.Name())
	n, err := s.ReadTo(ctx, a, version, f)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return 0, err
	}
	// A link fails where something is by now.
	return n, os.Link(f.Name(), path)
}
