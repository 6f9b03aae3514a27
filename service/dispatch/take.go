package dispatch

import (
	"context"
	"slices"
)

// A slot takes what was fetched by itself, and waits only when there is nothing: then the
// one who fetches gives it the next order.

type taken struct {
	order Order
	stop  <-chan struct{}
	err   error
}

// Take waits for an order. The channel is closed when the order is cancelled.
func (c *Courier) Take(ctx context.Context) (Order, <-chan struct{}, error) {
	c.mu.Lock()
	select {
	case <-c.closed:
		c.mu.Unlock()
		return Order{}, nil, ErrClosed
	default:
	}
	if t, ok := c.next(); ok {
		low := len(c.shelf) < c.aheadOf()/2
		c.mu.Unlock()
		if low {
			nudge(c.look)
		}
		return t.order, t.stop, nil
	}
	got := make(chan taken, 1)
	c.waiting = append(c.waiting, got)
	c.mu.Unlock()
	nudge(c.look)
	select {
	case t := <-got: // fetch answers each
		return t.order, t.stop, t.err
	case <-ctx.Done():
	}
	c.mu.Lock()
	i := slices.Index(c.waiting, chan<- taken(got))
	if i >= 0 {
		c.waiting = slices.Delete(c.waiting, i, i+1)
	}
	c.mu.Unlock()
	if i >= 0 {
		return Order{}, nil, ctx.Err()
	}
	t := <-got // it was given one meanwhile
	return t.order, t.stop, t.err
}

// next takes an order from the shelf, if there is one that may begin. What comes while the
// machine rests stays there, and goes back. It is for who has the lock.
func (c *Courier) next() (taken, bool) {
	for len(c.shelf) > 0 && !c.resting {
		t := c.shelf.next()
		select {
		case <-t.stop:
			c.drop(t.order.AttemptID)
		default:
			return t, true
		}
	}
	return taken{}, false
}

// hand gives the slots that wait what is on the shelf, and tells how many slots still wait
// and how many orders are left.
func (c *Courier) hand() (waiting, left int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for len(c.waiting) > 0 {
		t, ok := c.next()
		if !ok {
			break
		}
		c.waiting[0] <- t // it holds one
		c.waiting = c.waiting[1:]
	}
	return len(c.waiting), len(c.shelf)
}

// shelve puts orders that may begin on the shelf.
func (c *Courier) shelve(orders []taken) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, t := range orders {
		c.shelf.add(t)
	}
}
