package workspace

import (
	"errors"
	"io"
	"os"
	"path/filepath"
)

// WriteFile makes a file of what write writes, or none; what was there before stays until
// then. A pipe or a device is written to as it is.
func WriteFile(path string, write func(io.Writer) error) error {
	if there, err := os.Stat(path); err == nil && !there.Mode().IsRegular() {
		file, err := os.OpenFile(path, os.O_WRONLY, 0)
		if err != nil {
			return BadInput(err)
		}
		return errors.Join(write(file), file.Close())
	}
	file, err := os.CreateTemp(filepath.Dir(path), ".lumtra-*")
	if err != nil {
		return BadInput(err)
	}
	defer os.Remove(file.Name()) // nothing, once it has its name
	err = errors.Join(write(file), file.Chmod(0o644), file.Close())
	if err == nil {
		err = os.Rename(file.Name(), path)
	}
	return err
}
