package store

import (
	"context"
	"fmt"
)

// runsForgotten bounds how many runs lose their logs in one transaction, so that
// logs that come in are not kept waiting.
const runsForgotten = 200

// ForgetLogs removes the logs of runs that ended before that moment, oldest first,
// gives their space back, and tells of how many runs that was.
func (s *Store) ForgetLogs(ctx context.Context, before Moment) (forgotten int, err error) {
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
		within, args := among("id", batch)
		over, err := many[int64](ctx, s.read, `SELECT id FROM runs WHERE ended < ?`+within, append([]any{before}, args...)...)
		if err != nil {
			return forgotten, err
		}
		if len(over) == 0 { // what comes behind is newer
			break
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
