package dispatch_test

import (
	"encoding/json"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"wiselantern/service/dispatch"
)

// stream is the stream of orders, seen from beside.
func (p *place) stream() jetstream.Stream {
	p.t.Helper()
	nc, err := p.server.Connect()
	if err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(nc.Close)
	js, err := jetstream.New(nc)
	if err != nil {
		p.t.Fatal(err)
	}
	s, err := js.Stream(p.t.Context(), "LANTERN-ORDERS")
	if err != nil {
		p.t.Fatal(err)
	}
	return s
}

// messages are those that stand in the stream, by subject.
func (p *place) messages(s jetstream.Stream) (alone, together []string) {
	p.t.Helper()
	info, err := s.Info(p.t.Context(), jetstream.WithSubjectFilter(">"))
	if err != nil {
		p.t.Fatal(err)
	}
	for subject := range info.State.Subjects {
		if strings.Contains(subject, ".several.") {
			together = append(together, subject)
		} else {
			alone = append(alone, subject)
		}
	}
	return alone, together
}

// short has a worker execute attempts that are short, so that what comes next goes out together.
func (p *place) short(c *dispatch.Courier, first int64) {
	p.t.Helper()
	for n := range int64(4) {
		p.send(anOrder(first + n))
		o, _ := p.take(c)
		if err := c.Ended(p.t.Context(), took(o, time.Millisecond)); err != nil {
			p.t.Fatal(err)
		}
	}
}

// left has short attempts been executed by a worker that is gone: nobody is there to take what
// comes next.
func (p *place) left() {
	p.t.Helper()
	c, connection := p.heir("a", "before", dispatch.Estate{})
	p.short(c, 0)
	connection.Close()
	time.Sleep(200 * time.Millisecond) // the message server has seen that it is gone
}

// empty waits until no message is left.
func (p *place) empty(s jetstream.Stream) {
	p.t.Helper()
	p.until("no message is left", func() bool { alone, together := p.messages(s); return len(alone)+len(together) == 0 })
}

// bundled sends so many orders, and tells which stand together with others in the stream.
func (p *place) bundled(s jetstream.Stream, first, many int64) (in map[int64]bool) {
	p.t.Helper()
	for n := range many {
		p.send(anOrder(first + n))
	}
	p.until("all stand in the stream", func() bool {
		alone, together := p.messages(s)
		left := int(many) - len(alone)
		in = map[int64]bool{}
		for _, subject := range together {
			m, err := s.GetLastMsgForSubject(p.t.Context(), subject)
			if err != nil {
				return false
			}
			var orders []dispatch.Order
			if err := json.Unmarshal(m.Data, &orders); err != nil {
				p.t.Fatal(err)
			}
			left -= len(orders)
			for _, o := range orders {
				in[o.Run] = true
			}
		}
		return left == 0 && len(together) > 0
	})
	return in
}

// Orders of short attempts go out together, each is executed once, and their messages are
// gone when they are recorded.
func TestOrdersOfShortAttemptsGoOutTogether(t *testing.T) {
	p := newPlace(t, 0)
	stream := p.stream()
	a, _ := p.courier("a")
	b, _ := p.courier("b")
	p.short(a, 0)
	const many = 400
	for n := range int64(many) {
		p.send(anOrder(100 + n))
	}
	var taken tally
	var group sync.WaitGroup
	for _, c := range []*dispatch.Courier{a, b, a, b} {
		group.Go(func() {
			taken.works(t.Context(), c, func(o dispatch.Order) {
				group.Go(func() { _ = c.Ended(t.Context(), took(o, time.Millisecond)) })
			})
		})
	}
	p.recorded(many + 4)
	p.once(taken.got, 100, many)
	p.empty(stream)
	info, err := stream.Info(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if info.State.LastSeq > many/2 {
		t.Errorf("%d orders took %d messages", many, info.State.LastSeq)
	}
	a.Close()
	b.Close()
	group.Wait()
}

// One that is cancelled while it stands with others is not executed, the others are.
func TestAnOrderIsCancelledAmongOthers(t *testing.T) {
	p := newPlace(t, 0)
	stream := p.stream()
	p.left()
	in := p.bundled(stream, 100, 40)
	connection, err := p.server.Connect()
	if err != nil {
		t.Fatal(err)
	}
	defer connection.Close()
	var stops atomic.Int64
	if _, err := connection.Subscribe("lantern.stop", func(*nats.Msg) { stops.Add(1) }); err != nil {
		t.Fatal(err)
	}
	if err := connection.Flush(); err != nil {
		t.Fatal(err)
	}
	var cancelled []int64
	for run := range in {
		if run%2 == 0 {
			cancelled = append(cancelled, run)
			p.mu.Lock()
			delete(p.open, anOrder(run).AttemptID)
			p.mu.Unlock()
			p.office.Cancel(anOrder(run).AttemptID)
		}
	}
	p.until("all are taken back", func() bool { return int(stops.Load()) == len(cancelled) })
	b, _ := p.courier("b") // it hears nothing of that
	p.once(p.executes(b, "b", 40-len(cancelled), time.Millisecond), 100, 40, cancelled...)
	nothingFor(t, b)
	p.empty(stream)
}

// What comes together and finds no slot goes back one by one. When the worker that it came to
// is not heard any more, only what it has not given back is lost.
func TestOrdersThatCameTogetherGoBack(t *testing.T) {
	p := newPlace(t, 1500*time.Millisecond)
	p.again = func(id dispatch.AttemptID) { t.Errorf("order %v had vanished", id) }
	stream := p.stream()
	p.left()
	in := p.bundled(stream, 100, 40)
	a, connection := p.courier("a")
	var kept []int64
	for n := 0; n < 3; {
		o, _ := p.take(a)
		if in[o.Run] {
			n++
		}
		a.Started(dispatch.Started{AttemptID: o.AttemptID, Worker: "a", At: time.Now()})
		kept = append(kept, o.Run)
	}
	p.until("the others have gone back", func() bool {
		executed, _ := a.Hands()
		return executed == len(kept)
	})
	connection.Close()
	b, _ := p.courier("b")
	p.once(p.executes(b, "b", 40-len(kept), time.Second), 100, 40, kept...)
	go func() {
		if o, _, err := b.Take(t.Context()); err == nil {
			t.Errorf("order %d is given out again", o.Run)
		}
	}()
	p.until("what a had is lost", func() bool {
		return !slices.ContainsFunc(kept, func(run int64) bool { return len(p.reports(anOrder(run).AttemptID)) == 0 })
	})
	p.empty(stream)
	for n := range int64(40) {
		mine := slices.Contains(kept, 100+n)
		want := map[bool]dispatch.Outcome{true: dispatch.Lost, false: dispatch.Succeeded}[mine]
		for _, r := range p.reports(anOrder(100 + n).AttemptID) {
			if r.Outcome != want {
				t.Errorf("order %d, of a: %v, is reported %s", 100+n, mine, r.Outcome)
			}
		}
	}
}

// What a worker had leave to begin when it was killed, and has not begun, the next one of its
// name gets at once.
func TestTheNextWorkerGetsWhatCameTogether(t *testing.T) {
	p := newPlace(t, 0)
	stream := p.stream()
	p.left()
	p.bundled(stream, 100, 20)
	a, connection := p.courier("a")
	o, _ := p.take(a)
	connection.Close() // before anything goes back
	next, _ := p.heir("a", "a, again", dispatch.Estate{Of: []string{"a", "before"}, Begun: []dispatch.AttemptID{o.AttemptID}})
	p.once(p.executes(next, "a", 19, time.Millisecond), 100, 20, o.Run)
	nothingFor(t, next)
}

// Orders whose common message is gone are sent again.
func TestOrdersThatVanishedTogetherAreSentAgain(t *testing.T) {
	p := newPlace(t, 1200*time.Millisecond)
	p.resends()
	stream := p.stream()
	p.left()
	p.bundled(stream, 100, 20)
	if err := stream.Purge(t.Context()); err != nil {
		t.Fatal(err)
	}
	c, _ := p.courier("a")
	p.once(p.executes(c, "a", 20, time.Millisecond), 100, 20)
	nothingFor(t, c)
}

// A worker of a version before that takes one order in a message gets them so.
func TestAnOlderWorkerGetsOrdersOneByOne(t *testing.T) {
	p := newPlace(t, 0)
	stream := p.stream()
	p.left()
	nc, err := p.server.Connect()
	if err != nil {
		t.Fatal(err)
	}
	defer nc.Close()
	text, err := json.Marshal(dispatch.Hello{Name: "old", Instance: "old", Queues: []string{dispatch.DefaultQueue}, Slots: 2})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := nc.Request("lantern.hello.old", text, 5*time.Second); err != nil {
		t.Fatal(err)
	}
	for n := range int64(20) {
		p.send(anOrder(100 + n))
	}
	p.until("all stand in the stream", func() bool {
		alone, together := p.messages(stream)
		if len(together) > 0 {
			t.Fatalf("%v go out together", together)
		}
		return len(alone) == 20
	})
}
