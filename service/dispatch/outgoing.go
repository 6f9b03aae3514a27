package dispatch

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/nats-io/nats.go/jetstream"
)

// mostPulls bounds how many free slots a queue may have.
const mostPulls = 20_000

// Send has an order go out. One that is out already stays as it is. An order that lets
// others go first is kept here until a slot is free that nobody else wants.
func (x *Office) Send(o Order) {
	x.mu.Lock()
	defer x.mu.Unlock()
	_, out := x.mine[o.AttemptID]
	if _, anew := x.anew[o.AttemptID]; x.hushed || out && !anew {
		return
	}
	delete(x.theirs, o.AttemptID)
	x.mine[o.AttemptID] = standing{queue: o.queue()}
	if o.Later {
		x.later[o.queue()] = append(x.later[o.queue()], o)
		nudge(x.idle)
		return
	}
	x.out = append(x.out, outgoing{order: o})
	nudge(x.wake)
}

// Cancel takes an order back, and has its worker end it.
func (x *Office) Cancel(id AttemptID) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.done(id)
	for q, orders := range x.later {
		if i := slices.IndexFunc(orders, func(l Order) bool { return l.AttemptID == id }); i >= 0 {
			x.later[q] = slices.Delete(orders, i, i+1)
			return
		}
	}
	x.out = append(x.out, outgoing{order: Order{AttemptID: id}, cancel: true})
	nudge(x.wake)
}

// sendLater sends orders that let others go first, as many as there are slots that ask
// for work and have none, until ctx is done.
func (x *Office) sendLater(ctx context.Context) {
	again := time.NewTimer(0)
	defer again.Stop()
	for {
		select {
		case <-x.idle:
		case <-again.C:
		case <-ctx.Done():
			return
		}
		x.mu.Lock()
		var queues []string
		for q, orders := range x.later {
			if len(orders) > 0 {
				queues = append(queues, q)
			}
		}
		x.mu.Unlock()
		pause := laterAgain
		for _, q := range queues {
			sent, err := x.sendSomeLater(ctx, q)
			if err != nil && ctx.Err() == nil {
				x.Log.Warn("orders that wait for a free slot cannot be sent now; it is tried again", "queue", q, "error", err)
			}
			if sent > 0 {
				pause = laterSoon
			}
		}
		if len(queues) > 0 {
			again.Reset(pause)
		}
	}
}

// After how long free slots are looked for again, without word of one: soon, if there were
// some just now, since a worker of several queues asks for one order at a time.
const (
	laterAgain = time.Second
	laterSoon  = 20 * time.Millisecond
)

func (x *Office) sendSomeLater(ctx context.Context, q string) (sent int, err error) {
	if err := x.queue(ctx, q); err != nil {
		return 0, err
	}
	consumer, err := x.js.Consumer(ctx, ordersStream, q)
	if err != nil {
		return 0, err
	}
	info := consumer.CachedInfo()
	free := info.NumWaiting - int(info.NumPending)
	x.mu.Lock()
	free -= len(x.out)
	orders := slices.Clone(x.later[q][:min(max(free, 0), len(x.later[q]))])
	x.later[q] = slices.Delete(x.later[q], 0, len(orders))
	for _, o := range orders {
		x.out = append(x.out, outgoing{order: o})
	}
	x.mu.Unlock()
	nudge(x.wake)
	return len(orders), nil
}

func nudge(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default: // it is nudged already
	}
}

// perSubject is the code with which JetStream refuses a message whose subject has one.
const perSubject jetstream.ErrorCode = 10077

// send sends what is to go out, in its order, until ctx is done. What the message
// server does not take is sent again.
func (x *Office) send(ctx context.Context) {
	for {
		select {
		case <-x.wake:
		case <-ctx.Done():
			return
		}
		x.mu.Lock()
		x.sending, x.out = x.out, nil
		batch := x.sending
		x.mu.Unlock()
		failed := x.sendBatch(ctx, x.together(batch))
		x.mu.Lock()
		x.sending, x.out = nil, append(failed, x.out...)
		x.mu.Unlock()
		if len(failed) == 0 {
			continue
		}
		select {
		case <-time.After(500 * time.Millisecond):
			nudge(x.wake)
		case <-ctx.Done():
			return
		}
	}
}

// sendBatch sends orders and takes orders back, and returns those with which that
// failed.
func (x *Office) sendBatch(ctx context.Context, batch []outgoing) (failed []outgoing) {
	type underway struct {
		outgoing
		ack jetstream.PubAckFuture
	}
	var going []underway
	settle := func() {
		for _, g := range going {
			if err := published(g.ack); err != nil {
				x.Log.Warn("an order is not taken by the message server; it is sent again", "attempt", g.name(), "error", err)
				failed = append(failed, g.outgoing)
			}
		}
		going = going[:0]
	}
	for _, o := range batch {
		if o.cancel {
			settle()
			if i := slices.IndexFunc(failed, func(f outgoing) bool { return !f.cancel && f.bundle == nil && f.order.AttemptID == o.order.AttemptID }); i >= 0 {
				failed = slices.Delete(failed, i, i+1)
			}
			if err := x.takeBack(ctx, o.order.AttemptID); err != nil && ctx.Err() == nil {
				x.Log.Warn("an order cannot be taken back now; it is tried again", "attempt", o.order.AttemptID.String(), "error", err)
				failed = append(failed, o)
			}
			continue
		}
		ack, err := x.publishOut(ctx, o)
		if ack == nil && err == nil {
			continue
		}
		if err != nil {
			x.Log.Warn("an order cannot be sent now; it is tried again", "attempt", o.name(), "error", err)
			failed = append(failed, o)
			continue
		}
		going = append(going, underway{o, ack})
	}
	settle()
	return failed
}

// name is what is told of what is to be sent.
func (o outgoing) name() string {
	if o.bundle != nil {
		return o.bundle.subject
	}
	return o.order.AttemptID.String()
}

// publishOut gives what goes out to the message server; nothing if nobody wants it any more.
// A bundle that has been taken already is refused.
func (x *Office) publishOut(ctx context.Context, o outgoing) (jetstream.PubAckFuture, error) {
	if b := o.bundle; b != nil {
		if err := x.queue(ctx, b.queue); err != nil {
			return nil, err
		}
		return x.js.PublishAsync(b.subject, b.text, jetstream.WithMsgID(b.subject))
	}
	x.mu.Lock()
	_, wanted := x.mine[o.order.AttemptID]
	after := x.anew[o.order.AttemptID]
	x.mu.Unlock()
	if !wanted {
		return nil, nil
	}
	return x.publish(ctx, o.order, after)
}

// publish gives an order to the message server; after is the message of it that went back,
// or when it was found to have vanished, 0 for neither. Its id is for the case that an
// answer was lost, and the order has come to its end since: then its subject is free again.
// It is of this service alone: what another one has sent may have been removed.
func (x *Office) publish(ctx context.Context, o Order, after uint64) (jetstream.PubAckFuture, error) {
	if err := x.queue(ctx, o.queue()); err != nil {
		return nil, err
	}
	o.Claim = x.OnDisk || x.Apart && x.before[o.AttemptID]
	text, err := json.Marshal(o)
	if err != nil {
		return nil, err
	}
	return x.js.PublishAsync(o.subject(), text, jetstream.WithMsgID(fmt.Sprintf("%s/%d/%d", o.AttemptID, x.opened.UnixNano(), after)))
}

// published waits for the message server's answer.
func published(ack jetstream.PubAckFuture) error {
	select {
	case <-ack.Ok():
		return nil
	case err := <-ack.Err():
		var api *jetstream.APIError
		if errors.As(err, &api) && api.ErrorCode == perSubject {
			return nil // it is out
		}
		return err
	}
}

// takeBack removes an order that no worker may begin any more, and says so to the one
// that has.
func (x *Office) takeBack(ctx context.Context, id AttemptID) error {
	stream, err := x.js.Stream(ctx, ordersStream)
	if err == nil {
		err = stream.Purge(ctx, jetstream.WithPurgeSubject(subjectOrders+"*."+id.String()))
	}
	if err == nil {
		err = x.nc.Publish(subjectStop, []byte(id.String()))
	}
	return err
}
