package worker

import (
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
)

// Making and removing a folder takes as long as a third of starting a process (a file
// system that spreads folders over the disk looks for a place for each). So an attempt
// that leaves its work folder empty leaves it to the next one.

// rooms are the work folders of a worker: each is of one attempt at a time, and empty
// when it is given.
type rooms struct {
	dir string

	mu   sync.Mutex
	free []string
	made int
}

// take gives a room, one that was left empty or a new one.
func (r *rooms) take() (string, error) {
	r.mu.Lock()
	if n := len(r.free); n > 0 {
		room := r.free[n-1]
		r.free = r.free[:n-1]
		r.mu.Unlock()
		return room, nil
	}
	r.made++
	room := filepath.Join(r.dir, strconv.Itoa(r.made))
	r.mu.Unlock()
	return room, os.MkdirAll(room, 0o700)
}

// leave takes a room back. One that is as it was given is given again, if nothing of the
// attempt may still be there; any other is removed.
func (r *rooms) leave(room string, alone bool) error {
	if !alone || !asGiven(room) {
		return os.RemoveAll(room)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.free = append(r.free, room)
	return nil
}

// asGiven tells whether a folder is there, empty, and with the rights that it was made
// with.
func asGiven(room string) bool {
	fd, err := syscall.Open(room, syscall.O_RDONLY|syscall.O_DIRECTORY|syscall.O_CLOEXEC|syscall.O_NOFOLLOW, 0)
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
