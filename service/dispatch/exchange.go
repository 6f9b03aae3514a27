package dispatch

import (
	"context"
	"errors"
	"slices"
	"sync"
)

// Recorder takes what workers say. Each method returns when it is recorded; an
// error means that it is not, and the worker says it again later.
type Recorder interface {
	Started(context.Context, Started) error
	Ended(context.Context, Ended) error
	Log(context.Context, Log) error
}

// ErrClosed says that no orders are given out any more.
var ErrClosed = errors.New("the service takes no more work")

// Exchange passes messages in memory, between the engine and the workers of one
// process. Orders go out in the order in which they came, those of backfills after all
// others.
type Exchange struct {
	recorder Recorder

	mu     sync.Mutex
	queue  lane
	later  lane // those that let all others go first
	known  map[AttemptID]*order
	idle   []chan struct{} // workers that wait, the longest first
	closed bool
}

// lane is a line of orders.
type lane []Order

// take takes the first order, or that of the other lane if there is none.
func (l *lane) take(other *lane) Order {
	if len(*l) == 0 {
		l = other
	}
	next := (*l)[0]
	(*l)[0] = Order{}
	*l = (*l)[1:]
	return next
}

type order struct {
	taken     bool
	cancelled chan struct{}
}

// NewExchange makes an exchange that hands reports to the recorder.
func NewExchange(recorder Recorder) *Exchange {
	return &Exchange{recorder: recorder, known: map[AttemptID]*order{}}
}

// Send gives an order to the next free worker. An order that was sent before
// and has not ended is dropped.
func (x *Exchange) Send(o Order) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.known[o.AttemptID] != nil {
		return
	}
	x.known[o.AttemptID] = &order{cancelled: make(chan struct{})}
	if o.Later {
		x.later = append(x.later, o)
	} else {
		x.queue = append(x.queue, o)
	}
	x.wakeOne()
}

func (x *Exchange) wakeOne() {
	if len(x.idle) > 0 {
		close(x.idle[0])
		x.idle = x.idle[1:]
	}
}

// Cancel takes an order back, or asks its worker to end it.
func (x *Exchange) Cancel(id AttemptID) {
	x.mu.Lock()
	defer x.mu.Unlock()
	o := x.known[id]
	if o == nil {
		return
	}
	select {
	case <-o.cancelled:
	default:
		close(o.cancelled)
	}
	if !o.taken {
		delete(x.known, id) // Take passes over it
	}
}

// Knows tells whether an order is waiting or with a worker.
func (x *Exchange) Knows(id AttemptID) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.known[id] != nil
}

// Waiting is the number of orders that no worker has taken.
func (x *Exchange) Waiting() (n int) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, o := range x.known {
		if !o.taken {
			n++
		}
	}
	return n
}

// Take waits for an order. The channel is closed when the order is cancelled.
func (x *Exchange) Take(ctx context.Context) (Order, <-chan struct{}, error) {
	for {
		x.mu.Lock()
		if x.closed {
			x.mu.Unlock()
			return Order{}, nil, ErrClosed
		}
		for len(x.queue)+len(x.later) > 0 {
			next := x.queue.take(&x.later)
			if o := x.known[next.AttemptID]; o != nil && !o.taken {
				o.taken = true
				x.mu.Unlock()
				return next, o.cancelled, nil
			}
		}
		wake := make(chan struct{})
		x.idle = append(x.idle, wake)
		x.mu.Unlock()
		select {
		case <-wake:
		case <-ctx.Done():
			x.mu.Lock()
			if i := slices.Index(x.idle, wake); i >= 0 {
				x.idle = slices.Delete(x.idle, i, i+1)
			} else { // it was woken already: that belongs to another
				x.wakeOne()
			}
			x.mu.Unlock()
			return Order{}, nil, ctx.Err()
		}
	}
}

// Close gives out no more orders; reports are still taken.
func (x *Exchange) Close() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.closed = true
	for len(x.idle) > 0 {
		x.wakeOne()
	}
}

// Started passes on that a worker has begun.
func (x *Exchange) Started(ctx context.Context, m Started) error { return x.recorder.Started(ctx, m) }

// Log passes on what a task printed.
func (x *Exchange) Log(ctx context.Context, m Log) error { return x.recorder.Log(ctx, m) }

// Ended passes on a report, and forgets the order when it is recorded.
func (x *Exchange) Ended(ctx context.Context, m Ended) error {
	if err := x.recorder.Ended(ctx, m); err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	delete(x.known, m.AttemptID)
	return nil
}
