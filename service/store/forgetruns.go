package store

import (
	"context"
	"strconv"
)

// Keep says what of the records is kept.
type Keep struct {
	Before Moment // runs that ended before it go; none do if it is NULL
	Most   int    // of each workflow, so many runs are kept at most; 0 is any number
	Newest int    // of each workflow, so many of the newest are kept in any case
}

// Forgettable are runs whose tasks need not be kept, the oldest first, limit at most.
// Runs that are open, that a newer run rests on to be made again, or that another open
// run has started or was started by, stay.
func (s *Store) Forgettable(ctx context.Context, k Keep, limit int) ([]int64, error) {
	most := k.Most
	if most == 0 {
		most = -1
	}
	return many[int64](ctx, s.read, `
		SELECT id FROM (
			SELECT r.id, r.ended, row_number() OVER (PARTITION BY r.workflow ORDER BY r.number DESC) AS place
			FROM runs r WHERE r.ended IS NOT NULL AND r.forgotten IS NULL)
		WHERE place > ?1 AND (ended < ?2 OR ?3 >= 0 AND place > ?3)
			AND id NOT IN (SELECT run FROM follow_ons WHERE state = 'waiting')
			AND id NOT IN (SELECT outer_run FROM runs WHERE outer_run IS NOT NULL AND ended IS NULL)
			AND id NOT IN (SELECT inner_run FROM attempts INDEXED BY attempts_open WHERE ended IS NULL AND inner_run IS NOT NULL)
		ORDER BY id LIMIT ?4`, k.Newest, k.Before, most, limit)
}

// ForgetRuns removes the attempts of runs, their results, changes and waits, and the
// items of their tasks; how runs and tasks ended, and when, stays.
func (w *Writer) ForgetRuns(ids []int64, at Moment) {
	for _, id := range ids {
		w.exec(`DELETE FROM transitions WHERE run = ?`, id)
		w.exec(`DELETE FROM waits WHERE run = ?`, id)
		w.exec(`DELETE FROM late_reports WHERE run = ?`, id)
		w.exec(`DELETE FROM attempts WHERE run = ?`, id)
		w.exec(`DELETE FROM tasks WHERE run = ? AND item_of IS NOT NULL`, id)
		w.exec(`UPDATE runs SET forgotten = ? WHERE id = ?`, at, id)
	}
}

// ForgettableEvents are events that came before a moment and need not be kept, the
// oldest first, limit at most. The newest update of each data set stays, and what a
// workflow has gathered or not yet seen.
func (s *Store) ForgettableEvents(ctx context.Context, before Moment, limit int) ([]int64, error) {
	return many[int64](ctx, s.read, `SELECT e.id FROM events e WHERE e.received < ?1
		AND NOT EXISTS (SELECT 1 FROM answers a WHERE a.event = e.id AND (a.state IN ('gathering', 'kept') OR a.at >= ?1))
		AND NOT EXISTS (SELECT 1 FROM updates u WHERE u.event = e.id AND (u.at >= ?1
			OR u.id >= (SELECT min(newest) FROM (SELECT max(id) AS newest FROM updates WHERE dataset = u.dataset UNION ALL SELECT dataset_update FROM seen WHERE dataset = u.dataset))))
		ORDER BY e.id LIMIT ?2`, before, limit)
}

// ForgetEvents removes events and what they were taken for, but for those that a start
// has taken up since they were chosen.
func (w *Writer) ForgetEvents(ids []int64) {
	for _, id := range ids {
		var open int
		w.get(&open, `SELECT count(*) FROM answers WHERE event = ? AND state IN ('gathering', 'kept')`, id)
		if open > 0 {
			continue
		}
		w.exec(`DELETE FROM uses WHERE dataset_update IN (SELECT id FROM updates WHERE event = ?)`, id)
		w.exec(`DELETE FROM updates WHERE event = ?`, id)
		w.exec(`DELETE FROM answers WHERE event = ?`, id)
		w.exec(`DELETE FROM events WHERE id = ?`, id)
	}
}

// ForgetRefusals removes what was refused at the door before a moment.
func (w *Writer) ForgetRefusals(before Moment) { w.exec(`DELETE FROM refusals WHERE at < ?`, before) }

// GiveBack gives the space of what was removed back to the file system, so many pages
// at most.
func (w *Writer) GiveBack(pages int) {
	if w.err != nil {
		return
	}
	rows, err := w.conn.QueryContext(context.Background(), `PRAGMA incremental_vacuum(`+strconv.Itoa(pages)+`)`)
	if err != nil {
		w.err = err
		return
	}
	for rows.Next() { // each step gives a page back
	}
	w.err = rows.Close()
}
