package signals

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/fsnotify/fsnotify"
)

// resting is a file whose size is watched until it rests.
type resting struct {
	size     int64
	modified time.Time
	since    time.Time // when it was first seen so
}

var errTooMany = errors.New("too many files")

// seeFiles finds the files of a watch that have settled. A file has when its size
// and its time of change are what they were Settle ago, or, seen for the first time,
// when it was changed longer ago than that.
func (s *Signals) seeFiles(w *watch) (sight Sight) {
	now := time.Now()
	s.mu.Lock()
	before := w.seen
	s.mu.Unlock()
	seen := map[string]resting{}
	look := func(path string) error {
		info, err := os.Stat(path) // a link is what it leads to
		if err != nil || !info.Mode().IsRegular() {
			return nil
		}
		if len(seen) >= w.Most {
			return errTooMany
		}
		one := resting{info.Size(), info.ModTime(), now}
		if last, known := before[path]; known && last.size == one.size && last.modified.Equal(one.modified) {
			one.since = last.since
		} else if age := now.Sub(one.modified); !known && age > 0 {
			one.since = one.modified // nobody has written to it since
		}
		seen[path] = one
		return nil
	}
	for _, glob := range w.Globs {
		switch err := walk(glob, look); {
		case errors.Is(err, errTooMany):
			sight.TooMany = true
			return sight
		case err != nil && !errors.Is(err, fs.ErrNotExist):
			sight.Error = err.Error()
			return sight
		}
	}
	for path, one := range seen {
		if one.size >= w.MinSize && now.Sub(one.since) >= w.Settle {
			sight.Files = append(sight.Files, File{path, one.size, one.modified.UTC()})
		} else {
			sight.Settling++
		}
	}
	slices.SortFunc(sight.Files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	wanted := foldersOf(w, seen)
	s.mu.Lock()
	defer s.mu.Unlock()
	w.seen = seen
	if !w.gone {
		s.folders.follow(w, wanted)
	}
	return sight
}

// walk calls look for each path that a pattern means. A folder is read a part at a
// time where the pattern goes no deeper, for it may hold a million files.
func walk(glob string, look func(path string) error) error {
	base, pattern := doublestar.SplitPattern(filepath.ToSlash(glob))
	if strings.Contains(pattern, "/") || strings.Contains(pattern, "**") {
		return doublestar.GlobWalk(os.DirFS(base), pattern, func(path string, _ fs.DirEntry) error { return look(filepath.Join(base, path)) }, doublestar.WithFilesOnly())
	}
	folder, err := os.Open(base)
	if err != nil {
		return err
	}
	defer folder.Close()
	for {
		names, err := folder.Readdirnames(1000)
		for _, name := range names {
			if !doublestar.MatchUnvalidated(pattern, name) {
				continue
			}
			if err := look(filepath.Join(base, name)); err != nil {
				return err
			}
		}
		switch {
		case err == io.EOF:
			return nil
		case err != nil:
			return err
		}
	}
}

// restUntil is when the first of the files that are settling will have settled,
// zero if none is.
func (w *watch) restUntil(sight Sight, now time.Time) (first time.Time) {
	if w.Kind != Files || sight.Settling == 0 {
		return first
	}
	for _, one := range w.seen {
		if at := one.since.Add(w.Settle); one.size >= w.MinSize && at.After(now) && (first.IsZero() || at.Before(first)) {
			first = at
		}
	}
	if !first.IsZero() {
		first = first.Add(10 * time.Millisecond)
	}
	return first
}

// folders are those that the system tells of, each with the watches that it is
// followed for.
type folders struct {
	notify *fsnotify.Watcher // nil if the system cannot
	by     map[string]map[*watch]bool
}

// mostFolders bounds those of one watch; the others are looked at every check.
const mostFolders = 500

func (f *folders) init() { f.by = map[string]map[*watch]bool{} }

// foldersOf are the folders in which the files of a watch may come to be. Where one
// is not there yet, it is the nearest above it.
func foldersOf(w *watch, seen map[string]resting) map[string]bool {
	wanted := map[string]bool{}
	for _, glob := range w.Globs {
		base, pattern := doublestar.SplitPattern(filepath.ToSlash(glob))
		wanted[nearest(base)] = true
		if !strings.Contains(pattern, "/") {
			continue
		}
		_ = doublestar.GlobWalk(os.DirFS(base), filepath.ToSlash(filepath.Dir(pattern)), func(path string, entry fs.DirEntry) error { // what cannot be read is looked at every check
			if entry.IsDir() && len(wanted) < mostFolders {
				wanted[filepath.Join(base, path)] = true
			}
			return nil
		})
	}
	for path := range seen {
		if len(wanted) >= mostFolders {
			break
		}
		wanted[filepath.Dir(path)] = true
	}
	return wanted
}

// follow has the system tell of these folders, for a watch, and of no others.
func (f *folders) follow(w *watch, wanted map[string]bool) {
	if f.notify == nil {
		return
	}
	for _, old := range w.folders {
		if !wanted[old] {
			f.unfollow(w, old)
		}
	}
	w.folders = w.folders[:0]
	for folder := range wanted {
		if f.by[folder] == nil {
			if f.notify.Add(folder) != nil {
				continue
			}
			f.by[folder] = map[*watch]bool{}
		}
		f.by[folder][w] = true
		w.folders = append(w.folders, folder)
	}
}

// nearest is the folder itself, or the nearest above it that is there.
func nearest(folder string) string {
	for {
		if info, err := os.Stat(folder); err == nil && info.IsDir() {
			return folder
		}
		above := filepath.Dir(folder)
		if above == folder {
			return folder
		}
		folder = above
	}
}

func (f *folders) leave(w *watch) {
	for _, folder := range w.folders {
		f.unfollow(w, folder)
	}
	w.folders = nil
}

func (f *folders) unfollow(w *watch, folder string) {
	delete(f.by[folder], w)
	if len(f.by[folder]) == 0 {
		delete(f.by, folder)
		if f.notify != nil {
			_ = f.notify.Remove(folder) // it may be gone
		}
	}
}

// changed has the watches looked at that follow where something has changed.
func (s *Signals) changed(change fsnotify.Event) {
	if change.Op == fsnotify.Chmod {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	by := time.Now().Add(soon)
	for w := range s.folders.by[filepath.Dir(change.Name)] {
		s.hasten(w, by)
	}
	if gone := s.folders.by[change.Name]; change.Op.Has(fsnotify.Remove) || change.Op.Has(fsnotify.Rename) {
		for w := range gone {
			s.hasten(w, by)
		}
		delete(s.folders.by, change.Name) // the system follows it no more
	}
}
