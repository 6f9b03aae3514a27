// Package archive writes a data folder to one file while a service runs on it, and
// makes a folder of that file again.
//
// The file is a tar archive, compressed as Zstandard (RFC 8878): the databases, the
// parcels, and at the end contents.json with the SHA-256 of each. It may import
// service/store. What it keeps true: a file without its end, or with other bytes
// than were written, is refused, and nothing is left of it; a folder that holds
// something is not touched.
package archive

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"wiselantern/service/store"
)

// contentsName is the last entry of an archive.
const contentsName = "contents.json"

// Contents tell what is in an archive.
type Contents struct {
	Format int               `json:"format"` // 1
	Made   time.Time         `json:"made"`
	Files  map[string]string `json:"files"` // SHA-256 in hexadecimal, by name
	Bytes  int64             `json:"bytes"` // unpacked
}

// Write writes what a service has to an archive.
func Write(ctx context.Context, s *store.Store, out io.Writer) error {
	dir, err := os.MkdirTemp(s.Dir(), "backup-")
	if err != nil {
		return fmt.Errorf("there is no room for a copy of the databases: %w", err)
	}
	defer os.RemoveAll(dir)
	if err := s.CopyTo(ctx, dir); err != nil {
		return err
	}
	packed, err := zstd.NewWriter(out)
	if err != nil {
		return err
	}
	w := &writer{tar: tar.NewWriter(packed), contents: Contents{Format: 1, Made: time.Now().UTC(), Files: map[string]string{}}}
	for _, name := range []string{store.RecordsFile, store.LogsFile} {
		if err := w.add(name, filepath.Join(dir, name)); err != nil {
			return err
		}
	}
	parcels, err := os.ReadDir(filepath.Join(s.Dir(), "parcels"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, p := range parcels {
		if name := "parcels/" + p.Name(); fitting.MatchString(name) { // one that is just being kept has another name
			if err := w.add(name, filepath.Join(s.Dir(), name)); err != nil {
				return err
			}
		}
	}
	text, err := json.Marshal(w.contents)
	if err != nil {
		return err
	}
	if err := w.tar.WriteHeader(&tar.Header{Name: contentsName, Mode: 0o600, Size: int64(len(text)), ModTime: w.contents.Made}); err != nil {
		return err
	}
	if _, err := w.tar.Write(text); err != nil {
		return err
	}
	return errors.Join(w.tar.Close(), packed.Close())
}

type writer struct {
	tar      *tar.Writer
	contents Contents
}

func (w *writer) add(name, file string) error {
	in, err := os.Open(file)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	if err := w.tar.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: info.Size(), ModTime: w.contents.Made}); err != nil {
		return err
	}
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(w.tar, sum), in)
	w.contents.Files[name], w.contents.Bytes = hex.EncodeToString(sum.Sum(nil)), w.contents.Bytes+n
	return err
}

// fitting are the names that an archive may hold.
var fitting = regexp.MustCompile(`^(lantern\.db|logs\.db|parcels/[0-9a-f]{64}\.tar\.gz)$`)

// Check reads an archive to its end and tells what it holds.
func Check(in io.Reader) (Contents, error) {
	return read(in, func(string) (io.WriteCloser, error) { return nothing{io.Discard}, nil })
}

type nothing struct{ io.Writer }

func (nothing) Close() error { return nil }

// Restore makes a data folder of an archive. The folder must not be there, or be
// empty. After an error nothing is left of it.
func Restore(ctx context.Context, in io.Reader, dir string) (c Contents, err error) {
	fresh, err := besides(dir)
	if err != nil {
		return c, err
	}
	defer os.RemoveAll(fresh) // nothing, once it has its name
	c, err = read(in, func(name string) (io.WriteCloser, error) {
		name = filepath.Join(fresh, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
			return nil, err
		}
		return os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	})
	if err != nil {
		return c, err
	}
	return c, settle(ctx, fresh, dir)
}

// besides makes the folder in which a data folder is put together.
func besides(dir string) (fresh string, err error) {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return "", fmt.Errorf("the folder %s is not empty; name one that is not there yet, so that nothing is overwritten", dir)
	}
	fresh = strings.TrimRight(dir, "/") + ".restoring"
	if err := os.Mkdir(fresh, 0o700); err != nil {
		return "", fmt.Errorf("the folder %s cannot be made: %w; if an earlier restore was cut off, remove it", fresh, err)
	}
	return fresh, nil
}

// settle checks the databases that were put together, and gives their folder its name.
func settle(ctx context.Context, fresh, dir string) error {
	for _, name := range []string{store.RecordsFile, store.LogsFile} {
		damage, err := store.Damage(ctx, filepath.Join(fresh, name))
		if err != nil {
			return err
		}
		if damage != nil {
			return fmt.Errorf("the backup's %s is damaged: %s; use an older backup", name, strings.Join(damage, "; "))
		}
	}
	if err := os.Remove(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return os.Rename(fresh, dir)
}

// read goes through an archive and proves that all of it is there, as it was written.
func read(in io.Reader, create func(name string) (io.WriteCloser, error)) (c Contents, err error) {
	unpacked, err := zstd.NewReader(in)
	if err != nil {
		return c, fmt.Errorf("this is no backup: %w", err)
	}
	defer unpacked.Close()
	found := map[string]string{}
	entries := tar.NewReader(unpacked)
	for {
		entry, err := entries.Next()
		if err != nil {
			return c, fmt.Errorf("the backup is cut off or damaged (%w); make it again, or use an older one", err)
		}
		if entry.Name == contentsName {
			if err := json.NewDecoder(io.LimitReader(entries, 64<<20)).Decode(&c); err != nil {
				return c, fmt.Errorf("the backup does not tell what is in it: %w", err)
			}
			break
		}
		if !fitting.MatchString(entry.Name) || entry.Typeflag != tar.TypeReg {
			return c, fmt.Errorf("the backup has %q, which no backup of lantern has", entry.Name)
		}
		sum := sha256.New()
		out, err := create(entry.Name)
		if err != nil {
			return c, err
		}
		_, err = io.Copy(io.MultiWriter(out, sum), entries)
		if err = errors.Join(err, out.Close()); err != nil {
			return c, fmt.Errorf("%s of the backup cannot be unpacked: %w; if it is cut off or damaged, make it again, or use an older one", entry.Name, err)
		}
		found[entry.Name] = hex.EncodeToString(sum.Sum(nil))
	}
	if c.Format != 1 {
		return c, fmt.Errorf("the backup has format %d, and this version of lantern knows 1; use the version that wrote it", c.Format)
	}
	for name, sum := range c.Files {
		if found[name] != sum {
			return c, fmt.Errorf("%s of the backup is missing or not what was written; use an older backup", name)
		}
	}
	if len(found) != len(c.Files) {
		return c, errors.New("the backup has files that it does not tell of; use an older one")
	}
	return c, nil
}
