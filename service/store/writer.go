package store

import (
	"context"
	"fmt"
	"strings"

	"github.com/jmoiron/sqlx"
)

// Writer is the one connection that writes lantern.db. It is not safe for
// concurrent use: the engine's loop owns it.
//
// Between Begin and Commit its first error is kept: later writes do nothing, and
// Commit rolls back and returns it. So a caller writes without looking and looks
// once.
type Writer struct {
	db          *sqlx.DB
	conn        *sqlx.Conn
	statements  map[string]*sqlx.Stmt
	transitions []Transition // to be written, together
	tasks       []Task       // the same
	err         error
}

func newWriter(ctx context.Context, db *sqlx.DB) (*Writer, error) {
	conn, err := db.Connx(ctx)
	if err != nil {
		db.Close()
		return nil, err
	}
	return &Writer{db: db, conn: conn, statements: map[string]*sqlx.Stmt{}}, nil
}

func (w *Writer) close() error {
	for _, s := range w.statements {
		s.Close()
	}
	w.conn.Close()
	return w.db.Close()
}

// Begin starts a transaction.
func (w *Writer) Begin() {
	w.err, w.transitions, w.tasks = nil, w.transitions[:0], w.tasks[:0]
	w.exec("BEGIN IMMEDIATE")
}

// Commit ends the transaction. When it returns nil, everything written since
// Begin is on disk; otherwise nothing is.
func (w *Writer) Commit() error {
	w.writeGathered()
	w.exec("COMMIT")
	if w.err != nil {
		err := w.err
		w.Rollback()
		return fmt.Errorf("record to %s: %w", "lantern.db", err)
	}
	return nil
}

// Rollback gives up the transaction.
func (w *Writer) Rollback() {
	// An error means that SQLite has rolled back already.
	_, _ = w.conn.ExecContext(context.Background(), "ROLLBACK")
	w.err, w.transitions, w.tasks = nil, w.transitions[:0], w.tasks[:0]
}

// Err is the first error since Begin.
func (w *Writer) Err() error { return w.err }

// Probe writes something without meaning, so that Commit tells whether the disk
// takes it.
func (w *Writer) Probe() { w.exec(`PRAGMA user_version = 1`) }

func (w *Writer) exec(query string, args ...any) (last int64) {
	last, _ = w.insert(query, args...)
	return last
}

// insert is exec that tells whether a row was written.
func (w *Writer) insert(query string, args ...any) (last int64, written bool) {
	statement := w.statement(query)
	if statement == nil {
		return 0, false
	}
	result, err := statement.Exec(args...)
	if err != nil {
		w.err = err
		return 0, false
	}
	rows, _ := result.RowsAffected() // SQLite knows both
	last, _ = result.LastInsertId()
	return last, rows > 0
}

// statement is the prepared statement of a query, nil after an error.
func (w *Writer) statement(query string) *sqlx.Stmt {
	if w.err != nil {
		return nil
	}
	statement, ok := w.statements[query]
	if !ok {
		if statement, w.err = w.conn.PreparexContext(context.Background(), query); w.err != nil {
			return nil
		}
		w.statements[query] = statement
	}
	return statement
}

// get reads one row within the transaction, and all reads several: what was written
// since Begin is seen. Into is left as it is after an error.
func (w *Writer) get(into any, query string, args ...any) {
	w.writeGathered()
	if statement := w.statement(query); statement != nil {
		w.err = statement.Get(into, args...)
	}
}

func (w *Writer) all(into any, query string, args ...any) {
	w.writeGathered()
	if statement := w.statement(query); statement != nil {
		w.err = statement.Select(into, args...)
	}
}

// AddParcel records a parcel, once.
func (w *Writer) AddParcel(hash string, bytes int64, files int, added Moment) {
	w.exec(`INSERT INTO parcels (hash, bytes, files, added) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING`, hash, bytes, files, added)
}

// AddWorkflow records a new workflow and returns its id.
func (w *Writer) AddWorkflow(row Workflow) int64 {
	return w.exec(`INSERT INTO workflows (name, version, decided_until, covered) VALUES (?, ?, ?, ?)`, row.Name, row.Version, row.DecidedUntil, row.Covered)
}

// SetWorkflow records all that changes of a workflow.
func (w *Writer) SetWorkflow(row Workflow) {
	w.exec(`UPDATE workflows SET version = ?, last_run = ?, paused_at = ?, paused_by = ?, decided_until = ?, covered = ? WHERE id = ?`,
		row.Version, row.LastRun, row.PausedAt, row.PausedBy, row.DecidedUntil, row.Covered, row.ID)
}

// AddVersion records a version of a workflow.
func (w *Writer) AddVersion(row Version) {
	w.exec(`INSERT INTO versions (workflow, number, definition, hash, parcel, project, environment, file, applied, applied_by) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		row.Workflow, row.Number, row.Definition, row.Hash, row.Parcel, row.Project, row.Environment, row.File, row.Applied, row.AppliedBy)
}

// AddRun records a new run with that many idle tasks and returns its id.
func (w *Writer) AddRun(row Run, tasks int) int64 {
	id := w.exec(`INSERT INTO runs (workflow, number, version, state, cause, caused_by, outer_run, outer_task, outer_attempt, window_start, window_end, due, newest, backfill, params, watermarks, created, due_by)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		row.Workflow, row.Number, row.Version, row.State, row.Cause, row.CausedBy, row.OuterRun, row.OuterTask, row.OuterAttempt, row.WindowStart, row.WindowEnd, row.Due, row.Newest, row.Backfill, row.Params, row.Watermarks, row.Created, row.DueBy)
	w.exec(`INSERT INTO tasks (run, task, state)
		WITH RECURSIVE place (n) AS (SELECT 0 UNION ALL SELECT n + 1 FROM place WHERE n + 1 < ?) SELECT ?, n, 'idle' FROM place`, tasks, id)
	return id
}

// SetRun records all that changes of a run.
func (w *Writer) SetRun(row Run) {
	w.exec(`UPDATE runs SET state = ?, stopping = ?, attention = ?, params = ?, started = ?, deadline = ?, ended = ?, result = ?, due_by = ?, late = ?, late_reason = ?, cpu = ?, busy = ?, peak = ?, counts = ? WHERE id = ?`,
		row.State, row.Stopping, row.Attention, row.Params, row.Started, row.Deadline, row.Ended, row.Result, row.DueBy, row.Late, row.LateReason, row.CPU, row.Busy, row.Peak, row.Counts, row.ID)
}

// SetTask records all that changes of a task, which is there.
func (w *Writer) SetTask(row Task) { w.tasks = append(w.tasks, row) }

// AddItem records an item of a task, behind the tasks that the run has.
func (w *Writer) AddItem(row Task) {
	w.exec(`INSERT INTO tasks (run, task, state, item_of, item, value) VALUES (?, ?, ?, ?, ?, ?)`, row.Run, row.Task, row.State, row.ItemOf, row.Item, row.Value)
}

// AddAttempt records an attempt that is to be sent.
func (w *Writer) AddAttempt(run int64, task, number int, sent Moment) {
	w.exec(`INSERT INTO attempts (run, task, number, state, sent) VALUES (?, ?, ?, 'sent', ?)`, run, task, number, sent)
}

// StartAttempt records that a worker has begun an attempt.
func (w *Writer) StartAttempt(run int64, task, number int, worker string, started Moment) {
	w.exec(`UPDATE attempts SET state = 'running', worker = ?, started = ? WHERE run = ? AND task = ? AND number = ? AND state = 'sent'`,
		worker, started, run, task, number)
}

// ParkAttempt records that an attempt waits for a run that it has started.
func (w *Writer) ParkAttempt(run int64, task, number int, at Moment, inner int64) {
	w.exec(`UPDATE attempts SET state = 'waiting', started = ?, inner_run = ? WHERE run = ? AND task = ? AND number = ? AND state = 'sent'`, at, inner, run, task, number)
}

// EndAttempt records how and when an attempt ended, if it has not. The start that the
// report tells is kept if no word of it came before.
func (w *Writer) EndAttempt(row Attempt) {
	w.exec(`UPDATE attempts SET state = ?, worker = CASE worker WHEN '' THEN ? ELSE worker END, started = coalesce(started, ?), ended = ?, exit_code = ?, error = ?, result = ?, cpu = ?, peak = ?
		WHERE run = ? AND task = ? AND number = ? AND ended IS NULL`,
		row.State, row.Worker, row.Started, row.Ended, row.ExitCode, row.Error, row.Result, row.CPU, row.Peak, row.Run, row.Task, row.Number)
}

// AddLateReport records a report of an attempt that had ended in another way before,
// once, and nothing else.
func (w *Writer) AddLateReport(row Attempt, received Moment) {
	w.exec(`INSERT INTO late_reports (run, task, attempt, worker, state, started, ended, exit_code, error, received)
		SELECT ?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10 FROM attempts
		WHERE run = ?1 AND task = ?2 AND number = ?3 AND ended <> ?7 ON CONFLICT DO NOTHING`,
		row.Run, row.Task, row.Number, row.Worker, row.State, row.Started, row.Ended, row.ExitCode, row.Error, received)
}

// AddDecision records that due windows get no run.
func (w *Writer) AddDecision(row Decision) {
	w.exec(`INSERT INTO decisions (workflow, at, kind, reason, count, due_first, due_last, window_start, window_end) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		row.Workflow, row.At, row.Kind, row.Reason, row.Count, row.DueFirst, row.DueLast, row.WindowStart, row.WindowEnd)
}

// AddTransition records a change of state. Its id is larger than those of before.
func (w *Writer) AddTransition(row Transition) { w.transitions = append(w.transitions, row) }

// writeGathered writes the tasks and the changes of state that were gathered: several rows
// of a statement take half as long as one each.
func (w *Writer) writeGathered() {
	inGroups(w.tasks, func(rows []Task) {
		args := make([]any, 0, 15*len(rows))
		for _, t := range rows {
			args = append(args, t.Run, t.Task, t.State, t.Attempts, t.Before, t.Lost, t.Stopping, t.Reason, t.Chosen, t.Cleared, t.Items, t.Value, t.Wake, t.Started, t.Ended)
		}
		const one = `, (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`
		w.exec(`INSERT INTO tasks (run, task, state, attempts, before, lost, stopping, reason, chosen, cleared, items, value, wake, started, ended) VALUES `+strings.Repeat(one, len(rows))[2:]+`
			ON CONFLICT (run, task) DO UPDATE SET state = excluded.state, attempts = excluded.attempts, before = excluded.before, lost = excluded.lost, stopping = excluded.stopping, reason = excluded.reason,
			chosen = excluded.chosen, cleared = excluded.cleared, items = excluded.items, value = excluded.value, wake = excluded.wake, started = excluded.started, ended = excluded.ended`, args...)
	})
	inGroups(w.transitions, func(rows []Transition) {
		args := make([]any, 0, 7*len(rows))
		for _, t := range rows {
			args = append(args, t.Run, t.Task, t.At, t.Before, t.After, t.Reason, t.Person)
		}
		const one = `, (?, ?, ?, ?, ?, ?, ?)`
		w.exec(`INSERT INTO transitions (run, task, at, before, after, reason, person) VALUES `+strings.Repeat(one, len(rows))[2:], args...)
	})
	w.tasks, w.transitions = w.tasks[:0], w.transitions[:0]
}

// inGroups gives rows to write in groups of a few sizes, each of which is a statement.
func inGroups[Row any](rows []Row, write func([]Row)) {
	for _, size := range []int{32, 16, 8, 4, 2, 1} {
		for ; len(rows) >= size; rows = rows[size:] {
			write(rows[:size])
		}
	}
}

// SetCapacity records how many units a capacity has.
func (w *Writer) SetCapacity(row Capacity) {
	w.exec(`INSERT INTO capacities (name, units) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET units = excluded.units`, row.Name, row.Units)
}

// AddSession records a session and forgets those that have expired.
func (w *Writer) AddSession(row Session) {
	w.exec(`DELETE FROM sessions WHERE expires < ?`, row.Created)
	w.exec(`INSERT INTO sessions (hash, person, created, expires) VALUES (?, ?, ?, ?)`, row.Hash, row.Person, row.Created, row.Expires)
}

// AddBackfill records a new backfill and returns its number.
func (w *Writer) AddBackfill(row Backfill) int64 {
	return w.exec(`INSERT INTO backfills (workflow, state, reason, range_from, range_until, asked, at_once, stop_after, total, created, created_by) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		row.Workflow, row.State, row.Reason, row.RangeFrom, row.RangeUntil, row.Asked, row.AtOnce, row.StopAfter, row.Total, row.Created, row.CreatedBy)
}

// SetBackfill records all that changes of a backfill.
func (w *Writer) SetBackfill(row Backfill) {
	w.exec(`UPDATE backfills SET state = ?, reason = ?, stop_after = ?, ended = ? WHERE id = ?`, row.State, row.Reason, row.StopAfter, row.Ended, row.ID)
}

// AddBackfillWindow records a stretch of a backfill that waits.
func (w *Writer) AddBackfillWindow(row BackfillWindow) {
	w.exec(`INSERT INTO backfill_windows (backfill, place, window_start, window_end, windows, state) VALUES (?, ?, ?, ?, ?, ?)`,
		row.Backfill, row.Place, row.WindowStart, row.WindowEnd, row.Windows, row.State)
}

// SetBackfillWindow records what has become of a stretch of a backfill.
func (w *Writer) SetBackfillWindow(row BackfillWindow) {
	w.exec(`UPDATE backfill_windows SET state = ?, run = ? WHERE backfill = ? AND place = ?`, row.State, row.Run, row.Backfill, row.Place)
}

// SetBackfillRun records how the newest run of a stretch came out.
func (w *Writer) SetBackfillRun(backfill, run int64, state string) {
	w.exec(`UPDATE backfill_windows SET state = ? WHERE backfill = ? AND run = ?`, state, backfill, run)
}

// ResetBackfillWindows has the stretches of a backfill in one state be in another.
func (w *Writer) ResetBackfillWindows(backfill int64, from, to string) {
	w.exec(`UPDATE backfill_windows SET state = ? WHERE backfill = ? AND state = ?`, to, backfill, from)
}

// AddWatermark records what a watermark has become.
func (w *Writer) AddWatermark(row Watermark) {
	w.exec(`INSERT INTO watermarks (workflow, name, value, at, run, person) VALUES (?, ?, ?, ?, ?, ?)`, row.Workflow, row.Name, row.Value, row.At, row.Run, row.Person)
}

// AddFeed records a key of the calendar.
func (w *Writer) AddFeed(row Feed) {
	w.exec(`INSERT INTO feeds (hash, person, created) VALUES (?, ?, ?)`, row.Hash, row.Person, row.Created)
}

// RemoveFeeds forgets all keys of the calendar.
func (w *Writer) RemoveFeeds() { w.exec(`DELETE FROM feeds`) }

// RemoveSession forgets a session.
func (w *Writer) RemoveSession(hash string) {
	w.exec(`DELETE FROM sessions WHERE hash = ?`, hash)
}

// SetWorkerKey records a worker of another machine that may join, anew if it could
// before.
func (w *Writer) SetWorkerKey(row WorkerKey) {
	w.exec(`INSERT INTO worker_keys (name, public_key, created, created_by) VALUES (?, ?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET public_key = excluded.public_key, created = excluded.created, created_by = excluded.created_by`, row.Name, row.PublicKey, row.Created, row.CreatedBy)
}

// RemoveWorkerKey records that a worker may no longer join.
func (w *Writer) RemoveWorkerKey(name string) {
	w.exec(`DELETE FROM worker_keys WHERE name = ?`, name)
}
