package engine

import (
	"context"
	"database/sql"
	"encoding/json"
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

// Ended records a worker's report. One that comes again is recorded once.
func (e *Engine) Ended(ctx context.Context, m dispatch.Ended) error {
	return e.submit(ctx, func(b *batch) error {
		row := store.Attempt{Run: m.Run, Task: m.Task, Number: m.Attempt, State: string(m.Outcome), Worker: m.Worker,
			Started: store.At(m.Started), Ended: store.At(m.At), Error: m.Error}
		if m.ExitCode != nil {
			row.ExitCode = sql.NullInt64{Int64: int64(*m.ExitCode), Valid: true}
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
		e.ledger.release(m.AttemptID)
		l, ok := e.fits(m.AttemptID)
		if !ok {
			b.EndAttempt(row)
			return nil
		}
		in := flow.Ended{At: b.at, Task: m.Task, Attempt: m.Attempt, Outcome: flow.Outcome(m.Outcome), Error: m.Error}
		if m.ExitCode != nil {
			in.HasCode, in.Code = true, *m.ExitCode
		}
		if row.State = string(l.version.plan.Verdict(l.run, in)); row.State == string(flow.AttemptRefused) {
			row.State = string(flow.AttemptFailed)
		}
		b.EndAttempt(row)
		l.startedAt(m.Task, m.Started)
		l.used(m)
		l.keepResult(m.Task, m.Attempt, result)
		b.step(l, in, "")
		return nil
	})
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

// Log keeps what an attempt printed.
func (e *Engine) Log(ctx context.Context, m dispatch.Log) error {
	return e.store.Logs.Append(ctx, store.Chunk{Of: store.LogOf{Run: m.Run, Task: m.Task, Attempt: m.Attempt}, First: m.First, Lines: m.Lines})
}
