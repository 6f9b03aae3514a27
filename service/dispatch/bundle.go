package dispatch

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
)

// For attempts that take a millisecond, messages are what costs most. So orders of short
// attempts that go out at the same time go out in one message, a bundle. An order alone
// stands in a subject of its own, where a second one is refused; those of a bundle do not.
// In their place the service, whose message server and its streams live as long as itself,
// knows which message each order is in, and says to the worker that has got a bundle which
// of them it may begin: those of which the end is still to come, that have not gone back
// since, and that it has given to no other. Where the message server outlives the service,
// all orders go out alone.

const (
	subjectBundle = ".several." // behind a queue; NUMBER
	headerBundle  = "bundle"    // the subject of one, in a claim

	mostTogether    = 32
	mostBundleBytes = 256 << 10 // but for an order that has more by itself
)

// standing is where an order stands that was sent.
type standing struct {
	queue  string
	bundle string // the subject of its message, "" if it is alone in its own
}

// bundle are orders that go out together.
type bundle struct {
	subject string
	queue   string
	text    []byte
}

// may is what a worker may begin of a bundle.
type may struct {
	Begin []AttemptID `json:"begin,omitempty"`
	Lost  []AttemptID `json:"lost,omitempty"`  // another worker had leave to begin them, and has lost the bundle
	Known bool        `json:"known,omitempty"` // it is a bundle of this service
}

// together puts orders that are to go out into bundles, as far as that helps.
func (x *Office) together(batch []outgoing) (all []outgoing) {
	of, size := map[string][]outgoing{}, map[string]int{} // by queue: those that fit to others
	x.mu.Lock()
	for _, o := range batch {
		if q := o.order.queue(); x.fitsOthers(o) {
			of[q] = append(of[q], o)
		} else {
			all = append(all, o)
		}
	}
	for q, some := range of {
		size[q] = x.bundleSize(q, len(some))
	}
	x.mu.Unlock()
	for q, some := range of {
		if size[q] < 2 {
			all = append(all, some...)
			continue
		}
		for chunk := range slices.Chunk(some, size[q]) {
			all = append(all, x.bundlesOf(q, chunk)...)
		}
	}
	return all
}

// fitsOthers tells whether an order may go out with others. One that a worker may have of a
// service before this one does not, nor one that has vanished: they are asked for one by one.
// It is for who has the lock.
func (x *Office) fitsOthers(o outgoing) bool {
	if o.cancel || o.bundle != nil || o.order.Later {
		return false
	}
	_, mine := x.mine[o.order.AttemptID]
	_, anew := x.anew[o.order.AttemptID]
	return mine && !anew && !x.before[o.order.AttemptID]
}

// bundleSize is how many of so many orders of a queue go into a bundle: not more than one
// worker begins in the time for which it fetches ahead, and so that each gets some. It is for
// who has the lock.
func (x *Office) bundleSize(queue string, orders int) int {
	usual := x.usual[queue]
	if x.OnDisk || usual <= 0 || usual > aheadFor/2 {
		return 1
	}
	workers, slots := 0, math.MaxInt
	for _, w := range x.workers {
		if x.Now().Sub(w.Heard) >= x.Patience || !slices.Contains(w.Queues, queue) {
			continue
		}
		if !w.Bundles {
			return 1
		}
		workers, slots = workers+1, min(slots, w.Slots)
	}
	if workers == 0 {
		return 1
	}
	return min((orders+workers-1)/workers, slots*int(aheadFor/usual), mostTogether)
}

// bundlesOf makes one bundle of orders, or several if they are large.
func (x *Office) bundlesOf(queue string, orders []outgoing) (all []outgoing) {
	var text bytes.Buffer
	var ids []AttemptID
	bind := func() {
		if len(ids) == 0 {
			return
		}
		x.mu.Lock()
		defer x.mu.Unlock()
		x.bundled++
		b := bundle{fmt.Sprintf("%s%s%s%d-%d", subjectOrders, queue, subjectBundle, x.opened.UnixNano(), x.bundled), queue, append(bytes.Clone(text.Bytes()), ']')}
		for _, id := range ids {
			if _, mine := x.mine[id]; mine { // or it was cancelled just now
				x.mine[id] = standing{queue, b.subject}
				x.bundles[b.subject] = append(x.bundles[b.subject], id)
			}
		}
		all = append(all, outgoing{bundle: &b})
		ids = nil
		text.Reset()
	}
	for _, o := range orders {
		one, err := json.Marshal(o.order)
		if err != nil {
			all = append(all, o) // who sends it alone tells why it cannot be written
			continue
		}
		if text.Len()+len(one) > mostBundleBytes {
			bind()
		}
		if len(ids) == 0 {
			text.WriteByte('[')
		} else {
			text.WriteByte(',')
		}
		text.Write(one)
		ids = append(ids, o.order.AttemptID)
	}
	bind()
	return all
}

// done notes that the end of an order is recorded, or that it is not wanted any more. It is
// for who has the lock, as are those below.
func (x *Office) done(id AttemptID) {
	if x.mine[id].bundle != "" {
		delete(x.claims, id)
	}
	x.leave(id)
	delete(x.theirs, id)
	delete(x.mine, id)
	delete(x.anew, id)
}

// leave takes an order out of its bundle.
func (x *Office) leave(id AttemptID) {
	s := x.mine[id]
	if s.bundle == "" {
		return
	}
	rest := slices.DeleteFunc(x.bundles[s.bundle], func(other AttemptID) bool { return other == id })
	if x.bundles[s.bundle] = rest; len(rest) == 0 {
		delete(x.bundles, s.bundle)
	}
	x.mine[id] = standing{queue: s.queue}
}

// standsIn are the orders of a subject of the stream, without those that have left it.
func (x *Office) standsIn(subject string) []AttemptID {
	if strings.Contains(subject, subjectBundle) {
		return slices.Clone(x.bundles[subject])
	}
	_, text, _ := strings.Cut(strings.TrimPrefix(subject, subjectOrders), ".")
	id, err := ParseAttemptID(text)
	if err != nil {
		return nil
	}
	return []AttemptID{id}
}

// lasted notes how long an attempt took.
func (x *Office) lasted(r Ended) {
	s, ok := x.mine[r.AttemptID]
	if !ok || r.Started.IsZero() {
		return
	}
	x.usual[s.queue] = mean(x.usual[s.queue], r.At.Sub(r.Started))
}

// mean is the mean of how long attempts took, the newer ones counting for more.
func mean(before, d time.Duration) time.Duration {
	if before == 0 {
		before = d
	}
	return max(before-before/8+d/8, 1)
}

// claimBundle tells a worker which orders of a bundle it may begin.
func (x *Office) claimBundle(m *nats.Msg) {
	subject, instance := m.Header.Get(headerBundle), m.Header.Get("instance")
	_, number, _ := strings.Cut(subject, subjectBundle)
	if instance == "" {
		return
	}
	var a may
	x.mu.Lock()
	a.Known = strings.HasPrefix(number, fmt.Sprintf("%d-", x.opened.UnixNano()))
	now := x.Now()
	for _, id := range x.bundles[subject] {
		switch x.claims[id].by {
		case "", instance:
			x.claims[id] = grant{instance, now}
			a.Begin = append(a.Begin, id)
		default:
			a.Lost = append(a.Lost, id)
		}
	}
	x.mu.Unlock()
	if text, err := json.Marshal(a); err == nil {
		_ = m.Respond(text) // it asks again
	}
}

// receiveBundle asks which orders of a bundle may be begun here.
func (c *Courier) receiveBundle(orders []Order, m *nats.Msg) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.brings(len(orders))
	l := &letter{}
	for _, o := range orders {
		if held := c.hands[o.AttemptID]; held != nil && held.came != nil && same(held.came.msg, m) {
			l = held.came // it was sent again: it is here
		}
	}
	l.msg = m
	var ask []Order
	for _, o := range orders {
		switch held := c.hands[o.AttemptID]; {
		case held == nil || held.again(m):
			ask = append(ask, o)
			c.claiming[o.AttemptID] = true
		case held.came == nil: // an earlier worker has left its report
			held.came = l
			l.orders++
		}
	}
	c.group.Go(func() {
		var got []taken
		a := c.claimBundle(c.life, m.Subject)
		c.mu.Lock()
		for _, o := range ask {
			delete(c.claiming, o.AttemptID)
			if slices.Contains(a.Begin, o.AttemptID) {
				got = append(got, c.hold(o, l))
			}
		}
		lost := slices.DeleteFunc(a.Lost, func(id AttemptID) bool { return c.hands[id] != nil })
		l.orders += len(lost)
		over := a.Known && l.orders == 0
		c.mu.Unlock()
		c.pass(got)
		if over {
			_ = m.Ack()
		}
		if len(lost) > 0 && c.sayLost(lost...) == nil {
			c.mu.Lock()
			defer c.mu.Unlock()
			if l.orders -= len(lost); l.orders == 0 {
				_ = m.Ack()
			}
		}
	})
}

// claimBundle asks what may be begun of a bundle; nothing, and it is not known, when nobody
// answers: then it is given to another.
func (c *Courier) claimBundle(ctx context.Context, subject string) (a may) {
	c.asks(ctx, headerBundle, subject, func(answer []byte) bool { return json.Unmarshal(answer, &a) == nil })
	return a
}

// brings notes how many orders a message has brought.
func (c *Courier) brings(orders int) { c.each += (float64(orders) - c.each) / 4 }

// messages is how many messages are asked for, for that many orders to come.
func (c *Courier) messages(orders int) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return int(math.Ceil(float64(orders) / c.each))
}
