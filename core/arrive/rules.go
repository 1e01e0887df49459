package arrive

import (
	"os"
	"path"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"golang.org/x/sys/unix"
)

// Rules say when something has arrived.
type Rules struct {
	// Settle is how long it has not changed.
	Settle time.Duration
	// NotYet are patterns of names, or of whole keys where they have a "/", of what has not
	// arrived.
	NotYet []string
	// Marker is a name whose presence says that all in its folder has arrived; "" for none.
	Marker string
}

// NameWaits tells that a key's name says that it has not arrived.
func (r *Rules) NameWaits(key string) bool {
	name := path.Base(key)
	for _, p := range r.NotYet {
		if ok, _ := doublestar.Match(p, name); ok {
			return true
		}
		if ok, _ := doublestar.Match(p, key); ok {
			return true
		}
	}
	return false
}

// IsMarker tells that a key is a marker.
func (r *Rules) IsMarker(key string) bool { return r.Marker != "" && path.Base(key) == r.Marker }

// Settled tells that what changed last at a moment stands still by now.
func (r *Rules) Settled(changed, now time.Time) bool { return !changed.Add(r.Settle).After(now) }

// OpenForWriting tells that some process has a file open for writing, as far as the system tells:
// a read lease (fcntl F_SETLEASE) is granted only where nobody has. Where the system grants no
// leases, or not to us, it is taken to be closed.
func OpenForWriting(name string) bool {
	f, err := os.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	_, err = unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_RDLCK)
	if err == unix.EAGAIN {
		return true
	}
	if err == nil {
		_, _ = unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_UNLCK)
	}
	return false
}
