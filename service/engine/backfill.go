package engine

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"wiselantern/core/backfill"
	"wiselantern/core/calendar"
	"wiselantern/core/definition"
	"wiselantern/core/flow"
	"wiselantern/service/store"
)

// A backfill opens its runs as there is room for them, and keeps no more in memory
// than how many are going. What is left of it stands in the records.

// The states of a backfill.
const (
	BackfillRunning   = "running"
	BackfillPaused    = "paused"
	BackfillStopped   = "stopped"
	BackfillSucceeded = "succeeded"
	BackfillFailed    = "failed"
)

// backfilling is a backfill that has not ended.
type backfilling struct {
	row      store.Backfill
	asked    Asked
	next     int // the place from which waiting stretches are looked for
	going    map[int64]int
	failures int  // since it was made or went on
	bad      int  // of its stretches that have ended, how many did not succeed
	empty    bool // no stretch waits any more
}

// Asked is what a person asked of a backfill.
type Asked struct {
	From      string            `json:"from"`
	To        string            `json:"to"`
	Zone      string            `json:"zone"`
	Every     definition.Length `json:"every,omitempty"` // windows of that length, for a workflow without a time rule
	Only      backfill.Only     `json:"only"`
	Newest    bool              `json:"newest,omitempty"`
	Days      []string          `json:"days,omitempty"`
	Months    []string          `json:"months,omitempty"`
	Merge     definition.Length `json:"merge,omitempty"`
	AtOnce    int               `json:"at_once,omitempty"`
	StopAfter int               `json:"stop_after,omitempty"`
	Params    definition.Values `json:"params,omitempty"`
	Tasks     []string          `json:"tasks,omitempty"`
}

// Backfill plans a backfill and, unless dry, begins it.
func (e *Engine) Backfill(ctx context.Context, name string, asked Asked, by string, dry bool) (row store.Backfill, p Preview, err error) {
	// What takes long is done outside of the loop.
	var w workflow
	err = e.submit(ctx, func(b *batch) error {
		found, err := e.find(name)
		if err != nil {
			return err
		}
		w = workflow{row: found.row, current: found.current, schedules: found.schedules}
		return nil
	})
	if err != nil {
		return row, p, err
	}
	d := w.current.definition
	if _, err := definition.Fill(d.Params, asked.Params); err != nil {
		return row, p, &RefusedError{err.Error()}
	}
	for _, task := range asked.Tasks {
		if _, ok := d.Task(task); !ok {
			var names []string
			for _, t := range d.Tasks {
				names = append(names, t.Name)
			}
			return row, p, Unknown("task", task, names)
		}
	}
	if p, err = e.preview(ctx, &w, &asked); err != nil || dry {
		return row, p, err
	}
	if p.Chosen == 0 {
		return row, p, &RefusedError{fmt.Sprintf("there is nothing to do: none of the %d windows is %s; say --only all to make them again", p.Windows, wordOf(asked.Only))}
	}
	text, err := json.Marshal(asked)
	if err != nil {
		return row, p, err
	}
	row = store.Backfill{Workflow: w.row.ID, Name: name, State: BackfillRunning, RangeFrom: store.At(p.Range.From), RangeUntil: store.At(p.Range.Until), Asked: string(text),
		AtOnce: asked.AtOnce, StopAfter: asked.StopAfter, Total: len(p.Stretches), CreatedBy: by}
	advanced := make(chan error, 1)
	err = e.submit(ctx, func(b *batch) error {
		row.Created = store.At(b.at)
		row.ID = b.AddBackfill(row)
		for i, s := range p.Stretches {
			b.AddBackfillWindow(store.BackfillWindow{Backfill: row.ID, Place: i, WindowStart: store.At(s.Start), WindowEnd: store.At(s.End), Windows: s.Windows, State: store.WindowWaiting})
		}
		e.backfills[row.ID] = &backfilling{row: row, asked: asked, going: map[int64]int{}}
		b.tell(AllRuns)
		b.effects = append(b.effects, func() { // in a commit of its own: what it reads is recorded by then
			e.beside(func() { advanced <- e.advance(context.WithoutCancel(ctx), row.ID) })
		})
		return nil
	})
	if err != nil {
		return row, p, err
	}
	select {
	case err = <-advanced:
	case <-e.done:
		err = ErrStopped
	}
	return row, p, err
}

// advance opens the next runs of a backfill as there is room, and ends it when
// nothing is left of it. What is to be read is read before the loop is asked.
func (e *Engine) advance(ctx context.Context, id int64) error {
	for {
		var from, room int
		err := e.submit(ctx, func(b *batch) error {
			if f := e.backfills[id]; f != nil {
				from, room = f.next, b.roomOf(f)
			}
			return nil
		})
		if err != nil || room == 0 {
			return err
		}
		waiting, err := e.store.BackfillWindows(ctx, id, store.WindowWaiting, from, min(room, mostDueInBatch))
		if err != nil {
			return err
		}
		more := false
		err = e.submit(ctx, func(b *batch) error {
			f := e.backfills[id]
			if f == nil || f.row.State != BackfillRunning || f.next != from {
				return nil // something else has happened to it
			}
			if len(waiting) == 0 {
				f.empty = true
				b.endBackfill(f)
				return nil
			}
			for _, s := range waiting {
				if b.roomOf(f) == 0 {
					return nil
				}
				b.openStretch(f, s)
				f.next = s.Place + 1
			}
			more = true
			return nil
		})
		if err != nil || !more {
			return err
		}
	}
}

// advanceLater has a backfill advance once the batch is recorded.
func (b *batch) advanceLater(id int64) {
	e := b.engine
	if e.advancing[id] {
		return
	}
	e.advancing[id] = true
	b.effects = append(b.effects, func() {
		delete(e.advancing, id)
		e.goOn(id)
	})
}

// goOn has a backfill advance beside the loop.
func (e *Engine) goOn(id int64) {
	e.beside(func() {
		if err := e.advance(context.Background(), id); err != nil && !errors.Is(err, ErrStopped) {
			e.log.Warn("a backfill cannot go on for now; it is tried again when something happens to it, or records can be written again", "backfill", id, "error", err)
		}
	})
}

// roomOf is how many runs of a backfill may be opened now.
func (b *batch) roomOf(f *backfilling) int {
	if f.row.State != BackfillRunning || f.empty {
		return 0
	}
	if f.row.AtOnce > 0 {
		return max(0, f.row.AtOnce-len(f.going))
	}
	w := b.engine.byID[f.row.Workflow]
	most := w.current.definition.RunsAtOnce()
	if most == 0 {
		most = standardBackfillAtOnce
	}
	return max(0, most-len(w.open)) // what is going by itself comes first
}

// standardBackfillAtOnce is how many runs of a backfill go at once if neither it
// nor the workflow says.
const standardBackfillAtOnce = 4

func (b *batch) openStretch(f *backfilling, s store.BackfillWindow) {
	w := b.engine.byID[f.row.Workflow]
	params, err := definition.Fill(w.current.definition.Params, f.asked.Params)
	choose := flow.Choose{At: b.at, By: f.row.CreatedBy}
	for _, name := range f.asked.Tasks {
		i, ok := w.current.plan.Index(name)
		if !ok {
			err = fmt.Errorf("there is no task %q", name)
		}
		choose.Tasks = append(choose.Tasks, i)
	}
	if err != nil { // the workflow has changed since
		f.row.State, f.row.Reason = BackfillPaused, fmt.Sprintf("version %d of the workflow cannot do what it asks for: %v", w.row.Version, err)
		b.SetBackfill(f.row)
		b.tell(AllRuns)
		return
	}
	window := calendar.Window{Start: s.WindowStart.Time(), End: s.WindowEnd.Time()}
	l := b.openRun(w, newRun{cause: "backfill", by: fmt.Sprintf("backfill %d of %s", f.row.ID, f.row.CreatedBy), params: params, window: window,
		older: w.laterIsDue(window, b.at), backfill: f.row.ID})
	if f.asked.Tasks != nil {
		b.step(l, choose, "")
	}
	s.State, s.Run = store.WindowRunning, sql.NullInt64{Int64: l.row.ID, Valid: true}
	b.SetBackfillWindow(s)
	f.going[l.row.ID] = s.Place
	if f.row.AtOnce > 0 {
		b.step(l, flow.Opened{At: b.at}, "")
		b.lookBack(l)
	} else {
		b.beginQueued(w)
	}
}

// stretchEnded notes how a run of a backfill has ended.
func (b *batch) stretchEnded(l *live) {
	f := b.engine.backfills[l.row.Backfill.Int64]
	if f == nil {
		// It has ended, and the run was made again since: what counts is how it came out.
		b.SetBackfillRun(l.row.Backfill.Int64, l.row.ID, string(l.run.State))
		b.reviewLater(l.row.Backfill.Int64)
		return
	}
	place, ok := f.going[l.row.ID]
	if !ok { // it had ended, and was made again
		b.SetBackfillRun(f.row.ID, l.row.ID, string(l.run.State))
		return
	}
	delete(f.going, l.row.ID)
	b.SetBackfillWindow(store.BackfillWindow{Backfill: f.row.ID, Place: place, State: string(l.run.State), Run: sql.NullInt64{Int64: l.row.ID, Valid: true}})
	if l.run.State != flow.RunSucceeded {
		f.bad++
		if f.failures++; f.row.StopAfter > 0 && f.failures >= f.row.StopAfter && f.row.State == BackfillRunning {
			f.row.State, f.row.Reason = BackfillPaused, fmt.Sprintf("%d of its runs did not succeed, and stop-after is %d", f.failures, f.row.StopAfter)
			b.SetBackfill(f.row)
		}
	}
	b.tell(AllRuns)
	if f.empty || f.row.State == BackfillStopped {
		b.endBackfill(f)
		return
	}
	b.advanceLater(f.row.ID)
}

// endBackfill ends a backfill of which nothing waits and nothing goes.
func (b *batch) endBackfill(f *backfilling) {
	if len(f.going) > 0 {
		return
	}
	b.then(func() {
		if b.engine.backfills[f.row.ID] != f || len(f.going) > 0 {
			return
		}
		if f.row.State != BackfillStopped {
			f.row.State = BackfillSucceeded
			if f.bad > 0 {
				f.row.State = BackfillFailed
				b.reviewLater(f.row.ID) // one of them may have been made again by hand since
			}
		}
		f.row.Ended = store.At(b.at)
		b.SetBackfill(f.row)
		delete(b.engine.backfills, f.row.ID)
		b.tell(AllRuns)
	})
}

func (b *batch) reviewLater(id int64) {
	b.effects = append(b.effects, func() { b.engine.beside(func() { b.engine.review(id) }) })
}

// review has the state of a backfill that has ended be what its runs say, when one
// of them was made again.
func (e *Engine) review(id int64) {
	ctx := context.Background()
	row, err := e.store.Backfill(ctx, id)
	if err != nil || row.State != BackfillSucceeded && row.State != BackfillFailed {
		return
	}
	bad, err := e.countBad(ctx, id)
	if err != nil {
		e.log.Error("a backfill cannot be counted", "backfill", id, "error", err)
		return
	}
	state := BackfillSucceeded
	if bad > 0 {
		state = BackfillFailed
	}
	if state == row.State {
		return
	}
	row.State = state
	err = e.submit(ctx, func(b *batch) error {
		if e.backfills[id] == nil {
			b.SetBackfill(row)
			b.tell(AllRuns)
		}
		return nil
	})
	if err != nil && !errors.Is(err, ErrStopped) {
		e.log.Warn("the state of a backfill is behind its runs", "backfill", id, "error", err)
	}
}

// countBad counts the stretches of a backfill that did not succeed.
func (e *Engine) countBad(ctx context.Context, id int64) (bad int, err error) {
	counts, err := e.store.BackfillCounts(ctx, id)
	for _, c := range counts {
		if c.State == string(flow.RunFailed) || c.State == string(flow.RunStopped) {
			bad += c.Count
		}
	}
	return bad, err
}

// DirectBackfill pauses a backfill, lets it go on, stops it, or tries again what
// did not succeed: what is "pause", "resume", "stop" or "retry".
func (e *Engine) DirectBackfill(ctx context.Context, id int64, what, by string) error {
	row, err := e.store.Backfill(ctx, id)
	if err != nil {
		return err
	}
	return e.submit(ctx, func(b *batch) error {
		f := e.backfills[id]
		refuse := func(format string, args ...any) error { return &RefusedError{fmt.Sprintf(format, args...)} }
		if f == nil && what != "retry" {
			return refuse("backfill %d has ended: it %s", id, row.State)
		}
		switch what {
		case "pause":
			if f.row.State == BackfillPaused {
				return refuse("backfill %d is paused already", id)
			}
			f.row.State, f.row.Reason = BackfillPaused, "paused by "+by
		case "resume":
			if f.row.State != BackfillPaused {
				return refuse("backfill %d is not paused", id)
			}
			f.row.State, f.row.Reason, f.failures = BackfillRunning, "", 0
			b.advanceLater(id)
		case "stop":
			f.row.State, f.row.Reason = BackfillStopped, "stopped by "+by
			b.ResetBackfillWindows(id, store.WindowWaiting, BackfillStopped)
			for run := range f.going {
				if l := e.runs[run]; l != nil {
					b.then(func() { b.step(l, flow.Stop{At: b.at, Task: flow.AllTasks, By: by}, by) })
				}
			}
			b.SetBackfill(f.row)
			b.endBackfill(f)
			return nil
		case "retry":
			if f == nil {
				var asked Asked
				if err := json.Unmarshal([]byte(row.Asked), &asked); err != nil {
					return err
				}
				f = &backfilling{row: row, asked: asked, going: map[int64]int{}}
				e.backfills[id] = f
			}
			b.ResetBackfillWindows(id, BackfillFailed, store.WindowWaiting)
			b.ResetBackfillWindows(id, BackfillStopped, store.WindowWaiting)
			f.row.State, f.row.Reason, f.row.Ended, f.failures, f.bad, f.next, f.empty = BackfillRunning, "", store.Moment{}, 0, 0, 0, false
			b.advanceLater(id)
		}
		b.SetBackfill(f.row)
		b.tell(AllRuns)
		return nil
	})
}

// loadBackfills reads the backfills that have not ended.
func (e *Engine) loadBackfills(ctx context.Context, runs map[int64]*live) (map[int64]*backfilling, error) {
	rows, err := e.store.OpenBackfills(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the backfills: %w", err)
	}
	found := map[int64]*backfilling{}
	for _, row := range rows {
		f := &backfilling{row: row, going: map[int64]int{}}
		if err := json.Unmarshal([]byte(row.Asked), &f.asked); err != nil {
			return nil, fmt.Errorf("read backfill %d: %w", row.ID, err)
		}
		going, err := e.store.BackfillWindows(ctx, row.ID, store.WindowRunning, 0, 1_000_000)
		if err != nil {
			return nil, fmt.Errorf("read backfill %d: %w", row.ID, err)
		}
		for _, s := range going {
			if runs[s.Run.Int64] != nil {
				f.going[s.Run.Int64] = s.Place
			}
		}
		if f.bad, err = e.countBad(ctx, row.ID); err != nil {
			return nil, fmt.Errorf("read backfill %d: %w", row.ID, err)
		}
		found[row.ID] = f
	}
	return found, nil
}
