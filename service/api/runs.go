package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wiselantern/client"
	"wiselantern/core/definition"
	"wiselantern/core/flow"
	"wiselantern/service/dispatch"
	"wiselantern/service/engine"
	"wiselantern/service/store"
)

// RunPath names a run in an address.
type RunPath struct {
	Run string `path:"run" example:"gauge-hourly:412"`
}

func (a *API) runRoutes(api huma.API) {
	route(api, http.MethodGet, "/api/runs", "list-runs", "Runs", "List runs, newest first", a.listRuns)
	route(api, http.MethodGet, "/api/runs/{run}", "show-run", "Runs", "Show a run with its tasks and their attempts",
		func(ctx context.Context, in *struct {
			RunPath
			Fold bool `query:"fold" doc:"Leave out the items of tasks that are made for each"`
		}) (run client.Run, err error) {
			row, err := a.findRun(ctx, in.Run)
			if err != nil {
				return run, err
			}
			if in.Fold {
				return a.folded(ctx, row)
			}
			return a.run(ctx, row)
		})
	route(api, http.MethodGet, "/api/runs/{run}/items", "list-items", "Runs", "List the items of a task that is made for each, in the order of its list", a.listItems)
	route(api, http.MethodGet, "/api/runs/{run}/changes", "list-changes", "Runs", "List every change of state of a run and its tasks, oldest first", a.listChanges)
	route(api, http.MethodPost, "/api/runs/{run}/stop", "stop", "Runs", "Stop a run, or one task of it",
		func(ctx context.Context, in *struct {
			RunPath
			Body client.StopRequest
		}) (run client.Run, err error) {
			row, err := a.findRun(ctx, in.Run)
			if err != nil {
				return run, err
			}
			if err := a.Engine.Stop(ctx, row, in.Body.Task, personOf(ctx)); err != nil {
				return run, err
			}
			if row, err = a.Store.RunByID(ctx, row.ID); err != nil {
				return run, err
			}
			return a.run(ctx, row)
		})
	route(api, http.MethodPost, "/api/runs/{run}/rerun", "rerun", "Runs", "Make tasks of a run again, within the same run", a.rerun)
	route(api, http.MethodPost, "/api/runs/{run}/release", "release", "Runs", "Give a person's word about a held task",
		func(ctx context.Context, in *struct {
			RunPath
			Body client.ReleaseRequest
		}) (run client.Run, err error) {
			row, err := a.findRun(ctx, in.Run)
			if err != nil {
				return run, err
			}
			if err := a.Engine.Release(ctx, row, in.Body.Task, in.Body.As, personOf(ctx)); err != nil {
				return run, err
			}
			if row, err = a.Store.RunByID(ctx, row.ID); err != nil {
				return run, err
			}
			return a.run(ctx, row)
		})
	route(api, http.MethodGet, "/api/runs/{run}/log", "read-log", "Runs", "Read what an attempt printed", a.readLog)
}

func (a *API) listRuns(ctx context.Context, in *struct {
	Workflow string   `query:"workflow" doc:"Only of this workflow"`
	State    []string `query:"state" enum:"queued,running,succeeded,failed,stopped" doc:"Only in one of these states"`
	RunQuery
	Before string `query:"before" doc:"The next of the page before"`
	Limit  int    `query:"limit" default:"50" minimum:"1" maximum:"500"`
}) (page client.Runs, err error) {
	filter := store.RunFilter{Workflow: in.Workflow, States: in.State, Limit: in.Limit + 1}
	if err := in.fill(&filter); err != nil {
		return page, err
	}
	if in.Workflow != "" {
		if _, err := a.findWorkflow(ctx, in.Workflow); err != nil {
			return page, err
		}
	}
	if in.Before != "" {
		if filter.Before, err = strconv.ParseInt(in.Before, 10, 64); err != nil {
			return page, huma.Error422UnprocessableEntity("before is not the next of a page")
		}
	}
	rows, err := a.Store.Runs(ctx, filter)
	if err != nil {
		return page, err
	}
	if len(rows) > in.Limit {
		rows = rows[:in.Limit]
		page.Next = strconv.FormatInt(rows[in.Limit-1].ID, 10)
	}
	if page.Runs, err = a.summaries(ctx, rows); err != nil || !in.Ribbon {
		return page, err
	}
	return page, a.addRibbons(ctx, page.Runs, rows)
}

// summaries are runs without their tasks, but with how many there are in each state.
func (a *API) summaries(ctx context.Context, rows []store.Run) ([]client.Run, error) {
	runs := make([]client.Run, len(rows))
	var uncounted []int64
	place := make(map[int64]int, len(rows))
	for i, row := range rows {
		var err error
		if runs[i], err = a.summaryOf(ctx, row); err != nil {
			return nil, err
		}
		runs[i].Counts = map[string]int{}
		if place[row.ID] = i; !row.Counts.Valid {
			uncounted = append(uncounted, row.ID)
		} else if err := json.Unmarshal([]byte(row.Counts.String), &runs[i].Counts); err != nil {
			return nil, err
		}
	}
	counts, err := a.Store.TaskCounts(ctx, uncounted)
	for _, c := range counts {
		runs[place[c.Run]].Counts[c.State] = c.Count
	}
	return runs, err
}

// findRun reads NAME:NUMBER, or NAME alone for the newest run.
func (a *API) findRun(ctx context.Context, id string) (store.Run, error) {
	name, digits, numbered := strings.Cut(id, ":")
	workflow, err := a.findWorkflow(ctx, name)
	if err != nil {
		return store.Run{}, err
	}
	if workflow.LastRun == 0 {
		return store.Run{}, &engine.UnknownError{What: "run", Name: id, None: name + " has no runs yet"}
	}
	number := workflow.LastRun
	if numbered {
		if number, err = strconv.Atoi(digits); err != nil {
			return store.Run{}, huma.Error422UnprocessableEntity(fmt.Sprintf("%q is not the name of a run; write it as %s", id, engine.RunName(name, workflow.LastRun)))
		}
	}
	row, err := a.Store.Run(ctx, name, number)
	if err == store.ErrNotFound {
		return row, &engine.UnknownError{What: "run", Name: id, Known: []string{fmt.Sprintf("runs %s to %s", engine.RunName(name, 1), engine.RunName(name, workflow.LastRun))}}
	}
	return row, err
}

// seconds are microseconds as seconds.
func seconds(micro int64) float64 { return float64(micro) / 1e6 }

func moment(m store.Moment) *time.Time {
	if !m.Valid {
		return nil
	}
	t := m.Time()
	return &t
}

// summaryOf is a run without its tasks, and without the values of secret params.
func (a *API) summaryOf(ctx context.Context, row store.Run) (run client.Run, err error) {
	run = client.Run{ID: engine.RunName(row.Name, row.Number), Workflow: row.Name, Number: row.Number, Version: row.Version, State: row.State,
		Attention: row.Attention, Cause: row.Cause, CausedBy: row.CausedBy, Due: moment(row.Due), Created: row.Created.Time(), Started: moment(row.Started), Ended: moment(row.Ended), Forgotten: moment(row.Forgotten)}
	run.DueBy = moment(row.DueBy)
	if row.Late.Valid {
		run.Late = &client.Late{Since: row.Late.Time(), Reason: row.LateReason}
	}
	if row.CPU > 0 || row.Busy > 0 || row.Peak > 0 {
		run.Used = &client.Used{CPU: seconds(row.CPU), Busy: seconds(row.Busy), Peak: row.Peak}
	}
	if row.Result.Valid {
		if err = json.Unmarshal([]byte(row.Result.String), &run.Result); err != nil {
			return run, err
		}
	}
	if row.OuterRun.Valid {
		outer, err := a.Store.RunByID(ctx, row.OuterRun.Int64)
		if err != nil {
			return run, err
		}
		run.Outer = engine.RunName(outer.Name, outer.Number)
	}
	if row.WindowEnd.Valid {
		run.Window = &client.Window{Start: row.WindowStart.Time(), End: row.WindowEnd.Time()}
	}
	var values definition.Values
	if err = json.Unmarshal([]byte(row.Params), &values); err != nil {
		return run, err
	}
	d, err := a.definitionOf(ctx, row.Workflow, row.Version)
	if err != nil {
		return run, err
	}
	run.Params = values.Shown(d.Params)
	return run, nil
}

// run is a run with its tasks.
func (a *API) run(ctx context.Context, row store.Run) (run client.Run, err error) {
	if run, err = a.summaryOf(ctx, row); err != nil {
		return run, err
	}
	d, err := a.definitionOf(ctx, row.Workflow, row.Version)
	if err != nil {
		return run, err
	}
	tasks, err := a.Store.Tasks(ctx, row.ID)
	if err != nil {
		return run, err
	}
	attempts, err := a.Store.Attempts(ctx, row.ID)
	if err != nil {
		return run, err
	}
	return a.withTasks(ctx, run, row, d, tasks, attempts)
}

// folded is a run with its tasks, but without the items of those that are made
// for each.
func (a *API) folded(ctx context.Context, row store.Run) (run client.Run, err error) {
	if run, err = a.summaryOf(ctx, row); err != nil {
		return run, err
	}
	d, err := a.definitionOf(ctx, row.Workflow, row.Version)
	if err != nil {
		return run, err
	}
	tasks, err := a.Store.Nodes(ctx, row.ID)
	if err != nil {
		return run, err
	}
	attempts, err := a.Store.AttemptsOf(ctx, row.ID, 0, len(d.nodes)-1)
	if err != nil {
		return run, err
	}
	return a.withTasks(ctx, run, row, d, tasks, attempts)
}

// withTasks adds the tasks to a run, each item behind its task.
func (a *API) withTasks(ctx context.Context, run client.Run, row store.Run, d defined, tasks []store.Task, attempts []store.Attempt) (client.Run, error) {
	waits, err := a.waits(ctx, row)
	if err != nil {
		return run, err
	}
	counts, err := a.Store.ItemCounts(ctx, row.ID)
	if err != nil {
		return run, err
	}
	if row.WindowEnd.Valid {
		newest, err := a.Store.NewestForWindow(ctx, row.Workflow, row.WindowStart, row.WindowEnd)
		if err != nil {
			return run, err
		}
		if newest > row.Number {
			run.Newer = engine.RunName(row.Name, newest)
		}
	}
	followOns, err := a.Store.FollowOns(ctx, row.ID)
	if err != nil {
		return run, err
	}
	for _, f := range followOns {
		other, err := a.Store.RunByID(ctx, f.Run)
		if err != nil {
			return run, err
		}
		run.FollowOn = append(run.FollowOn, client.FollowOn{Run: engine.RunName(other.Name, other.Number), State: f.State, Reason: f.Reason})
	}
	if row.State == string(flow.RunQueued) {
		if run.Waits, err = a.Engine.WaitsToBegin(ctx, row.ID); err != nil {
			return run, err
		}
	}
	run.Counts = map[string]int{}
	made := make(map[int]*client.Task, len(tasks))
	items := map[int64][]*client.Task{}
	for _, t := range tasks {
		if t.ItemOf.Valid && t.Item.Int64 >= int64(tasks[t.ItemOf.Int64].Items) {
			continue // it is no longer in the list
		}
		one, err := taskOf(t, d)
		if err != nil {
			return run, err
		}
		one.Waits = waits[t.Task]
		made[t.Task] = &one
		if t.ItemOf.Valid {
			items[t.ItemOf.Int64] = append(items[t.ItemOf.Int64], &one)
		} else {
			run.Counts[t.State]++
		}
	}
	for _, c := range counts {
		made[c.Task].Items.Counts[c.State] = c.Count
	}
	if err := a.addAttempts(ctx, made, attempts); err != nil {
		return run, err
	}
	for i := range d.nodes {
		run.Tasks = append(run.Tasks, *made[i])
		for _, item := range items[int64(i)] {
			run.Tasks = append(run.Tasks, *item)
		}
	}
	return run, nil
}

// waits tells of each ready task what it waits for.
func (a *API) waits(ctx context.Context, row store.Run) (map[int]string, error) {
	if row.State != string(flow.RunRunning) {
		return nil, nil
	}
	return a.Engine.Waits(ctx, row.ID)
}

func (a *API) addAttempts(ctx context.Context, tasks map[int]*client.Task, attempts []store.Attempt) error {
	late := map[dispatch.AttemptID][]client.LateReport{}
	for _, at := range attempts {
		if at.State != string(dispatch.Lost) && at.State != string(dispatch.Stopped) {
			continue
		}
		rows, err := a.Store.LateReports(ctx, at.Run)
		if err != nil {
			return err
		}
		for _, row := range rows {
			one := client.LateReport{Worker: row.Worker, State: row.State, Ended: row.Ended.Time(), Received: row.Received.Time(), Error: row.Error}
			if row.ExitCode.Valid {
				code := int(row.ExitCode.Int64)
				one.ExitCode = &code
			}
			id := dispatch.AttemptID{Run: row.Run, Task: row.Task, Attempt: row.Attempt}
			late[id] = append(late[id], one)
		}
		break
	}
	for _, at := range attempts {
		t := tasks[at.Task]
		if t == nil {
			continue
		}
		one := client.Attempt{Late: late[dispatch.AttemptID{Run: at.Run, Task: at.Task, Attempt: at.Number}], Number: at.Number, State: at.State, Worker: at.Worker, Started: moment(at.Started), Ended: moment(at.Ended), Error: at.Error,
			CPU: seconds(at.CPU.Int64), Peak: at.Peak.Int64}
		if at.ExitCode.Valid {
			code := int(at.ExitCode.Int64)
			one.ExitCode = &code
		}
		if at.InnerRun.Valid {
			inner, err := a.Store.RunByID(ctx, at.InnerRun.Int64)
			if err != nil {
				return err
			}
			one.Run = engine.RunName(inner.Name, inner.Number)
		}
		if at.Number > 0 { // else it is a result that was given for a task that is left out
			t.Attempts = append(t.Attempts, one)
		}
		t.Error, t.Result = at.Error, nil
		if at.Result.Valid {
			if err := json.Unmarshal([]byte(at.Result.String), &t.Result); err != nil {
				return err
			}
		}
	}
	return nil
}

// findTask is the number of a task of a run, or of an item, by its name.
func (a *API) findTask(ctx context.Context, row store.Run, d defined, name string) (int, error) {
	task, rest, isItem := strings.Cut(name, "[")
	names := make([]string, len(d.nodes))
	for i, t := range d.nodes {
		names[i] = t.Name
		if t.Name != task {
			continue
		}
		if !isItem {
			return i, nil
		}
		if item, err := strconv.Atoi(strings.TrimSuffix(rest, "]")); err == nil && flow.ItemName(task, item) == name {
			place, err := a.Store.ItemPlace(ctx, row.ID, i, item)
			if err != store.ErrNotFound {
				return place, err
			}
		}
	}
	return 0, engine.Unknown("task", name, names)
}

func taskOf(row store.Task, d defined) (task client.Task, err error) {
	node := row.Task
	if row.ItemOf.Valid {
		node = int(row.ItemOf.Int64)
	}
	t := d.nodes[node]
	task = client.Task{Name: d.name(row.Task, row.ItemOf, row.Item), About: t.About, Kind: t.Kind, After: dependencies(t.After), Within: t.Within, State: row.State, Reason: row.Reason,
		Stopping: row.Stopping, Wakes: moment(row.Wake), Attempts: []client.Attempt{}, Started: moment(row.Started), Ended: moment(row.Ended)}
	switch {
	case row.ItemOf.Valid:
		task.ItemOf = t.Name
		err = json.Unmarshal([]byte(row.Value), &task.Item)
	case t.ForEach != "":
		task.Items = &client.ItemCounts{Count: row.Items, Counts: map[string]int{}}
	}
	return task, err
}

func dependencies(after []definition.Dependency) []client.Dependency {
	found := make([]client.Dependency, len(after))
	for i, d := range after {
		found[i] = client.Dependency{Task: d.Task, Expect: strings.Join(d.Expect, "|")}
	}
	return found
}

func (a *API) rerun(ctx context.Context, in *struct {
	RunPath
	Body client.RerunRequest
}) (again client.Rerun, err error) {
	chosen := 0
	for _, one := range []bool{in.Body.Failed, in.Body.From != nil, in.Body.Only != nil} {
		if one {
			chosen++
		}
	}
	if chosen != 1 {
		return again, huma.Error422UnprocessableEntity("say exactly one of failed, from and only")
	}
	row, err := a.findRun(ctx, in.Run)
	if err != nil {
		return again, err
	}
	d, err := a.definitionOf(ctx, row.Workflow, row.Version)
	if err != nil {
		return again, err
	}
	values, err := readTexts(d.Workflow, in.Body.Texts)
	if err != nil {
		return again, err
	}
	return a.rerunOf(ctx, row, engine.Selection{Failed: in.Body.Failed, From: in.Body.From, Only: in.Body.Only}, values, in.Body.FollowOn, in.Body.DryRun)
}

// rerunOf makes tasks of a run again, or tells which that would be.
func (a *API) rerunOf(ctx context.Context, row store.Run, s engine.Selection, values definition.Values, followOn, dry bool) (again client.Rerun, err error) {
	tasks, followers, err := a.Engine.Rerun(ctx, row, s, values, personOf(ctx), followOn, dry)
	again.Tasks = tasks
	for _, f := range followers {
		again.FollowOn = append(again.FollowOn, client.Follower{Run: f.Run, Tasks: f.Tasks, After: f.After})
	}
	return again, err
}

func (a *API) listChanges(ctx context.Context, in *struct {
	RunPath
	After int64 `query:"after" minimum:"0"`
	Limit int   `query:"limit" default:"500" minimum:"1" maximum:"5000"`
}) (page client.Changes, err error) {
	row, err := a.findRun(ctx, in.Run)
	if err != nil {
		return page, err
	}
	page.Changes, err = a.changes(ctx, in.After, row.ID, in.Limit)
	return page, err
}

func (a *API) changes(ctx context.Context, after, run int64, limit int) ([]client.Change, error) {
	rows, err := a.Store.Transitions(ctx, after, run, limit)
	if err != nil {
		return nil, err
	}
	changes := make([]client.Change, len(rows))
	for i, r := range rows {
		changes[i] = client.Change{ID: r.ID, Run: engine.RunName(r.Name, r.Number), At: r.At.Time(), Before: r.Before, After: r.After, Reason: r.Reason, Person: r.Person}
		if r.Task.Valid {
			d, err := a.definitionOf(ctx, r.Workflow, r.Version)
			if err != nil {
				return nil, err
			}
			changes[i].Task = d.name(int(r.Task.Int64), r.ItemOf, r.Item)
		}
	}
	return changes, nil
}
