package service

import (
	"context"
	"log/slog"
	"time"

	"wiselantern/service/store"
)

// How often old logs are looked for, at most and at least.
const (
	seldomKept = time.Hour
	oftenKept  = time.Second
)

// keepLogs removes the logs of runs that ended longer ago than that, until ctx is
// done.
func keepLogs(ctx context.Context, records *store.Store, longest time.Duration, log *slog.Logger) {
	every := time.NewTicker(min(seldomKept, max(oftenKept, longest/4)))
	defer every.Stop()
	for {
		n, err := records.ForgetLogs(ctx, store.At(time.Now().Add(-longest)))
		if err != nil && ctx.Err() == nil {
			log.Warn("old logs cannot be removed now", "error", err)
		}
		if n > 0 {
			log.Info("old logs are removed", "runs", n)
		}
		select {
		case <-ctx.Done():
			return
		case <-every.C:
		}
	}
}
