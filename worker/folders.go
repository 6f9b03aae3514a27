package worker

import (
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
)

// Making and removing folders took a third of a worker's time for short tasks (a file
// system that spreads folders over the disk looks for a place for each). So an attempt
// that leaves its work folder empty leaves it to the next one.

// folders are the work folders of a worker: each is of one attempt at a time, and empty
// when it is given.
type folders struct {
	dir string

	mu   sync.Mutex
	free []string
	made int
}

// take gives a folder, one that was left empty or a new one.
func (f *folders) take() (string, error) {
	f.mu.Lock()
	if n := len(f.free); n > 0 {
		folder := f.free[n-1]
		f.free = f.free[:n-1]
		f.mu.Unlock()
		return folder, nil
	}
	f.made++
	folder := filepath.Join(f.dir, strconv.Itoa(f.made))
	f.mu.Unlock()
	return folder, os.MkdirAll(folder, 0o700)
}

// leave takes a folder back. One that is as it was given is given again, if nothing of the
// attempt may still be there; any other is removed.
func (f *folders) leave(folder string, alone bool) error {
	if !alone || !asGiven(folder) {
		return os.RemoveAll(folder)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.free = append(f.free, folder)
	return nil
}

// asGiven tells whether a folder is there, empty, and with the rights that it was made
// with.
func asGiven(folder string) bool {
	fd, err := syscall.Open(folder, syscall.O_RDONLY|syscall.O_DIRECTORY|syscall.O_CLOEXEC|syscall.O_NOFOLLOW, 0)
	if err != nil {
		return false
	}
	defer syscall.Close(fd)
	var is syscall.Stat_t
	if syscall.Fstat(fd, &is) != nil || is.Mode&0o7777 != 0o700 {
		return false
	}
	var block [1024]byte
	n, err := syscall.ReadDirent(fd, block[:])
	if err != nil {
		return false
	}
	_, _, names := syscall.ParseDirent(block[:n], -1, nil) // without . and ..
	return len(names) == 0
}
