package worker

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
)

// Making a folder can take as long as half of starting a process (a file system that
// spreads folders over the disk looks for a place for each), so a few are made ahead
// of the attempts that will want them. Each is used once.

// spares are folders with an empty work/ in them, ready to be renamed.
type spares struct {
	dir   string
	ready chan string
}

func newSpares(dir string, count int) *spares {
	return &spares{dir: dir, ready: make(chan string, count)}
}

// fill makes folders ahead until ctx is done. What an earlier worker left is removed
// first.
func (s *spares) fill(ctx context.Context) error {
	if err := os.RemoveAll(s.dir); err != nil {
		return err
	}
	for n := 0; ; n++ {
		name := filepath.Join(s.dir, strconv.Itoa(n))
		if err := os.MkdirAll(filepath.Join(name, "work"), 0o700); err != nil {
			return err // attempts make their own, and tell what is wrong
		}
		select {
		case s.ready <- name:
		case <-ctx.Done():
			return os.RemoveAll(s.dir)
		}
	}
}

// take makes a spare folder the folder of an attempt. It is false if there is none,
// or it cannot be had.
func (s *spares) take(as string) bool {
	select {
	case name := <-s.ready:
		return os.Rename(name, as) == nil
	default:
		return false
	}
}
