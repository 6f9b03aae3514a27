package service_test

import (
	"context"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"wiselantern/client"
	"wiselantern/internal/seed"
	"wiselantern/internal/testkit"
)

// BenchmarkAnswersWithAMillionTasks asks for lists of runs and for a run, in turns, of three
// services with 500 workflows: one with a history of a million tasks, one with only the
// fifty runs that a list shows, so that answers are of the same length, and one without any
// but the run that is opened. It tells how many times as long the slowest of a hundred takes.
func BenchmarkAnswersWithAMillionTasks(b *testing.B) {
	filled := func(tasks int) *testkit.Service {
		dir := filepath.Join(b.TempDir(), "data")
		if err := seed.Fill(context.Background(), dir, seed.Options{Workflows: 500, Tasks: tasks, Long: 10_000}); err != nil {
			b.Fatal(err)
		}
		return testkit.StartByHand(b, dir)
	}
	much, short, none := filled(1_000_000), filled(500), filled(10)
	lists := func(f client.RunsFilter) func(*client.Client) error {
		return func(c *client.Client) error {
			_, err := c.Runs(b.Context(), f)
			return err
		}
	}
	measured := map[string]float64{}
	for _, call := range []struct {
		unit string
		do   func(*client.Client) error
	}{
		{"x-listing-all", lists(client.RunsFilter{Limit: 50})},
		{"x-listing-a-workflow", lists(client.RunsFilter{Workflow: "gauge-000", Limit: 50})},
		{"x-listing-a-state", lists(client.RunsFilter{States: []string{"succeeded"}, Limit: 40})},
		{"x-opening-a-run", func(c *client.Client) error {
			_, err := c.Run(b.Context(), "gauge-000:1")
			return err
		}},
	} {
		took := map[*testkit.Service][]time.Duration{}
		for range 1000 {
			for _, s := range []*testkit.Service{much, short, none} {
				began := time.Now()
				if err := call.do(s.Client); err != nil {
					b.Fatalf("%s: %v", call.unit, err)
				}
				took[s] = append(took[s], time.Since(began))
			}
		}
		ms := func(s *testkit.Service, of int) float64 {
			slices.Sort(took[s])
			return took[s][len(took[s])*of/100].Seconds() * 1000
		}
		b.Logf("%-21s median %.2f, %.2f and %.2f ms; 99th percentile %.2f, %.2f and %.2f ms", call.unit,
			ms(much, 50), ms(short, 50), ms(none, 50), ms(much, 99), ms(short, 99), ms(none, 99))
		measured[call.unit] = ms(much, 99) / ms(short, 99)
		measured["x-slowest-answer"] = max(measured["x-slowest-answer"], measured[call.unit])
		measured["x-beside-none"] = max(measured["x-beside-none"], ms(much, 99)/ms(none, 99))
	}
	for b.Loop() { // all of it is one measurement
	}
	for unit, times := range measured {
		b.ReportMetric(times, unit)
	}
}
