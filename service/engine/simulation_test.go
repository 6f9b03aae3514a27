package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"wiselantern/core/backfill"
	"wiselantern/core/definition"
	"wiselantern/core/flow"
	"wiselantern/core/match"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// The engine with its real records, under a simulated clock, message server and
// workers, driven by a seed: what goes wrong, and when, is drawn from it. After every
// step the promises are looked at; in the end everything is let go well, and each run
// must have ended. LANTERN_SEEDS says how many seeds, from
// LANTERN_FIRST_SEED on; LANTERN_SEED makes one again.

const simulated = `workflow: hourly
starts: [{every: 20m, missed: each}]
if_running: queue
defaults: {retry: {times: 2, pause: 30s, spread: 0}}
resources:
  desk: {open: {exec: [open]}, close: {exec: [close]}}
tasks:
  fetch: {exec: [a], takes: {line: 1}}
  check: {after: fetch, for_each: [x, y, z], at_once: 2, within: desk, exec: [b], takes: {line: 1}}
  load: {after: {check: settled}, within: desk, exec: [c], timeout: 5m}
  mend: {after: {load: failed}, exec: [d]}
---
workflow: wide
if_running: alongside
defaults: {retry: {times: 1, pause: 1m, spread: 0}}
tasks:
  one: {exec: [a], takes: {line: 2}}
  two: {exec: [a], may_fail: true}
  three: {after: [one, two], join: any, exec: [b], takes: {line: 1}}
  sub: {after: one, start: inner}
---
workflow: inner
if_running: alongside
tasks: {only: {exec: [a]}, last: {after: only, exec: [b]}}
---
workflow: asked
if_running: alongside
starts: [{event: level.high}]
tasks:
  low: {wait: {event: level.low, subject: "${run.id}"}}
  note: {after: low, exec: [a]}
---
workflow: past
if_running: alongside
tasks: {read: {exec: [a], takes: {line: 1}}, load: {after: read, exec: [b]}}
`

const lines = 3 // units of the capacity

// world is everything around one engine.
type world struct {
	t       *testing.T
	seed    uint64
	r       *rand.Rand // what is done
	faults  *rand.Rand // what goes wrong in the engine, in one step
	steps   uint64
	store   *store.Store
	offset  time.Duration // of the machine's clock
	calm    bool          // nothing goes wrong any more
	closing bool          // nothing comes due any more
	lives   int           // of the service
	story   []string

	engine *Engine
	stop   context.CancelFunc
	ended  chan struct{}

	mu       sync.Mutex
	standing []dispatch.Order // that no worker has taken
	hands    map[dispatch.AttemptID]*simulatedAttempt
	mail     []dispatch.Ended // reports under way, some of them twice
	over     map[dispatch.AttemptID]int
	promised map[string]int // runs that were acknowledged, and the life of the service in which they were last seen
	events   int            // that were thought of
	unheard  []match.Event  // not acknowledged: their sender sends them again
	heard    map[string]int64
	filled   []int64 // backfills that were acknowledged
}

type simulatedAttempt struct {
	order   dispatch.Order
	stopped bool
	begun   bool
	life    int  // of the service in which its worker was lost
	gone    bool // its worker is lost; it may come back and tell later
}

func (w *world) now() time.Time { return time.Now().Add(w.offset) }

func (w *world) tell(format string, args ...any) {
	w.story = append(w.story, w.now().UTC().Format("15:04:05  ")+fmt.Sprintf(format, args...))
}

func (w *world) fail(format string, args ...any) {
	w.t.Helper()
	story := w.story[max(0, len(w.story)-40):]
	w.t.Fatalf("seed %d: %s\n\nmake it again with LANTERN_SEED=%d; its end was\n  %s", w.seed, fmt.Sprintf(format, args...), w.seed, strings.Join(story, "\n  "))
}

// chance is true once in so many times, and never when all is calm.
func (w *world) chance(in int) bool { return !w.calm && w.r.IntN(in) == 0 }

// The world is the message server too: an order that stands in it is not taken twice.

func (w *world) Send(o dispatch.Order) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.over[o.AttemptID] > 0 {
		w.story = append(w.story, "WRONG: attempt "+o.AttemptID.String()+" was sent when its end was recorded")
		w.over[o.AttemptID] += 1000
		return
	}
	if w.hands[o.AttemptID] != nil || slices.ContainsFunc(w.standing, func(s dispatch.Order) bool { return s.AttemptID == o.AttemptID }) {
		return
	}
	w.standing = append(w.standing, o)
}

func (w *world) Cancel(id dispatch.AttemptID) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.standing = slices.DeleteFunc(w.standing, func(o dispatch.Order) bool { return o.AttemptID == id })
	if a := w.hands[id]; a != nil {
		a.stopped = true
	}
}

func (w *world) Serves(string) bool { return true }

func (w *world) Knows(id dispatch.AttemptID) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	a := w.hands[id]
	return a != nil && (!a.gone || a.life == w.lives) || slices.ContainsFunc(w.mail, func(m dispatch.Ended) bool { return m.AttemptID == id }) ||
		slices.ContainsFunc(w.standing, func(o dispatch.Order) bool { return o.AttemptID == id })
}

// begin begins a life of the engine.
func (w *world) begin() {
	e, err := New(context.Background(), w.store, Options{Now: w.now, Log: slog.New(slog.DiscardHandler), ByHand: w.closing})
	if err != nil {
		w.fail("the engine cannot begin: %v", err)
	}
	w.lives++
	chance := func(in int) bool { return !w.calm && w.faults.IntN(in) == 0 }
	e.trial = func(point string) error {
		switch {
		case chance(150):
			w.tell("the process ends %s", point)
			return errCut
		case point == "before the commit" && chance(60):
			w.tell("the disk takes nothing")
			return errors.New("disk I/O error")
		}
		return nil
	}
	e.SetSender(w)
	ctx, stop := context.WithCancel(context.Background())
	w.engine, w.stop, w.ended = e, stop, make(chan struct{})
	jobs := make(chan func(), 1000)
	e.beside = func(do func()) { jobs <- do } // one after the other, so that they can be replayed
	go func(ended chan struct{}) {
		for {
			select {
			case do := <-jobs:
				do()
			case <-ended:
				return
			}
		}
	}(w.ended)
	go func(ended chan struct{}) {
		defer close(ended)
		e.Run(ctx)
	}(w.ended)
	synctest.Wait() // what is due comes first, always
	if err := w.say(func() error { return e.GoOn(context.Background(), anyGone) }); err != nil && !w.dead() {
		w.tell("going on was refused: %v", err)
		w.kill() // as a service that cannot go on does
	}
}

// dead tells whether the engine has ended.
func (w *world) dead() bool {
	select {
	case <-w.ended:
		return true
	default:
		return false
	}
}

func (w *world) kill() {
	w.stop()
	<-w.ended
}

// live sees to it that an engine lives.
func (w *world) live() {
	for tries := 0; w.dead(); tries++ {
		w.stop()
		w.mu.Lock()
		if w.chance(2) { // the embedded message server went with it
			w.tell("%d orders are gone with the message server", len(w.standing))
			w.standing = nil
		}
		w.mu.Unlock()
		w.tell("the process begins")
		w.begin()
		if tries > 200 {
			w.fail("it does not come to live")
		}
	}
}

// say has something said to the engine, and waits as whoever says it would.
func (w *world) say(do func() error) error {
	done := make(chan error, 1)
	go func() { done <- do() }()
	synctest.Wait()
	select {
	case err := <-done:
		return err
	default:
	}
	select {
	case err := <-done:
		return err
	case <-w.ended:
		return ErrStopped
	case <-time.After(time.Hour):
		w.fail("nobody answers")
		return nil
	}
}

// work is one step of a worker or of the message server.
func (w *world) work() {
	w.mu.Lock()
	ids := slices.SortedFunc(maps.Keys(w.hands), func(a, b dispatch.AttemptID) int { return strings.Compare(a.String(), b.String()) })
	switch what := w.r.IntN(8); {
	case what < 3 && len(w.standing) > 0: // a worker takes an order
		i := w.r.IntN(len(w.standing))
		o := w.standing[i]
		w.standing = slices.Delete(w.standing, i, i+1)
		if w.over[o.AttemptID] > 0 {
			w.mu.Unlock()
			return
		}
		a := &simulatedAttempt{order: o}
		w.hands[o.AttemptID] = a
		w.mu.Unlock()
		w.tell("%s %s is taken", o.RunName, o.TaskName)
		if a.begun = !w.chance(4); !a.begun { // it is fetched ahead
			return
		}
		if !w.chance(3) { // that word may be lost
			started := dispatch.Started{AttemptID: o.AttemptID, Worker: "w", At: w.now()}
			_ = w.say(func() error { return w.engine.Started(context.Background(), started) })
		}
	case what < 6 && len(ids) > 0: // an attempt ends
		id := ids[w.r.IntN(len(ids))]
		a := w.hands[id]
		delete(w.hands, id)
		report := dispatch.Ended{AttemptID: id, Worker: "w", Started: w.now(), At: w.now(), Outcome: dispatch.Succeeded}
		switch {
		case a.stopped:
			report.Outcome = dispatch.Stopped
		case w.chance(5):
			code := 1
			report.Outcome, report.ExitCode, report.Error = dispatch.Failed, &code, "exit code 1"
		}
		w.mail = append(w.mail, report)
		if w.chance(6) {
			w.mail = append(w.mail, report)
		}
		w.tell("%s %s ends: %s", a.order.RunName, a.order.TaskName, report.Outcome)
		w.mu.Unlock()
	case what == 6 && len(ids) > 0 && w.chance(2): // it was fetched ahead, and goes back to its queue
		id := ids[w.r.IntN(len(ids))]
		a := w.hands[id]
		if a.begun || a.gone || a.stopped {
			w.mu.Unlock()
			return
		}
		delete(w.hands, id)
		w.standing = append(w.standing, a.order)
		w.tell("%s %s goes back", a.order.RunName, a.order.TaskName)
		w.mu.Unlock()
	case what == 6 && len(ids) > 0 && w.chance(6): // a worker is lost, with what it has
		id := ids[w.r.IntN(len(ids))]
		a := w.hands[id]
		if a.gone {
			w.mu.Unlock()
			return
		}
		a.gone, a.life = true, w.lives
		w.mail = append(w.mail, dispatch.Ended{AttemptID: id, Worker: "w", At: w.now(), Outcome: dispatch.Lost, Error: "not heard"})
		if w.chance(2) { // for good
			delete(w.hands, id)
		}
		w.tell("the worker of %s %s is lost", a.order.RunName, a.order.TaskName)
		w.mu.Unlock()
	default:
		w.mu.Unlock()
		w.deliver()
	}
}

// deliver delivers one of the reports that are under way, in any order, and again until
// it is recorded.
func (w *world) deliver() {
	w.mu.Lock()
	if len(w.mail) == 0 {
		w.mu.Unlock()
		return
	}
	i := w.r.IntN(len(w.mail))
	end := min(len(w.mail), i+1+w.r.IntN(3)) // some go out together
	reports := slices.Clone(w.mail[i:end])
	w.mu.Unlock()
	err := w.say(func() error { return w.engine.Ended(context.Background(), reports...) })
	if err != nil {
		w.tell("the reports of %v and %d others are not acknowledged: %v", reports[0].AttemptID, len(reports)-1, err)
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.mail = slices.Delete(w.mail, i, end)
	for _, r := range reports {
		w.over[r.AttemptID]++
	}
}

// happen has an event come in, and again later if that is not acknowledged.
func (w *world) happen(e match.Event) {
	var got []Received
	err := w.say(func() (err error) {
		got, err = w.engine.Receive(context.Background(), []match.Event{e}, "api", "")
		return err
	})
	if err != nil {
		w.tell("event %s %s is not acknowledged: %v", e.ID, e.Type, err)
		w.unheard = append(w.unheard, e)
		return
	}
	w.tell("event %s %s is acknowledged", e.ID, e.Type)
	if before, ok := w.heard[e.ID]; ok && before != got[0].ID {
		w.fail("event %s is recorded as %d and as %d", e.ID, before, got[0].ID)
	}
	w.heard[e.ID] = got[0].ID
}

// outside is something that comes from outside.
func (w *world) outside() {
	what := w.r.IntN(4)
	switch {
	case what == 0 && len(w.unheard) > 0: // a sender tries again
		e := w.unheard[0]
		w.unheard = w.unheard[1:]
		w.happen(e)
	case what < 2:
		if !w.chance(4) { // or the last one comes once more
			w.events++
		}
		w.happen(match.Event{ID: fmt.Sprint("high-", w.events), Source: "/sim", Type: "level.high", Subject: "G1"})
	case what == 2:
		if waiting := slices.DeleteFunc(w.open(), func(r store.Run) bool { return r.Name != "asked" }); len(waiting) > 0 {
			w.low(waiting[w.r.IntN(len(waiting))])
		}
	default:
		day := fmt.Sprintf("1999-12-%02d", 1+w.r.IntN(20))
		asked := Asked{From: day, To: day, Zone: "UTC", Every: definition.Length(8 * time.Hour), Only: backfill.OnlyMissing, AtOnce: 2}
		var row store.Backfill
		err := w.say(func() (err error) {
			row, _, err = w.engine.Backfill(context.Background(), "past", asked, "kari", false)
			return err
		})
		w.tell("a backfill of %s: %v", day, err)
		if err == nil {
			w.filled = append(w.filled, row.ID)
		}
	}
}

// low releases what a run waits for.
func (w *world) low(run store.Run) {
	w.happen(match.Event{ID: fmt.Sprintf("low-%d-%d", run.ID, w.r.IntN(3)), Source: "/sim", Type: "level.low", Subject: RunName(run.Name, run.Number)})
}

// step does one thing, whatever it may be.
func (w *world) step() {
	w.steps++
	w.faults = rand.New(rand.NewPCG(w.seed, w.steps)) // whatever happened before
	ctx := context.Background()
	switch what := w.r.IntN(20); {
	case what == 0:
		name := []string{"wide", "inner", "hourly"}[w.r.IntN(3)]
		var id string
		err := w.say(func() error {
			run, err := w.engine.Start(ctx, name, Wanted{}, "kari")
			id = RunName(run.Name, run.Number)
			return err
		})
		if err == nil {
			w.promised[id] = 0
			w.tell("%s is started", id)
		}
	case what == 1:
		d := time.Duration(1+w.r.IntN(1200)) * time.Second
		w.tell("%v pass", d)
		time.Sleep(d)
	case what == 2 && w.chance(6):
		d := time.Duration(w.r.IntN(7200)-3600) * time.Second
		w.offset += d
		w.tell("the machine's clock is set by %v", d)
	case what == 3 && w.chance(4):
		if open := w.open(); len(open) > 0 {
			run := open[w.r.IntN(len(open))]
			w.tell("%s is stopped", RunName(run.Name, run.Number))
			_ = w.say(func() error { return w.engine.Stop(ctx, run, "", "kari") })
		}
	case what == 4 && w.chance(4):
		w.tell("the process is killed")
		w.kill()
	case what == 5:
		w.outside()
	case what < 8:
		time.Sleep(time.Duration(w.r.IntN(20)) * time.Second)
	default:
		w.work()
	}
	synctest.Wait()
	w.live()
	w.look()
}

func (w *world) open() []store.Run {
	rows, err := w.store.OpenRuns(context.Background())
	if err != nil {
		w.fail("%v", err)
	}
	return rows
}

// busy tells whether workers or the message server have something to do.
func (w *world) busy() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.standing)+len(w.hands)+len(w.mail) > 0
}

func (w *world) openBackfills() int {
	rows, err := w.store.OpenBackfills(context.Background())
	if err != nil {
		w.fail("%v", err)
	}
	return len(rows)
}

// look looks at the promises.
func (w *world) look() {
	ctx := context.Background()
	w.mu.Lock()
	defer w.mu.Unlock()
	for id, n := range w.over {
		if n >= 1000 {
			w.fail("attempt %v was sent after its end was recorded", id)
		}
	}
	attempts, err := w.store.OrderedAttempts(ctx)
	if err != nil {
		w.fail("%v", err)
	}
	used := 0
	for _, a := range attempts {
		id := dispatch.AttemptID{Run: a.Run, Task: a.Task, Attempt: a.Number}
		if h := w.hands[id]; h != nil && !h.gone { // of one that is not heard, nobody can know
			used += map[string]int{"fetch": 1, "check": 1, "one": 2, "three": 1, "read": 1}[strings.Split(h.order.TaskName, "[")[0]]
		}
	}
	if used > lines {
		w.fail("%d of %d units are in use, by %v", used, lines, slices.Collect(maps.Keys(w.hands)))
	}
	for id, seen := range w.promised {
		if seen == w.lives {
			continue
		}
		w.promised[id] = w.lives
		name, number, _ := strings.Cut(id, ":")
		n, _ := strconv.Atoi(number)
		if _, err := w.store.Run(ctx, name, n); err != nil {
			w.fail("%s was acknowledged and is not recorded: %v", id, err)
		}
	}
}

// audit looks at all that was recorded.
func (w *world) audit() {
	ctx := context.Background()
	changes, err := w.store.Transitions(ctx, 0, 0, 1<<20)
	if err != nil {
		w.fail("%v", err)
	}
	type place struct{ run, task int64 }
	state := map[place]string{}
	for _, c := range changes {
		at := place{c.Run, -1}
		if c.Task.Valid {
			at.task = c.Task.Int64
		}
		if before, ok := state[at]; ok && before != c.Before {
			w.fail("a change of task %d of run %d is recorded from %s, which was %s", at.task, at.run, c.Before, before)
		}
		state[at] = c.After
	}
	runs, err := w.store.Runs(ctx, store.RunFilter{Limit: 100_000})
	if err != nil {
		w.fail("%v", err)
	}
	windows := map[int64]int64{}
	var first, last int64
	for _, run := range runs {
		name := RunName(run.Name, run.Number)
		if !flow.RunState(run.State).Settled() {
			w.fail("%s does not end: it is %s", name, run.State)
		}
		if run.Cause == "schedule" {
			if windows[run.WindowEnd.Int64]++; windows[run.WindowEnd.Int64] > 1 {
				w.fail("the window that ends at %v has two runs", run.WindowEnd.Time())
			}
			if first == 0 || run.WindowEnd.Int64 < first {
				first = run.WindowEnd.Int64
			}
			last = max(last, run.WindowEnd.Int64)
		}
		tasks, err := w.store.Tasks(ctx, run.ID)
		if err != nil {
			w.fail("%v", err)
		}
		counts := map[string]int{}
		for _, task := range tasks {
			if !task.ItemOf.Valid {
				counts[task.State]++
			}
			if s, ok := state[place{run.ID, int64(task.Task)}]; ok && s != task.State {
				w.fail("task %d of %s is recorded as %s, and its last change made it %s", task.Task, name, task.State, s)
			}
		}
		if text, _ := json.Marshal(counts); run.Counts.String != string(text) {
			w.fail("%s is recorded with %s tasks, and has %s", name, run.Counts.String, text)
		}
		if run.Name == "hourly" {
			w.resource(run)
		}
	}
	w.auditOutside(runs)
	for end := first; end <= last; end += (20 * time.Minute).Microseconds() {
		if end != 0 && windows[end] != 1 {
			w.fail("the window that ends at %v has %d runs", store.Moment{}.Time().Add(time.Duration(end)*time.Microsecond), windows[end])
		}
	}
}

// auditOutside looks whether each event that was acknowledged has led to one run, and
// whether each window of a backfill has one.
func (w *world) auditOutside(runs []store.Run) {
	ctx := context.Background()
	for id, number := range w.heard {
		answers, err := w.store.Answers(ctx, []int64{number})
		if err != nil {
			w.fail("%v", err)
		}
		made := 0
		for _, a := range answers {
			if a.State == store.AnswerRun {
				made++
			}
		}
		if want := map[bool]int{true: 1}[strings.HasPrefix(id, "high")]; made != want {
			w.fail("event %s has led to %d runs, and not to %d: %+v", id, made, want, answers)
		}
	}
	of := map[int64]int64{}
	for _, id := range w.filled {
		row, err := w.store.Backfill(ctx, id)
		if err != nil || !row.Ended.Valid {
			w.fail("backfill %d was acknowledged and has not ended: it is %s, %v", id, row.State, err)
		}
	}
	backfills, err := w.store.Backfills(ctx, 0, 1000)
	if err != nil {
		w.fail("%v", err)
	}
	for _, row := range backfills {
		windows, err := w.store.BackfillWindows(ctx, row.ID, "", 0, 100)
		if err != nil || len(windows) != row.Total {
			w.fail("backfill %d has %d windows of %d, %v", row.ID, len(windows), row.Total, err)
		}
		for _, window := range windows {
			if !window.Run.Valid || of[window.Run.Int64] != 0 {
				w.fail("the window of backfill %d that ends at %v has no run of its own: %+v", row.ID, window.WindowEnd.Time(), window)
			}
			of[window.Run.Int64] = row.ID
		}
	}
	for _, run := range runs {
		if run.Cause == "backfill" && of[run.ID] == 0 {
			w.fail("%s is of a backfill that does not know it", RunName(run.Name, run.Number))
		}
	}
}

// resource looks whether what was opened in a run was closed in it.
func (w *world) resource(run store.Run) {
	attempts, err := w.store.Attempts(context.Background(), run.ID)
	if err != nil {
		w.fail("%v", err)
	}
	opened, closed := false, false
	for _, a := range attempts {
		switch a.Task {
		case 4:
			opened = opened || a.State == "succeeded"
		case 5:
			closed = true
		}
	}
	if opened && !closed {
		w.fail("%s has opened its desk and not closed it", RunName(run.Name, run.Number))
	}
}

// simulate lives through one seed.
func simulate(t *testing.T, seed uint64, empty, dir string) (story []string) {
	synctest.Test(t, func(t *testing.T) {
		if err := os.CopyFS(dir, os.DirFS(empty)); err != nil { // it has its tables
			t.Fatal(err)
		}
		s, err := store.Open(context.Background(), dir)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		w := &world{t: t, seed: seed, r: rand.New(rand.NewPCG(seed, 1)), faults: rand.New(rand.NewPCG(seed, 0)), store: s, calm: true, hands: map[dispatch.AttemptID]*simulatedAttempt{}, over: map[dispatch.AttemptID]int{}, promised: map[string]int{}, heard: map[string]int64{}}
		w.begin()
		defer func() { w.kill() }()
		project, problems := definition.Load([]definition.File{{Path: "w.yaml", Text: simulated}})
		if problems != nil {
			t.Fatal(problems)
		}
		if _, _, err := w.engine.Apply(context.Background(), project, "", "kari", false); err != nil {
			t.Fatal(err)
		}
		if err := w.engine.SetCapacity(context.Background(), "line", lines); err != nil {
			t.Fatal(err)
		}
		w.calm = false
		for range 120 {
			w.step()
		}
		// From here on all goes well, nothing more comes due, and people release what is held.
		w.calm, w.closing = true, true
		w.tell("from here on all goes well")
		w.kill()
		w.begin()
		for tries := 0; w.busy() || len(w.open())+w.openBackfills()+len(w.unheard) > 0; tries++ {
			if tries > 20_000 && len(w.open()) == 0 {
				w.fail("%d backfills do not end", w.openBackfills())
			}
			if tries > 20_000 {
				run := w.open()[0]
				tasks, _ := w.store.Tasks(context.Background(), run.ID)
				w.fail("%s does not end: it is %s, its tasks %+v; %d orders stand, %d are executed, %d reports are under way", RunName(run.Name, run.Number), run.State, tasks, len(w.standing), len(w.hands), len(w.mail))
			}
			w.work()
			synctest.Wait()
			if !w.busy() {
				time.Sleep(30 * time.Second)
				synctest.Wait()
				for _, run := range w.open() {
					if run.Name == "asked" {
						w.low(run)
					}
				}
				late := w.unheard
				w.unheard = nil
				for _, e := range late {
					w.happen(e)
				}
			}
			synctest.Wait()
		}
		w.audit()
		story = w.story
	})
	return story
}

// emptyRecords is a data folder of a service that has not begun.
func emptyRecords(t *testing.T) string {
	dir := filepath.Join(t.TempDir(), "empty")
	s, err := store.Open(context.Background(), dir)
	if err == nil {
		err = s.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	return dir
}

func TestSimulation(t *testing.T) {
	if text := os.Getenv("LANTERN_SEED"); text != "" {
		seed, err := strconv.ParseUint(text, 10, 64)
		if err != nil {
			t.Fatal(err)
		}
		story := simulate(t, seed, emptyRecords(t), filepath.Join(t.TempDir(), "data"))
		t.Log(strings.Join(story, "\n"))
		sameAgain(t, seed, story, emptyRecords(t), filepath.Join(t.TempDir(), "data"))
		return
	}
	seeds := 300
	if n, err := strconv.Atoi(os.Getenv("LANTERN_SEEDS")); err == nil {
		seeds = n
	}
	base := t.TempDir()
	if _, err := os.Stat("/dev/shm"); err == nil { // the disk's speed is not what is looked at
		if base, err = os.MkdirTemp("/dev/shm", "lantern-simulation-"); err != nil {
			t.Fatal(err)
		}
		defer os.RemoveAll(base)
	}
	first, _ := strconv.Atoi(os.Getenv("LANTERN_FIRST_SEED"))
	began, empty := time.Now(), emptyRecords(t)
	var next, steps atomic.Int64
	lives := func(t *testing.T) { // seeds one after the other, until one fails
		for {
			n := int(next.Add(1)) - 1
			if n >= seeds {
				return
			}
			seed := uint64(first + n)
			dir := filepath.Join(base, strconv.FormatUint(seed, 10))
			story := simulate(t, seed, empty, dir)
			steps.Add(int64(len(story)))
			_ = os.RemoveAll(dir)
			if seed%replayed == 0 && !t.Failed() {
				sameAgain(t, seed, story, empty, dir)
				_ = os.RemoveAll(dir)
			}
			if t.Failed() {
				next.Store(int64(seeds)) // the others come to an end
				return
			}
		}
	}
	t.Run("beside each other", func(t *testing.T) {
		for i := range runtime.GOMAXPROCS(0) {
			t.Run(strconv.Itoa(i), func(t *testing.T) {
				t.Parallel()
				lives(t)
			})
		}
	})
	t.Logf("%d seeds, %d things that happened, in %v", seeds, steps.Load(), time.Since(began).Round(time.Millisecond))
}

// replayed says of how many seeds one is made again, to see that it can be.
const replayed = 25

// sameAgain looks whether a seed makes the same story again.
func sameAgain(t *testing.T, seed uint64, story []string, empty, dir string) {
	t.Helper()
	again := simulate(t, seed, empty, dir)
	for i := range max(len(story), len(again)) {
		if i >= len(story) || i >= len(again) || story[i] != again[i] {
			t.Fatalf("seed %d makes another story from line %d on:\n  %s\n\n  %s", seed, i, strings.Join(story[max(0, i-3):min(len(story), i+3)], "\n  "), strings.Join(again[max(0, i-3):min(len(again), i+3)], "\n  "))
		}
	}
}
