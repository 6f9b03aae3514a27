// Package store keeps the records in SQLite: lantern.db for everything that is
// decided, logs.db for what tasks print.
//
// It may import core and libraries. What it keeps true: one process at a time
// has a data folder; one writer writes, and what Commit returned from is on
// disk (WAL, synchronous=FULL); a folder written by a newer version is refused
// before anything in it is changed.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jmoiron/sqlx"
	_ "github.com/mattn/go-sqlite3" // the driver "sqlite3"
	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

//go:embed logmigrations/*.sql
var logMigrations embed.FS

// Store is an open data folder. Reads may come from any goroutine; there is one
// Writer.
type Store struct {
	Writer *Writer
	Logs   *Logs

	dir  string
	read *sqlx.DB
	lock *os.File

	closed bool
}

// Open locks the data folder, makes it if it is not there, and brings its
// databases to the newest schema.
func Open(ctx context.Context, dir string) (_ *Store, err error) {
	dir, err = filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	s := &Store{dir: dir}
	defer func() {
		if err != nil {
			s.Close()
		}
	}()
	if s.lock, err = lockFolder(dir); err != nil {
		return nil, err
	}
	records := filepath.Join(dir, "lantern.db")
	write, err := openDatabase(ctx, records, "FULL", "&_auto_vacuum=incremental", migrations, "migrations")
	if err != nil {
		return nil, err
	}
	// The log that is written ahead goes into the database when it has 32 MB: page by page,
	// so that what is written often goes in once.
	if _, err := write.ExecContext(ctx, `PRAGMA wal_autocheckpoint = 8000`); err != nil {
		write.Close()
		return nil, fmt.Errorf("prepare to write %s: %w", records, err)
	}
	if s.Writer, err = newWriter(ctx, write); err != nil {
		return nil, fmt.Errorf("prepare to write %s: %w", records, err)
	}
	if s.read, err = sqlx.Open("sqlite3", "file:"+records+"?mode=ro&_busy_timeout=5000&_query_only=on&_stmt_cache_size=64"); err != nil {
		return nil, err
	}
	s.read.SetMaxOpenConns(4)
	s.read.SetMaxIdleConns(4)
	s.Logs, err = OpenLogs(ctx, filepath.Join(dir, "logs.db"))
	return s, err
}

// Dir is the absolute path of the data folder.
func (s *Store) Dir() string { return s.dir }

// Close ends all connections and gives the folder free. Closing twice is closing
// once.
func (s *Store) Close() error {
	if s.closed {
		return nil
	}
	s.closed = true
	var errs []error
	if s.Logs != nil {
		errs = append(errs, s.Logs.Close())
	}
	if s.read != nil {
		errs = append(errs, s.read.Close())
	}
	if s.Writer != nil {
		errs = append(errs, s.Writer.close())
	}
	if s.lock != nil {
		errs = append(errs, s.lock.Close()) // which gives the lock free
	}
	return errors.Join(errs...)
}

// InUseError says that another process has the data folder.
type InUseError struct {
	Dir string
	PID string
}

func (e *InUseError) Error() string {
	return fmt.Sprintf("the data folder %s is in use by another service (process %s); stop that one first, or give this one its own folder with --data", e.Dir, e.PID)
}

func lockFolder(dir string) (*os.File, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder %s cannot be made: %w; choose another with --data", dir, err)
	}
	name := filepath.Join(dir, "lock")
	file, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the data folder %s cannot be written: %w; make it writable, or choose another with --data", dir, err)
	}
	err = syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	// A child that a killed service was just starting shares its lock until it
	// becomes another program.
	for range 100 {
		if !errors.Is(err, syscall.EWOULDBLOCK) || holderLives(name) {
			break
		}
		time.Sleep(20 * time.Millisecond)
		err = syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	}
	if err != nil {
		defer file.Close()
		pid, readErr := os.ReadFile(name)
		if !errors.Is(err, syscall.EWOULDBLOCK) || readErr != nil {
			return nil, fmt.Errorf("the data folder %s cannot be locked: %w", dir, err)
		}
		return nil, &InUseError{Dir: dir, PID: strings.TrimSpace(string(pid))}
	}
	if err = file.Truncate(0); err == nil {
		_, err = file.WriteAt([]byte(strconv.Itoa(os.Getpid())+"\n"), 0)
	}
	if err != nil {
		file.Close()
		return nil, fmt.Errorf("the data folder %s cannot be written: %w; free some space there, or choose another with --data", dir, err)
	}
	return file, nil
}

// holderLives tells whether the process that wrote its number into the lock is
// still there.
func holderLives(name string) bool {
	text, err := os.ReadFile(name)
	if err != nil {
		return true
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
	return err != nil || !errors.Is(syscall.Kill(pid, 0), syscall.ESRCH)
}

// NewerError says that a database was written by a newer version.
type NewerError struct {
	File         string
	Found, Known int64
}

func (e *NewerError) Error() string {
	return fmt.Sprintf("%s has schema %d, and this version of lantern knows schemas up to %d; run the newer version that wrote it (nothing was changed)", e.File, e.Found, e.Known)
}

func openDatabase(ctx context.Context, name, synchronous, more string, files embed.FS, folder string) (*sqlx.DB, error) {
	steps, err := fs.Sub(files, folder)
	if err != nil {
		return nil, err
	}
	if err := refuseNewer(ctx, name, steps); err != nil {
		return nil, err
	}
	db, err := sqlx.Open("sqlite3", "file:"+name+"?_journal_mode=WAL&_synchronous="+synchronous+more+"&_busy_timeout=10000&_foreign_keys=on")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	if err := freeSpaceGoesBack(ctx, db); err != nil {
		db.Close()
		return nil, fmt.Errorf("%s cannot be opened: %w; see that the folder is writable and has room", name, err)
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, db.DB, steps)
	if err == nil {
		_, err = provider.Up(ctx)
	}
	if err != nil {
		db.Close()
		return nil, fmt.Errorf("%s cannot be opened: %w; see that the folder is writable and has room", name, err)
	}
	return db, nil
}

// freeSpaceGoesBack has a database that was made without it give space back; it is
// written anew once for that, where there is room (SQLite, PRAGMA auto_vacuum).
func freeSpaceGoesBack(ctx context.Context, db *sqlx.DB) error {
	var mode, pages int
	if err := db.GetContext(ctx, &mode, `PRAGMA auto_vacuum`); err != nil {
		return err
	}
	if err := db.GetContext(ctx, &pages, `PRAGMA page_count`); err != nil || mode != 0 || pages == 0 {
		return err
	}
	if _, err := db.ExecContext(ctx, `PRAGMA auto_vacuum = INCREMENTAL`); err != nil {
		return err
	}
	_, _ = db.ExecContext(ctx, `VACUUM`) // without room it stays as it was
	return nil
}

// refuseNewer looks at the schema without writing to the file.
func refuseNewer(ctx context.Context, name string, steps fs.FS) error {
	if _, err := os.Stat(name); err != nil {
		return nil // it will be made
	}
	entries, err := fs.Glob(steps, "*.sql")
	if err != nil {
		return err
	}
	var known int64
	for _, entry := range entries {
		number, _ := strconv.ParseInt(strings.SplitN(entry, "_", 2)[0], 10, 64)
		known = max(known, number)
	}
	db, err := sqlx.Open("sqlite3", "file:"+name+"?mode=ro&_query_only=on")
	if err != nil {
		return err
	}
	defer db.Close()
	var tables int
	if err := db.GetContext(ctx, &tables, `SELECT count(*) FROM sqlite_master WHERE name = 'goose_db_version'`); err != nil {
		return fmt.Errorf("%s cannot be read: %w; if it is damaged, put a copy of it in its place", name, err)
	}
	if tables == 0 {
		return nil
	}
	var found sql.NullInt64
	if err := db.GetContext(ctx, &found, `SELECT max(version_id) FROM goose_db_version WHERE is_applied`); err != nil {
		return fmt.Errorf("%s cannot be read: %w", name, err)
	}
	if found.Int64 > known {
		return &NewerError{File: name, Found: found.Int64, Known: known}
	}
	return nil
}

// Moment is a moment as the databases keep it: microseconds since
// 1970-01-01T00:00Z, or NULL for one that has not come.
type Moment struct{ sql.NullInt64 }

// At is t as a Moment; the zero time is NULL.
func At(t time.Time) Moment {
	if t.IsZero() {
		return Moment{}
	}
	return Moment{sql.NullInt64{Int64: t.UnixMicro(), Valid: true}}
}

// Time is the moment in UTC, zero for NULL.
func (m Moment) Time() time.Time {
	if !m.Valid {
		return time.Time{}
	}
	return time.UnixMicro(m.Int64).UTC()
}
