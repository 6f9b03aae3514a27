package service_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"wiselantern/client"
	"wiselantern/core/match"
	"wiselantern/internal/testkit"
)

func median(all []time.Duration) time.Duration {
	slices.Sort(all)
	return all[len(all)/2]
}

// From the moment at which a sender sends an event to the first instruction of the
// task that it starts, or that it releases; beside two durable commits and the start
// of a process on this machine, in the same run.
func BenchmarkFromAnEventToItsTask(b *testing.B) {
	s := testkit.Start(b)
	notes := filepath.Join(b.TempDir(), "notes")
	note := "exec: [/bin/sh, -c, 'date +%s%N >> " + notes + "']"
	s.Apply(b, "workflow: start\nif_running: alongside\nstarts: [{event: go.start}]\ntasks: {a: {"+note+"}}\n---\nworkflow: wait\nif_running: alongside\ntasks: {w: {wait: {event: go.wait, subject: \"${run.id}\"}}, a: {after: w, "+note+"}}")
	ctx := context.Background()
	for b.Loop() {
		var starts, waits, commits, processes []time.Duration
		commit := durableCommits(b)
		for i := range 60 {
			commits = append(commits, commit())
			began := time.Now()
			if err := exec.Command("/bin/sh", "-c", "date +%s%N").Run(); err != nil {
				b.Fatal(err)
			}
			processes = append(processes, time.Since(began))
			starts = append(starts, fromSendToNote(b, s, notes, match.Event{ID: fmt.Sprint("s", i, time.Now().UnixNano()), Source: "/bench", Type: "go.start"}))
			run, err := s.Client.Start(ctx, "wait", client.StartRequest{})
			if err != nil {
				b.Fatal(err)
			}
			s.Until(b, run.ID, func(r client.Run) bool { return r.Tasks[0].State == "waiting" })
			waits = append(waits, fromSendToNote(b, s, notes, match.Event{ID: fmt.Sprint("w", i, time.Now().UnixNano()), Source: "/bench", Type: "go.wait", Subject: run.ID}))
		}
		bare := 2*median(commits) + median(processes)
		b.ReportMetric(median(starts).Seconds()*1000, "ms-to-start")
		b.ReportMetric(median(waits).Seconds()*1000, "ms-to-release")
		b.ReportMetric(bare.Seconds()*1000, "ms-2-commits-1-process")
		b.ReportMetric(median(processes).Seconds()*1000, "ms-process")
		b.ReportMetric(float64(median(starts))/float64(bare), "x-start")
		b.ReportMetric(float64(median(waits))/float64(bare), "x-release")
	}
}

// fromSendToNote sends an event and tells how long it took until the task that comes
// of it had written down the time.
func fromSendToNote(b *testing.B, s *testkit.Service, notes string, e match.Event) time.Duration {
	b.Helper()
	if err := os.RemoveAll(notes); err != nil {
		b.Fatal(err)
	}
	began := time.Now()
	if _, err := s.SendEvents(context.Background(), []match.Event{e}); err != nil {
		b.Fatal(err)
	}
	for {
		text, err := os.ReadFile(notes)
		if at, err2 := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64); err == nil && err2 == nil {
			return time.Unix(0, at).Sub(began)
		}
		time.Sleep(2 * time.Millisecond) // looking more often would take the time away that is measured
	}
}

// durableCommits writes a row and commits it, as the records are written.
func durableCommits(b *testing.B) func() time.Duration {
	db, err := sqlx.Open("sqlite3", "file:"+filepath.Join(b.TempDir(), "bare.db")+"?_journal_mode=WAL&_synchronous=FULL")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { db.Close() })
	db.SetMaxOpenConns(1)
	db.MustExec("CREATE TABLE rows (n INTEGER)")
	return func() time.Duration {
		began := time.Now()
		db.MustExec("INSERT INTO rows VALUES (1)")
		return time.Since(began)
	}
}

// Two thousand events a second for a minute, in batches of twenty on loopback, each
// of them twice: how many came in, how many are lost, how many were answered twice.
func BenchmarkTwoThousandEventsASecond(b *testing.B) {
	const perSecond, batch = 2000, 20
	s := testkit.Start(b)
	s.Apply(b, "workflow: w\nif_running: alongside\nstarts: [{event: rain, collect: 5s, params: {n: \"${events.size()}\"}}]\nparams: {n: {type: whole, default: 0}}\ntasks: {a: {exec: [/bin/true]}}")
	ctx := context.Background()
	for b.Loop() {
		began := time.Now()
		var late time.Duration
		var sent, again atomic.Int64
		var group sync.WaitGroup
		work := make(chan int, 1000)
		for range 4 {
			group.Go(func() {
				for n := range work {
					events := make([]match.Event, batch)
					for i := range events {
						events[i] = match.Event{ID: fmt.Sprint(began.UnixNano(), n, i), Source: "/gauges/" + strconv.Itoa(n%7), Type: "rain", Subject: "upper", Data: map[string]any{"level": 2.5, "n": n}}
					}
					for range 2 { // as a sender does that did not hear the answer
						received, err := s.SendEvents(ctx, events)
						if err != nil {
							b.Error(err)
							return
						}
						for _, r := range received.Events {
							if r.Known {
								again.Add(1)
							} else {
								sent.Add(1)
							}
						}
					}
				}
			})
		}
		total := 60 * perSecond / batch
		for n := range total {
			at := began.Add(time.Duration(n) * time.Second * batch / perSecond)
			time.Sleep(time.Until(at))
			late = max(late, time.Since(at))
			work <- n
		}
		close(work)
		group.Wait()
		took := time.Since(began)
		answered, runs := 0.0, 0
		for deadline := time.Now().Add(30 * time.Second); answered < float64(total*batch) && time.Now().Before(deadline); time.Sleep(200 * time.Millisecond) {
			page, err := s.Runs(ctx, client.RunsFilter{Workflow: "w", Limit: 500})
			if err != nil {
				b.Fatal(err)
			}
			answered, runs = 0, len(page.Runs)
			for _, r := range page.Runs {
				answered += r.Params["n"].(float64)
			}
		}
		b.ReportMetric(float64(sent.Load())/took.Seconds(), "events/s")
		b.ReportMetric(float64(total*batch)-answered, "lost-or-double")
		b.ReportMetric(float64(again.Load()), "sent-again")
		b.ReportMetric(float64(runs), "runs")
		b.ReportMetric(late.Seconds(), "s-late-at-most")
	}
}
