package station

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
)

// What a worker's machine must have for an attempt to begin.
const (
	leastRoom  = 16 << 20 // bytes, on the disk of its folder
	leastFiles = 64       // that may still be opened
)

// faults tells what keeps attempts from beginning on this machine.
func (s *Station) faults() (all []string) {
	probe := filepath.Join(s.home.Dir, "probe")
	if err := os.WriteFile(probe, []byte("."), 0o600); err != nil {
		all = append(all, fmt.Sprintf("nothing can be written to %s: %v", s.Dir, err))
	}
	_ = os.Remove(probe)
	var stat syscall.Statfs_t
	if err := syscall.Statfs(s.Dir, &stat); err == nil {
		if free := stat.Bavail * uint64(stat.Bsize); free < leastRoom && len(all) == 0 {
			all = append(all, fmt.Sprintf("only %d MB are free on the disk of %s", free>>20, s.Dir))
		}
	}
	var limit syscall.Rlimit
	if entries, err := os.ReadDir("/proc/self/fd"); err == nil && syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit) == nil && uint64(len(entries))+leastFiles > limit.Cur {
		all = append(all, fmt.Sprintf("%d of %d files are open", len(entries), limit.Cur))
	}
	return all
}
