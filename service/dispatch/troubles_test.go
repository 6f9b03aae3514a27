package dispatch_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/nats-io/nats.go"

	"wiselantern/service/dispatch"
)

// The real ends of the conversation with a real message server, while workers are killed and
// followed, drained and taken away, orders are cancelled, records cannot be read or written for
// a moment and the service begins anew, at moments drawn from a seed. In every other seed the
// message server is taken for an outside one, which forgets, as a cluster that loses a server
// can, to whom it has delivered orders, or loses one altogether. LANTERN_SEEDS says how many seeds, from LANTERN_FIRST_SEED on.
// What is drawn is the same again; how the threads of the machine come along is not.

// hand is a worker with two slots. It knows what its journal would.
type hand struct {
	name, instance string
	queues         []string
	courier        *dispatch.Courier
	conn           *nats.Conn
	life           context.Context // done when it is killed
	end            context.CancelFunc

	mu    sync.Mutex
	begun map[dispatch.AttemptID]*dispatch.Ended // its report; nil for one that is executed
	of    []string                               // its instance, and those before it
}

// trouble is a life of a service with its workers.
type trouble struct {
	*place
	seed    uint64
	r       *rand.Rand
	now     atomic.Pointer[dispatch.Office]
	group   sync.WaitGroup
	hands   []*hand
	number  int // of workers so far
	orders  map[int64]dispatch.Order
	lasts   map[int64]time.Duration
	guard   sync.Mutex
	begun   map[dispatch.AttemptID][]string // by which instances
	gone    map[string]bool                 // instances whose machine is gone
	lives   int                             // of the service
	blind   atomic.Bool                     // every other look into the records fails
	stopped map[int64]bool                  // runs that were cancelled
	story   []string
	began   time.Time
}

// tell notes what happens.
func (w *trouble) tell(format string, args ...any) {
	w.guard.Lock()
	defer w.guard.Unlock()
	w.story = append(w.story, fmt.Sprintf("%6.3f  ", time.Since(w.began).Seconds())+fmt.Sprintf(format, args...))
}

// Write notes what the service says.
func (w *trouble) Write(line []byte) (int, error) {
	_, text, _ := strings.Cut(strings.TrimSpace(string(line)), " ")
	w.tell("%s", strings.ReplaceAll(text, "attempt=", "attempt= "))
	return len(line), nil
}

// wrong tells what is wrong with an attempt, and its story. It is for who has the guard.
func (w *trouble) wrong(id dispatch.AttemptID, what string) {
	w.t.Helper()
	text := fmt.Sprintf("seed %d: attempt %v %s", w.seed, id, what)
	for _, line := range w.story {
		if strings.Contains(line, " "+id.String()+" ") || strings.Contains(line, "! ") {
			text += "\n  " + line
		}
	}
	w.t.Error(text)
}

// order sends an order of a run, and is called for the first attempt and for those after one
// that is lost.
func (w *trouble) order(run int64, attempt int) {
	w.guard.Lock()
	o, over := w.orders[run], w.stopped[run]
	w.guard.Unlock()
	if over {
		return
	}
	o.Attempt = attempt
	w.tell("order %v is sent", o.AttemptID)
	w.mu.Lock()
	w.open[o.AttemptID] = false
	w.mu.Unlock()
	w.now.Load().Send(o)
}

// works has a new worker begin, which follows another if there is one.
func (w *trouble) works(name string, before *hand, queues ...string) {
	w.number++
	h := &hand{name: name, instance: fmt.Sprintf("%s-%d", name, w.number), queues: queues, begun: map[dispatch.AttemptID]*dispatch.Ended{}}
	h.life, h.end = context.WithCancel(w.t.Context())
	h.of = []string{h.instance}
	var estate dispatch.Estate
	if before != nil {
		before.mu.Lock()
		for id, report := range before.begun {
			if report == nil {
				report = &dispatch.Ended{AttemptID: id, Worker: name, At: time.Now(), Outcome: dispatch.Lost, Error: "killed"}
			}
			h.begun[id] = report
			estate.Begun = append(estate.Begun, id)
		}
		estate.Of = before.of
		h.of = append(h.of, before.of...)
		before.mu.Unlock()
	}
	h.courier, h.conn = w.heirWith(name, h.instance, estate, estate.Begun, queues...)
	for _, report := range h.begun {
		w.group.Go(func() { w.reports(h, *report) })
	}
	w.tell("! worker %s begins, after %v", h.instance, estate.Of)
	for range 2 {
		w.group.Go(func() {
			for w.executes(h) {
			}
		})
	}
	w.hands = append(w.hands, h)
}

// executes has a slot of a worker execute one order; it is false when the worker is gone.
func (w *trouble) executes(h *hand) bool {
	o, cancelled, err := h.courier.Take(h.life)
	if err != nil {
		return false
	}
	h.mu.Lock()
	if h.life.Err() != nil { // it was killed with the order on its shelf
		h.mu.Unlock()
		return false
	}
	h.begun[o.AttemptID] = nil
	h.mu.Unlock()
	w.tell("order %v is begun by %s", o.AttemptID, h.instance)
	w.guard.Lock()
	w.begun[o.AttemptID] = append(w.begun[o.AttemptID], h.instance)
	lasts := w.lasts[o.Run]
	w.guard.Unlock()
	report := dispatch.Ended{AttemptID: o.AttemptID, Worker: h.name, Started: time.Now(), Outcome: dispatch.Succeeded}
	if lasts > 20*time.Millisecond {
		h.courier.Started(dispatch.Started{AttemptID: o.AttemptID, Worker: h.name, At: report.Started})
	}
	select {
	case <-time.After(lasts):
	case <-cancelled:
		report.Outcome = dispatch.Stopped
	case <-h.life.Done():
		return false
	}
	report.At = time.Now()
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.life.Err() != nil {
		return false
	}
	w.tell("order %v ends at %s: %s", o.AttemptID, h.instance, report.Outcome)
	h.begun[o.AttemptID] = &report
	w.group.Go(func() { w.reports(h, report) })
	return true
}

// reports says a report until it is recorded, or the worker is gone.
func (w *trouble) reports(h *hand, report dispatch.Ended) {
	for h.life.Err() == nil {
		if h.courier.Ended(h.life, report) == nil {
			h.mu.Lock()
			defer h.mu.Unlock()
			delete(h.begun, report.AttemptID)
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// kill ends a worker as SIGKILL would.
func (w *trouble) kill(i int) *hand {
	h := w.hands[i]
	w.hands = append(w.hands[:i:i], w.hands[i+1:]...)
	h.mu.Lock()
	h.end()
	h.mu.Unlock()
	w.tell("! worker %s is killed", h.instance)
	h.conn.Close()
	return h
}

// anew ends the service and its message server, and begins the next one, which sends what
// no worker says that it has.
func (w *trouble) anew() {
	w.tell("! the service ends")
	w.stop()
	w.begin()
	w.lives++
	w.tell("! the service begins")
	w.now.Store(w.office)
	w.until("all workers have said hello", func() bool {
		heard := map[string]bool{}
		for _, one := range w.office.Workers() {
			heard[one.Instance] = true
		}
		for _, h := range w.hands {
			if !heard[h.instance] {
				return false
			}
		}
		return true
	})
	w.mu.Lock()
	open := map[dispatch.AttemptID]bool{}
	for id, begun := range w.open {
		open[id] = begun
	}
	w.mu.Unlock()
	for id, begun := range open {
		if begun || w.office.Knows(id) { // of one that has begun it is known in a while
			continue
		}
		w.order(id.Run, id.Attempt)
	}
}

// forgets has the message server deliver all orders of a queue again, as for the first time.
func (w *trouble) forgets(queue string) {
	stream := w.stream()
	c, err := stream.Consumer(w.t.Context(), queue)
	if err != nil {
		return // it is not there yet
	}
	w.tell("! the message server forgets who has what of %s", queue)
	config := c.CachedInfo().Config
	if err := stream.DeleteConsumer(w.t.Context(), queue); err != nil {
		w.t.Error(err)
	}
	if _, err := stream.CreateConsumer(w.t.Context(), config); err != nil {
		w.t.Error(err)
	}
}

// loses has the message server lose an order.
func (w *trouble) loses() {
	stream := w.stream()
	info, err := stream.Info(w.t.Context())
	if err != nil || info.State.Msgs == 0 {
		return
	}
	for n := info.State.FirstSeq + w.r.Uint64N(info.State.LastSeq-info.State.FirstSeq+1); n <= info.State.LastSeq; n++ {
		if m, err := stream.GetMsg(w.t.Context(), n); err == nil {
			w.tell("! %s is lost by the message server", m.Subject)
			_ = stream.DeleteMsg(w.t.Context(), n) // or it is done just now
			return
		}
	}
}

// happens does one thing, whatever it may be.
func (w *trouble) happens() {
	switch what := w.r.IntN(40); {
	case what < 3 && len(w.hands) > 0: // a worker is killed, and followed
		h := w.kill(w.r.IntN(len(w.hands)))
		w.works(h.name, h, h.queues...)
	case what == 3 && len(w.hands) > 0: // a machine is gone, and there is another
		h := w.kill(w.r.IntN(len(w.hands)))
		w.guard.Lock()
		for _, instance := range h.of { // and their journal
			w.gone[instance] = true
		}
		w.guard.Unlock()
		w.works(fmt.Sprintf("w%d", w.number), nil, [][]string{{"main"}, {"main", "deep"}, {"deep", "main"}}[w.r.IntN(3)]...)
	case what == 4 && len(w.hands) > 0:
		name, on := w.hands[w.r.IntN(len(w.hands))].name, w.r.IntN(2) == 0
		w.tell("! worker %s is drained: %v", name, on)
		_ = w.office.Drain(name, on)
	case what == 5 && w.r.IntN(3) == 0:
		w.anew()
	case what == 6: // records can hardly be read for a while
		w.tell("! records cannot be read")
		w.blind.Store(true)
		time.AfterFunc(time.Duration(100+w.r.IntN(900))*time.Millisecond, func() { w.blind.Store(false) })
	case what == 7:
		w.tell("! a report cannot be recorded")
		w.mu.Lock()
		w.refuse++
		w.mu.Unlock()
	case what == 8 && w.outside:
		w.forgets([]string{"main", "deep"}[w.r.IntN(2)])
	case what == 9 && w.outside:
		w.loses()
	case what < 14: // some are cancelled
		w.mu.Lock()
		var some []dispatch.AttemptID
		for id := range w.open {
			if len(some) < 3 {
				some = append(some, id)
			}
		}
		for _, id := range some {
			delete(w.open, id)
		}
		w.mu.Unlock()
		for _, id := range some {
			w.guard.Lock()
			w.stopped[id.Run] = true
			w.guard.Unlock()
			w.tell("order %v is cancelled", id)
			w.office.Cancel(id)
		}
	default: // some are to be executed
		most := []int{3, 20, 60}[w.r.IntN(3)]
		long := w.r.IntN(4) == 0
		for range 1 + w.r.IntN(most) {
			run := int64(len(w.lasts) + 1)
			o := anOrder(run)
			o.Queue = []string{"main", "main", "deep"}[w.r.IntN(3)]
			o.Later = w.r.IntN(10) == 0
			lasts := time.Duration(w.r.IntN(2000)) * time.Microsecond
			if long && w.r.IntN(4) == 0 {
				lasts = time.Duration(40+w.r.IntN(120)) * time.Millisecond
			}
			w.guard.Lock()
			w.orders[run], w.lasts[run] = o, lasts
			w.guard.Unlock()
			w.order(run, 1)
		}
	}
	time.Sleep(time.Duration(w.r.IntN(40)) * time.Millisecond)
}

// lives lives through one seed.
func lives(t *testing.T, seed uint64) {
	w := &trouble{seed: seed, began: time.Now(), place: newPlace(t, 8*time.Second), r: rand.New(rand.NewPCG(seed, 3)), orders: map[int64]dispatch.Order{}, lasts: map[int64]time.Duration{}, begun: map[dispatch.AttemptID][]string{}, gone: map[string]bool{}, stopped: map[int64]bool{}}
	w.apart = true
	w.words = slog.New(slog.NewTextHandler(w, &slog.HandlerOptions{Level: slog.LevelDebug}))
	w.stop()
	w.outside = seed%2 == 0
	w.begin()
	w.now.Store(w.office)
	looks := 0
	w.looked = func(dispatch.AttemptID) error {
		if looks++; looks%2 == 0 && w.blind.Load() {
			return errors.New("the disk does not answer")
		}
		return nil
	}
	w.records.again = func(id dispatch.AttemptID) {
		if w.outside {
			w.tell("order %v has vanished", id)
		} else {
			w.guard.Lock()
			w.wrong(id, "had vanished")
			w.guard.Unlock()
		}
		w.order(id.Run, id.Attempt)
	}
	w.records.lost = func(id dispatch.AttemptID) {
		w.tell("order %v is lost", id)
		w.order(id.Run, id.Attempt+1)
	}
	w.works("a", nil, "main")
	w.works("b", nil, "main", "deep")
	w.works("c", nil, "deep", "main")
	for range 120 {
		w.happens()
	}
	for _, h := range w.hands {
		_ = w.office.Drain(h.name, false)
	}
	w.works("last", nil, "main", "deep")
	fewest, moved := -1, time.Now()
	for fewest != 0 {
		w.mu.Lock()
		open := len(w.open)
		w.mu.Unlock()
		if fewest < 0 || open < fewest {
			fewest, moved = open, time.Now()
		}
		if time.Since(moved) > 30*time.Second {
			w.mu.Lock()
			var first dispatch.AttemptID
			for id := range w.open {
				first = id
			}
			w.mu.Unlock()
			w.guard.Lock()
			w.wrong(first, fmt.Sprintf("and %d others do not end", open-1))
			w.guard.Unlock()
			t.FailNow()
		}
		time.Sleep(20 * time.Millisecond)
	}
	w.judge()
	stream := w.place.stream()
	w.empty(stream)
	for len(w.hands) > 0 {
		w.kill(0)
	}
	w.group.Wait()
}

// judge looks whether each order was executed as it should be.
func (w *trouble) judge() {
	w.guard.Lock()
	defer w.guard.Unlock()
	w.mu.Lock()
	defer w.mu.Unlock()
	for id, by := range w.begun {
		for i, instance := range by {
			// What a machine had begun that is gone, and neither it nor the service has lived to
			// say so, the next service cannot know.
			if i < len(by)-1 && (!w.gone[instance] || w.lives == 0) {
				w.wrong(id, fmt.Sprintf("was executed by %v", by))
				break
			}
		}
	}
	done := map[int64]bool{}
	for id, reports := range w.ended {
		if reports[0].Outcome == dispatch.Succeeded {
			done[id.Run] = true
			if len(w.begun[id]) == 0 {
				w.wrong(id, "has succeeded, and nobody has executed it")
			}
		}
	}
	for run := range w.orders {
		if !done[run] && !w.stopped[run] {
			w.t.Errorf("seed %d: run %d has not succeeded", w.seed, run)
		}
	}
}

func TestTroublesBetweenServiceAndWorkers(t *testing.T) {
	seeds, first := 2, 1
	if n, err := strconv.Atoi(os.Getenv("LANTERN_SEEDS")); err == nil {
		seeds = n
	}
	if n, err := strconv.Atoi(os.Getenv("LANTERN_FIRST_SEED")); err == nil {
		first = n
	}
	for n := range seeds {
		t.Run(strconv.Itoa(first+n), func(t *testing.T) {
			t.Parallel()
			lives(t, uint64(first+n))
		})
	}
}

// next ends the service and begins the next, and waits until a worker has said hello to that.
func (p *place) next(instance string) {
	p.t.Helper()
	p.stop()
	p.begin()
	p.until("it has said hello", func() bool {
		return slices.ContainsFunc(p.office.Workers(), func(w dispatch.Worker) bool { return w.Instance == instance })
	})
}

// What a worker has of a service before is lost with it, whether or not it has begun.
func TestWhatAWorkerTookOverIsLostWithIt(t *testing.T) {
	p := newPlace(t, 1200*time.Millisecond)
	a, connection := p.courier("a")
	p.send(anOrder(1))
	o, _ := p.take(a)
	p.next("a")
	if !p.office.Knows(o.AttemptID) {
		t.Fatal("the next service does not know what the worker has")
	}
	connection.Close()
	p.until("it is lost", func() bool { return len(p.reports(o.AttemptID)) > 0 })
	if r := p.reports(o.AttemptID)[0]; r.Outcome != dispatch.Lost || r.Worker != "a" {
		t.Errorf("it is reported as %+v", r)
	}
}

// An order of a service before has the place in its stream that another has in the next one's:
// when it is done, that one still stands.
func TestAnOrderIsNotTakenForOneOfBefore(t *testing.T) {
	p := newPlace(t, 0)
	a, _ := p.courier("a")
	p.send(anOrder(1))
	first, _ := p.take(a)
	p.next("a")
	p.send(anOrder(2))
	b, _ := p.courier("b")
	second, _ := p.take(b)
	if err := a.Ended(t.Context(), succeeded(first, "a")); err != nil {
		t.Fatal(err)
	}
	stream := p.stream()
	time.Sleep(200 * time.Millisecond)
	if alone, _ := p.messages(stream); len(alone) != 1 {
		t.Errorf("there are %v, and %v is executed", alone, second.AttemptID)
	}
	if err := b.Ended(t.Context(), succeeded(second, "b")); err != nil {
		t.Fatal(err)
	}
	p.empty(stream)
}
