package store

import (
	"context"
	"fmt"
)

// runsForgotten bounds how many runs lose their logs in one transaction, so that
// logs that come in are not kept waiting.
const runsForgotten = 200

// ForgetLogs removes the logs of runs that need not be kept, oldest first, gives their
// space back, and tells of how many runs that was.
func (s *Store) ForgetLogs(ctx context.Context, k Keep) (forgotten int, err error) {
	most := k.Most
	if most == 0 {
		most = -1
	}
	for after := int64(0); ; {
		var batch []int64
		for len(batch) < runsForgotten {
			next, err := one[*int64](ctx, s.Logs.read, `SELECT min(run) FROM chunks WHERE run > ?`, after)
			if err != nil {
				return forgotten, err
			}
			if next == nil {
				break
			}
			after = *next
			batch = append(batch, after)
		}
		if len(batch) == 0 {
			break
		}
		within, args := among("r.id", batch)
		over, err := many[int64](ctx, s.read, `SELECT r.id FROM runs r JOIN workflows w ON w.id = r.workflow
			WHERE r.ended IS NOT NULL AND max(w.last_run - r.number, 0) >= ? AND (r.ended < ? OR ? >= 0 AND w.last_run - r.number >= ?)`+within,
			append([]any{k.Newest, k.Before, most, most}, args...)...)
		if err != nil {
			return forgotten, err
		}
		if len(over) == 0 && k.Most == 0 && k.Newest == 0 { // what comes behind is newer
			break
		}
		if len(over) == 0 {
			continue
		}
		within, args = among("run", over)
		if _, err := s.Logs.write.ExecContext(ctx, `DELETE FROM chunks WHERE 1`+within, args...); err != nil {
			return forgotten, fmt.Errorf("remove old logs: %w", err)
		}
		forgotten += len(over)
	}
	if forgotten == 0 {
		return 0, nil
	}
	rows, err := s.Logs.write.QueryContext(ctx, `PRAGMA incremental_vacuum`)
	if err != nil {
		return forgotten, fmt.Errorf("give the space of old logs back: %w", err)
	}
	for rows.Next() { // each step gives a page back
	}
	return forgotten, rows.Close()
}
