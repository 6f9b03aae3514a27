package engine

import (
	"database/sql"
	"encoding/json"
	"time"

	"wiselantern/core/definition"
	"wiselantern/core/flow"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// batch is what one transaction records, and what is released after it.
type batch struct {
	*store.Writer
	engine   *Engine
	at       time.Time
	dirty    []*live
	again    bool            // what was awaited before a restart is looked at again
	followed []followOn      // as they were before runs that ended in this batch
	over     map[int64]*live // runs that ended in this batch: their records are not to be read yet
	effects  []func()
	next     []func()       // steps of other runs that this one brings about
	told     map[int64]bool // runs that changed; AllRuns alone when only a workflow did
}

// live is a run that has not ended.
type live struct {
	row         store.Run
	workflow    *workflow
	version     *version
	run         *flow.Run
	tasks       []store.Task
	params      map[string]string      // as tasks see them
	native      map[string]any         // as expressions see them
	marks       definition.Values      // the watermarks that it sees
	nativeMarks map[string]any         // as expressions see them
	results     map[int]map[string]any // of tasks, if somebody may ask for them
	events      []event                // that it was started by
	noResult    error                  // why what it leaves cannot be told

	runDirty   bool
	dirtyTasks []int
}

// step gives an input to a run and writes down what comes of it.
func (b *batch) step(l *live, in flow.Input, person string) {
	before := l.run.State
	changes, effects := l.version.plan.Step(l.run, in, l)
	for place := len(l.tasks); place < len(l.run.Tasks); place++ {
		b.addItem(l, place)
	}
	var orders []flow.Dispatch
	for _, c := range changes {
		b.changed(l, c, person)
	}
	for _, effect := range effects {
		switch e := effect.(type) {
		case flow.Dispatch:
			b.AddAttempt(l.row.ID, e.Task, e.Attempt, store.At(b.at))
			orders = append(orders, e)
		case flow.Cancel:
			id := dispatch.AttemptID{Run: l.row.ID, Task: e.Task, Attempt: e.Attempt}
			if l.node(e.Task).Kind == "start" {
				b.then(func() { b.stopInner(id, in) })
				continue
			}
			if l.node(e.Task).Parked() {
				b.then(func() { b.stopParked(id) })
				continue
			}
			b.effects = append(b.effects, func() { b.engine.sender.Cancel(id) })
		case flow.GiveUp:
			id := dispatch.AttemptID{Run: l.row.ID, Task: e.Task, Attempt: e.Attempt}
			b.engine.ledger.release(id)
			b.EndAttempt(store.Attempt{Run: l.row.ID, Task: e.Task, Number: e.Attempt, State: string(e.Outcome), Ended: store.At(b.at), Error: e.Reason})
			if b.unpark(id) {
				continue
			}
			b.then(func() { b.stopInner(id, in) })
		case flow.Arm:
			if e.Task == flow.AllTasks {
				l.row.Deadline = store.At(e.At)
				b.touch(l)
				b.engine.timers.add(timer{at: l.row.Deadline.Time(), run: l.row.ID, task: flow.AllTasks})
				continue
			}
			l.tasks[e.Task].Wake = store.At(e.At)
			b.engine.timers.add(timer{at: e.At, run: l.row.ID, task: e.Task, attempt: e.Attempt})
		case flow.Finish:
			l.row.Ended = store.At(b.at)
		}
	}
	if l.run.State != before {
		if before == flow.RunQueued && l.run.State != flow.RunStopped { // it may have come to its end at once
			l.row.Started = store.At(b.at)
		}
		if before.Settled() {
			l.row.Ended = store.Moment{}
			// What was promised was kept or broken at its first end.
			l.row.DueBy, l.row.Late, l.row.LateReason = store.Moment{}, store.Moment{}, ""
		}
		b.touch(l)
		b.AddTransition(store.Transition{Run: l.row.ID, At: store.At(b.at), Before: string(before), After: string(l.run.State), Person: person})
		b.tell(l.row.ID)
		if l.run.State.Settled() {
			b.ended(l)
		}
	}
	if l.row.Stopping != l.run.Stopping {
		b.touch(l)
	}
	if len(changes) > 0 {
		b.tellNext(l)
		b.tellRunWaits(l)
	}
	for _, o := range orders { // last: an order that cannot be made is a step of its own
		b.send(l, o.Task, o.Attempt)
	}
}

// then has something done when the step that is being written down is done with.
func (b *batch) then(do func()) { b.next = append(b.next, do) }

// settle does what steps have brought about elsewhere, and what that brings about.
func (b *batch) settle() {
	for len(b.next) > 0 {
		do := b.next[0]
		b.next = b.next[1:]
		do()
	}
}

// addItem writes down an item that a task has got.
func (b *batch) addItem(l *live, place int) {
	task := &l.run.Tasks[place]
	row := store.Task{Run: l.row.ID, Task: place, State: flow.Idle.String(), ItemOf: number(int64(task.Of)), Item: number(int64(task.Item)), Value: task.Value}
	l.tasks = append(l.tasks, row)
	b.AddItem(row)
	if !l.runDirty && len(l.dirtyTasks) == 0 {
		b.dirty = append(b.dirty, l)
	}
	l.dirtyTasks = append(l.dirtyTasks, place, task.Of)
}

func number(n int64) sql.NullInt64 { return sql.NullInt64{Int64: n, Valid: true} }

// node is what the definition says of a task of the run.
func (l *live) node(task int) *definition.Task {
	return &l.version.nodes[l.version.plan.Node(l.run, task)]
}

// priority is that of its attempts for capacity: a backfill takes what all others
// leave.
func (l *live) priority() int {
	if l.row.Backfill.Valid {
		return l.version.definition.Priority - belowOthers
	}
	return l.version.definition.Priority
}

// belowOthers is more than priorities of workflows can differ.
const belowOthers = 1000

// send releases the work order of an attempt once it is recorded, and once there
// is room in the capacities that it takes.
func (b *batch) send(l *live, task, attempt int) {
	takes := l.node(task).Takes
	if len(takes) == 0 {
		b.sendNow(l, task, attempt)
		return
	}
	id := dispatch.AttemptID{Run: l.row.ID, Task: task, Attempt: attempt}
	b.engine.ledger.queue(waiter{id: id, priority: l.priority(), takes: takes})
}

// sendNow releases a work order. One that cannot be made, because an expression
// in it has no value, fails the attempt.
func (b *batch) sendNow(l *live, task, attempt int) {
	if l.node(task).Kind == "start" {
		b.then(func() { b.startInner(l, task, attempt) })
		return
	}
	if l.node(task).Parked() {
		b.then(func() { b.park(l, task, attempt) })
		return
	}
	order, err := l.order(task, attempt)
	if err == nil {
		b.effects = append(b.effects, func() { b.engine.sender.Send(order) })
		return
	}
	b.refuse(l, task, attempt, "what it is to be given cannot be told: "+err.Error())
}

// refuse fails an attempt that cannot be made.
func (b *batch) refuse(l *live, task, attempt int, reason string) {
	b.engine.ledger.release(dispatch.AttemptID{Run: l.row.ID, Task: task, Attempt: attempt})
	b.EndAttempt(store.Attempt{Run: l.row.ID, Task: task, Number: attempt, State: string(flow.AttemptFailed), Ended: store.At(b.at), Error: reason})
	b.step(l, flow.Ended{At: b.at, Task: task, Attempt: attempt, Outcome: flow.AttemptRefused, Error: reason}, "")
}

// tell wakes those who follow the run, once it is recorded.
func (b *batch) tell(run int64) {
	if b.told == nil {
		b.told = map[int64]bool{}
	}
	b.told[run] = true
}

// touch has the row of a run written at the end of the batch.
func (b *batch) touch(l *live) {
	if !l.runDirty && len(l.dirtyTasks) == 0 {
		b.dirty = append(b.dirty, l)
	}
	l.runDirty = true
}

// changed writes down a change of a task's state. When the task started is
// known from the worker, and set by then.
func (b *batch) changed(l *live, c flow.Change, person string) {
	row := &l.tasks[c.Task]
	at := store.At(b.at)
	if c.From == flow.Cooling || c.From == flow.Waiting && c.To != flow.Waiting && c.To != flow.Cooling {
		row.Wake = store.Moment{}
	}
	switch {
	case c.To.Settled():
		row.Ended = at
	case c.From == flow.Idle && c.To == flow.Running: // its items are made
		row.Started = at
	case c.To == flow.Idle: // it is to be made again
		row.Started, row.Ended = store.Moment{}, store.Moment{}
	}
	if c.To == flow.Held || c.From == flow.Held {
		b.touch(l)
	}
	if c.From == flow.Ready && c.To == flow.Stopped {
		b.engine.ledger.release(dispatch.AttemptID{Run: l.row.ID, Task: c.Task, Attempt: l.run.Tasks[c.Task].Attempts})
		b.EndAttempt(store.Attempt{Run: l.row.ID, Task: c.Task, Number: l.run.Tasks[c.Task].Attempts, State: string(flow.AttemptStopped), Ended: at, Error: c.Reason})
	}
	if !l.runDirty && len(l.dirtyTasks) == 0 {
		b.dirty = append(b.dirty, l)
	}
	l.dirtyTasks = append(l.dirtyTasks, c.Task)
	b.AddTransition(store.Transition{Run: l.row.ID, Task: sql.NullInt64{Int64: int64(c.Task), Valid: true}, At: at,
		Before: c.From.String(), After: c.To.String(), Reason: c.Reason, Person: person})
	b.tell(l.row.ID)
	if c.To == flow.Failed {
		b.troubleOf(l, c.Task, c.Reason)
	}
	if c.To == flow.Succeeded && c.Task < l.version.plan.Len() && l.version.nodes[c.Task].Updates != nil {
		b.then(func() { b.updated(l, c.Task) })
	}
}

// flush writes each touched run and task once, however often it changed.
func (b *batch) flush() {
	for _, l := range b.dirty {
		for _, i := range l.dirtyTasks {
			row, task := &l.tasks[i], &l.run.Tasks[i]
			if row.State == task.State.String() && row.Attempts == task.Attempts && row.Before == task.Before && row.Stopping == task.Stopping && row.Reason == task.Reason &&
				row.Cleared == task.Cleared && row.Items == task.Items && row.Value == task.Value {
				continue // written already
			}
			row.State, row.Attempts, row.Before, row.Lost = task.State.String(), task.Attempts, task.Before, task.Lost
			row.Stopping, row.Reason, row.Chosen = task.Stopping, task.Reason, chosenText(task.Chosen)
			row.Cleared, row.Items, row.Value = task.Cleared, task.Items, task.Value
			b.SetTask(*row)
		}
		l.row.State, l.row.Stopping = string(l.run.State), l.run.Stopping
		if counts := l.counts(); counts != l.row.Counts {
			l.row.Counts, l.runDirty = counts, true
		}
		if l.runDirty {
			l.row.Attention = l.run.Attention() || l.row.Late.Valid && !l.run.State.Settled()
			b.SetRun(l.row)
		}
		l.runDirty, l.dirtyTasks = false, l.dirtyTasks[:0]
	}
	b.dirty = nil
}

// counts are how many tasks are in each state, once the run has ended.
func (l *live) counts() (counts sql.NullString) {
	if !l.run.State.Settled() {
		return counts
	}
	in := map[string]int{}
	for i := range l.tasks {
		if !l.tasks[i].ItemOf.Valid {
			in[l.tasks[i].State]++
		}
	}
	text, _ := json.Marshal(in) // words and numbers
	return sql.NullString{String: string(text), Valid: true}
}

func (b *batch) timerDue(t timer) {
	if t.start != "" {
		if w := b.engine.byID[t.workflow]; w != nil {
			if o, place, ok := w.outside(t.start); ok {
				b.gathered(w, o, place)
			}
		}
		return
	}
	if t.run == 0 {
		if w := b.engine.byID[t.workflow]; w != nil && t.at.Equal(w.armed) {
			w.armed = time.Time{}
			b.comeDue(w)
		}
		return
	}
	if l := b.engine.runs[t.run]; l != nil {
		if t.task == flow.AllTasks && store.At(t.at) != l.row.Deadline {
			return // it was set anew since
		}
		if b.parkedDue(t) {
			return
		}
		b.step(l, flow.TimerDue{At: b.at, Task: t.task, Attempt: t.attempt}, "")
	}
}
