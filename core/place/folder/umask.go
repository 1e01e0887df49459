package folder

import (
	"io/fs"
	"os"
	"regexp"
	"strconv"
	"sync"
)

var umaskLine = regexp.MustCompile(`(?m)^Umask:\s*([0-7]+)$`)

// umask are the permissions that this process gives nobody by itself. It is read, not
// set to be read, since files may be made meanwhile (proc(5), /proc/pid/status); where
// that does not tell, it is the strictest of the usual ones.
var umask = sync.OnceValue(func() fs.FileMode {
	raw, _ := os.ReadFile("/proc/self/status")
	if m := umaskLine.FindSubmatch(raw); m != nil {
		if bits, err := strconv.ParseUint(string(m[1]), 8, 12); err == nil {
			return fs.FileMode(bits).Perm()
		}
	}
	return 0o077
})
