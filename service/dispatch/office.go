package dispatch

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// Recorder takes what workers say. Each method returns when it is recorded; an
// error means that it is not, and the worker says it again later.
type Recorder interface {
	Started(context.Context, Started) error
	Ended(context.Context, ...Ended) error
	// Open tells which of the attempts are still to come to an end, and whether it is
	// recorded that they have begun.
	Open(context.Context, []AttemptID) (map[AttemptID]bool, error)
	// Out lists the attempts whose orders have gone out, and that have not come to an end.
	Out(context.Context) ([]AttemptID, error)
	// Again has the order of an attempt that has not begun be sent again.
	Again(context.Context, AttemptID) error
	// Executed tells which attempts a worker executes, as far as is recorded, by the
	// worker's name.
	Executed(context.Context) (map[AttemptID]string, error)
}

// OfficeOptions shape the service's end.
type OfficeOptions struct {
	Recorder Recorder
	OnDisk   bool          // the message server is an outside one, which keeps the streams on its disk
	Apart    bool          // workers of other machines may have orders of a service before this one
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
	hushed  bool                // no more orders go out
	claims  map[AttemptID]grant // attempts that may be begun, and by whom
	opened  time.Time
	made    time.Time                // the streams, by the clock of the machine, as the message server stamps what comes
	theirs  map[AttemptID]string     // attempts that a worker has of a service before this one, and its name
	before  map[AttemptID]bool       // attempts that workers may have of a service before this one
	mine    map[AttemptID]standing   // orders that were sent, and whose end is not recorded
	bundles map[string][]AttemptID   // by subject: the orders that go out together, without those that have left it
	bundled int64                    // how many there have been
	usual   map[string]time.Duration // by queue: about how long attempts take; 0 if nobody knows
	anew    map[AttemptID]uint64     // orders that are sent again since they had vanished, and when that was found
	out     []outgoing
	sending []outgoing // what was out and goes to the message server just now
	wake    chan struct{}
	queues  map[string]bool
	workers map[string]*Worker           // by instance
	takers  map[string]map[string]string // by queue: who has ever taken from it, instances and names
	drained map[string]bool              // names of workers that are to take no more
	later   map[string][]Order           // by queue, that let all others go first
	idle    chan struct{}                // there may be slots for them
	leaving map[string]bool              // instances that are to end
	told    map[string][]AttemptID       // recorded, and the worker of that name has not heard so
	toldAny chan struct{}
	changed chan struct{}           // closed when a worker says hello
	missing map[AttemptID]time.Time // since when nobody has said that it executes them
}

// outgoing is an order to be sent, or one to be taken back.
type outgoing struct {
	order  Order
	bundle *bundle // nil for one that goes alone
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
	x := &Office{OfficeOptions: o, nc: nc, mine: map[AttemptID]standing{}, theirs: map[AttemptID]string{}, bundles: map[string][]AttemptID{}, usual: map[string]time.Duration{}, anew: map[AttemptID]uint64{}, claims: map[AttemptID]grant{}, opened: o.Now(), made: time.Now(), wake: make(chan struct{}, 1), queues: map[string]bool{}, workers: map[string]*Worker{}, takers: map[string]map[string]string{}, drained: map[string]bool{}, leaving: map[string]bool{}, later: map[string][]Order{}, idle: make(chan struct{}, 1),
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
	if x.before, err = x.outBefore(ctx); err != nil {
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
		subjectBack + "*":    func(m *nats.Msg) { x.back(running, m) },
		subjectHeir + "*":    func(m *nats.Msg) { x.heir(running, m) },
	} {
		sub, err := nc.Subscribe(subject, take)
		if err != nil {
			stop()
			return nil, err
		}
		_ = sub.SetPendingLimits(-1, -1)
		x.subs = append(x.subs, sub)
	}
	x.group.Go(func() { x.greetAll(running) })
	x.group.Go(func() { x.send(running) })
	x.group.Go(func() { x.sendLater(running) })
	x.group.Go(func() { x.tell(running) })
	x.group.Go(func() { x.lookFor(running) })
	x.group.Go(func() { x.lookForVanished(running) })
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
	if x.OnDisk && len(x.nc.Servers()) >= 3 && x.nc.ConnectedClusterName() != "" {
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

// report records the reports of a message, and acknowledges it when they are recorded.
func (x *Office) report(ctx context.Context, m jetstream.Msg) {
	x.room <- struct{}{}
	x.group.Go(func() {
		defer func() { <-x.room }()
		reports, err := readReports(m.Data())
		if err != nil {
			x.Log.Error("reports cannot be read and are left out", "error", err)
			_ = m.Term()
			return
		}
		for i := range reports {
			if reports[i].Worker != "" { // it speaks for nobody else
				reports[i].Worker = strings.TrimPrefix(m.Subject(), subjectReports)
			}
		}
		if err := x.Recorder.Ended(ctx, reports...); err != nil {
			_ = m.NakWithDelay(time.Second)
			return
		}
		_ = m.Ack() // a repeat is recorded once
		x.mu.Lock()
		defer x.mu.Unlock()
		for _, r := range reports {
			x.told[r.Worker] = append(x.told[r.Worker], r.AttemptID)
			delete(x.missing, r.AttemptID)
			x.lasted(r)
			if s, mine := x.mine[r.AttemptID]; mine && s.bundle == "" && x.before[r.AttemptID] {
				// It was sent again before its worker's heir had told of it, who has no message of it to acknowledge.
				x.out = append(x.out, outgoing{order: Order{AttemptID: r.AttemptID}, cancel: true})
				nudge(x.wake)
			}
			x.done(r.AttemptID)
			delete(x.claims, r.AttemptID)
		}
		nudge(x.toldAny)
		if len(x.later) > 0 {
			nudge(x.idle)
		}
	})
}

// readReports reads the reports of a message; a worker of before sends one without a list.
func readReports(text []byte) (reports []Ended, err error) {
	if bytes.HasPrefix(text, []byte("{")) {
		reports = make([]Ended, 1)
		return reports, json.Unmarshal(text, &reports[0])
	}
	return reports, json.Unmarshal(text, &reports)
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
		s.Worker = strings.TrimPrefix(m.Subject, subjectStarted)
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
