package bench

import (
	"os"
	"syscall"
)

// peak is a finished process's largest resident size, in KiB.
func peak(s *os.ProcessState) int64 {
	if u, ok := s.SysUsage().(*syscall.Rusage); ok {
		return u.Maxrss
	}
	return 0
}
