package engine

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"wiselantern/core/calendar"
	"wiselantern/core/definition"
	"wiselantern/core/flow"
	"wiselantern/service/store"
)

// updated tells of each data set that a task has updated.
func (b *batch) updated(l *live, task int) {
	t := &l.run.Tasks[task]
	if t.State != flow.Succeeded || t.Attempts == t.Before && t.Items == 0 {
		return // it was left out, or is to be made again
	}
	result := l.results[task]
	perSet, _ := result["updates"].(map[string]any)
	sets := l.version.nodes[task].Updates
	name := l.version.plan.Name(task)
	for _, d := range sets {
		var info map[string]any
		switch said := perSet[d.Name].(type) {
		case bool:
			if !said {
				continue // the task says that there was nothing to update
			}
		case map[string]any:
			info = said
		case nil:
			if len(sets) == 1 && perSet == nil {
				info = result
			}
		}
		data := map[string]any{"dataset": d.Name, "run": RunName(l.row.Name, l.row.Number), "task": name, "attempt": t.Attempts, "window": windowData(l.row.WindowStart, l.row.WindowEnd), "info": info}
		if t.Items > 0 {
			data["items"] = t.Items
		}
		id := fmt.Sprintf("%s/%s/%d/%s", RunName(l.row.Name, l.row.Number), name, max(t.Attempts, 1), d.Name)
		if t.Items > 0 || t.Before > 0 {
			id += fmt.Sprintf("/%d", b.at.UnixMicro()) // made again, perhaps without an attempt of its own
		}
		b.own(DatasetUpdated, sourceOf(l.row.Name), id, d.Name, data)
	}
}

// datasetUpdated records an update that an event tells, of our own or from outside.
func (b *batch) datasetUpdated(ev event, own bool) {
	row := store.Update{Dataset: ev.Subject, Event: ev.id, At: store.At(b.at), Info: "{}"}
	data, _ := ev.Data.(map[string]any)
	if window, ok := data["window"].(map[string]any); ok {
		start, err := time.Parse(time.RFC3339, fmt.Sprint(window["start"]))
		end, err2 := time.Parse(time.RFC3339, fmt.Sprint(window["end"]))
		if err == nil && err2 == nil && start.Before(end) {
			row.WindowStart, row.WindowEnd = store.At(start), store.At(end)
		}
	}
	info := data["info"]
	if info == nil && data["run"] == nil {
		info = data // from outside: all that it says
	}
	if text, err := json.Marshal(info); err == nil && info != nil {
		row.Info = string(text)
	}
	if l, task, ok := b.madeBy(ev, data); own && ok {
		row.Run, row.Task, row.Attempt = number(l.row.ID), number(int64(task)), number(int64(l.run.Tasks[task].Attempts))
	}
	b.engine.newest[ev.Subject] = b.AddUpdate(row)
}

// madeBy is the task of ours that an update event speaks of.
func (b *batch) madeBy(ev event, data map[string]any) (l *live, task int, ok bool) {
	name, _ := data["run"].(string)
	taskName, _ := data["task"].(string)
	workflow, _ := strings.CutPrefix(ev.Source, sourceOf(""))
	w := b.engine.workflows[workflow]
	if w == nil {
		return nil, 0, false
	}
	found := func(l *live) bool {
		return l.row.Workflow == w.row.ID && RunName(l.row.Name, l.row.Number) == name
	}
	for _, open := range w.open {
		if found(open) {
			task, ok := open.version.plan.Index(taskName)
			return open, task, ok
		}
	}
	for _, over := range b.over {
		if found(over) {
			task, ok := over.version.plan.Index(taskName)
			return over, task, ok
		}
	}
	return nil, 0, false
}

// lookForUpdates looks whether the updates of a data set that an attempt waits for
// are there.
func (b *batch) lookForUpdates(p *parked, place int) {
	spec := &p.things[place].spec
	dataset, l := spec.Of[0], p.live
	var found []store.Update
	if spec.Window == "same" && l.row.WindowEnd.Valid {
		all := b.UpdatesIn(dataset, l.row.WindowStart, l.row.WindowEnd)
		var missing calendar.Window
		if found, missing = covering(all, l.row.WindowStart, l.row.WindowEnd); found == nil {
			if found = b.UpdatesSince(dataset, l.row.Created, true); found == nil {
				if all != nil {
					b.note(p, place, fmt.Sprintf("%s was updated, but not yet for %s to %s", dataset, missing.Start.UTC().Format(time.RFC3339), missing.End.UTC().Format(time.RFC3339)))
				}
				return
			}
			found = found[:1]
		}
	} else if found = b.UpdatesSince(dataset, l.row.Created, false); found == nil {
		return
	} else {
		found = found[:1]
	}
	newest := found[0]
	var by []any
	for _, u := range found {
		if u.ID > newest.ID {
			newest = u
		}
		b.AddUse(store.Use{Update: u.ID, Run: p.id.Run, Task: p.id.Task, At: store.At(b.at)})
		b.AddAnswer(store.Answer{Event: u.Event, Run: number(p.id.Run), Task: number(int64(p.id.Task)), Attempt: number(int64(p.id.Attempt)), State: store.AnswerWait, At: store.At(b.at)})
		if u.Run.Valid {
			b.AddRest(store.Rest{Run: p.id.Run, Task: p.id.Task, FromRun: u.Run.Int64, FromTask: int(u.Task.Int64), Kind: "data set"})
			by = append(by, RunName(u.Name.String, int(u.Number.Int64)))
		}
	}
	var info any
	if err := json.Unmarshal([]byte(newest.Info), &info); err != nil {
		b.engine.log.Error("what is told of an update cannot be read", "update", newest.ID, "error", err)
	}
	b.thingCame(p, place, map[string]any{"dataset": dataset, "updates": float64(len(found)), "runs": by, "at": newest.At.Time().Format(time.RFC3339), "info": info})
}

// covering are the newest updates that together cover a window; nil if they do not,
// with what is missing first.
func covering(all []store.Update, start, end store.Moment) (found []store.Update, missing calendar.Window) {
	at := start.Int64
	for at < end.Int64 {
		best := -1
		for i, u := range all {
			if u.WindowStart.Int64 <= at && u.WindowEnd.Int64 > at && (best < 0 || u.ID > all[best].ID) {
				best = i
			}
		}
		if best < 0 {
			until := end.Int64
			for _, u := range all {
				if u.WindowStart.Int64 > at {
					until = min(until, u.WindowStart.Int64)
				}
			}
			return nil, calendar.Window{Start: time.UnixMicro(at), End: time.UnixMicro(until)}
		}
		found = append(found, all[best])
		at = all[best].WindowEnd.Int64
	}
	return found, missing
}

// windowOf is the window of a run that events start: that of the updates or the run
// that they tell of, from the first to the last; with the updates themselves.
func (b *batch) windowOf(events []event) (window calendar.Window, updates []int64) {
	for _, ev := range events {
		if ev.Type == DatasetUpdated {
			if u, ok := b.UpdateOfEvent(ev.id); ok {
				updates = append(updates, u.ID)
			}
		}
		if ev.Type != DatasetUpdated && ev.Type != RunEnded {
			continue
		}
		data, _ := ev.Data.(map[string]any)
		told, ok := data["window"].(map[string]any)
		if !ok {
			continue
		}
		start, err := time.Parse(time.RFC3339, fmt.Sprint(told["start"]))
		end, err2 := time.Parse(time.RFC3339, fmt.Sprint(told["end"]))
		if err != nil || err2 != nil || !start.Before(end) {
			continue
		}
		if window.End.IsZero() || start.Before(window.Start) {
			window.Start = start
		}
		if end.After(window.End) {
			window.End = end
		}
	}
	return window, updates
}

// rests records what a run, or a task of it, rests on: the runs that events tell of.
func (b *batch) rests(l *live, task int, events []event, kind string) {
	word := "starts"
	if kind == definition.AwaitDataset {
		word = "data set"
	}
	for _, ev := range events {
		switch ev.Type {
		case DatasetUpdated:
			if u, ok := b.UpdateOfEvent(ev.id); ok && u.Run.Valid {
				b.AddRest(store.Rest{Run: l.row.ID, Task: task, FromRun: u.Run.Int64, FromTask: int(u.Task.Int64), Kind: word})
			}
		case RunEnded:
			if from := b.runOfEvent(ev); from != 0 {
				b.AddRest(store.Rest{Run: l.row.ID, Task: task, FromRun: from, FromTask: wholeRun, Kind: word})
			}
		}
	}
}

// runOfEvent is the run whose end an event tells of, 0 if it is not known any more.
func (b *batch) runOfEvent(ev event) int64 {
	data, _ := ev.Data.(map[string]any)
	name, _ := data["workflow"].(string)
	n, _ := data["number"].(int)
	if f, ok := data["number"].(float64); ok {
		n = int(f)
	}
	return b.RunNumbered(name, n)
}

// see notes what of the data sets that its only_if asks for a workflow has seen.
func (b *batch) see(w *workflow) {
	if w.current.compiled == nil || w.current.compiled.OnlyIf == nil {
		return
	}
	for _, dataset := range w.current.compiled.OnlyIf.News {
		if newest := b.engine.newest[dataset]; newest > w.seen[dataset] {
			if w.seen == nil {
				w.seen = map[string]int64{}
			}
			w.seen[dataset] = newest
			b.SetSeen(store.Seen{Workflow: w.row.ID, Dataset: dataset, Update: newest})
		}
	}
}

// Freshness is what workflows expect of a data set.
type Freshness struct {
	About       string
	Within      time.Duration // 0: nobody expects anything
	Since       time.Time     // when that was first expected of what is applied now
	UpdatedBy   []string      // tasks, as in "load of gauge-hourly"
	StartsOrFor []string      // workflows that start from it, or wait for it
}

// expectations are what the workflows say of data sets, by their names.
func (e *Engine) expectations() map[string]*Freshness {
	all := map[string]*Freshness{}
	get := func(name string) *Freshness {
		if all[name] == nil {
			all[name] = &Freshness{}
		}
		return all[name]
	}
	for _, name := range sortedNames(e.workflows) {
		w := e.workflows[name]
		if w.row.Removed.Valid {
			continue
		}
		for _, t := range w.current.definition.Tasks {
			for _, d := range t.Updates {
				f := get(d.Name)
				f.UpdatedBy = append(f.UpdatedBy, t.Name+" of "+name)
				if d.About != "" {
					f.About = d.About
				}
				if within := d.FreshWithin.Duration(); within > 0 && (f.Within == 0 || within < f.Within) {
					f.Within, f.Since = within, w.current.row.Applied.Time()
				}
			}
		}
		for _, l := range w.current.links {
			if dataset, is := cutNode(l.From, definition.DatasetNode); is {
				f := get(dataset)
				if !slices.Contains(f.StartsOrFor, name) {
					f.StartsOrFor = append(f.StartsOrFor, name)
				}
			}
		}
	}
	return all
}
