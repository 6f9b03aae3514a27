package api

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"wiselantern/client"
	"wiselantern/service/store"
)

// ended records runs that ended at these moments, an hour's work each.
func ended(t *testing.T, s *store.Store, workflow int64, from int, state string, at ...time.Time) {
	t.Helper()
	s.Writer.Begin()
	for i, end := range at {
		row := store.Run{Workflow: workflow, Number: from + i, Version: 1, State: state, Cause: "schedule", Params: "{}", Watermarks: "{}", Created: store.At(end.Add(-time.Hour)), Due: store.At(end.Add(-time.Hour))}
		row.ID = s.Writer.AddRun(row, 1)
		row.Started, row.Ended, row.CPU = store.At(end.Add(-time.Hour+2*time.Second)), store.At(end), 3_600_000_000
		s.Writer.SetRun(row)
	}
	if err := s.Writer.Commit(); err != nil {
		t.Fatal(err)
	}
}

// The numbers are those of exactly the last day and week, whatever is kept of the
// hours that are over, and however time goes on.
func TestNumbersAreExactAtTheirEdges(t *testing.T) {
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "data"))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	s.Writer.Begin()
	gauges := s.Writer.AddWorkflow(store.Workflow{Name: "gauges", Version: 1, Covered: "{}", DecidedUntil: store.At(time.Unix(1, 0))})
	roads := s.Writer.AddWorkflow(store.Workflow{Name: "roads", Version: 1, Covered: "{}", DecidedUntil: store.At(time.Unix(1, 0))})
	if err := s.Writer.Commit(); err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 3, 28, 6, 20, 30, 0, time.UTC)
	ago := func(d time.Duration) time.Time { return now.Add(-d) }
	const day = 24 * time.Hour
	ended(t, s, gauges, 1, "succeeded", ago(time.Second), ago(20*time.Minute), ago(21*time.Minute), ago(day-time.Second), ago(day), ago(day+time.Second), ago(2*day-time.Second), ago(2*day+time.Second), ago(7*day-time.Second), ago(7*day+time.Second), ago(14*day+time.Second))
	ended(t, s, roads, 1, "failed", ago(time.Minute), ago(3*day))
	a := &API{Options: Options{Store: s, PerHour: 2}}
	numbers := func(at time.Time, ids []int64) client.Numbers {
		t.Helper()
		n, err := a.numbers(context.Background(), at, ids)
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	check := func(what string, n client.Numbers, want [8]int) {
		t.Helper()
		got := [8]int{n.Day.Succeeded, n.Day.Failed, n.DayBefore.Succeeded, n.DayBefore.Failed, n.Week.Succeeded, n.Week.Failed, n.WeekBefore.Succeeded, n.WeekBefore.Failed}
		if got != want {
			t.Errorf("%s: %v instead of %v", what, got, want)
		}
	}
	first := numbers(now, nil)
	check("all", first, [8]int{5, 1, 2, 0, 9, 2, 1, 0})
	if first.Day.DelayMedian != 2 || first.Day.DelayP95 != 2 || first.Day.Used.CPU != 6*3600 || first.Day.Price != 12 {
		t.Errorf("%+v", first.Day)
	}
	check("of gauges", numbers(now, []int64{gauges}), [8]int{5, 0, 2, 0, 9, 0, 1, 0})
	check("of nobody", numbers(now, []int64{}), [8]int{})
	check("again, from what is kept", numbers(now, nil), [8]int{5, 1, 2, 0, 9, 2, 1, 0})
	later := now.Add(5 * time.Minute)
	ended(t, s, gauges, 20, "succeeded", later.Add(-time.Second))
	check("five minutes later", numbers(later, nil), [8]int{4, 1, 3, 0, 9, 2, 2, 0})
	hours := now.Add(2 * time.Hour)
	check("hours later", numbers(hours, nil), [8]int{4, 1, 3, 0, 9, 2, 2, 0})
}
