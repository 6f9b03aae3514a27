package engine

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// ends reports how each order that is out came out: with "" it succeeded.
func (l *life) ends(t *testing.T, outcome func(dispatch.Order) string) {
	t.Helper()
	for orders := l.hands.take(); orders != nil; orders = l.hands.take() {
		for _, o := range orders {
			report := dispatch.Ended{AttemptID: o.AttemptID, Worker: "w", Started: time.Now(), At: time.Now().Add(time.Second), Outcome: dispatch.Succeeded, CPU: 250 * time.Millisecond, Peak: 1 << 20}
			if reason := outcome(o); reason != "" {
				report.Outcome, report.Error = dispatch.Failed, reason
			}
			if err := l.Ended(t.Context(), report); err != nil {
				t.Fatal(err)
			}
		}
		synctest.Wait()
	}
}

func (l *life) troubles(t *testing.T) []store.Trouble {
	t.Helper()
	all, err := l.store.OpenTroubles(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return all
}

const twoTasks = "workflow: w\nstarts: [{every: 1h}]\ntasks:\n  a: {exec: [\"true\"]}\n  b: {after: a, exec: [\"true\"], may_fail: true}\n"

func TestATroubleGathersWhatSaysTheSameAndClosesItself(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		l := begin(t, dir)
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		l.apply(t, twoTasks)
		broken := func(o dispatch.Order) string {
			if o.TaskName == "a" {
				return "exit code 1: 3 of 15 gauges at " + o.Start.Format(time.RFC3339)
			}
			return "may fail"
		}
		for range 3 {
			time.Sleep(time.Hour)
			synctest.Wait()
			l.ends(t, broken)
		}
		all := l.troubles(t)
		if len(all) != 1 || all[0].Count != 3 || all[0].Task != "a" || all[0].Name != "w" {
			t.Fatalf("%+v", all)
		}
		runs, err := l.store.OpenTroubleRuns(t.Context(), all[0].ID, 10)
		if err != nil || len(runs) != 3 {
			t.Fatalf("%d runs, %v", len(runs), err)
		}
		if runs[0].CPU != 250_000 || runs[0].Peak != 1<<20 || runs[0].Busy != 1_000_000 {
			t.Errorf("%+v", runs[0])
		}
		// What is wrong otherwise is another trouble.
		time.Sleep(time.Hour)
		synctest.Wait()
		l.ends(t, func(o dispatch.Order) string { return "exit code 2: no river" })
		if all := l.troubles(t); len(all) != 2 {
			t.Fatalf("%+v", all)
		}
		// A restart forgets nothing of it.
		l.stop()
		l = begin(t, dir)
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		for i, run := range runs {
			if _, _, err := l.Rerun(t.Context(), run, Selection{Failed: true}, nil, "kari", false, false); err != nil {
				t.Fatal(err)
			}
			synctest.Wait()
			l.ends(t, func(dispatch.Order) string { return "" })
			if open := len(l.troubles(t)); i < 2 && open != 2 || i == 2 && open != 1 {
				t.Errorf("after %d of 3 windows %d troubles are open", i+1, open)
			}
		}
		closed, err := l.store.ClosedTroubles(t.Context(), 0, 10)
		if err != nil || len(closed) != 1 || closed[0].ClosedBy != "" {
			t.Errorf("%+v, %v", closed, err)
		}
		// Another run for the same window mends it too, and a word closes one.
		rest := l.troubles(t)[0]
		if err := l.SayOfTrouble(t.Context(), rest, TroubleWord{Word: TroubleTake}, "kari"); err != nil {
			t.Fatal(err)
		}
		if err := l.SayOfTrouble(t.Context(), rest, TroubleWord{Word: TroubleKnown, Until: time.Now()}, "kari"); err == nil {
			t.Error("it is known until now")
		}
		if got := l.troubles(t)[0]; got.TakenBy != "kari" {
			t.Errorf("%+v", got)
		}
		failed, err := l.store.OpenTroubleRuns(t.Context(), rest.ID, 10)
		if err != nil || len(failed) != 1 {
			t.Fatalf("%+v, %v", failed, err)
		}
		wanted := Wanted{}
		wanted.Window.Start, wanted.Window.End = failed[0].WindowStart.Time(), failed[0].WindowEnd.Time()
		if _, err := l.Start(t.Context(), "w", wanted, "kari"); err != nil {
			t.Fatal(err)
		}
		synctest.Wait()
		l.ends(t, func(dispatch.Order) string { return "" })
		if all := l.troubles(t); len(all) != 0 {
			t.Errorf("%+v", all)
		}
		err = l.SayOfTrouble(t.Context(), rest, TroubleWord{Word: TroubleNote, Text: "late"}, "kari")
		if err == nil || !strings.Contains(err.Error(), "closed already") {
			t.Errorf("%v", err)
		}
		l.stop()
	})
}

func TestWithoutAWindowTheSameParamsMend(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		l.apply(t, "workflow: w\nparams: {basin: {type: text, default: upper}}\ndeadline: 1m\ntasks:\n  a: {exec: [\"true\"]}\n")
		start := func(basin, outcome string) {
			if _, err := l.Start(t.Context(), "w", Wanted{Params: map[string]any{"basin": basin}}, "kari"); err != nil {
				t.Fatal(err)
			}
			synctest.Wait()
			l.ends(t, func(dispatch.Order) string { return outcome })
		}
		start("upper", "exit code 1")
		start("lower", "")
		if all := l.troubles(t); len(all) != 1 {
			t.Fatalf("a run for another basin mended it: %+v", all)
		}
		start("upper", "")
		if all := l.troubles(t); len(all) != 0 {
			t.Fatalf("%+v", all)
		}
		// A run that is over its deadline is in trouble as a whole.
		if _, err := l.Start(t.Context(), "w", Wanted{}, "kari"); err != nil {
			t.Fatal(err)
		}
		synctest.Wait()
		time.Sleep(2 * time.Minute)
		synctest.Wait()
		for _, o := range l.hands.take() {
			if err := l.Ended(t.Context(), dispatch.Ended{AttemptID: o.AttemptID, At: time.Now(), Outcome: dispatch.Stopped}); err != nil {
				t.Fatal(err)
			}
		}
		run, err := l.store.Run(t.Context(), "w", 4)
		if all := l.troubles(t); err != nil || run.State == "failed" && (len(all) != 1 || all[0].Task != "" || !strings.Contains(all[0].Error, "deadline")) {
			t.Errorf("run %s: %+v, %v", run.State, all, err)
		}
		if run.State != "failed" {
			t.Logf("a run over its deadline is %s", run.State)
		}
		l.stop()
	})
}

func TestLateIsSaidOnceAndToTheBus(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		l.apply(t, "workflow: w\ndue_by: \"07:00\"\nstarts: [{cron: 30 6 * * *, zone: Europe/Oslo}]\ntasks:\n  a: {exec: [\"true\"]}\n")
		time.Sleep(24 * time.Hour)
		synctest.Wait()
		run, err := l.store.Run(t.Context(), "w", 1)
		if err != nil {
			t.Fatal(err)
		}
		if got := run.DueBy.Time().Sub(run.Due.Time()); got != 30*time.Minute {
			t.Errorf("it is due by %v after it is due", got)
		}
		for range 2 {
			if err := l.Late(t.Context(), run.ID, "it takes long"); err != nil {
				t.Fatal(err)
			}
		}
		if run, err = l.store.Run(t.Context(), "w", 1); err != nil || !run.Attention || run.LateReason != "it takes long" {
			t.Errorf("%+v, %v", run, err)
		}
		if events, err := l.store.Events(t.Context(), store.EventFilter{Type: RunLate, Own: true, Limit: 10}); err != nil || len(events) != 1 {
			t.Errorf("%d events, %v", len(events), err)
		}
		l.ends(t, func(dispatch.Order) string { return "" })
		if run, err = l.store.Run(t.Context(), "w", 1); err != nil || run.Attention || !run.Late.Valid || run.State != "succeeded" {
			t.Errorf("%+v, %v", run, err)
		}
		// Made again, it is not late by a promise that was for the first time.
		if _, _, err := l.Rerun(t.Context(), run, Selection{From: []string{"a"}}, nil, "kari", false, false); err != nil {
			t.Fatal(err)
		}
		if run, err = l.store.Run(t.Context(), "w", 1); err != nil || run.Attention || run.Late.Valid || run.DueBy.Valid || run.State != "running" {
			t.Errorf("%+v, %v", run, err)
		}
		l.stop()
	})
}

// Of two rules with clocks of their own, each keeps its promise by its own.
func TestTheClockOfTheRuleDecidesWhatARunIsDueBy(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		l.apply(t, "workflow: w\ndue_by: \"07:00\"\nif_running: alongside\nstarts:\n  - {cron: 0 6 * * *, zone: Europe/Oslo}\n  - {cron: 0 6 * * *, zone: Asia/Tokyo}\ntasks: {a: {exec: [\"true\"]}}\n")
		time.Sleep(24 * time.Hour)
		synctest.Wait()
		runs, err := l.store.Runs(t.Context(), store.RunFilter{Workflow: "w", Limit: 10})
		if err != nil || len(runs) != 2 {
			t.Fatalf("%+v, %v", runs, err)
		}
		for _, r := range runs {
			if got := r.DueBy.Time().Sub(r.Due.Time()); got != time.Hour {
				t.Errorf("%d, due at %v, should be done %v later", r.Number, r.Due.Time(), got)
			}
		}
		l.stop()
	})
}
