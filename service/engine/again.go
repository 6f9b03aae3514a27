package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"wiselantern/core/definition"
	"wiselantern/core/flow"
	"wiselantern/service/store"
)

// Selection says which tasks of a run are made again; exactly one is set.
type Selection struct {
	Failed bool     // those that failed, were unreached or were stopped
	From   []string // these and everything that comes after them
	Only   []string // these alone
}

// Rerun makes tasks of a run again, within the same run, with the params that it
// had, or others where they are given. With followOn the runs of other workflows that
// rested on these tasks are made again after them. With dry it only tells which they
// are.
func (e *Engine) Rerun(ctx context.Context, run store.Run, s Selection, given definition.Values, by string, followOn, dry bool) (again []string, followers []Follower, err error) {
	err = e.submit(ctx, func(b *batch) error {
		l, err := b.find(ctx, run)
		if err != nil {
			return err
		}
		name := RunName(run.Name, run.Number)
		tasks, err := l.selected(s)
		if err != nil {
			return err
		}
		for _, i := range tasks {
			label := l.version.plan.Label(l.run, i)
			if !l.run.Tasks[i].State.Settled() {
				return &RefusedError{fmt.Sprintf("task %s of run %s is %s; wait for its end, or stop it first", label, name, l.run.Tasks[i].State)}
			}
			if resource, is := l.version.plan.Closing(l.run, i); is {
				return &RefusedError{fmt.Sprintf("task %s of run %s is within the resource %s, which is just being closed; wait for the end of %s:close", label, name, resource, resource)}
			}
			again = append(again, label)
		}
		if len(tasks) == 0 {
			return &RefusedError{fmt.Sprintf("nothing in run %s has failed; name tasks with --from or --only", name)}
		}
		params, err := l.withParams(given)
		if err != nil {
			return err
		}
		if followOn {
			if followers, err = b.planFollowOn(l, tasks, by, dry); err != nil {
				return err
			}
		}
		if dry {
			return nil
		}
		if params != nil {
			l.row.Params = params.text
			l.setParams(params.values)
			b.touch(l)
		}
		if e.runs[l.row.ID] == nil {
			e.runs[l.row.ID] = l
			l.workflow.open = append(l.workflow.open, l)
		}
		b.step(l, flow.Rerun{At: b.at, Tasks: tasks, By: by}, by)
		b.lookBack(l)
		return nil
	})
	return again, followers, err
}

// find is the run, also if it has ended.
func (b *batch) find(ctx context.Context, run store.Run) (*live, error) {
	if l := b.engine.runs[run.ID]; l != nil {
		return l, nil
	}
	if l := b.over[run.ID]; l != nil {
		return l, nil
	}
	row, err := b.engine.store.RunByID(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	versionRow, err := b.engine.store.Version(ctx, row.Workflow, row.Version)
	if err != nil {
		return nil, err
	}
	v, err := newVersion(versionRow)
	if err != nil {
		return nil, err
	}
	l, err := b.engine.restore(ctx, row, v)
	if err != nil {
		return nil, err
	}
	l.workflow = b.engine.byID[row.Workflow]
	return l, nil
}

// selected are the numbers of the tasks that a selection means.
func (l *live) selected(s Selection) (tasks []int, err error) {
	plan := l.version.plan
	if s.Failed {
		return l.failed(), nil
	}
	for _, name := range slices.Concat(s.From, s.Only) {
		i, err := l.find(name)
		switch {
		case err != nil:
			return nil, err
		case i < plan.Len() && plan.IsOpening(i):
			return nil, &RefusedError{fmt.Sprintf("%s is made again with the tasks that need it; name those", name)}
		case i < plan.Len() && plan.IsPrevious(i):
			return nil, &RefusedError{fmt.Sprintf("%s belongs to the run of the window before; make it again there", name)}
		case !plan.Current(l.run, i):
			return nil, &RefusedError{fmt.Sprintf("%s is no longer in the list of its task; name %s", name, plan.Name(plan.Node(l.run, i)))}
		}
		tasks = append(tasks, i)
		if s.From != nil {
			for _, later := range plan.Downstream([]int{plan.Node(l.run, i)}) {
				if later != plan.Node(l.run, i) {
					tasks = append(tasks, later)
				}
			}
		}
	}
	slices.Sort(tasks)
	return slices.Compact(tasks), nil
}

// failed are the tasks that failed, were unreached or were stopped: of a task made
// for each, only the items that did.
func (l *live) failed() (tasks []int) {
	plan := l.version.plan
	badly := func(i int) bool {
		state := l.run.Tasks[i].State
		return state == flow.Failed || state == flow.Unreached || state == flow.Stopped
	}
	for i := range plan.Len() {
		if !badly(i) || plan.IsOpening(i) || plan.IsPrevious(i) {
			continue
		}
		var items []int
		for _, item := range l.run.ItemPlaces(i) {
			if badly(item) {
				items = append(items, item)
			}
		}
		if items == nil {
			items = []int{i}
		}
		tasks = append(tasks, items...)
	}
	return tasks
}

// find is the number of the task of that name, or of the item.
func (l *live) find(name string) (int, error) {
	if i, ok := l.version.plan.Find(l.run, name); ok {
		return i, nil
	}
	return 0, Unknown("task", name, l.taskNames())
}

func (l *live) taskNames() []string {
	names := make([]string, len(l.run.Tasks))
	for i := range names {
		names[i] = l.version.plan.Label(l.run, i)
	}
	return names
}

type newParams struct {
	text   string
	values definition.Values
}

// withParams are the params of the run with others given over them, nil if none
// are given.
func (l *live) withParams(given definition.Values) (*newParams, error) {
	if len(given) == 0 {
		return nil, nil
	}
	var values definition.Values
	if err := json.Unmarshal([]byte(l.row.Params), &values); err != nil {
		return nil, err
	}
	for name, value := range values {
		if _, ok := given[name]; !ok && value != nil {
			given[name] = value
		}
	}
	filled, err := definition.Fill(l.version.definition.Params, given)
	if err != nil {
		return nil, &RefusedError{err.Error()}
	}
	text, err := json.Marshal(filled)
	return &newParams{string(text), filled}, err
}

// Release gives a person's word about a held task: as is "succeeded", "skipped",
// or "run".
func (e *Engine) Release(ctx context.Context, run store.Run, task, as, by string) error {
	states := map[string]flow.State{"succeeded": flow.Succeeded, "skipped": flow.Skipped, "run": flow.Ready}
	to, ok := states[as]
	if !ok {
		return &RefusedError{fmt.Sprintf("a task cannot be released as %q; say succeeded, skipped or run", as)}
	}
	return e.submit(ctx, func(b *batch) error {
		name := RunName(run.Name, run.Number)
		l := e.runs[run.ID]
		if l == nil {
			return &RefusedError{fmt.Sprintf("run %s has ended, so nothing in it is held", name)}
		}
		place, err := l.find(task)
		if err != nil {
			return err
		}
		if state := l.run.Tasks[place].State; state != flow.Held {
			text := fmt.Sprintf("task %s of run %s is not held, but %s", task, name, state)
			if held := l.held(); len(held) > 0 {
				text += "; held are " + strings.Join(held, ", ")
			}
			return &RefusedError{text}
		}
		b.step(l, flow.Release{At: b.at, Task: place, As: to, By: by}, by)
		return nil
	})
}

func (l *live) held() (names []string) {
	for i, t := range l.run.Tasks {
		if t.State == flow.Held {
			names = append(names, l.version.plan.Label(l.run, i))
		}
	}
	return names
}
