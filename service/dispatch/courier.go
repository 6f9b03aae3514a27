package dispatch

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// ErrClosed says that no orders are given out any more.
var ErrClosed = errors.New("the service takes no more work")

// CourierOptions shape a worker's end.
type CourierOptions struct {
	Hello func() Hello // what the worker says of itself; what it holds and told is added
	Keep  func(context.Context, Log) error
	// Before returns when what belongs before the report of an attempt is with the
	// service.
	Before func(context.Context, AttemptID) error
	Expect []AttemptID   // of which an earlier worker has left reports
	Estate Estate        // what those before it have left; its instance is filled in
	Every  time.Duration // between hellos; 0 is HelloEvery
	Words  *slog.Logger
}

// Courier is the end of a worker in its conversation with the service.
type Courier struct {
	CourierOptions
	name     string
	instance string
	slots    int
	nc       *nats.Conn
	js       jetstream.JetStream
	inbox    string // what it asks for comes here
	in       chan *nats.Msg
	group    sync.WaitGroup
	ending   context.CancelFunc

	now      chan struct{}   // it is to say hello
	life     context.Context // done when the conversation ends
	claimed  chan []taken    // orders that may be begun; none when what came may not
	claiming map[AttemptID]bool
	look     chan struct{} // more may be asked for than before
	anew     chan struct{} // what was asked for before is not answered any more

	mu         sync.Mutex
	waiting    []chan<- taken // slots that wait for an order
	shelf      shelf          // orders that no slot has taken yet
	leaving    bool           // it takes no more, and ends when it has nothing left
	resting    bool           // it takes no more, for its machine cannot
	restUntil  time.Time      // at least
	restReason string
	drained    bool    // it takes no more, as the service says
	inherited  bool    // the service knows what those before it have left
	asked      int     // messages with orders that were asked for and have not come
	each       float64 // about how many orders such a message brings
	closed     chan struct{}
	heard      time.Time
	opened     time.Time     // when the streams were made; zero if they outlive the service
	welcome    chan struct{} // closed when the service has answered
	hands      map[AttemptID]*inHand
	stops      map[AttemptID]time.Time // told to be ended, and maybe on the way to here
	begun      []Started               // not said yet
	begin      chan struct{}
	reports    []saying      // not said yet
	usual      time.Duration // about how long attempts take; 0 if nobody knows
	report     chan struct{}
}

// inHand is an order that the worker has, until its report is recorded.
type inHand struct {
	came     *letter // nil for what an earlier worker has left
	stop     chan struct{}
	started  time.Time // zero if it has not begun
	told     bool      // its report is written down
	back     bool      // it goes back, and is not begun here
	recorded chan struct{}
}

// letter is a message with orders.
type letter struct {
	msg    *nats.Msg
	orders int // how many of it are in hand
}

// settle notes that an order is not in hand any more: with the last one of its message, that
// is done. It is for who has the lock.
func (c *Courier) settle(held *inHand) {
	if held.came == nil {
		return
	}
	if held.came.orders--; held.came.orders == 0 && !c.stale(held.came.msg) {
		_ = held.came.msg.Ack() // one that is lost is noticed when it comes again
	}
}

// stale tells whether a message is of a stream that went with its service. Another may stand
// in its place by now, and is not to be acknowledged for it. It is for who has the lock.
func (c *Courier) stale(m *nats.Msg) bool {
	_, sent := placeOf(m)
	return sent.Before(c.opened)
}

// NewCourier opens a worker's end on a connection, and says hello.
func NewCourier(nc *nats.Conn, o CourierOptions) (*Courier, error) {
	if o.Every == 0 {
		o.Every = HelloEvery
	}
	hello := o.Hello()
	ctx, ending := context.WithCancel(context.Background())
	c := &Courier{CourierOptions: o, name: hello.Name, instance: hello.Instance, slots: hello.Slots, each: 1, nc: nc, inbox: nc.NewInbox(), in: make(chan *nats.Msg, 1024), ending: ending, life: ctx,
		claimed: make(chan []taken), claiming: map[AttemptID]bool{}, now: make(chan struct{}, 1), look: make(chan struct{}, 1), anew: make(chan struct{}, 1), closed: make(chan struct{}), welcome: make(chan struct{}), hands: map[AttemptID]*inHand{}, stops: map[AttemptID]time.Time{}, begin: make(chan struct{}, 1), report: make(chan struct{}, 1)}
	c.ExpectAlso(o.Expect)
	var err error
	if c.js, err = jetstream.New(nc); err != nil {
		return nil, err
	}
	if _, err = nc.ChanSubscribe(c.inbox+".*", c.in); err != nil {
		return nil, err
	}
	subjects := map[string]nats.MsgHandler{
		subjectStop: func(m *nats.Msg) {
			if id, err := ParseAttemptID(string(m.Data)); err == nil {
				c.stop(id)
			}
		},
		subjectGreetAll:       func(*nats.Msg) { nudge(c.now) },
		subjectGreet + c.name: func(*nats.Msg) { nudge(c.now) },
		subjectTold + c.name: func(m *nats.Msg) {
			var ids []AttemptID
			if json.Unmarshal(m.Data, &ids) == nil {
				c.recorded(ids)
			}
		},
	}
	for subject, take := range subjects {
		if _, err := nc.Subscribe(subject, take); err != nil {
			return nil, err
		}
	}
	c.group.Go(func() { c.greet(ctx) })
	c.group.Go(func() { c.inherit(ctx) })
	c.group.Go(func() { c.fetch(ctx) })
	c.group.Go(func() { c.sayBegun(ctx) })
	c.group.Go(func() { c.sayReports(ctx) })
	return c, nil
}

// Welcome is closed when the service has answered.
func (c *Courier) Welcome() <-chan struct{} { return c.welcome }

// Heard is when the service last answered, zero if it never has.
func (c *Courier) Heard() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.heard
}

// Hands tells how many attempts are executed or may come, and of how many the report
// is not recorded.
func (c *Courier) Hands() (executed, told int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.nc.IsConnected() {
		executed = c.asked + len(c.claiming)
	}
	for _, h := range c.hands {
		if h.told {
			told++
		} else {
			executed++
		}
	}
	return executed, told
}

// Leave has no more orders be taken, for good.
func (c *Courier) Leave() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.leaving = true
}

// Leaving tells whether no more orders are taken, for good.
func (c *Courier) Leaving() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.leaving
}

// Close ends Take with ErrClosed; reports are still said.
func (c *Courier) Close() {
	c.mu.Lock()
	defer c.mu.Unlock()
	select {
	case <-c.closed:
	default:
		close(c.closed)
	}
}

// End ends the conversation.
func (c *Courier) End() {
	c.Close()
	c.ending()
	c.group.Wait()
}

// A hello that is not answered is said again soon: a service that has just begun learns by
// it what its workers have.
const (
	helloTimeout = 2 * time.Second
	helloAgain   = 250 * time.Millisecond
)

// greet says hello every few seconds, and at once when the connection is there again.
func (c *Courier) greet(ctx context.Context) {
	again := make(chan nats.Status, 4)
	changes := c.nc.StatusChanged(nats.CONNECTED)
	go func() {
		for s := range changes {
			select {
			case again <- s:
			default:
			}
		}
	}()
	every := time.NewTicker(c.Every)
	defer every.Stop()
	for {
		var soon <-chan time.Time
		if err := c.sayHello(ctx); err != nil && ctx.Err() == nil {
			c.Words.Debug("the service does not answer", "error", err)
			soon = time.After(helloAgain)
		}
		select {
		case <-ctx.Done():
			return
		case <-every.C:
		case <-soon:
		case <-c.now:
		case <-again:
			nudge(c.anew)
		}
	}
}

// restFor is how long no orders are taken after one that the machine could not begin.
const restFor = 15 * time.Second

// Rest has no orders be taken for a while, for a reason: something shows that the machine
// cannot execute them now.
func (c *Courier) Rest(reason string) {
	c.mu.Lock()
	c.resting, c.restReason, c.restUntil = true, reason, time.Now().Add(restFor)
	c.mu.Unlock()
	nudge(c.now)
}

func (c *Courier) sayHello(ctx context.Context) error {
	h := c.Hello()
	c.mu.Lock()
	if time.Now().Before(c.restUntil) {
		h.Faults = append(h.Faults, c.restReason)
	}
	c.resting = len(h.Faults) > 0
	h.Draining, h.Bundles = c.leaving || c.drained, true
	letters := map[*letter]bool{}
	for id, held := range c.hands {
		if held.told {
			h.Told = append(h.Told, id)
		} else if !held.back {
			h.Holds = append(h.Holds, Held{id, held.started})
		}
		if held.came != nil {
			letters[held.came] = true
		}
	}
	for l := range letters {
		if !c.stale(l.msg) {
			_ = l.msg.InProgress() // it is still at it
		}
	}
	for id, at := range c.stops {
		if time.Since(at) > time.Minute {
			delete(c.stops, id)
		}
	}
	c.mu.Unlock()
	text, err := json.Marshal(h)
	if err != nil {
		return err
	}
	asking, stop := context.WithTimeout(ctx, min(c.Every, helloTimeout))
	defer stop()
	reply, err := c.nc.RequestWithContext(asking, subjectHello+c.name, text)
	if err != nil {
		return err
	}
	var a Answer
	if err := json.Unmarshal(reply.Data, &a); err != nil {
		return err
	}
	c.mu.Lock()
	if c.heard.IsZero() {
		close(c.welcome)
	}
	c.heard, c.opened, c.drained, c.leaving = time.Now(), a.Opened, a.Drain, c.leaving || a.Leave
	c.mu.Unlock()
	c.recorded(a.Recorded)
	for _, id := range a.Stop {
		c.stop(id)
	}
	nudge(c.look)
	return nil
}

// stop has an attempt end.
func (c *Courier) stop(id AttemptID) {
	c.mu.Lock()
	defer c.mu.Unlock()
	held := c.hands[id]
	if held == nil {
		c.stops[id] = time.Now()
		return
	}
	select {
	case <-held.stop:
	default:
		close(held.stop)
	}
}

// recorded notes that reports are recorded, and gives their orders back.
func (c *Courier) recorded(ids []AttemptID) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, id := range ids {
		held := c.hands[id]
		if held == nil || !held.told {
			continue
		}
		c.settle(held)
		close(held.recorded)
		delete(c.hands, id)
	}
}

// Started says that an attempt is executed. It is said a moment later, together with
// others, and not at all if the attempt has ended by then: its report tells.
func (c *Courier) Started(s Started) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if held := c.hands[s.AttemptID]; held != nil {
		held.started = s.At
	}
	c.begun = append(c.begun, s)
	nudge(c.begin)
}

// begunAfter is how long an attempt is executed before its start is said.
const begunAfter = 50 * time.Millisecond

func (c *Courier) sayBegun(ctx context.Context) {
	for {
		select {
		case <-c.begin:
			time.Sleep(begunAfter)
		case <-ctx.Done():
			return
		}
		var begun []Started
		c.mu.Lock()
		c.begun = slices.DeleteFunc(c.begun, func(s Started) bool {
			held := c.hands[s.AttemptID]
			if held == nil || held.told {
				return true
			}
			if time.Since(s.At) < begunAfter {
				return false
			}
			begun = append(begun, s)
			return true
		})
		if len(c.begun) > 0 {
			nudge(c.begin)
		}
		c.mu.Unlock()
		if len(begun) == 0 {
			continue
		}
		if text, err := json.Marshal(begun); err == nil {
			_ = c.nc.Publish(subjectStarted+c.name, text) // hello says it again
		}
	}
}

// Log passes on what a task printed.
func (c *Courier) Log(ctx context.Context, m Log) error { return c.Keep(ctx, m) }

// Logged says that a log has grown that the worker writes by itself.
func (c *Courier) Logged(id AttemptID) { _ = c.nc.Publish(subjectLogged+c.name, []byte(id.String())) }

// ExpectAlso notes reports that another worker has left, so that hellos tell of them.
func (c *Courier) ExpectAlso(ids []AttemptID) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, id := range ids {
		if c.hands[id] == nil {
			c.hands[id] = &inHand{stop: make(chan struct{}), told: true, recorded: make(chan struct{})}
		}
	}
}

// sayAgain is how long a report may be under way before it is sent again.
const sayAgain = 15 * time.Second

// saying is a report that is to be said.
type saying struct {
	report Ended
	said   chan error // why the message server does not take it; it holds one
}

// Ended says how an attempt ended, and returns when that is recorded. While there is
// no connection it waits, until ctx is done.
func (c *Courier) Ended(ctx context.Context, m Ended) error {
	held := c.inHandOf(m.AttemptID)
	if !m.Started.IsZero() {
		c.lasted(m.At.Sub(m.Started))
	}
	if err := c.Before(ctx, m.AttemptID); err != nil {
		return err
	}
	s := saying{m, make(chan error, 1)}
	c.mu.Lock()
	c.reports = append(c.reports, s)
	c.mu.Unlock()
	nudge(c.report)
	again := time.NewTimer(sayAgain)
	defer again.Stop()
	for {
		select {
		case err := <-s.said:
			return fmt.Errorf("the message server does not take it: %w", err)
		case <-held.recorded:
			return nil
		case <-again.C:
			return errors.New("nobody has said that it is recorded")
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// inHandOf is what is in hand of an attempt, of which the report is written down.
func (c *Courier) inHandOf(id AttemptID) *inHand {
	c.mu.Lock()
	defer c.mu.Unlock()
	held := c.hands[id]
	if held == nil {
		held = &inHand{stop: make(chan struct{}), recorded: make(chan struct{})}
		c.hands[id] = held
	}
	held.told = true
	return held
}

// Reports go out together as far as they have come while the last ones went out.
const (
	mostReports     = 256
	mostReportBytes = 1 << 20 // but for one that has more by itself
)

// sayReports says reports until ctx is done.
func (c *Courier) sayReports(ctx context.Context) {
	for {
		select {
		case <-c.report:
		case <-ctx.Done():
			return
		}
		c.mu.Lock()
		if len(c.shelf) > 0 { // there is enough to do meanwhile
			gather := min(max(c.usual, gatherFor), gatherMost)
			c.mu.Unlock()
			time.Sleep(gather)
			c.mu.Lock()
		}
		count, size := 0, 0
		for ; count < min(len(c.reports), mostReports); count++ {
			if size += len(c.reports[count].report.Result); count > 0 && size > mostReportBytes {
				break
			}
		}
		batch := slices.Clone(c.reports[:count])
		c.reports = slices.Delete(c.reports, 0, count)
		if len(c.reports) > 0 {
			nudge(c.report)
		}
		c.mu.Unlock()
		reports := make([]Ended, count)
		for i, s := range batch {
			reports[i] = s.report
		}
		err := c.sayTogether(ctx, reports)
		for _, s := range batch {
			if err != nil {
				s.said <- err
			}
		}
	}
}

// sayTogether has the message server take reports.
func (c *Courier) sayTogether(ctx context.Context, reports []Ended) error {
	text, err := json.Marshal(reports)
	if err == nil {
		_, err = c.js.Publish(ctx, subjectReports+c.name, text)
	}
	return err
}
