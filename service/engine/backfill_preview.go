package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"wiselantern/core/backfill"
	"wiselantern/core/calendar"
	"wiselantern/core/flow"
	"wiselantern/service/store"
)

// Preview is what a backfill would do, or does.
type Preview struct {
	backfill.Plan
	Range   backfill.Range
	Zone    string
	Each    time.Duration // what a run takes, by the median of the newest that succeeded; 0 is not known
	Took    time.Duration // what all would take, by that
	AtOnce  int
	Leaving int // windows that another backfill is about to make
}

func wordOf(only backfill.Only) string {
	if only == backfill.OnlyFailed {
		return "failed"
	}
	return "missing"
}

func (e *Engine) preview(ctx context.Context, w *workflow, asked *Asked) (p Preview, err error) {
	refuse := func(err error) (Preview, error) { return p, &RefusedError{err.Error()} }
	schedules := make([]calendar.Schedule, 0, len(w.schedules))
	zoneName := "UTC"
	for _, s := range w.schedules {
		schedules = append(schedules, s.Schedule)
	}
	if len(w.schedules) > 0 {
		zoneName = w.schedules[0].Starts[0].Zone
	}
	if asked.Zone != "" {
		zoneName = asked.Zone
	}
	zone, err := time.LoadLocation(zoneName)
	if err != nil {
		return refuse(fmt.Errorf("there is no zone %q; write a name of the IANA time zone database, as in Europe/Oslo", zoneName))
	}
	asked.Zone, p.Zone = zoneName, zoneName
	switch {
	case asked.Every > 0:
		rule, err := calendar.Every(asked.Every.Duration(), zone)
		if err != nil {
			return refuse(err)
		}
		schedules = []calendar.Schedule{calendar.NewSchedule(rule)}
	case len(schedules) == 0:
		return refuse(fmt.Errorf("workflow %s has no time rule, so it has no windows; say how long they are, as in --every 1h", w.row.Name))
	}
	if p.Range, err = backfill.ParseRange(asked.From, asked.To, zone); err != nil {
		return refuse(err)
	}
	o := backfill.Options{Only: asked.Only, Newest: asked.Newest, Merge: asked.Merge.Duration(), Zone: zone}
	if o.Days, o.Months, err = daysAndMonths(asked.Days, asked.Months); err != nil {
		return refuse(err)
	}
	windows, err := backfill.Windows(schedules, p.Range, e.now())
	if err != nil {
		return refuse(err)
	}
	state, leaving, err := e.windowStates(ctx, w.row.ID, windows, asked.Only)
	if err != nil {
		return p, err
	}
	p.Plan, p.Leaving = backfill.New(windows, state, o), leaving
	if p.AtOnce = asked.AtOnce; p.AtOnce == 0 {
		p.AtOnce = max(1, w.current.definition.RunsAtOnce())
	}
	durations, err := e.store.Durations(ctx, w.row.ID, 50)
	if err != nil || len(durations) == 0 {
		return p, err
	}
	slices.Sort(durations)
	p.Each = time.Duration(durations[len(durations)/2]) * time.Microsecond
	p.Took = p.Each * time.Duration((len(p.Stretches)+p.AtOnce-1)/p.AtOnce)
	return p, nil
}

// windowStates tells how windows of a workflow stand: by their newest run, or
// running if another backfill is about to make them, unless all are asked for.
func (e *Engine) windowStates(ctx context.Context, workflow int64, windows []calendar.Window, only backfill.Only) (state func(calendar.Window) backfill.State, leaving int, err error) {
	type key struct{ start, end store.Moment }
	first, last := store.At(windows[0].Start), store.At(windows[len(windows)-1].End)
	runs, err := e.store.WindowRuns(ctx, workflow, first, last)
	if err != nil {
		return nil, 0, err
	}
	merged, err := e.store.MergedRuns(ctx, workflow, first, last)
	if err != nil {
		return nil, 0, err
	}
	known := make(map[key]backfill.State, len(runs))
	newest := make(map[key]int64, len(runs))
	note := func(k key, r store.WindowRun) {
		if r.ID < newest[k] {
			return
		}
		newest[k] = r.ID
		switch r.State {
		case string(flow.RunSucceeded):
			known[k] = backfill.Succeeded
		case string(flow.RunFailed), string(flow.RunStopped):
			known[k] = backfill.Failed
		default:
			known[k] = backfill.Running
		}
	}
	for _, r := range runs {
		note(key{r.Start, r.End}, r)
	}
	for _, r := range merged { // each counts for the windows that lie in it
		from, _ := slices.BinarySearchFunc(windows, r.Start, func(w calendar.Window, at store.Moment) int { return cmp.Compare(store.At(w.Start).Int64, at.Int64) })
		for _, w := range windows[from:] {
			if store.At(w.Start).Int64 >= r.End.Int64 {
				break
			}
			if store.At(w.End).Int64 <= r.End.Int64 {
				note(key{store.At(w.Start), store.At(w.End)}, r)
			}
		}
	}
	var taken []store.BackfillWindow // by other backfills, oldest first
	if only != backfill.OnlyAll {
		if taken, err = e.store.OpenBackfillWindows(ctx, workflow, first, last); err != nil {
			return nil, 0, err
		}
		slices.SortFunc(taken, func(a, b store.BackfillWindow) int { return int(a.WindowStart.Int64 - b.WindowStart.Int64) })
	}
	isTaken := func(w calendar.Window) bool {
		start := store.At(w.Start).Int64
		i, found := slices.BinarySearchFunc(taken, start, func(t store.BackfillWindow, start int64) int { return int(t.WindowStart.Int64 - start) })
		if !found {
			i--
		}
		return i >= 0 && i < len(taken) && taken[i].WindowEnd.Int64 > start
	}
	for _, w := range windows {
		if len(taken) > 0 && isTaken(w) {
			known[key{store.At(w.Start), store.At(w.End)}] = backfill.Running
			leaving++
		}
	}
	return func(w calendar.Window) backfill.State {
		if s, ok := known[key{store.At(w.Start), store.At(w.End)}]; ok {
			return s
		}
		return backfill.Missing
	}, leaving, nil
}

// span reads a name, or a range of names.
func span(word string, names []string) (first, last int, err error) {
	from, to, ranged := strings.Cut(strings.ToLower(word), "-")
	if !ranged {
		to = from
	}
	first, last = slices.Index(names, from), slices.Index(names, to)
	if first < 0 || last < 0 {
		return 0, 0, errors.New("no such name")
	}
	return first, last, nil
}

func daysAndMonths(days, months []string) (d []time.Weekday, m []time.Month, err error) {
	dayNames := []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}
	monthNames := []string{"jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"}
	for _, word := range days {
		first, last, err := span(word, dayNames)
		if err != nil {
			return nil, nil, fmt.Errorf("%q is no day of the week; write mon, or mon-fri", word)
		}
		for i := first; ; i = (i + 1) % 7 {
			d = append(d, time.Weekday(i))
			if i == last {
				break
			}
		}
	}
	for _, word := range months {
		first, last, err := span(word, monthNames)
		if err != nil {
			return nil, nil, fmt.Errorf("%q is no month; write jan, or nov-feb", word)
		}
		for i := first; ; i = (i + 1) % 12 {
			m = append(m, time.Month(i+1))
			if i == last {
				break
			}
		}
	}
	return d, m, nil
}
