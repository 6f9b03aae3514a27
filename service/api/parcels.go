package api

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"wiselantern/parcel"
	"wiselantern/service/dispatch"
)

// Parcels keeps the archives of code in a folder, by name.
type Parcels struct{ Dir string }

func (p *Parcels) file(name string) string { return filepath.Join(p.Dir, name+".tar.gz") }

// Keep writes an archive to disk, once, and tells what it holds.
func (p *Parcels) Keep(archive []byte) (*parcel.Packed, error) {
	found, err := parcel.Read(bytes.NewReader(archive), nil)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(p.file(found.Name)); err == nil {
		return found, nil
	}
	if err := os.MkdirAll(p.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("keep the parcel: %w", err)
	}
	file, err := os.CreateTemp(p.Dir, ".new-")
	if err != nil {
		return nil, fmt.Errorf("keep the parcel: %w", err)
	}
	defer os.Remove(file.Name()) // nothing, once it has its name
	_, err = file.Write(archive)
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		return nil, fmt.Errorf("keep the parcel: %w", err)
	}
	return found, os.Rename(file.Name(), p.file(found.Name))
}

// Fetch opens an archive.
func (p *Parcels) Fetch(_ context.Context, name string) (io.ReadCloser, error) {
	if !parcel.IsName(name) {
		return nil, fmt.Errorf("%q is not the name of a parcel", name)
	}
	file, err := os.Open(p.file(name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the parcel is no longer in %s; apply the project again", p.Dir)
	}
	return file, err
}

// Piece reads a piece of an archive from a place in it on, in bytes, and tells whether
// it is the last.
func (p *Parcels) Piece(name string, from int64) (piece []byte, last bool, err error) {
	archive, err := p.Fetch(context.Background(), name)
	if err != nil {
		return nil, false, err
	}
	defer archive.Close()
	if _, err := archive.(io.Seeker).Seek(from, io.SeekStart); err != nil {
		return nil, false, err
	}
	piece, err = io.ReadAll(io.LimitReader(archive, dispatch.PieceSize))
	return piece, len(piece) < dispatch.PieceSize, err
}
