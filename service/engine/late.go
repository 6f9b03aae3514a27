package engine

import (
	"context"
	"time"

	"wiselantern/service/store"
)

// RunLate is the type of the event that a run was found to be late.
const RunLate = ownTypes + "run.late"

// dueBy is when a new run of the workflow should be done: by the clock of the rule
// that makes it, or where none does, by that of the workflow's first.
func (w *workflow) dueBy(n newRun, now time.Time) store.Moment {
	promise := w.current.definition.DueBy
	if promise == "" {
		return store.Moment{}
	}
	from, zone := n.due, n.zone
	if from.IsZero() {
		from = now
	}
	if zone == nil && len(w.schedules) > 0 {
		zone = w.schedules[0].Zones[0]
	}
	if zone == nil {
		zone = time.UTC
	}
	return store.At(promise.After(from, zone))
}

// Late records that an open run is late, and why. It says so once.
func (e *Engine) Late(ctx context.Context, run int64, reason string) error {
	return e.submit(ctx, func(b *batch) error {
		l := e.runs[run]
		if l == nil || l.row.Late.Valid {
			return nil
		}
		l.row.Late, l.row.LateReason = store.At(b.at), reason
		b.touch(l)
		b.AddTransition(store.Transition{Run: run, At: l.row.Late, Before: l.row.State, After: l.row.State, Reason: "late: " + reason})
		b.tell(run)
		name := RunName(l.row.Name, l.row.Number)
		b.own(RunLate, sourceOf(l.row.Name), name+"/late", name, map[string]any{"run": name, "workflow": l.row.Name, "number": l.row.Number,
			"reason": reason, "window": windowData(l.row.WindowStart, l.row.WindowEnd)})
		return nil
	})
}
