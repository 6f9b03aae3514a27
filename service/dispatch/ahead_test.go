package dispatch_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"wiselantern/service/dispatch"
)

// took is a report of an attempt that took that long.
func took(o dispatch.Order, d time.Duration) dispatch.Ended {
	m := succeeded(o, "a")
	m.Started = m.At.Add(-d)
	return m
}

// nothingFor looks whether a worker is given an order that nobody should have.
func nothingFor(t *testing.T, c *dispatch.Courier) {
	t.Helper()
	got := make(chan dispatch.Order, 1)
	go func() {
		if o, _, err := c.Take(t.Context()); err == nil {
			got <- o
		}
	}()
	select {
	case o := <-got:
		t.Errorf("%v is given out again", o.AttemptID)
	case <-time.After(300 * time.Millisecond):
	}
}

// A worker whose attempts are short fetches orders ahead of its slots; when those take
// long after all, the orders go back and another worker executes them, once.
func TestOrdersFetchedAheadGoBack(t *testing.T) {
	p := newPlace(t, 0)
	p.ahead = 10 * time.Second // workers have told what they have of before
	a, _ := p.courier("a")
	p.short(a, 0)
	for n := range int64(9) {
		p.send(anOrder(100 + n))
	}
	var long []dispatch.Order // two slots have these
	for range 2 {
		o, _ := p.take(a)
		long = append(long, o)
	}
	p.until("orders are fetched ahead", func() bool { executed, _ := a.Hands(); return executed > 3 })
	p.mu.Lock()
	delete(p.open, anOrder(108).AttemptID)
	p.mu.Unlock()
	p.office.Cancel(anOrder(108).AttemptID)
	b, _ := p.courier("b")
	var got []int64
	for range 6 {
		o, _ := p.take(b)
		got = append(got, o.Run)
		if err := b.Ended(t.Context(), took(o, time.Second)); err != nil {
			t.Fatal(err)
		}
	}
	for _, o := range long {
		got = append(got, o.Run)
		if err := a.Ended(t.Context(), took(o, time.Second)); err != nil {
			t.Fatal(err)
		}
	}
	slices.Sort(got)
	if want := []int64{100, 101, 102, 103, 104, 105, 106, 107}; !slices.Equal(got, want) {
		t.Errorf("executed were %v, not %v", got, want)
	}
	nothingFor(t, b)
}

// An order that has gone back from one worker goes back from the next one too, though the
// first one's last hello tells that it has it.
func TestAnOrderGoesBackFromOneWorkerAndFromTheNext(t *testing.T) {
	p := newPlace(t, 0)
	var workers []*dispatch.Courier
	for i, name := range []string{"a", "b"} {
		c, _ := p.courier(name)
		workers = append(workers, c)
		p.short(c, 10*int64(i))
	}
	for n := range int64(40) {
		p.send(anOrder(100 + n))
	}
	time.Sleep(time.Second) // nobody takes them, and they go back and forth, while both say hello
	got := map[int64]int{}
	for n := range 40 {
		o, _ := p.take(workers[n%2])
		got[o.Run]++
		if err := workers[n%2].Ended(t.Context(), took(o, time.Second)); err != nil {
			t.Fatal(err)
		}
	}
	p.once(got, 100, 40)
}

// A worker whose attempts were short and take long now gives back once what it has fetched
// ahead, and does not fetch it again and again.
func TestAWorkerThatTakesLongerDoesNotFetchAhead(t *testing.T) {
	p := newPlace(t, 0)
	c, nc := p.courier("a")
	var back atomic.Int64
	if _, err := nc.Subscribe("lantern.back.*", func(*nats.Msg) { back.Add(1) }); err != nil {
		t.Fatal(err)
	}
	p.short(c, 0)
	for n := range int64(9) {
		p.send(anOrder(100 + n))
	}
	p.take(c) // and another slot
	p.take(c)
	p.until("orders go back", func() bool { return back.Load() > 0 })
	time.Sleep(time.Second)
	if n := back.Load(); n > 8 { // what had been asked for may still come
		t.Errorf("orders went back %d times in a second", n)
	}
}

// An order that goes back twice, since the answer was lost, is put back once; one that is
// not wanted any more is not put back.
func TestAnOrderGoesBackOnce(t *testing.T) {
	p := newPlace(t, 0)
	p.ahead = 10 * time.Second
	a, nc := p.courier("a")
	p.send(anOrder(1))
	o, _ := p.take(a)
	js, err := jetstream.New(nc)
	if err != nil {
		t.Fatal(err)
	}
	orders, err := js.Stream(t.Context(), "LANTERN-ORDERS")
	if err != nil {
		t.Fatal(err)
	}
	message, err := orders.GetMsg(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	back := func(sent time.Time) {
		t.Helper()
		order, err := json.Marshal(o)
		if err != nil {
			t.Fatal(err)
		}
		m := nats.NewMsg("lantern.back.a")
		m.Header.Set("instance", "a")
		m.Data = fmt.Appendf(nil, `[{"order": %s, "sequence": 1, "sent": %q}]`, order, sent.Format(time.RFC3339Nano))
		if _, err := nc.RequestMsg(m, 5*time.Second); err != nil {
			t.Fatal(err)
		}
	}
	b, _ := p.courier("b")
	back(message.Time.Add(time.Nanosecond)) // of a stream of before
	if _, err := orders.GetMsg(t.Context(), 1); err != nil {
		t.Errorf("another message was put back: %v", err)
	}
	back(message.Time)
	again, _ := p.take(b)
	back(message.Time)
	p.until("b says that it has it", func() bool {
		return slices.ContainsFunc(p.office.Workers(), func(w dispatch.Worker) bool { return w.Name == "b" && len(w.Holds) == 1 })
	})
	back(message.Time)
	if err := b.Ended(t.Context(), took(again, time.Second)); err != nil {
		t.Fatal(err)
	}
	back(message.Time) // it is over
	nothingFor(t, b)
	if got := p.reports(o.AttemptID); len(got) != 1 {
		t.Errorf("%d reports", len(got))
	}
}

// Orders go back, some of them before the service cannot look into its records for a while, so
// that their worker hears nothing. Another takes those and begins them; then the first asks
// again. It is told that some went back, and of others, whose messages are gone, that they
// cannot: it does not begin either.
func TestWhatWentBackIsNotBegunWhenItsAnswerWasLost(t *testing.T) {
	p := newPlace(t, 0)
	p.stop()
	p.outside = true
	p.begin()
	a, _ := p.courier("a")
	p.short(a, 0)
	const many = 60
	var failed atomic.Int64
	var fails atomic.Bool
	fails.Store(true)
	claimed, goes := map[int64]bool{}, map[int64]bool{} // by a; and what can go back
	p.mu.Lock()
	p.looked = func(id dispatch.AttemptID) error {
		switch {
		case id.Run < 100 || !fails.Load():
		case !claimed[id.Run]:
			claimed[id.Run] = failed.Load() == 0
		case goes[id.Run]:
		case len(goes) < 4:
			goes[id.Run] = true
		default:
			failed.Add(1)
			return errors.New("the disk does not answer")
		}
		return nil
	}
	p.mu.Unlock()
	for n := range int64(many) {
		p.send(anOrder(100 + n))
	}
	var first, second tally
	ctx, stop := context.WithCancel(t.Context())
	begin := func(c *dispatch.Courier, n *tally, goesOn chan struct{}) {
		n.works(ctx, c, func(o dispatch.Order) {
			<-goesOn
			_ = c.Ended(ctx, took(o, time.Second))
		})
	}
	aGoesOn, bGoesOn := make(chan struct{}), make(chan struct{})
	go begin(a, &first, aGoesOn)
	go begin(a, &first, aGoesOn)
	p.until("some cannot go back", func() bool { return failed.Load() > 0 })
	b, _ := p.courier("b")
	for range many {
		go begin(b, &second, bGoesOn)
	}
	p.until("b says what it has", func() bool {
		return slices.ContainsFunc(p.office.Workers(), func(w dispatch.Worker) bool { return w.Name == "b" && len(w.Holds) > 4 })
	})
	time.Sleep(400 * time.Millisecond) // and all of it
	orders := p.stream()
	second.mu.Lock()
	for run := range second.got {
		if run%2 == 0 {
			if err := orders.Purge(ctx, jetstream.WithPurgeSubject("lantern.order.main."+anOrder(run).AttemptID.String())); err != nil {
				t.Error(err)
			}
		}
	}
	second.mu.Unlock()
	fails.Store(false)
	time.Sleep(3 * time.Second) // a asks again
	close(aGoesOn)
	time.Sleep(500 * time.Millisecond) // a begins what it may
	close(bGoesOn)
	p.until("all are executed", func() bool {
		p.mu.Lock()
		defer p.mu.Unlock()
		return len(p.ended) == many+4
	})
	stop()
	got := map[int64]int{}
	for _, n := range []*tally{&first, &second} {
		n.mu.Lock()
		for run, times := range n.got {
			got[run] += times
		}
		n.mu.Unlock()
	}
	p.once(got, 100, many)
}
