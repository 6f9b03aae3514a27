package worker

import (
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
	"time"
)

// Making and removing folders took a third of a worker's time for short tasks (a file
// system that spreads folders over the disk looks for a place for each). So an attempt
// that leaves its work folder empty leaves it to the next one.

// folders are the work folders of a worker: each is of one attempt at a time, and empty
// when it is given.
type folders struct {
	dir string

	mu    sync.Mutex
	free  []string
	made  int
	empty map[string]syscall.Timespec // when folders were changed last that were seen to be empty well after
}

// settledFor is how long a change of a folder must be past for a later one to have another
// time: file systems count in ticks of some milliseconds.
const settledFor = time.Second

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
	as, changed := false, syscall.Timespec{}
	if alone {
		as, changed = f.asGiven(folder)
	}
	f.mu.Lock()
	if !as {
		delete(f.empty, folder)
		f.mu.Unlock()
		return os.RemoveAll(folder)
	}
	defer f.mu.Unlock()
	if f.empty == nil {
		f.empty = map[string]syscall.Timespec{}
	}
	f.free, f.empty[folder] = append(f.free, folder), changed
	return nil
}

// asGiven tells whether a folder is there, empty, and with the rights that it was made
// with, and when it was changed last, zero if that is not long ago. One that was empty and
// has not changed since is not looked into.
func (f *folders) asGiven(folder string) (as bool, changed syscall.Timespec) {
	var is syscall.Stat_t
	if syscall.Lstat(folder, &is) != nil || is.Mode != syscall.S_IFDIR|0o700 {
		return false, changed
	}
	f.mu.Lock()
	before, known := f.empty[folder]
	f.mu.Unlock()
	if known && before != (syscall.Timespec{}) && before == is.Ctim {
		return true, before
	}
	looked := time.Now()
	entries, err := os.ReadDir(folder)
	if err != nil || len(entries) > 0 {
		return false, changed
	}
	if looked.Sub(time.Unix(is.Ctim.Unix())) > settledFor {
		changed = is.Ctim
	}
	return true, changed
}
