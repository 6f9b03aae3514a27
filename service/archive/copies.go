package archive

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"github.com/benbjohnson/litestream"
	"github.com/benbjohnson/litestream/file"

	"wiselantern/service/store"
)

// Copies keep a folder a second or so behind the databases while a service runs, and
// copy parcels and the token too. The folder may be on another disk, or a machine's that
// is mounted. Every change of a database is copied as it was committed; it can be made a
// data folder of again as it stood at its newest copy.
type Copies struct {
	databases []*litestream.DB
	from, to  string
	log       *slog.Logger
	stop      context.CancelFunc
	done      chan struct{}
	last      error
}

// databases are the files that are copied change by change.
var copiedDatabases = []string{store.RecordsFile, store.LogsFile}

const (
	keptCopies  = 24 * time.Hour // how long older states stay
	parcelEvery = 2 * time.Second
)

// Copy begins to copy a data folder, whose databases are open, to another folder.
func Copy(data, to string, log *slog.Logger) (*Copies, error) {
	to, err := filepath.Abs(to)
	if err != nil {
		return nil, err
	}
	if inside, err := filepath.Rel(data, to); err == nil && filepath.IsLocal(inside) {
		return nil, fmt.Errorf("the copies would be within the data folder %s; name a folder on another disk", data)
	}
	if err := os.MkdirAll(filepath.Join(to, "parcels"), 0o700); err != nil {
		return nil, fmt.Errorf("the folder of the copies cannot be made: %w", err)
	}
	ctx, stop := context.WithCancel(context.Background())
	c := &Copies{from: data, to: to, log: log, stop: stop, done: make(chan struct{})}
	for _, name := range copiedDatabases {
		db := litestream.NewDB(filepath.Join(data, name))
		db.Logger = slog.New(slog.DiscardHandler)
		replica := litestream.NewReplica(db, "copies")
		client := file.NewReplicaClient(filepath.Join(to, name))
		client.Replica, replica.Client, replica.Retention = replica, client, keptCopies
		db.Replicas = append(db.Replicas, replica)
		if err := db.Open(); err != nil {
			stop()
			return nil, errors.Join(fmt.Errorf("%s cannot be copied: %w", name, err), c.close())
		}
		c.databases = append(c.databases, db)
	}
	go func() {
		defer close(c.done)
		every := time.NewTicker(parcelEvery)
		defer every.Stop()
		for {
			c.files()
			select {
			case <-ctx.Done():
				return
			case <-every.C:
			}
		}
	}()
	return c, nil
}

// files copies what is not in the databases and not there yet.
func (c *Copies) files() {
	parcels, err := filepath.Glob(filepath.Join(c.from, "parcels", "*.tar.gz"))
	if token := filepath.Join(c.from, "token"); exists(token) { // it is made a little later than the databases
		parcels = append(parcels, token)
	}
	for _, name := range parcels {
		inside, relErr := filepath.Rel(c.from, name)
		err = errors.Join(err, relErr)
		if relErr == nil {
			err = errors.Join(err, copyFile(name, filepath.Join(c.to, inside)))
		}
	}
	if err != nil && c.last == nil {
		c.log.Warn("not all files can be copied now; it is tried again", "to", c.to, "error", err)
	}
	c.last = err
}

func exists(name string) bool {
	_, err := os.Stat(name)
	return err == nil
}

// copyFile copies a file that is not there yet, whole or not at all.
func copyFile(from, to string) error {
	if _, err := os.Stat(to); err == nil {
		return nil
	}
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to+".part", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close(), os.Rename(to+".part", to))
}

// Close copies what is left, and ends.
func (c *Copies) Close() error {
	c.stop()
	<-c.done
	return c.close()
}

func (c *Copies) close() (err error) {
	for _, db := range c.databases {
		err = errors.Join(err, db.Close())
	}
	return err
}

// IsCopies tells whether a folder holds copies.
func IsCopies(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, copiedDatabases[0], "generations"))
	return err == nil
}

// RestoreCopies makes a data folder of copies, as they stand. The folder must not be
// there, or be empty.
func RestoreCopies(ctx context.Context, from, dir string) (c Contents, err error) {
	fresh, err := besides(dir)
	if err != nil {
		return c, err
	}
	defer os.RemoveAll(fresh) // nothing, once it has its name
	c.Format, c.Files = 1, map[string]string{}
	for _, name := range copiedDatabases {
		replica := litestream.NewReplica(nil, "copies")
		replica.Client = file.NewReplicaClient(filepath.Join(from, name))
		options := litestream.NewRestoreOptions()
		options.OutputPath = filepath.Join(fresh, name)
		generation, updated, err := replica.CalcRestoreTarget(ctx, options)
		if err == nil && generation == "" {
			err = errors.New("there is no whole copy in it")
		}
		if err == nil {
			options.Generation = generation
			err = replica.Restore(ctx, options)
		}
		if err != nil {
			return c, fmt.Errorf("%s cannot be made of the copies in %s: %w", name, from, err)
		}
		if c.Made.IsZero() || updated.Before(c.Made) {
			c.Made = updated
		}
		c.Files[name] = ""
	}
	files, err := filepath.Glob(filepath.Join(from, "parcels", "*.tar.gz"))
	if err == nil {
		err = os.MkdirAll(filepath.Join(fresh, "parcels"), 0o700)
	}
	if token := filepath.Join(from, "token"); exists(token) {
		files = append(files, token)
	}
	for _, name := range files {
		inside, relErr := filepath.Rel(from, name)
		if err = errors.Join(err, relErr); err == nil {
			err = copyFile(name, filepath.Join(fresh, inside))
			c.Files[inside] = ""
		}
	}
	if err != nil {
		return c, err
	}
	for name := range c.Files {
		info, err := os.Stat(filepath.Join(fresh, name))
		if err != nil {
			return c, err
		}
		c.Bytes += info.Size()
	}
	return c, settle(ctx, fresh, dir)
}
