package engine

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"wiselantern/core/backfill"
	"wiselantern/core/definition"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// old are the orders of backfills that are out, by the hour in which their window
// begins, answered as the map says and else with success.
func (l *life) work(t *testing.T, outcomes map[int]dispatch.Outcome) (hours []int) {
	t.Helper()
	for orders := l.hands.take(); len(orders) > 0; orders = l.hands.take() {
		for _, o := range orders {
			hours = append(hours, o.Start.Hour())
		}
		// What fails is told first: what comes after may open at any moment else.
		slices.SortStableFunc(orders, func(a, b dispatch.Order) int {
			return len(outcomes[b.Start.Hour()]) - len(outcomes[a.Start.Hour()])
		})
		for _, o := range orders {
			ended := dispatch.Ended{AttemptID: o.AttemptID, Worker: "hands", Started: time.Now(), At: time.Now(), Outcome: dispatch.Succeeded}
			if out, ok := outcomes[o.Start.Hour()]; ok {
				ended.Outcome, ended.Error = out, "it broke"
			}
			if err := l.Ended(t.Context(), ended); err != nil {
				t.Fatal(err)
			}
		}
		synctest.Wait()
	}
	return hours
}

func (l *life) backfill(t *testing.T, id int64) string {
	t.Helper()
	synctest.Wait()
	row, err := l.store.Backfill(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	counts, err := l.store.BackfillCounts(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	out := row.State
	for _, c := range counts {
		out += fmt.Sprintf(" %s:%d", c.State, c.Count)
	}
	return out
}

const gauges = "workflow: w\nif_running: alongside\nstarts: [{every: 1h}]\nparams: {depth: {type: whole, default: 1}}\ntasks: {a: {only_if: '!run.newest', exec: [x, \"${params.depth}\"]}}"

func TestABackfillIsWorkedThroughAndGoesOn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		time.Sleep(24 * time.Hour) // the workflow comes a day late
		l.apply(t, gauges)
		asked := Asked{From: "2000-01-01T02:00", To: "2000-01-01T12:00", Only: backfill.OnlyMissing, AtOnce: 2, StopAfter: 1, Params: definition.Values{"depth": 3.0}}
		_, p, err := l.Backfill(t.Context(), "w", asked, "kari", true)
		if err != nil || p.Chosen != 10 || len(l.runs(t, "w")) != 0 {
			t.Fatalf("%+v %v", p, err)
		}
		row, _, err := l.Backfill(t.Context(), "w", asked, "kari", false)
		if err != nil {
			t.Fatal(err)
		}
		if got := l.backfill(t, row.ID); got != "running running:2 waiting:8" {
			t.Errorf("it is %s", got)
		}
		if r := l.runs(t, "w")[0]; r.Cause != "backfill" || r.CausedBy != "backfill 1 of kari" || r.Newest || r.Params != `{"depth":3}` || r.State != "running" {
			t.Errorf("%+v", r)
		}

		// Another one leaves it what it has, unless all is asked for.
		_, other, err := l.Backfill(t.Context(), "w", Asked{From: "2000-01-01", To: "2000-01-01", Only: backfill.OnlyMissing}, "ola", true)
		if err != nil || other.Chosen != 14 || other.Leaving != 10 {
			t.Errorf("another one: %+v %v", other, err)
		}

		// The fourth window fails: it pauses, over a restart too.
		l = l.again(t)
		if hours := l.work(t, map[int]dispatch.Outcome{5: dispatch.Failed}); fmt.Sprint(hours) != "[2 3 4 5]" {
			t.Errorf("it worked through %v", hours)
		}
		if got := l.backfill(t, row.ID); got != "paused failed:1 succeeded:3 waiting:6" {
			t.Errorf("it is %s", got)
		}
		l = l.again(t)
		if got := l.backfill(t, row.ID); got != "paused failed:1 succeeded:3 waiting:6" {
			t.Errorf("after a restart it is %s", got)
		}
		if err := l.DirectBackfill(t.Context(), row.ID, "pause", "kari"); err == nil || !strings.Contains(err.Error(), "is paused already") {
			t.Error(err)
		}

		// It goes on, and ends with that failure; mended and tried again, it succeeds.
		if err := l.DirectBackfill(t.Context(), row.ID, "resume", "kari"); err != nil {
			t.Fatal(err)
		}
		synctest.Wait()
		l = l.again(t)
		synctest.Wait()
		if hours := l.work(t, nil); fmt.Sprint(hours) != "[6 7 8 9 10 11]" {
			t.Errorf("it worked through %v", hours)
		}
		if got := l.backfill(t, row.ID); got != "failed failed:1 succeeded:9" {
			t.Errorf("it is %s", got)
		}
		if err := l.DirectBackfill(t.Context(), row.ID, "retry", "kari"); err != nil {
			t.Fatal(err)
		}
		synctest.Wait()
		if hours := l.work(t, nil); fmt.Sprint(hours) != "[5]" {
			t.Errorf("it worked through %v", hours)
		}
		if got := l.backfill(t, row.ID); got != "succeeded succeeded:10" {
			t.Errorf("it is %s", got)
		}
		// A run of it that is made again by hand counts for it too.
		runs := l.runs(t, "w")
		for _, outcome := range []dispatch.Outcome{dispatch.Failed, dispatch.Succeeded} {
			if _, _, err := l.Rerun(t.Context(), runs[0], Selection{Only: []string{"a"}}, nil, "kari", false, false); err != nil {
				t.Fatal(err)
			}
			l.work(t, map[int]dispatch.Outcome{2: outcome})
			want := map[dispatch.Outcome]string{dispatch.Failed: "failed failed:1 succeeded:9", dispatch.Succeeded: "succeeded succeeded:10"}[outcome]
			if got := l.backfill(t, row.ID); got != want {
				t.Errorf("made again by hand it is %s, not %s", got, want)
			}
		}
		if err := l.DirectBackfill(t.Context(), row.ID, "stop", "kari"); err == nil || !strings.Contains(err.Error(), "backfill 1 has ended: it succeeded") {
			t.Error(err)
		}
		_, p, err = l.Backfill(t.Context(), "w", asked, "kari", true)
		if err != nil || p.Chosen != 0 || p.States[backfill.Succeeded] != 10 {
			t.Errorf("%+v %v", p, err)
		}
		if _, _, err := l.Backfill(t.Context(), "w", asked, "kari", false); err == nil || !strings.Contains(err.Error(), "say --only all") {
			t.Error(err)
		}
	})
}

func TestABackfillIsStopped(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		time.Sleep(24 * time.Hour)
		l.apply(t, gauges)
		row, _, err := l.Backfill(t.Context(), "w", Asked{From: "2000-01-01T00:00", To: "2000-01-01T23:00", Only: backfill.OnlyMissing, Newest: true}, "kari", false)
		if err != nil {
			t.Fatal(err)
		}
		if got := l.backfill(t, row.ID); got != "running running:4 waiting:19" {
			t.Errorf("it is %s", got)
		}
		if err := l.DirectBackfill(t.Context(), row.ID, "stop", "kari"); err != nil {
			t.Fatal(err)
		}
		if got := l.backfill(t, row.ID); got != "stopped stopped:23" {
			t.Errorf("it is %s", got)
		}
		if r := l.runs(t, "w"); len(r) != 4 || r[0].State != "stopped" || r[0].WindowStart.Time().Hour() != 22 {
			t.Errorf("%+v", r)
		}
	})
}

// What is going by itself comes first: a backfill that does not say how many of its
// runs may go at once waits until the workflow has room.
func TestABackfillLetsOthersGoFirst(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		time.Sleep(12*time.Hour + 59*time.Minute)
		l.apply(t, "workflow: w\nstarts: [{every: 1h}]\ntasks: {a: {takes: {store: 1}, exec: [x]}}")
		if err := l.SetCapacity(t.Context(), "store", 1); err != nil {
			t.Fatal(err)
		}
		row, _, err := l.Backfill(t.Context(), "w", Asked{From: "2000-01-01T00:00", To: "2000-01-01T03:00", Only: backfill.OnlyMissing}, "kari", false)
		if err != nil {
			t.Fatal(err)
		}
		if got := l.backfill(t, row.ID); got != "running running:1 waiting:2" {
			t.Errorf("it is %s", got)
		}
		time.Sleep(2 * time.Minute) // the run for 12 to 13 is due, and waits for the one that is going
		synctest.Wait()
		if hours := l.work(t, nil); fmt.Sprint(hours) != "[0 12 1 2]" {
			t.Errorf("it worked through %v", hours)
		}
		if got := l.backfill(t, row.ID); got != "succeeded succeeded:3" {
			t.Errorf("it is %s", got)
		}
	})
}

func TestBackfillsThatCannotBe(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		time.Sleep(24 * time.Hour)
		l.apply(t, gauges+"\n---\nworkflow: by-hand\nif_running: alongside\ntasks: {a: {exec: [x]}, b: {after: a, exec: [y]}}")
		for _, c := range []struct {
			workflow string
			asked    Asked
			want     string
		}{
			{"w", Asked{From: "2000-01-02", To: "2000-01-01"}, "the range ends before it starts"},
			{"w", Asked{From: "2000-01-03", To: "2000-01-04"}, "lies in the future"},
			{"w", Asked{From: "2000-01-01T02:10", To: "2000-01-01T02:20"}, "no window lies whole in the range"},
			{"w", Asked{From: "2000-01-01", To: "2000-01-01", Zone: "Mars"}, `there is no zone "Mars"`},
			{"w", Asked{From: "2000-01-01", To: "2000-01-01", Days: []string{"monday"}}, `"monday" is no day of the week`},
			{"w", Asked{From: "2000-01-01", To: "2000-01-01", Months: []string{"13"}}, `"13" is no month`},
			{"w", Asked{From: "2000-01-01", To: "2000-01-01", Tasks: []string{"b"}}, `there is no task "b"`},
			{"w", Asked{From: "2000-01-01", To: "2000-01-01", Params: definition.Values{"dept": 3.0}}, `"dept"`},
			{"v", Asked{From: "2000-01-01", To: "2000-01-01"}, `there is no workflow "v"`},
			{"by-hand", Asked{From: "2000-01-01", To: "2000-01-01"}, "has no time rule, so it has no windows; say how long they are, as in --every 1h"},
		} {
			if _, _, err := l.Backfill(t.Context(), c.workflow, c.asked, "kari", true); err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%+v: got %v, want %s", c.asked, err, c.want)
			}
		}
		row, p, err := l.Backfill(t.Context(), "by-hand", Asked{From: "2000-01-01", To: "2000-01-01", Every: definition.Length(time.Hour), Merge: definition.Length(6 * time.Hour), Tasks: []string{"b"}}, "kari", false)
		if err != nil || p.Chosen != 24 || len(p.Stretches) != 4 {
			t.Fatalf("%+v %v", p, err)
		}
		synctest.Wait()
		l.want(t, "by-hand", "running a● b◔")
		if r := l.runs(t, "by-hand"); len(r) != 4 || r[1].WindowEnd.Time().Sub(r[1].WindowStart.Time()) != 6*time.Hour {
			t.Errorf("%+v", r)
		}
		l.work(t, nil)
		if got := l.backfill(t, row.ID); got != "succeeded succeeded:4" {
			t.Errorf("it is %s", got)
		}
		// Each of these runs counts for the six windows that lie in it, until a newer one is made.
		hours := Asked{From: "2000-01-01", To: "2000-01-01", Every: definition.Length(time.Hour), Only: backfill.OnlyMissing}
		if _, p, err = l.Backfill(t.Context(), "by-hand", hours, "kari", true); err != nil || p.Chosen != 0 || p.States[backfill.Succeeded] != 24 {
			t.Errorf("%+v %v", p, err)
		}
		hours.From, hours.To, hours.Only = "2000-01-01T02:00", "2000-01-01T03:00", backfill.OnlyAll
		if _, _, err = l.Backfill(t.Context(), "by-hand", hours, "kari", false); err != nil {
			t.Fatal(err)
		}
		synctest.Wait()
		l.work(t, map[int]dispatch.Outcome{2: dispatch.Failed})
		hours.From, hours.To, hours.Only = "2000-01-01", "2000-01-01", backfill.OnlyFailed
		if _, p, err = l.Backfill(t.Context(), "by-hand", hours, "kari", true); err != nil || p.Chosen != 1 || p.States[backfill.Succeeded] != 23 {
			t.Errorf("%+v %v", p, err)
		}
		runs := l.runs(t, "by-hand")
		first := runs[0]
		for window, want := range map[int]int{1: first.Number, 2: runs[4].Number} {
			start := time.Date(2000, 1, 1, window, 0, 0, 0, time.UTC)
			if got, err := l.store.NewestForWindow(t.Context(), first.Workflow, store.At(start), store.At(start.Add(time.Hour))); err != nil || got != want {
				t.Errorf("the window from %d rests on run %d, not %d: %v", window, got, want, err)
			}
		}
	})
}

// What a stop leaves to be closed is waited for, and a life that begins meanwhile
// ends the backfill all the same.
func TestAStoppedBackfillEndsInTheNextLife(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		time.Sleep(4 * time.Hour)
		l.apply(t, within+"starts: [{every: 1h}]\n")
		row, _, err := l.Backfill(t.Context(), "within", Asked{From: "2000-01-01T00:00", To: "2000-01-01T01:00", Only: backfill.OnlyMissing}, "kari", false)
		if err != nil {
			t.Fatal(err)
		}
		synctest.Wait()
		l.report(t, "scratch:open", dispatch.Succeeded, `{"folder": "/srv/a"}`)
		if err := l.DirectBackfill(t.Context(), row.ID, "stop", "kari"); err != nil {
			t.Fatal(err)
		}
		ended := func() bool {
			synctest.Wait()
			row, err := l.store.Backfill(t.Context(), row.ID)
			if err != nil || row.State != BackfillStopped {
				t.Fatalf("%+v %v", row, err)
			}
			return row.Ended.Valid
		}
		l = l.again(t)
		if ended() {
			t.Error("it has ended before what it opened is closed")
		}
		l.report(t, "scratch:close", dispatch.Succeeded, "")
		if !ended() {
			t.Error("it has not ended")
		}
	})
}

func TestABackfillOfATaskThatIsGone(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		time.Sleep(24 * time.Hour)
		l.apply(t, gauges)
		row, _, err := l.Backfill(t.Context(), "w", Asked{From: "2000-01-01T00:00", To: "2000-01-01T03:00", Only: backfill.OnlyMissing, AtOnce: 1, Tasks: []string{"a"}}, "kari", false)
		if err != nil {
			t.Fatal(err)
		}
		synctest.Wait()
		l.apply(t, strings.Replace(gauges, "{a:", "{b:", 1))
		l.work(t, nil)
		if got := l.backfill(t, row.ID); got != "paused succeeded:1 waiting:2" {
			t.Errorf("it is %s", got)
		}
		if row, err = l.store.Backfill(t.Context(), row.ID); err != nil || row.Reason != `version 2 of the workflow cannot do what it asks for: there is no task "a"` {
			t.Errorf("%q %v", row.Reason, err)
		}
	})
}
