package dispatch

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// A worker that is killed takes with it the orders that were on their way to it or waited
// there for a slot. They had not begun, which the next worker of its folder knows: whatever
// had is in a journal. So that one says it before it asks for any order, and the service has
// them be given out anew, where nobody else can have them. Elsewhere they come to another
// worker when DefaultPatience is over, which cannot know how far they came.

// Estate is what a worker has found of those before it in its folder, which have ended.
type Estate struct {
	Instance string      `json:"instance"` // of the worker that has found it
	Of       []string    `json:"of"`       // their instances
	Begun    []AttemptID `json:"begun"`    // what they had begun, as far as its end is not known to be recorded
}

const (
	heirTimeout = 2 * time.Second
	heirTries   = 5 // an older service does not answer
)

// inherit tells the service of the workers before this one; orders are asked for then.
func (c *Courier) inherit(ctx context.Context) {
	defer nudge(c.look)
	if len(c.Estate.Of) > 0 {
		select {
		case <-c.welcome:
		case <-ctx.Done():
			return
		}
		c.Estate.Instance = c.instance
		text, err := json.Marshal(c.Estate)
		for range heirTries {
			if err != nil || ctx.Err() != nil {
				break
			}
			asking, stop := context.WithTimeout(ctx, heirTimeout)
			_, unheard := c.nc.RequestWithContext(asking, subjectHeir+c.name, text)
			if unheard != nil {
				<-asking.Done()
			}
			stop()
			if unheard == nil {
				break
			}
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.inherited = true
}

// took notes that a worker takes orders of queues.
func (x *Office) took(h Hello) {
	for _, q := range h.Queues {
		if x.takers[q] == nil {
			x.takers[q] = map[string]string{}
		}
		x.takers[q][h.Instance] = h.Name
	}
}

// heir answers a worker that follows others.
func (x *Office) heir(ctx context.Context, m *nats.Msg) {
	x.group.Go(func() {
		var e Estate
		if json.Unmarshal(m.Data, &e) != nil || x.OnDisk {
			_ = m.Respond(nil)
			return
		}
		for _, q := range x.leftBy(e, strings.TrimPrefix(m.Subject, subjectHeir)) {
			if err := x.giveAnew(ctx, q, e.Begun); err != nil {
				x.Log.Warn("orders that a worker had not begun when it ended cannot be given out anew; they are taken for lost in a while", "queue", q, "error", err)
			}
		}
		_ = m.Respond(nil)
	})
}

// leftBy are the queues from which nobody has taken but workers of that name that have
// ended, and their heir, who waits. All that ever took from a queue are known: its stream
// is of this service's life.
func (x *Office) leftBy(e Estate, name string) (queues []string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for q, takers := range x.takers {
		left := 0
		for instance, of := range takers {
			if of == name && slices.Contains(e.Of, instance) {
				left++
			}
		}
		if _, heir := takers[e.Instance]; left == 0 || !heir || len(takers) != left+1 {
			continue
		}
		maps.DeleteFunc(takers, func(instance string, _ string) bool { return instance != e.Instance })
		queues = append(queues, q)
	}
	return queues
}

// giveAnew has the orders of a queue be given out as for the first time, but for those that
// have begun or ended.
func (x *Office) giveAnew(ctx context.Context, queue string, begun []AttemptID) error {
	stream, err := x.js.Stream(ctx, ordersStream)
	if err != nil {
		return err
	}
	info, err := stream.Info(ctx, jetstream.WithSubjectFilter(subjectOrders+queue+".>"))
	if err != nil {
		return err
	}
	stands := map[string][]AttemptID{}
	x.mu.Lock()
	for subject := range info.State.Subjects {
		stands[subject] = x.standsIn(subject)
	}
	x.mu.Unlock()
	open, err := x.Recorder.Open(ctx, slices.Concat(slices.Collect(maps.Values(stands))...))
	if err != nil {
		return err
	}
	for _, id := range begun {
		delete(open, id)
	}
	for subject, ids := range stands {
		waits := false
		x.mu.Lock()
		for _, id := range ids {
			delete(x.claims, id)
			if executed, is := open[id]; is && !executed {
				waits = true
			} else {
				x.leave(id)
			}
		}
		x.mu.Unlock()
		if waits {
			continue
		}
		if err := stream.Purge(ctx, jetstream.WithPurgeSubject(subject)); err != nil {
			return err
		}
	}
	if err := x.js.DeleteConsumer(ctx, ordersStream, queue); err != nil {
		return fmt.Errorf("the queue cannot be made anew: %w", err)
	}
	x.mu.Lock()
	delete(x.queues, queue)
	x.mu.Unlock()
	return x.queue(ctx, queue)
}
