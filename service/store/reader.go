package store

import (
	"context"
	"database/sql"
	"errors"
	"strings"
)

// ErrNotFound says that there is no such row.
var ErrNotFound = errors.New("not found")

func (s *Store) get(ctx context.Context, to any, query string, args ...any) error {
	err := s.read.GetContext(ctx, to, query, args...)
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// Workflows lists all workflows by name.
func (s *Store) Workflows(ctx context.Context) (rows []Workflow, err error) {
	return rows, s.read.SelectContext(ctx, &rows, `SELECT * FROM workflows ORDER BY name`)
}

// Version is one version of a workflow.
func (s *Store) Version(ctx context.Context, workflow int64, number int) (row Version, err error) {
	return row, s.get(ctx, &row, `SELECT * FROM versions WHERE workflow = ? AND number = ?`, workflow, number)
}

// CurrentVersions lists the version of each workflow that new runs take.
func (s *Store) CurrentVersions(ctx context.Context) (rows []Version, err error) {
	return rows, s.read.SelectContext(ctx, &rows, `SELECT v.* FROM versions v JOIN workflows w ON w.id = v.workflow AND w.version = v.number`)
}

const selectRuns = `SELECT r.*, w.name FROM runs r JOIN workflows w ON w.id = r.workflow `

// RunFilter chooses runs; a zero field does not restrict.
type RunFilter struct {
	Workflow string
	States   []string
	Before   int64 // runs with an id under this one
	Limit    int
}

// Runs lists the runs that the filter chooses, newest first.
func (s *Store) Runs(ctx context.Context, f RunFilter) (rows []Run, err error) {
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
	query := selectRuns
	if where != nil {
		query += "WHERE " + strings.Join(where, " AND ")
	}
	order := " ORDER BY r.id DESC LIMIT ?"
	if f.Workflow != "" { // along the index of its workflow; numbers grow with ids
		order = " ORDER BY r.number DESC LIMIT ?"
	}
	return rows, s.read.SelectContext(ctx, &rows, query+order, append(args, f.Limit)...)
}

// Run is the run of that workflow with that number.
func (s *Store) Run(ctx context.Context, workflow string, number int) (row Run, err error) {
	return row, s.get(ctx, &row, selectRuns+`WHERE w.name = ? AND r.number = ?`, workflow, number)
}

// RunByID is the run with that id.
func (s *Store) RunByID(ctx context.Context, id int64) (row Run, err error) {
	return row, s.get(ctx, &row, selectRuns+`WHERE r.id = ?`, id)
}

// OpenRuns lists the runs that have not ended, oldest first.
func (s *Store) OpenRuns(ctx context.Context) (rows []Run, err error) {
	return rows, s.read.SelectContext(ctx, &rows, selectRuns+`WHERE r.state IN ('queued', 'running') ORDER BY r.id`)
}

// Tasks lists the tasks of a run in the order of its definition.
func (s *Store) Tasks(ctx context.Context, run int64) (rows []Task, err error) {
	return rows, s.read.SelectContext(ctx, &rows, `SELECT * FROM tasks WHERE run = ? ORDER BY task`, run)
}

// TaskCount is how many tasks of a run are in a state.
type TaskCount struct {
	Run   int64  `db:"run"`
	State string `db:"state"`
	Count int    `db:"count"`
}

// TaskCounts counts the tasks of each of the runs by state.
func (s *Store) TaskCounts(ctx context.Context, runs []int64) (rows []TaskCount, err error) {
	if len(runs) == 0 {
		return nil, nil
	}
	args := make([]any, len(runs))
	for i, id := range runs {
		args[i] = id
	}
	return rows, s.read.SelectContext(ctx, &rows, `SELECT run, state, count(*) AS count FROM tasks
		WHERE run IN (?`+strings.Repeat(", ?", len(runs)-1)+`) GROUP BY run, state`, args...)
}

// Attempts lists the attempts of a run, task by task, oldest first.
func (s *Store) Attempts(ctx context.Context, run int64) (rows []Attempt, err error) {
	return rows, s.read.SelectContext(ctx, &rows, `SELECT * FROM attempts WHERE run = ? ORDER BY task, number`, run)
}

// OpenAttempts lists the attempts that have not ended, oldest run first.
func (s *Store) OpenAttempts(ctx context.Context) (rows []Attempt, err error) {
	return rows, s.read.SelectContext(ctx, &rows, `SELECT * FROM attempts INDEXED BY attempts_open WHERE state IN ('sent', 'running') ORDER BY run, task, number`)
}

// Transitions lists the changes after the one with that id, oldest first; of
// one run, or with run 0 of all.
func (s *Store) Transitions(ctx context.Context, after, run int64, limit int) (rows []Transition, err error) {
	if run != 0 {
		return rows, s.read.SelectContext(ctx, &rows, `SELECT * FROM transitions WHERE run = ? AND id > ? ORDER BY id LIMIT ?`, run, after, limit)
	}
	return rows, s.read.SelectContext(ctx, &rows, `SELECT * FROM transitions WHERE id > ? ORDER BY id LIMIT ?`, after, limit)
}

// LastTransition is the id of the newest transition, 0 if there is none.
func (s *Store) LastTransition(ctx context.Context) (id int64, err error) {
	return id, s.read.GetContext(ctx, &id, `SELECT coalesce(max(id), 0) FROM transitions`)
}

// Session is the session with that hash.
func (s *Store) Session(ctx context.Context, hash string) (row Session, err error) {
	return row, s.get(ctx, &row, `SELECT * FROM sessions WHERE hash = ?`, hash)
}

// HasParcel tells whether a parcel is recorded.
func (s *Store) HasParcel(ctx context.Context, hash string) (has bool, err error) {
	return has, s.read.GetContext(ctx, &has, `SELECT EXISTS (SELECT 1 FROM parcels WHERE hash = ?)`, hash)
}
