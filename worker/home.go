package worker

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// A worker has a home in its folder for as long as it lives, with a lock that the
// operating system takes away when its process ends, however it ends.

// Home is the home of a living worker.
type Home struct {
	Instance string
	Dir      string
	lock     *os.File
}

// Move makes a new home in the folder of workers and moves in.
func Move(dir string) (*Home, error) {
	instance := strconv.FormatInt(time.Now().UnixNano(), 36) + "-" + strconv.Itoa(os.Getpid())
	h := &Home{Instance: instance, Dir: filepath.Join(dir, instance)}
	// It gets its name when it is locked: nobody takes it for one that was left.
	part := filepath.Join(dir, "."+instance)
	err := os.MkdirAll(part, 0o700)
	if err == nil {
		h.lock, err = os.OpenFile(filepath.Join(part, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	}
	if err == nil {
		err = syscall.Flock(int(h.lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	}
	if err == nil {
		_, err = fmt.Fprintln(h.lock, os.Getpid())
	}
	if err == nil {
		err = os.Rename(part, h.Dir)
	}
	if err != nil {
		return nil, fmt.Errorf("a home for the worker cannot be made in %s: %w", dir, err)
	}
	return h, nil
}

// Leave gives the home up; it is removed if nothing in it is still to be reported.
func (h *Home) Leave() {
	if open, err := readJournal(h.Dir); err == nil && len(open) == 0 {
		_ = os.RemoveAll(h.Dir)
	}
	h.lock.Close()
}

// Neighbour is another home in the same folder.
type Neighbour struct {
	Instance string
	Dir      string
	PID      int // of the worker that lives in it; 0 if it has ended
}

// Neighbours lists the homes of a folder but the one with that name.
func Neighbours(dir, but string) (all []Neighbour) {
	if _, err := os.Stat(filepath.Join(dir, "attempts")); err == nil {
		all = append(all, Neighbour{Dir: dir}) // as it was before workers had homes
	}
	locks, _ := filepath.Glob(filepath.Join(dir, "*", "lock"))
	for _, name := range locks {
		n := Neighbour{Dir: filepath.Dir(name), Instance: filepath.Base(filepath.Dir(name))}
		if n.Instance == but || strings.HasPrefix(n.Instance, ".") {
			continue
		}
		file, err := os.Open(name)
		if err != nil {
			continue // its worker is just leaving
		}
		if syscall.Flock(int(file.Fd()), syscall.LOCK_SH|syscall.LOCK_NB) != nil {
			text, _ := os.ReadFile(name)
			n.PID, _ = strconv.Atoi(strings.TrimSpace(string(text)))
		}
		file.Close()
		all = append(all, n)
	}
	return all
}

// Outlive returns when the worker of a home has ended.
func Outlive(home string) {
	file, err := os.Open(filepath.Join(home, "lock"))
	if err != nil {
		return // it has left
	}
	defer file.Close()
	for syscall.Flock(int(file.Fd()), syscall.LOCK_SH) == syscall.EINTR {
	}
}
