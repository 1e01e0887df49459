package service

import (
	"bufio"
	"context"
	"os"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// tidyEvery is how often a service that waits gives memory back.
const tidyEvery = 30 * time.Second

// tidyUp gives memory back once the service has begun, and then again and again while it is idle, until
// ctx ends.
func tidyUp(ctx context.Context, begun <-chan struct{}, idle func() bool) {
	select {
	case <-begun:
	case <-ctx.Done():
		return
	}
	again := time.NewTicker(tidyEvery)
	defer again.Stop()
	for {
		if idle() {
			giveBack()
		}
		select {
		case <-again.C:
		case <-ctx.Done():
			return
		}
	}
}

// giveBack returns memory that waiting does not need: what looking at the workspace has left behind, and
// the pages of the program's own file that beginning ran through. What is needed again is read again, from
// the system's cache as a rule. Where the system does not tell what lies where, the latter is left out.
func giveBack() {
	debug.FreeOSMemory()
	self, err := os.Readlink("/proc/self/exe")
	if err != nil {
		return
	}
	maps, err := os.Open("/proc/self/maps")
	if err != nil {
		return
	}
	defer maps.Close()
	for lines := bufio.NewScanner(maps); lines.Scan(); {
		if from, to, ok := code(lines.Text(), self); ok {
			// The pages of code are the file's, and to drop them loses nothing. Those of data that can only be
			// read may have been written to before, as by a loader that moved the program (ld.so(8), relro).
			unix.Syscall(unix.SYS_MADVISE, from, to-from, unix.MADV_DONTNEED)
		}
	}
}

// code reads a line of /proc/self/maps (proc(5)): the addresses of the file's code, that nobody can write to.
func code(line, file string) (from, to uintptr, ok bool) {
	fields := strings.Fields(line) // addresses, permissions, offset, device, inode, path
	if len(fields) < 6 || !strings.HasSuffix(line, " "+file) || fields[1] != "r-xp" {
		return 0, 0, false
	}
	first, last, _ := strings.Cut(fields[0], "-")
	a, errA := strconv.ParseUint(first, 16, 64)
	b, errB := strconv.ParseUint(last, 16, 64)
	return uintptr(a), uintptr(b), errA == nil && errB == nil && a < b
}
