package folder

import (
	"context"
	"errors"
	"io/fs"
	"path"

	"golang.org/x/sys/unix"

	"lumtra/core/place"
)

var _ place.Roomy = (*Folder)(nil)

// Room is what the filesystem has left for users.
func (f *Folder) Room(ctx context.Context) (int64, error) {
	st, err := f.statfs()
	return int64(st.Bavail) * st.Bsize, f.fail("measure", "", err)
}

// FoldsCase tells whether the filesystem is of a kind that usually takes "A"
// and "a" for one name.
func (f *Folder) FoldsCase() bool {
	st, err := f.statfs()
	if err != nil {
		return false
	}
	switch uint32(st.Type) {
	case unix.MSDOS_SUPER_MAGIC, unix.EXFAT_SUPER_MAGIC, unix.SMB_SUPER_MAGIC, unix.CIFS_SUPER_MAGIC,
		unix.SMB2_SUPER_MAGIC, ntfs, hfsPlus:
		return true
	}
	return false
}

// Kinds the unix package does not name.
const (
	ntfs    = 0x5346544e
	hfsPlus = 0x482b
)

// statfs asks about the filesystem the place is on, which need not be the root's:
// another may be mounted on the way. Of what is not there yet it is the one that it
// will be made on.
func (f *Folder) statfs() (st unix.Statfs_t, err error) {
	for at := f.base; ; at = path.Dir(at) {
		d, err := f.end.root.Open(at)
		if err != nil {
			if at == "." || !errors.Is(err, fs.ErrNotExist) {
				return st, err
			}
			continue
		}
		defer d.Close()
		return st, unix.Fstatfs(int(d.Fd()), &st)
	}
}
