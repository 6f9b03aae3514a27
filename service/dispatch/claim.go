package dispatch

import (
	"context"
	"fmt"
	"time"

	"github.com/nats-io/nats.go"
)

// A cluster of message servers that has just lost one can deliver an order to two
// workers, to each as for the first time; and a service that has just begun can send an
// order of which it has not heard yet that a worker has it. So a worker asks before it
// begins: the service says yes to one of them.

const (
	subjectClaim  = "lantern.claim." // WORKER; the attempt's id or its bundle, and the instance
	headerAttempt = "attempt"
	claimYes      = "yes"
	claimNo       = "no"
	claimWait     = "wait" // workers have not yet told what they hold
	claimPatience = 30 * time.Second
)

// grant is what a worker has that may begin an attempt.
type grant struct {
	by string // its instance
	at time.Time
}

// outBefore are the attempts that workers may have when a service begins; any other is
// known to whom this one gives it.
func (x *Office) outBefore(ctx context.Context) (map[AttemptID]bool, error) {
	ids, err := x.Recorder.Out(ctx)
	if err != nil {
		return nil, fmt.Errorf("the attempts that are out cannot be read: %w", err)
	}
	before := map[AttemptID]bool{}
	for _, id := range ids {
		before[id] = true
	}
	return before, nil
}

// greetAll has all workers say hello, again and again for as long as attempts of before wait
// for it, until ctx is done.
func (x *Office) greetAll(ctx context.Context) {
	for began := time.Now(); x.OnDisk || x.Apart; {
		_ = x.nc.Publish(subjectGreetAll, nil) // it is said again
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return
		}
		if time.Since(began) > HelloEvery {
			return
		}
	}
}

// early tells whether a worker may have an attempt of before that has not said so yet.
func (x *Office) early(id AttemptID) bool {
	return x.before[id] && x.Now().Sub(x.opened) < HelloEvery+time.Second
}

// claim answers a worker that wants to begin an attempt.
func (x *Office) claim(ctx context.Context, m *nats.Msg) {
	if m.Header.Get(headerBundle) != "" {
		x.claimBundle(m)
		return
	}
	x.group.Go(func() {
		id, err := ParseAttemptID(m.Header.Get(headerAttempt))
		instance := m.Header.Get("instance")
		if err != nil || instance == "" {
			return
		}
		if x.early(id) {
			_ = m.Respond([]byte(claimWait))
			return
		}
		open, err := x.Recorder.Open(ctx, []AttemptID{id})
		if err != nil {
			return // it asks again
		}
		answer := claimNo
		x.mu.Lock()
		begun, is := open[id]
		free := x.claims[id].by == "" && !begun && !x.heldBy(id, instance)
		if is && (free || x.claims[id].by == instance) {
			x.claims[id], answer = grant{instance, x.Now()}, claimYes
		}
		x.mu.Unlock()
		x.Log.Debug("a worker asks whether it may begin", "attempt", id.String(), "instance", instance, "answer", answer)
		_ = m.Respond([]byte(answer)) // it asks again
	})
}

// claim asks whether an order may be begun here. When nobody answers it may not: then it is
// given to another, which says that it was given before.
func (c *Courier) claim(ctx context.Context, id AttemptID) (yes, answered bool) {
	c.asks(ctx, headerAttempt, id.String(), func(answer []byte) bool {
		yes = string(answer) == claimYes
		answered = yes || string(answer) == claimNo
		return answered
	})
	return yes, answered
}

// asks asks for leave to begin something, again and again for a while until there is an
// answer that says it.
func (c *Courier) asks(ctx context.Context, header, what string, says func(answer []byte) bool) {
	for began := time.Now(); time.Since(began) < claimPatience && ctx.Err() == nil; {
		request := nats.NewMsg(subjectClaim + c.name)
		request.Header.Set(header, what)
		request.Header.Set("instance", c.instance)
		asking, stop := context.WithTimeout(ctx, 2*time.Second)
		answer, err := c.nc.RequestMsgWithContext(asking, request)
		stop()
		if err == nil && says(answer.Data) {
			return
		}
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
		}
	}
}
