package dispatch_test

import (
	"testing"
	"time"

	"wiselantern/service/dispatch"
)

// An order whose message is gone, and which no worker has begun, is sent again.
func TestAnOrderThatVanishedIsSentAgain(t *testing.T) {
	p := newPlace(t, 1200*time.Millisecond)
	p.resends()
	p.send(anOrder(1))
	orders := p.stream()
	p.until("it is there", func() bool { return orders.DeleteMsg(t.Context(), 1) == nil })
	c, _ := p.courier("a")
	o, _ := p.take(c)
	if err := c.Ended(t.Context(), succeeded(o, "a")); err != nil {
		t.Fatal(err)
	}
	nothingFor(t, c)
	if got := p.reports(anOrder(1).AttemptID); len(got) != 1 {
		t.Errorf("%d reports", len(got))
	}
}

// An order whose message is gone is not sent again while its worker says that it has it, or its
// report: the message server may not take that for a while.
func TestAnOrderThatAWorkerHasIsNotSentAgain(t *testing.T) {
	p := newPlace(t, 1200*time.Millisecond)
	p.again = func(id dispatch.AttemptID) { t.Errorf("%v is sent again", id) }
	p.send(anOrder(1))
	c, _ := p.courier("a")
	o, _ := p.take(c)
	if err := p.stream().DeleteMsg(t.Context(), 1); err != nil {
		t.Fatal(err)
	}
	time.Sleep(time.Second) // it is looked for every 200 ms
	p.mu.Lock()
	p.refuse = 1 // the report is recorded a second later
	p.mu.Unlock()
	if err := c.Ended(t.Context(), succeeded(o, "a")); err != nil {
		t.Fatal(err)
	}
	if got := p.reports(o.AttemptID); len(got) != 1 {
		t.Errorf("%d reports", len(got))
	}
}

// An order whose message is gone, and which a worker took that is silent since, is lost:
// nobody knows how far that came.
func TestAnOrderThatVanishedWithItsWorkerIsLost(t *testing.T) {
	p := newPlace(t, 1200*time.Millisecond)
	p.stop()
	p.outside = true
	p.begin()
	p.again = func(id dispatch.AttemptID) { t.Errorf("%v is sent again", id) }
	p.send(anOrder(1))
	c, connection := p.courier("a")
	o, _ := p.take(c)
	connection.Close()
	if err := p.stream().DeleteMsg(t.Context(), 1); err != nil {
		t.Fatal(err)
	}
	p.recorded(1)
	if got := p.reports(o.AttemptID); len(got) != 1 || got[0].Outcome != dispatch.Lost {
		t.Errorf("recorded is %+v", got)
	}
}
