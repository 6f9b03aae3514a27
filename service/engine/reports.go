package engine

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"wiselantern/core/flow"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// Started records a worker's word that it has begun an attempt.
func (e *Engine) Started(ctx context.Context, m dispatch.Started) error {
	return e.submit(ctx, func(b *batch) error {
		l, ok := e.fits(m.AttemptID)
		if !ok {
			return nil
		}
		l.startedAt(m.Task, m.At)
		b.StartAttempt(m.Run, m.Task, m.Attempt, m.Worker, store.At(m.At))
		b.step(l, flow.Started{At: b.at, Task: m.Task, Attempt: m.Attempt}, "")
		return nil
	})
}

// MaxResult is the most that a result may have, in bytes of JSON.
const MaxResult = 256 << 10

// Ended records reports of workers. One that comes again is recorded once.
func (e *Engine) Ended(ctx context.Context, reports ...dispatch.Ended) error {
	return e.submit(ctx, func(b *batch) error {
		for _, m := range reports {
			b.attemptEnded(m)
		}
		return nil
	})
}

func (b *batch) attemptEnded(m dispatch.Ended) {
	if m.At.IsZero() { // its end is what makes it one that has ended
		m.At = b.at
	}
	row := store.Attempt{Run: m.Run, Task: m.Task, Number: m.Attempt, State: string(m.Outcome), Worker: m.Worker,
		Started: store.At(m.Started), Ended: store.At(m.At), Error: m.Error}
	if m.ExitCode != nil {
		row.ExitCode = number(int64(*m.ExitCode))
	}
	if m.CPU > 0 || m.Peak > 0 {
		row.CPU, row.Peak = number(m.CPU.Microseconds()), number(m.Peak)
	}
	var result map[string]any
	if len(m.Result) > MaxResult || len(m.Result) > 0 && json.Unmarshal(m.Result, &result) != nil {
		m.Outcome, row.State = dispatch.Failed, string(dispatch.Failed)
		m.Error = fmt.Sprintf("its result is not a JSON object of at most %d bytes", MaxResult)
		row.Error, m.Result, result = m.Error, nil, nil
	}
	if len(m.Result) > 0 {
		row.Result = sql.NullString{String: string(m.Result), Valid: true}
	}
	l, ok := b.engine.fits(m.AttemptID)
	if m.Outcome != dispatch.Lost && (!ok || m.Attempt != l.run.Tasks[m.Task].Attempts || l.run.Tasks[m.Task].State.Settled()) {
		b.AddLateReport(row, store.At(b.at))
	}
	b.engine.ledger.release(m.AttemptID)
	if !ok {
		b.EndAttempt(row)
		return
	}
	in := flow.Ended{At: b.at, Task: m.Task, Attempt: m.Attempt, Outcome: flow.Outcome(m.Outcome), Error: m.Error}
	if m.ExitCode != nil {
		in.HasCode, in.Code = true, *m.ExitCode
	}
	if row.State = string(l.version.plan.Verdict(l.run, in)); row.State == string(flow.AttemptRefused) {
		row.State = string(flow.AttemptFailed)
	}
	b.EndAttempt(row)
	if l.run.Tasks[m.Task].State == flow.Ready && !m.Started.IsZero() { // it had begun, and its worker told that only now
		b.step(l, flow.Started{At: b.at, Task: m.Task, Attempt: m.Attempt}, "")
	}
	l.startedAt(m.Task, m.Started)
	l.used(m)
	l.keepResult(m.Task, m.Attempt, result)
	b.step(l, in, "")
	b.settle()
}

// startedAt notes when the first attempt of a task began, unless the report is
// late: then the task has ended, and its row stays as it is.
func (l *live) startedAt(task int, at time.Time) {
	if row := &l.tasks[task]; !row.Started.Valid && !l.run.Tasks[task].State.Settled() {
		row.Started = store.At(at)
	}
}

// used adds what an attempt has used to what its run has. It is written down with
// the run's next change of state, its end at the latest.
func (l *live) used(m dispatch.Ended) {
	l.row.CPU += m.CPU.Microseconds()
	l.row.Peak = max(l.row.Peak, m.Peak)
	if !m.Started.IsZero() && m.At.After(m.Started) {
		l.row.Busy += m.At.Sub(m.Started).Microseconds()
	}
}

// fits finds the open run that a report is about.
func (e *Engine) fits(id dispatch.AttemptID) (*live, bool) {
	l := e.runs[id.Run]
	return l, l != nil && id.Task >= 0 && id.Task < len(l.tasks)
}

// notBegun tells whether an attempt is the newest of its task, and neither has begun nor ended.
func (e *Engine) notBegun(id dispatch.AttemptID) (*live, bool) {
	l, ok := e.fits(id)
	return l, ok && l.run.Tasks[id.Task].State == flow.Ready && l.run.Tasks[id.Task].Attempts == id.Attempt
}

// Open tells which of the attempts are still to come to an end, and whether it is
// recorded that they have begun.
func (e *Engine) Open(ctx context.Context, ids []dispatch.AttemptID) (map[dispatch.AttemptID]bool, error) {
	open := map[dispatch.AttemptID]bool{}
	if len(ids) <= fewAttempts {
		for _, id := range ids {
			switch a, err := e.store.OrderedAttempt(ctx, id.Run, id.Task, id.Attempt); {
			case err == nil:
				open[id] = a.State == store.AttemptRunning
			case !errors.Is(err, store.ErrNotFound):
				return nil, err
			}
		}
		return open, nil
	}
	rows, err := e.store.OrderedAttempts(ctx)
	if err != nil {
		return nil, err
	}
	asked := map[dispatch.AttemptID]bool{}
	for _, id := range ids {
		asked[id] = true
	}
	for _, a := range rows {
		if id := (dispatch.AttemptID{Run: a.Run, Task: a.Task, Attempt: a.Number}); asked[id] {
			open[id] = a.State == store.AttemptRunning
		}
	}
	return open, nil
}

// fewAttempts are as many as are looked up one by one; of more, all that are open are read.
const fewAttempts = 16

// Out lists the attempts whose orders have gone out, and that have not come to an end.
func (e *Engine) Out(ctx context.Context) (ids []dispatch.AttemptID, err error) {
	rows, err := e.store.OrderedAttempts(ctx)
	for _, a := range rows {
		ids = append(ids, dispatch.AttemptID{Run: a.Run, Task: a.Task, Attempt: a.Number})
	}
	return ids, err
}

// Again sends the order of an attempt once more that has not begun. It holds what it takes
// since it was first sent.
func (e *Engine) Again(ctx context.Context, id dispatch.AttemptID) error {
	return e.submit(ctx, func(b *batch) error {
		if l, ok := e.notBegun(id); ok {
			b.sendNow(l, id.Task, id.Attempt)
		}
		return nil
	})
}

// Executed tells which attempts workers execute, and the worker's name.
func (e *Engine) Executed(ctx context.Context) (map[dispatch.AttemptID]string, error) {
	rows, err := e.store.OrderedAttempts(ctx)
	executed := map[dispatch.AttemptID]string{}
	for _, a := range rows {
		if a.State == store.AttemptRunning {
			executed[dispatch.AttemptID{Run: a.Run, Task: a.Task, Attempt: a.Number}] = a.Worker
		}
	}
	return executed, err
}
