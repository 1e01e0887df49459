package folder

import (
	"errors"
	"os"
	"path"
)

// fsync is replaced by a test that counts.
var fsync = (*os.File).Sync

// settle has what was written to a file, or the names in a folder, reach the disk, where [Options.Sync] asks for it.
func (e *Endpoint) settle(file *os.File) error {
	if !e.opts.Sync {
		return nil
	}
	return fsync(file)
}

// settleDir is settle for the folder at a path.
func (e *Endpoint) settleDir(at string) error {
	if !e.opts.Sync {
		return nil
	}
	file, err := e.root.Open(at)
	if err != nil {
		return err
	}
	return errors.Join(fsync(file), file.Close())
}

// settlePath is settle for the folders on the way to a new one: a file that is on the disk is lost all the same with
// the name of a folder above it.
func (e *Endpoint) settlePath(at string) error {
	for at != "." {
		at = path.Dir(at)
		if err := e.settleDir(at); err != nil {
			return err
		}
	}
	return nil
}
