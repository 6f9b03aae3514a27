package dispatch

import (
	"bytes"
	"context"
	"encoding/json"
	"strconv"
	"time"

	"github.com/nats-io/nats.go"
)

// fetch takes orders for the slots that wait: for each of them it asks for one order,
// and again when that time is over.
func (c *Courier) fetch(ctx context.Context) {
	asked := newAsks(c.Hello().Queues)
	defer func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		for _, w := range c.waiting {
			w <- taken{err: ErrClosed}
		}
		c.waiting = nil
	}()
	late := time.NewTicker(time.Second)
	defer late.Stop()
	keep, kept := time.NewTimer(keptFor), true // it goes off when orders may have to go back
	defer keep.Stop()
	for {
		waiting, left := c.hand()
		if left > 0 && !kept {
			keep.Reset(keptFor)
			kept = true
		}
		if c.mayAsk() {
			for _, one := range asked.more(c.messages(waiting + c.ahead() - c.underway() - left)) {
				request := nats.NewMsg(asked.subject(one))
				request.Reply, request.Data = c.inbox+"."+strconv.Itoa(one.number), one.body()
				if c.nc.PublishMsg(request) != nil {
					break // it is late some time
				}
			}
		}
		c.mu.Lock()
		c.asked = len(asked.out)
		c.mu.Unlock()
		select {
		case m := <-c.in:
			if status := m.Header.Get("Status"); status != "" {
				asked.over(status, m.Subject)
				continue
			}
			asked.came(m.Subject)
			c.shelve(c.receive(m))
		case orders := <-c.claimed:
			c.shelve(orders)
		case <-keep.C:
			kept = false
			if back := c.tooLong(); len(back) > 0 {
				c.group.Go(func() { c.giveBack(ctx, back) })
			}
		case <-late.C: // an answer may have been lost
			asked.late()
		case <-c.look:
		case <-c.anew:
			asked.forget()
		case <-c.closed:
			return
		case <-ctx.Done():
			return
		}
	}
}

// underway is how many orders have come of which it is asked whether they may begin.
func (c *Courier) underway() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.claiming)
}

// tooLong takes the orders from the shelf that no slot has begun soon. Then the slots have
// attempts that are not short, and nothing more is fetched ahead until some were again.
func (c *Courier) tooLong() []taken {
	c.mu.Lock()
	defer c.mu.Unlock()
	back := c.shelf.before(time.Now().Add(-keptFor))
	if len(back) > 0 {
		c.usual = max(c.usual, keptFor)
	}
	return back
}

// mayAsk tells whether orders are asked for.
func (c *Courier) mayAsk() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return !c.heard.IsZero() && c.inherited && !c.leaving && !c.drained && !c.resting && c.nc.IsConnected()
}

// receive looks at what has come, and returns the orders that may begin. Only the first
// delivery of one may be executed.
func (c *Courier) receive(m *nats.Msg) (may []taken) {
	if bytes.HasPrefix(m.Data, []byte("[")) {
		var orders []Order
		if err := json.Unmarshal(m.Data, &orders); err != nil {
			c.leaveOut(m, err)
			return nil
		}
		c.receiveBundle(orders, m)
		return nil
	}
	var o Order
	if err := json.Unmarshal(m.Data, &o); err != nil {
		c.leaveOut(m, err)
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.brings(1)
	if held := c.hands[o.AttemptID]; held != nil && !held.again(m) {
		held.came = &letter{m, 1} // it was sent again: it is here
		return nil
	}
	if c.claiming[o.AttemptID] {
		return nil
	}
	if meta, err := m.Metadata(); err != nil || meta.NumDelivered > 1 {
		c.group.Go(func() { c.handBack(m, o.AttemptID) })
		return nil
	}
	if o.Claim {
		o.Claim = false
		c.claiming[o.AttemptID] = true
		c.group.Go(func() {
			var got []taken
			yes, _ := c.claim(c.life, o.AttemptID)
			c.mu.Lock()
			if yes {
				got = append(got, c.hold(o, &letter{msg: m}))
			}
			delete(c.claiming, o.AttemptID)
			c.mu.Unlock()
			c.pass(got)
		})
		return nil
	}
	return []taken{c.hold(o, &letter{msg: m})}
}

// pass gives the one who fetches orders that may begin, or word that what came may not.
func (c *Courier) pass(orders []taken) {
	select {
	case c.claimed <- orders:
	case <-c.life.Done():
	}
}

// leaveOut gives up what cannot be read.
func (c *Courier) leaveOut(m *nats.Msg, err error) {
	c.Words.Error("an order cannot be read and is left out; run the same version of lantern on all machines", "error", err)
	_ = m.Term()
}

// hold takes an order into its hands.
func (c *Courier) hold(o Order, l *letter) taken {
	l.orders++
	held := &inHand{came: l, stop: make(chan struct{}), recorded: make(chan struct{})}
	if _, stopped := c.stops[o.AttemptID]; stopped {
		close(held.stop)
	}
	c.hands[o.AttemptID] = held
	return taken{order: o, stop: held.stop}
}

// handBack says of an order that was given to another worker before, which has not been
// heard since, that its attempt is lost: nobody knows how far it came.
func (c *Courier) handBack(m *nats.Msg, id AttemptID) {
	if c.sayLost(id) == nil {
		_ = m.Ack()
	}
}

func (c *Courier) sayLost(ids ...AttemptID) error {
	var reports []Ended
	for _, id := range ids {
		reports = append(reports, Ended{AttemptID: id, At: time.Now(), Outcome: Lost, Error: "the worker that took it has not been heard since"})
	}
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
	defer stop()
	return c.sayTogether(ctx, reports)
}
