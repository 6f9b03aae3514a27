package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"wiselantern/core/definition"
	"wiselantern/core/flow"
	"wiselantern/service/store"
)

// A task may wait for a run of another workflow, for a task of it, or for a group.

// windowKey is a window; the zero key is none.
type windowKey struct{ start, end store.Moment }

func keyOf(l *live) windowKey { return windowKey{l.row.WindowStart, l.row.WindowEnd} }

// runWait is one thing that waits for runs.
type runWait struct {
	p     *parked
	place int
}

// runWaits are what waits for runs of one workflow: by the window, or with the zero
// key for whichever run is the newest.
type runWaits map[windowKey][]runWait

// awaitRuns has a thing told of the runs that it waits for.
func (e *Engine) awaitRuns(p *parked, place int) {
	t := &p.things[place]
	var keys []windowKey
	switch t.spec.Window {
	case "newest":
		keys = []windowKey{{}}
	case "same":
		keys = []windowKey{keyOf(p.live)}
	default:
		if t.pending == nil {
			t.pending = map[windowKey]bool{}
			for _, key := range e.windowsWithin(t.spec.Of[0], keyOf(p.live)) {
				t.pending[key] = true
			}
		}
		for key := range t.pending {
			keys = append(keys, key)
		}
	}
	all := e.awaited[t.spec.Of[0]]
	if all == nil {
		all = runWaits{}
		e.awaited[t.spec.Of[0]] = all
	}
	for _, key := range keys {
		if !slices.ContainsFunc(all[key], func(r runWait) bool { return r.p == p && r.place == place }) {
			all[key] = append(all[key], runWait{p, place})
		}
	}
}

// forgetRuns has a thing told of runs no more.
func (e *Engine) forgetRuns(p *parked, place int) {
	t := &p.things[place]
	if t.spec.Kind != definition.AwaitWorkflow {
		return
	}
	all := e.awaited[t.spec.Of[0]]
	all.forget(windowKey{}, p, place)
	all.forget(keyOf(p.live), p, place)
	for key := range t.pending {
		all.forget(key, p, place)
	}
	if len(all) == 0 {
		delete(e.awaited, t.spec.Of[0])
	}
}

func (a runWaits) forget(key windowKey, p *parked, place int) {
	if a[key] = slices.DeleteFunc(a[key], func(r runWait) bool { return r.p == p && r.place == place }); len(a[key]) == 0 {
		delete(a, key)
	}
}

// mostCovered bounds how many windows of another workflow a wait may be for.
const mostCovered = 10_000

// windowsWithin are the windows of a workflow that lie in another one.
func (e *Engine) windowsWithin(name string, outer windowKey) (keys []windowKey) {
	w := e.workflows[name]
	if w == nil || !outer.end.Valid {
		return nil
	}
	for i := range w.schedules {
		due := w.schedules[i].After(outer.start.Time())
		for n := 0; due != nil && n < mostCovered; n++ {
			past := true
			for _, d := range due {
				key := windowKey{store.At(d.Window.Start), store.At(d.Window.End)}
				if key.start.Valid && key.start.Int64 >= outer.start.Int64 && key.end.Int64 <= outer.end.Int64 {
					keys = append(keys, key)
				}
				past = past && key.start.Int64 >= outer.end.Int64
			}
			if past {
				break
			}
			due = w.schedules[i].After(due[0].At)
		}
	}
	return keys
}

// tellRunWaits has those looked at again that wait for this run, or for tasks of it.
func (b *batch) tellRunWaits(l *live) {
	all := b.engine.awaited[l.row.Name]
	if all == nil {
		return
	}
	keys := []windowKey{{}}
	if l.row.WindowEnd.Valid {
		keys = append(keys, keyOf(l))
	}
	for _, key := range keys {
		for _, r := range slices.Clone(all[key]) {
			b.then(func() {
				if b.engine.parked[r.p.id] == r.p && r.p.things[r.place].state == thingWaiting {
					b.lookForRun(r.p, r.place, key)
				}
			})
		}
	}
}

// lookForRuns looks at all the runs that a thing waits for.
func (b *batch) lookForRuns(p *parked, place int) {
	t := &p.things[place]
	switch t.spec.Window {
	case "newest":
		b.lookForRun(p, place, windowKey{})
	case "same":
		if !p.live.row.WindowEnd.Valid {
			b.thingFailed(p, place, fmt.Sprintf("the run has no window, so there is no run of %s for the same one; start it with --window, or wait for window: newest", t.spec.Of[0]))
			return
		}
		b.lookForRun(p, place, keyOf(p.live))
	default:
		if len(t.pending) == 0 {
			b.thingFailed(p, place, fmt.Sprintf("no window of %s lies in that of the run", t.spec.Of[0]))
			return
		}
		keys := make([]windowKey, 0, len(t.pending))
		for key := range t.pending {
			keys = append(keys, key)
		}
		slices.SortFunc(keys, func(a, b windowKey) int { return int(a.end.Int64 - b.end.Int64) })
		for _, key := range keys {
			if b.engine.parked[p.id] == p && t.state == thingWaiting {
				b.lookForRun(p, place, key)
			}
		}
	}
}

// lookForRun looks at the newest run for a window.
func (b *batch) lookForRun(p *parked, place int, key windowKey) {
	t := &p.things[place]
	w := b.engine.workflows[t.spec.Of[0]]
	if w == nil {
		b.thingFailed(p, place, fmt.Sprintf("there is no workflow %q", t.spec.Of[0]))
		return
	}
	run, err := b.newestRun(w, key)
	if errors.Is(err, store.ErrNotFound) {
		b.lookForDecision(p, place, w, key)
		return // else it is told when there is one
	}
	if err != nil {
		b.engine.log.Error("the run that a task waits for cannot be read", "workflow", w.row.Name, "error", err)
		return // it is asked again when something happens
	}
	name := RunName(run.row.Name, run.row.Number)
	came, wrong, result, tasks := run.stands(&t.spec.Awaited)
	switch {
	case wrong != "":
		// It rests on that run all the same: once that is made again, so is this wait.
		b.AddRest(store.Rest{Run: p.id.Run, Task: p.id.Task, FromRun: run.row.ID, FromTask: wholeRun, Kind: "waits"})
		b.thingFailed(p, place, fmt.Sprintf("%s, and %s was expected", wrong, strings.Join(t.spec.Expect, " or ")))
		return
	case !came:
		if t.spec.Window != "covering" {
			if text := "waits for " + name; p.things[place].seen != text {
				b.note(p, place, text)
			}
		}
		return
	}
	for _, task := range tasks {
		b.AddRest(store.Rest{Run: p.id.Run, Task: p.id.Task, FromRun: run.row.ID, FromTask: task, Kind: "waits"})
	}
	if t.spec.Window != "covering" {
		known := map[string]any{"run": name, "state": string(run.run.State)}
		if result != nil {
			known["result"] = result
		}
		b.thingCame(p, place, known)
		return
	}
	b.runCame(p, place, key, name)
}

// runCame notes one of several runs that are awaited, by its name.
func (b *batch) runCame(p *parked, place int, key windowKey, name string) {
	t := &p.things[place]
	delete(t.pending, key)
	b.engine.awaited[t.spec.Of[0]].forget(key, p, place)
	if t.runs = append(t.runs, name); len(t.pending) == 0 {
		slices.Sort(t.runs)
		runs := make([]any, len(t.runs))
		for i, r := range t.runs {
			runs[i] = r
		}
		b.thingCame(p, place, map[string]any{"runs": runs})
		return
	}
	b.note(p, place, fmt.Sprintf("%s is there, %d more to come", name, len(t.pending)))
}

// lookForDecision looks whether it was decided that a window gets no run. That is as
// if its run had been skipped.
func (b *batch) lookForDecision(p *parked, place int, w *workflow, key windowKey) {
	if !key.end.Valid {
		return
	}
	decision, found := b.Decided(w.row.ID, key.start, key.end)
	if !found {
		return
	}
	t := &p.things[place]
	what := fmt.Sprintf("%s got no run for %s to %s: %s", w.row.Name, key.start.Time().Format(time.RFC3339), key.end.Time().Format(time.RFC3339), decision.Reason)
	switch {
	case !slices.Contains(t.spec.Expect, "skipped"):
		b.thingFailed(p, place, what)
	case t.spec.Window == "covering":
		b.runCame(p, place, key, w.row.Name+" without a run")
	default:
		b.thingCame(p, place, map[string]any{"run": nil, "state": "skipped", "reason": decision.Reason})
	}
}

// tellDecision has those looked at again that wait for the run of a due window,
// which gets none.
func (b *batch) tellDecision(w *workflow, due dueWindow) {
	key := windowKey{store.At(due.Window.Start), store.At(due.Window.End)}
	for _, r := range slices.Clone(b.engine.awaited[w.row.Name][key]) {
		b.then(func() {
			if b.engine.parked[r.p.id] == r.p && r.p.things[r.place].state == thingWaiting {
				b.lookForRun(r.p, r.place, key)
			}
		})
	}
}

// newestRun is the newest run of a workflow for a window, or with the zero key its
// newest of all. Of one that has ended, tasks are read only if they are asked for.
func (b *batch) newestRun(w *workflow, key windowKey) (found *live, err error) {
	consider := func(l *live) {
		if l.row.Workflow == w.row.ID && (!key.end.Valid || keyOf(l) == key) && (found == nil || l.row.Number > found.row.Number) {
			found = l
		}
	}
	for _, l := range w.open {
		consider(l)
	}
	for _, l := range b.over {
		consider(l)
	}
	row, err := b.engine.store.NewestRun(context.Background(), w.row.ID, key.start, key.end)
	if errors.Is(err, store.ErrNotFound) || err == nil && found != nil && found.row.Number >= row.Number {
		if found != nil {
			return found, nil
		}
		return nil, err
	}
	if err != nil {
		return nil, err
	}
	return b.find(context.Background(), row)
}

// stands tells how a run stands to what is awaited of it: whether that came, or what
// is wrong; with the result, and the tasks that it rests on.
func (l *live) stands(a *definition.Awaited) (came bool, wrong string, result any, tasks []int) {
	name := RunName(l.row.Name, l.row.Number)
	if a.Task == "" {
		switch {
		case !l.run.State.Settled():
			return false, "", nil, nil
		case !slices.Contains(a.Expect, string(l.run.State)):
			return false, fmt.Sprintf("%s %s", name, pastRun(l.run.State)), nil, nil
		}
		return true, "", rawResult(l.row.Result), []int{wholeRun}
	}
	results := map[string]any{}
	for i := range l.version.definition.Tasks {
		task := l.version.definition.Tasks[i].Name
		group, isGroup := strings.CutSuffix(a.Task, "/*")
		if task != a.Task && !(isGroup && strings.HasPrefix(task, group+"/")) {
			continue
		}
		state := l.run.Tasks[i].State
		if state.Settled() && !slices.Contains(a.Expect, state.String()) {
			return false, fmt.Sprintf("%s of %s %s", task, name, past(state)), nil, nil
		}
		if !state.Settled() {
			came = true // not all of them
			continue
		}
		tasks = append(tasks, i)
		if r := l.results[i]; r != nil && state == flow.Succeeded {
			results[task] = r
		}
		if !isGroup && results[task] != nil {
			result = results[task]
		} else if isGroup {
			result = results
		}
	}
	switch {
	case came:
		return false, "", nil, nil
	case tasks == nil:
		return false, fmt.Sprintf("%s has no task %s", name, a.Task), nil, nil
	}
	return true, "", result, tasks
}

func pastRun(s flow.RunState) string {
	if s == flow.RunStopped {
		return "was stopped"
	}
	return string(s)
}
