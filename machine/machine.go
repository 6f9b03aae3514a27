// Package machine reads what a Linux machine tells of itself: the room on a disk, open
// files, load and memory. It imports nothing of ours. What cannot be read is 0, or ok is
// false.
package machine

import (
	"os"
	"strconv"
	"strings"
	"syscall"
)

// Room is how many bytes are free for us on the disk of a folder, and how many it has
// (statvfs(3)).
func Room(dir string) (free, whole uint64, err error) {
	var stat syscall.Statfs_t
	err = syscall.Statfs(dir, &stat)
	return stat.Bavail * uint64(stat.Bsize), stat.Blocks * uint64(stat.Bsize), err
}

// MostFiles is how many files this process may have open at once.
func MostFiles() (uint64, error) {
	var limit syscall.Rlimit
	err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit)
	return limit.Cur, err
}

// OpenFiles is how many files this process has open.
func OpenFiles() (uint64, error) {
	entries, err := os.ReadDir("/proc/self/fd")
	return uint64(len(entries)), err
}

// Load is the load of the machine, the mean of a minute (proc(5)).
func Load() float64 {
	text, _ := os.ReadFile("/proc/loadavg")
	first, _, _ := strings.Cut(string(text), " ")
	load, _ := strconv.ParseFloat(first, 64)
	return load
}

// Memory is how many bytes of the machine's memory are in use, and how many it has
// (proc(5)).
func Memory() (used, whole int64) {
	text, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return 0, 0
	}
	kilobytes := map[string]int64{}
	for line := range strings.Lines(string(text)) {
		name, rest, _ := strings.Cut(line, ":")
		if fields := strings.Fields(rest); len(fields) > 0 {
			kilobytes[name], _ = strconv.ParseInt(fields[0], 10, 64)
		}
	}
	whole = kilobytes["MemTotal"] << 10
	return whole - kilobytes["MemAvailable"]<<10, whole
}

// yieldsMemory is by how much sooner than others the system ends a process that yields, in
// thousandths of the machine's memory.
const yieldsMemory = 300

// YieldMemory has the system, when memory runs out, end this process and those that it
// starts sooner than others (proc(5), oom_score_adj), unless that is said already.
func YieldMemory() error {
	const name = "/proc/self/oom_score_adj"
	text, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	if now, err := strconv.Atoi(strings.TrimSpace(string(text))); err != nil || now >= yieldsMemory {
		return err
	}
	return os.WriteFile(name, []byte(strconv.Itoa(yieldsMemory)), 0o600)
}

// GroupMemory is how many bytes the control group of this process uses, and how many it
// may (cgroup v2, memory.current and memory.max); most is 0 where there is no limit.
func GroupMemory() (used, most int64) { return groupMemory("/sys/fs/cgroup/") }

func groupMemory(dir string) (used, most int64) {
	of := func(name string) int64 {
		text, _ := os.ReadFile(dir + name)
		n, _ := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64) // "max" is none
		return n
	}
	return of("memory.current"), of("memory.max")
}
