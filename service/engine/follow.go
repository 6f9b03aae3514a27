package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wiselantern/core/flow"
	"wiselantern/service/store"
)

// Follower is a run that rested on another one, and is to be made again after it.
type Follower struct {
	Run   string
	Tasks []string // nil is all of it
	After []string // the runs that have to succeed before
}

// follower is one while it is worked out.
type follower struct {
	run   store.Run
	tasks map[int]bool // those that rest on something that is made again; wholeRun is all
	after map[int64]bool
}

// followOn is a row of follow_ons, read.
type followOn struct {
	store.FollowOn
	workflow int64   // of its run
	after    []int64 // the runs that must have succeeded before
}

// mostFollowers bounds how many runs are made again at once.
const mostFollowers = 1000

// followers finds the runs of other workflows that rested on these tasks of a run,
// and those that rested on these, in an order in which each comes after those that
// it rests on.
func (b *batch) followers(first *live, tasks []int) (found []*follower, err error) {
	type change struct {
		run   int64
		tasks map[int]bool
	}
	again := map[int]bool{}
	for _, task := range tasks {
		again[first.version.plan.Node(first.run, task)] = true
	}
	changes := []change{{first.row.ID, again}}
	by := map[int64]*follower{}
	for n := 0; n < len(changes); n++ {
		c := changes[n]
		for _, r := range b.RestingOn(c.run) {
			if r.Run == c.run || r.Run == first.row.ID || r.FromTask != wholeRun && !c.tasks[r.FromTask] && !c.tasks[wholeRun] {
				continue
			}
			f := by[r.Run]
			if f == nil {
				row, err := b.engine.store.RunByID(context.Background(), r.Run)
				if err != nil {
					return nil, err
				}
				f = &follower{run: row, tasks: map[int]bool{}, after: map[int64]bool{}}
				if by[r.Run] = f; len(by) > mostFollowers {
					return nil, &RefusedError{fmt.Sprintf("more than %d runs rested on this one; make it again without --follow-on, and then those that matter", mostFollowers)}
				}
				found = append(found, f)
			}
			f.after[c.run] = true
			if f.tasks[r.Task] {
				continue
			}
			f.tasks[r.Task] = true
			l, err := b.find(context.Background(), f.run)
			if err != nil {
				return nil, err
			}
			next := map[int]bool{wholeRun: true}
			if r.Task != wholeRun {
				next = allAfter(l, []int{r.Task})
			}
			changes = append(changes, change{r.Run, next})
		}
	}
	return b.ordered(found), nil
}

// ordered has each follower come after those that it rests on.
func (b *batch) ordered(all []*follower) (out []*follower) {
	placed := map[int64]bool{}
	for len(out) < len(all) {
		before := len(out)
		for _, f := range all {
			waits := slices.ContainsFunc(all, func(other *follower) bool { return f.after[other.run.ID] && !placed[other.run.ID] && other != f })
			if !placed[f.run.ID] && !waits {
				placed[f.run.ID] = true
				out = append(out, f)
			}
		}
		if len(out) == before { // a circle, which no definition has; nothing is left out
			for _, f := range all {
				if !placed[f.run.ID] {
					placed[f.run.ID] = true
					out = append(out, f)
				}
			}
		}
	}
	return out
}

// allAfter are the tasks and everything that comes after them in their run.
func allAfter(l *live, tasks []int) map[int]bool {
	nodes := make([]int, len(tasks))
	for i, task := range tasks {
		nodes[i] = l.version.plan.Node(l.run, task)
	}
	all := map[int]bool{}
	for _, task := range l.version.plan.Downstream(nodes) {
		all[task] = true
	}
	return all
}

// planFollowOn has what rested on these tasks of a run be made again after it, in the
// runs of other workflows. With dry it only tells which that are.
func (b *batch) planFollowOn(first *live, tasks []int, by string, dry bool) (list []Follower, err error) {
	found, err := b.followers(first, tasks)
	if err != nil {
		return nil, err
	}
	names := map[int64]string{first.row.ID: RunName(first.row.Name, first.row.Number)}
	for _, f := range found {
		names[f.run.ID] = RunName(f.run.Name, f.run.Number)
	}
	var rows []followOn
	for _, f := range found {
		one := Follower{Run: names[f.run.ID]}
		chosen := []int{}
		if !f.tasks[wholeRun] {
			l, err := b.find(context.Background(), f.run)
			if err != nil {
				return nil, err
			}
			all := []int{}
			for task := range f.tasks {
				all = append(all, task)
			}
			for task := range allAfter(l, all) {
				if !l.version.plan.IsOpening(task) && !l.version.plan.IsPrevious(task) {
					chosen = append(chosen, task)
				}
			}
			slices.Sort(chosen)
			for _, task := range chosen {
				one.Tasks = append(one.Tasks, l.version.plan.Label(l.run, task))
			}
		}
		var after []int64
		for id := range f.after {
			after = append(after, id)
			one.After = append(one.After, names[id])
		}
		slices.Sort(after)
		slices.Sort(one.After)
		list = append(list, one)
		rows = append(rows, followOn{store.FollowOn{Origin: first.row.ID, Run: f.run.ID, Tasks: asJSON(chosen), After: asJSON(after), Person: by, At: store.At(b.at), State: "waiting"}, f.run.Workflow, after})
	}
	if dry {
		return list, nil
	}
	for _, row := range rows {
		b.engine.follow = slices.DeleteFunc(b.engine.follow, func(old followOn) bool {
			if old.Run != row.Run {
				return false
			}
			old.State, old.Reason = "given up", "asked for anew"
			b.SetFollowOn(old.FollowOn)
			return true
		})
		row.ID = b.AddFollowOn(row.FollowOn)
		b.engine.follow = append(b.engine.follow, row)
	}
	return list, nil
}

// followsAlready tells that events which would start a workflow come of what is made
// again, and that the run of it which rested on that is to be made again too: it
// would else be done twice.
func (b *batch) followsAlready(w *workflow, events []event) string {
	rows := slices.Concat(b.engine.follow, b.followed)
	if len(rows) == 0 {
		return ""
	}
	for _, ev := range events {
		var from int64
		if u, ok := b.UpdateOfEvent(ev.id); ok {
			from = u.Run.Int64
		} else if ev.Type == RunEnded {
			from = b.runOfEvent(ev)
		}
		if from == 0 {
			return ""
		}
		if !slices.ContainsFunc(rows, func(f followOn) bool { return f.workflow == w.row.ID && slices.Contains(f.after, from) }) {
			return ""
		}
	}
	return "a run of it that rested on what was there before is made again"
}

func asJSON(value any) string {
	text, err := json.Marshal(value)
	if err != nil {
		panic("numbers are plain data: " + err.Error())
	}
	return string(text)
}

// followOn goes on with what was to be made again after a run that has ended.
func (b *batch) followOn(ended *live) {
	if len(b.engine.follow) == 0 || !ended.run.State.Settled() {
		return
	}
	for _, row := range slices.Clone(b.engine.follow) {
		if !slices.Contains(row.after, ended.row.ID) {
			continue
		}
		if ended.run.State != flow.RunSucceeded {
			b.giveUpFollowOn(row, fmt.Sprintf("%s %s", RunName(ended.row.Name, ended.row.Number), pastRun(ended.run.State)))
			continue
		}
		b.followed = append(b.followed, row)
		row.after = slices.DeleteFunc(slices.Clone(row.after), func(id int64) bool { return id == ended.row.ID })
		row.After = asJSON(row.after)
		b.setFollowOn(row)
		if len(row.after) == 0 {
			b.makeAgain(row)
		}
	}
}

// giveUpFollowOn gives up a run that was to be made again, and those after it.
func (b *batch) giveUpFollowOn(row followOn, reason string) {
	row.State, row.Reason = "given up", reason
	b.setFollowOn(row)
	for _, other := range slices.Clone(b.engine.follow) {
		if slices.Contains(other.after, row.Run) {
			b.giveUpFollowOn(other, reason)
		}
	}
}

func (b *batch) setFollowOn(row followOn) {
	b.SetFollowOn(row.FollowOn)
	i := slices.IndexFunc(b.engine.follow, func(f followOn) bool { return f.ID == row.ID })
	switch {
	case i < 0:
	case row.State == "waiting":
		b.engine.follow[i] = row
	default:
		b.engine.follow = slices.Delete(b.engine.follow, i, i+1)
	}
}

// makeAgain makes a run again whose turn has come.
func (b *batch) makeAgain(row followOn) {
	fail := func(err error) {
		b.engine.log.Error("a run that rested on another one cannot be made again", "run", row.Run, "error", err)
		b.giveUpFollowOn(row, err.Error())
	}
	run, err := b.engine.store.RunByID(context.Background(), row.Run)
	if err != nil {
		fail(err)
		return
	}
	l, err := b.find(context.Background(), run)
	if err != nil {
		fail(err)
		return
	}
	var tasks []int
	if err := json.Unmarshal([]byte(row.Tasks), &tasks); err != nil {
		fail(err)
		return
	}
	if len(tasks) == 0 {
		for i := range l.version.plan.Len() {
			if !l.version.plan.IsOpening(i) && !l.version.plan.IsPrevious(i) {
				tasks = append(tasks, i)
			}
		}
	}
	for _, task := range tasks {
		if task >= len(l.run.Tasks) || !l.run.Tasks[task].State.Settled() {
			b.giveUpFollowOn(row, RunName(run.Name, run.Number)+" was going when its turn came")
			return
		}
	}
	row.State = "done"
	b.setFollowOn(row)
	if b.engine.runs[l.row.ID] == nil {
		b.engine.runs[l.row.ID] = l
		l.workflow.open = append(l.workflow.open, l)
		delete(b.over, l.row.ID)
	}
	b.step(l, flow.Rerun{At: b.at, Tasks: tasks, By: row.Person + ", to follow the runs that it rested on"}, row.Person)
	b.lookBack(l)
}

// followOnAgain goes on with what was to be made again, after a restart.
func (b *batch) followOnAgain() {
	for _, row := range slices.Clone(b.engine.follow) {
		for _, id := range row.after {
			if b.engine.runs[id] != nil {
				continue // its end is told
			}
			run, err := b.engine.store.RunByID(context.Background(), id)
			if errors.Is(err, store.ErrNotFound) || err == nil && flow.RunState(run.State) != flow.RunSucceeded {
				b.giveUpFollowOn(row, strings.TrimSpace(RunName(run.Name, run.Number)+" "+run.State))
				break
			}
			if err == nil && !b.waitsToBeMadeAgain(id) {
				b.followOn(&live{row: run, run: &flow.Run{State: flow.RunSucceeded}})
			}
		}
	}
}

func (b *batch) waitsToBeMadeAgain(run int64) bool {
	return slices.ContainsFunc(b.engine.follow, func(f followOn) bool { return f.Run == run })
}
