package plan_test

import (
	"os"
	"syscall"
)

// maxRSS is the peak of a finished process's resident memory in bytes.
func maxRSS(s *os.ProcessState) int64 { return s.SysUsage().(*syscall.Rusage).Maxrss << 10 }
