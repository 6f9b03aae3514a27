package service_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"testing"
	"time"

	"wiselantern/client"
	"wiselantern/internal/testkit"
	"wiselantern/service"
	"wiselantern/service/broker"
	"wiselantern/service/dispatch"
)

// What more workers add: workers that only wait for the time that a task takes, in the
// place of machines that are not here. Their conversation with the service is the real one.
func BenchmarkMoreWorkers(b *testing.B) {
	const slots, takes = 8, 200 * time.Millisecond
	for _, workers := range []int{1, 4, 16, 64} {
		b.Run(fmt.Sprintf("workers=%d", workers), func(b *testing.B) {
			s := testkit.Serve(b, b.TempDir(), "--slots", "1")
			tasks := workers * slots * 25
			s.Apply(b, fmt.Sprintf("workflow: scale\ntasks:\n  list:\n    shell: (printf '{\"all\":[1'; seq -f ',%%g' 2 %d; printf ']}') > $LANTERN_RESULT\n  read: {for_each: task('list').result.all, after: list, at_once: %d, queue: field, exec: [/bin/true]}\n", tasks, workers*slots*2))
			for n := range workers {
				simulatedWorker(b, s.Dir, fmt.Sprintf("field-%d", n), slots, takes)
			}
			for b.Loop() {
				run, err := s.Client.Start(context.Background(), "scale", client.StartRequest{})
				if err != nil {
					b.Fatal(err)
				}
				run = ended(b, s, run.ID)
				took := run.Ended.Sub(run.Created)
				ideal := float64(workers*slots) / takes.Seconds()
				rate := float64(tasks) / took.Seconds()
				b.ReportMetric(rate, "tasks/s")
				b.ReportMetric(rate/ideal, "of-all-slots")
			}
		})
	}
}

// simulatedWorker takes orders of the queue field and reports each as succeeded after a
// while.
func simulatedWorker(b *testing.B, data, name string, slots int, takes time.Duration) {
	b.Helper()
	nc, err := broker.Enter(service.WorkerDir(data))
	if err != nil {
		b.Fatal(err)
	}
	c, err := dispatch.NewCourier(nc, dispatch.CourierOptions{Words: slog.New(slog.NewTextHandler(io.Discard, nil)),
		Hello: func() dispatch.Hello {
			return dispatch.Hello{Name: name, Instance: name, Queues: []string{"field"}, Slots: slots}
		},
		Keep:   func(context.Context, dispatch.Log) error { return nil },
		Before: func(context.Context, dispatch.AttemptID) error { return nil }})
	if err != nil {
		b.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	for range slots {
		go func() {
			for {
				o, _, err := c.Take(ctx)
				if err != nil {
					return
				}
				started := time.Now()
				c.Started(dispatch.Started{AttemptID: o.AttemptID, Worker: name, At: started})
				time.Sleep(takes)
				report := dispatch.Ended{AttemptID: o.AttemptID, Worker: name, Started: started, At: time.Now(), Outcome: dispatch.Succeeded}
				go func() { // the slot is free as soon as the report is written down
					for c.Ended(ctx, report) != nil && ctx.Err() == nil {
						time.Sleep(100 * time.Millisecond)
					}
				}()
			}
		}()
	}
	b.Cleanup(func() {
		stop()
		c.End()
		nc.Close()
	})
}
