package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
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
	row        store.Workflow
	current    *version
	schedules  []definition.Schedule // of the current version
	watermarks map[string]string     // as JSON, those that were set
	covered    map[string]time.Time  // by schedule, where its last window ended
	open       []*live
	armed      time.Time // the due moment that a timer is set for

	subscribed []string                   // the keys of its starts in the index of events
	watched    []string                   // the keys of its starts that look for files
	gathering  map[string]*gathering      // by the key of the start
	seen       map[string]int64           // by data set: the update that its last run knew of
	got        map[string]map[string]bool // by the key of a start: files that it has got
	unseen     map[string]string          // by the key of a start: why its files cannot be looked at

	troubles map[string]*store.Trouble // that are open, by fingerprint
}

// version is one version of a workflow, shared by its runs.
type version struct {
	row        store.Version
	definition *definition.Workflow
	nodes      []definition.Task // its tasks, and what opens and closes its resources
	plan       *flow.Plan
	compiled   *definition.Expressions // nil without any

	links []definition.Link // to what it has in common with other workflows

	keepsResults bool // somebody may ask for the results of its tasks
}

// versionKey names a version: the id of its workflow, and its number.
type versionKey struct {
	workflow int64
	number   int
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
	v.links = v.definition.Links()
	v.keepsResults = v.compiled != nil || slices.ContainsFunc(v.definition.Tasks, func(t definition.Task) bool { return t.Updates != nil })
	return v, nil
}

// take makes v the version that new runs take.
func (w *workflow) take(v *version) (err error) {
	w.current = v
	w.schedules, err = v.definition.Schedules()
	return err
}

// dueWindow is a window that is due, of one of the workflow's schedules.
type dueWindow struct {
	calendar.Due
	schedule *definition.Schedule
}

func (d dueWindow) start() definition.Start { return d.schedule.Starts[d.Rule] }

// after are the windows that are due at the first moment later than t at which
// any is.
func (w *workflow) after(t time.Time) (all []dueWindow) {
	for i := range w.schedules {
		for _, due := range w.schedules[i].After(t) {
			if all != nil && due.At.After(all[0].At) {
				continue
			}
			if all != nil && due.At.Before(all[0].At) {
				all = nil
			}
			all = append(all, dueWindow{due, &w.schedules[i]})
		}
	}
	return all
}

// nextDue is the first moment after t at which the workflow is due.
func (w *workflow) nextDue(t time.Time) (time.Time, bool) {
	due := w.after(t)
	if due == nil {
		return time.Time{}, false
	}
	return due[0].At, true
}

// arm sets the timer for the next due moment.
func (e *Engine) arm(w *workflow) {
	if w.row.PausedAt.Valid || w.row.Removed.Valid || e.byHand {
		return
	}
	if due, ok := w.nextDue(w.row.DecidedUntil.Time()); ok && !due.Equal(w.armed) {
		w.armed = due
		e.timers.add(timer{at: due, workflow: w.row.ID})
	}
}

const (
	// mostDueInBatch bounds how many runs of one workflow are made in one commit,
	// so that others are not kept waiting after a long outage; mostDecided, how many
	// windows are decided.
	mostDueInBatch = 50
	mostDecided    = 20_000
	// missedAfter is how late a run may be made before its window was missed.
	missedAfter = time.Minute
)

// comeDue makes a run, or writes down why there is none, for every window that has
// come due and is not decided.
func (b *batch) comeDue(w *workflow) {
	if w.row.PausedAt.Valid || w.row.Removed.Valid {
		return
	}
	until := w.row.DecidedUntil.Time()
	var decided decisions
	for made, n := 0, 0; made < mostDueInBatch && n < mostDecided; n++ {
		due := w.after(until)
		if due == nil || due[0].At.After(b.at) {
			break
		}
		for _, one := range due {
			if b.decide(w, one, &decided) {
				made++
			} else {
				b.tellDecision(w, one)
			}
		}
		until = due[0].At
	}
	for _, d := range decided {
		b.AddDecision(d)
	}
	if store.At(until) != w.row.DecidedUntil {
		w.row.DecidedUntil = store.At(until)
		b.SetWorkflow(w.row)
	}
	b.engine.arm(w)
	b.beginQueued(w)
}

// decisions are those of one batch, alike ones gathered.
type decisions []store.Decision

func (d *decisions) add(w *workflow, at time.Time, due dueWindow, kind, reason string) {
	one := store.Decision{Workflow: w.row.ID, At: store.At(at), Kind: kind, Reason: reason, Count: 1, DueFirst: store.At(due.At), DueLast: store.At(due.At),
		WindowStart: store.At(due.Window.Start), WindowEnd: store.At(due.Window.End)}
	if n := len(*d); n > 0 && (*d)[n-1].Kind == kind && (*d)[n-1].Reason == reason {
		last := &(*d)[n-1]
		last.Count, last.DueLast, last.WindowEnd = last.Count+1, one.DueLast, one.WindowEnd
		return
	}
	*d = append(*d, one)
}

// decide makes the run of a due window, or writes down why there is none.
func (b *batch) decide(w *workflow, due dueWindow, decided *decisions) (made bool) {
	if !w.cover(&due) {
		decided.add(w, b.at, due, "missed", "its window was covered before, by another rule")
		return false
	}
	later := due.schedule.After(due.At)
	newest := later == nil || later[0].At.After(b.at)
	start := due.start()
	if b.at.Sub(due.At) > missedAfter {
		switch {
		case start.Missed == definition.MissedNone:
			decided.add(w, b.at, due, "missed", "no run could be made when it was due, and missed is none")
			return false
		case start.Missed == definition.MissedNewest && !newest:
			decided.add(w, b.at, due, "missed", "no run could be made when it was due, and missed is newest")
			return false
		}
	}
	params, err := definition.Fill(w.current.definition.Params, due.schedule.Params)
	if err != nil {
		// Refused when the workflow is applied, so it cannot come here.
		b.engine.log.Error("a due run cannot be made", "workflow", w.row.Name, "error", err)
		decided.add(w, b.at, due, "missed", err.Error())
		return false
	}
	run := newRun{cause: "schedule", by: start.String(), params: params, window: due.Window, due: due.At, zone: due.schedule.Zones[due.Rule], older: !newest}
	if reason := b.notNow(w, run); reason != "" {
		decided.add(w, b.at, due, "skipped", reason)
		return false
	}
	b.openRun(w, run)
	return true
}

// cover has a window begin where the last one of its schedule ended, also if the
// rule was another one then: no time is covered twice, and none is left out. It is
// false if nothing is left of the window.
func (w *workflow) cover(due *dueWindow) bool {
	if due.start().Covers != nil || due.Window.End.IsZero() {
		return true
	}
	if last, ok := w.covered[due.schedule.Key]; ok {
		if !last.Before(due.Window.End) {
			return false
		}
		due.Window.Start = last.In(due.Window.Start.Location())
	}
	if w.covered == nil {
		w.covered = map[string]time.Time{}
	}
	w.covered[due.schedule.Key] = due.Window.End
	text, err := json.Marshal(w.covered)
	if err != nil {
		panic("moments are plain data: " + err.Error())
	}
	w.row.Covered = string(text)
	return true
}

// full tells whether a new run of the workflow is not to be made, because of one
// that is going.
func (w *workflow) full() (going string, full bool) {
	if w.current.definition.IfRunning != definition.Skip {
		return "", false
	}
	count := 0
	for _, l := range w.open {
		if l.row.Backfill.Valid {
			continue // it goes beside
		}
		if count++; count == w.current.definition.RunsAtOnce() {
			return RunName(l.row.Name, l.row.Number), true
		}
	}
	return "", false
}

type newRun struct {
	cause, by string
	params    definition.Values
	window    calendar.Window
	due       time.Time
	zone      *time.Location      // of the rule that makes it; nil for none
	outer     *dispatch.AttemptID // of the task that starts it
	older     bool                // a later window is due already
	backfill  int64               // that makes it; 0 for none
	events    []event             // that it is started by
}

// openRun records a queued run.
func (b *batch) openRun(w *workflow, n newRun) *live {
	params, err := json.Marshal(n.params)
	if err != nil {
		panic("params are plain data: " + err.Error())
	}
	watermarks := w.watermarksNow()
	marks, err := json.Marshal(watermarks)
	if err != nil {
		panic("watermarks are plain data: " + err.Error())
	}
	w.row.LastRun++
	b.SetWorkflow(w.row)
	row := store.Run{Workflow: w.row.ID, Name: w.row.Name, Number: w.row.LastRun, Version: w.row.Version, State: string(flow.RunQueued),
		Cause: n.cause, CausedBy: n.by, WindowStart: store.At(n.window.Start), WindowEnd: store.At(n.window.End), Due: store.At(n.due),
		Newest: !n.older, Params: string(params), Watermarks: string(marks), Created: store.At(b.at)}
	if n.backfill != 0 {
		row.Backfill = number(n.backfill)
	} else {
		row.DueBy = w.dueBy(n, b.at)
	}
	if n.outer != nil {
		row.OuterRun, row.OuterTask, row.OuterAttempt = number(n.outer.Run), number(int64(n.outer.Task)), number(int64(n.outer.Attempt))
	}
	row.ID = b.AddRun(row, w.current.plan.Len())
	l := &live{row: row, workflow: w, version: w.current, run: flow.New(w.current.plan, uint64(row.ID)), events: n.events}
	l.setParams(n.params)
	l.setMarks(watermarks)
	l.tasks = make([]store.Task, w.current.plan.Len())
	for i := range l.tasks {
		l.tasks[i] = store.Task{Run: row.ID, Task: i, State: flow.Idle.String()}
	}
	if w.current.definition.IfRunning == definition.Replace && n.backfill == 0 {
		for _, older := range slices.Clone(w.open) {
			if older.row.Backfill.Valid {
				continue
			}
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
	if n.backfill == 0 {
		b.see(w)
	}
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
		if l.run.State != flow.RunQueued || l.keptByPause() {
			continue
		}
		b.step(l, flow.Opened{At: b.at}, "")
		b.lookBack(l)
		going++
	}
}

// ended forgets a run that has ended, tells the task that started it, and lets
// the next one begin.
func (b *batch) ended(l *live) {
	b.leaveResult(l)
	if l.run.State == flow.RunSucceeded {
		b.setWatermarks(l)
		b.mend(l)
	} else if l.run.State == flow.RunFailed {
		b.troubleOfRun(l)
	}
	if l.row.Backfill.Valid {
		b.stretchEnded(l)
	}
	for _, id := range slices.Sorted(maps.Keys(b.engine.backfills)) {
		f := b.engine.backfills[id]
		if f.row.Workflow == l.row.Workflow && f.row.AtOnce == 0 && f.row.ID != l.row.Backfill.Int64 {
			b.advanceLater(f.row.ID) // there may be room for it now
		}
	}
	if l.row.OuterRun.Valid {
		b.then(func() { b.innerEnded(l) })
	}
	b.tellEnd(l)
	b.then(func() { b.followOn(l) })
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

// keptByPause tells whether the run does not begin because its workflow is paused.
func (l *live) keptByPause() bool {
	return l.workflow.row.PausedAt.Valid && l.row.Cause != "person" && l.row.Cause != "backfill"
}

// WaitsToBegin says what a queued run waits for, "" if it is not queued any more.
func (e *Engine) WaitsToBegin(ctx context.Context, run int64) (reason string, err error) {
	err = e.ask(ctx, func(*batch) error {
		l := e.runs[run]
		if l == nil || l.run.State != flow.RunQueued {
			return nil
		}
		if l.keptByPause() {
			reason = fmt.Sprintf("waits until %s, which %s has paused, is resumed", l.row.Name, l.workflow.row.PausedBy)
			return nil
		}
		var going []string
		for _, other := range l.workflow.open {
			if other.run.State == flow.RunRunning {
				going = append(going, RunName(other.row.Name, other.row.Number))
			}
		}
		reason = "waits for its turn"
		if going != nil {
			reason += " behind " + joined(going)
		}
		return nil
	})
	return reason, err
}
