package lookout

import (
	"container/heap"
	"context"
	"fmt"
	"log/slog"
	"time"

	"wiselantern/core/definition"
	"wiselantern/core/forecast"
	"wiselantern/service/store"
)

// Engine records that a run is late.
type Engine interface {
	Late(ctx context.Context, run int64, reason string) error
}

// check is a moment at which a run may have become late.
type check struct {
	at  time.Time
	run int64
}

type checks []check

func (c checks) Len() int           { return len(c) }
func (c checks) Less(i, j int) bool { return c[i].at.Before(c[j].at) }
func (c checks) Swap(i, j int)      { c[i], c[j] = c[j], c[i] }
func (c *checks) Push(x any)        { *c = append(*c, x.(check)) }
func (c *checks) Pop() any {
	last := (*c)[len(*c)-1]
	*c = (*c)[:len(*c)-1]
	return last
}

const (
	// firstLook is how long after a run was seen it is first looked at, unless it is
	// due before: nothing is called late sooner, and most runs have ended by then.
	firstLook = 20 * time.Second
	// gather is how long changes are gathered before new runs are looked for.
	gather = time.Second
	// longestSleep bounds how late a change of the machine's clock is noticed.
	longestSleep = time.Minute
)

// Run marks what becomes late until ctx is done. Changes is called for what is
// closed at the next change of anything.
func (o *Lookout) Run(ctx context.Context, changes func() <-chan struct{}, log *slog.Logger) {
	seen := map[int64]bool{}
	changed := changes()
	look := func() {
		if err := o.look(ctx, seen); err != nil && ctx.Err() == nil {
			log.Warn("what is late cannot be told now", "error", err)
		}
	}
	look()
	for {
		sleep := longestSleep
		if len(o.checks) > 0 {
			sleep = min(sleep, max(0, o.checks[0].at.Sub(o.now())))
		}
		timer := time.NewTimer(sleep)
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-timer.C:
		case <-changed:
			timer.Stop()
			select {
			case <-ctx.Done():
				return
			case <-time.After(gather):
			}
			changed = changes() // before looking: what comes from now on is told
			look()
		}
		for len(o.checks) > 0 && !o.checks[0].at.After(o.now()) {
			due := heap.Pop(&o.checks).(check)
			if err := o.check(ctx, due.run, seen); err != nil && ctx.Err() == nil {
				log.Warn("whether a run is late cannot be told now", "run", due.run, "error", err)
				heap.Push(&o.checks, check{o.now().Add(longestSleep), due.run})
			}
		}
	}
}

// look notes the open runs that it has not seen.
func (o *Lookout) look(ctx context.Context, seen map[int64]bool) error {
	open, err := o.store.OpenRunMoments(ctx)
	if err != nil {
		return err
	}
	still := make(map[int64]bool, len(open))
	for _, row := range open {
		still[row.ID] = true
		if seen[row.ID] || row.Late.Valid {
			continue
		}
		seen[row.ID] = true
		at := o.now().Add(firstLook)
		if row.DueBy.Valid {
			at = o.now()
		}
		heap.Push(&o.checks, check{at, row.ID})
	}
	for id := range seen {
		if !still[id] {
			delete(seen, id)
		}
	}
	return nil
}

// check marks a run late, or notes when to look again.
func (o *Lookout) check(ctx context.Context, run int64, seen map[int64]bool) error {
	if !seen[run] {
		return nil
	}
	row, err := o.store.RunByID(ctx, run)
	if err != nil || row.Ended.Valid || row.Late.Valid {
		return err
	}
	g, err := o.Going(ctx, row)
	if err != nil {
		return err
	}
	now := o.now()
	if !row.Started.Valid { // it waits for its turn: only a promise can be broken
		g.Started, g.Usual = now, forecast.Usual{}
	}
	late, next := g.Judge(now)
	if late != nil {
		return o.engine.Late(ctx, run, words(late, row, now))
	}
	// A task that begins from now on is late no sooner than this.
	for i, t := range g.Tasks {
		if limit, ok := g.Usuals[i].FarLonger(); ok && !t.Settled && t.Started.IsZero() {
			if at := now.Add(limit); next.IsZero() || at.Before(next) {
				next = at
			}
		}
	}
	if !row.Started.Valid && (next.IsZero() || next.After(now.Add(longestSleep))) {
		next = now.Add(longestSleep)
	}
	if !next.IsZero() {
		heap.Push(&o.checks, check{later(next, now.Add(time.Second)), run})
	}
	return nil
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func words(late *forecast.Late, row store.Run, now time.Time) string {
	length := func(d time.Duration) string {
		if d >= time.Minute {
			d = d.Round(time.Second)
		} else {
			d = d.Round(10 * time.Millisecond)
		}
		return definition.Length(d).String()
	}
	switch late.Kind {
	case "due":
		if !now.Before(row.DueBy.Time()) {
			return fmt.Sprintf("it should have been done by %s", row.DueBy.Time().Format(time.RFC3339))
		}
		return fmt.Sprintf("it should be done by %s, and by what is usual it will end at %s", row.DueBy.Time().Format(time.RFC3339), late.Expected.UTC().Format(time.RFC3339))
	case "run":
		return fmt.Sprintf("it has taken %s, and usually takes %s", length(late.Elapsed), length(late.Median))
	}
	return fmt.Sprintf("task %s has taken %s, and usually takes %s", late.Task, length(late.Elapsed), length(late.Median))
}
