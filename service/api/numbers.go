package api

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"wiselantern/client"
	"wiselantern/service/store"
)

// tally keeps the numbers of hours that are over, so that the weeks of a large
// installation are not summed anew each time that somebody looks.
type tally struct {
	mu     sync.Mutex
	chosen map[string]*hours // by the workflows that were chosen
}

// hours are the numbers of the hours of two weeks.
type hours struct {
	made   time.Time
	until  int64 // the hour up to which all are summed, itself not included
	sums   map[int64][]store.Numbers
	delays [2]delays
}

// delays are how much later than due runs of a day began.
type delays struct {
	at          time.Time
	median, p95 float64
}

const (
	// tallyLife bounds how long a run that was made again stays counted where it ended
	// before.
	tallyLife = 10 * time.Minute
	// delaysLife is how long the delays of a day are told as they were.
	delaysLife  = 10 * time.Second
	mostTallies = 100
)

func hourOf(t time.Time) int64 { return t.Unix() / 3600 }

// numbers are those of the last day and week and of the ones before, to the
// moment.
func (a *API) numbers(ctx context.Context, now time.Time, ids []int64) (n client.Numbers, err error) {
	a.tally.mu.Lock()
	defer a.tally.mu.Unlock()
	key := fmt.Sprint(ids)
	if ids == nil {
		key = "all"
	}
	h := a.tally.chosen[key]
	if h == nil || now.Sub(h.made) > tallyLife || now.Before(h.made) {
		if a.tally.chosen == nil || len(a.tally.chosen) > mostTallies {
			a.tally.chosen = map[string]*hours{}
		}
		h = &hours{made: now, until: hourOf(now) - 15*24, sums: map[int64][]store.Numbers{}}
		a.tally.chosen[key] = h
	}
	if current := hourOf(now); h.until < current {
		rows, err := a.Store.RunNumbers(ctx, store.At(time.Unix(h.until*3600, 0)), store.At(time.Unix(current*3600, 0)), ids)
		if err != nil {
			return n, err
		}
		for _, r := range rows {
			h.sums[r.Hour] = append(h.sums[r.Hour], r)
		}
		h.until = current
	}
	for i, p := range []struct {
		to        *client.PeriodNumbers
		from, end time.Duration
		delays    bool
	}{{&n.Day, 24, 0, true}, {&n.DayBefore, 48, 24, true}, {&n.Week, 7 * 24, 0, false}, {&n.WeekBefore, 14 * 24, 7 * 24, false}} {
		from, until := now.Add(-p.from*time.Hour), now.Add(-p.end*time.Hour)
		if err := a.sum(ctx, h, from, until, ids, p.to); err != nil {
			return n, err
		}
		p.to.Price = a.price(p.to.Used.CPU)
		if !p.delays {
			continue
		}
		if d := &h.delays[i]; now.Sub(d.at) > delaysLife {
			all, err := a.Store.StartDelays(ctx, store.At(from), store.At(until), ids)
			if err != nil {
				return n, err
			}
			slices.Sort(all)
			*d = delays{now, ranked(all, 50), ranked(all, 95)}
		}
		p.to.DelayMedian, p.to.DelayP95 = h.delays[i].median, h.delays[i].p95
	}
	return n, nil
}

// sum adds the runs that ended in [from, until): whole hours from what is known, the
// parts of hours at both ends from the records.
func (a *API) sum(ctx context.Context, h *hours, from, until time.Time, ids []int64, to *client.PeriodNumbers) error {
	first, last := hourOf(from)+1, hourOf(until)
	for hour := first; hour < last; hour++ {
		for _, r := range h.sums[hour] {
			addNumbers(to, r)
		}
	}
	for _, part := range [][2]time.Time{{from, time.Unix(first*3600, 0)}, {time.Unix(last*3600, 0), until}} {
		rows, err := a.Store.RunNumbers(ctx, store.At(part[0]), store.At(part[1]), ids)
		if err != nil {
			return err
		}
		for _, r := range rows {
			addNumbers(to, r)
		}
	}
	return nil
}

func addNumbers(to *client.PeriodNumbers, r store.Numbers) {
	switch r.State {
	case "succeeded":
		to.Succeeded += r.Count
	case "failed":
		to.Failed += r.Count
	case "stopped":
		to.Stopped += r.Count
	}
	to.Used.CPU += seconds(r.CPU)
	to.Used.Busy += seconds(r.Busy)
}
