package dispatch

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// A worker whose attempts are short would wait for orders longer than it executes them. So
// it asks for some more than it has slots. One that no slot comes to begin soon goes back
// to its queue, for a worker that has a slot: it has not been begun, so that it may be
// executed by another.

const (
	subjectBack = "lantern.back." // WORKER; orders that go back

	aheadFor    = 40 * time.Millisecond // for about as much time are orders fetched ahead
	aheadMost   = 8                     // times the slots
	keptFor     = 50 * time.Millisecond // until an order that no slot has begun goes back
	gatherFor   = 8 * time.Millisecond  // are reports gathered at least, while there is other work
	gatherMost  = 3 * gatherFor         // and at most, for as long as an attempt takes
	backTimeout = 2 * time.Second
)

// given is an order that goes back, with the place and the time at which its message came
// into the stream: one of a stream of before may have had the same place.
type given struct {
	Order    Order     `json:"order"`
	Sequence uint64    `json:"sequence"`
	Sent     time.Time `json:"sent"`
}

// ahead is how many orders are asked for beyond the slots that wait.
func (c *Courier) ahead() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.aheadOf()
}

// aheadOf is ahead for who has the lock.
func (c *Courier) aheadOf() int {
	if c.usual <= 0 || c.usual >= keptFor { // the slots may all be free at the same time, and not before
		return 0
	}
	return min(c.slots*int(aheadFor)/int(c.usual), aheadMost*c.slots)
}

// lasted notes how long an attempt took.
func (c *Courier) lasted(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.usual = mean(c.usual, d)
}

// shelf are orders that no slot has taken yet, the oldest first.
type shelf []stored

type stored struct {
	taken
	since time.Time
}

func (s *shelf) add(t taken) { *s = append(*s, stored{t, time.Now()}) }

func (s *shelf) next() taken {
	first := (*s)[0].taken
	*s = (*s)[1:]
	return first
}

// before takes out the orders that have come before a time.
func (s *shelf) before(then time.Time) (out []taken) {
	for len(*s) > 0 && (*s)[0].since.Before(then) {
		out = append(out, s.next())
	}
	return out
}

// drop gives up an order that was cancelled before it was begun: that it ended was
// recorded then. It is for who has the lock.
func (c *Courier) drop(id AttemptID) {
	if held := c.hands[id]; held != nil && held.came != nil {
		c.settle(held)
		delete(c.hands, id)
	}
}

// giveBack has orders go back to their queue. They are in hand until the service says
// that they are there again, and are not begun here any more.
func (c *Courier) giveBack(ctx context.Context, orders []taken) {
	var back []given
	var hands []*inHand
	c.mu.Lock()
	for _, t := range orders {
		if held := c.hands[t.order.AttemptID]; held != nil && held.came != nil {
			held.back = true
			sequence, sent := placeOf(held.came.msg)
			back, hands = append(back, given{t.order, sequence, sent}), append(hands, held)
		}
	}
	c.mu.Unlock()
	text, err := json.Marshal(back)
	if err != nil || len(back) == 0 {
		return
	}
	for {
		request := nats.NewMsg(subjectBack + c.name)
		request.Header.Set("instance", c.instance)
		request.Data = text
		asking, stop := context.WithTimeout(ctx, backTimeout)
		answer, err := c.nc.RequestMsgWithContext(asking, request)
		stop()
		if err == nil && string(answer.Data) == claimWait {
			c.keep(ctx, orders)
			return
		}
		if err == nil {
			break
		}
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			return
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for i, held := range hands {
		c.settle(held)
		if id := back[i].Order.AttemptID; c.hands[id] == held { // or it has come again by now
			delete(c.hands, id)
		}
	}
}

// keep has orders wait for a slot again that cannot go back now.
func (c *Courier) keep(ctx context.Context, orders []taken) {
	for _, t := range orders {
		c.mu.Lock()
		held := c.hands[t.order.AttemptID]
		mine := held != nil && held.back
		if mine {
			held.back = false
		}
		c.mu.Unlock()
		if !mine {
			continue
		}
		select {
		case c.claimed <- []taken{t}:
		case <-ctx.Done():
		}
	}
}

// placeOf is where and when the message of an order came into its stream.
func placeOf(m *nats.Msg) (sequence uint64, sent time.Time) {
	if meta, err := m.Metadata(); err == nil {
		return meta.Sequence.Stream, meta.Timestamp.UTC()
	}
	return 0, time.Time{}
}

// again tells whether a message is of another delivery than the one that goes back.
func (h *inHand) again(m *nats.Msg) bool {
	return h.back && !same(h.came.msg, m)
}

// same tells whether two deliveries are of the same message.
func same(a, b *nats.Msg) bool {
	first, at := placeOf(a)
	second, then := placeOf(b)
	return first == second && at.Equal(then)
}

// back puts orders into their queues again that a worker has not begun, and answers when
// they are there. The message of an order is in the stream until its end is recorded: so
// that one which a worker asks for twice, since an answer was lost, is put back once.
func (x *Office) back(ctx context.Context, m *nats.Msg) {
	x.group.Go(func() {
		var orders []given
		instance := m.Header.Get("instance")
		if json.Unmarshal(m.Data, &orders) != nil || instance == "" {
			return
		}
		if !x.mayGoBack(orders, instance) {
			_ = m.Respond([]byte(claimWait))
			return
		}
		for _, o := range orders {
			if err := x.putBack(ctx, o, instance); err != nil {
				if ctx.Err() == nil {
					x.Log.Warn("an order cannot go back to its queue now; its worker asks again", "attempt", o.Order.AttemptID.String(), "error", err)
				}
				return
			}
		}
		_ = m.Respond(nil)
	})
}

// mayGoBack tells whether it is known that no other worker has any of the orders. The one
// that has them is not taken to have them any more.
func (x *Office) mayGoBack(orders []given, instance string) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	if w := x.workers[instance]; w != nil {
		w.Holds = slices.DeleteFunc(slices.Clone(w.Holds), func(h Held) bool {
			return slices.ContainsFunc(orders, func(o given) bool { return o.Order.AttemptID == h.AttemptID })
		})
	}
	return !slices.ContainsFunc(orders, func(o given) bool {
		return x.early(o.Order.AttemptID) || x.heldBy(o.Order.AttemptID, instance)
	})
}

func (x *Office) putBack(ctx context.Context, o given, instance string) error {
	id := o.Order.AttemptID
	stream, err := x.js.Stream(ctx, ordersStream)
	if err != nil {
		return err
	}
	there, err := stream.GetLastMsgForSubject(ctx, o.Order.subject())
	switch {
	case err == nil && (there.Sequence != o.Sequence || !there.Time.Equal(o.Sent)):
		return nil // it was put back before
	case err == nil:
		if err := stream.DeleteMsg(ctx, o.Sequence); err != nil {
			return err
		}
	case !errors.Is(err, jetstream.ErrMsgNotFound):
		return err
	}
	open, err := x.Recorder.Open(ctx, []AttemptID{id})
	if err != nil {
		return err
	}
	if begun, ok := open[id]; !ok || begun {
		return nil
	}
	x.mu.Lock()
	if x.usual[o.Order.queue()] > 0 {
		x.usual[o.Order.queue()] = max(x.usual[o.Order.queue()], keptFor) // they are not short now
	}
	if x.hushed {
		x.mu.Unlock()
		return errors.New("the service ends; the next one puts it back")
	}
	if x.claims[id] == instance {
		delete(x.claims, id)
	}
	x.leave(id)
	delete(x.theirs, id)
	x.mine[id] = standing{queue: o.Order.queue()}
	x.mu.Unlock()
	ack, err := x.publish(ctx, o.Order, o.Sequence)
	if err == nil {
		err = published(ack)
	}
	if err != nil {
		return err
	}
	// It may have been cancelled before it was there.
	if open, err = x.Recorder.Open(ctx, []AttemptID{id}); err != nil {
		return err
	}
	if _, ok := open[id]; !ok {
		return x.takeBack(ctx, id)
	}
	return nil
}

// heldBy tells whether another worker than that one has said that it has an order, for who
// has the lock.
func (x *Office) heldBy(id AttemptID, but string) bool {
	for instance, w := range x.workers {
		if instance != but && slices.ContainsFunc(w.Holds, func(h Held) bool { return h.AttemptID == id }) {
			return true
		}
	}
	return false
}
