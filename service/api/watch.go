package api

import (
	"context"
	"math"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wiselantern/client"
	"wiselantern/service/dispatch"
	"wiselantern/service/engine"
	"wiselantern/service/store"
)

func (a *API) watchRoutes(api huma.API) {
	route(api, http.MethodGet, "/api/watch", "watch", "Watch", "Tell what is running, late, held and failing, and what is due next", a.watch)
	route(api, http.MethodGet, "/api/workers", "list-workers", "Watch", "List the workers and what they do", a.listWorkers)
	route(api, http.MethodGet, "/api/usage", "list-usage", "Watch", "List what workflows used, week by week", a.listUsage)
	route(api, http.MethodGet, "/api/views/{page}", "read-view", "Access", "Tell how the person who asks has arranged a page",
		func(ctx context.Context, in *ViewPath) (view client.View, err error) {
			view.Body, err = a.Store.View(ctx, personOf(ctx), in.Page)
			if err == store.ErrNotFound {
				return view, nil
			}
			return view, err
		})
	route(api, http.MethodPut, "/api/views/{page}", "keep-view", "Access", "Keep how the person who asks has arranged a page",
		func(ctx context.Context, in *struct {
			ViewPath
			Body client.View
		}) (client.View, error) {
			person := personOf(ctx)
			return in.Body, a.Engine.Record(ctx, func(w *store.Writer) { w.SetView(person, in.Page, in.Body.Body) })
		})
}

// ViewPath names a page in an address.
type ViewPath struct {
	Page string `path:"page" enum:"watch"`
}

// Choice is the workflows that somebody wants to see.
type Choice struct {
	Owner    string   `query:"owner" doc:"Only workflows of this owner"`
	Label    string   `query:"label" doc:"Only workflows with this label"`
	Project  string   `query:"project" doc:"Only workflows of this project"`
	Workflow []string `query:"workflow" doc:"Only these workflows"`
}

// wanted are the workflows that somebody wants to see.
type wanted struct {
	all   []engine.Listed // every workflow that is there, by name
	ids   []int64         // those that are wanted; nil for all
	names map[string]bool // the same
}

func (a *API) wanted(ctx context.Context, c Choice) (w wanted, err error) {
	w.all, err = a.Engine.Catalog(ctx)
	w.names = make(map[string]bool, len(w.all))
	some := c.Owner != "" || c.Label != "" || c.Project != "" || c.Workflow != nil
	if some {
		w.ids = []int64{}
	}
	for _, one := range w.all {
		if (c.Owner == "" || one.Owner == c.Owner) && (c.Label == "" || slices.Contains(one.Labels, c.Label)) && (c.Project == "" || one.Project == c.Project) &&
			(c.Workflow == nil || slices.Contains(c.Workflow, one.Name)) {
			w.names[one.Name] = true
			if some {
				w.ids = append(w.ids, one.ID)
			}
		}
	}
	return w, err
}

const (
	mostWatched = 60 // of each thing that the Watch lists
	mostMarks   = 1500
	stripSteps  = 144 // of ten minutes
	stripLength = 24 * time.Hour
	aheadOnHand = 24 * time.Hour // how far ahead the Watch looks for what is due
)

func (a *API) watch(ctx context.Context, in *Choice) (w client.Watch, err error) {
	now := time.Now().UTC()
	chosen, err := a.wanted(ctx, *in)
	if err != nil {
		return w, err
	}
	names := make(map[int64]string, len(chosen.all))
	w = client.Watch{At: now, Held: []client.Held{}, Datasets: []client.Dataset{}, Failing: []client.Trouble{}, Next: []client.Upcoming{}, Choices: choicesOf(chosen.all), Counts: map[string]int{}}
	for _, one := range chosen.all {
		names[one.ID] = one.Name
		if chosen.names[one.Name] {
			w.Counts["all"]++
			if one.Paused {
				w.Counts["paused"]++
			}
		}
	}
	if fault := a.Engine.Fault(); fault != nil {
		w.Problem = "records cannot be written since " + fault.Since.UTC().Format(time.RFC3339) + ": " + fault.Error
	}
	if a.Faults != nil {
		for _, f := range a.Faults() {
			if w.Problem != "" {
				w.Problem += "; "
			}
			w.Problem += f.Of + ": " + f.Fault + " (" + f.Do + ")"
		}
	}
	if err := a.watchOpen(ctx, &w, chosen.names); err != nil {
		return w, err
	}
	if err := a.watchHeld(ctx, &w, chosen); err != nil {
		return w, err
	}
	troubles, err := a.openTroubles(ctx, chosen.names)
	if err != nil {
		return w, err
	}
	w.Failing = troubles[:min(len(troubles), mostWatched)]
	due, _, err := a.Engine.Upcoming(ctx, "", now.Add(aheadOnHand), 1)
	if err != nil {
		return w, err
	}
	for _, u := range due {
		if chosen.names[u.Workflow] && !u.Paused && len(w.Next) < mostWatched {
			w.Next = append(w.Next, upcoming(u))
		}
	}
	sets, err := a.listDatasets(ctx, nil)
	if err != nil {
		return w, err
	}
	for _, d := range sets.Datasets {
		if d.Late && (chosen.ids == nil || slices.ContainsFunc(d.UpdatedBy, func(by string) bool { return chosen.names[by[strings.LastIndex(by, " ")+1:]] })) {
			w.Datasets = append(w.Datasets, d)
		}
	}
	if w.Numbers, err = a.numbers(ctx, now, chosen.ids); err != nil {
		return w, err
	}
	w.Strip, err = a.strip(ctx, now, chosen.ids, names)
	return w, err
}

// watchOpen adds the runs that are going and those that are late, each with its
// expected end.
func (a *API) watchOpen(ctx context.Context, w *client.Watch, wanted map[string]bool) error {
	open, err := a.Store.OpenRuns(ctx)
	if err != nil {
		return err
	}
	var running, late []store.Run
	for _, row := range slices.Backward(open) { // the newest first
		if !wanted[row.Name] {
			continue
		}
		if row.Late.Valid {
			late = append(late, row)
		}
		if row.State == "running" {
			running = append(running, row)
		}
	}
	for _, list := range []struct {
		to   *client.WatchRuns
		rows []store.Run
	}{{&w.Running, running}, {&w.Late, late}} {
		list.to.Total = len(list.rows)
		shown := list.rows[:min(len(list.rows), mostWatched)]
		if list.to.Runs, err = a.summaries(ctx, shown); err != nil {
			return err
		}
		for i, row := range shown {
			usual, err := a.Lookout.Usual(ctx, row.Workflow)
			if err != nil {
				return err
			}
			if row.Started.Valid && usual.Run.Count > 0 {
				end := row.Started.Time().Add(usual.Run.Median)
				list.to.Runs[i].Expected = &end
			}
		}
	}
	return nil
}

// watchHeld adds what needs a person: held tasks, and questions.
func (a *API) watchHeld(ctx context.Context, w *client.Watch, chosen wanted) error {
	held, err := a.Store.HeldTasks(ctx, chosen.ids, mostWatched)
	if err != nil {
		return err
	}
	for _, h := range held {
		name, err := a.taskName(ctx, h.Workflow, h.Version, h.Run, h.Task)
		if err != nil {
			return err
		}
		w.Held = append(w.Held, client.Held{Run: engine.RunName(h.Name, h.Number), Workflow: h.Name, Task: name, Reason: h.Reason, Since: h.Since.Time()})
	}
	waits, err := a.Engine.Awaited(ctx, 0)
	for _, one := range waits {
		if one.Question == nil || !chosen.names[one.Workflow] {
			continue
		}
		wait := waitOf(one)
		w.Held = append(w.Held, client.Held{Run: wait.Run, Workflow: one.Workflow, Task: wait.Task, Reason: wait.Question.Ask, Since: wait.Since, Question: wait.Question})
	}
	slices.SortStableFunc(w.Held, func(a, b client.Held) int { return a.Since.Compare(b.Since) })
	w.Held = w.Held[:min(len(w.Held), mostWatched)]
	return err
}

func choicesOf(all []engine.Listed) client.WatchChoices {
	sets := [3]map[string]bool{{}, {}, {}}
	c := client.WatchChoices{Workflows: []string{}}
	for _, w := range all {
		sets[0][w.Owner], sets[2][w.Project] = true, true
		for _, l := range w.Labels {
			sets[1][l] = true
		}
		c.Workflows = append(c.Workflows, w.Name)
	}
	for i, to := range []*[]string{&c.Owners, &c.Labels, &c.Projects} {
		*to = []string{}
		for name := range sets[i] {
			if name != "" {
				*to = append(*to, name)
			}
		}
		slices.Sort(*to)
	}
	return c
}

// ranked is the nearest-rank percentile of sorted microseconds, in seconds.
func ranked(sorted []int64, percent int) float64 {
	if len(sorted) == 0 {
		return 0
	}
	return math.Max(0, seconds(sorted[(len(sorted)*percent+99)/100-1]))
}

// price is what that many seconds of processor time cost, in two decimals.
func (a *API) price(cpu float64) float64 { return math.Round(cpu/3600*a.PerHour*100) / 100 }

func (a *API) strip(ctx context.Context, now time.Time, ids []int64, names map[int64]string) (s client.Strip, err error) {
	step := stripLength / stripSteps
	from := now.Truncate(step).Add(step - stripLength)
	s = client.Strip{From: from, Step: step.Seconds(), Succeeded: make([]int, stripSteps), Marks: []client.StripMark{}}
	counts, err := a.Store.MarkCounts(ctx, store.At(from), step.Microseconds(), ids)
	if err != nil {
		return s, err
	}
	for _, c := range counts {
		if c.Place >= 0 && c.Place < stripSteps {
			s.Succeeded[c.Place] = c.Count
		}
	}
	marks, err := a.Store.Marks(ctx, store.At(from), ids, mostMarks+1)
	if len(marks) > mostMarks {
		marks, s.More = marks[:mostMarks], true
	}
	for _, m := range marks {
		if name, ok := names[m.Workflow]; ok {
			s.Marks = append(s.Marks, client.StripMark{Run: engine.RunName(name, m.Number), State: m.State, Ended: m.Ended.Time()})
		}
	}
	return s, err
}

// WorkerNow is a worker, and what it last said that it executes.
type WorkerNow struct {
	client.Worker
	Holds map[dispatch.AttemptID]bool
}

func (a *API) listWorkers(ctx context.Context, _ *nothing) (client.Workers, error) {
	list := client.Workers{Workers: []client.Worker{}}
	open, err := a.Store.OpenAttemptsNamed(ctx)
	if err != nil {
		return list, err
	}
	var now []WorkerNow
	if a.Workers != nil {
		now = a.Workers()
	}
	for _, w := range now {
		w.Does = []client.Does{}
		list.Workers = append(list.Workers, w.Worker)
	}
	for _, o := range open {
		if o.State == store.AttemptSent {
			list.Ready++
			continue
		}
		name, err := a.taskName(ctx, o.Of, o.Version, o.Run, o.Task)
		if err != nil {
			return list, err
		}
		id := dispatch.AttemptID{Run: o.Run, Task: o.Task, Attempt: o.Number}
		i := slices.IndexFunc(now, func(w WorkerNow) bool { return w.Name == o.Worker && w.Holds[id] })
		if i < 0 { // it has begun since the worker last said what it does
			for at, w := range now {
				if w.Name == o.Worker && (i < 0 || now[i].Draining) {
					i = at
				}
			}
		}
		if o.State == store.AttemptRunning && i >= 0 {
			list.Workers[i].Does = append(list.Workers[i].Does, client.Does{Run: engine.RunName(o.Name, o.RunNumber), Task: name, Attempt: o.Number, Started: o.Started.Time()})
		}
	}
	return list, nil
}

func (a *API) listUsage(ctx context.Context, in *struct {
	Weeks int `query:"weeks" default:"4" minimum:"1" maximum:"52" doc:"How many, the one that goes among them"`
}) (u client.Usage, err error) {
	now := time.Now().UTC()
	monday := time.Date(now.Year(), now.Month(), now.Day()-(int(now.Weekday())+6)%7, 0, 0, 0, 0, time.UTC)
	from := monday.AddDate(0, 0, -7*(in.Weeks-1))
	u = client.Usage{Workflows: []client.WorkflowUsage{}, PerHour: a.PerHour}
	for n := range in.Weeks {
		u.Weeks = append(u.Weeks, from.AddDate(0, 0, 7*n))
	}
	rows, err := a.Store.UsedByWeek(ctx, store.At(from))
	if err != nil {
		return u, err
	}
	all, err := a.Store.Workflows(ctx)
	if err != nil {
		return u, err
	}
	names := map[int64]string{}
	for _, w := range all {
		names[w.ID] = w.Name
	}
	totals := map[string]float64{}
	for _, r := range rows {
		name := names[r.Workflow]
		if len(u.Workflows) == 0 || u.Workflows[len(u.Workflows)-1].Workflow != name {
			u.Workflows = append(u.Workflows, client.WorkflowUsage{Workflow: name, Weeks: make([]client.UsageWeek, in.Weeks)})
		}
		if r.Week < 0 || r.Week >= in.Weeks {
			continue // the clock was set back
		}
		week := client.UsageWeek{Runs: r.Runs, Used: client.Used{CPU: seconds(r.CPU), Busy: seconds(r.Busy), Peak: r.Peak}}
		week.Price = a.price(week.CPU)
		u.Workflows[len(u.Workflows)-1].Weeks[r.Week] = week
		totals[name] += week.CPU
	}
	slices.SortStableFunc(u.Workflows, func(a, b client.WorkflowUsage) int {
		if d := totals[b.Workflow] - totals[a.Workflow]; d != 0 {
			return int(math.Copysign(1, d))
		}
		return strings.Compare(a.Workflow, b.Workflow)
	})
	return u, nil
}
