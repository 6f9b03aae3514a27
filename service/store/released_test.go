package store

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/klauspost/compress/zstd"
)

// The databases in testdata were written by the versions that had these schemas, and
// cut off by SIGKILL with a run that goes on. Each is opened with all that it holds.
func TestDatabasesOfEveryReleasedSchema(t *testing.T) {
	names, err := filepath.Glob("testdata/schema-*.tar.zst")
	if err != nil || len(names) < 3 {
		t.Fatalf("%v, %v", names, err)
	}
	for n, name := range names {
		t.Run(filepath.Base(name), func(t *testing.T) {
			dir := t.TempDir()
			unpack(t, name, dir)
			s, err := Open(t.Context(), dir)
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			runs, err := s.Runs(t.Context(), RunFilter{Limit: 100})
			if err != nil || len(runs) < 3 {
				t.Fatalf("%d runs, %v", len(runs), err)
			}
			states := map[string]int{}
			for _, run := range runs {
				states[run.State]++
				tasks, err := s.Tasks(t.Context(), run.ID)
				if err != nil || len(tasks) == 0 {
					t.Errorf("%s:%d has %d tasks, %v", run.Name, run.Number, len(tasks), err)
				}
				if run.Name == "gauges" && run.State == "succeeded" {
					lines, err := s.Logs.Lines(t.Context(), LogOf{Run: run.ID, Attempt: 1}, 0, 10)
					if err != nil || len(lines) != 1 || string(lines[0].Text) != "reading" {
						t.Errorf("the log of %s:%d is %v, %v", run.Name, run.Number, lines, err)
					}
				}
			}
			if states["running"] != 1 || states["succeeded"] == 0 || states["failed"] == 0 {
				t.Errorf("the runs are %v", states)
			}
			if open, err := s.OpenAttempts(t.Context()); err != nil || len(open) != 1 || open[0].Ended.Valid {
				t.Errorf("the attempts that go on are %v, %v", open, err)
			}
			for _, file := range []string{RecordsFile, LogsFile} {
				if damage, err := Damage(t.Context(), filepath.Join(dir, file)); err != nil || damage != nil {
					t.Errorf("%s: %v, %v", file, damage, err)
				}
			}
			var mode, version int
			if err := s.read.GetContext(t.Context(), &mode, `PRAGMA auto_vacuum`); err != nil || mode != 2 {
				t.Errorf("its space is not given back: %d, %v", mode, err)
			}
			if err := s.read.GetContext(t.Context(), &version, `SELECT max(version_id) FROM goose_db_version`); err != nil || version <= n+1 && n+1 < len(names) {
				t.Errorf("it has schema %d, %v", version, err)
			}
			// What the newest version writes can be written.
			s.Writer.Begin()
			s.Writer.ForgetRuns([]int64{runs[len(runs)-1].ID}, At(runs[0].Created.Time()))
			s.Writer.GiveBack(10)
			if err := s.Writer.Commit(); err != nil {
				t.Error(err)
			}
		})
	}
}

func unpack(t *testing.T, name, dir string) {
	t.Helper()
	file, err := os.Open(name)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	unpacked, err := zstd.NewReader(file)
	if err != nil {
		t.Fatal(err)
	}
	defer unpacked.Close()
	for entries := tar.NewReader(unpacked); ; {
		entry, err := entries.Next()
		if errors.Is(err, io.EOF) {
			return
		}
		if err != nil {
			t.Fatal(fmt.Errorf("%s: %w", name, err))
		}
		text, err := io.ReadAll(entries)
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, entry.Name), text, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}
