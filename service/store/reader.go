package store

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"github.com/jmoiron/sqlx"
)

// ErrNotFound says that there is no such row.
var ErrNotFound = errors.New("not found")

func many[T any](ctx context.Context, db *sqlx.DB, query string, args ...any) ([]T, error) {
	var rows []T
	err := db.SelectContext(ctx, &rows, query, args...)
	return rows, err
}

func one[T any](ctx context.Context, db *sqlx.DB, query string, args ...any) (T, error) {
	var row T
	err := db.GetContext(ctx, &row, query, args...)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return row, err
}

// Workflows lists all workflows by name.
func (s *Store) Workflows(ctx context.Context) ([]Workflow, error) {
	return many[Workflow](ctx, s.read, `SELECT * FROM workflows ORDER BY name`)
}

// WorkflowNamed is the workflow of that name, also one that was removed; ErrNotFound if
// there is none.
func (s *Store) WorkflowNamed(ctx context.Context, name string) (Workflow, error) {
	return one[Workflow](ctx, s.read, `SELECT * FROM workflows WHERE name = ?`, name)
}

// Version is one version of a workflow.
func (s *Store) Version(ctx context.Context, workflow int64, number int) (Version, error) {
	return one[Version](ctx, s.read, `SELECT * FROM versions WHERE workflow = ? AND number = ?`, workflow, number)
}

// Versions lists the versions of a workflow, newest first, without their
// definitions.
func (s *Store) Versions(ctx context.Context, workflow int64) ([]Version, error) {
	return many[Version](ctx, s.read, `SELECT workflow, number, '' AS definition, hash, parcel, project, file, applied, applied_by
		FROM versions WHERE workflow = ? ORDER BY number DESC`, workflow)
}

// CurrentVersions lists the version of each workflow that new runs take.
func (s *Store) CurrentVersions(ctx context.Context) ([]Version, error) {
	return many[Version](ctx, s.read, `SELECT v.* FROM versions v JOIN workflows w ON w.id = v.workflow AND w.version = v.number`)
}

// VersionHeads are the versions of all workflows that new runs take, by workflow,
// without their definitions.
func (s *Store) VersionHeads(ctx context.Context) (map[int64]Version, error) {
	rows, err := many[Version](ctx, s.read, `SELECT v.workflow, v.number, '' AS definition, v.hash, v.parcel, v.project, v.environment, v.file, v.applied, v.applied_by
		FROM versions v JOIN workflows w ON w.id = v.workflow AND w.version = v.number`)
	heads := make(map[int64]Version, len(rows))
	for _, row := range rows {
		heads[row.Workflow] = row
	}
	return heads, err
}

// RecentRuns are the newest runs of a workflow, or with 0 of each, newest first,
// by workflow: their numbers, states and windows alone.
func (s *Store) RecentRuns(ctx context.Context, workflow int64, limit int) (map[int64][]Run, error) {
	rows, err := many[Run](ctx, s.read, `SELECT r.workflow, r.number, r.state, r.window_start, r.window_end FROM workflows w JOIN runs r ON r.workflow = w.id AND r.number > w.last_run - ?
		WHERE ? IN (0, w.id) ORDER BY r.workflow, r.number DESC`, limit, workflow)
	all := map[int64][]Run{}
	for _, row := range rows {
		all[row.Workflow] = append(all[row.Workflow], row)
	}
	return all, err
}

// CountAllOpen counts the runs that have not ended, by workflow.
func (s *Store) CountAllOpen(ctx context.Context) (map[int64]int, error) {
	rows, err := many[struct {
		Workflow int64 `db:"workflow"`
		Count    int   `db:"count"`
	}](ctx, s.read, `SELECT workflow, count(*) AS count FROM runs WHERE state IN ('queued', 'running') GROUP BY workflow`)
	counts := map[int64]int{}
	for _, row := range rows {
		counts[row.Workflow] = row.Count
	}
	return counts, err
}

const selectRuns = `SELECT r.*, w.name FROM runs r JOIN workflows w ON w.id = r.workflow `

// RunFilter chooses runs; a zero field does not restrict.
type RunFilter struct {
	Workflow string
	States   []string
	Before   int64 // runs with an id under this one
	Limit    int

	Cause      string
	Version    int
	From       Moment // windows that end after it
	Until      Moment // windows that begin before it
	EndedFrom  Moment
	EndedUntil Moment
	Param      string // with Value as text
	Value      string
	Error      string // a text in the error of an attempt
}

// Runs lists the runs that the filter chooses, newest first.
func (s *Store) Runs(ctx context.Context, f RunFilter) ([]Run, error) {
	var where []string
	var args []any
	if f.Workflow != "" {
		where, args = append(where, "r.workflow = (SELECT id FROM workflows WHERE name = ?)"), append(args, f.Workflow)
	}
	if len(f.States) > 0 {
		where = append(where, "r.state IN (?"+strings.Repeat(", ?", len(f.States)-1)+")")
		for _, state := range f.States {
			args = append(args, state)
		}
	}
	if f.Before > 0 {
		where, args = append(where, "r.id < ?"), append(args, f.Before)
	}
	f.narrow(func(condition string, values ...any) { where, args = append(where, condition), append(args, values...) })
	query := selectRuns
	if where != nil {
		query += "WHERE " + strings.Join(where, " AND ")
	}
	order := " ORDER BY r.id DESC LIMIT ?"
	if f.Workflow != "" { // along the index of its workflow; numbers grow with ids
		order = " ORDER BY r.number DESC LIMIT ?"
	}
	return many[Run](ctx, s.read, query+order, append(args, f.Limit)...)
}

// narrow adds the conditions that are seldom given.
func (f RunFilter) narrow(add func(condition string, values ...any)) {
	if f.Cause != "" {
		add("r.cause = ?", f.Cause)
	}
	if f.Version > 0 {
		add("r.version = ?", f.Version)
	}
	for _, m := range []struct {
		condition string
		at        Moment
	}{{"r.window_end > ?", f.From}, {"r.window_start < ?", f.Until}, {"r.ended >= ?", f.EndedFrom}, {"r.ended < ?", f.EndedUntil}} {
		if m.at.Valid {
			add(m.condition, m.at)
		}
	}
	if f.Param != "" {
		const path = `'$.' || json_quote(?)`
		add(`CASE json_type(r.params, `+path+`) WHEN 'true' THEN 'true' WHEN 'false' THEN 'false' ELSE CAST(json_extract(r.params, `+path+`) AS TEXT) END = ?`, f.Param, f.Param, f.Value)
	}
	if f.Error != "" {
		add("EXISTS (SELECT 1 FROM attempts a WHERE a.run = r.id AND instr(lower(a.error), lower(?)))", f.Error)
	}
}

// Run is the run of that workflow with that number.
func (s *Store) Run(ctx context.Context, workflow string, number int) (Run, error) {
	return one[Run](ctx, s.read, selectRuns+`WHERE w.name = ? AND r.number = ?`, workflow, number)
}

// RunByID is the run with that id.
func (s *Store) RunByID(ctx context.Context, id int64) (Run, error) {
	return one[Run](ctx, s.read, selectRuns+`WHERE r.id = ?`, id)
}

// Decisions lists what was decided about windows that got no run, newest first.
func (s *Store) Decisions(ctx context.Context, workflow int64, limit int) ([]Decision, error) {
	return many[Decision](ctx, s.read, `SELECT * FROM decisions WHERE workflow = ? ORDER BY id DESC LIMIT ?`, workflow, limit)
}

// RunEndingAt is the newest run of a workflow whose window ends at that moment.
func (s *Store) RunEndingAt(ctx context.Context, workflow int64, end Moment) (Run, error) {
	return one[Run](ctx, s.read, selectRuns+`WHERE r.workflow = ? AND r.window_end = ? ORDER BY r.id DESC LIMIT 1`, workflow, end)
}

const selectBackfills = `SELECT b.*, w.name FROM backfills b JOIN workflows w ON w.id = b.workflow `

// Backfills lists the backfills, newest first, of one workflow or with 0 of all.
func (s *Store) Backfills(ctx context.Context, workflow int64, limit int) ([]Backfill, error) {
	return many[Backfill](ctx, s.read, selectBackfills+`WHERE ? IN (0, b.workflow) ORDER BY b.id DESC LIMIT ?`, workflow, limit)
}

// Backfill is the backfill with that number.
func (s *Store) Backfill(ctx context.Context, id int64) (Backfill, error) {
	return one[Backfill](ctx, s.read, selectBackfills+`WHERE b.id = ?`, id)
}

// OpenBackfills lists those that have not ended, oldest first.
func (s *Store) OpenBackfills(ctx context.Context) ([]Backfill, error) {
	return many[Backfill](ctx, s.read, selectBackfills+`WHERE b.ended IS NULL ORDER BY b.id`)
}

// StateCount is how many stretches, and windows in them, are in a state.
type StateCount struct {
	State   string `db:"state"`
	Count   int    `db:"count"`
	Windows int    `db:"windows"`
}

// BackfillCounts counts the stretches of a backfill by state.
func (s *Store) BackfillCounts(ctx context.Context, id int64) ([]StateCount, error) {
	return many[StateCount](ctx, s.read, `SELECT state, count(*) AS count, sum(windows) AS windows FROM backfill_windows WHERE backfill = ? GROUP BY state`, id)
}

// BackfillWindows lists the stretches of a backfill in one state, or with "" in
// any, from a place on, in the order in which they are worked through.
func (s *Store) BackfillWindows(ctx context.Context, id int64, state string, from, limit int) ([]BackfillWindow, error) {
	return many[BackfillWindow](ctx, s.read, `SELECT b.*, r.number FROM backfill_windows b LEFT JOIN runs r ON r.id = b.run
		WHERE b.backfill = ? AND ? IN ('', b.state) AND b.place >= ? ORDER BY b.place LIMIT ?`, id, state, from, limit)
}

// WindowRun is the newest run for a window.
type WindowRun struct {
	ID    int64  `db:"id"`
	Start Moment `db:"window_start"`
	End   Moment `db:"window_end"`
	State string `db:"state"`
}

// WindowRuns lists, of each window of a workflow that ends in (from, until], the
// newest run.
func (s *Store) WindowRuns(ctx context.Context, workflow int64, from, until Moment) ([]WindowRun, error) {
	return many[WindowRun](ctx, s.read, `SELECT max(id) AS id, window_start, window_end, state FROM runs
		WHERE workflow = ? AND window_end > ? AND window_end <= ? GROUP BY window_end, window_start`, workflow, from, until)
}

// MergedRuns lists the runs that a backfill has made for several windows of a
// workflow at once and that reach into that range, oldest first.
func (s *Store) MergedRuns(ctx context.Context, workflow int64, from, until Moment) ([]WindowRun, error) {
	return many[WindowRun](ctx, s.read, `SELECT r.id, r.window_start, r.window_end, r.state FROM backfills b
		JOIN backfill_windows m ON m.backfill = b.id AND m.windows > 1 AND m.window_end > ? AND m.window_start < ? JOIN runs r ON r.backfill = b.id AND r.id = m.run
		WHERE b.workflow = ? ORDER BY r.id`, from, until, workflow)
}

// OpenBackfillWindows lists the stretches of a workflow's backfills that have not
// ended and lie in that range.
func (s *Store) OpenBackfillWindows(ctx context.Context, workflow int64, from, until Moment) ([]BackfillWindow, error) {
	return many[BackfillWindow](ctx, s.read, `SELECT w.*, NULL AS number FROM backfill_windows w JOIN backfills b ON b.id = w.backfill
		WHERE b.workflow = ? AND b.state IN ('running', 'paused') AND w.state IN ('waiting', 'running') AND w.window_end > ? AND w.window_start < ?`, workflow, from, until)
}

// Durations lists how long the newest succeeded runs of a workflow took, in
// microseconds.
func (s *Store) Durations(ctx context.Context, workflow int64, limit int) ([]int64, error) {
	return many[int64](ctx, s.read, `SELECT ended - started FROM runs WHERE workflow = ? AND state = 'succeeded' AND started IS NOT NULL AND ended IS NOT NULL ORDER BY number DESC LIMIT ?`, workflow, limit)
}

// Watermarks lists the watermarks of a workflow as they are, by name, or with
// workflow 0 those of all.
func (s *Store) Watermarks(ctx context.Context, workflow int64) ([]Watermark, error) {
	return many[Watermark](ctx, s.read, `SELECT m.*, r.number FROM watermarks m LEFT JOIN runs r ON r.id = m.run
		WHERE m.id IN (SELECT max(id) FROM watermarks WHERE ? IN (0, workflow) GROUP BY workflow, name) ORDER BY m.workflow, m.name`, workflow)
}

// WatermarkHistory lists what a watermark was, newest first.
func (s *Store) WatermarkHistory(ctx context.Context, workflow int64, name string, limit int) ([]Watermark, error) {
	return many[Watermark](ctx, s.read, `SELECT m.*, r.number FROM watermarks m LEFT JOIN runs r ON r.id = m.run
		WHERE m.workflow = ? AND m.name = ? ORDER BY m.id DESC LIMIT ?`, workflow, name, limit)
}

// NewestForWindow is the number of the newest run of a workflow for that window, or
// for several at once of which it is one. The sign before number keeps SQLite from going
// through all runs of the workflow from the newest down, as it does for a bare max(number).
func (s *Store) NewestForWindow(ctx context.Context, workflow int64, start, end Moment) (int, error) {
	return one[int](ctx, s.read, `SELECT max(
		(SELECT coalesce(max(+number), 0) FROM runs WHERE workflow = ?1 AND window_end = ?2 AND window_start = ?3),
		(SELECT coalesce(max(r.number), 0) FROM backfills b JOIN backfill_windows m ON m.backfill = b.id AND m.windows > 1 AND m.window_end >= ?2 AND m.window_start <= ?3
			JOIN runs r ON r.id = m.run WHERE b.workflow = ?1))`, workflow, end, start)
}

// OpenRuns lists the runs that have not ended, oldest first.
func (s *Store) OpenRuns(ctx context.Context) ([]Run, error) {
	return many[Run](ctx, s.read, selectRuns+`WHERE r.state IN ('queued', 'running') ORDER BY r.id`)
}

// Tasks lists the tasks of a run in the order of its definition.
func (s *Store) Tasks(ctx context.Context, run int64) ([]Task, error) {
	return many[Task](ctx, s.read, `SELECT * FROM tasks WHERE run = ? ORDER BY task`, run)
}

// Nodes lists the tasks of a run in the order of its definition, without the
// items of those that are made for each.
func (s *Store) Nodes(ctx context.Context, run int64) ([]Task, error) {
	return many[Task](ctx, s.read, `SELECT * FROM tasks WHERE run = ? AND item_of IS NULL ORDER BY task`, run)
}

// ItemCount is how many items of a task are in a state.
type ItemCount struct {
	Task  int    `db:"task"`
	State string `db:"state"`
	Count int    `db:"count"`
}

// ItemCounts counts the items that are in the lists of a run's tasks, by state.
func (s *Store) ItemCounts(ctx context.Context, run int64) ([]ItemCount, error) {
	return many[ItemCount](ctx, s.read, `SELECT o.task, i.state, count(*) AS count FROM tasks i JOIN tasks o ON o.run = i.run AND o.task = i.item_of
		WHERE i.run = ? AND i.item < o.items GROUP BY o.task, i.state`, run)
}

// Items lists items of a task from that place in its list on, in order; only in
// one of the states, if any are given.
func (s *Store) Items(ctx context.Context, run int64, task int, states []string, from, limit int) ([]Task, error) {
	query := `SELECT i.* FROM tasks i JOIN tasks o ON o.run = i.run AND o.task = i.item_of WHERE i.run = ? AND i.item_of = ? AND i.item < o.items AND i.item >= ?`
	args := []any{run, task, from}
	if len(states) > 0 {
		query += ` AND i.state IN (?` + strings.Repeat(", ?", len(states)-1) + `)`
		for _, state := range states {
			args = append(args, state)
		}
	}
	return many[Task](ctx, s.read, query+` ORDER BY i.item LIMIT ?`, append(args, limit)...)
}

// ItemPlace is the number of an item of a task, which need not be in its list
// any more.
func (s *Store) ItemPlace(ctx context.Context, run int64, task, item int) (int, error) {
	return one[int](ctx, s.read, `SELECT task FROM tasks WHERE run = ? AND item_of = ? AND item = ?`, run, task, item)
}

// TaskWithAttempts is one task of a run and its attempts, oldest first.
func (s *Store) TaskWithAttempts(ctx context.Context, run int64, task int) (Task, []Attempt, error) {
	row, err := one[Task](ctx, s.read, `SELECT * FROM tasks WHERE run = ? AND task = ?`, run, task)
	if err != nil {
		return row, nil, err
	}
	attempts, err := many[Attempt](ctx, s.read, `SELECT * FROM attempts WHERE run = ? AND task = ? ORDER BY number`, run, task)
	return row, attempts, err
}

// CountOpen counts the runs of a workflow that have not ended.
func (s *Store) CountOpen(ctx context.Context, workflow int64) (int, error) {
	return one[int](ctx, s.read, `SELECT count(*) FROM runs WHERE state IN ('queued', 'running') AND workflow = ?`, workflow)
}

// TaskCount is how many tasks of a run are in a state.
type TaskCount struct {
	Run   int64  `db:"run"`
	State string `db:"state"`
	Count int    `db:"count"`
}

// TaskCounts counts the tasks of each of the runs by state, leaving out the items
// that count for their task.
func (s *Store) TaskCounts(ctx context.Context, runs []int64) ([]TaskCount, error) {
	if len(runs) == 0 {
		return nil, nil
	}
	args := make([]any, len(runs))
	for i, id := range runs {
		args[i] = id
	}
	return many[TaskCount](ctx, s.read, `SELECT run, state, count(*) AS count FROM tasks
		WHERE run IN (?`+strings.Repeat(", ?", len(runs)-1)+`) AND item_of IS NULL GROUP BY run, state`, args...)
}

// Attempts lists the attempts of a run, task by task, oldest first.
func (s *Store) Attempts(ctx context.Context, run int64) ([]Attempt, error) {
	return many[Attempt](ctx, s.read, `SELECT * FROM attempts WHERE run = ? ORDER BY task, number`, run)
}

// AttemptsOf lists the attempts of the tasks of a run with numbers from first to
// last, both included, task by task, oldest first.
func (s *Store) AttemptsOf(ctx context.Context, run int64, first, last int) ([]Attempt, error) {
	return many[Attempt](ctx, s.read, `SELECT * FROM attempts WHERE run = ? AND task BETWEEN ? AND ? ORDER BY task, number`, run, first, last)
}

// OpenAttempts lists the attempts that have not ended, oldest run first.
func (s *Store) OpenAttempts(ctx context.Context) ([]Attempt, error) {
	return many[Attempt](ctx, s.read, `SELECT * FROM attempts INDEXED BY attempts_open WHERE ended IS NULL ORDER BY run, task, number`)
}

// OrderedAttempts are the attempts that wait for a worker, or that one executes.
func (s *Store) OrderedAttempts(ctx context.Context) ([]Attempt, error) {
	return many[Attempt](ctx, s.read, `SELECT * FROM attempts INDEXED BY attempts_open WHERE ended IS NULL AND state != 'waiting' ORDER BY run, task, number`)
}

// OrderedAttempt is an attempt that waits for a worker, or that one executes; ErrNotFound if it
// does neither.
func (s *Store) OrderedAttempt(ctx context.Context, run int64, task, number int) (Attempt, error) {
	return one[Attempt](ctx, s.read, `SELECT * FROM attempts INDEXED BY attempts_open WHERE run = ? AND task = ? AND number = ? AND ended IS NULL AND state != 'waiting'`, run, task, number)
}

// LateReports are reports of attempts of a run that had been given up before.
func (s *Store) LateReports(ctx context.Context, run int64) ([]LateReport, error) {
	return many[LateReport](ctx, s.read, `SELECT * FROM late_reports WHERE run = ? ORDER BY received`, run)
}

// WorkerKeys are the workers of other machines that may join, by name.
func (s *Store) WorkerKeys(ctx context.Context) ([]WorkerKey, error) {
	return many[WorkerKey](ctx, s.read, `SELECT * FROM worker_keys ORDER BY name`)
}

// Transitions lists the changes after the one with that id, oldest first; of
// one run, or with run 0 of all.
func (s *Store) Transitions(ctx context.Context, after, run int64, limit int) ([]Transition, error) {
	const query = `SELECT t.*, r.workflow, w.name, r.number, r.version, k.item_of, k.item FROM transitions t
		JOIN runs r ON r.id = t.run JOIN workflows w ON w.id = r.workflow LEFT JOIN tasks k ON k.run = t.run AND k.task = t.task `
	if run != 0 {
		return many[Transition](ctx, s.read, query+`WHERE t.run = ? AND t.id > ? ORDER BY t.id LIMIT ?`, run, after, limit)
	}
	return many[Transition](ctx, s.read, query+`WHERE t.id > ? ORDER BY t.id LIMIT ?`, after, limit)
}

// LastTransition is the id of the newest transition, 0 if there is none.
func (s *Store) LastTransition(ctx context.Context) (int64, error) {
	return one[int64](ctx, s.read, `SELECT coalesce(max(id), 0) FROM transitions`)
}

// Session is the session with that hash.
func (s *Store) Session(ctx context.Context, hash string) (Session, error) {
	return one[Session](ctx, s.read, `SELECT * FROM sessions WHERE hash = ?`, hash)
}

// HasFeed tells whether there is a key of the calendar with that hash.
func (s *Store) HasFeed(ctx context.Context, hash string) (bool, error) {
	return one[bool](ctx, s.read, `SELECT EXISTS (SELECT 1 FROM feeds WHERE hash = ?)`, hash)
}

// Capacities lists all capacities by name.
func (s *Store) Capacities(ctx context.Context) ([]Capacity, error) {
	return many[Capacity](ctx, s.read, `SELECT * FROM capacities ORDER BY name`)
}

// HasParcel tells whether a parcel is recorded.
func (s *Store) HasParcel(ctx context.Context, hash string) (bool, error) {
	return one[bool](ctx, s.read, `SELECT EXISTS (SELECT 1 FROM parcels WHERE hash = ?)`, hash)
}
