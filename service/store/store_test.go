package store

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
)

func open(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func TestAFolderHasOneService(t *testing.T) {
	dir := t.TempDir()
	first := open(t, dir)
	_, err := Open(context.Background(), dir)
	var used *InUseError
	if !errors.As(err, &used) || used.PID != fmt.Sprint(os.Getpid()) || !strings.Contains(err.Error(), "--data") {
		t.Fatalf("a second service: %v", err)
	}
	if err := first.Close(); err != nil {
		t.Fatal(err)
	}
	open(t, dir)
}

func TestANewerDatabaseIsNotTouched(t *testing.T) {
	for _, name := range []string{"lantern.db", "logs.db"} {
		dir := t.TempDir()
		open(t, dir).Close()
		db := sqlx.MustOpen("sqlite3", filepath.Join(dir, name))
		db.MustExec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, 1)`)
		db.MustExec(`PRAGMA wal_checkpoint(TRUNCATE)`)
		db.Close()
		before, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		_, err = Open(context.Background(), dir)
		var newer *NewerError
		if !errors.As(err, &newer) || newer.Found != 99 || !strings.Contains(err.Error(), "run the newer version") {
			t.Fatalf("%s: %v", name, err)
		}
		after, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil || string(before) != string(after) {
			t.Errorf("%s was changed (%v)", name, err)
		}
	}
}

func TestAFolderThatCannotBeWritten(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(file, []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	_, err := Open(context.Background(), filepath.Join(file, "data"))
	if err == nil || !strings.Contains(err.Error(), "cannot be made") || !strings.Contains(err.Error(), "--data") {
		t.Errorf("%v", err)
	}
	garbage := t.TempDir()
	if err := os.WriteFile(filepath.Join(garbage, "lantern.db"), []byte(strings.Repeat("not a database ", 400)), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(context.Background(), garbage); err == nil || !strings.Contains(err.Error(), "lantern.db") {
		t.Errorf("a damaged database: %v", err)
	}
}

func TestAReadOnlyFolderIsRefusedAndLeftAlone(t *testing.T) {
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=4m"); err != nil {
		t.Skipf("a disk of its own cannot be made here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	data := filepath.Join(dir, "data")
	open(t, data).Close()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", syscall.MS_REMOUNT|syscall.MS_RDONLY, "size=4m"); err != nil {
		t.Fatal(err)
	}
	for _, where := range []string{data, filepath.Join(dir, "another")} {
		_, err := Open(context.Background(), where)
		if !errors.Is(err, syscall.EROFS) || !strings.Contains(err.Error(), where) || !strings.Contains(err.Error(), "--data") {
			t.Errorf("%s: %v", where, err)
		}
	}
	if err := syscall.Mount("tmpfs", dir, "tmpfs", syscall.MS_REMOUNT, "size=4m"); err != nil {
		t.Fatal(err)
	}
	open(t, data) // as it was
}

// All of a transaction is there, or nothing of it.
func TestAFailedTransactionLeavesNothing(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := context.Background()
	now := At(time.Now())
	s.Writer.Begin()
	id := s.Writer.AddWorkflow(Workflow{Name: "gauges", Version: 1, DecidedUntil: now})
	run := s.Writer.AddRun(Run{Workflow: id, Number: 1, Version: 1, State: "queued", Params: "{}", Created: now}, 3)
	if err := s.Writer.Commit(); err != nil {
		t.Fatal(err)
	}
	s.Writer.Begin()
	s.Writer.SetRun(Run{ID: run, State: "running"})
	s.Writer.AddRun(Run{Workflow: id, Number: 1, Version: 1, State: "queued", Params: "{}", Created: now}, 1) // the number is taken
	s.Writer.SetRun(Run{ID: run, State: "failed"})
	if err := s.Writer.Commit(); err == nil {
		t.Fatal("the same number was recorded twice")
	}
	row, err := s.Run(ctx, "gauges", 1)
	if err != nil || row.State != "queued" {
		t.Errorf("%+v %v", row, err)
	}
	tasks, err := s.Tasks(ctx, run)
	if err != nil || len(tasks) != 3 || tasks[2].Task != 2 || tasks[2].State != "idle" {
		t.Errorf("%+v %v", tasks, err)
	}
	if _, err := s.Run(ctx, "gauges", 2); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
}

func TestAnAttemptIsRecordedOnce(t *testing.T) {
	s := open(t, t.TempDir())
	now := At(time.Now())
	s.Writer.Begin()
	id := s.Writer.AddWorkflow(Workflow{Name: "gauges", Version: 1, DecidedUntil: now})
	run := s.Writer.AddRun(Run{Workflow: id, Number: 1, Version: 1, State: "queued", Params: "{}", Created: now}, 1)
	s.Writer.AddAttempt(run, 0, 1, now)
	s.Writer.EndAttempt(Attempt{Run: run, Number: 1, State: "succeeded", Worker: "one", Ended: now})
	s.Writer.StartAttempt(run, 0, 1, "two", now) // overtaken by the report
	s.Writer.EndAttempt(Attempt{Run: run, Number: 1, State: "lost", Worker: "two", Ended: now})
	if err := s.Writer.Commit(); err != nil {
		t.Fatal(err)
	}
	attempts, err := s.Attempts(context.Background(), run)
	if err != nil || len(attempts) != 1 || attempts[0].State != "succeeded" || attempts[0].Worker != "one" {
		t.Errorf("%+v %v", attempts, err)
	}
}

// Lines come back as they were kept, from any line on, however they were cut
// into chunks, and a chunk that comes again is kept once.
func TestLogsComeBackFromAnyLine(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := context.Background()
	random := rand.New(rand.NewPCG(3, 4))
	of := LogOf{Run: 1, Task: 2, Attempt: 3}
	var all []Line
	for len(all) < 1000 {
		chunk := Chunk{Of: of, First: len(all)}
		for range 1 + random.IntN(40) {
			text := make([]byte, random.IntN(200))
			for i := range text {
				text[i] = byte(random.IntN(256))
			}
			chunk.Lines = append(chunk.Lines, Line{At: time.UnixMicro(random.Int64N(1e15)).UTC(), Error: random.IntN(2) == 0, Joined: random.IntN(2) == 0, Text: text})
		}
		for range 1 + random.IntN(2) {
			if err := s.Logs.Append(ctx, chunk); err != nil {
				t.Fatal(err)
			}
		}
		all = append(all, chunk.Lines...)
	}
	if n, err := s.Logs.Count(ctx, of); err != nil || n != len(all) {
		t.Fatalf("%d lines (%v), want %d", n, err, len(all))
	}
	for range 100 {
		from, limit := random.IntN(len(all)), 1+random.IntN(300)
		got, err := s.Logs.Lines(ctx, of, from, limit)
		if want := all[from:min(len(all), from+limit)]; err != nil || !reflect.DeepEqual(got, want) {
			t.Fatalf("%d lines from %d differ (%v)", limit, from, err)
		}
	}
	if got, err := s.Logs.Lines(ctx, of, len(all), 10); err != nil || len(got) != 0 {
		t.Errorf("behind the end: %v %v", got, err)
	}
	if got, err := s.Logs.Lines(ctx, LogOf{Run: 9}, 0, 10); err != nil || len(got) != 0 {
		t.Errorf("of another: %v %v", got, err)
	}
}

func FuzzUnpackLines(f *testing.F) {
	f.Add(packLines([]Line{{At: time.UnixMicro(5), Text: []byte("hi")}, {At: time.UnixMicro(3), Error: true}}))
	f.Fuzz(func(t *testing.T, data []byte) {
		lines, err := unpackLines(data, 1)
		if err == nil && len(lines) > len(data) {
			t.Fatalf("%d lines of %d bytes", len(lines), len(data))
		}
	})
}
