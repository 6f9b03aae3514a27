package engine

import (
	"context"
	"slices"
	"time"

	"wiselantern/service/dispatch"
)

// Awaiting is one thing that a parked attempt waits for.
type Awaiting struct {
	Attempt  dispatch.AttemptID
	Run      string
	Workflow string
	Task     string
	Name     string // among several
	Join     string // of these: all, any
	Kind     string // event, file, dataset, workflow, until, http, query, answer
	For      string // in words
	State    string // waiting, came, failed
	Reason   string
	Since    time.Time
	Until    time.Time // zero if it may wait for ever
	Seen     string    // what was seen last
	Next     time.Time // when it is looked at again; zero if it is told
	Question *Question
}

// Awaited lists what parked attempts wait for, of one run, or with 0 of all; the
// longest waits first.
func (e *Engine) Awaited(ctx context.Context, run int64) (list []Awaiting, err error) {
	err = e.ask(ctx, func(*batch) error {
		for id, p := range e.parked {
			if run != 0 && id.Run != run {
				continue
			}
			l := p.live
			for _, t := range p.things {
				one := Awaiting{Attempt: id, Run: RunName(l.row.Name, l.row.Number), Workflow: l.row.Name, Task: l.version.plan.Label(l.run, id.Task), Name: t.spec.Name, Join: p.join(),
					Kind: t.spec.Kind, For: t.spec.words(), State: t.state, Reason: t.reason, Since: p.since, Seen: t.seen, Next: t.next, Question: p.asked}
				if p.asked != nil {
					one.Kind, one.For = "answer", p.asked.Ask
				}
				if wake := l.tasks[id.Task].Wake; wake.Valid {
					one.Until = wake.Time()
				}
				list = append(list, one)
			}
		}
		return nil
	})
	slices.SortFunc(list, func(a, b Awaiting) int {
		if c := a.Since.Compare(b.Since); c != 0 {
			return c
		}
		return compareAttempts(a.Attempt, b.Attempt)
	})
	return list, err
}

// Expectations are what the workflows say of data sets, by their names.
func (e *Engine) Expectations(ctx context.Context) (all map[string]*Freshness, err error) {
	err = e.ask(ctx, func(*batch) error {
		all = e.expectations()
		return nil
	})
	return all, err
}
