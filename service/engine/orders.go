package engine

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strconv"

	"wiselantern/service/dispatch"
)

// RunName is the name of a run, as in gauge-hourly:412.
func RunName(workflow string, number int) string { return workflow + ":" + strconv.Itoa(number) }

// order is the work order for an attempt.
func (l *live) order(task, attempt int) (dispatch.Order, error) {
	t := l.node(task)
	exec, env, err := l.given(task)
	var setup *dispatch.Setup
	if s := l.version.definition.Setup; s != nil && l.version.row.Parcel != "" {
		setup = &dispatch.Setup{Exec: s.Exec, Shell: s.Shell, Env: s.Env, Timeout: s.Timeout.Duration()}
	}
	return dispatch.Order{
		Setup:     setup,
		AttemptID: dispatch.AttemptID{Run: l.row.ID, Task: task, Attempt: attempt},
		RunName:   RunName(l.row.Name, l.row.Number),
		TaskName:  l.version.plan.Label(l.run, task),
		Kind:      t.Kind,
		Exec:      exec,
		Shell:     t.Shell,
		Env:       env,
		Params:    l.params,
		Marks:     l.markTexts(),
		Parcel:    l.version.row.Parcel,
		Timeout:   t.Timeout.Duration(),
		Queue:     t.Queue,
		Later:     l.row.Backfill.Valid,
		Start:     l.row.WindowStart.Time(),
		End:       l.row.WindowEnd.Time(),
		Trace:     l.trace(task, attempt),
	}, err
}

func (l *live) markTexts() map[string]string {
	if len(l.marks) == 0 {
		return nil
	}
	return paramTexts(l.marks)
}

// trace is the W3C trace context of an attempt: a run is a trace, an attempt a
// span of it. The ids are drawn from the run's id and the moment it was made,
// so that they are the same when the order is sent again.
func (l *live) trace(task, attempt int) string {
	run := sha256.Sum256(fmt.Appendf(nil, "%d %d", l.row.ID, l.row.Created.Int64))
	span := sha256.Sum256(fmt.Appendf(run[:], "%d %d", task, attempt))
	return "00-" + hex.EncodeToString(run[:16]) + "-" + hex.EncodeToString(span[:8]) + "-01"
}
