package dispatch

import (
	"context"
	"slices"
	"time"

	"github.com/nats-io/nats.go/jetstream"
)

// The message of an order is in its stream until the end of the attempt is recorded, whoever
// has the order. One that is to come to an end, has not begun, and has no message any more
// would be awaited for ever: it has vanished, by a fault of the message server or of ours,
// and is sent again.

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
			x.Log.Warn("an order is not with the message server any more, and has not begun; it is sent again", "attempt", id.String())
			x.mu.Lock()
			x.anew[id] = uint64(x.Now().UnixNano())
			x.leave(id)
			delete(x.claims, id)
			x.mu.Unlock()
			if err := x.Recorder.Again(ctx, id); err != nil && ctx.Err() == nil {
				x.Log.Warn("it cannot be sent again now; it is tried later", "attempt", id.String(), "error", err)
			}
		}
		suspects = without
	}
}

// withoutMessage are the orders that were sent, whose attempts have not begun, and of which
// the message server has no message. They are only looked for when it has fewer than there
// should be.
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
	x.mu.Unlock()
	sent = slices.DeleteFunc(sent, func(id AttemptID) bool { return there[id] })
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
	for _, o := range x.out {
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
