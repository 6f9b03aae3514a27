package service

import (
	"context"
	"log/slog"
	"time"

	"wiselantern/service/engine"
	"wiselantern/service/store"
)

// Keeping says what is kept, and for how long.
type Keeping struct {
	Logs   time.Duration // of runs, after their end; 0 for ever
	Runs   time.Duration // the attempts of runs after their end, and events; 0 for ever
	Most   int           // of each workflow, so many runs at most with their attempts and logs; 0 is any number
	Newest int           // of each workflow, so many of the newest in any case
}

// How often it is looked for what need not be kept, at most and at least.
const (
	seldomKept = time.Hour
	oftenKept  = time.Second
)

// How much is removed in one transaction, so that runs that go on are not kept waiting,
// and the pause after it.
const (
	runsAtOnce   = 50
	eventsAtOnce = 500
	pagesAtOnce  = 2000
	pauseBetween = 20 * time.Millisecond
)

// keep removes what need not be kept any more, until ctx is done.
func (k Keeping) keep(ctx context.Context, records *store.Store, heart *engine.Engine, log *slog.Logger) {
	shortest := seldomKept
	for _, age := range []time.Duration{k.Logs, k.Runs} {
		if age > 0 {
			shortest = min(shortest, max(oftenKept, age/4))
		}
	}
	if k.Most > 0 {
		shortest = min(shortest, time.Minute)
	}
	every := time.NewTicker(shortest)
	defer every.Stop()
	for {
		if k.Logs > 0 || k.Most > 0 {
			n, err := records.ForgetLogs(ctx, k.of(k.Logs))
			tellKept(ctx, log, "logs", n, err)
		}
		if k.Runs > 0 || k.Most > 0 {
			n, err := k.forgetRuns(ctx, records, heart)
			tellKept(ctx, log, "records", n, err)
		}
		select {
		case <-ctx.Done():
			return
		case <-every.C:
		}
	}
}

func tellKept(ctx context.Context, log *slog.Logger, what string, runs int, err error) {
	if err != nil && ctx.Err() == nil {
		log.Warn("what need not be kept cannot be removed now; it is tried again", "what", what, "error", err)
	}
	if runs > 0 {
		log.Info("what need not be kept is removed", "what", what, "runs", runs)
	}
}

func (k Keeping) of(age time.Duration) store.Keep {
	keep := store.Keep{Most: k.Most, Newest: k.Newest}
	if age > 0 {
		keep.Before = store.At(time.Now().Add(-age))
	}
	return keep
}

func (k Keeping) forgetRuns(ctx context.Context, records *store.Store, heart *engine.Engine) (forgotten int, err error) {
	keep, events := k.of(k.Runs), 0
	for ctx.Err() == nil {
		ids, err := records.Forgettable(ctx, keep, runsAtOnce)
		if err != nil {
			return forgotten, err
		}
		gone := 0
		err = heart.Record(ctx, func(w *store.Writer) {
			w.ForgetRuns(ids, store.At(time.Now()))
			if keep.Before.Valid {
				gone = w.ForgetEvents(keep.Before, eventsAtOnce)
			}
			w.GiveBack(pagesAtOnce)
		})
		if err != nil {
			return forgotten, err
		}
		forgotten, events = forgotten+len(ids), events+gone
		if len(ids) < runsAtOnce && gone < eventsAtOnce {
			break
		}
		select {
		case <-time.After(pauseBetween):
		case <-ctx.Done():
		}
	}
	return forgotten, nil
}
