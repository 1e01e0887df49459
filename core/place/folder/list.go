package folder

import (
	"context"
	"errors"
	"io/fs"
	"iter"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"lumtra/core/object"
	"lumtra/core/place"
)

// List walks the folder in byte order of keys. That is not the order of names:
// a folder "a" sorts as "a/", behind the file "a-b". Folders and facts about
// files are read a little ahead, by several goroutines. Memory grows with the
// largest single folder, not with the tree.
func (f *Folder) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		dirKey := prefix[:strings.LastIndexByte(prefix, '/')+1]
		if dirKey != "" && f.CheckName(strings.TrimSuffix(dirKey, "/")) != nil {
			return // nothing can lie there
		}
		dir, err := f.end.root.OpenFile(f.path(dirKey), os.O_RDONLY|unix.O_DIRECTORY, 0)
		if err != nil {
			if dirKey != "" && (errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTDIR)) {
				return // a prefix nothing has
			}
			yield(object.Entry{}, f.fail("list", dirKey, err))
			return
		}
		w := walk{f: f, ctx: ctx, prefix: prefix, opts: opts, yield: yield, turns: make(chan struct{}, readers)}
		defer w.all.Wait()
		w.folder(w.read(dir, dirKey), dirKey)
	}
}

const (
	readers = 4 // goroutines that read at a time
	// foldersAhead and batchesAhead are how far reading is ahead of listing.
	foldersAhead, batchesAhead = 8, 3
	batchSize                  = 256 // files whose facts are read together
)

// walk is one listing under way.
type walk struct {
	f      *Folder
	ctx    context.Context
	prefix string
	opts   place.ListOptions
	yield  func(object.Entry, error) bool
	turns  chan struct{} // a place in it is the right to read
	all    sync.WaitGroup
}

// opened is a folder whose names were read.
type opened struct {
	dir   *os.File
	names []string // sorted; a subfolder's ends in "/"
	err   error
	first chan []statted // the facts of the first batch
}

// statted is what was found out about a name.
type statted struct {
	st  unix.Stat_t
	err error
}

// read reads the names in a folder, which it takes over, and begins with its
// files.
func (w *walk) read(dir *os.File, dirKey string) *opened {
	o := &opened{dir: dir}
	children, err := dir.ReadDir(-1)
	o.err = err
	o.names = make([]string, 0, len(children))
	for _, c := range children {
		name := c.Name()
		if strings.HasPrefix(name, ours) {
			continue
		}
		if c.IsDir() {
			name += "/"
		}
		if key := dirKey + name; strings.HasPrefix(key, w.prefix) || strings.HasPrefix(w.prefix, key) {
			o.names = append(o.names, name)
		}
	}
	slices.Sort(o.names)
	o.first = w.batch(o, 0)
	return o
}

// begin runs a piece of reading when it is its turn.
func (w *walk) begin(read func()) {
	w.all.Go(func() {
		w.turns <- struct{}{}
		defer func() { <-w.turns }()
		read()
	})
}

// batch reads the facts of some names from the given one on.
func (w *walk) batch(o *opened, from int) chan []statted {
	names := o.names[from:min(from+batchSize, len(o.names))]
	done := make(chan []statted, 1)
	w.begin(func() {
		facts := make([]statted, len(names))
		conn, err := o.dir.SyscallConn()
		if err == nil {
			err = conn.Control(func(fd uintptr) {
				for i, name := range names {
					if !strings.HasSuffix(name, "/") && w.ctx.Err() == nil {
						facts[i].err = unix.Fstatat(int(fd), name, &facts[i].st, unix.AT_SYMLINK_NOFOLLOW)
					}
				}
			})
		}
		for i := range facts {
			if err != nil {
				facts[i].err = err
			}
		}
		done <- facts
	})
	return done
}

// ahead are subfolders that are being opened before their turn.
type ahead struct {
	next    int // of the names, the first that was not looked at
	waiting []chan *opened
	of      []string
}

// visits tells whether a subfolder has to be opened for this listing.
func (w *walk) visits(key string) bool {
	return !(key <= w.opts.After && !strings.HasPrefix(w.opts.After, key)) &&
		!(w.opts.Shallow && strings.HasPrefix(key, w.prefix))
}

// lookAhead begins to open the next subfolders.
func (w *walk) lookAhead(a *ahead, o *opened, dirKey string) {
	for ; a.next < len(o.names) && len(a.waiting) < foldersAhead; a.next++ {
		name := o.names[a.next]
		if !strings.HasSuffix(name, "/") || !w.visits(dirKey+name) {
			continue
		}
		done := make(chan *opened, 1)
		a.waiting, a.of = append(a.waiting, done), append(a.of, name)
		w.begin(func() {
			// One name, relative to an open folder, links not followed: it cannot
			// lead out.
			fd, err := unix.Openat(int(o.dir.Fd()), name[:len(name)-1],
				unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
			if err != nil {
				done <- &opened{err: err}
				return
			}
			done <- w.read(os.NewFile(uintptr(fd), name), dirKey+name)
		})
	}
}

// folder lists one open folder, which it closes, and those below. It returns
// false when the listing is over.
func (w *walk) folder(o *opened, dirKey string) (more bool) {
	var a ahead
	batches := []chan []statted{o.first}
	defer func() { // what was begun and is not wanted any more
		for _, b := range batches {
			<-b
		}
		for _, x := range a.waiting {
			if sub := <-x; sub.dir != nil {
				<-sub.first
				sub.dir.Close()
			}
		}
		o.dir.Close()
	}()
	if o.err != nil && !w.yield(object.Entry{}, w.f.fail("list", dirKey, o.err)) {
		return false
	}
	for at := 0; at < len(o.names); at += batchSize {
		for next := at + len(batches)*batchSize; len(batches) < batchesAhead && next < len(o.names); next += batchSize {
			batches = append(batches, w.batch(o, next))
		}
		facts := <-batches[0]
		batches = batches[1:]
		if w.ctx.Err() != nil {
			w.yield(object.Entry{}, w.f.fail("list", "", w.ctx.Err()))
			return false
		}
		for i := range facts {
			name := o.names[at+i]
			if strings.HasSuffix(name, "/") {
				w.lookAhead(&a, o, dirKey)
				if !w.below(&a, dirKey+name, name) {
					return false
				}
			} else if !w.file(dirKey+name, &facts[i]) {
				return false
			}
		}
	}
	return true
}

// file hands out one file.
func (w *walk) file(key string, facts *statted) bool {
	switch {
	case key <= w.opts.After, errors.Is(facts.err, fs.ErrNotExist): // removed since the folder was read
		return true
	case facts.err != nil:
		return w.yield(object.Entry{}, w.f.fail("list", key, facts.err))
	}
	return w.yield(statEntry(key, &facts.st), nil)
}

// below lists the subfolder with the given key ("…/name/").
func (w *walk) below(a *ahead, key, name string) bool {
	if len(a.of) == 0 || a.of[0] != name { // not one to open
		if w.opts.Shallow && strings.HasPrefix(key, w.prefix) {
			return key <= w.opts.After || w.yield(object.Entry{Key: key, Kind: object.Prefix}, nil)
		}
		return true // all of it lies before the start
	}
	sub := <-a.waiting[0]
	a.waiting, a.of = a.waiting[1:], a.of[1:]
	switch {
	case sub.dir != nil:
		return w.folder(sub, key)
	case errors.Is(sub.err, fs.ErrNotExist):
		return true
	}
	return w.yield(object.Entry{}, w.f.fail("list", key, sub.err))
}

func statEntry(key string, st *unix.Stat_t) object.Entry {
	e := object.Entry{
		Key: key, Size: st.Size, Latest: true,
		Modified: time.Unix(st.Mtim.Unix()),
		Mode:     object.ModeOf(st.Mode),
	}
	if st.Mode&unix.S_IFMT != unix.S_IFREG {
		e.Kind, e.Size = object.Special, 0
	}
	return e
}
