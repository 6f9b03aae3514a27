package worker

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"
)

// How long a process must run before its memory is looked at, and how often that
// is done from then on.
const (
	firstSample = 100 * time.Millisecond
	nextSample  = 2 * time.Second
)

// ownPeak is the most memory that the worker was seen to have had, in kilobytes.
var ownPeak atomic.Int64

// peak is the most memory that a process or one that it waited for had, in bytes; 0 says
// that nobody knows. Seen is what was seen of its memory while it ran.
//
// The kernel counts what the worker had when it started the process as the
// process's own (getrusage(2), ru_maxrss), so that its word is good only above that.
func (e *end) peak(seen int64) int64 {
	if e.used.Maxrss <= ownPeak.Load() {
		return seen
	}
	var own syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &own) != nil {
		return seen
	}
	ownPeak.Store(own.Maxrss)
	if e.used.Maxrss <= own.Maxrss {
		return seen
	}
	return max(seen, e.used.Maxrss<<10)
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
