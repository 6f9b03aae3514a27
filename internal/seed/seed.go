// Package seed fills a data folder with an invented history, for measurements.
//
// It may import core and service/store. What it keeps true: the same numbers give
// the same history, but for the moment at which it ends, which is now.
package seed

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"time"

	"wiselantern/core/definition"
	"wiselantern/service/store"
)

// Options say how much there is to be.
type Options struct {
	Workflows int // at least 1
	Tasks     int // recorded, all in all; 0 for no history
	Long      int // runs of the first workflow; the rest of the tasks is spread over all others
}

// tasksOfRun is how many tasks each workflow has.
const tasksOfRun = 10

// runsInCommit bounds how much is written in one transaction.
const runsInCommit = 2000

// Fill makes the history in a data folder, which need not be there.
func Fill(ctx context.Context, dir string, o Options) error {
	s, err := store.Open(ctx, dir)
	if err != nil {
		return err
	}
	defer s.Close()
	f := &filler{w: s.Writer, random: rand.New(rand.NewPCG(1, 2)), now: time.Now().Truncate(time.Minute)}
	f.w.Begin()
	for i := range o.Workflows {
		if err := f.addWorkflow(i); err != nil {
			return err
		}
	}
	if err := f.w.Commit(); err != nil {
		return err
	}
	total := o.Tasks / tasksOfRun
	long := min(o.Long, total)
	runs := make([]int, o.Workflows) // of each workflow
	runs[0] = long
	for i := range total - long {
		if o.Workflows > 1 {
			runs[1+i%(o.Workflows-1)]++
		}
	}
	// In the order in which they happened: the newest of all workflows come last.
	most := 0
	for _, n := range runs {
		most = max(most, n)
	}
	f.w.Begin()
	for left := most; left > 0; left-- {
		for i, n := range runs {
			if n < left {
				continue
			}
			if err := f.addRun(ctx, i, n-left+1, left); err != nil {
				return err
			}
		}
	}
	for i, n := range runs {
		f.workflows[i].LastRun = n
		f.w.SetWorkflow(f.workflows[i])
	}
	return f.w.Commit()
}

type filler struct {
	w         *store.Writer
	random    *rand.Rand
	now       time.Time
	workflows []store.Workflow
	written   int
}

func (f *filler) addWorkflow(i int) error {
	name := fmt.Sprintf("gauge-%03d", i)
	basins := []string{"upper", "lower", "delta"}
	text := fmt.Sprintf("workflow: %s\nabout: Collect the readings of river gauge %d.\nowner: %s\nlabels: [%s]\nstarts: [{every: 1h}]\nif_running: alongside\ntasks:\n  collect: {exec: [\"true\"]}\n",
		name, i, []string{"hydrology", "press", "roads"}[i%3], basins[i%3])
	before := "collect"
	for t := range tasksOfRun - 2 {
		text += fmt.Sprintf("  check/part-%d: {after: %s, exec: [\"true\"]}\n", t, before)
		if t%3 == 2 {
			before = fmt.Sprintf("check/part-%d", t)
		}
	}
	text += "  publish: {after: check/*, exec: [\"true\"]}\n"
	project, problems := definition.Load([]definition.File{{Path: "gauges.yaml", Text: text}})
	if problems != nil {
		return problems
	}
	body, err := json.Marshal(project.Workflows[0])
	if err != nil {
		return err
	}
	row := store.Workflow{Name: name, Version: 1, Covered: "{}", DecidedUntil: store.At(f.now)}
	row.ID = f.w.AddWorkflow(row)
	f.w.AddVersion(store.Version{Workflow: row.ID, Number: 1, Definition: string(body), Hash: project.Workflows[0].Hash(), Project: "rivers", File: "gauges.yaml", Applied: store.At(f.now.AddDate(-2, 0, 0)), AppliedBy: "kari"})
	f.workflows = append(f.workflows, row)
	return f.w.Err()
}

// addRun records a run whose window ended that many hours ago.
func (f *filler) addRun(ctx context.Context, workflow, number, hours int) error {
	w := f.workflows[workflow]
	end := f.now.Truncate(time.Hour).Add(-time.Duration(hours-1) * time.Hour)
	failed := f.random.IntN(50) == 0
	row := store.Run{Workflow: w.ID, Number: number, Version: 1, State: "succeeded", Cause: "schedule", CausedBy: "every 1h", WindowStart: store.At(end.Add(-time.Hour)), WindowEnd: store.At(end),
		Due: store.At(end), Newest: true, Params: "{}", Watermarks: "{}", Created: store.At(end.Add(time.Millisecond))}
	row.ID = f.w.AddRun(row, tasksOfRun)
	at := end.Add(time.Duration(5+f.random.IntN(40)) * time.Millisecond)
	row.Started = store.At(at)
	bad := 1 + f.random.IntN(tasksOfRun-2)
	for t := range tasksOfRun {
		task := store.Task{Run: row.ID, Task: t, State: "succeeded", Attempts: 1}
		if failed && t > bad {
			task.State, task.Attempts = "unreached", 0
			f.w.SetTask(task)
			continue
		}
		task.Started = store.At(at)
		took := time.Duration(2000+f.random.IntN(30_000)) * time.Millisecond
		at = at.Add(took)
		task.Ended = store.At(at)
		attempt := store.Attempt{Run: row.ID, Task: t, Number: 1, State: "succeeded", Worker: "north", Started: task.Started, Ended: task.Ended}
		attempt.CPU.Int64, attempt.CPU.Valid = took.Microseconds()/3, true
		if failed && t == bad {
			task.State, attempt.State, attempt.Error = "failed", "failed", "exit code 1: nobody answers at the mast"
			task.Reason = attempt.Error
		}
		f.w.SetTask(task)
		f.w.AddAttempt(row.ID, t, 1, task.Started)
		f.w.EndAttempt(attempt)
		row.CPU += attempt.CPU.Int64
		row.Busy += took.Microseconds()
	}
	row.Ended = store.At(at)
	row.Counts.Valid = true
	row.Counts.String = fmt.Sprintf(`{"succeeded":%d}`, tasksOfRun)
	if failed {
		row.Counts.String = fmt.Sprintf(`{"failed":1,"succeeded":%d,"unreached":%d}`, bad, tasksOfRun-1-bad)
		row.State = "failed"
		f.w.AddTransition(store.Transition{Run: row.ID, At: row.Ended, Before: "running", After: "failed"})
	}
	f.w.SetRun(row)
	if f.written++; f.written%runsInCommit == 0 {
		if err := f.w.Commit(); err != nil {
			return err
		}
		f.w.Begin()
	}
	return ctx.Err()
}
