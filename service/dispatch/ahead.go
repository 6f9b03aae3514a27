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
// that they are there again, and are not begun here any more. Of some it may say that they
// cannot go back now.
func (c *Courier) giveBack(ctx context.Context, orders []taken) {
	var back []given
	var hands []*inHand
	c.mu.Lock()
	orders = slices.DeleteFunc(orders, func(t taken) bool {
		held := c.hands[t.order.AttemptID]
		if held == nil || held.came == nil {
			return true
		}
		held.back = true
		sequence, sent := placeOf(held.came.msg)
		back, hands = append(back, given{t.order, sequence, sent}), append(hands, held)
		return false
	})
	c.mu.Unlock()
	text, err := json.Marshal(back)
	if err != nil || len(back) == 0 {
		return
	}
	for unheard := false; ; unheard = true {
		request := nats.NewMsg(subjectBack + c.name)
		request.Header.Set("instance", c.instance)
		request.Data = text
		asking, stop := context.WithTimeout(ctx, backTimeout)
		answer, err := c.nc.RequestMsgWithContext(asking, request)
		stop()
		var kept []AttemptID
		if err == nil && json.Unmarshal(answer.Data, &kept) == nil {
			for i, t := range orders {
				if slices.Contains(kept, t.order.AttemptID) {
					c.group.Go(func() { c.keep(ctx, t, hands[i], unheard) })
				} else {
					c.given(t.order.AttemptID, hands[i])
				}
			}
			return
		}
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			return
		}
	}
}

// given notes that an order is with others now.
func (c *Courier) given(id AttemptID, held *inHand) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.settle(held)
	if c.hands[id] == held { // or it has come again by now
		delete(c.hands, id)
	}
}

// keep has an order wait for a slot again that cannot go back now. If an answer was not heard
// before, it may have gone back, and another have begun it: then it is asked whether it may
// still be begun here.
func (c *Courier) keep(ctx context.Context, t taken, held *inHand, unheard bool) {
	for {
		yes, answered := true, true
		if unheard {
			yes, answered = c.claim(ctx, t.order.AttemptID)
		}
		switch {
		case yes:
			c.mu.Lock()
			mine := c.hands[t.order.AttemptID] == held && !c.claiming[t.order.AttemptID] // or it has come again
			if mine {
				held.back = false
			}
			c.mu.Unlock()
			if mine {
				c.pass([]taken{t})
			}
			return
		case answered:
			c.given(t.order.AttemptID, held)
			return
		case ctx.Err() != nil:
			return
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

// back puts orders into their queues again that a worker has not begun, and answers with
// those that cannot go back when the others are there. The message of an order is in the
// stream until its end is recorded: so that one which a worker asks for twice, since an answer
// was lost, is put back once.
func (x *Office) back(ctx context.Context, m *nats.Msg) {
	x.group.Go(func() {
		var orders []given
		instance := m.Header.Get("instance")
		if json.Unmarshal(m.Data, &orders) != nil || instance == "" {
			return
		}
		kept := []AttemptID{}
		for _, o := range orders {
			went, err := x.putBack(ctx, o, instance)
			if err != nil {
				if ctx.Err() == nil {
					x.Log.Warn("an order cannot go back to its queue now; its worker asks again", "attempt", o.Order.AttemptID.String(), "error", err)
				}
				return
			}
			x.Log.Debug("a worker gives an order back", "attempt", o.Order.AttemptID.String(), "instance", instance, "went", went)
			if !went {
				kept = append(kept, o.Order.AttemptID)
			}
		}
		if text, err := json.Marshal(kept); err == nil {
			_ = m.Respond(text)
		}
	})
}

// mayGoBack tells whether it is known that no other worker has an order. The one that has it
// is not taken to have it any more.
func (x *Office) mayGoBack(id AttemptID, instance string) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.early(id) || x.heldBy(id, instance) {
		return false
	}
	if w := x.workers[instance]; w != nil {
		w.Holds = slices.DeleteFunc(slices.Clone(w.Holds), func(h Held) bool { return h.AttemptID == id })
	}
	return true
}

// putBack puts an order into its queue again, and tells whether it went there, now or before.
func (x *Office) putBack(ctx context.Context, o given, instance string) (went bool, err error) {
	id := o.Order.AttemptID
	stream, err := x.js.Stream(ctx, ordersStream)
	if err != nil {
		return false, err
	}
	there, err := stream.GetLastMsgForSubject(ctx, o.Order.subject())
	if err != nil && !errors.Is(err, jetstream.ErrMsgNotFound) {
		return false, err
	}
	stands := err == nil
	open, err := x.Recorder.Open(ctx, []AttemptID{id})
	if err != nil {
		return false, err
	}
	begun, ok := open[id]
	switch {
	case stands && (there.Sequence != o.Sequence || !there.Time.Equal(o.Sent)): // it went before
		if !ok {
			return true, x.notWanted(ctx, id)
		}
		return true, nil
	case !ok || begun:
		return true, nil
	case !x.mayGoBack(id, instance):
		return false, nil
	}
	x.mu.Lock()
	hushed := x.hushed
	x.mu.Unlock()
	if hushed {
		return false, errors.New("the service ends; the next one puts it back")
	}
	if stands {
		if err := stream.DeleteMsg(ctx, o.Sequence); err != nil {
			return false, err
		}
	}
	x.mu.Lock()
	if x.usual[o.Order.queue()] > 0 {
		x.usual[o.Order.queue()] = max(x.usual[o.Order.queue()], keptFor) // they are not short now
	}
	if x.claims[id].by == instance {
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
		return false, err
	}
	// It may have been cancelled before it was there.
	if open, err = x.Recorder.Open(ctx, []AttemptID{id}); err != nil {
		return false, err
	}
	if _, ok := open[id]; !ok {
		return true, x.notWanted(ctx, id)
	}
	return true, nil
}

// notWanted takes an order back that was cancelled or has ended while it went back.
func (x *Office) notWanted(ctx context.Context, id AttemptID) error {
	x.mu.Lock()
	x.done(id)
	x.mu.Unlock()
	return x.takeBack(ctx, id)
}
