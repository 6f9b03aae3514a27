package service_test

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	_ "github.com/jackc/pgx/v5/stdlib"
	_ "github.com/mattn/go-sqlite3"

	"wiselantern/client"
	"wiselantern/internal/testkit"
)

// A wait asks a database until a condition holds: a real PostgreSQL, and SQLite. It
// can only read.
func TestAWaitForAQuery(t *testing.T) {
	postgres, file := testkit.Postgres(t), filepath.Join(t.TempDir(), "gauges.db")
	for name, one := range map[string]struct{ driver, source, address, place string }{
		"PostgreSQL": {"pgx", postgres, postgres, "$1"},
		"SQLite":     {"sqlite3", file, "sqlite:" + file, "?"},
	} {
		t.Run(name, func(t *testing.T) {
			db, err := sql.Open(one.driver, one.source)
			if err != nil {
				t.Fatal(err)
			}
			defer db.Close()
			do := func(query string) {
				t.Helper()
				if _, err := db.Exec(query); err != nil {
					t.Fatal(err)
				}
			}
			do("CREATE TABLE other (name text)")
			s := testkit.Start(t)
			ctx := testkit.Context(t)
			s.Apply(t, fmt.Sprintf(`
workflow: w
if_running: alongside
params: {station: {type: text, default: "G01"}}
tasks:
  rows: {wait: {query: "SELECT station, level FROM readings WHERE station = %s", with: ["${params.station}"], connection: gauges, holds: "rows[0].level > 2.0", check: 1s, growth: 1}}
  spoils: {wait: {query: "DELETE FROM readings", connection: gauges, check: 1s}, timeout: 3s, may_fail: true}
  after: {after: rows, shell: 'echo "$LEVEL"', env: {LEVEL: "${task('rows').result.rows[0].level}"}}`, one.place))
			run := s.Begin(t, "w")
			says := func(want string) {
				t.Helper()
				s.Until(t, run.ID, func(client.Run) bool { return strings.Contains(s.Log(t, run.ID, "rows", 1), want) })
			}
			says("nobody has said what the connection \"gauges\" is; say lantern connection set gauges ADDRESS")
			if made, err := s.SetConnection(ctx, "gauges", one.address); err != nil || strings.Contains(made.Address, "secret") {
				t.Fatalf("%+v, %v", made, err)
			}
			says("readings") // there is no such table
			do("CREATE TABLE readings (station text, level double precision)")
			says("0 rows")
			do("INSERT INTO readings VALUES ('G02', 9), ('G01', 1.5)")
			says("its holds is false")
			do("UPDATE readings SET level = 2.5 WHERE station = 'G01'")
			done := s.End(t, run.ID)
			if log := s.Log(t, run.ID, "after", 1); done.State != "succeeded" || log != "out 2.5\n" {
				t.Errorf("%s, and what came after was given %q", done.State, log)
			}
			if log := s.Log(t, run.ID, "spoils", 1); !strings.Contains(log, "read") {
				t.Errorf("a query that writes: %q", log)
			}
			var left int
			if err := db.QueryRow("SELECT count(*) FROM readings").Scan(&left); err != nil || left != 2 {
				t.Errorf("%d rows are left: %v", left, err)
			}
		})
	}
	s := testkit.Start(t)
	for want, address := range map[string]string{"no such database is known": "oracle://x", "is not absolute": "sqlite:gauges.db", "is empty": ""} {
		if _, err := s.SetConnection(testkit.Context(t), "x", address); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", address, err)
		}
	}
	if err := s.RemoveConnection(testkit.Context(t), "nobody"); err == nil {
		t.Error("a connection that is not there was removed")
	}
}
