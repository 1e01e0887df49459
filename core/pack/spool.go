package pack

import (
	"bytes"
	"cmp"
	"container/heap"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"lumtra/core/place"
	"lumtra/core/segment"
)

// indexMagic names files of records of members.
const indexMagic = "LumPackI"

// ScratchFolders is the pattern of the names of folders, in [Options].Dir, that are there while the index of a pack
// is made. Who makes one holds a lock of the folder; what a killed process left is locked by nobody.
const ScratchFolders = "pack-index-*"

// spoolBytes is how much of an index is sorted in memory at a time.
const spoolBytes = 8 << 20

// spool sorts the records of an index that is being made, in files of a folder of its own: the index
// of a million members is never whole in memory.
type spool struct {
	dir  string
	lock *os.File // of the folder: what nobody holds may be swept
	held []spooled
	size int
	runs []string
	// folder is the last one known to be among the records, with "/" at its end.
	folder string
}

type spooled struct {
	key    string
	record []byte
}

func newSpool(below string) (*spool, error) {
	dir, err := os.MkdirTemp(below, ScratchFolders)
	if err != nil {
		return nil, place.OwnError("make a folder in", below, err)
	}
	s := &spool{dir: dir}
	if s.lock, err = os.Open(dir); err == nil {
		err = unix.Flock(int(s.lock.Fd()), unix.LOCK_SH)
	}
	if err != nil {
		return nil, errors.Join(place.OwnError("lock", dir, err), s.close())
	}
	return s, nil
}

// close removes the files.
func (s *spool) close() error {
	return place.OwnError("remove", s.dir, errors.Join(os.RemoveAll(s.dir), s.lock.Close()))
}

// add takes a record.
func (s *spool) add(m *Member) error {
	x := spooled{m.key(), m.encode(nil)}
	s.held = append(s.held, x)
	if s.size += len(x.key) + len(x.record) + 64; s.size < spoolBytes {
		return nil
	}
	return place.OwnError("write", s.dir, s.flush())
}

// weight is 1 for the record of an implied folder, which gives way to any other of its key.
func weight(record []byte) int {
	if len(record) > 1 && record[1]&isImplied != 0 {
		return 1
	}
	return 0
}

// flush writes what is held, sorted, into a file.
func (s *spool) flush() error {
	if len(s.held) == 0 {
		return nil
	}
	path := filepath.Join(s.dir, fmt.Sprintf("%06d", len(s.runs)))
	w, err := segment.CreateScratch(path, indexMagic)
	if err != nil {
		return err
	}
	defer w.Abandon()
	slices.SortStableFunc(s.held, func(a, b spooled) int {
		return cmp.Or(strings.Compare(a.key, b.key), cmp.Compare(weight(a.record), weight(b.record)))
	})
	last := ""
	for _, x := range s.held {
		if x.key == last { // a folder implied twice
			continue
		}
		if err := w.Add(x.key, x.record); err != nil {
			return err
		}
		last = x.key
	}
	s.held, s.size, s.runs = s.held[:0], 0, append(s.runs, path)
	return w.Finish(struct{}{})
}

// merged walks all records, and those of an older index, in their order. Of records with one key, as
// of folders that are implied again and again, the first counts.
func (s *spool) merged(older sorted, each func(key string, record []byte) error) (err error) {
	if err := s.flush(); err != nil {
		return place.OwnError("write", s.dir, err)
	}
	var all merging
	var open []*segment.Reader
	defer func() {
		for _, r := range open {
			err = errors.Join(err, place.OwnError("read", s.dir, r.Close()))
		}
	}()
	if older != nil {
		all = append(all, &walk{sorted: older, rank: -1})
	}
	for i, path := range s.runs {
		r, err := segment.Open(path, indexMagic, &struct{}{})
		if err != nil {
			return place.OwnError("read", path, err)
		}
		open = append(open, r)
		all = append(all, &walk{sorted: r.Cursor(""), rank: i, path: path})
	}
	all = slices.DeleteFunc(all, func(w *walk) bool {
		if w.Next() {
			return false
		}
		err = errors.Join(err, w.failed())
		return true
	})
	if err != nil {
		return err
	}
	heap.Init(&all)
	last, some := "", false
	for len(all) > 0 {
		w := all[0]
		if key := string(w.Key()); !some || key != last {
			if err := each(key, w.Payload()); err != nil {
				return err
			}
			last, some = key, true
		}
		if w.Next() {
			heap.Fix(&all, 0)
			continue
		}
		if err := w.failed(); err != nil {
			return err
		}
		heap.Pop(&all)
	}
	return nil
}

// sorted are records in their order: a [segment.Cursor], or one that reads again what came damaged.
type sorted interface {
	Next() bool
	Key() []byte
	Payload() []byte
	Err() error
}

// walk is one file that is merged.
type walk struct {
	sorted
	rank int
	path string // "" for an index at the place
}

// failed is what the file could not be read for, nil for its end.
func (w *walk) failed() error {
	if w.path == "" {
		return w.Err()
	}
	return place.OwnError("read", w.path, w.Err())
}

// merging are files that are merged, the one with the least key first: see [heap.Interface].
type merging []*walk

func (m merging) Len() int { return len(m) }
func (m merging) Less(i, j int) bool {
	a, b := m[i], m[j]
	return cmp.Or(bytes.Compare(a.Key(), b.Key()), cmp.Compare(weight(a.Payload()), weight(b.Payload())),
		cmp.Compare(a.rank, b.rank)) < 0
}
func (m merging) Swap(i, j int) { m[i], m[j] = m[j], m[i] }
func (m *merging) Push(x any)   { *m = append(*m, x.(*walk)) }
func (m *merging) Pop() any {
	last := (*m)[len(*m)-1]
	*m = (*m)[:len(*m)-1]
	return last
}
