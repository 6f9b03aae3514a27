package engine

import (
	"context"
	"maps"
	"slices"
	"time"

	"wiselantern/core/calendar"
	"wiselantern/core/definition"
)

// Upcoming is one start that will come due.
type Upcoming struct {
	Workflow string
	Paused   bool
	Start    definition.Start
	calendar.Due
}

// Upcoming lists what is due until then, soonest first, of one workflow or with ""
// of all, at most limit of each. The last value tells whether there is more.
func (e *Engine) Upcoming(ctx context.Context, name string, until time.Time, limit int) (all []Upcoming, more bool, err error) {
	more, err = e.EachUpcoming(ctx, name, until, limit, func(u Upcoming) { all = append(all, u) })
	slices.SortStableFunc(all, func(a, b Upcoming) int { return a.At.Compare(b.At) })
	return all, more, err
}

// EachUpcoming goes through the same, workflow by workflow in the order of their names.
func (e *Engine) EachUpcoming(ctx context.Context, name string, until time.Time, limit int, each func(Upcoming)) (more bool, err error) {
	type part struct {
		name      string
		schedules []definition.Schedule
		after     time.Time
		paused    bool
	}
	var parts []part
	err = e.ask(ctx, func(b *batch) error {
		if name != "" {
			if _, err := e.find(name); err != nil {
				return err
			}
		}
		for _, one := range slices.Sorted(maps.Keys(e.workflows)) {
			if w := e.workflows[one]; (name == "" || name == one) && !w.row.Removed.Valid {
				parts = append(parts, part{one, w.schedules, w.row.DecidedUntil.Time(), w.row.PausedAt.Valid})
			}
		}
		return nil
	})
	// The rest is computed outside of the loop, which has other things to do.
	for _, p := range parts {
		w := &workflow{schedules: p.schedules}
		count := 0
		for due := w.after(p.after); due != nil && !due[0].At.After(until); due = w.after(due[0].At) {
			if count++; count > limit {
				more = true
				break
			}
			for _, one := range due {
				each(Upcoming{Workflow: p.name, Paused: p.paused, Start: one.start(), Due: one.Due})
			}
		}
	}
	return more, err
}
