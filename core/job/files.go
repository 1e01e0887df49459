package job

import (
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// jobFile is a file in the folder of jobs, by its name there.
type jobFile struct {
	name  string
	stamp stamp
}

// stamp tells a file from what it was before. The zero stamp tells nothing: the file is none that can
// be looked at so, or changed a moment ago.
type stamp struct {
	size    int64
	changed int64 // in nanoseconds since 1970
	inode   uint64
}

// unsure is how long after a change a file may change again without another time: clocks of file
// systems are coarse.
const unsure = 2 * time.Second

// jobFiles are the files of a folder that hold jobs, in the order of their names. Of ten thousand,
// looking at them is most of what reading a workspace again costs: it is done on several processors,
// from the open folder, and without making anything of each that has to be tidied up.
func jobFiles(dir string) ([]jobFile, error) {
	d, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	names, err := d.Readdirnames(-1)
	if err != nil {
		return nil, err
	}
	names = slices.DeleteFunc(names, func(n string) bool { return !strings.HasSuffix(n, ".toml") })
	slices.Sort(names)
	files, folders := make([]jobFile, len(names)), make([]bool, len(names))
	from, now := int(d.Fd()), time.Now()
	var work sync.WaitGroup
	n := runtime.GOMAXPROCS(0)
	for first := range n {
		work.Go(func() {
			for i := first; i < len(names); i += n {
				files[i].name = names[i]
				files[i].stamp, folders[i] = lookAt(from, names[i], now)
			}
		})
	}
	work.Wait()
	kept := files[:0]
	for i, f := range files {
		if !folders[i] {
			kept = append(kept, f)
		}
	}
	return kept, nil
}

// lookAt is the stamp of a file in an open folder, and whether it is a folder itself.
func lookAt(from int, name string, now time.Time) (s stamp, folder bool) {
	var st unix.Stat_t
	if err := unix.Fstatat(from, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return stamp{}, false
	}
	changed := st.Mtim.Nano()
	if st.Mode&unix.S_IFMT != unix.S_IFREG || now.Sub(time.Unix(0, changed)) <= unsure {
		return stamp{}, st.Mode&unix.S_IFMT == unix.S_IFDIR
	}
	return stamp{size: st.Size, changed: changed, inode: st.Ino}, false
}
