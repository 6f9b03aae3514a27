package worker

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// How long a process must run before its memory is looked at, and how often that
// is done from then on.
const (
	firstSample = 100 * time.Millisecond
	nextSample  = 2 * time.Second
)

// usage is the processor time of a process and those that it waited for, and the
// most memory that one of them had, in bytes; 0 says that nobody knows. Seen is
// what was seen of its memory while it ran.
//
// The kernel counts what the worker had when it started the process as the
// process's own (getrusage(2), ru_maxrss), so that its word is good only above that.
func usage(state *os.ProcessState, seen int64) (cpu time.Duration, peak int64) {
	cpu = state.UserTime() + state.SystemTime()
	var own syscall.Rusage
	if used, ok := state.SysUsage().(*syscall.Rusage); ok && syscall.Getrusage(syscall.RUSAGE_SELF, &own) == nil && used.Maxrss > own.Maxrss {
		return cpu, max(seen, used.Maxrss<<10)
	}
	return cpu, seen
}

// peakOf is the most memory that a process has had, in bytes (proc(5), VmHWM), 0 if
// that cannot be read.
func peakOf(pid int) int64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(text), "VmHWM:")
	fields := strings.Fields(rest)
	if len(fields) == 0 {
		return 0
	}
	kilobytes, _ := strconv.ParseInt(fields[0], 10, 64) // digits, as the kernel writes them
	return kilobytes << 10
}
