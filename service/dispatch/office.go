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

// Recorder takes what workers say. Each method returns when it is recorded; an
// error means that it is not, and the worker says it again later.
type Recorder interface {
	Started(context.Context, Started) error
	Ended(context.Context, Ended) error
	// Open tells which of the attempts are still to come to an end, and whether it is
	// recorded that they have begun.
	Open(context.Context, []AttemptID) (map[AttemptID]bool, error)
	// Executed tells which attempts a worker executes, as far as is recorded, by the
	// worker's name.
	Executed(context.Context) (map[AttemptID]string, error)
}

// OfficeOptions shape the service's end.
type OfficeOptions struct {
	Recorder Recorder
	OnDisk   bool          // the streams are kept on the message server's disk, not in its memory
	Patience time.Duration // 0 is DefaultPatience
	Keep     func(context.Context, LogPiece) error
	Grown    func(AttemptID) // a log that a worker writes by itself has grown
	Parcel   func(name string, from int64) (piece []byte, last bool, err error)
	Now      func() time.Time
	Log      *slog.Logger
}

// Office is the service's end of the conversation with the workers.
type Office struct {
	OfficeOptions
	nc      *nats.Conn
	js      jetstream.JetStream
	subs    []*nats.Subscription
	stopped context.CancelFunc
	group   sync.WaitGroup
	room    chan struct{} // one for each report that is being recorded

	mu      sync.Mutex
	hushed  bool                 // no more orders go out
	claims  map[AttemptID]string // attempts that may be begun, and the instance that may
	opened  time.Time
	mine    map[AttemptID]bool // orders that were sent, and whose end is not recorded
	out     []outgoing
	wake    chan struct{}
	queues  map[string]bool
	workers map[string]*Worker     // by instance
	drained map[string]bool        // names of workers that are to take no more
	later   map[string][]Order     // by queue, that let all others go first
	idle    chan struct{}          // there may be slots for them
	leaving map[string]bool        // instances that are to end
	told    map[string][]AttemptID // recorded, and the worker of that name has not heard so
	toldAny chan struct{}
	changed chan struct{}           // closed when a worker says hello
	missing map[AttemptID]time.Time // since when nobody has said that it executes them
}

// outgoing is an order to be sent, or one to be taken back.
type outgoing struct {
	order  Order
	cancel bool
}

// Worker is a worker that has said hello.
type Worker struct {
	Hello
	Heard time.Time
}

// recordedAtOnce bounds how many reports are being recorded at a time; that is how
// many can share a commit.
const recordedAtOnce = 512

// Open opens the service's end, and makes the streams if they are not there.
func Open(ctx context.Context, nc *nats.Conn, o OfficeOptions) (*Office, error) {
	if o.Patience == 0 {
		o.Patience = DefaultPatience
	}
	x := &Office{OfficeOptions: o, nc: nc, mine: map[AttemptID]bool{}, claims: map[AttemptID]string{}, opened: o.Now(), wake: make(chan struct{}, 1), queues: map[string]bool{}, workers: map[string]*Worker{}, drained: map[string]bool{}, leaving: map[string]bool{}, later: map[string][]Order{}, idle: make(chan struct{}, 1),
		told: map[string][]AttemptID{}, toldAny: make(chan struct{}, 1), changed: make(chan struct{}), missing: map[AttemptID]time.Time{}, room: make(chan struct{}, recordedAtOnce)}
	var err error
	if x.js, err = jetstream.New(nc, jetstream.WithPublishAsyncMaxPending(1<<20), jetstream.WithPublishAsyncTimeout(5*time.Second)); err != nil {
		return nil, err
	}
	var reports jetstream.Consumer
	err = x.patiently(ctx, func() (err error) {
		if err = x.streams(ctx); err != nil {
			return fmt.Errorf("the streams of the message server cannot be made: %w", err)
		}
		if err = x.queue(ctx, DefaultQueue); err != nil {
			return err
		}
		reports, err = x.js.CreateOrUpdateConsumer(ctx, reportsStream, jetstream.ConsumerConfig{Durable: "engine", AckPolicy: jetstream.AckExplicitPolicy, AckWait: 30 * time.Second, MaxAckPending: -1})
		if err != nil {
			return fmt.Errorf("the reports of workers cannot be read: %w", err)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	running, stop := context.WithCancel(context.Background())
	x.stopped = stop
	consuming, err := reports.Consume(func(m jetstream.Msg) { x.report(running, m) }, jetstream.PullMaxMessages(recordedAtOnce))
	if err != nil {
		stop()
		return nil, fmt.Errorf("the reports of workers cannot be read: %w", err)
	}
	context.AfterFunc(running, consuming.Stop)
	for subject, take := range map[string]nats.MsgHandler{
		subjectHello + "*":   func(m *nats.Msg) { x.hello(running, m) },
		subjectStarted + "*": func(m *nats.Msg) { x.started(running, m) },
		subjectLog + "*":     func(m *nats.Msg) { x.log(running, m) },
		subjectLogged + "*":  func(m *nats.Msg) { x.logged(m) },
		subjectParcel:        x.parcel,
		subjectClaim + "*":   func(m *nats.Msg) { x.claim(running, m) },
	} {
		sub, err := nc.Subscribe(subject, take)
		if err != nil {
			stop()
			return nil, err
		}
		_ = sub.SetPendingLimits(-1, -1)
		x.subs = append(x.subs, sub)
	}
	x.group.Go(func() { x.send(running) })
	x.group.Go(func() { x.sendLater(running) })
	x.group.Go(func() { x.tell(running) })
	x.group.Go(func() { x.lookFor(running) })
	return x, nc.Flush()
}

// clusterPatience is how long a cluster may take to be of one mind again.
const clusterPatience = 2 * time.Minute

// patiently does something again and again: a cluster that has just lost a server, or is
// starting, answers a little later.
func (x *Office) patiently(ctx context.Context, do func() error) error {
	began, told := time.Now(), false
	for {
		err := do()
		if err == nil || ctx.Err() != nil || !x.OnDisk || time.Since(began) > clusterPatience {
			return err
		}
		if !told {
			x.Log.Warn("the message server does not do what it is asked; tried again for two minutes", "error", err)
			told = true
		}
		select {
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
		}
	}
}

// streams makes the two streams, kept thrice where the message server is a cluster.
func (x *Office) streams(ctx context.Context) error {
	copies := 1
	if len(x.nc.DiscoveredServers())+1 >= 3 && x.nc.ConnectedClusterName() != "" {
		copies = 3
	}
	storage := jetstream.MemoryStorage
	if x.OnDisk {
		storage = jetstream.FileStorage
	}
	for _, c := range []jetstream.StreamConfig{
		// An order stands in its subject alone: one that is sent again is refused.
		{Name: ordersStream, Subjects: []string{subjectOrders + ">"}, MaxMsgsPerSubject: 1, Discard: jetstream.DiscardNew, DiscardNewPerSubject: true},
		{Name: reportsStream, Subjects: []string{subjectReports + ">"}},
	} {
		c.Retention, c.Storage, c.Replicas = jetstream.WorkQueuePolicy, storage, copies
		c.Description = "Wise Lantern"
		if _, err := x.js.CreateOrUpdateStream(ctx, c); err != nil {
			return err
		}
	}
	return nil
}

// queue has a line of work be there.
func (x *Office) queue(ctx context.Context, name string) error {
	x.mu.Lock()
	known := x.queues[name]
	x.mu.Unlock()
	if known {
		return nil
	}
	if err := CheckName(name); err != nil {
		return err
	}
	// A worker says that it still has an order; without that it goes to another, which
	// knows that it is not the first.
	c := jetstream.ConsumerConfig{Durable: name, AckPolicy: jetstream.AckExplicitPolicy, AckWait: x.Patience, MaxAckPending: -1, MaxWaiting: mostPulls, FilterSubject: subjectOrders + name + ".>"}
	if _, err := x.js.CreateOrUpdateConsumer(ctx, ordersStream, c); err != nil {
		return fmt.Errorf("the queue %s cannot be made: %w", name, err)
	}
	x.mu.Lock()
	x.queues[name] = true
	x.mu.Unlock()
	return nil
}

// mostPulls bounds how many free slots a queue may have.
const mostPulls = 20_000

// Send has an order go out. One that is out already stays as it is. An order that lets
// others go first is kept here until a slot is free that nobody else wants.
func (x *Office) Send(o Order) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.hushed {
		return
	}
	x.mine[o.AttemptID] = true
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
	delete(x.mine, id)
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
		for _, q := range queues {
			if err := x.sendSomeLater(ctx, q); err != nil && ctx.Err() == nil {
				x.Log.Warn("orders that wait for a free slot cannot be sent now; it is tried again", "queue", q, "error", err)
			}
			again.Reset(time.Second)
		}
	}
}

func (x *Office) sendSomeLater(ctx context.Context, q string) error {
	if err := x.queue(ctx, q); err != nil {
		return err
	}
	consumer, err := x.js.Consumer(ctx, ordersStream, q)
	if err != nil {
		return err
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
	return nil
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
		batch := x.out
		x.out = nil
		x.mu.Unlock()
		failed := x.sendBatch(ctx, batch)
		if len(failed) == 0 {
			continue
		}
		x.mu.Lock()
		x.out = append(failed, x.out...)
		x.mu.Unlock()
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
			select {
			case <-g.ack.Ok():
			case err := <-g.ack.Err():
				var api *jetstream.APIError
				if errors.As(err, &api) && api.ErrorCode == perSubject {
					continue // it is out
				}
				x.Log.Warn("an order is not taken by the message server; it is sent again", "attempt", g.order.AttemptID.String(), "error", err)
				failed = append(failed, g.outgoing)
			}
		}
		going = going[:0]
	}
	for _, o := range batch {
		if o.cancel {
			settle()
			if i := slices.IndexFunc(failed, func(f outgoing) bool { return !f.cancel && f.order.AttemptID == o.order.AttemptID }); i >= 0 {
				failed = slices.Delete(failed, i, i+1)
			}
			if err := x.takeBack(ctx, o.order.AttemptID); err != nil && ctx.Err() == nil {
				x.Log.Warn("an order cannot be taken back now; it is tried again", "attempt", o.order.AttemptID.String(), "error", err)
				failed = append(failed, o)
			}
			continue
		}
		if !x.wanted(o.order.AttemptID) {
			continue
		}
		err := x.queue(ctx, o.order.queue())
		var text []byte
		if err == nil {
			o.order.Claim = x.OnDisk
			text, err = json.Marshal(o.order)
		}
		var ack jetstream.PubAckFuture
		if err == nil {
			// The id is for the case that an answer was lost, and the order has come to its
			// end since: then its subject is free again.
			ack, err = x.js.PublishAsync(o.order.subject(), text, jetstream.WithMsgID(o.order.AttemptID.String()))
		}
		if err != nil {
			x.Log.Warn("an order cannot be sent now; it is tried again", "attempt", o.order.AttemptID.String(), "error", err)
			failed = append(failed, o)
			continue
		}
		going = append(going, underway{o, ack})
	}
	settle()
	return failed
}

// wanted tells whether the end of an order is still to come.
func (x *Office) wanted(id AttemptID) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.mine[id]
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

// report records a report, and acknowledges it when it is recorded.
func (x *Office) report(ctx context.Context, m jetstream.Msg) {
	x.room <- struct{}{}
	x.group.Go(func() {
		defer func() { <-x.room }()
		var report Ended
		if err := json.Unmarshal(m.Data(), &report); err != nil {
			x.Log.Error("a report cannot be read and is left out", "error", err)
			_ = m.Term()
			return
		}
		if err := x.Recorder.Ended(ctx, report); err != nil {
			_ = m.NakWithDelay(time.Second)
			return
		}
		_ = m.Ack() // a repeat is recorded once
		x.mu.Lock()
		defer x.mu.Unlock()
		x.told[report.Worker] = append(x.told[report.Worker], report.AttemptID)
		nudge(x.toldAny)
		delete(x.missing, report.AttemptID)
		delete(x.mine, report.AttemptID)
		delete(x.claims, report.AttemptID)
		if len(x.later) > 0 {
			nudge(x.idle)
		}
	})
}

// toldEvery is how long what is recorded is gathered before workers are told.
const toldEvery = 20 * time.Millisecond

// tell tells workers what of theirs is recorded.
func (x *Office) tell(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-x.toldAny:
			time.Sleep(toldEvery)
		}
		x.mu.Lock()
		told := x.told
		x.told = map[string][]AttemptID{}
		x.mu.Unlock()
		for worker, ids := range told {
			if text, err := json.Marshal(ids); err == nil && worker != "" {
				_ = x.nc.Publish(subjectTold+worker, text) // an answer to a hello says it again
			}
		}
	}
}

func (x *Office) started(ctx context.Context, m *nats.Msg) {
	var all []Started
	if err := json.Unmarshal(m.Data, &all); err != nil {
		return
	}
	for _, s := range all {
		x.group.Go(func() { _ = x.Recorder.Started(ctx, s) }) // the next hello says it again
	}
}

// Hush has no more orders go out; those of later are sent by the next service.
func (x *Office) Hush() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.hushed = true
	clear(x.later)
	x.out = slices.DeleteFunc(x.out, func(o outgoing) bool { return !o.cancel })
}

// Close ends the conversation, once what came in is recorded or has failed to be.
func (x *Office) Close() {
	for _, s := range x.subs {
		_ = s.Unsubscribe()
	}
	x.stopped()
	x.group.Wait()
}

func (x *Office) logged(m *nats.Msg) {
	if id, err := ParseAttemptID(string(m.Data)); err == nil {
		x.Grown(id)
	}
}
