package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"wiselantern/core/calendar"
	"wiselantern/core/definition"
	"wiselantern/core/flow"
	"wiselantern/service/store"
)

// UnknownError says that there is nothing of that name, with the nearest ones
// that there are.
type UnknownError struct {
	What, Name string // What is "workflow", "run" or "task"
	Nearest    string
	Known      []string // a few of them, when nothing is near
	None       string   // what to say when there are none
}

func (e *UnknownError) Error() string {
	text := fmt.Sprintf("there is no %s %q", e.What, e.Name)
	switch {
	case e.Nearest != "":
		return text + fmt.Sprintf("; did you mean %q?", e.Nearest)
	case len(e.Known) > 0:
		return text + "; there are " + joined(e.Known)
	}
	if e.None != "" {
		return text + "; " + e.None
	}
	return text + fmt.Sprintf("; there is no %s at all yet", e.What)
}

func joined(names []string) string {
	const most = 8
	text := ""
	for i, name := range names[:min(len(names), most)] {
		if i > 0 {
			text += ", "
		}
		text += name
	}
	if len(names) > most {
		text += fmt.Sprintf(" and %d more", len(names)-most)
	}
	return text
}

// Unknown makes the error for a name that is not among the known ones.
func Unknown(what, name string, known []string) error {
	return &UnknownError{What: what, Name: name, Nearest: definition.Nearest(name, known), Known: known}
}

// RefusedError says why something cannot be done as things stand.
type RefusedError struct{ Reason string }

func (e *RefusedError) Error() string { return e.Reason }

func (e *Engine) find(name string) (*workflow, error) {
	if w := e.workflows[name]; w != nil && !w.row.Removed.Valid {
		return w, nil
	}
	return nil, Unknown("workflow", name, e.names())
}

// Applied tells what applying did, or would do, to one workflow.
type Applied struct {
	Workflow    string
	Change      string // "new", "changed" or "same"
	Version     int
	Differences []definition.Difference // of one that is changed
	Code        bool                    // the folder of code is another one
}

// CapacitySet tells how applying sets a capacity.
type CapacitySet struct {
	Name   string
	Before int // 0 if nobody had set it
	After  int
}

// Apply makes the workflows those of the project, each with a new version if
// anything of it, or the parcel, has changed. With dry it only tells.
// The capacities of the project's environment are set.
func (e *Engine) Apply(ctx context.Context, project *definition.Project, parcel, by string, dry bool) (applied []Applied, set []CapacitySet, err error) {
	err = e.submit(ctx, func(b *batch) error {
		for _, w := range project.Workflows {
			for _, p := range w.Params {
				if p.Required && slices.ContainsFunc(w.Starts, func(s definition.Start) bool { return s.Params[p.Name] == nil }) {
					return &RefusedError{fmt.Sprintf("workflow %s has a time rule, and nothing would give it the required param %q; give the param a default", w.Name, p.Name)}
				}
				for _, o := range w.Outside {
					if _, given := o.Params[p.Name]; p.Required && !given {
						return &RefusedError{fmt.Sprintf("workflow %s starts by %s, and nothing would give it the required param %q; add it to the params of the start, or give it a default", w.Name, o, p.Name)}
					}
				}
			}
		}
		if err := e.checkInners(project.Workflows); err != nil {
			return err
		}
		if err := e.checkLinks(project.Workflows); err != nil {
			return err
		}
		for _, w := range project.Workflows {
			one, err := b.apply(w, project, parcel, by, dry)
			if err != nil {
				return err
			}
			applied = append(applied, one)
		}
		for _, name := range slices.Sorted(maps.Keys(project.Capacity)) {
			before, known := e.ledger.units[name]
			units := project.Capacity[name]
			if known && before == units {
				continue
			}
			set = append(set, CapacitySet{Name: name, Before: before, After: units})
			if !dry {
				b.SetCapacity(store.Capacity{Name: name, Units: units})
				e.ledger.units[name] = units
			}
		}
		return nil
	})
	return applied, set, err
}

func (b *batch) apply(d *definition.Workflow, project *definition.Project, parcel, by string, dry bool) (Applied, error) {
	e := b.engine
	w := e.workflows[d.Name]
	row := store.Version{Number: 1, Hash: d.Hash(), Parcel: parcel, Project: project.Name, Environment: project.Environment, File: project.Files[d.Name], Applied: store.At(b.at), AppliedBy: by}
	one := Applied{Workflow: d.Name, Change: "new", Version: 1}
	if w != nil {
		if w.current.row.Hash == row.Hash && w.current.row.Parcel == parcel && !w.row.Removed.Valid {
			return Applied{Workflow: d.Name, Change: "same", Version: w.row.Version}, nil
		}
		row.Number = w.row.Version + 1
		one.Change, one.Version = "changed", row.Number
		one.Differences, one.Code = definition.Differences(w.current.definition, d), w.current.row.Parcel != parcel
	}
	if dry {
		return one, nil
	}
	text, err := json.Marshal(d)
	if err != nil {
		return one, err
	}
	row.Definition = string(text)
	v, err := newVersion(row)
	if err != nil {
		return one, err
	}
	if w == nil {
		w = &workflow{row: store.Workflow{Name: d.Name, DecidedUntil: store.At(b.at), Covered: "{}"}}
		w.row.ID = b.AddWorkflow(w.row)
		e.workflows[d.Name], e.byID[w.row.ID] = w, w
	} else if len(w.schedules) == 0 {
		w.row.DecidedUntil, w.row.Covered, w.covered = store.At(b.at), "{}", nil // nothing was due while it had no rule
	}
	v.row.Workflow = w.row.ID
	w.row.Version = row.Number
	if err := w.take(v); err != nil {
		return one, err
	}
	b.AddVersion(v.row)
	b.SetWorkflow(w.row)
	if w.row.Removed.Valid {
		w.row.Removed, w.row.RemovedBy, w.row.DecidedUntil = store.Moment{}, "", store.At(b.at)
		b.SetWorkflow(w.row)
		b.RemoveWorkflow(w.row.ID, store.Moment{}, "")
	}
	b.dropGatherings(w)
	b.effects = append(b.effects, e.subscribe(w)...)
	b.tell(AllRuns)
	e.arm(w)
	return one, nil
}

// AddParcel records that a parcel is in the data folder.
func (e *Engine) AddParcel(ctx context.Context, hash string, bytes int64, files int) error {
	return e.submit(ctx, func(b *batch) error {
		b.AddParcel(hash, bytes, files, store.At(b.at))
		return nil
	})
}

// Wanted is what a person asks of a run.
type Wanted struct {
	Params  definition.Values
	Window  calendar.Window           // may be zero
	Only    []string                  // these tasks alone; nil is all
	Results map[string]map[string]any // of tasks that are left out
}

// Start makes a run that a person asked for.
func (e *Engine) Start(ctx context.Context, name string, wanted Wanted, by string) (run store.Run, err error) {
	err = e.submit(ctx, func(b *batch) error {
		w, err := e.find(name)
		if err != nil {
			return err
		}
		params, err := definition.Fill(w.current.definition.Params, wanted.Params)
		if err != nil {
			return &RefusedError{err.Error()}
		}
		choose, given, err := w.chosen(wanted, by)
		if err != nil {
			return err
		}
		if going, full := w.full(); full {
			return &RefusedError{fmt.Sprintf("%s is still going, and if_running of %s is skip; wait for its end, or stop it first", going, name)}
		}
		l := b.openRun(w, newRun{cause: "person", by: by, params: params, window: wanted.Window, older: w.laterIsDue(wanted.Window, b.at)})
		if wanted.Only != nil {
			choose.At = b.at
			b.step(l, choose, by)
			b.giveResults(l, given)
		}
		b.beginQueued(w)
		run = l.row
		run.State = string(l.run.State)
		return nil
	})
	return run, err
}

// Stop ends a run, or one task of it.
func (e *Engine) Stop(ctx context.Context, run store.Run, task string, by string) error {
	return e.submit(ctx, func(b *batch) error {
		name := RunName(run.Name, run.Number)
		l := e.runs[run.ID]
		if l == nil {
			return &RefusedError{fmt.Sprintf("run %s has ended already", name)}
		}
		place := flow.AllTasks
		if task != "" {
			var err error
			if place, err = l.find(task); err != nil {
				return err
			}
			if state := l.run.Tasks[place].State; state.Settled() {
				return &RefusedError{fmt.Sprintf("task %s of run %s has ended already: it %s", task, name, past(state))}
			}
		}
		b.step(l, flow.Stop{At: b.at, Task: place, By: by}, by)
		return nil
	})
}

func past(s flow.State) string {
	switch s {
	case flow.Succeeded, flow.Failed:
		return s.String()
	case flow.Unreached:
		return "was not reached"
	}
	return "was " + s.String()
}

// Pause keeps a workflow from beginning runs by itself. What comes due is
// remembered. Pausing twice changes nothing.
func (e *Engine) Pause(ctx context.Context, name, by string) error {
	return e.submit(ctx, func(b *batch) error {
		w, err := e.find(name)
		if err != nil || w.row.PausedAt.Valid {
			return err
		}
		w.row.PausedAt, w.row.PausedBy = store.At(b.at), by
		b.SetWorkflow(w.row)
		b.tell(AllRuns)
		return nil
	})
}

// Resume lets a workflow go on, and makes a run for each window that came due
// while it was paused. It tells how many due moments those are, counted up to a
// thousand.
func (e *Engine) Resume(ctx context.Context, name string) (missed int, err error) {
	err = e.submit(ctx, func(b *batch) error {
		w, err := e.find(name)
		if err != nil || !w.row.PausedAt.Valid {
			return err
		}
		w.row.PausedAt, w.row.PausedBy = store.Moment{}, ""
		b.SetWorkflow(w.row)
		for until := w.row.DecidedUntil.Time(); missed < 1000; missed++ {
			due, ok := w.nextDue(until)
			if !ok || due.After(b.at) {
				break
			}
			until = due
		}
		e.arm(w)
		b.beginQueued(w)
		missed += b.takeKept(w)
		b.tell(AllRuns)
		return nil
	})
	return missed, err
}
