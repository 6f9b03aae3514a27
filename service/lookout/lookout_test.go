package lookout

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"wiselantern/service/store"
)

// desk stands where the engine does: it notes what is said to be late.
type desk struct {
	mu      sync.Mutex
	late    map[int64]string
	changed chan struct{}
	store   *store.Store
}

func (d *desk) Late(_ context.Context, run int64, reason string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.late[run] != "" {
		return fmt.Errorf("run %d is late twice", run)
	}
	d.late[run] = reason
	return nil
}

func (d *desk) changes() <-chan struct{} {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.changed
}

func (d *desk) tell() {
	d.mu.Lock()
	defer d.mu.Unlock()
	close(d.changed)
	d.changed = make(chan struct{})
}

func (d *desk) said(run int64) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.late[run]
}

// records has a workflow of two tasks with so many runs that succeeded, each of
// which took ten minutes, the tasks four and six.
func records(t *testing.T, runs int) *store.Store {
	t.Helper()
	s, err := store.Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	write(t, s, func(w *store.Writer) {
		id := w.AddWorkflow(store.Workflow{Name: "w", Version: 1, Covered: "{}", DecidedUntil: store.At(time.Now())})
		w.AddVersion(store.Version{Workflow: id, Number: 1, Applied: store.At(time.Now()), Definition: `{"workflow": "w", "tasks": [{"name": "a", "kind": "exec"}, {"name": "b", "kind": "exec", "after": [{"task": "a"}]}]}`})
		for n := range runs {
			from := time.Now().Add(time.Duration(n-runs) * time.Hour)
			addRun(w, id, n+1, "succeeded", from, from.Add(10*time.Minute), time.Time{})
		}
	})
	return s
}

func write(t *testing.T, s *store.Store, do func(*store.Writer)) {
	t.Helper()
	s.Writer.Begin()
	do(s.Writer)
	if err := s.Writer.Commit(); err != nil {
		t.Fatal(err)
	}
}

func addRun(w *store.Writer, workflow int64, number int, state string, from, to, dueBy time.Time) store.Run {
	row := store.Run{Workflow: workflow, Number: number, Version: 1, State: state, Cause: "person", Params: "{}", Watermarks: "{}", Created: store.At(from), DueBy: store.At(dueBy)}
	row.ID = w.AddRun(row, 2)
	row.Started, row.Ended = store.At(from), store.At(to)
	w.SetRun(row)
	if state == "succeeded" {
		w.SetTask(store.Task{Run: row.ID, Task: 0, State: state, Started: row.Started, Ended: store.At(from.Add(4 * time.Minute))})
		w.SetTask(store.Task{Run: row.ID, Task: 1, State: state, Started: store.At(from.Add(4 * time.Minute)), Ended: row.Ended})
	} else {
		w.SetTask(store.Task{Run: row.ID, Task: 0, State: "running", Started: row.Started})
	}
	return row
}

// watched runs a lookout under a clock that moves when everything sleeps.
func watched(t *testing.T, s *store.Store) (*desk, *Lookout) {
	d := &desk{late: map[int64]string{}, changed: make(chan struct{}), store: s}
	o := New(s, d, time.Now)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		o.Run(ctx, d.changes, slog.New(slog.DiscardHandler))
	}()
	t.Cleanup(func() { cancel(); <-done })
	return d, o
}

func TestWhatTakesFarLongerThanUsualIsLate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := records(t, 20)
		d, o := watched(t, s)
		usual, err := o.Usual(t.Context(), 1)
		if err != nil || usual.Run.Median != 10*time.Minute || usual.Tasks["a"].Median != 4*time.Minute || usual.Tasks["b"].Count != 20 {
			t.Fatalf("%+v, %v", usual, err)
		}
		var run store.Run
		write(t, s, func(w *store.Writer) { run = addRun(w, 1, 21, "running", time.Now(), time.Time{}, time.Time{}) })
		d.tell()
		time.Sleep(7 * time.Minute)
		synctest.Wait()
		if said := d.said(run.ID); said != "" {
			t.Errorf("it is late after 7 minutes: %s", said)
		}
		time.Sleep(90 * time.Second)
		synctest.Wait()
		if said := d.said(run.ID); !strings.HasPrefix(said, "task a has taken 8m") || !strings.HasSuffix(said, "usually takes 4m") {
			t.Errorf("%q", said)
		}
	})
}

func TestWhatWillMissWhatItIsDueByIsLateBefore(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := records(t, 20)
		d, _ := watched(t, s)
		var soon, roomy store.Run
		write(t, s, func(w *store.Writer) {
			soon = addRun(w, 1, 21, "running", time.Now(), time.Time{}, time.Now().Add(8*time.Minute))
			roomy = addRun(w, 1, 22, "running", time.Now(), time.Time{}, time.Now().Add(13*time.Minute))
		})
		d.tell()
		time.Sleep(5 * time.Second)
		synctest.Wait()
		if said := d.said(soon.ID); !strings.Contains(said, "by what is usual it will end at") {
			t.Errorf("%q", said)
		}
		time.Sleep(6*time.Minute + 30*time.Second)
		synctest.Wait()
		if said := d.said(roomy.ID); said != "" {
			t.Errorf("%q", said)
		}
		time.Sleep(time.Minute)
		synctest.Wait()
		if said := d.said(roomy.ID); !strings.Contains(said, "it should be done by") {
			t.Errorf("its first task takes longer, so that the second will be late: %q", said)
		}
	})
}

func TestALittleHistoryMakesNothingLate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := records(t, 4)
		d, _ := watched(t, s)
		var run store.Run
		write(t, s, func(w *store.Writer) { run = addRun(w, 1, 5, "running", time.Now(), time.Time{}, time.Time{}) })
		d.tell()
		time.Sleep(10 * time.Hour)
		synctest.Wait()
		if said := d.said(run.ID); said != "" {
			t.Errorf("%q", said)
		}
	})
}
