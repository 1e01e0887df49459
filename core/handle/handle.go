package handle

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"lumtra/core/compare"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/retry"
)

// workers is how many objects are handled at a time.
const workers = 16

// Result is how far an action is, or how it ended.
type Result struct {
	Done  Count
	Total Count // as it was counted before, when it was
	// Failed counts what could not be handled; Problems are the first of the
	// reasons.
	Failed int64
	// Left counts what needed nothing: it can be read, or comes back already.
	Left     int64
	Problems []error
}

// keptProblems is how many reasons are kept.
const keptProblems = 100

// Action is one act on many objects, under way. Make one for each.
type Action struct {
	mu     sync.Mutex
	result Result
}

// Result tells how far it is.
func (a *Action) Result() Result {
	a.mu.Lock()
	defer a.mu.Unlock()
	r := a.result
	r.Problems = append([]error(nil), r.Problems...)
	return r
}

func (a *Action) note(e *object.Entry, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	switch err {
	case nil:
		a.result.Done.add(e)
		return
	case errLeft:
		a.result.Left++
		return
	}
	if a.result.Failed++; len(a.result.Problems) < keptProblems {
		a.result.Problems = append(a.result.Problems, err)
	}
}

// over tells that an error ends everything and is not one object's.
func over(ctx context.Context, err error) bool {
	return ctx.Err() != nil || place.KindOf(err) == place.BadLogin
}

// parallel does one thing to every object of the picks.
func (a *Action) parallel(ctx context.Context, p place.Place, picks []Pick,
	do func(context.Context, *object.Entry) error) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(workers)
	err := each(ctx, p, picks, func(e *object.Entry) error {
		one := *e
		group.Go(func() error {
			err := retry.Usual.Do(ctx, func(int) error { return do(ctx, &one) })
			a.note(&one, err)
			if over(ctx, err) {
				return err
			}
			return nil
		})
		return ctx.Err()
	})
	return errors.Join(group.Wait(), err)
}

// careful is up to how many removals each is held against what was seen a
// moment before: some stores take a request more for each.
const careful = 20

// Remove removes the picks: the current objects, or with deep every version,
// marker and unfinished upload, for good. Folders that are left empty go too.
func (a *Action) Remove(ctx context.Context, p place.Place, picks []Pick, deep bool) error {
	var batch []object.Entry
	flush := func() error {
		refs := make([]object.Ref, len(batch))
		for i, e := range batch {
			refs[i].Key = e.Key
			if deep {
				refs[i].Version = e.Version
			} else if len(batch) <= careful {
				refs[i].IfMark = e.Mark()
			}
		}
		var fatal error
		for i, err := range p.Remove(ctx, refs...) {
			a.note(&batch[i], err)
			if err != nil && over(ctx, err) {
				fatal = err
			}
		}
		batch = batch[:0]
		return fatal
	}
	visit := func(e *object.Entry) error {
		if batch = append(batch, *e); len(batch) == 1000 {
			return flush()
		}
		return nil
	}
	v := place.Can(p).Versions
	var err error
	if deep && v != nil {
		err = eachState(ctx, v, picks, visit)
	} else {
		err = each(ctx, p, picks, visit)
	}
	if len(batch) > 0 && err == nil {
		err = flush()
	}
	if err == nil && deep {
		err = a.abortUploads(ctx, p, picks)
	}
	if err == nil {
		a.removeFolders(ctx, p, picks)
	}
	return err
}

// RemoveState removes one version or marker for good.
func (a *Action) RemoveState(ctx context.Context, p place.Place, e object.Entry) error {
	err := retry.Usual.Do(ctx, func(int) error { return p.Remove(ctx, object.Ref{Key: e.Key, Version: e.Version})[0] })
	a.note(&e, err)
	return err
}

func (a *Action) abortUploads(ctx context.Context, p place.Place, picks []Pick) error {
	uploads, err := uploadsOf(ctx, p, picks)
	for _, u := range uploads {
		if fatal := a.Abort(ctx, place.Can(p).Parts, u, 0); fatal != nil {
			return fatal
		}
	}
	return err
}

// Abort removes an unfinished upload, which is known to hold so many bytes.
func (a *Action) Abort(ctx context.Context, p place.PartWriter, u place.Upload, bytes int64) error {
	err := retry.Usual.Do(ctx, func(int) error { return p.Abort(ctx, u) })
	if err != nil {
		a.note(nil, err)
		if over(ctx, err) {
			return err
		}
		return nil
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.result.Done.Uploads++
	a.result.Done.VersionBytes += bytes
	return nil
}

// removeFolders removes the folders of picked prefixes, deepest first, where
// folders are things of their own. One that is not empty says so by staying.
func (a *Action) removeFolders(ctx context.Context, p place.Place, picks []Pick) {
	can := place.Can(p)
	maker := can.Folders
	if maker == nil || !can.Tree {
		return
	}
	var walk func(key string)
	walk = func(key string) {
		for e, err := range p.List(ctx, key, place.ListOptions{Shallow: true}) {
			if err == nil && e.Kind == object.Prefix {
				walk(e.Key)
			}
		}
		if key != "" {
			if err := maker.RemoveFolder(ctx, key); err != nil && place.KindOf(err) != place.Exists {
				a.note(nil, err)
			}
		}
	}
	for _, pick := range picks {
		if pick.Prefix {
			walk(pick.Key)
		}
	}
}

// landing is where a picked object goes: to is a prefix ending in "/", or "",
// and what was picked keeps its last name there; a single pick may get another
// name by a to that does not end in "/".
func landing(pick Pick, key, to string) string {
	if to != "" && !strings.HasSuffix(to, "/") {
		if !pick.Prefix {
			return to
		}
		return to + "/" + key[len(pick.Key):]
	}
	return to + key[len(object.Parent(pick.Key)):]
}

// Copy copies the picks of from to a place of the same endpoint. What is there
// is not written over.
func (a *Action) Copy(ctx context.Context, from place.Place, picks []Pick, target place.Place, to string) error {
	return a.transfer(ctx, from, picks, target, to, false)
}

// Move moves the picks: an object is removed only once its copy is there and
// is the same.
func (a *Action) Move(ctx context.Context, from place.Place, picks []Pick, target place.Place, to string) error {
	return a.transfer(ctx, from, picks, target, to, true)
}

func (a *Action) transfer(ctx context.Context, from place.Place, picks []Pick, target place.Place, to string,
	move bool) error {
	var errs []error
	for _, pick := range picks {
		if pick.Prefix && from.Name() == target.Name() && strings.HasPrefix(landing(pick, pick.Key, to), pick.Key) {
			return place.NewError(target.Name(), "copy", pick.Key, place.BadName,
				errors.New("it would land inside itself"))
		}
		err := a.parallel(ctx, from, []Pick{pick}, func(ctx context.Context, e *object.Entry) error {
			if e.Kind != object.Object {
				return place.NewError(from.Name(), "copy", e.Key, place.Unsupported,
					errors.New("a link or special file"))
			}
			return transferOne(ctx, from, e, target, landing(pick, e.Key, to), move)
		})
		if err == nil && move {
			a.removeFolders(ctx, from, []Pick{pick})
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// MoveOne gives an object another key within its place: renamed where the
// place can, else copied and then removed. Where the key is taken the error is
// [place.Exists], and where the object is no longer e, [place.Changed].
func MoveOne(ctx context.Context, p place.Place, e *object.Entry, key string) error {
	return transferOne(ctx, p, e, p, key, true)
}

func transferOne(ctx context.Context, from place.Place, e *object.Entry, target place.Place, key string,
	move bool) error {
	ref := object.Ref{Key: e.Key, IfMark: e.Mark()}
	if m := place.Can(from).Moves; m != nil && move && from.Name() == target.Name() {
		_, err := m.Move(ctx, ref, key)
		return err
	}
	if err := place.Can(target).CheckName(key); err != nil {
		return err
	}
	copied, err := copyOne(ctx, from, ref, e, target, key)
	if err != nil || !move {
		return err
	}
	// Only a copy that is really there lets the original go.
	there, err := target.Stat(ctx, object.Ref{Key: key, IfMark: copied.ETag})
	if err != nil {
		return err
	}
	if there.Size != e.Size {
		return place.NewError(target.Name(), "move", key, place.Corrupt,
			fmt.Errorf("the copy has %d bytes, not %d; the original stays", there.Size, e.Size))
	}
	return from.Remove(ctx, ref)[0]
}

func copyOne(ctx context.Context, from place.Place, ref object.Ref, e *object.Entry, target place.Place,
	key string) (object.Entry, error) {
	opts := place.WriteOptions{Condition: place.IfAbsent}
	to := place.Can(target)
	if c := to.CopierFrom(from); c != nil {
		opts.Class = e.Class
		if most := to.MaxCopy; most > 0 && e.Size > most {
			return copyRanges(ctx, from, ref, target, key, opts)
		}
		return c.CopyFrom(ctx, from, ref, key, opts)
	}
	r, full, err := from.Read(ctx, ref.Key, place.ReadOptions{IfMark: ref.IfMark})
	if err != nil {
		return object.Entry{}, err
	}
	defer r.Close()
	opts.Masked = !place.Can(from).KeepsModes
	opts.Original, opts.Mode, opts.Metadata, opts.ContentType = full.Modified, uint32(full.Mode), full.Metadata,
		full.ContentType
	if !full.Original.IsZero() {
		opts.Original = full.Original
	}
	copied, err := target.Write(ctx, key, r, full.Size, opts)
	var failed *place.Error
	if errors.As(err, &failed) && failed.Left != "" { // a damaged copy
		err = errors.Join(err, target.Remove(ctx, object.Ref{Key: key, IfMark: failed.Left})[0])
	}
	if err != nil || !full.Unverified && !copied.Unverified {
		return copied, err
	}
	// Nothing vouches for what was read, or has arrived: both are read, and held
	// against each other.
	copied.Key = key
	res, err := compare.Contents(ctx, compare.ByReadBack, from, e, target, &copied)
	if err == nil && !res.Same {
		bad := place.NewError(target.Name(), "copy", key, place.Corrupt, fmt.Errorf("%s; the original stays", res.Why))
		bad.Left = copied.Mark()
		err = errors.Join(bad, target.Remove(ctx, object.Ref{Key: key, IfMark: copied.Mark()})[0])
	}
	return copied, err
}

// Change changes metadata and tags of the picks: names in Set get their values,
// those in Drop go, others stay. An empty change is none.
func (a *Action) Change(ctx context.Context, p place.Place, picks []Pick, metadata, tags place.MetadataChange) error {
	can := place.Can(p)
	writer, tagger := can.Metadata, can.Tags
	switch {
	case !metadata.Empty() && writer == nil:
		return place.NewError(p.Name(), "set metadata", "", place.Unsupported, errors.New(can.Lacks(place.Metadata)))
	case !tags.Empty() && tagger == nil:
		return place.NewError(p.Name(), "set tags", "", place.Unsupported, errors.New(can.Lacks(place.Tags)))
	}
	return a.parallel(ctx, p, picks, func(ctx context.Context, e *object.Entry) error {
		if !metadata.Empty() {
			now, err := writer.SetMetadata(ctx, object.Ref{Key: e.Key, IfMark: e.Mark()}, metadata)
			if err != nil {
				return err
			}
			e.ETag, e.Modified = now.ETag, now.Modified // for another try, if the tags fail
		}
		if tags.Empty() {
			return nil
		}
		old, err := tagger.Tags(ctx, object.Ref{Key: e.Key})
		if err != nil {
			return err
		}
		return tagger.SetTags(ctx, object.Ref{Key: e.Key}, tags.Apply(old))
	})
}

// errLeft tells of an object that needs nothing.
var errLeft = errors.New("nothing to do")

// Restore asks for the cold objects among the picks to be made readable. Those that can be
// read, or come back already, are left as they are.
func (a *Action) Restore(ctx context.Context, p place.Place, picks []Pick, opts place.RestoreOptions) error {
	w := place.Can(p).Restores
	if w == nil {
		return place.NewError(p.Name(), "restore", "", place.Unsupported,
			errors.New(place.Can(p).Lacks(place.Restores)))
	}
	return a.parallel(ctx, p, picks, func(ctx context.Context, e *object.Entry) error {
		if !object.MayBeCold(e.Class) {
			return errLeft
		}
		now, err := p.Stat(ctx, object.Ref{Key: e.Key})
		switch {
		case err != nil:
			return err
		case now.Archive != object.Archived:
			return errLeft
		}
		return w.Restore(ctx, object.Ref{Key: e.Key}, opts)
	})
}

// Undelete brings back every removed object of the picks.
func (a *Action) Undelete(ctx context.Context, p place.Place, picks []Pick) error {
	v := place.Can(p).Versions
	if v == nil {
		return place.NewError(p.Name(), "undelete", "", place.Unsupported,
			errors.New(place.Can(p).Lacks(place.Versions)))
	}
	last, alive := "", false
	var back []string
	err := eachState(ctx, v, picks, func(e *object.Entry) error {
		if e.Key != last {
			last, alive = e.Key, e.Latest && e.Kind == object.Object && !e.Removed
		}
		if !alive && e.Kind == object.Object { // the newest content of one that is gone
			back, alive = append(back, e.Key), true
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, key := range back {
		err := retry.Usual.Do(ctx, func(int) error { return v.Undelete(ctx, key) })
		a.note(&object.Entry{Key: key, Latest: true}, err)
		if err != nil && over(ctx, err) {
			return err
		}
	}
	return nil
}
