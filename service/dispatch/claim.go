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
		if _, ok := open[id]; ok && (x.claims[id] == "" || x.claims[id] == instance) {
			x.claims[id], answer = instance, claimYes
		}
		x.mu.Unlock()
		_ = m.Respond([]byte(answer)) // it asks again
	})
}

// claim asks whether an order may be begun here. It is false too when nobody answers:
// then the order is given to another, which says that it was given before.
func (c *Courier) claim(ctx context.Context, id AttemptID) (yes bool) {
	c.asks(ctx, headerAttempt, id.String(), func(answer []byte) bool {
		yes = string(answer) == claimYes
		return yes || string(answer) == claimNo
	})
	return yes
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
