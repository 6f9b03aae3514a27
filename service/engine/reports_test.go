package engine

import (
	"testing"
	"testing/synctest"
	"time"

	"wiselantern/service/dispatch"
)

// A worker that was taken for gone comes back and says that it is done: that is kept, once,
// and the attempt that was made in its place decides.
func TestALateReportIsKeptAndChangesNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		l.apply(t, "workflow: w\ntasks: {a: {exec: [x]}}\n")
		run, err := l.Start(t.Context(), "w", Wanted{}, "kari")
		if err != nil {
			t.Fatal(err)
		}
		synctest.Wait()
		first := l.hands.take()[0].AttemptID
		ended := func(id dispatch.AttemptID, worker string, outcome dispatch.Outcome) {
			t.Helper()
			if err := l.Ended(t.Context(), dispatch.Ended{AttemptID: id, Worker: worker, Started: time.Now(), At: time.Now(), Outcome: outcome}); err != nil {
				t.Fatal(err)
			}
			synctest.Wait()
		}
		ended(first, "gone", dispatch.Lost)
		ended(first, "", dispatch.Lost) // said by another, to whom its order was given
		time.Sleep(time.Minute)
		second := l.hands.take()[0].AttemptID
		late := dispatch.Ended{AttemptID: first, Worker: "gone", Started: time.Now(), At: time.Now(), Outcome: dispatch.Succeeded}
		for range 2 { // it is said until it is heard
			if err := l.Ended(t.Context(), late); err != nil {
				t.Fatal(err)
			}
		}
		if open := l.runs(t, "w")[0]; open.State != "running" {
			t.Errorf("the late report has made the run %s", open.State)
		}
		ended(second, "other", dispatch.Failed)
		ended(second, "other", dispatch.Failed)
		rows, err := l.store.LateReports(t.Context(), run.ID)
		if err != nil || len(rows) != 1 || rows[0].Worker != "gone" || rows[0].State != "succeeded" || rows[0].Attempt != 1 {
			t.Errorf("%+v, %v", rows, err)
		}
		attempts, err := l.store.Attempts(t.Context(), run.ID)
		if err != nil || len(attempts) != 2 || attempts[0].State != "lost" || attempts[1].State != "failed" || l.runs(t, "w")[0].State != "failed" {
			t.Errorf("%+v, %v", attempts, err)
		}
	})
}

// An order that vanished is sent again as it was, and no other: neither of an attempt that
// has begun nor of one that has ended.
func TestAnOrderIsSentAgainThatHasNotBegun(t *testing.T) {
	l := begin(t, t.TempDir())
	if err := l.GoOn(t.Context(), anyGone); err != nil {
		t.Fatal(err)
	}
	l.apply(t, "workflow: w\ntasks: {a: {exec: [x], takes: {line: 1}}}")
	if err := l.SetCapacity(t.Context(), "line", 1); err != nil {
		t.Fatal(err)
	}
	if _, err := l.Start(t.Context(), "w", Wanted{}, "kari"); err != nil {
		t.Fatal(err)
	}
	first := l.hands.take()
	if len(first) != 1 {
		t.Fatalf("%d orders", len(first))
	}
	id := first[0].AttemptID
	again := func() []dispatch.Order {
		t.Helper()
		l.hands.mu.Lock()
		clear(l.hands.known)
		l.hands.mu.Unlock()
		if err := l.Again(t.Context(), id); err != nil {
			t.Fatal(err)
		}
		return l.hands.take()
	}
	if got := again(); len(got) != 1 || got[0].AttemptID != id || got[0].Trace != first[0].Trace {
		t.Errorf("sent again was %v", got)
	}
	if err := l.Started(t.Context(), dispatch.Started{AttemptID: id, Worker: "a", At: time.Now()}); err != nil {
		t.Fatal(err)
	}
	if got := again(); len(got) != 0 {
		t.Errorf("an attempt that has begun was sent again: %v", got)
	}
	if err := l.Ended(t.Context(), dispatch.Ended{AttemptID: id, Worker: "a", At: time.Now(), Outcome: dispatch.Succeeded}); err != nil {
		t.Fatal(err)
	}
	if got := again(); len(got) != 0 {
		t.Errorf("an attempt that has ended was sent again: %v", got)
	}
}

// crossing is a sender that has the end of an attempt be recorded while it is asked whether it
// knows it.
type crossing struct {
	*hands
	end func(dispatch.AttemptID)
}

func (c crossing) Knows(id dispatch.AttemptID) bool {
	c.end(id)
	return false
}

// What the next worker tells of an attempt while the next service goes on crosses the sending
// again of that attempt: it is not sent.
func TestAnAttemptThatEndsWhileAServiceBeginsIsNotSentAgain(t *testing.T) {
	l := begin(t, t.TempDir())
	if err := l.GoOn(t.Context(), anyGone); err != nil {
		t.Fatal(err)
	}
	l.apply(t, "workflow: w\ntasks: {a: {exec: [x], retry: {times: 2}}}")
	if _, err := l.Start(t.Context(), "w", Wanted{}, "kari"); err != nil {
		t.Fatal(err)
	}
	first := l.hands.take()[0].AttemptID
	l.stop()
	next := begin(t, l.store.Dir())
	next.SetSender(crossing{next.hands, func(id dispatch.AttemptID) {
		if err := next.Ended(t.Context(), dispatch.Ended{AttemptID: id, Worker: "a", At: time.Now(), Outcome: dispatch.Lost, Error: "killed"}); err != nil {
			t.Error(err)
		}
	}})
	if err := next.GoOn(t.Context(), anyGone); err != nil {
		t.Fatal(err)
	}
	for _, o := range next.hands.take() {
		if o.AttemptID == first {
			t.Errorf("attempt %v has ended, and is sent again", first)
		}
	}
}
