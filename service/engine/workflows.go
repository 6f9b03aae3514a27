package engine

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"wiselantern/core/calendar"
	"wiselantern/core/definition"
	"wiselantern/core/flow"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// workflow is a workflow with its runs that have not ended, oldest first.
type workflow struct {
	row     store.Workflow
	current *version
	rules   []calendar.Rule // of the current version
	open    []*live
	armed   time.Time // the due moment that a timer is set for
}

// version is one version of a workflow, shared by its runs.
type version struct {
	row        store.Version
	definition *definition.Workflow
	nodes      []definition.Task // its tasks, and what opens and closes its resources
	plan       *flow.Plan
	compiled   *definition.Expressions // nil without any
}

func newVersion(row store.Version) (*version, error) {
	v := &version{row: row, definition: &definition.Workflow{}}
	if err := json.Unmarshal([]byte(row.Definition), v.definition); err != nil {
		return nil, fmt.Errorf("version %d of workflow %d: %w", row.Number, row.Workflow, err)
	}
	v.nodes, v.plan = v.definition.Nodes(), flow.NewPlan(v.definition)
	var err error
	if v.compiled, err = v.definition.Compile(); err != nil {
		return nil, fmt.Errorf("version %d of workflow %s: %w", row.Number, v.definition.Name, err)
	}
	return v, nil
}

// take makes v the version that new runs take.
func (w *workflow) take(v *version) error {
	w.current, w.rules = v, nil
	for _, start := range v.definition.Starts {
		rule, err := start.Rule()
		if err != nil {
			return fmt.Errorf("workflow %s: %w", w.row.Name, err)
		}
		w.rules = append(w.rules, rule)
	}
	return nil
}

// nextDue is the first moment after t at which a rule of the workflow is due.
func (w *workflow) nextDue(t time.Time) (due time.Time, ok bool) {
	for _, rule := range w.rules {
		if next, found := rule.After(t); found && (!ok || next.Before(due)) {
			due, ok = next, true
		}
	}
	return due, ok
}

// arm sets the timer for the next due moment.
func (e *Engine) arm(w *workflow) {
	if w.row.PausedAt.Valid {
		return
	}
	if due, ok := w.nextDue(w.row.DecidedUntil.Time()); ok && !due.Equal(w.armed) {
		w.armed = due
		e.timers.add(timer{at: due, workflow: w.row.ID})
	}
}

// mostDueInBatch bounds how many runs of one workflow are made in one commit,
// so that others are not kept waiting after a long outage.
const mostDueInBatch = 50

// comeDue makes a run for every window that has come due and is not decided.
func (b *batch) comeDue(w *workflow) {
	if w.row.PausedAt.Valid {
		return
	}
	until := w.row.DecidedUntil.Time()
	for range mostDueInBatch {
		due, ok := w.nextDue(until)
		if !ok || due.After(b.at) {
			break
		}
		b.openDue(w, due)
		until = due
	}
	if store.At(until) != w.row.DecidedUntil {
		w.row.DecidedUntil = store.At(until)
		b.SetWorkflow(w.row)
	}
	b.engine.arm(w)
	b.beginQueued(w)
}

// openDue makes the runs of one due moment: one for each window, also if
// several rules ask for it.
func (b *batch) openDue(w *workflow, due time.Time) {
	var windows []calendar.Window
	for i, rule := range w.rules {
		next, ok := rule.After(due.Add(-time.Nanosecond))
		if !ok || !next.Equal(due) {
			continue
		}
		window, ok := rule.Window(due)
		if !ok || slices.ContainsFunc(windows, func(other calendar.Window) bool {
			return other.Start.Equal(window.Start) && other.End.Equal(window.End)
		}) {
			continue
		}
		windows = append(windows, window)
		params, err := definition.Fill(w.current.definition.Params, nil)
		if err != nil {
			// Refused when the workflow is applied, so it cannot come here.
			b.engine.log.Error("a due run cannot be made", "workflow", w.row.Name, "error", err)
			continue
		}
		b.openRun(w, newRun{cause: "schedule", by: w.current.definition.Starts[i].String(), params: params, window: window, due: due})
	}
}

type newRun struct {
	cause, by string
	params    definition.Values
	window    calendar.Window
	due       time.Time
	outer     *dispatch.AttemptID // of the task that starts it
}

// openRun records a queued run.
func (b *batch) openRun(w *workflow, n newRun) *live {
	params, err := json.Marshal(n.params)
	if err != nil {
		panic("params are plain data: " + err.Error())
	}
	w.row.LastRun++
	b.SetWorkflow(w.row)
	row := store.Run{Workflow: w.row.ID, Name: w.row.Name, Number: w.row.LastRun, Version: w.row.Version, State: string(flow.RunQueued),
		Cause: n.cause, CausedBy: n.by, WindowStart: store.At(n.window.Start), WindowEnd: store.At(n.window.End), Due: store.At(n.due),
		Params: string(params), Created: store.At(b.at)}
	if n.outer != nil {
		row.OuterRun, row.OuterTask, row.OuterAttempt = number(n.outer.Run), number(int64(n.outer.Task)), number(int64(n.outer.Attempt))
	}
	row.ID = b.AddRun(row, w.current.plan.Len())
	l := &live{row: row, workflow: w, version: w.current, run: flow.New(w.current.plan, uint64(row.ID))}
	l.setParams(n.params)
	l.tasks = make([]store.Task, w.current.plan.Len())
	for i := range l.tasks {
		l.tasks[i] = store.Task{Run: row.ID, Task: i, State: flow.Idle.String()}
	}
	if w.current.definition.IfRunning == definition.Replace {
		for _, older := range slices.Clone(w.open) {
			b.step(older, flow.Stop{At: b.at, Task: flow.AllTasks, By: "the newer run " + RunName(row.Name, row.Number)}, "")
		}
	}
	b.engine.runs[row.ID] = l
	w.open = append(w.open, l)
	person := ""
	if n.cause == "person" {
		person = n.by
	}
	b.AddTransition(store.Transition{Run: row.ID, At: store.At(b.at), After: row.State, Person: person})
	b.tell(l.row.ID)
	return l
}

func paramTexts(values definition.Values) map[string]string {
	texts := make(map[string]string, len(values))
	for name, value := range values {
		texts[name] = values.Text(value)
	}
	return texts
}

// beginQueued begins the queued runs whose turn it is. While a workflow is
// paused only those begin that a person asked for.
func (b *batch) beginQueued(w *workflow) {
	most := w.current.definition.RunsAtOnce()
	going := 0
	for _, l := range w.open {
		if l.run.State == flow.RunRunning {
			going++
		}
	}
	for _, l := range slices.Clone(w.open) {
		if most > 0 && going >= most {
			return
		}
		if l.run.State != flow.RunQueued || w.row.PausedAt.Valid && l.row.Cause != "person" {
			continue
		}
		b.step(l, flow.Opened{At: b.at}, "")
		going++
	}
}

// ended forgets a run that has ended, tells the task that started it, and lets
// the next one begin.
func (b *batch) ended(l *live) {
	b.leaveResult(l)
	if l.row.OuterRun.Valid {
		b.then(func() { b.innerEnded(l) })
	}
	delete(b.engine.runs, l.row.ID)
	if b.over == nil {
		b.over = map[int64]*live{}
	}
	b.over[l.row.ID] = l
	w := l.workflow
	if i := slices.Index(w.open, l); i >= 0 {
		w.open = slices.Delete(w.open, i, i+1)
	}
	b.beginQueued(w)
}
