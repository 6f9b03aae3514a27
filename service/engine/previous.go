package engine

import (
	"context"
	"errors"
	"strings"
	"time"

	"wiselantern/core/calendar"
	"wiselantern/core/flow"
	"wiselantern/service/store"
)

// A task may come after a task in the run of the window before. That run is the
// newest one of the workflow whose window ends where this one begins.

// lookBack tells a run how the tasks came out that it waits for in the run of the
// window before.
func (b *batch) lookBack(l *live) {
	for _, node := range l.version.plan.Previous() {
		if state := l.run.Tasks[node].State; state != flow.Idle && state != flow.Waiting || l.run.State != flow.RunRunning {
			continue
		}
		came, result, err := b.cameBefore(l, node)
		if err != nil {
			b.engine.log.Error("the run of the window before cannot be read", "run", RunName(l.row.Name, l.row.Number), "error", err)
			continue // it is asked again when something happens
		}
		l.keepResult(node, 0, result)
		b.step(l, came, "")
	}
}

func (b *batch) cameBefore(l *live, node int) (came flow.Came, result map[string]any, err error) {
	task := strings.TrimSuffix(l.version.plan.Name(node), "@previous")
	came = flow.Came{At: b.at, Task: node}
	before, err := b.before(l)
	if errors.Is(err, store.ErrNotFound) {
		came.As, came.Reason = l.version.plan.Expected(node), "there is no run for the window before"
		return came, nil, nil
	}
	if err != nil {
		return came, nil, err
	}
	name := RunName(before.row.Name, before.row.Number)
	i, ok := before.version.plan.Index(task)
	if !ok {
		came.As, came.Reason = l.version.plan.Expected(node), name+" has no task "+task
		return came, nil, nil
	}
	state := before.run.Tasks[i].State
	if !state.Settled() {
		came.As, came.Reason = flow.Waiting, "waits for "+task+" of "+name
		return came, nil, nil
	}
	came.As, came.Reason = state, "as "+task+" of "+name
	if before.results != nil {
		return came, before.results[i], nil
	}
	return came, nil, nil
}

// before is the run for the window before that of l.
func (b *batch) before(l *live) (*live, error) {
	if !l.row.WindowStart.Valid {
		return nil, store.ErrNotFound
	}
	var found *live
	for _, other := range l.workflow.open {
		if other != l && other.row.WindowEnd == l.row.WindowStart && (found == nil || other.row.ID > found.row.ID) {
			found = other
		}
	}
	for _, other := range b.over {
		if other.row.Workflow == l.row.Workflow && other.row.WindowEnd == l.row.WindowStart && (found == nil || other.row.ID > found.row.ID) {
			found = other
		}
	}
	if found != nil {
		return found, nil
	}
	row, err := b.engine.store.RunEndingAt(context.Background(), l.row.Workflow, l.row.WindowStart)
	if err != nil {
		return nil, err
	}
	return b.find(context.Background(), row)
}

// tellNext tells runs that wait for this one, as that of the window before, what
// has become of its tasks.
func (b *batch) tellNext(l *live) {
	if len(l.workflow.current.plan.Previous()) == 0 && len(l.version.plan.Previous()) == 0 {
		return
	}
	for _, other := range l.workflow.open {
		if other != l && len(other.version.plan.Previous()) > 0 && other.row.WindowStart == l.row.WindowEnd && l.row.WindowEnd.Valid {
			b.then(func() { b.lookBack(other) })
		}
	}
}

// laterIsDue tells whether a window later than that one has come due.
func (w *workflow) laterIsDue(window calendar.Window, now time.Time) bool {
	if window.End.IsZero() {
		return false
	}
	for i := range w.schedules {
		due := w.schedules[i].After(window.End.Add(-1))
		for n := 0; due != nil && !due[0].At.After(now) && n < 3; n++ {
			if due[0].Window.End.After(window.End) {
				return true
			}
			due = w.schedules[i].After(due[0].At)
		}
	}
	return false
}
