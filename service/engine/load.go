package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"wiselantern/core/definition"
	"wiselantern/core/flow"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// load reads the memory from the records.
func (e *Engine) load(ctx context.Context) error {
	m := memory{workflows: map[string]*workflow{}, byID: map[int64]*workflow{}, runs: map[int64]*live{},
		parked: map[dispatch.AttemptID]*parked{}, awaited: map[string]runWaits{}, newest: map[string]int64{}}
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
	m.versions = map[versionKey]*version{}
	version := func(row store.Version) (*version, error) {
		key := versionKey{row.Workflow, row.Number}
		if m.versions[key] != nil {
			return m.versions[key], nil
		}
		v := e.versions[key]
		if v == nil || v.row != row { // one that was not recorded in the end may have had the same number
			var err error
			if v, err = newVersion(row); err != nil {
				return nil, err
			}
		}
		m.versions[key] = v
		return v, nil
	}
	for _, row := range current {
		v, err := version(row)
		if err != nil {
			return err
		}
		if err := m.byID[row.Workflow].take(v); err != nil {
			return err
		}
	}
	troubles, err := e.store.OpenTroubles(ctx)
	if err != nil {
		return fmt.Errorf("read the troubles: %w", err)
	}
	for _, row := range troubles {
		m.byID[row.Workflow].keepTrouble(row)
	}
	open, err := e.store.OpenRuns(ctx)
	if err != nil {
		return fmt.Errorf("read the runs: %w", err)
	}
	for _, row := range open {
		v := m.versions[versionKey{row.Workflow, row.Version}]
		if v == nil {
			versionRow, err := e.store.Version(ctx, row.Workflow, row.Version)
			if err != nil {
				return fmt.Errorf("read version %d of %s: %w", row.Version, row.Name, err)
			}
			if v, err = version(versionRow); err != nil {
				return err
			}
		}
		l, err := e.restore(ctx, row, v)
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
	if err := e.loadOutside(ctx, &m); err != nil {
		return err
	}
	e.memory = m
	for _, w := range m.workflows {
		e.arm(w)
		e.subscribe(w)
		for key, g := range w.gathering {
			e.timers.add(timer{at: g.first, workflow: w.row.ID, start: key}) // it is looked at again
		}
	}
	for _, p := range m.parked {
		for place := range p.things {
			if p.things[place].state == thingWaiting {
				e.listen(p, place)
			}
		}
	}
	return nil
}

// loadOutside reads what is awaited, what starts have gathered, and what is known of
// data sets.
func (e *Engine) loadOutside(ctx context.Context, m *memory) error {
	waits, err := e.store.OpenWaits(ctx)
	if err == nil {
		err = m.restoreParked(waits)
	}
	if err != nil {
		return fmt.Errorf("read what is awaited: %w", err)
	}
	answers, err := e.store.OpenAnswers(ctx)
	for _, a := range answers {
		w := m.byID[a.Workflow.Int64]
		if w == nil {
			continue
		}
		row, err := e.store.Event(ctx, a.Event)
		if err != nil {
			return fmt.Errorf("read an event: %w", err)
		}
		ev := event{id: row.ID}
		if err := json.Unmarshal([]byte(row.Envelope), &ev.Event); err != nil {
			return fmt.Errorf("read event %d: %w", row.ID, err)
		}
		w.gather(a.Start).add(a, ev)
	}
	if err != nil {
		return fmt.Errorf("read the events that starts have gathered: %w", err)
	}
	updates, err := e.store.NewestUpdates(ctx)
	if err != nil {
		return fmt.Errorf("read the updates of data sets: %w", err)
	}
	for _, u := range updates {
		m.newest[u.Dataset] = u.ID
	}
	seen, err := e.store.AllSeen(ctx)
	if err != nil {
		return fmt.Errorf("read what workflows have seen of data sets: %w", err)
	}
	for _, s := range seen {
		w := m.byID[s.Workflow]
		if w.seen == nil {
			w.seen = map[string]int64{}
		}
		w.seen[s.Dataset] = s.Update
	}
	followOns, err := e.store.OpenFollowOns(ctx)
	for _, row := range followOns {
		f := followOn{FollowOn: row}
		if err = json.Unmarshal([]byte(row.After), &f.after); err != nil {
			break
		}
		var run store.Run
		if run, err = e.store.RunByID(ctx, row.Run); err != nil {
			break
		}
		f.workflow = run.Workflow
		m.follow = append(m.follow, f)
	}
	if err != nil {
		return fmt.Errorf("read the runs that are to be made again: %w", err)
	}
	connections, err := e.store.Connections(ctx)
	if err != nil {
		return fmt.Errorf("read the connections: %w", err)
	}
	all := map[string]string{}
	for _, c := range connections {
		all[c.Name] = c.Address
	}
	e.connections.Store(&all)
	return nil
}

func (e *Engine) restore(ctx context.Context, row store.Run, v *version) (*live, error) {
	if row.Forgotten.Valid {
		return nil, &RefusedError{fmt.Sprintf("the attempts of run %s are no longer kept; make its window again with lantern backfill or lantern start", RunName(row.Name, row.Number))}
	}
	tasks, err := e.store.Tasks(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	used, err := e.store.Used(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	row.CPU, row.Busy, row.Peak = used.CPU, used.Busy, used.Peak
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
	if row.Cause == "event" || row.Cause == "workflow" && !row.OuterRun.Valid {
		events, err := e.store.EventsOfRun(ctx, row.ID)
		if err != nil {
			return nil, err
		}
		for _, r := range events {
			ev := event{id: r.ID}
			if err := json.Unmarshal([]byte(r.Envelope), &ev.Event); err != nil {
				return nil, err
			}
			l.events = append(l.events, ev)
		}
	}
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
// know of the time before; gone tells whether those of a name have all said so.
func (e *Engine) GoOn(ctx context.Context, gone func(worker string) bool) error {
	open, err := e.store.OpenAttempts(ctx)
	if err != nil {
		return fmt.Errorf("read the open attempts: %w", err)
	}
	for _, a := range open {
		id := dispatch.AttemptID{Run: a.Run, Task: a.Task, Attempt: a.Number}
		if a.State == store.AttemptWaiting {
			continue
		}
		if e.sender.Knows(id) {
			err := e.submit(ctx, func(*batch) error { // it is out, and has what it takes
				e.ledger.isOut(id)
				return nil
			})
			if err != nil {
				return err
			}
			continue
		}
		if a.State == store.AttemptRunning {
			if !gone(a.Worker) {
				continue // it may be out of reach only
			}
			err = e.Ended(ctx, dispatch.Ended{AttemptID: id, Worker: a.Worker, At: e.now(), Outcome: dispatch.Lost, Error: "the worker that ran it is gone"})
		} else {
			err = e.submit(ctx, func(b *batch) error {
				if l, ok := e.notBegun(id); ok { // its end may have been recorded since it was read
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
		for _, name := range slices.Sorted(maps.Keys(e.workflows)) {
			w := e.workflows[name]
			b.beginQueued(w)
			b.effects = append(b.effects, e.subscribe(w)...)
		}
		b.awaitAgain()
		b.followOnAgain()
		for _, id := range slices.Sorted(maps.Keys(e.backfills)) {
			b.advanceLater(id)
			if f := e.backfills[id]; f.row.State == BackfillStopped {
				b.endBackfill(f) // if its last run ended with the life before
			}
		}
		return nil
	})
}

// Next tells the next due moment of each workflow that has one and is not paused.
func (e *Engine) Next(ctx context.Context) (map[string]time.Time, error) {
	next := map[string]time.Time{}
	err := e.ask(ctx, func(*batch) error {
		for name, w := range e.workflows {
			if due, ok := w.nextDue(w.row.DecidedUntil.Time()); ok && !w.row.PausedAt.Valid && !w.row.Removed.Valid {
				next[name] = due
			}
		}
		return nil
	})
	return next, err
}
