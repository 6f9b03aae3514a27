package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/mattn/go-sqlite3"
)

// The names of the databases in a data folder.
const (
	RecordsFile = "lantern.db"
	LogsFile    = "logs.db"
)

// CopyTo copies both databases into a folder while they are written to, each as it
// was at one moment (SQLite's online backup): first the records, then the logs,
// so that what is recorded of an attempt has its log.
func (s *Store) CopyTo(ctx context.Context, dir string) error {
	if err := copyDatabase(ctx, s.read, filepath.Join(dir, RecordsFile)); err != nil {
		return err
	}
	return copyDatabase(ctx, s.Logs.read, filepath.Join(dir, LogsFile))
}

func copyDatabase(ctx context.Context, from *sqlx.DB, name string) error {
	to, err := sql.Open("sqlite3", "file:"+name)
	if err != nil {
		return err
	}
	defer to.Close()
	source, err := from.Conn(ctx)
	if err != nil {
		return err
	}
	defer source.Close()
	target, err := to.Conn(ctx)
	if err != nil {
		return err
	}
	defer target.Close()
	err = target.Raw(func(toDriver any) error {
		return source.Raw(func(fromDriver any) error {
			backup, err := toDriver.(*sqlite3.SQLiteConn).Backup("main", fromDriver.(*sqlite3.SQLiteConn), "main")
			if err != nil {
				return err
			}
			_, err = backup.Step(-1) // all of it: in WAL mode that keeps nobody from writing
			return errors.Join(err, backup.Finish())
		})
	})
	if err != nil {
		return fmt.Errorf("copy to %s: %w", name, err)
	}
	return nil
}

// Damage tells what is wrong with a database file, nothing if it is sound.
func Damage(ctx context.Context, name string) ([]string, error) {
	db, err := sqlx.Open("sqlite3", "file:"+name+"?mode=ro&_query_only=on")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	found, err := many[string](ctx, db, `PRAGMA integrity_check(20)`)
	if err != nil {
		return []string{err.Error()}, nil
	}
	if len(found) == 1 && found[0] == "ok" {
		return nil, nil
	}
	return found, nil
}

// Readable tells whether this version of lantern knows the schemas of a data folder;
// nothing is changed.
func Readable(ctx context.Context, dir string) error {
	records, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	logs, err := fs.Sub(logMigrations, "logmigrations")
	if err != nil {
		return err
	}
	return errors.Join(refuseNewer(ctx, filepath.Join(dir, RecordsFile), records), refuseNewer(ctx, filepath.Join(dir, LogsFile), logs))
}

// NewestChange is the moment of the newest change that is recorded in a data folder,
// zero if there is none.
func NewestChange(ctx context.Context, dir string) (time.Time, error) {
	db, err := sqlx.Open("sqlite3", "file:"+filepath.Join(dir, RecordsFile)+"?mode=ro&_query_only=on&_busy_timeout=5000")
	if err != nil {
		return time.Time{}, err
	}
	defer db.Close()
	at, err := one[Moment](ctx, db, `SELECT max(at) FROM transitions WHERE id = (SELECT max(id) FROM transitions)`)
	return at.Time(), err
}

// Holder is the number of the process that has a data folder, "" if none has.
func Holder(dir string) string {
	name := filepath.Join(dir, "lock")
	file, err := os.OpenFile(name, os.O_RDWR, 0)
	if err != nil {
		return ""
	}
	defer file.Close() // which gives the lock free
	if !errors.Is(syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB), syscall.EWOULDBLOCK) {
		return ""
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return "unknown"
	}
	return strings.TrimSpace(string(text))
}
