// Package parcel packs a folder of code for sending, and unpacks it where its
// tasks run.
//
// A parcel is a gzip-compressed tar archive (POSIX.1-2001 pax) of regular files
// and of links that stay inside the folder. It is named by the SHA-256 of the
// tar archive in hexadecimal; the same files always make the same name, because
// owners and times are left out and only the run bit is kept of the modes. The
// package imports nothing of ours.
package parcel

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/moby/patternmatcher"
	"github.com/moby/patternmatcher/ignorefile"
)

// The most that a parcel may hold.
const (
	MaxBytes = 64 << 20 // of all files together
	MaxFiles = 10_000
)

// leftOut are the names of folders that are never part of a parcel.
var leftOut = map[string]bool{".git": true, ".hg": true, "node_modules": true, "__pycache__": true, "lantern-data": true}

var namePattern = regexp.MustCompile(`^[0-9a-f]{64}$`)

// IsName tells whether text has the form of a parcel's name.
func IsName(text string) bool { return namePattern.MatchString(text) }

// Packed is a parcel in memory.
type Packed struct {
	Name    string
	Archive []byte // the gzip-compressed tar archive
	Files   int
	Bytes   int64 // of all files together
}

// IgnoreFile is the file of a folder that says what else to leave out: a pattern a
// line, as path.Match has them, with ** for any folders and ! to take something
// in again; # begins a comment.
const IgnoreFile = ".lanternignore"

// Pack packs the folder dir. Version control, node_modules, __pycache__, data
// folders of the service and what the IgnoreFile says are left out.
func Pack(dir string) (*Packed, error) {
	ignored, err := readIgnored(dir)
	if err != nil {
		return nil, err
	}
	var archive bytes.Buffer
	sum := sha256.New()
	compressed := gzip.NewWriter(&archive)
	out := tar.NewWriter(io.MultiWriter(sum, compressed))
	p := &Packed{}
	err = filepath.WalkDir(dir, func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		inside, err := filepath.Rel(dir, name)
		if err != nil {
			return err
		}
		if out, err := ignored.MatchesOrParentMatches(inside); err != nil {
			return fmt.Errorf("%s: %w", IgnoreFile, err)
		} else if out && (!entry.IsDir() || !ignored.Exclusions()) {
			if entry.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if entry.IsDir() {
			if name != dir && leftOut[entry.Name()] || exists(filepath.Join(name, "lantern.db")) {
				return fs.SkipDir
			}
			return nil
		}
		return p.add(out, name, filepath.ToSlash(inside), entry)
	})
	if err == nil {
		err = errors.Join(out.Close(), compressed.Close())
	}
	if err != nil {
		return nil, fmt.Errorf("pack the folder %s: %w", dir, err)
	}
	p.Name, p.Archive = hex.EncodeToString(sum.Sum(nil)), archive.Bytes()
	return p, nil
}

func readIgnored(dir string) (*patternmatcher.PatternMatcher, error) {
	file, err := os.Open(filepath.Join(dir, IgnoreFile))
	if errors.Is(err, fs.ErrNotExist) {
		return patternmatcher.New(nil)
	}
	if err != nil {
		return nil, err
	}
	defer file.Close()
	patterns, err := ignorefile.ReadAll(file)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", IgnoreFile, err)
	}
	matcher, err := patternmatcher.New(patterns)
	if err != nil {
		return nil, fmt.Errorf("%s: %w; write patterns such as data/** or *.tmp", IgnoreFile, err)
	}
	return matcher, nil
}

func exists(name string) bool {
	_, err := os.Lstat(name)
	return err == nil
}

func (p *Packed) add(out *tar.Writer, name, inside string, entry fs.DirEntry) error {
	info, err := entry.Info()
	if err != nil {
		return err
	}
	header := &tar.Header{Name: inside, Mode: 0o644, Format: tar.FormatPAX}
	switch {
	case info.Mode().IsRegular():
		header.Typeflag, header.Size = tar.TypeReg, info.Size()
		if info.Mode()&0o111 != 0 {
			header.Mode = 0o755
		}
	case info.Mode()&fs.ModeSymlink != 0:
		target, err := os.Readlink(name)
		if err != nil {
			return err
		}
		header.Typeflag, header.Linkname = tar.TypeSymlink, target
	default:
		return fmt.Errorf("%s is neither a file nor a link; take it out of the folder", inside)
	}
	p.Files++
	p.Bytes += header.Size
	if err := p.check(header); err != nil {
		return err
	}
	if err := out.WriteHeader(header); err != nil {
		return err
	}
	if header.Typeflag == tar.TypeSymlink {
		return nil
	}
	file, err := os.Open(name)
	if err != nil {
		return err
	}
	defer file.Close()
	if _, err = io.CopyN(out, file, header.Size); err != nil {
		return fmt.Errorf("%s changed while it was read: %w", inside, err)
	}
	return nil
}

// check refuses what may not be in a parcel.
func (p *Packed) check(h *tar.Header) error {
	switch {
	case !filepath.IsLocal(h.Name) || h.Name == ".":
		return fmt.Errorf("%q leads out of the folder", h.Name)
	case h.Typeflag == tar.TypeSymlink && (path.IsAbs(h.Linkname) || !filepath.IsLocal(path.Join(path.Dir(h.Name), h.Linkname))):
		return fmt.Errorf("the link %s leads out of the folder, to %s; make it relative and keep it inside", h.Name, h.Linkname)
	case h.Typeflag != tar.TypeReg && h.Typeflag != tar.TypeSymlink:
		return fmt.Errorf("%s is neither a file nor a link", h.Name)
	case p.Bytes > MaxBytes:
		return fmt.Errorf("the files have over %d MB together; keep data outside of the project's folder", MaxBytes>>20)
	case p.Files > MaxFiles:
		return fmt.Errorf("there are over %d files; keep data outside of the project's folder", MaxFiles)
	}
	return nil
}

// Read goes through an archive, hands each entry to visit (which may be nil),
// and tells what it found. Everything that Pack refuses is refused.
func Read(archive io.Reader, visit func(*tar.Header, io.Reader) error) (*Packed, error) {
	compressed, err := gzip.NewReader(archive)
	if err != nil {
		return nil, fmt.Errorf("the parcel is not gzip-compressed: %w", err)
	}
	sum := sha256.New()
	plain := io.TeeReader(io.LimitReader(compressed, MaxBytes+MaxFiles*4096), sum)
	in := tar.NewReader(plain)
	p := &Packed{}
	for {
		header, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("the parcel is damaged: %w", err)
		}
		p.Files++
		p.Bytes += header.Size
		if err := p.check(header); err != nil {
			return nil, fmt.Errorf("the parcel is refused: %w", err)
		}
		if visit != nil {
			if err := visit(header, in); err != nil {
				return nil, err
			}
		}
	}
	if _, err := io.Copy(io.Discard, plain); err != nil {
		return nil, fmt.Errorf("the parcel is damaged: %w", err)
	}
	p.Name = hex.EncodeToString(sum.Sum(nil))
	return p, nil
}

// Unpack writes the files of an archive into dir, which must not be there yet.
// They are made read-only, because attempts share them. A folder that is there
// is complete: it gets its name when the last file is written.
func Unpack(archive io.Reader, name, dir string) error {
	if err := os.MkdirAll(filepath.Dir(dir), 0o700); err != nil {
		return err
	}
	temporary, err := os.MkdirTemp(filepath.Dir(dir), ".unpacking-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(temporary)
	root, err := os.OpenRoot(temporary)
	if err != nil {
		return err
	}
	defer root.Close()
	found, err := Read(archive, func(h *tar.Header, content io.Reader) error {
		if folder := path.Dir(h.Name); folder != "." {
			if err := root.MkdirAll(folder, 0o755); err != nil {
				return err
			}
		}
		if h.Typeflag == tar.TypeSymlink {
			return root.Symlink(h.Linkname, h.Name)
		}
		file, err := root.OpenFile(h.Name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, fs.FileMode(h.Mode)&0o555)
		if err != nil {
			return err
		}
		_, err = io.Copy(file, content)
		return errors.Join(err, file.Close())
	})
	if err != nil {
		return fmt.Errorf("unpack parcel %.12s: %w", name, err)
	}
	if found.Name != name {
		return fmt.Errorf("unpack parcel %.12s: its content has the name %.12s; apply the project again", name, found.Name)
	}
	if err := os.Rename(temporary, dir); err != nil && !exists(dir) {
		return err
	}
	return nil
}

// Lay makes a working copy of an unpacked parcel in the folder to: folders of
// its own, and in them links to the same read-only files.
func Lay(from, to string) error {
	return again(from, to, func(name, target string, _ fs.DirEntry) error { return os.Link(name, target) })
}

// Copy makes a copy of an unpacked parcel in the new folder to, whose files may be
// written to.
func Copy(from, to string) error {
	if err := os.Mkdir(to, 0o755); err != nil {
		return err
	}
	return again(from, to, func(name, target string, entry fs.DirEntry) error {
		info, err := entry.Info()
		if err != nil {
			return err
		}
		text, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		return os.WriteFile(target, text, info.Mode().Perm()|0o200)
	})
}

// again makes the folders and the symbolic links of an unpacked parcel again in the
// folder to, and has its files made.
func again(from, to string, file func(name, target string, entry fs.DirEntry) error) error {
	return filepath.WalkDir(from, func(name string, entry fs.DirEntry, err error) error {
		if err != nil || name == from {
			return err
		}
		target := filepath.Join(to, strings.TrimPrefix(name, from))
		switch {
		case entry.IsDir():
			return os.Mkdir(target, 0o755)
		case entry.Type()&fs.ModeSymlink != 0:
			link, err := os.Readlink(name)
			if err != nil {
				return err
			}
			return os.Symlink(link, target)
		}
		return file(name, target, entry)
	})
}
