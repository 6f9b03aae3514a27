package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"wiselantern/core/calendar"
	"wiselantern/core/definition"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// These tests run the real engine on real databases, under a clock that only
// moves when everything sleeps (testing/synctest begins in the year 2000).

// hands stand where the exchange does: they note the orders, and answer when the
// test says so.
type hands struct {
	mu        sync.Mutex
	orders    []dispatch.Order
	known     map[dispatch.AttemptID]bool
	cancelled []dispatch.AttemptID
}

func (h *hands) Send(o dispatch.Order) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.known == nil {
		h.known = map[dispatch.AttemptID]bool{}
	}
	if !h.known[o.AttemptID] {
		h.known[o.AttemptID] = true
		h.orders = append(h.orders, o)
	}
}

func (h *hands) Cancel(id dispatch.AttemptID) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.cancelled = append(h.cancelled, id)
}

func (h *hands) Serves(string) bool { return true }

func (h *hands) Knows(id dispatch.AttemptID) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.known[id]
}

func (h *hands) take() []dispatch.Order {
	h.mu.Lock()
	defer h.mu.Unlock()
	orders := h.orders
	h.orders = nil
	return orders
}

// life is one life of an engine on a folder.
type life struct {
	*Engine
	store *store.Store
	hands *hands
	stop  func()
}

func begin(t *testing.T, dir string) *life {
	t.Helper()
	s, err := store.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	e, err := New(t.Context(), s, Options{Now: time.Now, Log: slog.New(slog.DiscardHandler)})
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
	l.stop = sync.OnceFunc(func() {
		cancel()
		<-ended
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	t.Cleanup(l.stop)
	return l
}

func (l *life) apply(t *testing.T, text string) {
	t.Helper()
	project, problems := definition.Load([]definition.File{{Path: "w.yaml", Text: text}})
	if problems != nil {
		t.Fatal(problems)
	}
	if _, _, err := l.Apply(t.Context(), project, "", "kari", false); err != nil {
		t.Fatal(err)
	}
}

// applied applies, and tells whether it was refused.
func (l *life) applied(t *testing.T, text string) error {
	t.Helper()
	project, problems := definition.Load([]definition.File{{Path: "w.yaml", Text: text}})
	if problems != nil {
		t.Fatal(problems)
	}
	_, _, err := l.Apply(t.Context(), project, "", "kari", false)
	return err
}

func (l *life) runs(t *testing.T, workflow string) []store.Run {
	t.Helper()
	rows, err := l.store.Runs(t.Context(), store.RunFilter{Workflow: workflow, Limit: 10_000})
	if err != nil {
		t.Fatal(err)
	}
	for i, j := 0, len(rows)-1; i < j; i, j = i+1, j-1 {
		rows[i], rows[j] = rows[j], rows[i]
	}
	return rows
}

// answer ends every order that is out with success.
func (l *life) answer(t *testing.T) {
	t.Helper()
	for orders := l.hands.take(); len(orders) > 0; orders = l.hands.take() {
		for _, o := range orders {
			if err := l.Ended(t.Context(), dispatch.Ended{AttemptID: o.AttemptID, Worker: "hands", Started: time.Now(), At: time.Now(), Outcome: dispatch.Succeeded}); err != nil {
				t.Fatal(err)
			}
		}
	}
}

const hourly = "workflow: hourly\nif_running: alongside\nstarts: [{every: 1h, zone: Europe/Oslo}]\ntasks: {a: {exec: [x]}, b: {after: a, exec: [y]}}"

// Through outages, pauses and new versions, each window is made once and none
// is left out.
func TestWindowsHaveNoHolesAcrossOutagesPausesAndEdits(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		random := rand.New(rand.NewPCG(5, 6))
		dir := t.TempDir()
		l := begin(t, dir)
		l.apply(t, hourly)
		for step := range 60 {
			switch random.IntN(5) {
			case 0: // an outage
				l.stop()
				time.Sleep(time.Duration(random.Int64N(int64(30 * time.Hour))))
				l = begin(t, dir)
			case 1:
				if err := l.Pause(t.Context(), "hourly", "kari"); err != nil {
					t.Fatal(err)
				}
				time.Sleep(time.Duration(random.Int64N(int64(10 * time.Hour))))
				if _, err := l.Resume(t.Context(), "hourly"); err != nil {
					t.Fatal(err)
				}
			case 2: // an edit that leaves the rule as it is
				l.apply(t, fmt.Sprintf("%s\nabout: edit %d", hourly, step))
			default:
				time.Sleep(time.Duration(random.Int64N(int64(5 * time.Hour))))
			}
			synctest.Wait()
			l.answer(t)
		}
		time.Sleep(time.Hour)
		synctest.Wait()
		runs := l.runs(t, "hourly")
		if len(runs) < 150 {
			t.Fatalf("only %d runs were made", len(runs))
		}
		for i, r := range runs {
			if i > 0 && r.WindowStart != runs[i-1].WindowEnd {
				t.Fatalf("the window of run %d starts at %s, and the one before ends at %s", r.Number, r.WindowStart.Time(), runs[i-1].WindowEnd.Time())
			}
			if r.Created.Time().Before(r.Due.Time()) {
				t.Fatalf("run %d was made at %s, before it was due at %s", r.Number, r.Created.Time(), r.Due.Time())
			}
		}
		if behind := time.Since(runs[len(runs)-1].WindowEnd.Time()); behind > time.Hour {
			t.Errorf("the newest window ended %v ago", behind)
		}
	})
}

func TestARunIsMadeAtTheMomentItIsDue(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, "workflow: w\nif_running: alongside\nstarts: [{cron: '*/10 * * * *'}, {every: 30m}, {every: 30m, params: {all: true}}]\nparams: {all: {type: bool}}\ntasks: {a: {exec: [x]}}")
		time.Sleep(61 * time.Minute)
		synctest.Wait()
		var late time.Duration
		count := map[time.Duration]int{}
		for _, r := range l.runs(t, "w") {
			late = max(late, r.Created.Time().Sub(r.Due.Time()))
			count[r.WindowEnd.Time().Sub(r.WindowStart.Time())]++
		}
		if late > 0 {
			t.Errorf("a run was made %v late", late)
		}
		if count[10*time.Minute] != 6 || count[30*time.Minute] != 2 || len(count) != 2 {
			t.Errorf("windows by length: %v", count)
		}
	})
}

// A workflow that had no time rule is not due for the time before it got one.
func TestANewRuleDoesNotReachBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, "workflow: w\ntasks: {a: {exec: [x]}}")
		time.Sleep(100 * time.Hour)
		l.apply(t, "workflow: w\nif_running: alongside\nstarts: [{every: 1h}]\ntasks: {a: {exec: [x]}}")
		time.Sleep(2*time.Hour + time.Minute)
		synctest.Wait()
		if n := len(l.runs(t, "w")); n != 2 {
			t.Errorf("%d runs were made in two hours", n)
		}
	})
}

// The engine may end after any commit: what it sends out in its next life is
// what had not ended, and each attempt is recorded once.
func TestEveryLifeGoesOnFromTheRecords(t *testing.T) {
	for seed := range uint64(12) {
		synctest.Test(t, func(t *testing.T) {
			random := rand.New(rand.NewPCG(seed, 7))
			dir := t.TempDir()
			l := begin(t, dir)
			l.apply(t, `
workflow: w
if_running: alongside
defaults: {retry: {times: 3, pause: 5s, spread: 50%}}
tasks:
  a: {exec: [x]}
  b: {after: a, exec: [x]}
  c: {after: a, exec: [x]}
  d: {after: [b, c], exec: [x]}
`)
			const many = 5
			for range many {
				if _, err := l.Start(t.Context(), "w", Wanted{Window: calendar.Window{}}, "kari"); err != nil {
					t.Fatal(err)
				}
			}
			var out []dispatch.Order
			told := map[dispatch.AttemptID]dispatch.Outcome{}
			for step := 0; ; step++ {
				synctest.Wait()
				out = append(out, l.hands.take()...)
				open, err := l.store.OpenRuns(t.Context())
				if err != nil {
					t.Fatal(err)
				}
				if len(open) == 0 {
					break
				}
				if step > 2000 {
					t.Fatal("the runs do not end")
				}
				switch random.IntN(8) {
				case 0: // the engine ends, and its workers with it
					l.stop()
					time.Sleep(time.Duration(random.Int64N(int64(20 * time.Second))))
					out = nil
					l = begin(t, dir)
					if err := l.GoOn(t.Context(), anyGone); err != nil {
						t.Fatal(err)
					}
				case 1:
					time.Sleep(time.Duration(random.Int64N(int64(20 * time.Second))))
				default:
					if len(out) == 0 {
						time.Sleep(time.Second)
						continue
					}
					i := random.IntN(len(out))
					id := out[i].AttemptID
					report := dispatch.Ended{AttemptID: id, Worker: "hands", Started: time.Now(), At: time.Now(), Outcome: dispatch.Succeeded}
					if random.IntN(4) == 0 {
						report.Outcome, report.Error = dispatch.Failed, "it broke"
					}
					for range 1 + random.IntN(2) { // some come twice
						if random.IntN(2) == 0 {
							if err := l.Started(t.Context(), dispatch.Started{AttemptID: id, Worker: "hands", At: time.Now()}); err != nil {
								t.Fatal(err)
							}
						}
						if err := l.Ended(t.Context(), report); err != nil {
							t.Fatal(err)
						}
					}
					if before, ok := told[id]; ok {
						t.Fatalf("attempt %s was sent out again after it was told %s", id, before)
					}
					told[id] = report.Outcome
					out = append(out[:i], out[i+1:]...)
				}
			}
			for n := 1; n <= many; n++ {
				run, err := l.store.Run(t.Context(), "w", n)
				if err != nil {
					t.Fatal(err)
				}
				attempts, err := l.store.Attempts(t.Context(), run.ID)
				if err != nil {
					t.Fatal(err)
				}
				for _, a := range attempts {
					id := dispatch.AttemptID{Run: a.Run, Task: a.Task, Attempt: a.Number}
					if outcome, ok := told[id]; ok && a.State != string(outcome) || !ok && a.State != "lost" {
						t.Errorf("attempt %s is recorded as %s, and was told %q", id, a.State, outcome)
					}
					delete(told, id)
				}
			}
			if len(told) > 0 {
				t.Errorf("told and not recorded: %v", told)
			}
		})
	}
}

// When the disk does not take a commit, whoever asked is told, nothing is sent
// out, and the engine goes on by itself when it can write again.
func TestAFullDiskIsToldAndForgotten(t *testing.T) {
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=4m"); err != nil {
		t.Skipf("a small disk cannot be made here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	l := begin(t, dir)
	l.apply(t, "workflow: w\ntasks: {a: {exec: [x]}}")
	filler := filepath.Join(dir, "filler")
	if err := os.WriteFile(filler, make([]byte, 3<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	var made int
	var err error
	for made = 0; made < 100_000; made++ { // until what is free is used up
		if _, err = l.Start(t.Context(), "w", Wanted{Window: calendar.Window{}}, "kari"); err != nil {
			break
		}
	}
	if err == nil || l.Fault() == nil {
		t.Fatalf("%d runs were made on a full disk: %v", made, err)
	}
	if rows := l.runs(t, "w"); len(rows) != made {
		t.Errorf("%d runs are recorded, and %d were promised", len(rows), made)
	}
	if n := len(l.hands.take()); n != 1 { // of the first run; the others wait their turn
		t.Errorf("%d orders went out", n)
	}
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	for l.Fault() != nil {
		time.Sleep(20 * time.Millisecond)
	}
	run, err := l.Start(t.Context(), "w", Wanted{Window: calendar.Window{}}, "kari")
	if err != nil || run.Number != made+1 {
		t.Errorf("afterwards: run %d, %v; want run %d", run.Number, err, made+1)
	}
	t.Logf("%d runs before the disk was full", made)
}

func TestAStoppedEngineSaysSo(t *testing.T) {
	l := begin(t, t.TempDir())
	l.stop()
	if _, err := l.Start(t.Context(), "w", Wanted{Window: calendar.Window{}}, "kari"); !errors.Is(err, ErrStopped) {
		t.Errorf("%v", err)
	}
}

// anyGone says that no worker of before lives.
func anyGone(string) bool { return true }

// What was read of a version is kept while the records are read again after a fault, but
// for one that was not recorded in the end.
func TestVersionsOutliveAFault(t *testing.T) {
	l := begin(t, t.TempDir())
	inLoop := func(do func()) {
		t.Helper()
		if err := l.ask(t.Context(), func(*batch) error { do(); return nil }); err != nil {
			t.Fatal(err)
		}
	}
	var refused atomic.Bool
	inLoop(func() {
		l.trial = func(point string) error {
			if point == "before the commit" && refused.Load() {
				return errors.New("disk I/O error")
			}
			return nil
		}
	})
	text := func(program string) string { return "workflow: w\ntasks: {a: {exec: [" + program + "]}}" }
	fault := func(program string) { // with a version that is not recorded
		t.Helper()
		refused.Store(true)
		if err := l.applied(t, text(program)); err == nil {
			t.Fatal("a version was applied on a disk that takes nothing")
		}
		refused.Store(false)
		for l.Fault() != nil {
			time.Sleep(20 * time.Millisecond)
		}
	}
	current := func() (v *version) {
		inLoop(func() { v = l.Engine.workflows["w"].current })
		return v
	}
	l.apply(t, text("one"))
	fault("lost")
	first := current()
	fault("lost too")
	if again := current(); again != first {
		t.Error("a version that stays was read again")
	}
	l.apply(t, text("two"))
	fault("lost as well")
	if v := current(); v.row.Number != 2 || v.nodes[0].Exec[0] != "two" {
		t.Errorf("version %d is %v", v.row.Number, v.nodes[0].Exec)
	}
}
