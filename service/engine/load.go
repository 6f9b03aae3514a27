package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"wiselantern/core/definition"
	"wiselantern/core/flow"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// load reads the memory from the records.
func (e *Engine) load(ctx context.Context) error {
	m := memory{workflows: map[string]*workflow{}, byID: map[int64]*workflow{}, runs: map[int64]*live{}}
	rows, err := e.store.Workflows(ctx)
	if err != nil {
		return fmt.Errorf("read the workflows: %w", err)
	}
	current, err := e.store.CurrentVersions(ctx)
	if err != nil {
		return fmt.Errorf("read the workflows: %w", err)
	}
	for _, row := range rows {
		w := &workflow{row: row}
		if err := json.Unmarshal([]byte(row.Covered), &w.covered); err != nil {
			return fmt.Errorf("where the windows of %s end: %w", row.Name, err)
		}
		m.workflows[row.Name], m.byID[row.ID] = w, w
	}
	marks, err := e.store.Watermarks(ctx, 0)
	if err != nil {
		return fmt.Errorf("read the watermarks: %w", err)
	}
	for _, row := range marks {
		w := m.byID[row.Workflow]
		if w.watermarks == nil {
			w.watermarks = map[string]string{}
		}
		w.watermarks[row.Name] = row.Value
	}
	versions := map[[2]int64]*version{}
	for _, row := range current {
		v, err := newVersion(row)
		if err != nil {
			return err
		}
		if err := m.byID[row.Workflow].take(v); err != nil {
			return err
		}
		versions[[2]int64{row.Workflow, int64(row.Number)}] = v
	}
	open, err := e.store.OpenRuns(ctx)
	if err != nil {
		return fmt.Errorf("read the runs: %w", err)
	}
	for _, row := range open {
		key := [2]int64{row.Workflow, int64(row.Version)}
		if versions[key] == nil {
			versionRow, err := e.store.Version(ctx, row.Workflow, row.Version)
			if err != nil {
				return fmt.Errorf("read version %d of %s: %w", row.Version, row.Name, err)
			}
			if versions[key], err = newVersion(versionRow); err != nil {
				return err
			}
		}
		l, err := e.restore(ctx, row, versions[key])
		if err != nil {
			return fmt.Errorf("read run %s: %w", RunName(row.Name, row.Number), err)
		}
		l.workflow = m.byID[row.Workflow]
		l.workflow.open = append(l.workflow.open, l)
		m.runs[row.ID] = l
		if row.Deadline.Valid {
			m.timers.add(timer{at: row.Deadline.Time(), run: row.ID, task: flow.AllTasks})
		}
		for i, t := range l.tasks {
			if t.Wake.Valid {
				m.timers.add(timer{at: t.Wake.Time(), run: row.ID, task: i, attempt: t.Attempts})
			}
		}
	}
	if m.ledger, err = e.loadLedger(ctx, m.runs); err != nil {
		return err
	}
	if m.backfills, err = e.loadBackfills(ctx, m.runs); err != nil {
		return err
	}
	m.advancing = map[int64]bool{}
	e.memory = m
	for _, w := range m.workflows {
		e.arm(w)
	}
	return nil
}

func (e *Engine) restore(ctx context.Context, row store.Run, v *version) (*live, error) {
	tasks, err := e.store.Tasks(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	recorded := flow.Run{State: flow.RunState(row.State), Stopping: row.Stopping, Seed: uint64(row.ID), Tasks: make([]flow.Task, len(tasks))}
	for i, t := range tasks {
		state, err := flow.ParseState(t.State)
		if err != nil {
			return nil, err
		}
		recorded.Tasks[i] = flow.Task{State: state, Attempts: t.Attempts, Before: t.Before, Lost: t.Lost, Reason: t.Reason, Stopping: t.Stopping,
			Cleared: t.Cleared, Items: t.Items, Of: int(t.ItemOf.Int64), Item: int(t.Item.Int64), Value: t.Value}
		if recorded.Tasks[i].Chosen, err = readChosen(t.Chosen); err != nil {
			return nil, err
		}
	}
	var params definition.Values
	if err := json.Unmarshal([]byte(row.Params), &params); err != nil {
		return nil, err
	}
	l := &live{row: row, version: v, run: flow.Restore(v.plan, recorded), tasks: tasks}
	l.setParams(params)
	var marks definition.Values
	if err := json.Unmarshal([]byte(row.Watermarks), &marks); err != nil {
		return nil, err
	}
	l.setMarks(marks)
	return l, e.restoreResults(ctx, l)
}

// loadLedger reads who has what: attempts that are out have what they take, and
// those whose order was not sent wait.
func (e *Engine) loadLedger(ctx context.Context, runs map[int64]*live) (ledger, error) {
	c := newLedger()
	c.open = e.ledger.open
	rows, err := e.store.Capacities(ctx)
	if err != nil {
		return c, fmt.Errorf("read the capacities: %w", err)
	}
	for _, row := range rows {
		c.units[row.Name] = row.Units
	}
	open, err := e.store.OpenAttempts(ctx)
	if err != nil {
		return c, fmt.Errorf("read the open attempts: %w", err)
	}
	for _, a := range open {
		l := runs[a.Run]
		if l == nil {
			continue
		}
		takes := l.node(a.Task).Takes
		id := dispatch.AttemptID{Run: a.Run, Task: a.Task, Attempt: a.Number}
		switch {
		case len(takes) == 0:
		case a.State != store.AttemptSent || e.sender != nil && e.sender.Knows(id):
			c.hold(id, takes)
		default:
			c.queue(waiter{id: id, priority: l.priority(), takes: takes})
		}
	}
	return c, nil
}

// GoOn takes up the attempts that were open when the records were last written:
// orders that no worker has are sent again, attempts whose worker is gone are
// recorded as lost. It is called once, when the workers have said what they
// know of the time before.
func (e *Engine) GoOn(ctx context.Context) error {
	open, err := e.store.OpenAttempts(ctx)
	if err != nil {
		return fmt.Errorf("read the open attempts: %w", err)
	}
	for _, a := range open {
		id := dispatch.AttemptID{Run: a.Run, Task: a.Task, Attempt: a.Number}
		if e.sender.Knows(id) || a.State == store.AttemptWaiting {
			continue
		}
		if a.State == store.AttemptRunning {
			err = e.Ended(ctx, dispatch.Ended{AttemptID: id, Worker: a.Worker, At: e.now(), Outcome: dispatch.Lost, Error: "the worker that ran it is gone"})
		} else {
			err = e.submit(ctx, func(b *batch) error {
				if l := e.runs[a.Run]; l != nil {
					b.send(l, a.Task, a.Number)
				}
				return nil
			})
		}
		if err != nil {
			return err
		}
	}
	return e.submit(ctx, func(b *batch) error {
		e.ledger.open = true
		for _, w := range e.workflows {
			b.beginQueued(w)
		}
		for id, f := range e.backfills {
			b.advanceLater(id)
			if f.row.State == BackfillStopped {
				b.endBackfill(f) // if its last run ended with the life before
			}
		}
		return nil
	})
}

// Next tells the next due moment of each workflow that has one and is not paused.
func (e *Engine) Next(ctx context.Context) (map[string]time.Time, error) {
	next := map[string]time.Time{}
	err := e.submit(ctx, func(*batch) error {
		for name, w := range e.workflows {
			if due, ok := w.nextDue(w.row.DecidedUntil.Time()); ok && !w.row.PausedAt.Valid {
				next[name] = due
			}
		}
		return nil
	})
	return next, err
}
