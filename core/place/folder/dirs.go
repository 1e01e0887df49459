package folder

import (
	"errors"
	"io/fs"
	"os"
	"strings"
	"sync"
	"syscall"
	"time"
)

// dirs keeps the folders that were used a moment ago open, so that each of many
// small files takes its own few calls to the system and not the walk to its
// folder for every one of them. A folder is only looked at through an os.Root of
// its own, so that nothing leads out of it.
type dirs struct {
	mu   sync.Mutex
	open map[string]*dir
}

const (
	keptDirs = 64
	// dirAge is how long a folder is taken for the one of its name: others may
	// move or remove it meanwhile.
	dirAge = time.Second
)

// dir is an open folder.
type dir struct {
	root *os.Root
	file *os.File // the same, for the calls that os.Root lacks
	all  *dirs
	born time.Time

	users   int
	dropped bool // closed by its last user
}

// dir opens the folder at a path below the root, or gives the one that is open.
// The caller calls done. With make it is made if it is not there.
func (e *Endpoint) dir(path string, make bool) (*dir, error) {
	d := &e.dirs
	d.mu.Lock()
	if x := d.open[path]; x != nil && time.Since(x.born) < dirAge {
		x.users++
		d.mu.Unlock()
		return x, nil
	}
	d.mu.Unlock()
	root, err := e.root.OpenRoot(path)
	if make && errors.Is(err, fs.ErrNotExist) {
		if err := errors.Join(e.root.MkdirAll(path, 0o777), e.settlePath(path)); err != nil {
			return nil, err
		}
		root, err = e.root.OpenRoot(path)
	}
	if err != nil {
		if strings.HasSuffix(err.Error(), "not a directory") { // os.OpenRoot has words of its own for it
			err = syscall.ENOTDIR
		}
		return nil, err
	}
	file, err := root.Open(".")
	if err != nil {
		root.Close()
		return nil, err
	}
	x := &dir{root: root, file: file, all: d, born: time.Now(), users: 1}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.open == nil {
		d.open = map[string]*dir{}
	}
	d.drop(path)
	for other := range d.open {
		if len(d.open) < keptDirs {
			break
		}
		d.drop(other)
	}
	d.open[path] = x
	return x, nil
}

// drop forgets a folder. The caller holds the lock.
func (d *dirs) drop(path string) {
	x := d.open[path]
	if x == nil {
		return
	}
	delete(d.open, path)
	if x.dropped = true; x.users == 0 {
		x.close()
	}
}

// forget has a folder opened anew when it is next used.
func (d *dirs) forget(path string) {
	d.mu.Lock()
	d.drop(path)
	d.mu.Unlock()
}

// close forgets all.
func (d *dirs) close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	for path := range d.open {
		d.drop(path)
	}
}

// done tells that the caller needs the folder no more.
func (x *dir) done() {
	x.all.mu.Lock()
	defer x.all.mu.Unlock()
	if x.users--; x.users == 0 && x.dropped {
		x.close()
	}
}

func (x *dir) close() {
	x.file.Close()
	x.root.Close()
}
