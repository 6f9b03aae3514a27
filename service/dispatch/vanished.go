package dispatch

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/nats-io/nats.go/jetstream"
)

// The message of an order is in its stream until the end of the attempt is recorded, whoever
// has the order. One that is to come to an end, has not begun, and has no message any more
// would be awaited for ever: it has vanished, by a fault of the message server or of ours,
// and is sent again. But if a worker was given leave to begin it and is silent since, nobody
// knows how far that came: then it is lost.

// lookForVanished looks for such orders again and again, until ctx is done. An order that
// has no message at two looks has vanished: in between, it may just be on its way.
func (x *Office) lookForVanished(ctx context.Context) {
	every := time.NewTicker(x.Patience / 6)
	defer every.Stop()
	var suspects []AttemptID
	for {
		select {
		case <-ctx.Done():
			return
		case <-every.C:
		}
		without, err := x.withoutMessage(ctx)
		if err != nil {
			continue // it is looked again
		}
		for _, id := range without {
			if !slices.Contains(suspects, id) {
				continue
			}
			x.vanished(ctx, id)
		}
		suspects = without
	}
}

// vanished has an order that has vanished be sent again, or be recorded as lost.
func (x *Office) vanished(ctx context.Context, id AttemptID) {
	x.mu.Lock()
	taken, again, name := x.claims[id], true, ""
	if taken.by != "" {
		name = taken.by
		w := x.workers[taken.by]
		if w != nil {
			name = w.Name
		}
		// It does not say that it has it: so that word never came there.
		again = w != nil && w.Heard.Sub(taken.at) > 2*helloTimeout
	}
	silent := x.Now().Sub(taken.at) >= x.Patience
	if again {
		x.anew[id] = uint64(x.Now().UnixNano())
		x.leave(id)
		delete(x.claims, id)
	}
	x.mu.Unlock()
	var err error
	switch {
	case again:
		x.Log.Warn("an order is not with the message server any more, and has not begun; it is sent again", "attempt", id.String())
		err = x.Recorder.Again(ctx, id)
	case silent:
		x.Log.Warn("an order is not with the message server any more, and the worker that took it is silent; its attempt is taken for lost", "attempt", id.String(), "worker", name)
		err = x.Recorder.Ended(ctx, Ended{AttemptID: id, At: x.Now(), Outcome: Lost, Error: fmt.Sprintf("worker %s, which took it, has not been heard for %v", name, x.Patience)})
	}
	if err != nil && ctx.Err() == nil {
		x.Log.Warn("that cannot be recorded now; it is tried later", "attempt", id.String(), "error", err)
	}
}

// withoutMessage are the orders that were sent, whose attempts have not begun, which no worker
// has that is heard, and of which the message server has no message. They are only looked for
// when it has fewer than there should be.
func (x *Office) withoutMessage(ctx context.Context) ([]AttemptID, error) {
	sent, messages := x.sent()
	if len(sent) == 0 {
		return nil, nil
	}
	stream, err := x.js.Stream(ctx, ordersStream)
	if err != nil || stream.CachedInfo().State.Msgs >= uint64(messages) {
		return nil, err
	}
	info, err := stream.Info(ctx, jetstream.WithSubjectFilter(subjectOrders+">"))
	if err != nil {
		return nil, err
	}
	there := map[AttemptID]bool{}
	x.mu.Lock()
	for subject := range info.State.Subjects {
		for _, id := range x.standsIn(subject) {
			there[id] = true
		}
	}
	held := x.heldNow()
	sent = slices.DeleteFunc(sent, func(id AttemptID) bool { return there[id] || held[id] })
	x.mu.Unlock()
	open, err := x.Recorder.Open(ctx, sent)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(sent, func(id AttemptID) bool {
		begun, ok := open[id]
		return begun || !ok
	}), nil
}

// sent are the orders that have gone out and whose end is not recorded, and how many messages
// they should be in.
func (x *Office) sent() (ids []AttemptID, messages int) {
	x.mu.Lock()
	defer x.mu.Unlock()
	waits := map[AttemptID]bool{}
	for _, o := range slices.Concat(x.sending, x.out) {
		if o.bundle == nil {
			waits[o.order.AttemptID] = true
			continue
		}
		for _, id := range x.bundles[o.bundle.subject] {
			waits[id] = true
		}
	}
	for _, orders := range x.later {
		for _, o := range orders {
			waits[o.AttemptID] = true
		}
	}
	in := map[string]bool{}
	for id, s := range x.mine {
		if waits[id] {
			continue
		}
		ids = append(ids, id)
		if s.bundle == "" || !in[s.bundle] {
			messages++
		}
		in[s.bundle] = true
	}
	return ids, messages
}
