package engine

import (
	"database/sql"
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

// A task of the kind start makes a run of another workflow. Both are steps of the
// same commit: no crash leaves the one without the other.

// startInner makes the run that a task starts, and parks the task.
func (b *batch) startInner(l *live, task, attempt int) {
	if t := &l.run.Tasks[task]; t.State != flow.Ready || t.Attempts != attempt {
		return // it was stopped in between
	}
	inner := l.node(task).Start
	w := b.engine.workflows[inner.Workflow]
	if w == nil || w.row.Removed.Valid {
		b.refuse(l, task, attempt, fmt.Sprintf("there is no workflow %q to start; apply it, and say rerun", inner.Workflow))
		return
	}
	if going, full := w.full(); full {
		b.endInner(l, task, attempt, flow.AttemptSkipped, nil, fmt.Sprintf("%s was still going, and if_running of %s is skip", going, inner.Workflow))
		return
	}
	params, err := l.innerParams(task, w.current.definition)
	if err != nil {
		b.refuse(l, task, attempt, fmt.Sprintf("%s cannot be started: %v", inner.Workflow, err))
		return
	}
	id := dispatch.AttemptID{Run: l.row.ID, Task: task, Attempt: attempt}
	made := newRun{cause: "workflow", by: fmt.Sprintf("%s of %s", l.version.plan.Label(l.run, task), RunName(l.row.Name, l.row.Number)), params: params}
	if inner.Window == "same" && l.row.WindowEnd.Valid {
		made.window = calendar.Window{Start: l.row.WindowStart.Time(), End: l.row.WindowEnd.Time()}
	}
	if inner.Wait {
		made.outer = &id
	}
	made.older = !l.row.Newest && inner.Window == "same"
	run := b.openRun(w, made)
	name := RunName(run.row.Name, run.row.Number)
	b.ParkAttempt(id.Run, task, attempt, store.At(b.at), run.row.ID)
	l.startedAt(task, b.at)
	if inner.Wait {
		b.step(l, flow.Parked{At: b.at, Task: task, Attempt: attempt, Reason: "waits for the end of " + name}, "")
	} else {
		b.endInner(l, task, attempt, flow.AttemptSucceeded, map[string]any{"run": name}, "")
	}
	b.beginQueued(w)
}

// innerParams are the values that a task gives the workflow that it starts.
func (l *live) innerParams(task int, to *definition.Workflow) (definition.Values, error) {
	facts, err := l.facts(task)
	if err != nil {
		return nil, err
	}
	given := definition.Values{}
	for name, template := range l.version.compiled.Nodes[l.version.plan.Node(l.run, task)].Params {
		if err := giveParam(given, to, name, template, facts); err != nil {
			return nil, err
		}
	}
	return definition.Fill(to.Params, given)
}

// plainValue is a value of an expression as JSON has it.
func plainValue(value any) any {
	switch v := value.(type) {
	case time.Time:
		return v.UTC().Format(time.RFC3339Nano)
	case time.Duration:
		return v.String()
	case int64:
		return float64(v)
	case []any:
		plain := make([]any, len(v))
		for i := range v {
			plain[i] = plainValue(v[i])
		}
		return plain
	case map[string]any:
		plain := make(map[string]any, len(v))
		for name := range v {
			plain[name] = plainValue(v[name])
		}
		return plain
	}
	return value
}

// stopInner ends the run that an attempt has started, if it is still going.
func (b *batch) stopInner(id dispatch.AttemptID, why flow.Input) {
	by := "the run that started it"
	if stop, ok := why.(flow.Stop); ok {
		by = stop.By
	}
	for _, l := range b.engine.runs {
		if l.startedBy(id) {
			b.step(l, flow.Stop{At: b.at, Task: flow.AllTasks, By: by}, "")
			return
		}
	}
}

func (l *live) startedBy(id dispatch.AttemptID) bool {
	return l.row.OuterRun == number(id.Run) && l.row.OuterTask == number(int64(id.Task)) && l.row.OuterAttempt == number(int64(id.Attempt))
}

// innerEnded tells a task how the run has ended that it started.
func (b *batch) innerEnded(inner *live) {
	l := b.engine.runs[inner.row.OuterRun.Int64]
	if l == nil {
		return
	}
	task, attempt := int(inner.row.OuterTask.Int64), int(inner.row.OuterAttempt.Int64)
	if t := &l.run.Tasks[task]; t.State != flow.Waiting || t.Attempts != attempt {
		return // it has ended without it, or this is not the first end of the run
	}
	name := RunName(inner.row.Name, inner.row.Number)
	var result map[string]any
	if inner.row.Result.Valid {
		if err := json.Unmarshal([]byte(inner.row.Result.String), &result); err != nil {
			b.endInner(l, task, attempt, flow.AttemptRefused, nil, fmt.Sprintf("the result of %s cannot be read: %v", name, err))
			return
		}
	}
	switch {
	case inner.run.State == flow.RunSucceeded && inner.noResult != nil:
		b.endInner(l, task, attempt, flow.AttemptRefused, nil, fmt.Sprintf("%s succeeded, but its result cannot be told: %v", name, inner.noResult))
	case inner.run.State == flow.RunSucceeded:
		b.endInner(l, task, attempt, flow.AttemptSucceeded, result, "")
	case inner.run.State == flow.RunStopped:
		b.endInner(l, task, attempt, flow.AttemptStopped, nil, name+" was stopped")
	default:
		b.endInner(l, task, attempt, flow.AttemptFailed, nil, name+" failed")
	}
}

func (b *batch) endInner(l *live, task, attempt int, outcome flow.Outcome, result map[string]any, reason string) {
	b.end(l, task, attempt, outcome, result, reason, "")
}

// end ends an attempt that no worker has, by the word of a person if there is one.
func (b *batch) end(l *live, task, attempt int, outcome flow.Outcome, result map[string]any, reason, person string) {
	row := store.Attempt{Run: l.row.ID, Task: task, Number: attempt, State: string(outcome), Ended: store.At(b.at), Error: reason}
	if outcome == flow.AttemptRefused {
		row.State = string(flow.AttemptFailed)
	}
	if result != nil {
		text, err := json.Marshal(result)
		if err != nil {
			panic("a result is plain data: " + err.Error())
		}
		row.Result = sql.NullString{String: string(text), Valid: true}
	}
	b.engine.ledger.release(dispatch.AttemptID{Run: l.row.ID, Task: task, Attempt: attempt})
	b.EndAttempt(row)
	l.keepResult(task, attempt, result)
	b.step(l, flow.Ended{At: b.at, Task: task, Attempt: attempt, Outcome: outcome, Error: reason}, person)
}

// leaveResult works out what a run leaves for the task that started it.
func (b *batch) leaveResult(l *live) {
	l.row.Result, l.noResult = sql.NullString{}, nil
	if l.run.State != flow.RunSucceeded || l.version.compiled == nil || l.version.compiled.Result == nil {
		return
	}
	facts, result := l.runFacts(), map[string]any{}
	for name, template := range l.version.compiled.Result {
		value, err := template.Value(facts)
		if err != nil {
			l.noResult = fmt.Errorf("%s: %w", name, err)
			return
		}
		result[name] = plainValue(value)
	}
	text, err := json.Marshal(result)
	if err == nil && len(text) > MaxResult {
		err = fmt.Errorf("it has %d bytes, over the limit of %d", len(text), MaxResult)
	}
	if err != nil {
		l.noResult = err
		return
	}
	l.row.Result = sql.NullString{String: string(text), Valid: true}
}

// checkInners refuses workflows that would start others wrongly, or in a circle:
// the new ones, and those that are there and start one of the new ones.
func (e *Engine) checkInners(changed []*definition.Workflow) error {
	lookup := func(name string) *definition.Workflow {
		if i := slices.IndexFunc(changed, func(w *definition.Workflow) bool { return w.Name == name }); i >= 0 {
			return changed[i]
		}
		if w := e.workflows[name]; w != nil && !w.row.Removed.Valid {
			return w.current.definition
		}
		return nil
	}
	all := slices.Clone(changed)
	for name, w := range e.workflows {
		if w.row.Removed.Valid {
			continue
		}
		starts := slices.ContainsFunc(w.current.definition.Tasks, func(t definition.Task) bool {
			return t.Start != nil && slices.ContainsFunc(changed, func(c *definition.Workflow) bool { return c.Name == t.Start.Workflow })
		})
		if starts && lookup(name) == w.current.definition {
			all = append(all, w.current.definition)
		}
	}
	for _, w := range all {
		if err := definition.InnerMistake(w, lookup); err != nil {
			return &RefusedError{err.Error()}
		}
	}
	return nil
}
