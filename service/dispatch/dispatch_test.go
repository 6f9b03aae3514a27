package dispatch_test

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/nats-io/nats.go"

	"wiselantern/service/broker"
	"wiselantern/service/dispatch"
)

// records are what an engine would record.
type records struct {
	mu     sync.Mutex
	ended  map[dispatch.AttemptID][]dispatch.Ended
	open   map[dispatch.AttemptID]bool
	by     map[dispatch.AttemptID]string
	again  func(dispatch.AttemptID)
	lost   func(dispatch.AttemptID)       // an attempt that was open is lost
	refuse int                            // so many reports cannot be recorded
	looked func(dispatch.AttemptID) error // whether it can be looked whether an attempt is open; nil always
}

func newRecords() *records {
	return &records{ended: map[dispatch.AttemptID][]dispatch.Ended{}, open: map[dispatch.AttemptID]bool{}, by: map[dispatch.AttemptID]string{}}
}

func (r *records) Started(_ context.Context, m dispatch.Started) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if _, ok := r.open[m.AttemptID]; ok {
		r.open[m.AttemptID], r.by[m.AttemptID] = true, m.Worker
	}
	return nil
}

func (r *records) Ended(_ context.Context, reports ...dispatch.Ended) error {
	r.mu.Lock()
	if r.refuse > 0 {
		r.refuse--
		r.mu.Unlock()
		return errors.New("the disk is full")
	}
	var lost []dispatch.AttemptID
	for _, m := range reports {
		if _, open := r.open[m.AttemptID]; open && m.Outcome == dispatch.Lost {
			lost = append(lost, m.AttemptID)
		}
		delete(r.open, m.AttemptID)
		delete(r.by, m.AttemptID)
		r.ended[m.AttemptID] = append(r.ended[m.AttemptID], m)
	}
	r.mu.Unlock()
	for _, id := range lost {
		if r.lost != nil {
			r.lost(id)
		}
	}
	return nil
}

func (r *records) Open(_ context.Context, ids []dispatch.AttemptID) (map[dispatch.AttemptID]bool, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := map[dispatch.AttemptID]bool{}
	for _, id := range ids {
		if r.looked != nil {
			if err := r.looked(id); err != nil {
				return nil, err
			}
		}
		if begun, ok := r.open[id]; ok {
			out[id] = begun
		}
	}
	return out, nil
}

func (r *records) Out(context.Context) ([]dispatch.AttemptID, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Collect(maps.Keys(r.open)), nil
}

func (r *records) Again(_ context.Context, id dispatch.AttemptID) error {
	r.again(id)
	return nil
}

func (r *records) Executed(context.Context) (map[dispatch.AttemptID]string, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := map[dispatch.AttemptID]string{}
	for id, begun := range r.open {
		if begun {
			out[id] = r.by[id]
		}
	}
	return out, nil
}

func (r *records) reports(id dispatch.AttemptID) []dispatch.Ended {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.ended[id])
}

// place is a message server with the service's end of it.
type place struct {
	*records
	t        *testing.T
	dir      string
	patience time.Duration
	outside  bool // the message server, as far as the office is told
	apart    bool // workers of other machines may be there
	ahead    time.Duration
	words    *slog.Logger  // of the office; nil for nobody
	every    time.Duration // between the hellos of workers; 0 is 300 ms
	server   *broker.Server
	office   *dispatch.Office
	stop     func()
}

// newPlace begins one whose records have attempts of a service before it.
func newPlace(t *testing.T, patience time.Duration, before ...dispatch.AttemptID) *place {
	p := &place{records: newRecords(), t: t, dir: t.TempDir(), patience: patience}
	for _, id := range before {
		p.open[id] = false
	}
	p.begin()
	t.Cleanup(func() { p.stop() })
	return p
}

func (p *place) begin() {
	p.t.Helper()
	var err error
	if p.server, err = broker.Start(broker.Options{Dir: filepath.Join(p.dir, "worker"), Streams: filepath.Join(p.dir, "messages"), Log: slog.New(slog.DiscardHandler)}); err != nil {
		p.t.Fatal(err)
	}
	nc, err := p.server.Connect()
	if err != nil {
		p.t.Fatal(err)
	}
	p.office, err = dispatch.Open(p.t.Context(), nc, dispatch.OfficeOptions{Recorder: p.records, Patience: p.patience, OnDisk: p.outside, Apart: p.apart, Now: func() time.Time { return time.Now().Add(p.ahead) }, Log: cmp.Or(p.words, slog.New(slog.DiscardHandler)),
		Parcel: func(name string, from int64) ([]byte, bool, error) {
			if name != "abc" {
				return nil, false, errors.New("there is no such parcel")
			}
			whole := make([]byte, dispatch.PieceSize+7)
			end := min(from+dispatch.PieceSize, int64(len(whole)))
			return whole[from:end], end == int64(len(whole)), nil
		}})
	if err != nil {
		p.t.Fatal(err)
	}
	p.stop = func() {
		p.office.Close()
		nc.Close()
		p.server.Close()
	}
}

// courier is a worker's end, from outside of the service's process, as far as the
// message server can tell.
func (p *place) courier(name string, queues ...string) (*dispatch.Courier, *nats.Conn) {
	p.t.Helper()
	return p.heir(name, name, dispatch.Estate{}, queues...)
}

// heir is one that follows others of its name.
func (p *place) heir(name, instance string, e dispatch.Estate, queues ...string) (*dispatch.Courier, *nats.Conn) {
	return p.heirWith(name, instance, e, nil, queues...)
}

// heirWith is one that says what the others have left.
func (p *place) heirWith(name, instance string, e dispatch.Estate, expect []dispatch.AttemptID, queues ...string) (*dispatch.Courier, *nats.Conn) {
	p.t.Helper()
	nc, err := broker.Enter(filepath.Join(p.dir, "worker"), nats.MaxReconnects(-1), nats.ReconnectWait(20*time.Millisecond))
	if err != nil {
		p.t.Fatal(err)
	}
	if queues == nil {
		queues = []string{dispatch.DefaultQueue}
	}
	c, err := dispatch.NewCourier(nc, dispatch.CourierOptions{Every: cmp.Or(p.every, 300*time.Millisecond), Words: slog.New(slog.DiscardHandler),
		Hello:  func() dispatch.Hello { return dispatch.Hello{Name: name, Instance: instance, Queues: queues, Slots: 2} },
		Estate: e, Expect: expect,
		Keep:   func(context.Context, dispatch.Log) error { return nil },
		Before: func(context.Context, dispatch.AttemptID) error { return nil }})
	if err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() {
		c.End()
		nc.Close()
	})
	return c, nc
}

func (p *place) send(o dispatch.Order) {
	p.mu.Lock()
	p.open[o.AttemptID] = false
	p.mu.Unlock()
	p.office.Send(o)
}

func anOrder(run int64) dispatch.Order {
	return dispatch.Order{AttemptID: dispatch.AttemptID{Run: run, Task: 2, Attempt: 1}, Kind: "exec", Exec: []string{"true"}}
}

func (p *place) take(c *dispatch.Courier) (dispatch.Order, <-chan struct{}) {
	p.t.Helper()
	ctx, stop := context.WithTimeout(p.t.Context(), 10*time.Second)
	defer stop()
	o, cancelled, err := c.Take(ctx)
	if err != nil {
		p.t.Fatal(err)
	}
	return o, cancelled
}

// executes has a worker execute so many orders, and tells how often each run was among them.
func (p *place) executes(c *dispatch.Courier, name string, many int, lasts time.Duration) map[int64]int {
	p.t.Helper()
	got := map[int64]int{}
	for range many {
		o, _ := p.take(c)
		got[o.Run]++
		report := took(o, lasts)
		report.Worker = name
		if err := c.Ended(p.t.Context(), report); err != nil {
			p.t.Fatal(err)
		}
	}
	return got
}

// tally counts how often runs were executed.
type tally struct {
	mu  sync.Mutex
	got map[int64]int
}

// works has a slot of a worker take orders until there are none for it, and do something with
// each.
func (n *tally) works(ctx context.Context, c *dispatch.Courier, do func(dispatch.Order)) {
	for {
		o, _, err := c.Take(ctx)
		if err != nil {
			return
		}
		n.mu.Lock()
		if n.got == nil {
			n.got = map[int64]int{}
		}
		n.got[o.Run]++
		n.mu.Unlock()
		do(o)
	}
}

// once looks whether so many orders were executed once each, but for some that were not.
func (p *place) once(got map[int64]int, first, many int64, but ...int64) {
	p.t.Helper()
	for run := first; run < first+many; run++ {
		if want := map[bool]int{false: 1}[slices.Contains(but, run)]; got[run] != want {
			p.t.Errorf("order %d was executed %d times", run, got[run])
		}
	}
}

// recorded waits until the ends of so many attempts are recorded.
func (p *place) recorded(many int) {
	p.t.Helper()
	p.until("all are recorded", func() bool {
		p.mu.Lock()
		defer p.mu.Unlock()
		return len(p.ended) == many
	})
}

// resends has orders that vanished be sent again, as an engine would.
func (p *place) resends() {
	p.again = func(id dispatch.AttemptID) {
		o := anOrder(1)
		o.AttemptID = id
		p.office.Send(o)
	}
}

func (p *place) until(what string, ok func() bool) {
	p.t.Helper()
	for deadline := time.Now().Add(15 * time.Second); !ok(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(deadline) {
			p.t.Fatal("it does not come so far: " + what)
		}
	}
}

func succeeded(o dispatch.Order, worker string) dispatch.Ended {
	return dispatch.Ended{AttemptID: o.AttemptID, Worker: worker, Started: time.Now(), At: time.Now(), Outcome: dispatch.Succeeded}
}

func TestOrdersGoOutOnceAndReportsAreToldOnceRecorded(t *testing.T) {
	p := newPlace(t, 0)
	const many = 200
	for n := range int64(many) {
		p.send(anOrder(n))
		p.office.Send(anOrder(n)) // again
	}
	a, _ := p.courier("a")
	b, _ := p.courier("b")
	p.refuse = 3
	var group sync.WaitGroup
	var taken tally
	ctx, stop := context.WithCancel(t.Context())
	for i, c := range []*dispatch.Courier{a, a, a, b, b, b} {
		group.Go(func() {
			taken.works(ctx, c, func(o dispatch.Order) {
				if err := c.Ended(t.Context(), succeeded(o, []string{"a", "b"}[i/3])); err != nil {
					t.Errorf("%v: %v", o.AttemptID, err)
				}
			})
		})
	}
	p.recorded(many)
	time.Sleep(50 * time.Millisecond)
	stop()
	a.Close()
	b.Close()
	group.Wait()
	p.once(taken.got, 0, many)
	for n := range int64(many) {
		if reports := p.reports(anOrder(n).AttemptID); len(reports) != 1 {
			t.Errorf("order %d was reported %d times", n, len(reports))
		}
	}
	if p.office.Knows(dispatch.AttemptID{Run: 1 << 40}) {
		t.Error("it knows an order that nobody sent")
	}
}

func TestACancelledOrderIsTakenBackOrItsWorkerTold(t *testing.T) {
	p := newPlace(t, 0)
	p.send(anOrder(1))
	p.send(anOrder(2))
	p.office.Cancel(anOrder(1).AttemptID)
	p.office.Cancel(anOrder(9).AttemptID) // nobody knows it
	c, _ := p.courier("a")
	o, cancelled := p.take(c)
	if o.Run == 1 { // it came before it was taken back, so it must be told
		select {
		case <-cancelled:
		case <-time.After(10 * time.Second):
			t.Fatal("it goes on with what was taken back")
		}
		o, cancelled = p.take(c)
	}
	select {
	case <-cancelled:
		t.Fatal("it is cancelled before anybody asked for it")
	default:
	}
	p.office.Cancel(o.AttemptID)
	p.office.Cancel(o.AttemptID)
	select {
	case <-cancelled:
	case <-time.After(10 * time.Second):
		t.Error("its worker was not told")
	}
}

// What a worker holds and nobody wants any more is ended with its next hello, also if
// it did not hear that it was cancelled.
func TestAWorkerHearsWhatIsNotWantedAnyMore(t *testing.T) {
	p := newPlace(t, 0)
	c, _ := p.courier("a")
	p.send(anOrder(1))
	o, cancelled := p.take(c)
	p.mu.Lock()
	delete(p.open, o.AttemptID)
	p.mu.Unlock()
	select {
	case <-cancelled:
	case <-time.After(10 * time.Second):
		t.Error("it goes on")
	}
}

// Orders of backfills go out when no other order waits, one for each slot that is
// free.
func TestOrdersThatLetOthersGoFirst(t *testing.T) {
	p := newPlace(t, 0)
	for n := range int64(5) {
		o := anOrder(n)
		o.Later = true
		p.send(o)
	}
	for n := range int64(5) {
		p.send(anOrder(100 + n))
	}
	c, _ := p.courier("a")
	var order []int64
	for range 10 {
		o, _ := p.take(c)
		order = append(order, o.Run)
		if err := c.Ended(t.Context(), succeeded(o, "a")); err != nil {
			t.Fatal(err)
		}
	}
	slices.Sort(order[:5]) // one that was fetched ahead and has gone back comes behind others of its kind
	slices.Sort(order[5:])
	if want := []int64{100, 101, 102, 103, 104, 0, 1, 2, 3, 4}; !slices.Equal(order, want) {
		t.Errorf("they went out as %v, not %v", order, want)
	}
}

func TestAQueueIsTakenFromByThoseWhoSaySo(t *testing.T) {
	p := newPlace(t, 0)
	plain, _ := p.courier("plain")
	deep, _ := p.courier("deep", "deep", "main")
	o := anOrder(1)
	o.Queue = "deep"
	got := make(chan string, 2)
	for name, c := range map[string]*dispatch.Courier{"plain": plain, "deep": deep} {
		go func() {
			if _, _, err := c.Take(t.Context()); err == nil {
				got <- name
			}
		}()
	}
	time.Sleep(100 * time.Millisecond)
	p.send(o)
	if name := <-got; name != "deep" {
		t.Errorf("%s took it", name)
	}
}

// A worker of two queues takes from both alike while both have work, and what it has no slot
// for stays where it is.
func TestAWorkerOfTwoQueues(t *testing.T) {
	p := newPlace(t, 0)
	nc, err := p.server.Connect()
	if err != nil {
		t.Fatal(err)
	}
	defer nc.Close()
	var back atomic.Int64
	if _, err := nc.Subscribe("lantern.back.*", func(*nats.Msg) { back.Add(1) }); err != nil {
		t.Fatal(err)
	}
	queues := []string{"deep", "main"}
	both, _ := p.courier("both", queues...)
	send := func(n int64, queue string) {
		o := anOrder(n)
		o.Queue = queue
		p.send(o)
	}
	for n := range int64(4) { // while it has nothing to do
		send(n, queues[n%2])
		o, _ := p.take(both)
		if o.Run != n {
			t.Fatalf("order %d came, and not %d", o.Run, n)
		}
		if err := both.Ended(t.Context(), took(o, time.Second)); err != nil {
			t.Fatal(err)
		}
	}
	time.Sleep(2 * time.Second) // what was asked for before is over
	for n := range int64(20) {
		send(100+n, queues[n%2])
	}
	time.Sleep(100 * time.Millisecond)
	taken := map[string]int{}
	for range 10 {
		o, _ := p.take(both)
		taken[o.Queue]++
		time.Sleep(70 * time.Millisecond) // it has no slot for another one so long
		if err := both.Ended(t.Context(), took(o, time.Second)); err != nil {
			t.Fatal(err)
		}
	}
	if taken["deep"] < 4 || taken["main"] < 4 || back.Load() > 1 {
		t.Errorf("it took %v, and %d times orders went back", taken, back.Load())
	}
}

// A worker that is gone: what it executed is reported as lost, both what it had told
// and what it had not; the order does not run a second time.
func TestAWorkerThatIsNotHeardLosesWhatItHad(t *testing.T) {
	p := newPlace(t, 1200*time.Millisecond)
	gone, conn := p.courier("gone")
	p.send(anOrder(1))
	p.send(anOrder(2))
	first, _ := p.take(gone)
	gone.Started(dispatch.Started{AttemptID: first.AttemptID, Worker: "gone", At: time.Now()})
	p.until("the start is recorded", func() bool {
		p.mu.Lock()
		defer p.mu.Unlock()
		return p.open[first.AttemptID]
	})
	second, _ := p.take(gone)
	conn.Close() // before it has told of the second

	other, _ := p.courier("other")
	go func() {
		if o, _, err := other.Take(t.Context()); err == nil {
			t.Errorf("%v runs a second time", o.AttemptID)
		}
	}()
	p.until("both are lost", func() bool { return len(p.reports(first.AttemptID)) > 0 && len(p.reports(second.AttemptID)) > 0 })
	for _, o := range []dispatch.Order{first, second} {
		if r := p.reports(o.AttemptID)[0]; r.Outcome != dispatch.Lost || r.Error == "" {
			t.Errorf("%v is reported as %+v", o.AttemptID, r)
		}
	}
}

// The service and its message server end and come again: a worker goes on with what it
// has, its report is recorded, and the next service knows what it holds.
func TestAWorkerOutlivesTheService(t *testing.T) {
	p := newPlace(t, 0)
	c, _ := p.courier("a")
	p.send(anOrder(1))
	p.send(anOrder(2))
	one, _ := p.take(c)
	two, _ := p.take(c)
	p.stop()
	told := make(chan error, 1)
	go func() {
		for {
			ctx, stop := context.WithTimeout(context.Background(), time.Second)
			err := c.Ended(ctx, succeeded(one, "a"))
			stop()
			if err == nil {
				told <- nil
				return
			}
		}
	}()
	time.Sleep(100 * time.Millisecond)
	p.begin()
	p.until("the next service knows what it holds", func() bool { return p.office.Knows(two.AttemptID) })
	if err := <-told; err != nil || len(p.reports(one.AttemptID)) == 0 {
		t.Errorf("%v, %v", err, p.reports(one.AttemptID))
	}
	p.send(anOrder(3))
	if o, _ := p.take(c); o.Run != 3 {
		t.Errorf("it took %v", o.AttemptID)
	}
	if err := c.Ended(t.Context(), succeeded(two, "a")); err != nil || len(p.reports(two.AttemptID)) != 1 {
		t.Errorf("%v, %v", err, p.reports(two.AttemptID))
	}
}

// A service that has just begun waits for what its workers have: they say it soon, though their
// first word comes before it is there.
func TestAWorkerIsHeardSoonByTheNextService(t *testing.T) {
	p := newPlace(t, 0)
	p.every = time.Hour
	p.courier("a")
	p.until("it is heard", func() bool { return len(p.office.Workers()) == 1 })
	p.stop()
	time.Sleep(100 * time.Millisecond)
	p.begin()
	began := time.Now()
	p.until("it is heard again", func() bool { return len(p.office.Workers()) == 1 })
	if took := time.Since(began); took > dispatch.HelloEvery {
		t.Errorf("that took %v", took)
	}
}

func TestAWorkerIsDrainedAndTakesWorkAgain(t *testing.T) {
	p := newPlace(t, 0)
	c, _ := p.courier("a")
	<-c.Welcome()
	if err := p.office.Drain("b", true); err == nil {
		t.Error("a worker is drained that is not there")
	}
	if err := p.office.Drain("a", true); err != nil {
		t.Fatal(err)
	}
	for range 2 { // with the second hello, it has heard the answer to the first
		before := p.office.Workers()[0].Heard
		p.until("it says hello", func() bool { return p.office.Workers()[0].Heard.After(before) })
	}
	p.send(anOrder(1))
	ctx, stop := context.WithTimeout(t.Context(), 400*time.Millisecond)
	defer stop()
	got := make(chan dispatch.Order, 1)
	go func() {
		o, _, err := c.Take(context.Background())
		if err == nil {
			got <- o
		}
	}()
	select {
	case o := <-got:
		t.Fatalf("it took %v while it drains", o.AttemptID)
	case <-ctx.Done():
	}
	if err := p.office.Drain("a", false); err != nil {
		t.Fatal(err)
	}
	if o := <-got; o.Run != 1 {
		t.Errorf("it took %v", o.AttemptID)
	}
}

func TestAParcelComesInPieces(t *testing.T) {
	p := newPlace(t, 0)
	c, _ := p.courier("a")
	archive, err := c.Fetch(t.Context(), "abc")
	if err != nil {
		t.Fatal(err)
	}
	var n int
	for block := make([]byte, 1<<16); ; {
		k, err := archive.Read(block)
		n += k
		if err != nil {
			break
		}
	}
	if n != dispatch.PieceSize+7 {
		t.Errorf("%d bytes came", n)
	}
	if _, err := c.Fetch(t.Context(), "def"); err == nil || err.Error() != "there is no such parcel" {
		t.Errorf("%v", err)
	}
}

// With an outside message server, which may give an order to two workers after one of its
// servers has failed, a worker asks before it begins, and one of two may.
func TestOneOfTwoWorkersMayBegin(t *testing.T) {
	p := &place{records: newRecords(), t: t, dir: t.TempDir(), outside: true}
	p.open[anOrder(1).AttemptID] = false // of a service before this one
	p.begin()
	t.Cleanup(func() { p.stop() })
	nc, err := p.server.Connect()
	if err != nil {
		t.Fatal(err)
	}
	defer nc.Close()
	ask := func(id dispatch.AttemptID, instance string) string {
		t.Helper()
		request := nats.NewMsg("lantern.claim." + instance)
		request.Header.Set("attempt", id.String())
		request.Header.Set("instance", instance)
		answer, err := nc.RequestMsg(request, 5*time.Second)
		if err != nil {
			t.Fatal(err)
		}
		return string(answer.Data)
	}
	p.mu.Lock()
	p.open[anOrder(4).AttemptID] = false
	p.mu.Unlock()
	for run, want := range map[int64]string{1: "wait", 4: "yes"} { // nobody can have the other one of before
		if got := ask(anOrder(run).AttemptID, "a"); got != want {
			t.Errorf("before all workers had the time to say what they have: %d: %s, not %s", run, got, want)
		}
	}
	p.ahead = dispatch.HelloEvery + time.Second
	for _, one := range []struct {
		instance string
		run      int64
		want     string
	}{{"a", 1, "yes"}, {"b", 1, "no"}, {"a", 1, "yes"}, {"a", 2, "no"}} { // the second is not open
		if got := ask(anOrder(one.run).AttemptID, one.instance); got != one.want {
			t.Errorf("%s asks to begin %d: %s, not %s", one.instance, one.run, got, one.want)
		}
	}
	// What a worker has executed, and whose report nobody has recorded, no other begins.
	told := anOrder(5).AttemptID
	p.mu.Lock()
	p.open[told] = false
	p.mu.Unlock()
	text, err := json.Marshal(dispatch.Hello{Name: "e", Instance: "e", Queues: []string{dispatch.DefaultQueue}, Slots: 1, Told: []dispatch.AttemptID{told}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := nc.Request("lantern.hello.e", text, 5*time.Second); err != nil {
		t.Fatal(err)
	}
	if got := ask(told, "d"); got != "no" {
		t.Errorf("another may begin what e has told of: %s", got)
	}
	// A worker that comes by an order asks by itself, and says how it ended.
	c, _ := p.courier("c")
	p.send(anOrder(3))
	o, _ := p.take(c)
	if got := ask(o.AttemptID, "d"); got != "no" {
		t.Errorf("another may begin what c has: %s", got)
	}
	if err := c.Ended(t.Context(), succeeded(o, "c")); err != nil {
		t.Error(err)
	}
	if got := ask(o.AttemptID, "d"); got != "no" {
		t.Errorf("another may begin what has ended: %s", got)
	}
}

// A worker whose machine cannot begin orders takes none for a while, and says why.
func TestAWorkerRests(t *testing.T) {
	p := newPlace(t, 0)
	c, _ := p.courier("a")
	<-c.Welcome()
	c.Rest("too many processes")
	p.until("it says why", func() bool {
		w := p.office.Workers()
		return len(w) == 1 && slices.Contains(w[0].Faults, "too many processes")
	})
	p.send(anOrder(1))
	got := make(chan error, 1)
	go func() {
		_, _, err := c.Take(context.Background())
		got <- err
	}()
	select {
	case err := <-got:
		t.Errorf("it took an order: %v", err)
	case <-time.After(600 * time.Millisecond):
	}
	c.Close()
	if err := <-got; !errors.Is(err, dispatch.ErrClosed) {
		t.Errorf("%v", err)
	}
}

// What a worker says is taken as its own, whatever name it writes.
func TestAWorkerSpeaksForItselfAlone(t *testing.T) {
	p := newPlace(t, 0)
	c, _ := p.courier("a")
	p.send(anOrder(1))
	o, _ := p.take(c)
	if err := c.Ended(t.Context(), succeeded(o, "b")); err != nil {
		t.Fatal(err)
	}
	if r := p.reports(o.AttemptID); len(r) != 1 || r[0].Worker != "a" {
		t.Errorf("%+v", r)
	}
}

// An order of before that lets others go first goes out when a slot is free for it, which may be
// long after all workers have spoken: it is asked for all the same, as another may have begun it.
func TestALateOrderOfBeforeIsAskedFor(t *testing.T) {
	p := newPlace(t, 0, anOrder(1).AttemptID)
	p.stop()
	p.apart = true
	p.begin()
	p.ahead = dispatch.HelloEvery + time.Second // all have spoken
	a, nc := p.courier("a")
	request := nats.NewMsg("lantern.claim.b")
	request.Header.Set("attempt", anOrder(1).AttemptID.String())
	request.Header.Set("instance", "b")
	if answer, err := nc.RequestMsg(request, 5*time.Second); err != nil || string(answer.Data) != "yes" {
		t.Fatalf("b may not begin it: %v %v", answer, err)
	}
	o := anOrder(1)
	o.Later = true
	p.send(o)
	ctx, stop := context.WithTimeout(t.Context(), 2*time.Second)
	defer stop()
	if _, _, err := a.Take(ctx); err == nil {
		t.Error("a begins what b may")
	}
	if alone, _ := p.messages(p.stream()); len(alone) != 1 {
		t.Errorf("out are %v", alone)
	}
}

// The guide lists the rights that a worker needs on servers of one's own.
func TestTheGuideHasTheRightsOfAWorker(t *testing.T) {
	text, err := os.ReadFile("../../docs/guide/workers.md")
	if err != nil {
		t.Fatal(err)
	}
	told := map[string]bool{}
	for _, subject := range regexp.MustCompile("`((?:lantern\\.|\\$JS|_INBOX)[^`]+)`").FindAllStringSubmatch(string(text), -1) {
		told[subject[1]] = true
	}
	says, hears := dispatch.Speech("NAME")
	for _, subject := range slices.Concat(says, hears) {
		if !told[subject] {
			t.Errorf("the guide does not tell of %s", subject)
		}
		delete(told, subject)
	}
	for subject := range told {
		if !strings.HasSuffix(subject, ".yaml") {
			t.Errorf("the guide tells of %s, and no worker needs it", subject)
		}
	}
}

func TestNames(t *testing.T) {
	for text, want := range map[string]string{"gauge.example": "gauge-example", "  ": "local", "a_b": "a-b", "field-1": "field-1"} {
		if got := dispatch.NameOf(text); got != want || dispatch.CheckName(got) != nil {
			t.Errorf("%q became %q", text, got)
		}
	}
	for _, bad := range []string{"", "a.b", "a b", "*", "-a", fmt.Sprintf("%064d", 1)} {
		if dispatch.CheckName(bad) == nil {
			t.Errorf("%q is a name", bad)
		}
	}
}
