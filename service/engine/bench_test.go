package engine

import (
	"context"
	"fmt"
	"log/slog"
	"runtime"
	"strings"
	"testing"
	"time"

	"wiselantern/core/backfill"
	"wiselantern/core/definition"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// quick answers every order with success at once, as a worker would that has
// nothing to do.
type quick struct {
	engine *Engine
	orders chan dispatch.Order
}

func (q *quick) Send(o dispatch.Order)         { q.orders <- o }
func (q *quick) Cancel(dispatch.AttemptID)     {}
func (q *quick) Serves(string) bool            { return true }
func (q *quick) Knows(dispatch.AttemptID) bool { return false }
func (q *quick) work() {
	for o := range q.orders {
		at := time.Now()
		_ = q.engine.Ended(context.Background(), dispatch.Ended{AttemptID: o.AttemptID, Worker: "quick", Started: at, At: at, Outcome: dispatch.Succeeded})
	}
}

func lively(b *testing.B) (*Engine, *store.Store) {
	b.Helper()
	s, err := store.Open(b.Context(), b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	e, err := New(b.Context(), s, Options{Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		b.Fatal(err)
	}
	q := &quick{engine: e, orders: make(chan dispatch.Order, 100_000)}
	e.SetSender(q)
	for range 64 {
		go q.work()
	}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		e.Run(ctx)
	}()
	if err := e.GoOn(b.Context(), anyGone); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		cancel()
		<-ended
		close(q.orders)
		_ = s.Close()
	})
	return e, s
}

func applied(b *testing.B, e *Engine, text string) {
	b.Helper()
	project, problems := definition.Load([]definition.File{{Path: "w.yaml", Text: text}})
	if problems != nil {
		b.Fatal(problems)
	}
	if _, _, err := e.Apply(b.Context(), project, "", "kari", false); err != nil {
		b.Fatal(err)
	}
}

// Ten years of hours are looked at, beside a million runs that were recorded
// before.
func BenchmarkPreviewOfTenYears(b *testing.B) {
	e, s := lively(b)
	applied(b, e, "workflow: w\nif_running: alongside\nstarts: [{every: 1h}]\ntasks: {a: {exec: [x]}}")
	from := time.Date(2015, 1, 1, 0, 0, 0, 0, time.UTC)
	for batch := range 100 {
		if err := e.Record(b.Context(), func(w *store.Writer) {
			for i := range 10_000 {
				n := batch*10_000 + i
				start := from.Add(time.Duration(n%100_000) * time.Hour)
				w.AddRun(store.Run{Workflow: 1, Number: n + 1, Version: 1, State: "succeeded", Cause: "schedule", WindowStart: store.At(start), WindowEnd: store.At(start.Add(time.Hour)), Params: "{}", Watermarks: "{}", Created: store.At(start)}, 1)
			}
		}); err != nil {
			b.Fatal(err)
		}
	}
	_ = s
	asked := Asked{From: "2016-01-01", To: "2025-12-31", Only: backfill.OnlyMissing}
	for b.Loop() {
		_, p, err := e.Backfill(b.Context(), "w", asked, "kari", true)
		if err != nil || p.Windows != 87_672 {
			b.Fatalf("%d windows: %v", p.Windows, err)
		}
	}
}

// Ten thousand workflows are due at the same moment: how late the last of their
// runs was begun.
func BenchmarkTenThousandDueAtOnce(b *testing.B) {
	e, s := lively(b)
	for b.Loop() {
		due := time.Now().Add(15 * time.Second).Truncate(time.Second).UTC()
		var text strings.Builder
		for i := range 10_000 {
			fmt.Fprintf(&text, "workflow: w%d\nstarts: [{at: %s}]\ntasks: {a: {exec: [x]}}\n---\n", i, due.Format("2006-01-02T15:04:05"))
			if i%1000 == 999 {
				applied(b, e, strings.TrimSuffix(text.String(), "---\n"))
				text.Reset()
			}
		}
		if !time.Now().Before(due) {
			b.Skip("this machine was too slow to apply them before they were due")
		}
		for {
			time.Sleep(50 * time.Millisecond)
			runs, err := s.Runs(b.Context(), store.RunFilter{Limit: 10_000})
			if err != nil {
				b.Fatal(err)
			}
			late, begun := time.Duration(0), 0
			for _, r := range runs {
				if r.Started.Valid && r.Due.Time().Equal(due) {
					begun++
					late = max(late, r.Started.Time().Sub(due))
				}
			}
			if begun == 10_000 {
				b.ReportMetric(late.Seconds(), "s-late-at-most")
				break
			}
		}
	}
}

// A backfill of five thousand windows of three tasks each, whose work takes no
// time: runs a second, and the memory that it needs.
func BenchmarkBackfillOfFiveThousand(b *testing.B) {
	e, s := lively(b)
	applied(b, e, "workflow: w\nif_running: alongside\nstarts: [{every: 1h}]\ntasks: {a: {exec: [x]}, b: {after: a, exec: [x]}, c: {after: b, exec: [x]}}")
	for b.Loop() {
		began := time.Now()
		end := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
		row, _, err := e.Backfill(b.Context(), "w", Asked{From: end.Add(-5000 * time.Hour).Format(time.RFC3339), To: end.Format(time.RFC3339), Only: backfill.OnlyAll, AtOnce: 16}, "kari", false)
		if err != nil {
			b.Fatal(err)
		}
		most := uint64(0)
		for row.State == BackfillRunning {
			time.Sleep(20 * time.Millisecond)
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			most = max(most, m.HeapInuse)
			if row, err = s.Backfill(b.Context(), row.ID); err != nil {
				b.Fatal(err)
			}
		}
		b.ReportMetric(5000/time.Since(began).Seconds(), "runs/s")
		b.ReportMetric(float64(most)/1e6, "MB-heap-at-most")
	}
}
