package store

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
)

// A data folder that was written with the first schema is opened, with what it holds.
func TestAnOlderSchemaIsBroughtUp(t *testing.T) {
	dir := t.TempDir()
	db, err := sqlx.Open("sqlite3", "file:"+filepath.Join(dir, "lantern.db"))
	if err != nil {
		t.Fatal(err)
	}
	steps, err := fs.Sub(migrations, "migrations")
	if err != nil {
		t.Fatal(err)
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, db.DB, steps)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := provider.UpTo(t.Context(), 1); err != nil {
		t.Fatal(err)
	}
	db.MustExec(`INSERT INTO workflows (name, version, last_run, decided_until) VALUES ('gauges', 1, 1, 0)`)
	db.MustExec(`INSERT INTO versions (workflow, number, definition, hash, parcel, project, environment, file, applied, applied_by) VALUES (1, 1, '{}', 'h', '', 'p', '', 'f', 1, 'kari')`)
	db.MustExec(`INSERT INTO runs (workflow, number, version, state, cause, caused_by, params, created) VALUES (1, 1, 1, 'running', 'person', 'kari', '{}', 1)`)
	db.MustExec(`INSERT INTO tasks (run, task, state) VALUES (1, 0, 'running')`)
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	s, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	workflows, err := s.Workflows(t.Context())
	if err != nil || len(workflows) != 1 || workflows[0].Removed.Valid {
		t.Errorf("%+v, %v", workflows, err)
	}
	if open, err := s.OpenRuns(t.Context()); err != nil || len(open) != 1 || open[0].Name != "gauges" {
		t.Errorf("%+v, %v", open, err)
	}
	if waits, err := s.OpenWaits(t.Context()); err != nil || len(waits) != 0 {
		t.Errorf("%+v, %v", waits, err)
	}
	if entries, err := os.ReadDir(dir); err != nil || len(entries) == 0 {
		t.Errorf("%v, %v", entries, err)
	}
}

// What a transaction has written, it reads; and an event is there once.
func TestEventsWithinATransaction(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	w := s.Writer
	add := func(id, kind, subject string, at int64) (int64, bool) {
		m := Moment{}
		m.Int64, m.Valid = at, true
		return w.AddEvent(Event{Source: "/a", Event: id, Type: kind, Subject: subject, Received: m, Via: "api", Envelope: "{}"})
	}
	w.Begin()
	first, isNew := add("1", "rain.heavy", "upper", 10)
	again, isNewAgain := add("1", "other", "", 20)
	add("2", "rain.light", "upper", 20)
	add("3", "rain.light", "lower", 30)
	if !isNew || isNewAgain || first != again {
		t.Errorf("%d %v, %d %v", first, isNew, again, isNewAgain)
	}
	since := func(at int64) Moment {
		m := Moment{}
		m.Int64, m.Valid = at, true
		return m
	}
	for _, one := range []struct {
		kind, subject string
		since, after  int64
		want          int
	}{{"rain.*", "", 0, 0, 3}, {"rain.light", "", 0, 0, 2}, {"rain.light", "lower", 0, 0, 1}, {"rain.*", "", 20, 0, 2}, {"rain.*", "", 0, 2, 1}, {"rain", "", 0, 0, 0}} {
		if got := w.EventsSince(one.kind, one.subject, since(one.since), one.after, 10); len(got) != one.want {
			t.Errorf("%+v: %d events", one, len(got))
		}
	}
	if err := w.Commit(); err != nil {
		t.Fatal(err)
	}
	if all, err := s.Events(t.Context(), EventFilter{Limit: 10, Unwanted: true, Type: "rain.*", Subject: "upper"}); err != nil || len(all) != 2 || all[0].Event != "2" {
		t.Errorf("%+v, %v", all, err)
	}
	for i := range mostRefusals + 10 {
		if i%1000 == 0 {
			w.Begin()
		}
		w.AddRefusal(Refusal{Via: "door", Reason: "no", Bytes: i, At: since(int64(i))})
		if i%1000 == 999 || i == mostRefusals+9 {
			if err := w.Commit(); err != nil {
				t.Fatal(err)
			}
		}
	}
	if list, err := s.Refusals(t.Context(), 20_000); err != nil || len(list) != mostRefusals || list[0].Bytes != mostRefusals+9 {
		t.Errorf("%d refusals are kept: %v", len(list), err)
	}
}
