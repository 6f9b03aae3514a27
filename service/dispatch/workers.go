package dispatch

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
)

// hello answers a worker's hello.
func (x *Office) hello(ctx context.Context, m *nats.Msg) {
	var h Hello
	if err := json.Unmarshal(m.Data, &h); err != nil || subjectHello+h.Name != m.Subject {
		return
	}
	x.group.Go(func() {
		answer, err := x.answer(ctx, h)
		if err != nil {
			if ctx.Err() == nil {
				x.Log.Warn("a worker's hello cannot be answered now", "worker", h.Name, "error", err)
			}
			return
		}
		if text, err := json.Marshal(answer); err == nil {
			_ = m.Respond(text) // it says hello again
		}
	})
}

func (x *Office) answer(ctx context.Context, h Hello) (a Answer, err error) {
	for _, q := range h.Queues {
		if err := x.queue(ctx, q); err != nil {
			return a, err
		}
	}
	ids := slices.Clone(h.Told)
	for _, held := range h.Holds {
		ids = append(ids, held.AttemptID)
	}
	var open map[AttemptID]bool // and whether it is known to be executed
	if len(ids) > 0 {
		if open, err = x.Recorder.Open(ctx, ids); err != nil {
			return a, err
		}
	}
	for _, id := range h.Told {
		if _, ok := open[id]; !ok {
			a.Recorded = append(a.Recorded, id)
		}
	}
	for _, held := range h.Holds {
		switch begun, ok := open[held.AttemptID]; {
		case !ok:
			a.Stop = append(a.Stop, held.AttemptID)
		case !begun && !held.Started.IsZero() && x.Now().Sub(held.Started) > 10*begunAfter: // that word was lost
			x.group.Go(func() {
				_ = x.Recorder.Started(ctx, Started{AttemptID: held.AttemptID, Worker: h.Name, At: held.Started})
			})
		}
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, id := range ids { // also of what it has told of: that is executed, and not recorded yet
		if _, ok := open[id]; ok && x.claims[id].by == "" && (x.OnDisk || x.Apart) {
			x.claims[id] = grant{h.Instance, x.Now()}
		}
	}
	x.takesOver(ids, open, h.Name)
	if !x.OnDisk {
		a.Opened = x.made
	}
	a.Drain, a.Leave = x.drained[h.Name], x.leaving[h.Instance]
	x.took(h)
	x.workers[h.Instance] = &Worker{Hello: h, Heard: x.Now()}
	nudge(x.idle)
	close(x.changed)
	x.changed = make(chan struct{})
	return a, nil
}

// takesOver notes what a worker has of a service before this one. It is for who has the lock.
func (x *Office) takesOver(ids []AttemptID, open map[AttemptID]bool, name string) {
	for _, id := range ids {
		_, mine := x.mine[id]
		if _, ok := open[id]; ok && !mine && x.before[id] && !x.OnDisk {
			x.theirs[id] = name
		}
	}
}

// forgottenAfter is how long a worker is listed that is not heard.
const forgottenAfter = time.Hour

// Workers are those that have said hello, by name; one that is gone is told for an
// hour.
func (x *Office) Workers() (all []Worker) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, w := range x.workers {
		now := *w
		now.Draining = w.Draining || x.drained[w.Name] || x.leaving[w.Instance]
		all = append(all, now)
	}
	slices.SortFunc(all, func(a, b Worker) int { return cmp.Or(cmp.Compare(a.Name, b.Name), a.Since.Compare(b.Since)) })
	return all
}

// Gone removes a worker of which it is known that it has ended.
func (x *Office) Gone(instance string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	delete(x.workers, instance)
}

// Changes is closed when a worker next says hello.
func (x *Office) Changes() <-chan struct{} {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.changed
}

// Drain has the workers of that name take no more work, or take it again.
func (x *Office) Drain(name string, on bool) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	names := map[string]bool{}
	for _, w := range x.workers {
		names[w.Name] = true
	}
	if !names[name] {
		return fmt.Errorf("there is no worker %q; those that are there: %s", name, strings.Join(slices.Sorted(maps.Keys(names)), ", "))
	}
	if on {
		x.drained[name] = true
	} else {
		delete(x.drained, name)
	}
	return x.nc.Publish(subjectGreet+name, nil) // it says hello by itself too
}

// Leave has one worker take no more work, and end when it has none left.
func (x *Office) Leave(instance string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.leaving[instance] = true
}

// Knows tells whether an order is to be sent, or a worker that was heard of late has it.
func (x *Office) Knows(id AttemptID) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	_, mine := x.mine[id]
	return mine || x.heldBy(id, "")
}

// Busy tells whether an order is out whose end is not recorded.
func (x *Office) Busy() bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return len(x.mine) > 0 || slices.ContainsFunc(slices.Collect(maps.Values(x.workers)), func(w *Worker) bool { return w.Local && len(w.Holds) > 0 })
}

// Serves tells whether a worker that was heard of late takes from a queue.
func (x *Office) Serves(queue string) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, w := range x.workers {
		if x.Now().Sub(w.Heard) < x.Patience && slices.Contains(w.Queues, queue) {
			return true
		}
	}
	return false
}

// heldBy tells whether a worker that is not silent, and is not that one, has an attempt or a
// report of it, for who has the lock.
func (x *Office) heldBy(id AttemptID, but string) bool {
	for instance, w := range x.workers {
		if instance != but && x.Now().Sub(w.Heard) < x.Patience && (slices.Contains(w.Told, id) || slices.ContainsFunc(w.Holds, func(h Held) bool { return h.AttemptID == id })) {
			return true
		}
	}
	return false
}

// heldNow are all attempts that workers which are not silent have, or a report of them, for who
// has the lock.
func (x *Office) heldNow() map[AttemptID]bool {
	held := map[AttemptID]bool{}
	for _, w := range x.workers {
		if x.Now().Sub(w.Heard) >= x.Patience {
			continue
		}
		for _, id := range w.Told {
			held[id] = true
		}
		for _, h := range w.Holds {
			held[h.AttemptID] = true
		}
	}
	return held
}

// lookFor looks for attempts whose workers are silent, until ctx is done: those that
// nobody has said for so long that it executes them are lost. So are those that a worker
// had of a service before this one: their messages went with that, and nobody knows how far
// they came.
func (x *Office) lookFor(ctx context.Context) {
	every := time.NewTicker(x.Patience / 6)
	defer every.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-every.C:
		}
		executed, err := x.Recorder.Executed(ctx)
		if err != nil {
			continue // it is looked again
		}
		x.mu.Lock()
		for id, name := range x.theirs {
			if executed[id] == "" {
				executed[id] = name
			}
		}
		now := x.Now()
		for instance, w := range x.workers {
			if now.Sub(w.Heard) > forgottenAfter {
				delete(x.workers, instance)
			}
		}
		var lost []AttemptID
		held := x.heldNow()
		for id := range executed {
			switch since, ok := x.missing[id]; {
			case held[id]:
				delete(x.missing, id)
			case !ok:
				x.missing[id] = now
			case now.Sub(since) >= x.Patience:
				lost = append(lost, id)
			}
		}
		maps.DeleteFunc(x.missing, func(id AttemptID, _ time.Time) bool { _, ok := executed[id]; return !ok })
		x.mu.Unlock()
		for _, id := range lost {
			x.Log.Warn("a worker is not heard any more; its attempt is taken for lost", "worker", executed[id], "attempt", id.String())
			err := x.Recorder.Ended(ctx, Ended{AttemptID: id, Worker: executed[id], At: now, Outcome: Lost, Error: fmt.Sprintf("worker %s, which ran it, has not been heard for %v", executed[id], x.Patience)})
			if err != nil {
				continue // it is looked again
			}
			x.Cancel(id) // for the case that it is there after all
			x.mu.Lock()
			delete(x.claims, id)
			x.mu.Unlock()
		}
	}
}
