package atomicfile

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Write replaces the file at path, which need not be there, by one with this content and
// these permissions. The content is on the disk before the file has its name.
func Write(path string, data []byte, mode fs.FileMode) error {
	return WriteFrom(path, bytes.NewReader(data), mode)
}

// WriteFrom is [Write] of what a reader gives.
func WriteFrom(path string, data io.Reader, mode fs.FileMode) error {
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-*")
	if err != nil {
		return err
	}
	_, err = io.Copy(f, data)
	if err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}

// WriteJSON replaces a file by v as indented JSON, for its owner alone. The folder it lies
// in is made if need be, for its owner alone, too.
func WriteJSON(path string, v any) error {
	raw, err := json.MarshalIndent(v, "", "  ")
	if err == nil {
		err = os.MkdirAll(filepath.Dir(path), 0o700)
	}
	if err == nil {
		err = Write(path, raw, 0o600)
	}
	return err
}
