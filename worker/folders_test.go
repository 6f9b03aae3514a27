package worker

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

// A folder that is left as it was given is given again, whether it is looked into or known
// not to have changed; any other is removed.
func TestAFolderIsGivenAgainOnlyIfItIsEmpty(t *testing.T) {
	f := &folders{dir: t.TempDir()}
	first, err := f.take()
	if err != nil {
		t.Fatal(err)
	}
	leave := func(alone bool) (again bool) {
		t.Helper()
		if err := f.leave(first, alone); err != nil {
			t.Fatal(err)
		}
		next, err := f.take()
		if err != nil {
			t.Fatal(err)
		}
		again = next == first
		first = next
		return again
	}
	if !leave(true) {
		t.Error("an empty folder is not given again")
	}
	time.Sleep(settledFor + 100*time.Millisecond) // from here on, its last change tells
	for range 3 {
		if !leave(true) || f.empty[first] == (syscall.Timespec{}) {
			t.Error("an empty folder that has not changed is not given again")
		}
	}
	for what, change := range map[string]func() error{
		"a file":      func() error { return os.WriteFile(filepath.Join(first, "gauge"), nil, 0o600) },
		"a folder":    func() error { return os.Mkdir(filepath.Join(first, "gauges"), 0o700) },
		"other right": func() error { return os.Chmod(first, 0o755) },
		"its removal": func() error { return os.Remove(first) },
		"a link": func() error {
			if err := os.Remove(first); err != nil {
				return err
			}
			return os.Symlink(t.TempDir(), first)
		},
	} {
		var is syscall.Stat_t
		if err := syscall.Lstat(first, &is); err != nil {
			t.Fatal(err)
		}
		f.empty[first] = is.Ctim // as if that were long ago
		time.Sleep(20 * time.Millisecond)
		if err := change(); err != nil {
			t.Fatal(err)
		}
		before := first
		if leave(true) {
			t.Errorf("a folder with %s is given again", what)
		}
		if _, err := os.Lstat(before); err == nil {
			t.Errorf("a folder with %s stays", what)
		}
	}
	if leave(false) {
		t.Error("a folder in which something may still be at work is given again")
	}
}
