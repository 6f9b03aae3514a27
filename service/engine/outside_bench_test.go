package engine

import (
	"fmt"
	"runtime"
	"testing"

	"wiselantern/core/match"
	"wiselantern/service/store"
)

// Ten thousand waits for events, beside ten: what each needs in memory, how many
// goroutines there are for them, and what an event costs that one of them is for,
// recorded and all.
func BenchmarkParkedWaits(b *testing.B) {
	for _, waits := range []int{10, 10_000} {
		b.Run(fmt.Sprintf("waits=%d", waits), func(b *testing.B) {
			e, _ := lively(b)
			applied(b, e, "workflow: w\nif_running: alongside\nparams: {gauge: {type: text, default: x}}\ntasks: {a: {wait: {event: level.high, source: /gauges, subject: \"${params.gauge}\", where: event.data.level > 2}}}")
			goroutines, heap := runtime.NumGoroutine(), heapInUse()
			for i := range waits {
				if _, err := e.Start(b.Context(), "w", Wanted{Params: map[string]any{"gauge": fmt.Sprintf("G%05d", i)}}, "kari"); err != nil {
					b.Fatal(err)
				}
			}
			perWait, more := float64(heapInUse()-heap)/float64(waits), runtime.NumGoroutine()-goroutines
			n := 0
			for b.Loop() {
				// The subject of one of them, but a level that it does not want: it stays.
				if _, err := e.Receive(b.Context(), []match.Event{{ID: fmt.Sprint(n), Source: "/gauges", Type: "level.high", Subject: fmt.Sprintf("G%05d", n%waits), Data: map[string]any{"level": 1.0}}}, "api", ""); err != nil {
					b.Fatal(err)
				}
				n++
			}
			b.ReportMetric(perWait, "B/wait")
			b.ReportMetric(float64(more), "goroutines")
		})
	}
}

func heapInUse() uint64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

// One event among a thousand starts and ten thousand waits that are for others.
func BenchmarkAnEventAmongOthers(b *testing.B) {
	for _, others := range []int{0, 1000} {
		b.Run(fmt.Sprintf("starts=%d,waits=%d", others, 10*others), func(b *testing.B) {
			e, s := lively(b)
			text := "workflow: mine\nif_running: alongside\nstarts: [{event: rain.mine}]\ntasks: {a: {exec: [x]}}"
			for i := range others {
				text += fmt.Sprintf("\n---\nworkflow: w%d\nif_running: alongside\nstarts: [{event: rain.other, subject: g%d}]\ntasks: {a: {for_each: [1, 2, 3, 4, 5, 6, 7, 8, 9, 10], at_once: 10, wait: {event: rain.other, subject: \"g%d/${item}\"}}}", i, i, i)
			}
			applied(b, e, text)
			for i := range others {
				if _, err := e.Start(b.Context(), fmt.Sprintf("w%d", i), Wanted{}, "kari"); err != nil {
					b.Fatal(err)
				}
			}
			n := 0
			for b.Loop() {
				if _, err := e.Receive(b.Context(), []match.Event{{ID: fmt.Sprint(n), Source: "/gauges", Type: "rain.mine"}}, "api", ""); err != nil {
					b.Fatal(err)
				}
				n++
			}
			if runs, err := s.Runs(b.Context(), store.RunFilter{Workflow: "mine", Limit: 1}); err != nil || runs[0].Number != n {
				b.Fatalf("%d runs of %d events: %v", runs[0].Number, n, err)
			}
		})
	}
}
