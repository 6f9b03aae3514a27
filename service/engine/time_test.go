package engine

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"wiselantern/core/calendar"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// windows are the windows of the runs of a workflow, oldest first, as hours of
// the test's first day, as in "1-2 2-3".
func (l *life) windows(t *testing.T, workflow string) string {
	t.Helper()
	var out []string
	for _, r := range l.runs(t, workflow) {
		hour := func(m store.Moment) string {
			return fmt.Sprint(m.Time().Sub(time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)).Hours())
		}
		out = append(out, hour(r.WindowStart)+"-"+hour(r.WindowEnd))
	}
	return strings.Join(out, " ")
}

func (l *life) decided(t *testing.T, workflow string) string {
	t.Helper()
	rows, err := l.store.Decisions(t.Context(), l.runs(t, workflow)[0].Workflow, 100)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for i := len(rows) - 1; i >= 0; i-- {
		out = append(out, fmt.Sprintf("%d %s to %s: %s", rows[i].Count, rows[i].WindowStart.Time().Format("15:04"), rows[i].WindowEnd.Time().Format("15:04"), rows[i].Reason))
	}
	return strings.Join(out, "\n")
}

// What becomes of windows that come due while the service is down.
func TestMissedWindows(t *testing.T) {
	for missed, want := range map[string]struct{ windows, decided string }{
		"each":   {"0-1 1-2 2-3 3-4 4-5 5-6", ""},
		"newest": {"0-1 4-5 5-6", "3 01:00 to 04:00: no run could be made when it was due, and missed is newest"},
		"none":   {"0-1 5-6", "4 01:00 to 05:00: no run could be made when it was due, and missed is none"},
	} {
		synctest.Test(t, func(t *testing.T) {
			l := begin(t, t.TempDir())
			if err := l.GoOn(t.Context(), anyGone); err != nil {
				t.Fatal(err)
			}
			l.apply(t, "workflow: w\nif_running: alongside\nstarts: [{every: 1h, missed: "+missed+"}]\ntasks: {a: {only_if: run.newest, exec: [x]}}")
			time.Sleep(time.Hour + time.Second)
			l.stop()
			time.Sleep(4*time.Hour + 30*time.Minute)
			l = l.again(t)
			time.Sleep(time.Hour)
			synctest.Wait()
			if got := l.windows(t, "w"); got != want.windows {
				t.Errorf("%s: the windows are %s, not %s", missed, got, want.windows)
			}
			if got := l.decided(t, "w"); got != want.decided {
				t.Errorf("%s: decided is\n%s\nnot\n%s", missed, got, want.decided)
			}
			if missed == "each" { // of those made late, only the newest is so
				for i, r := range l.runs(t, "w") {
					if state := strings.Fields(l.stateOf(t, r))[0]; (state == "succeeded") != (i >= 1 && i <= 3) {
						t.Errorf("run %d is %s", i+1, state)
					}
				}
			}
		})
	}
}

func (l *life) stateOf(t *testing.T, r store.Run) string {
	t.Helper()
	row, err := l.store.RunByID(t.Context(), r.ID)
	if err != nil {
		t.Fatal(err)
	}
	return row.State
}

// A rule that is changed covers no time twice and leaves none out.
func TestAChangedRuleHasNoHoles(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		apply := func(starts string) {
			l.apply(t, "workflow: w\nif_running: alongside\nstarts: ["+starts+"]\ntasks: {a: {exec: [x]}}")
		}
		apply("{every: 1h}")
		time.Sleep(2*time.Hour + 30*time.Minute) // 02:30
		apply("{every: 6h}")
		time.Sleep(5 * time.Hour) // 07:30
		apply("{every: 1h}")
		time.Sleep(time.Hour) // 08:30
		apply("{cron: '15 * * * *'}")
		time.Sleep(time.Hour) // 09:30
		l = l.again(t)
		apply("{every: 1h}, {every: 30m}")
		time.Sleep(time.Hour) // 10:30
		synctest.Wait()
		if got, want := l.windows(t, "w"), "0-1 1-2 2-6 6-7 7-8 8-8.25 8.25-9.25 9.25-9.5 9.5-10 10-10.5"; got != want {
			t.Errorf("the windows are %s, not %s", got, want)
		}
	})
}

func TestARunThatIsNotMadeBecauseAnotherIsGoing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		l.apply(t, "workflow: w\nif_running: skip\nstarts: [{every: 1h, params: {basin: upper}}]\nparams: {basin: {type: text, required: true}}\ntasks: {a: {exec: [x]}}\n---\nworkflow: outer\ntasks: {a: {start: {workflow: w, params: {basin: lower}}}, b: {after: {a: skipped}, exec: [x]}}")
		time.Sleep(3*time.Hour + time.Second)
		if got, want := l.decided(t, "w"), "1 01:00 to 02:00: w:1 was still going, and if_running is skip\n1 02:00 to 03:00: w:1 was still going, and if_running is skip"; got != want {
			t.Errorf("decided is\n%s\nnot\n%s", got, want)
		}
		if _, err := l.Start(t.Context(), "w", Wanted{Params: map[string]any{"basin": "x"}}, "kari"); err == nil || !strings.Contains(err.Error(), "w:1 is still going") {
			t.Errorf("a person's start: %v", err)
		}
		l.begin(t, "outer", calendar.Window{})
		l.want(t, "outer", "running a– b◔")
		l.hands.take()
		if run := l.runs(t, "w"); len(run) != 1 || run[0].Params != `{"basin":"upper"}` {
			t.Errorf("%+v", run)
		}
	})
}

// A task waits for a task in the run of the window before, over restarts, and is
// told how that came out.
func TestATaskAfterTheRunBefore(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		l.apply(t, "workflow: w\nif_running: alongside\nstarts: [{every: 1h}]\ntasks:\n  a: {exec: [x]}\n  b: {after: {a: succeeded, b@previous: succeeded}, exec: [y, \"${task('b@previous').state}\"]}")
		time.Sleep(time.Hour + time.Second)
		l.want(t, "w", "running a◔ b· b@previous●")
		l.report(t, "a", dispatch.Succeeded, "")
		l.want(t, "w", "running a● b◔ b@previous●")
		time.Sleep(time.Hour)
		l.report(t, "a", dispatch.Succeeded, "")
		l.want(t, "w", "running a● b· b@previous◌")
		l = l.again(t)
		l.want(t, "w", "running a● b· b@previous◌")
		l.report(t, "b", dispatch.Succeeded, "")
		l.want(t, "w", "running a● b◔ b@previous●")
		l = l.again(t)
		l.report(t, "b", dispatch.Failed, "")
		l.want(t, "w", "failed a● b✕ b@previous●")

		time.Sleep(time.Hour)
		l.report(t, "a", dispatch.Succeeded, "")
		l.want(t, "w", "failed a● b○ b@previous✕")
		runs := l.runs(t, "w")
		if _, _, err := l.Rerun(t.Context(), runs[1], Selection{Failed: true}, nil, "kari", false, false); err != nil {
			t.Fatal(err)
		}
		l.report(t, "b", dispatch.Succeeded, "")
		again, _, err := l.Rerun(t.Context(), runs[2], Selection{Failed: true}, nil, "kari", false, false)
		if err != nil || fmt.Sprint(again) != "[b]" {
			t.Fatal(again, err)
		}
		l.want(t, "w", "running a● b◔ b@previous●")
		if o := l.report(t, "b", dispatch.Succeeded, "")["b"]; fmt.Sprint(o.Exec) != "[y succeeded]" {
			t.Errorf("its order is %+v", o)
		}
		l.want(t, "w", "succeeded a● b● b@previous●")
	})
}

// The clock of the machine is set back, and forward again: no window is made twice,
// and none is left out.
func TestAClockThatIsSet(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, err := store.Open(t.Context(), t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		var offset atomic.Int64
		e, err := New(t.Context(), s, Options{Now: func() time.Time { return time.Now().Add(time.Duration(offset.Load())) }, Log: slog.New(slog.DiscardHandler)})
		if err != nil {
			t.Fatal(err)
		}
		l := &life{Engine: e, store: s, hands: &hands{}}
		e.SetSender(l.hands)
		ctx, cancel := context.WithCancel(context.Background())
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			e.Run(ctx)
		}()
		defer func() {
			cancel()
			<-ended
			if err := s.Close(); err != nil {
				t.Error(err)
			}
		}()
		l.apply(t, "workflow: w\nif_running: alongside\nstarts: [{every: 1h}]\ntasks: {a: {retry: {times: 1, pause: 10m, spread: 0%}, exec: [x]}}")
		time.Sleep(3*time.Hour + 30*time.Minute)
		offset.Store(-int64(2 * time.Hour)) // it says 01:30 now
		time.Sleep(2 * time.Hour)           // and 03:30 again: nothing new was due
		if got := l.windows(t, "w"); got != "0-1 1-2 2-3" {
			t.Errorf("after the clock was set back the windows are %s", got)
		}
		time.Sleep(time.Hour)
		offset.Store(0) // it says 06:30 now
		time.Sleep(time.Minute)
		if got := l.windows(t, "w"); got != "0-1 1-2 2-3 3-4 4-5 5-6" {
			t.Errorf("after it was set forward the windows are %s", got)
		}
	})
}
