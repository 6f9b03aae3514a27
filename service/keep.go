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
	mostFound    = 5000 // looked for at a time
	runsAtOnce   = 50
	eventsAtOnce = 200
	pagesAtOnce  = 2000
	pauseBetween = 20 * time.Millisecond
)

// keep removes what need not be kept any more, until ctx is done.
func (k Keeping) keep(ctx context.Context, records *store.Store, heart *engine.Engine, log *slog.Logger) {
	if k.Logs == 0 && k.Runs == 0 && k.Most == 0 {
		return // all of it, for ever
	}
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

// forgetRuns looks for what need not be kept beside the one writer, and has it removed a
// little at a time.
func (k Keeping) forgetRuns(ctx context.Context, records *store.Store, heart *engine.Engine) (forgotten int, err error) {
	keep := k.of(k.Runs)
	for more := true; more && ctx.Err() == nil; {
		runs, err := records.Forgettable(ctx, keep, mostFound)
		if err != nil {
			return forgotten, err
		}
		var events []int64
		if keep.Before.Valid {
			if events, err = records.ForgettableEvents(ctx, keep.Before, mostFound); err != nil {
				return forgotten, err
			}
		}
		more = len(runs) == mostFound || len(events) == mostFound
		for len(runs)+len(events) > 0 && ctx.Err() == nil {
			some, others := runs[:min(len(runs), runsAtOnce)], events[:min(len(events), eventsAtOnce)]
			err := heart.Record(ctx, func(w *store.Writer) {
				w.ForgetRuns(some, store.At(time.Now()))
				w.ForgetEvents(others)
				w.ForgetRefusals(keep.Before)
				w.GiveBack(pagesAtOnce)
			})
			if err != nil {
				return forgotten, err
			}
			runs, events, forgotten = runs[len(some):], events[len(others):], forgotten+len(some)
			select {
			case <-time.After(pauseBetween):
			case <-ctx.Done():
			}
		}
	}
	return forgotten, nil
}
