package state

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// workspaces is the folder, in the user's own state folder, of the workspaces that have
// been named.
const workspaces = "workspaces"

// Folder is where the state of a workspace lies, below the user's own state folder: by a
// name for people and a hash of the workspace's path.
func Folder(own, workspace string) (string, error) {
	path, err := filepath.Abs(workspace)
	if err != nil {
		return "", err
	}
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	sum := sha256.Sum256([]byte(path))
	return filepath.Join(own, workspaces, plain(filepath.Base(path))+"-"+hex.EncodeToString(sum[:6])), nil
}

// plain is a name without what is awkward in a path, and short: a socket below it has
// room for some 100 bytes (unix(7)).
func plain(name string) string {
	name = strings.Map(func(r rune) rune {
		if 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || '0' <= r && r <= '9' || r == '-' {
			return r
		}
		return '-'
	}, name)
	return name[:min(len(name), 20)]
}

// Open makes the folder if need be and checks all that is in it: files and folders of this
// user, which nobody else can write to, and no link of either kind. So nothing that
// somebody else prepared leads out of it, and nobody can prepare it later.
func Open(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("the state folder: %w", err)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return fmt.Errorf("the state folder: %w", err)
	}
	defer root.Close()
	return fs.WalkDir(root.FS(), ".", func(path string, d fs.DirEntry, err error) error {
		if path == workspaces { // each is looked at when it is opened
			return fs.SkipDir
		}
		var info fs.FileInfo
		if err == nil {
			info, err = d.Info()
		}
		if errors.Is(err, fs.ErrNotExist) { // others work in here, too
			return nil
		}
		if err != nil {
			return fmt.Errorf("the state folder: %w", err)
		}
		if why := amiss(info); why != "" {
			return fmt.Errorf("%w: %s %s", ErrUnsafe, filepath.Join(dir, path), why)
		}
		return nil
	})
}

// ErrUnsafe means that a state folder is not this user's alone.
var ErrUnsafe = errors.New("the state folder is not worked with, since others may have prepared it")

// amiss tells why a file is not one that only this user can have made; "" if it is.
func amiss(info fs.FileInfo) string {
	switch mode := info.Mode(); mode.Type() {
	case fs.ModeSymlink:
		return "is a link"
	case 0, fs.ModeDir, fs.ModeSocket:
	default:
		return "is neither a file nor a folder"
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	switch {
	case !ok:
		return "has an owner that cannot be told"
	case int(stat.Uid) != os.Geteuid():
		return fmt.Sprintf("belongs to another user (%d)", stat.Uid)
	case info.Mode().Perm()&0o022 != 0:
		return "can be written by others (chmod go-w mends that)"
	case info.Mode().IsRegular() && stat.Nlink > 1:
		return "has a second name (a hard link)"
	}
	return ""
}
